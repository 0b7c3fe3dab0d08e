//! The screen is locked, or the computer goes to sleep: told by the system's log-in manager (logind, over D-Bus).

use crate::vault::Vault;
use futures_util::StreamExt;
use zbus::zvariant::{OwnedFd, OwnedObjectPath};

#[zbus::proxy(
    interface = "org.freedesktop.login1.Manager",
    default_service = "org.freedesktop.login1",
    default_path = "/org/freedesktop/login1"
)]
trait Manager {
    /// Something is to happen; with `delay` it waits, for some seconds, until the descriptor is closed.
    fn inhibit(&self, what: &str, who: &str, why: &str, mode: &str) -> zbus::Result<OwnedFd>;

    /// The path of a session.
    fn get_session(&self, id: &str) -> zbus::Result<OwnedObjectPath>;

    /// The path of the session of a process.
    #[zbus(name = "GetSessionByPID")]
    fn get_session_by_pid(&self, pid: u32) -> zbus::Result<OwnedObjectPath>;

    /// The computer goes to sleep, or is awake again.
    #[zbus(signal)]
    fn prepare_for_sleep(&self, start: bool) -> zbus::Result<()>;
}

#[zbus::proxy(interface = "org.freedesktop.login1.Session", default_service = "org.freedesktop.login1")]
trait Session {
    /// The screen is to be locked.
    #[zbus(signal)]
    fn lock(&self) -> zbus::Result<()>;
}

/// Done when the screen is locked or the computer goes to sleep, and the rules want the history locked then. Sleep waits for as
/// long as what is given back is held.
pub(crate) async fn screen_or_sleep(vault: &Vault) -> Option<OwnedFd> {
    match watch(vault).await {
        Ok(held) => held,
        Err(error) => {
            tracing::debug!(%error, "nobody tells of screen and sleep");
            std::future::pending().await
        }
    }
}

async fn watch(vault: &Vault) -> zbus::Result<Option<OwnedFd>> {
    let system = zbus::Connection::system().await?;
    let manager = ManagerProxy::new(&system).await?;
    let mut sleeps = manager.receive_prepare_for_sleep().await?;
    let session = match std::env::var("XDG_SESSION_ID") {
        Ok(id) => manager.get_session(&id).await,
        Err(_) => manager.get_session_by_pid(std::process::id()).await,
    };
    let session = match session {
        Ok(path) => Some(SessionProxy::builder(&system).path(path)?.build().await?),
        Err(_) => None,
    };
    let mut locks = match &session {
        Some(session) => Some(session.receive_lock().await?),
        None => None,
    };
    // Sleep waits for us; without that we would be told too late.
    let delay = manager.inhibit("sleep", "Yadori", "The clipboard history is locked", "delay").await.ok();
    loop {
        tokio::select! {
            Some(sleep) = sleeps.next() => {
                if vault.rules().with_sleep && sleep.args()?.start {
                    return Ok(delay);
                }
            }
            Some(_) = async {
                match &mut locks {
                    Some(locks) => locks.next().await,
                    None => std::future::pending().await,
                }
            } => {
                if vault.rules().with_screen {
                    return Ok(delay);
                }
            }
            else => return std::future::pending().await,
        }
    }
}
