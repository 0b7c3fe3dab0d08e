//! Yadori's own logic, with no I/O, no async, no clock and no randomness: all of these come in as
//! arguments, so that everything here can be tested by itself.
//!
//! The way of a copy through this crate:
//!
//! * [`format`]: what one copy consists of, as it came from the clipboard
//! * [`capture`]: is it to be kept, and as what ([`kind`], [`link`], [`files`], [`html`], [`sensitive`])
//! * [`identity`]: which clip it is
//! * [`clock`], [`clip`]: when things happened to a clip, and whether it is live
//! * [`mod@preview`]: the one line that stands for it in a list
//! * [`name`]: how a person names a clip
//! * [`retention`]: how long it stays
//! * [`search`]: how it is found again
//! * [`with_causes`]: an error, written out
#![forbid(unsafe_code)]

pub mod capture;
mod causes;
pub mod clip;
pub mod clock;
pub mod files;
pub mod format;
pub mod html;
pub mod identity;
pub mod kind;
pub mod link;
pub mod name;
pub mod preview;
pub mod retention;
pub mod search;
pub mod sensitive;

pub use causes::with_causes;
pub use clip::Source;
pub use clock::{HybridClock, MillisSinceEpoch, Stamp};
pub use format::Format;
pub use identity::ClipId;
pub use kind::Kind;
