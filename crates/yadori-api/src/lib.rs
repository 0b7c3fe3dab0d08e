//! Yadori's HTTP contract as Rust types, shared by the service and the client.
//!
//! The OpenAPI document that the service gives at `/api/v1/openapi.json` is made from these types, so
//! their comments are its descriptions. Times are RFC 3339 in UTC.

mod changing;
mod devices;
mod figures;
mod forgetting;
mod kept;
mod keys;
mod lock;
mod moving;
mod notices;
mod problem;
mod rules;
mod tray;
mod words;

pub use changing::*;
pub use devices::*;
pub use figures::*;
pub use forgetting::*;
pub use kept::*;
pub use keys::*;
pub use lock::*;
pub use moving::*;
pub use notices::*;
pub use problem::*;
pub use rules::*;
pub use tray::*;
pub use words::*;

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// Under this path lies the whole interface.
pub const BASE: &str = "/api/v1";

/// Most clips on one page.
pub const MOST_ON_A_PAGE: u32 = 200;

/// What a client of this machine reads to reach the service: `run/api.json`.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Reach {
    /// Where it listens.
    pub address: std::net::SocketAddr,
    /// The bearer token.
    pub token: String,
}

/// What a clip is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Words, plain or with formatting.
    Text,
    /// One URL and nothing else.
    Link,
    /// A picture.
    Image,
    /// A list of files.
    Files,
}

impl Kind {
    /// The word for it.
    pub fn word(self) -> &'static str {
        match self {
            Self::Text => "text",
            Self::Link => "link",
            Self::Image => "image",
            Self::Files => "files",
        }
    }
}

/// Where a copy was made, as far as the desktop told.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Source {
    /// The application.
    pub application: Option<String>,
    /// The title of its window.
    pub window: Option<String>,
    /// The page that a browser copied from.
    pub page: Option<String>,
    /// Whether the text was merely selected (the primary selection), and never copied.
    #[serde(default)]
    pub selected: bool,
}

/// A part of a text that meets the query, in characters (Unicode scalar values).
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Mark {
    /// Its first character.
    pub start: u32,
    /// The character after its last.
    pub end: u32,
}

/// A clip as lists show it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Clip {
    /// Its id: 26 characters of lower-case base32.
    #[schema(pattern = "^[a-z2-7]{26}$")]
    pub id: String,
    /// Its place in the history, 1 = newest; none when it is not in the history.
    #[schema(minimum = 1)]
    pub position: Option<u32>,
    /// What it is.
    pub kind: Kind,
    /// One line that stands for it: the beginning of a text, or the part that meets the query; a link
    /// with its host first; the names of files. Never what is sensitive.
    pub preview: String,
    /// The first three lines of a text that has several, with their breaks; none where a query is met.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub excerpt: Option<String>,
    /// The title that the person gave it.
    pub title: Option<String>,
    /// What its source calls it: the title of a linked page.
    pub caption: Option<String>,
    /// Whether it is pinned.
    pub pinned: bool,
    /// Its colour mark.
    pub mark: Option<Colour>,
    /// Whether its placeholders are filled in when it is recalled.
    pub fills: bool,
    /// The drawer that it lies in.
    pub drawer: Option<String>,
    /// Its alias.
    pub alias: Option<String>,
    /// Where the preview meets the query.
    pub marks: Vec<Mark>,
    /// The secret that it looks like, if it does.
    pub sensitive: Option<Secret>,
    /// When it was last copied.
    #[schema(value_type = String, format = DateTime)]
    pub copied_at: Timestamp,
    /// When it was last recalled.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub recalled_at: Option<Timestamp>,
    /// When it goes by itself.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub expires_at: Option<Timestamp>,
    /// How often it was copied.
    pub copies: u32,
    /// How often it was recalled.
    pub recalls: u32,
    /// Bytes of all its formats together.
    pub size: u64,
    /// Width of a picture in pixels.
    pub width: Option<u32>,
    /// Height of a picture in pixels.
    pub height: Option<u32>,
    /// Lines of a text.
    pub lines: Option<u64>,
    /// Characters of a text.
    pub characters: Option<u64>,
    /// Where it was last copied.
    pub source: Source,
    /// The device on which it was last copied.
    pub device: String,
    /// Whether other devices know it.
    pub shared: bool,
    /// Whether some of its content is on another device only; it is fetched when it is wanted.
    pub elsewhere: bool,
}

