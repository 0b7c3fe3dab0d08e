//! The tray: an ordered batch of clips.

use crate::{Clip, Recalled};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// One place in the tray.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TrayItem {
    /// Its place, from 1.
    #[schema(minimum = 1)]
    pub place: u32,
    /// Whether it was dealt, or passed over.
    pub dealt: bool,
    /// The clip.
    pub clip: Clip,
}

/// The tray.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Tray {
    /// Whether copies join it.
    pub open: bool,
    /// Whether the next clip is put on the clipboard as soon as the last one was pasted.
    pub auto: bool,
    /// The place of the clip that is dealt next; one more than there are when all are dealt.
    pub next: u32,
    /// What is in it, in its order.
    pub items: Vec<TrayItem>,
}

/// How to open the tray.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OpenTray {
    /// Empty it first.
    #[serde(default)]
    pub empty: bool,
}

/// How to close the tray.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CloseTray {
    /// Put its clips into this drawer, which is made if there is none.
    #[serde(default)]
    pub keep_as: Option<String>,
    /// Empty it.
    #[serde(default)]
    pub empty: bool,
}

/// How to deal the next clip.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct DealNext {
    /// Go on by itself: each clip follows as soon as the one before it was pasted.
    #[serde(default)]
    pub auto: bool,
    /// Paste it into the window that has the keyboard.
    #[serde(default)]
    pub paste: bool,
}

/// A clip that was dealt.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Dealt {
    /// What is on the clipboard now; none when all were dealt.
    pub recalled: Option<Recalled>,
    /// The tray after it.
    pub tray: Tray,
}

/// A place of the tray to change.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct TrayPlace {
    /// The place, from 1.
    #[schema(minimum = 1)]
    pub place: u32,
    /// The place that it comes to; without it, it is dropped from the tray.
    #[schema(minimum = 1)]
    #[serde(default)]
    pub at: Option<u32>,
}

/// How to pour the tray out.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Pour {
    /// What to put between the clips; a line end if not given.
    #[serde(default)]
    pub join: Option<String>,
    /// Plain text only.
    #[serde(default)]
    pub plain: bool,
    /// Leave out the clips that cannot be joined with the others.
    #[serde(default)]
    pub skip_others: bool,
    /// Pour out this drawer instead.
    #[serde(default)]
    pub drawer: Option<String>,
}
