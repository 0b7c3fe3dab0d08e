//! What a person should know: a kind, and what belongs to it, so that every client can say it in its own language.

use crate::NoticeKind;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Something that a person should know.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Notice {
    /// What it is.
    pub kind: NoticeKind,
    /// The same in English, as part of a sentence. Of the kind `other` there is nothing else.
    pub message: String,
    /// The name, address or program that it is about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// How much time it is about, in seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<u64>,
}

impl Notice {
    /// One that is about nothing else.
    pub fn new(kind: NoticeKind, message: impl ToString) -> Self {
        Self { kind, message: message.to_string(), name: None, seconds: None }
    }

    /// About this.
    #[must_use]
    pub fn about(self, name: impl Into<String>) -> Self {
        Self { name: Some(name.into()), ..self }
    }
}