/// One format of a clip.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FormatInfo {
    /// Its MIME type.
    pub mime: String,
    /// Its size in bytes.
    pub size: u64,
}

/// A clip with all there is to know of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClipDetail {
    /// What lists show.
    #[serde(flatten)]
    pub clip: Clip,
    /// Its formats, in the order in which they were offered.
    pub formats: Vec<FormatInfo>,
    /// Its words: at most the first 64 KiB; none of an image, nor of a sensitive clip.
    pub text: Option<String>,
    /// Whether `text` is all of it.
    pub text_is_whole: bool,
    /// The files of a list of files, at most the first 1,000.
    pub files: Vec<FileInfo>,
}

/// One file of a list of files.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct FileInfo {
    /// Its URI.
    pub uri: String,
    /// Its path, for reading: what is not UTF-8 is `�`, a line end `↵`.
    pub path: String,
    /// Whether it is not there any more; none when that cannot be told: it is on another machine, or its
    /// disk does not answer.
    pub missing: Option<bool>,
}

/// A page of clips.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClipPage {
    /// The clips, in the order of the list.
    pub clips: Vec<Clip>,
    /// What to send as `cursor` for the next page; none at the end.
    pub next: Option<String>,
    /// Clips in the whole history.
    pub total: u64,
}

/// Which clips to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ListQuery {
    /// What to search for; without it, the history, newest first.
    #[param(max_length = 1_000)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub q: Option<String>,
    /// Where the page before ended: its `next`. It goes on with the same query only. While clips come and go, none is shown twice
    /// and none is left out, but for clips that are themselves copied, recalled or brought back meanwhile.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// Clips on a page, 1 to 200; 50 if not given.
    #[param(minimum = 1, maximum = 200)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
    /// The time zone in which `before:` and `after:` are meant, by its IANA name; the service's own if
    /// not given.
    #[param(max_length = 100)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub zone: Option<String>,
}

/// Attributes of a clip that is added by hand.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct AddQuery {
    /// Its title, at most 1,000 characters.
    #[param(max_length = 1_000)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// When it was copied (RFC 3339), if not now.
    #[serde(skip_serializing_if = "Option::is_none")]
    #[param(value_type = Option<String>, format = DateTime)]
    pub copied_at: Option<Timestamp>,
    /// The application that it is from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub application: Option<String>,
    /// The title of the window that it is from.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub window: Option<String>,
    /// Pin it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub pin: bool,
    /// Put it into this drawer.
    #[param(min_length = 1, max_length = 100)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drawer: Option<String>,
    /// Mark it with this colour.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub mark: Option<Colour>,
    /// Give it this alias; it is pinned then, unless it comes into a drawer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub alias: Option<String>,
    /// Fill in its placeholders when it is recalled.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub fill: bool,
}

/// What adding did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Added {
    /// The clip.
    pub clip: Clip,
    /// Whether it was not there before.
    pub new: bool,
}

/// Which format's bytes to give.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ContentQuery {
    /// The MIME type; without it, the clip's first format.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub format: Option<String>,
    /// Say at once that content is on another device, instead of waiting until it is fetched.
    #[serde(default)]
    pub at_once: bool,
}

