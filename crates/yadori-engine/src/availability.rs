//! Whether the service's own database is there.

use tokio::sync::watch;
use yadori_database::{ServerError, ServerState};

/// How the private database stands; nothing is known of a given one.
#[derive(Clone, Default)]
pub struct Availability {
    server: Option<watch::Receiver<ServerState>>,
}

impl Availability {
    /// Follows the private server, if there is one.
    pub fn of(server: Option<watch::Receiver<ServerState>>) -> Self {
        Self { server }
    }

    /// The state of the private server, if there is one.
    pub fn state(&self) -> Option<ServerState> {
        self.server.as_ref().map(|state| state.borrow().clone())
    }

    /// Why the service's own database is away, if it is; with the reason why it could not be started again, if it could not.
    pub fn away(&self) -> Option<Option<ServerError>> {
        match &*self.server.as_ref()?.borrow() {
            ServerState::Running { .. } => None,
            ServerState::Restarting { failure } => Some(failure.clone()),
            ServerState::Paused | ServerState::Stopped => Some(None),
        }
    }

    /// Whether it is away on purpose, and back within seconds.
    pub fn is_paused(&self) -> bool {
        self.server.as_ref().is_some_and(|state| *state.borrow() == ServerState::Paused)
    }

    /// Waits until the service's own database, which is away, is back. Never done if it is there, or not our own.
    pub async fn is_back(&self) {
        let Some(mut state) = self.server.clone().filter(|_| self.away().is_some()) else {
            return std::future::pending().await;
        };
        if state.wait_for(|state| matches!(state, ServerState::Running { .. })).await.is_err() {
            std::future::pending::<()>().await;
        }
    }
}
