//! How capture stands: paused or not, what came last, what was refused.

use crate::clock::now;
use std::collections::BTreeMap;
use yadori_core::capture::{Refusal, RefusalKind};
use yadori_core::{ClipId, MillisSinceEpoch};
use yadori_desktop::{ClipboardKind, Shortcoming};

/// What is known of capture since the service started.
#[derive(Clone, Debug)]
pub struct Journal {
    /// The clipboard.
    pub clipboard: ClipboardKind,
    /// What a person should know of it.
    pub notes: Vec<Shortcoming>,
    /// The program that takes the clipboard each time something is put on it.
    pub contested: Option<String>,
    /// Why there is none.
    pub off: Option<Shortcoming>,
    /// Since when capture is as it is.
    pub since: MillisSinceEpoch,
    /// The pause under way.
    pub pause: Option<PauseState>,
    /// The latest copy.
    pub last_copy: Option<ClipId>,
    /// Copies that made no clip, by reason.
    pub refused: BTreeMap<RefusalKind, RefusedCount>,
    /// Copies that wait to be filed.
    pub waiting: usize,
}

/// A pause.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct PauseState {
    /// Since when, in milliseconds.
    pub since: MillisSinceEpoch,
    /// Until when; until resumed if not given.
    pub until: Option<MillisSinceEpoch>,
}

/// How often copies were refused for one reason.
#[derive(Clone, Debug)]
pub struct RefusedCount {
    /// How often.
    pub count: u64,
    /// The latest.
    pub last: Refusal,
    /// When the latest was made.
    pub last_at: MillisSinceEpoch,
    /// The application of the latest.
    pub last_application: Option<String>,
}

impl Journal {
    /// The journal of a service that has no clipboard, for this reason.
    pub fn new(off: Shortcoming) -> Self {
        Self {
            clipboard: ClipboardKind::None,
            notes: Vec::new(),
            contested: None,
            off: Some(off),
            since: now(),
            pause: None,
            last_copy: None,
            refused: BTreeMap::new(),
            waiting: 0,
        }
    }

    /// There is a clipboard.
    pub fn connected(&mut self, clipboard: ClipboardKind, notes: Vec<Shortcoming>) {
        self.clipboard = clipboard;
        self.notes = notes;
        if self.off.take().is_some() {
            self.contested = None;
            self.since = now();
        }
    }

    /// There is none any more, for this reason.
    pub fn disconnected(&mut self, reason: Shortcoming) {
        if self.off.replace(reason).is_none() {
            self.since = now();
        }
        self.notes.clear();
        self.contested = None;
    }

    /// Notes a copy that made no clip.
    pub fn refuse(&mut self, refusal: Refusal, application: Option<String>) {
        let entry = self.refused.entry(refusal.kind()).or_insert_with(|| RefusedCount {
            count: 0,
            last: refusal.clone(),
            last_at: now(),
            last_application: None,
        });
        *entry = RefusedCount { count: entry.count + 1, last: refusal, last_at: now(), last_application: application };
    }
}
