//! Deleting, clearing, undoing; the bin.

use crate::{Clip, Kind};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// Clips to move to the bin, or to forget for good.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Delete {
    /// Positions, places, aliases, ids or beginnings of ids.
    #[schema(min_items = 1, max_items = 1_000)]
    pub clips: Vec<String>,
    /// Forget them for good: nothing is left to bring back.
    #[serde(default)]
    pub for_good: bool,
}

/// What a delete did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Deleted {
    /// The clips that went to the bin, or for good.
    pub clips: Vec<Clip>,
    /// What to send to undo it; none when it cannot be undone.
    pub step: Option<u64>,
    /// Until when it can be undone.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub undo_until: Option<Timestamp>,
}

/// What to clear: everything that is not kept, or a slice of it. One of them is to be said.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Clear {
    /// Everything, unless something else is said too.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub all: bool,
    /// Only what was copied longer ago than so many seconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub older_than_seconds: Option<u64>,
    /// Only what was copied within so many seconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub newer_than_seconds: Option<u64>,
    /// Only this kind.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kind: Option<Kind>,
    /// Only what was copied in applications whose names contain this.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub application: Option<String>,
    /// Only what was copied on devices whose names contain this.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Kept clips too.
    pub kept_too: bool,
    /// Forget them for good: nothing is left to bring back.
    pub for_good: bool,
    /// Only count.
    pub dry_run: bool,
    /// How many clips the person was told would go. When there are others by now, nothing is cleared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub expected: Option<u64>,
}

/// What a clear did, or would do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Cleared {
    /// How many clips went, or would go.
    pub count: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How many kept clips of the slice stay.
    pub kept: u64,
    /// How many clips are left in the history, kept ones among them.
    pub left: u64,
    /// What to send to undo it; none when nothing was done, or it cannot be undone.
    pub step: Option<u64>,
    /// Until when it can be undone.
    #[schema(value_type = Option<String>, format = DateTime)]
    pub undo_until: Option<Timestamp>,
}

/// What to undo or redo.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Undo {
    /// The step. If not given: to undo the latest, to redo the one that was undone last.
    #[serde(default)]
    pub step: Option<u64>,
}

/// What an undo or a redo did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Undone {
    /// The step that was undone or redone.
    pub step: u64,
    /// What had been done: `delete`, `clear` or `edit`.
    pub what: String,
    /// How many clips it was about.
    pub count: u64,
    /// The clips, at most the first 50: those that are back, or that have gone again.
    pub clips: Vec<Clip>,
}

/// Something that can be undone.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Step {
    /// Its number.
    pub step: u64,
    /// When it was done.
    #[schema(value_type = String, format = DateTime)]
    pub at: Timestamp,
    /// What was done: `delete`, `clear` or `edit`.
    pub what: String,
    /// To how many clips.
    pub count: u64,
    /// One of them, for recognising it.
    pub example: Option<Clip>,
    /// Whether it has been undone.
    pub undone: bool,
    /// Until when it can be undone.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

/// Which part of the bin to list.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct BinQuery {
    /// How many to pass over.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub skip: Option<u32>,
    /// How many to list, 1 to 200; 50 if not given.
    #[param(minimum = 1, maximum = 200)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limit: Option<u32>,
}

/// A clip in the bin.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Binned {
    /// The clip.
    pub clip: Clip,
    /// How it came there: `deleted`, `cleared` or `swept`.
    pub how: String,
    /// When it came there.
    #[schema(value_type = String, format = DateTime)]
    pub since: Timestamp,
    /// When it is forgotten for good.
    #[schema(value_type = String, format = DateTime)]
    pub until: Timestamp,
}

/// What waits in the bin.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Bin {
    /// The clips, latest first.
    pub clips: Vec<Binned>,
    /// How many there are in all.
    pub total: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// How many clips were forgotten for good.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Forgotten {
    /// How many.
    pub count: u64,
}
