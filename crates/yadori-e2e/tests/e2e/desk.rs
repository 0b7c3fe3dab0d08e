//! A desktop with the service on it, and what is asked of it on any desktop.

use yadori_e2e::home::Home;
use yadori_e2e::service::{Events, Service};

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
        while !self.service.status().refused.iter().any(|refused| refused.reason.word() == reason) {
            self.events.wait("status", |_| true);
        }
    }

    /// Ends it, after a copy that was refused and one that was kept.
    pub fn has_kept_one_of_two(self, of: &str) {
        assert_eq!(self.service.clips(&["list"]).len(), 1, "{of}");
        let (well, log) = self.service.end();
        assert!(well && log.contains("a copy made no clip"), "{of}: {log}");
    }

    /// The bytes of one format of a clip.
    pub fn raw(&self, id: &str, format: &str) -> Vec<u8> {
        self.service.get(&format!("/clips/{id}/content?format={format}")).body
    }
}

/// Does something for each case, all at the same time: most of it is waiting.
pub fn side_by_side<C: Copy + Send + Sync>(cases: &[C], run: impl Fn(C) + Copy + Send) {
    std::thread::scope(|scope| {
        for case in cases {
            scope.spawn(move || run(*case));
        }
    });
}

/// Waits until each of so many copies is in the history or was refused; gives how many were. A program that is
/// replaced while it answers may not be heard, or not in time, and looks then as if it had nothing to give.
pub fn accounted_for(service: &Service, events: &mut Events, copies: u64) -> u64 {
    loop {
        let refused = service.status().refused;
        let of_replaced = refused.iter().filter(|one| ["undelivered", "no-useful-format"].contains(&one.reason.word()));
        let of_replaced: u64 = of_replaced.map(|one| one.count).sum();
        let kept = service.clips(&["list", "-n", "1000"]).len() as u64;
        assert!(kept + of_replaced <= copies, "{kept} are there, {refused:?}");
        if kept + of_replaced == copies {
            return of_replaced;
        }
        events.any();
    }
}
