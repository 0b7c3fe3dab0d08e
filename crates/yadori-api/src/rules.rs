//! What is captured, and how long it stays.

use crate::{Clip, Kind, RefusalReason, Secret};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Limits; 0 means that there is none.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct Limits {
    /// Most clips.
    pub count: u64,
    /// Longest time since a clip was copied, recalled, brought back, or ceased to be kept, in seconds.
    pub age_seconds: u64,
    /// Most bytes of all together.
    pub bytes: u64,
}

/// Limits that hold for some clips, besides those for all.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ScopeLimits {
    /// Those of this kind.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<Kind>,
    /// Those copied in this application. There is either a kind or an application.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub application: Option<String>,
    /// Their limits.
    #[serde(default)]
    pub limits: Limits,
}

/// A way to tell of a copy that was kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum Feedback {
    /// A notification.
    Notification,
    /// A short sound.
    Sound,
    /// A flash of the icon in the panel.
    Flash,
}

/// The rules in force.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Rules {
    /// Whether copies are captured at all.
    pub history: bool,
    /// Whether text that is merely selected (the primary selection) is captured too.
    pub primary: bool,
    /// The kinds that are captured.
    pub kinds: Vec<Kind>,
    /// Most bytes of one copy.
    pub largest: u64,
    /// Applications of which nothing is captured.
    pub ignored_applications: Vec<String>,
    /// Regular expressions; a copy whose text meets one is not captured.
    pub ignored_patterns: Vec<String>,
    /// The same thing copied again within so many milliseconds counts once.
    pub repeat_millis: u64,
    /// Whether everything that is not kept is forgotten for good when the service ends, as it does at log-out.
    pub forget_at_log_out: bool,
    /// Whether a recall moves a clip to the top of the history.
    pub recall_to_top: bool,
    /// How the person is told of each copy that was kept.
    #[serde(default)]
    pub feedback: Vec<Feedback>,
    /// Limits for all clips that are not kept.
    pub limits: Limits,
    /// Limits for some of them, besides.
    pub scopes: Vec<ScopeLimits>,
    /// How long what looks like a secret stays, in seconds; 0: like everything else.
    pub sensitive_seconds: u64,
    /// What is captured, as sentences.
    #[serde(default)]
    pub capture_sentences: Vec<String>,
    /// How long it stays, as sentences.
    #[serde(default)]
    pub retention_sentences: Vec<String>,
}

/// Rules to change; those that are not given stay as they are.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields, default)]
pub struct RulesChange {
    /// Whether copies are captured at all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub history: Option<bool>,
    /// Whether text that is merely selected is captured too.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub primary: Option<bool>,
    /// The kinds that are captured.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub kinds: Option<Vec<Kind>>,
    /// Most bytes of one copy.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub largest: Option<u64>,
    /// Applications of which nothing is captured.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ignored_applications: Option<Vec<String>>,
    /// Patterns of texts that are not captured.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ignored_patterns: Option<Vec<String>>,
    /// The same thing copied again within so many milliseconds counts once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub repeat_millis: Option<u64>,
    /// Whether everything that is not kept is forgotten when the service ends.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub forget_at_log_out: Option<bool>,
    /// Whether a recall moves a clip to the top.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub recall_to_top: Option<bool>,
    /// How the person is told of each copy that was kept; by nothing if the list is empty.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub feedback: Option<Vec<Feedback>>,
    /// Limits for all clips that are not kept.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub limits: Option<Limits>,
    /// Limits for some of them: all of them, not only those that change.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub scopes: Option<Vec<ScopeLimits>>,
    /// How long what looks like a secret stays, in seconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sensitive_seconds: Option<u64>,
    /// Whether the person knows that more than half of the history goes by this change.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub confirmed: bool,
}

/// A clip that would go, and why.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Going {
    /// The clip.
    pub clip: Clip,
    /// The rule by which it goes, in a few words.
    pub rule: String,
}

/// What a sweep would remove.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct SweepPreview {
    /// How many clips would go.
    pub count: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How many clips that are not kept would stay.
    pub staying: u64,
    /// How many are kept, which no rule touches.
    pub kept: u64,
    /// Whether so many would be removed that it must be confirmed.
    pub drastic: bool,
    /// The first of those that would go, oldest first, at most 50.
    pub first: Vec<Going>,
    /// The retention rules as sentences, as they would be.
    pub sentences: Vec<String>,
}

/// What a sweep removed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Swept {
    /// How many clips went to the bin, or for good if they look like secrets.
    pub count: u64,
}

/// A sample to try the capture rules on.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RulesTest {
    /// The text of the copy.
    pub text: String,
    /// The application that it is copied in.
    #[serde(default)]
    pub application: Option<String>,
}

/// What would happen to a copy.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct RulesVerdict {
    /// Whether it would be captured.
    pub captured: bool,
    /// What would happen and why, as a sentence in English.
    pub reason: String,
    /// Why it would not be captured.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub refused: Option<RefusalReason>,
    /// After how many seconds it would be forgotten, since it surely is a secret.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forgotten_after_seconds: Option<u64>,
    /// Whether capture is paused at the moment.
    pub paused: bool,
    /// What it would be.
    pub kind: Option<Kind>,
    /// The secret that it looks like.
    pub sensitive: Option<Secret>,
}

/// Put the rules back.
#[derive(Clone, Copy, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct ResetRules {
    /// Whether the person knows that more than half of the history goes by this.
    #[serde(default)]
    pub confirmed: bool,
}
