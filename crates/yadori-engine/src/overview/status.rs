//! How the service stands.

use crate::clock::{now, timestamp};
use crate::history::listing;
use crate::overview::Overview;
use std::path::PathBuf;
use yadori_api as api;
use yadori_core::Kind;
use yadori_core::amounts::DAY;
use yadori_core::capture::Refusal;
use yadori_core::retention::{self, Limits, RetentionRules, Scope};
use yadori_store::private::ServerState;

impl Overview {
    /// Everything that a person wants to know when something seems wrong. Answers even when the database
    /// does not. Whether there are pages, `console`, is known to those who serve them.
    pub async fn status(&self, console: bool) -> api::Status {
        let journal = self.capture.journal().clone();
        let (clips, last) = {
            let index = self.history.ledger.read().await;
            // After a start, the newest clip is the last copy that is known.
            let last = journal.last_copy.or_else(|| index.at(1));
            (index.len() as u64, last.map(|id| (id, index.position(id))))
        };
        let away = self.server.away();
        let bytes = if away.is_none() { self.history.store.bytes_on_disk().await.ok() } else { None };
        let last_copy = match last.filter(|_| bytes.is_some()) {
            Some((id, position)) => self
                .history
                .store
                .clip(id)
                .await
                .ok()
                .flatten()
                .filter(|record| record.is_live())
                .map(|record| self.history.listed(&record, position)),
            None => None,
        };
        let server = self.server.state();
        let (pid, restarts) = match &server {
            Some(ServerState::Running { pid, restarts, .. }) => (Some(*pid), *restarts),
            _ => (None, 0),
        };
        let contested = journal.contested.as_ref().map(|name| {
            format!("another program ({name}) takes the clipboard each time something is put on it, and is let have it")
        });
        let history = self.history.checked_rules().rules().history;
        let off = journal.off.clone().or_else(|| (!history).then(|| Refusal::Off.to_string()));
        let state = match (&off, &journal.pause) {
            (Some(_), _) => api::CaptureState::Off,
            (None, Some(_)) => api::CaptureState::Paused,
            (None, None) => api::CaptureState::On,
        };
        let room = self.room().await;
        let (linked, connected) = self.links.numbers();
        let devices = api::LinkedDevices { linked, connected, paused: !self.sync.shares() };
        api::Status {
            version: env!("CARGO_PKG_VERSION").into(),
            device: self.history.device.clone(),
            started_at: timestamp(self.started),
            pid: std::process::id(),
            home: self.home.clone(),
            capture: api::Capture {
                state,
                since: timestamp(journal.since),
                until: journal.pause.and_then(|pause| pause.until).map(timestamp),
                clipboard: journal.clipboard.into(),
                reason: off,
                notes: journal.notes.into_iter().chain(contested).collect(),
                waiting: journal.waiting as u64,
            },
            clips,
            last_copy,
            refused: journal
                .refused
                .into_iter()
                .map(|(reason, refused)| api::Refused {
                    reason: reason.into(),
                    message: refused.last.to_string(),
                    count: refused.count,
                    last_at: timestamp(refused.last_at),
                    last_application: refused.last_application,
                })
                .collect(),
            due: self.due(bytes.is_some()).await,
            room,
            devices,
            tray: {
                let tray = self.history.tray.lock().await;
                api::TrayState {
                    open: tray.open,
                    clips: tray.items().len() as u32,
                    waiting: tray.waiting().len() as u32,
                }
            },
            starts_at_log_in: starts_at_log_in(),
            database: api::Database {
                private: server.is_some(),
                answers: bytes.is_some(),
                restarts,
                pid,
                bytes,
                failure: away.flatten().map(|failure| failure.to_string()),
            },
            console,
            size_limit: self.reading.size_limit(),
        }
    }

    /// What is due to go.
    async fn due(&self, database_answers: bool) -> api::Due {
        let rules = self.history.checked_rules();
        let soon = now().plus(DAY);
        let within_a_day = {
            let index = self.history.ledger.read().await;
            let clips: Vec<_> = index.candidates().into_iter().map(|(_, clip)| clip).collect();
            let ages =
                RetentionRules { all: without_room(&rules.rules().retention.all), ..rules.rules().retention.clone() };
            let scopes = ages.scopes.iter().map(|(scope, limits)| (scope.clone(), without_room(limits))).collect();
            retention::plan(&clips, &RetentionRules { scopes, ..ages }, soon).going.len() as u64
        };
        let in_bin = match database_answers {
            true => self.history.store.bin_size().await.map_or(0, |(clips, _)| clips),
            false => 0,
        };
        let held = self.retention.sweeps().held.clone();
        let (held, held_because) = held.map_or((0, None), |held| (held.clips as u64, Some(held.because)));
        api::Due { within_a_day, in_bin, held, held_because }
    }

    /// How much of what the rules allow is taken.
    async fn room(&self) -> Vec<api::Room> {
        let rules = self.history.checked_rules();
        let retention = &rules.rules().retention;
        let mut room = vec![(None, retention.all)];
        for (scope, limits) in &retention.scopes {
            if let Scope::Kind(kind) = scope {
                room.push((Some(*kind), *limits));
            }
        }
        let index = self.history.ledger.read().await;
        let unkept: Vec<_> = index.candidates().into_iter().map(|(_, clip)| clip).filter(|clip| !clip.kept).collect();
        let taken = |(kind, limits): (Option<Kind>, Limits)| {
            let of_kind = || unkept.iter().filter(|clip| kind.is_none_or(|kind| clip.kind == kind));
            api::Room {
                kind: kind.map(listing::kind),
                bytes: of_kind().map(|clip| clip.size).sum(),
                limit: limits.bytes.unwrap_or(0),
                clips: of_kind().count() as u64,
                clip_limit: limits.count.unwrap_or(0),
            }
        };
        room.into_iter().map(taken).collect()
    }
}

fn without_room(limits: &Limits) -> Limits {
    Limits { age_millis: limits.age_millis, ..Limits::default() }
}

/// Whether the service is started when the person logs in: by the system's manager of services, or by the desktop.
fn starts_at_log_in() -> Option<bool> {
    let config = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    let config = config.or_else(|| Some(PathBuf::from(std::env::var_os("HOME")?).join(".config")))?;
    let wanted = [
        "systemd/user/graphical-session.target.wants/yadori.service",
        "systemd/user/default.target.wants/yadori.service",
        "autostart/yadori.desktop",
    ];
    let global =
        ["/etc/systemd/user/graphical-session.target.wants/yadori.service", "/etc/xdg/autostart/yadori.desktop"];
    let mine = wanted.iter().map(|path| config.join(path));
    Some(mine.chain(global.iter().map(PathBuf::from)).any(|path| path.symlink_metadata().is_ok()))
}
