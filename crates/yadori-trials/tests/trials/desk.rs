//! A desktop with the service on it, and what is asked of it on any desktop.

use yadori_trials::home::Home;
use yadori_trials::service::{Events, Service};

/// A desktop (an X server, or a compositor), the service on it, and what the service tells.
pub struct Desk<D> {
    pub service: Service,
    pub events: Events,
    pub desktop: D,
    _home: Home,
}

impl<D> Desk<D> {
    /// Starts the service on a desktop.
    pub fn of(desktop: D, start: impl FnOnce(&Home, &D) -> Service) -> Self {
        let home = Home::new();
        let service = start(&home, &desktop);
        let events = service.events(None);
        Self { service, events, desktop, _home: home }
    }

    /// Waits until a copy was refused for this reason.
    pub fn refused(&mut self, reason: &str) {
        while !self.service.status().refused.iter().any(|refused| refused.reason == reason) {
            self.events.wait("status", |_| true);
        }
    }

    /// The bytes of one format of a clip.
    pub fn raw(&self, id: &str, format: &str) -> Vec<u8> {
        self.service.get(&format!("/clips/{id}/content?format={format}")).body
    }
}
