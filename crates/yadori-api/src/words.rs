//! Words that are one of a few: enums here, in OpenAPI, and in every client made from it.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

macro_rules! words {
    ($($(#[$about:meta])* $name:ident { $($(#[$comment:meta])* $word:ident = $text:literal,)* })*) => {
        $(
            $(#[$about])*
            #[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, ToSchema)]
            #[serde(rename_all = "kebab-case")]
            pub enum $name {
                $($(#[$comment])* $word,)*
            }

            impl $name {
                /// All of them.
                pub const ALL: &[Self] = &[$(Self::$word,)*];

                /// The word.
                pub fn word(self) -> &'static str {
                    match self {
                        $(Self::$word => $text,)*
                    }
                }

                /// What this word stands for.
                pub fn from_word(word: &str) -> Option<Self> {
                    Self::ALL.iter().copied().find(|known| known.word() == word)
                }
            }
        )*
    };
}

words! {
    /// A part of what the service shows, besides its clips and how it stands.
    Part {
        /// What is in the tray, and what it deals next.
        Tray = "tray",
        /// Which drawers there are, and their headings; what lies in them is told of clip by clip.
        Drawers = "drawers",
        /// The rules.
        Rules = "rules",
        /// The keys, and what became of them.
        Keys = "keys",
        /// The linked devices, how far they are, and what is shared with them.
        Devices = "devices",
    }

    /// What a person should know.
    NoticeKind {
        /// Capture: the clipboard has not been looked for to the end.
        ClipboardNotFoundYet = "clipboard-not-found-yet",
        /// Capture: the service was started without a clipboard.
        ClipboardNotWanted = "clipboard-not-wanted",
        /// Capture: there is no desktop, or it is gone; the message says what the system tells.
        NoDesktop = "no-desktop",
        /// Capture: the compositor gives no access to its clipboard.
        NoAccess = "no-access",
        /// Capture: another program keeps what exiting programs leave on the clipboard.
        AnotherManager = "another-manager",
        /// Capture: the program of this name takes the clipboard each time something is put on it.
        Contested = "contested",
        /// Capture: the rules say so.
        ByRule = "by-rule",
        /// A device: the one of this name introduced it; it was never paired with this one.
        Introduced = "introduced",
        /// A device: its clock is ahead of this one's.
        ClockAhead = "clock-ahead",
        /// A device: its clock is behind this one's.
        ClockBehind = "clock-behind",
        /// A device: it has been away for more than half a year.
        LongAway = "long-away",
        /// A device: it no longer accepts this one; one of the two was removed.
        NotAccepted = "not-accepted",
        /// A device: it has removed this one.
        RemovedThere = "removed-there",
        /// A device: the connection broke.
        ConnectionBroke = "connection-broke",
        /// A device: nothing answers at this address.
        NothingAnswers = "nothing-answers",
        /// A device: no answer came in time from this address.
        NoAnswer = "no-answer",
        /// A device: there is no way to this address from this network.
        NoWay = "no-way",
        /// A device: it has told no address.
        NoAddress = "no-address",
        /// A device: its version is too old for this one.
        TooOldThere = "too-old-there",
        /// A device: the version of this one is too old for it.
        TooOldHere = "too-old-here",
        /// A device: the clocks are more than five minutes apart.
        ClocksApart = "clocks-apart",
        /// A device: one of the two says what the other does not understand.
        NotUnderstood = "not-understood",
        /// The relay cannot be reached.
        RelayUnreachable = "relay-unreachable",
        /// The mailbox at the relay is full.
        RelayFull = "relay-full",
        /// The relay does not know the mailbox, or this device has missed a change of its key.
        RelayNoMailbox = "relay-no-mailbox",
        /// The relay refuses.
        RelayRefuses = "relay-refuses",
        /// The relay has lost what came after some earlier time.
        RelayWentBack = "relay-went-back",
        /// Anything else; there is only the message.
        Other = "other",
    }

    /// The secret that a text looks like.
    Secret {
        /// A private key, or the seed of one-time passwords.
        PrivateKey = "private-key",
        /// An access token or the like.
        Token = "token",
        /// The number of a payment card.
        CardNumber = "card-number",
        /// A password.
        Password = "password",
        /// The number of a bank account.
        BankAccount = "bank-account",
    }

    /// Where copies are captured.
    ClipboardKind {
        /// That of an X server.
        X11 = "x11",
        /// That of a Wayland compositor.
        Wayland = "wayland",
        /// One in memory, for tests.
        Simulated = "simulated",
        /// None.
        None = "none",
    }

    /// Why copies made no clip.
    RefusalReason {
        /// Capture is paused.
        Paused = "paused",
        /// Its owner marked it as a secret.
        Secret = "secret",
        /// Another program put on the clipboard what Yadori had put there.
        Echo = "echo",
        /// The rules turn the history off.
        Off = "off",
        /// The rules ignore this kind.
        Kind = "kind",
        /// The rules ignore this application.
        Application = "application",
        /// The rules ignore texts that match a pattern.
        Pattern = "pattern",
        /// The same was copied a moment before.
        Repeat = "repeat",
        /// It is said to be another clip than it is.
        AnotherId = "another-id",
        /// Nothing but white space.
        Blank = "blank",
        /// None of its formats can be kept.
        NoUsefulFormat = "no-useful-format",
        /// It is larger than the rules allow.
        TooLarge = "too-large",
        /// Its text is not valid UTF-8.
        InvalidText = "invalid-text",
        /// The picture cannot be decoded.
        BrokenImage = "broken-image",
        /// Its owner did not deliver.
        Undelivered = "undelivered",
    }

    /// A colour mark.
    Colour {
        /// A warm yellow.
        Amber = "amber",
        /// A dull red.
        Brick = "brick",
        /// A leaf green.
        Fern = "fern",
        /// A blue green.
        Lagoon = "lagoon",
        /// A reddish purple.
        Plum = "plum",
        /// A bluish grey.
        Slate = "slate",
    }

    /// A colour mark to give, or none.
    ColourChange {
        /// A warm yellow.
        Amber = "amber",
        /// A dull red.
        Brick = "brick",
        /// A leaf green.
        Fern = "fern",
        /// A blue green.
        Lagoon = "lagoon",
        /// A reddish purple.
        Plum = "plum",
        /// A bluish grey.
        Slate = "slate",
        /// Remove the mark.
        None = "none",
    }
}

impl ColourChange {
    /// The mark; none to remove it.
    pub fn colour(self) -> Option<Colour> {
        Colour::from_word(self.word())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_word_is_written_as_it_is_called() {
        for reason in RefusalReason::ALL {
            assert_eq!(serde_json::to_value(reason).unwrap(), reason.word());
            assert_eq!(RefusalReason::from_word(reason.word()), Some(*reason));
        }
        for kind in NoticeKind::ALL {
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
        }
        for kind in ClipboardKind::ALL {
            assert_eq!(serde_json::to_value(kind).unwrap(), kind.word());
        }
        for secret in Secret::ALL {
            assert_eq!(serde_json::to_value(secret).unwrap(), secret.word());
        }
        for colour in ColourChange::ALL {
            assert_eq!(serde_json::to_value(colour).unwrap(), colour.word());
        }
        assert_eq!(ColourChange::Plum.colour(), Some(Colour::Plum));
        assert_eq!(ColourChange::None.colour(), None);
    }
}
