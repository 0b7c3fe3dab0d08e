//! How the service stands, and the figures.

use super::{Contract, kind, notices};
use crate::http::console;
use yadori_api as api;
use yadori_core::capture::{Refusal, RefusalKind};
use yadori_core::rules::Checked;
use yadori_desktop::{ClipboardKind, Shortcoming};
use yadori_engine::clock::timestamp;
use yadori_engine::overview::stats::{DayFigures, RECALL_SECONDS, Share, Stats, WALK_SECONDS};
use yadori_engine::overview::status::{Due, Off, Room, Status};

fn clipboard_kind(kind: ClipboardKind) -> api::ClipboardKind {
    match kind {
        ClipboardKind::X11 => api::ClipboardKind::X11,
        ClipboardKind::Wayland => api::ClipboardKind::Wayland,
        ClipboardKind::Simulated => api::ClipboardKind::Simulated,
        ClipboardKind::None => api::ClipboardKind::None,
    }
}

pub(super) fn refusal_reason(kind: RefusalKind) -> api::RefusalReason {
    match kind {
        RefusalKind::Paused => api::RefusalReason::Paused,
        RefusalKind::Secret => api::RefusalReason::Secret,
        RefusalKind::Echo => api::RefusalReason::Echo,
        RefusalKind::Off => api::RefusalReason::Off,
        RefusalKind::Kind => api::RefusalReason::Kind,
        RefusalKind::Application => api::RefusalReason::Application,
        RefusalKind::Pattern => api::RefusalReason::Pattern,
        RefusalKind::Repeat => api::RefusalReason::Repeat,
        RefusalKind::AnotherId => api::RefusalReason::AnotherId,
        RefusalKind::Blank => api::RefusalReason::Blank,
        RefusalKind::NoUsefulFormat => api::RefusalReason::NoUsefulFormat,
        RefusalKind::TooLarge => api::RefusalReason::TooLarge,
        RefusalKind::InvalidText => api::RefusalReason::InvalidText,
        RefusalKind::BrokenImage => api::RefusalReason::BrokenImage,
        RefusalKind::Undelivered => api::RefusalReason::Undelivered,
    }
}

impl Contract for Status {
    type As = api::Status;

    fn contract(self, rules: &Checked) -> api::Status {
        let journal = self.journal;
        let reason = self.off.map(|off| match off {
            Off::NoClipboard(why) => notices::of_clipboard(&why),
            Off::ByRule => api::Notice::new(api::NoticeKind::ByRule, Refusal::Off),
        });
        let contested = journal.contested.map(Shortcoming::Contested);
        let refused = journal.refused.into_iter().map(|(reason, refused)| api::Refused {
            reason: refusal_reason(reason),
            message: refused.last.to_string(),
            count: refused.count,
            last_at: timestamp(refused.last_at),
            last_application: refused.last_application,
        });
        api::Status {
            version: env!("CARGO_PKG_VERSION").into(),
            device: self.device,
            started_at: timestamp(self.started),
            pid: std::process::id(),
            home: self.home,
            capture: api::Capture {
                state: match (&reason, &journal.pause) {
                    (Some(_), _) => api::CaptureState::Off,
                    (None, Some(_)) => api::CaptureState::Paused,
                    (None, None) => api::CaptureState::On,
                },
                since: timestamp(journal.since),
                until: journal.pause.and_then(|pause| pause.until).map(timestamp),
                clipboard: clipboard_kind(journal.clipboard),
                reason,
                notes: journal.notes.iter().chain(&contested).map(notices::of_clipboard).collect(),
                waiting: journal.waiting as u64,
            },
            count: self.clips,
            last_copy: self.last_copy.contract(rules),
            refused: refused.collect(),
            due: self.due.contract(rules),
            room: self.room.contract(rules),
            tray: api::TrayState {
                open: self.tray.open,
                count: self.tray.items().len() as u32,
                waiting: self.tray.waiting().len() as u32,
            },
            devices: api::LinkedDevices { linked: self.linked, connected: self.connected, paused: !self.shares },
            starts_at_log_in: self.starts_at_log_in,
            database: api::Database {
                private: self.database.private,
                answers: self.database.answers,
                restarts: self.database.restarts,
                pid: self.database.pid,
                bytes: self.database.bytes,
                failure: self.database.failure.map(|failure| failure.to_string()),
            },
            // Completed by who knows the vault.
            encrypted: false,
            protectors: Vec::new(),
            older_keys: false,
            console: console::is_built_in(),
            size_limit: self.size_limit,
        }
    }
}

impl Contract for Due {
    type As = api::Due;

    fn contract(self, _: &Checked) -> api::Due {
        let (held, held_because) = self.held.map_or((0, None), |held| (held.clips as u64, Some(held.because)));
        api::Due { within_a_day: self.within_a_day, in_bin: self.in_bin, held, held_because }
    }
}

impl Contract for Room {
    type As = api::Room;

    fn contract(self, _: &Checked) -> api::Room {
        api::Room {
            kind: self.kind.map(kind),
            bytes: self.bytes,
            limit: self.limit.unwrap_or(0),
            count: self.clips,
            clip_limit: self.clip_limit.unwrap_or(0),
        }
    }
}

impl Contract for DayFigures {
    type As = api::DayFigures;

    fn contract(self, _: &Checked) -> api::DayFigures {
        let Self { day, captured, recalled, swept, cleared, bytes } = self;
        api::DayFigures { day, captured, recalled, swept, cleared, bytes }
    }
}

impl Contract for Share {
    type As = api::Share;

    fn contract(self, _: &Checked) -> api::Share {
        api::Share { name: self.name, count: self.clips, bytes: self.bytes }
    }
}

impl Contract for Stats {
    type As = api::Stats;

    fn contract(self, rules: &Checked) -> api::Stats {
        api::Stats {
            count: self.clips,
            kept: self.kept,
            bytes: self.bytes,
            bytes_on_disk: self.bytes_on_disk,
            in_bin: self.in_bin,
            days: self.days.contract(rules),
            kinds: self.kinds.contract(rules),
            applications: self.applications.contract(rules),
            most_used: self.most_used.contract(rules),
            saved: api::Saved {
                recalls: self.recalls,
                switches: self.recalls * 2,
                seconds: self.recalls * (WALK_SECONDS - RECALL_SECONDS),
                formula: format!(
                    "each recall spares two switches of windows; walking to the source and back is taken to last {WALK_SECONDS} seconds, a recall {RECALL_SECONDS}"
                ),
            },
        }
    }
}
