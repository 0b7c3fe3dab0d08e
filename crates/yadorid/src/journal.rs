//! How capture stands: paused or not, what came last, what was refused.

use crate::moment::now;
use std::collections::BTreeMap;
use yadori_core::capture::Refusal;
use yadori_core::{ClipId, MillisSinceEpoch};

/// What is known of capture since the service started.
#[derive(Clone, Debug)]
pub struct Journal {
    /// The clipboard's name.
    pub clipboard: &'static str,
    /// Why there is none.
    pub off: Option<String>,
    /// Since when capture is as it is.
    pub since: MillisSinceEpoch,
    /// The pause under way.
    pub pause: Option<PauseState>,
    /// The latest copy.
    pub last_copy: Option<ClipId>,
    /// Copies that made no clip, by the reason's code.
    pub refused: BTreeMap<&'static str, RefusedCount>,
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
    /// The journal of a clipboard that was just connected.
    pub fn new(clipboard: &'static str, off: Option<String>) -> Self {
        Self { clipboard, off, since: now(), pause: None, last_copy: None, refused: BTreeMap::new(), waiting: 0 }
    }

    /// Notes a copy that made no clip.
    pub fn refuse(&mut self, refusal: Refusal, application: Option<String>) {
        let entry = self.refused.entry(refusal.code()).or_insert_with(|| RefusedCount {
            count: 0,
            last: refusal.clone(),
            last_at: now(),
            last_application: None,
        });
        *entry = RefusedCount { count: entry.count + 1, last: refusal, last_at: now(), last_application: application };
    }
}
