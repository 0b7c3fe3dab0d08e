//! Yadori's own logic, with no I/O, no async, no clock and no randomness: all of these come in as
//! arguments, so that everything here can be tested by itself.
//!
//! The way of a copy through this crate:
//!
//! * [`format`]: what one copy consists of, as it came from the clipboard
//! * [`capture`]: is it to be kept, and as what ([`kind`], [`link`], [`files`], [`html`], [`sensitive`])
//! * [`own`]: the formats that a program keeps for itself
//! * [`identity`], [`belonging`]: which clip it is, and whether content is that of a clip
//! * [`clock`], [`clip`]: when things happened to a clip, and whether it is live
//! * [`mod@preview`]: the one line that stands for it in a list
//! * [`name`], [`alias`]: how a person names a clip
//! * [`mark`], [`rank`]: how they mark and arrange what they keep
//! * [`rules`], [`retention`], [`feedback`]: what is captured, how long it stays, how that is told; [`amounts`]: how people write numbers
//! * [`mod@reshape`], [`fill`], [`join`]: what is made of it on its way out
//! * [`tray`]: several in a row
//! * [`keys`]: what keys do in every program
//! * [`device`], [`shared`], [`merge`], [`sharing`]: one history on several devices
//! * [`search`]: how it is found again
//! * [`with_causes`]: an error, written out
#![forbid(unsafe_code)]

pub mod alias;
pub mod amounts;
pub mod belonging;
pub mod capture;
mod causes;
pub mod clip;
pub mod clock;
pub mod device;
pub mod feedback;
pub mod files;
pub mod fill;
pub mod format;
pub mod html;
pub mod identity;
pub mod join;
pub mod keys;
pub mod kind;
pub mod link;
pub mod mark;
pub mod merge;
pub mod name;
pub mod own;
pub mod preview;
pub mod rank;
pub mod refiling;
pub mod reshape;
pub mod retention;
pub mod rules;
pub mod search;
pub mod sensitive;
pub mod shared;
pub mod sharing;
pub mod tray;

pub use causes::with_causes;
pub use clip::Source;
pub use clock::{HybridClock, MillisSinceEpoch, Stamp};
pub use device::DeviceId;
pub use format::Format;
pub use identity::ClipId;
pub use kind::Kind;
pub use mark::Mark;
pub use rank::Rank;
