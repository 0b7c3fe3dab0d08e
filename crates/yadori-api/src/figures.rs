//! Figures: what is kept, how it grows, what is reused.

use crate::{Clip, Kind};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// How many days to tell of.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct StatsQuery {
    /// Days up to today, 1 to 366; 14 if not given.
    #[param(minimum = 1, maximum = 366)]
    #[serde(skip_serializing_if = "Option::is_none")]
    pub days: Option<u32>,
}

/// What happened on one day.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct DayFigures {
    /// The day in UTC: `2026-11-23`.
    #[schema(pattern = "^[0-9]{4}-[0-9]{2}-[0-9]{2}$")]
    pub day: String,
    /// Copies captured.
    pub captured: u32,
    /// Clips recalled.
    pub recalled: u32,
    /// Clips that the retention rules took.
    pub swept: u32,
    /// Clips that were deleted or cleared.
    pub cleared: u32,
    /// Bytes of the clips in the history that were last copied on that day.
    pub bytes: u64,
}

/// A part of the history.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Share {
    /// What it is: a kind, or an application; empty if that is unknown.
    pub name: String,
    /// How many clips.
    pub count: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// What the history spares, estimated.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Saved {
    /// Recalls in all that are still on record.
    pub recalls: u64,
    /// Switches between windows that were not needed: two for each recall.
    pub switches: u64,
    /// Seconds: seven for each recall, less two for finding it.
    pub seconds: u64,
    /// The formula, in words.
    pub formula: String,
}

/// The figures.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize, ToSchema)]
pub struct Stats {
    /// Clips in the history.
    pub count: u64,
    /// Of them, kept.
    pub kept: u64,
    /// Bytes of their content.
    pub bytes: u64,
    /// Bytes of the database on disk.
    pub bytes_on_disk: Option<u64>,
    /// Clips in the bin.
    pub in_bin: u64,
    /// Day by day, oldest first.
    pub days: Vec<DayFigures>,
    /// By kind, most clips first.
    pub kinds: Vec<Share>,
    /// By application, most clips first; at most ten.
    pub applications: Vec<Share>,
    /// What is reused most; at most ten.
    pub most_used: Vec<Clip>,
    /// What the history spares.
    pub saved: Saved,
}

/// What is due to go.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Due {
    /// Clips that go by their age within a day.
    pub within_a_day: u64,
    /// Clips that wait in the bin.
    pub in_bin: u64,
    /// Clips that the rules would sweep, but so many that it must be confirmed first; 0 when nothing is held.
    pub held: u64,
    /// Why the sweep is held.
    pub held_because: Option<String>,
}

/// A kind's share, for the largest of the rules.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Room {
    /// The kind, or all.
    pub kind: Option<Kind>,
    /// Bytes of the clips that are not kept.
    pub bytes: u64,
    /// Bytes that the rules allow; 0: any.
    pub limit: u64,
    /// Clips that are not kept.
    pub count: u64,
    /// Clips that the rules allow; 0: any.
    pub clip_limit: u64,
}
