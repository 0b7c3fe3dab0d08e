//! How the service stands.

use crate::capture::journal::Journal;
use crate::clock::now;
use crate::history::listing::Listed;
use crate::overview::Overview;
use crate::retention::Held;
use std::path::PathBuf;
use yadori_core::amounts::DAY;
use yadori_core::retention::{self, Limits, RetentionRules, Scope};
use yadori_core::tray::Tray;
use yadori_core::{Kind, MillisSinceEpoch};
use yadori_database::{ServerError, ServerState};
use yadori_desktop::Shortcoming;

/// Why copies are not captured.
#[derive(Clone, Debug)]
pub enum Off {
    /// There is no clipboard, for this reason.
    NoClipboard(Shortcoming),
    /// The rules say so.
    ByRule,
}

/// How the service stands.
#[derive(Clone, Debug)]
pub struct Status {
    /// The name of this device.
    pub device: String,
    /// When the service was started.
    pub started: MillisSinceEpoch,
    /// The folder that everything is kept in.
    pub home: String,
    /// How capture stands.
    pub journal: Journal,
    /// Why nothing is captured, if that is so.
    pub off: Option<Off>,
    /// How many clips the history has.
    pub clips: u64,
    /// The latest copy.
    pub last_copy: Option<Listed>,
    /// What is due to go.
    pub due: Due,
    /// How much of what the rules allow is taken.
    pub room: Vec<Room>,
    /// The tray.
    pub tray: Tray,
    /// How many devices are linked.
    pub linked: u32,
    /// How many of them are connected.
    pub connected: u32,
    /// Whether sharing goes on.
    pub shares: bool,
    /// Whether the service is started when the person logs in, if that can be found out.
    pub starts_at_log_in: Option<bool>,
    /// How the database stands.
    pub database: Database,
    /// The size of the largest copy that is captured, in bytes.
    pub size_limit: u64,
}

/// What is due to go.
#[derive(Clone, Debug)]
pub struct Due {
    /// Clips that are too old within a day.
    pub within_a_day: u64,
    /// Clips in the bin.
    pub in_bin: u64,
    /// A sweep that waits for a person's word.
    pub held: Option<Held>,
}

/// How much of what the rules allow is taken.
#[derive(Clone, Debug)]
pub struct Room {
    /// By which kind; by all if none.
    pub kind: Option<Kind>,
    /// Bytes taken.
    pub bytes: u64,
    /// Bytes allowed.
    pub limit: Option<u64>,
    /// Clips there are.
    pub clips: u64,
    /// Clips allowed.
    pub clip_limit: Option<u64>,
}

/// How the database stands.
#[derive(Clone, Debug)]
pub struct Database {
    /// Whether it is the service's own.
    pub private: bool,
    /// Whether it answers.
    pub answers: bool,
    /// How often it was started again.
    pub restarts: u32,
    /// Its process.
    pub pid: Option<u32>,
    /// Bytes it takes on the disk, if it says.
    pub bytes: Option<u64>,
    /// Why it could not be started again.
    pub failure: Option<ServerError>,
}

impl Overview {
    /// Everything that a person wants to know when something seems wrong. Answers even when the database
    /// does not.
    pub async fn status(&self) -> Status {
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
                .filter(yadori_store::ClipRecord::is_live)
                .map(|record| self.history.listed(&record, position)),
            None => None,
        };
        let server = self.server.state();
        let (pid, restarts) = match &server {
            Some(ServerState::Running { pid, restarts, .. }) => (Some(*pid), *restarts),
            _ => (None, 0),
        };
        let history = self.history.checked_rules().rules().history;
        let off = journal.off.clone().map(Off::NoClipboard).or_else(|| (!history).then_some(Off::ByRule));
        let room = self.room().await;
        let (linked, connected) = self.links.numbers();
        let tray = self.history.tray.lock().await.clone();
        Status {
            device: self.history.device.clone(),
            started: self.started,
            home: self.home.clone(),
            journal,
            off,
            clips,
            last_copy,
            due: self.due(bytes.is_some()).await,
            room,
            tray,
            linked,
            connected,
            shares: self.sync.shares(),
            starts_at_log_in: starts_at_log_in(),
            database: Database {
                private: server.is_some(),
                answers: bytes.is_some(),
                restarts,
                pid,
                bytes,
                failure: away.flatten(),
            },
            size_limit: self.reading.size_limit(),
        }
    }

    /// What is due to go.
    async fn due(&self, database_answers: bool) -> Due {
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
        Due { within_a_day, in_bin, held }
    }

    /// How much of what the rules allow is taken.
    async fn room(&self) -> Vec<Room> {
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
            Room {
                kind,
                bytes: of_kind().map(|clip| clip.size).sum(),
                limit: limits.bytes,
                clips: of_kind().count() as u64,
                clip_limit: limits.count,
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
