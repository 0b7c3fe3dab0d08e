//! What an exported archive looks like.
//!
//! A zip with `clips.ndjson`, one JSON object on a line, and one file `content/HASH` for each content that is
//! not text or is large, named by the BLAKE3 hash of its bytes. The lines: a [`Head`], then a `clip` for each
//! clip, then how they were kept. `docs/archive.md` describes every field.

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use yadori_core::Kind;

/// The version of this form.
pub const VERSION: u32 = 1;

/// The name of the list.
pub const LIST: &str = "clips.ndjson";

/// Where contents lie.
pub const CONTENT: &str = "content/";

/// Most bytes of text that stand in the list itself.
pub const INLINE: usize = 64 * 1024;

/// One line of the list.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Line {
    /// The first line.
    Yadori(Head),
    /// A clip.
    Clip(Box<Clip>),
    /// The ids of the pinned clips, in their order.
    Pins(Vec<String>),
    /// A drawer.
    Drawer(Drawer),
}

/// What the archive is.
#[derive(Debug, Serialize, Deserialize)]
pub struct Head {
    /// The version of the form.
    pub version: u32,
    /// The device it was made on.
    pub device: String,
    /// When it was made.
    pub exported_at: Timestamp,
}

/// A clip.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Clip {
    /// Its id.
    pub id: String,
    /// What it is.
    pub kind: Kind,
    /// Its formats, in their order.
    pub formats: Vec<FormatLine>,
    /// When it was last copied.
    pub copied_at: Timestamp,
    /// How often it was copied.
    #[serde(default)]
    pub copies: u32,
    /// When it was last recalled.
    #[serde(default)]
    pub recalled_at: Option<Timestamp>,
    /// How often it was recalled.
    #[serde(default)]
    pub recalls: u32,
    /// Its title.
    #[serde(default)]
    pub title: Option<String>,
    /// Its colour mark.
    #[serde(default)]
    pub mark: Option<String>,
    /// Its alias, without the colon.
    #[serde(default)]
    pub alias: Option<String>,
    /// Whether its placeholders are filled in.
    #[serde(default)]
    pub fills: bool,
    /// Where it was copied.
    #[serde(default)]
    pub source: Source,
}

/// Where a clip was copied.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Source {
    /// The application.
    #[serde(default)]
    pub application: Option<String>,
    /// The title of its window.
    #[serde(default)]
    pub window: Option<String>,
    /// The page.
    #[serde(default)]
    pub page: Option<String>,
    /// Whether it was merely selected.
    #[serde(default)]
    pub selected: bool,
}

/// One format of a clip.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct FormatLine {
    /// Its MIME type.
    pub mime: String,
    /// Its size in bytes.
    pub size: u64,
    /// The BLAKE3 hash of its bytes, in hexadecimal.
    pub hash: String,
    /// Its bytes, where they are a short text; otherwise they are in `content/HASH`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
}

/// A drawer.
#[derive(Debug, Serialize, Deserialize)]
pub struct Drawer {
    /// Its name.
    pub name: String,
    /// What lies in it, in its order.
    pub items: Vec<Item>,
}

/// One line of a drawer.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Item {
    /// A clip, by its id.
    Clip(String),
    /// A heading.
    Heading(String),
}
