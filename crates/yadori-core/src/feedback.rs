//! How a person is told that a copy was kept.

use serde::{Deserialize, Serialize};

/// Programs that play the sound, of the systems that are usual today and of the one below them; the first that is there is
/// taken.
pub const PLAYERS: [&str; 3] = ["pw-play", "paplay", "aplay"];

/// A way to tell it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Feedback {
    /// A notification, which takes the place of the one before.
    Notification,
    /// A short sound.
    Sound,
    /// The icon in the panel lights up for a moment.
    Flash,
}

impl Feedback {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Notification, Self::Sound, Self::Flash];

    /// What tells it, within a sentence.
    pub fn in_words(self) -> &'static str {
        match self {
            Self::Notification => "a notification",
            Self::Sound => "a short sound",
            Self::Flash => "a flash of the icon",
        }
    }
}
