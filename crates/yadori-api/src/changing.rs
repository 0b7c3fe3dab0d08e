//! Editing and reshaping clips; filling in.

use crate::Clip;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::{IntoParams, ToSchema};

/// What is known of the clip that was edited.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct EditQuery {
    /// How often it had been copied when the editing began. If it has been copied since, it stays in the history
    /// beside the new one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub copies: Option<u32>,
}

/// What an edit did.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Edited {
    /// The new clip.
    pub clip: Clip,
    /// Whether the text is another than before.
    pub changed: bool,
    /// Whether the old clip stays in the history, since it was copied while it was being edited.
    pub old_stays: bool,
}

/// How to reshape a clip.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Reshape {
    /// The clip.
    pub clip: String,
    /// What to do to its text, one after the other.
    pub ways: Vec<String>,
    /// Make a new clip that takes the old one's place; without it the text is only shown.
    #[serde(default)]
    pub save: bool,
}

/// What reshaping did, or would do.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Reshaped {
    /// The text before.
    pub before: String,
    /// The text after.
    pub after: String,
    /// The new clip, if it was saved.
    pub clip: Option<Clip>,
}

/// A way to reshape a text.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Way {
    /// Its name, with what it takes: `wrap:N`.
    pub name: String,
    /// What it does.
    pub does: String,
}

/// A text in which aliases stand for clips.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct Expand {
    /// The text.
    pub text: String,
    /// Answers to what placeholders ask for, by name.
    #[serde(default)]
    pub answers: BTreeMap<String, String>,
}

/// A text with its aliases filled in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Expanded {
    /// The text.
    pub text: String,
    /// The aliases that were filled in.
    pub filled: Vec<String>,
    /// What looks like aliases but stands for nothing, and was left as it is.
    pub unknown: Vec<String>,
}