/// Clips to put back on the clipboard.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Recall {
    /// Positions, ids or beginnings of ids.
    #[schema(min_items = 1, max_items = 1_000)]
    pub clips: Vec<String>,
    /// Offer plain text only.
    #[serde(default)]
    pub plain: bool,
    /// What to put between several clips; a line end if not given.
    #[serde(default)]
    pub join: Option<String>,
    /// Reshape the text on the way out, one way after the other; the clips stay as they are.
    #[serde(default)]
    pub reshape: Vec<String>,
    /// Whether to fill in placeholders; if not given, as each clip says.
    #[serde(default)]
    pub fill: Option<bool>,
    /// Answers to what placeholders ask for, by name.
    #[serde(default)]
    pub answers: BTreeMap<String, String>,
    /// Whether what has a usual answer must be answered too.
    #[serde(default)]
    pub ask_usual: bool,
    /// Paste it into the window that has the keyboard.
    #[serde(default)]
    pub paste: bool,
    /// Give the keyboard to this window first, if it is to be pasted: as `GET /keyboard` named it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub into: Option<String>,
    /// Put back what was on the clipboard once it was pasted.
    #[serde(default)]
    pub restore: bool,
    /// Leave out the clips that cannot be joined with the others.
    #[serde(default)]
    pub skip_others: bool,
    /// Say at once that content is on another device, instead of waiting until it is fetched.
    #[serde(default)]
    pub at_once: bool,
}

/// What a recall did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Recalled {
    /// The clips that are on the clipboard now.
    pub clips: Vec<Clip>,
    /// The formats that are offered.
    pub formats: Vec<String>,
    /// How many of the files that are offered are not there any more.
    pub missing: u32,
    /// Clips that were left out, since they cannot be joined with the others.
    pub left_out: Vec<Clip>,
    /// Whether it was pasted.
    pub pasted: bool,
}

/// How long to pause.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pause {
    /// For so many seconds; until resumed if not given.
    #[schema(minimum = 1)]
    #[serde(default)]
    pub seconds: Option<u64>,
}

/// Whether the service is started at log-in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct LogIn {
    /// Whether it is to be.
    pub starts: bool,
}

/// Whether copies are captured.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum CaptureState {
    /// They are.
    On,
    /// Not for now, at the person's word.
    Paused,
    /// There is no clipboard to capture from.
    Off,
}

/// How capture stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Capture {
    /// Whether copies are captured.
    pub state: CaptureState,
    /// Since when.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// Until when it is paused, if that is known.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub until: Option<Timestamp>,
    /// The clipboard.
    pub clipboard: ClipboardKind,
    /// Why it is off.
    pub reason: Option<Notice>,
    /// What a person should know of it: what cannot be captured, and who else wants the clipboard.
    pub notes: Vec<Notice>,
    /// Copies that wait to be filed, since the database does not take them at the moment.
    pub waiting: u64,
}

/// Copies that made no clip, for one reason.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Refused {
    /// The reason.
    pub reason: RefusalReason,
    /// The reason of the latest, as a sentence.
    pub message: String,
    /// How many, since the service started.
    pub count: u64,
    /// When the latest was made.
    #[schema(value_type = String, format = DateTime)]
    pub last_at: Timestamp,
    /// The application of the latest.
    pub last_application: Option<String>,
}

/// How the database stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Database {
    /// Whether it is the service's own server.
    pub private: bool,
    /// Whether it answers.
    pub answers: bool,
    /// How often it had to be started again.
    pub restarts: u32,
    /// The process id of the service's own server.
    pub pid: Option<u32>,
    /// Bytes that the history takes in it.
    pub bytes: Option<u64>,
    /// Why it is away, if it is the service's own and cannot be started again.
    pub failure: Option<String>,
}

/// How the service stands.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Status {
    /// The service's version.
    pub version: String,
    /// The device's name.
    pub device: String,
    /// When the service started.
    #[schema(value_type = String, format = DateTime)]
    pub started_at: Timestamp,
    /// Its process id.
    pub pid: u32,
    /// The folder that holds everything.
    pub home: String,
    /// How capture stands.
    pub capture: Capture,
    /// Clips in the history.
    pub count: u64,
    /// The latest copy.
    pub last_copy: Option<Clip>,
    /// Copies that made no clip, since the service started.
    pub refused: Vec<Refused>,
    /// What is due to go.
    pub due: Due,
    /// How much of what the rules allow is taken.
    pub room: Vec<Room>,
    /// The tray.
    pub tray: TrayState,
    /// How many of the person's other devices are there.
    pub devices: LinkedDevices,
    /// Whether the service is started at log-in; none if that cannot be told.
    pub starts_at_log_in: Option<bool>,
    /// How the database stands.
    pub database: Database,
    /// Whether what is kept is encrypted by the service.
    pub encrypted: bool,
    /// What opens it.
    pub protectors: Vec<Protector>,
    /// Whether `keys.json`, with what opens it, is an older one than the history has seen.
    pub older_keys: bool,
    /// Whether the console is built in.
    pub console: bool,
    /// Most bytes of one copy.
    pub size_limit: u64,
}

/// How many of the person's other devices are there.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LinkedDevices {
    /// Linked to this one.
    pub linked: u32,
    /// Of these, connected at the moment.
    pub connected: u32,
    /// Whether this device shares nothing at the moment, by the person's wish.
    pub paused: bool,
}

/// How the tray stands.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TrayState {
    /// Whether copies join it.
    pub open: bool,
    /// Clips in it.
    pub count: u32,
    /// Of them, not yet dealt.
    pub waiting: u32,
}

/// A link by which one browser is let in, once.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConsoleLink {
    /// The link.
    pub url: String,
    /// Until when it can be used.
    #[schema(value_type = String, format = DateTime)]
    pub expires_at: Timestamp,
}

/// A door for one browser on the person's own network, as that of a phone: the console over TLS.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConsoleDoor {
    /// Whether it is open.
    pub open: bool,
    /// The link that lets in one browser, once; none when it has been used.
    pub url: Option<String>,
    /// The SHA-256 of the certificate, as browsers show it, to be compared.
    pub fingerprint: Option<String>,
    /// When it is closed by itself.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub expires_at: Option<Timestamp>,
    /// What the browser says that it is that came in.
    pub browser: Option<String>,
}

/// For how long a door is opened.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(default, deny_unknown_fields)]
pub struct OpenDoor {
    /// Seconds; an hour if not given, a day at most.
    #[schema(minimum = 60, maximum = 86400)]
    pub seconds: Option<u64>,
}

/// A browser that was let in to the console.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ConsoleSession {
    /// A few characters that stand for it.
    pub id: String,
    /// What the browser says that it is.
    pub browser: String,
    /// When it was let in.
    #[schema(value_type = String, format = DateTime)]
    pub created_at: Timestamp,
    /// When it was last used, to the hour.
    #[schema(value_type = String, format = DateTime)]
    pub used_at: Timestamp,
    /// Until when it is let in.
    #[schema(value_type = String, format = DateTime)]
    pub expires_at: Timestamp,
}

/// What the event stream tells in `part` events: some of what is shown has changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PartChange {
    /// Which part.
    pub part: Part,
}

/// What the event stream tells in `clip` events.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ClipChange {
    /// The number of the change; also the event's id.
    pub change: u64,
    /// The clip's id.
    #[schema(pattern = "^[a-z2-7]{26}$")]
    pub id: String,
    /// The clip as it is now; none when it has left the history.
    pub clip: Option<Clip>,
    /// Clips in the whole history.
    pub total: u64,
}

/// What a program copies onto the simulated clipboard.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SimulatedCopy {
    /// The formats: MIME type and text.
    pub formats: Vec<SimulatedFormat>,
    /// Where.
    #[serde(default)]
    pub source: Source,
    /// Marked as secret.
    #[serde(default)]
    pub secret: bool,
    /// Owns the clipboard but never answers.
    #[serde(default)]
    pub silent: bool,
}

/// One format on the simulated clipboard.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SimulatedFormat {
    /// Its MIME type.
    pub mime: String,
    /// Its text.
    pub text: String,
}
