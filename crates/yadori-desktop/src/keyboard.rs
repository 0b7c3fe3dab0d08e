//! The keyboard of a desktop: who has it, keys that paste, and keys that reach us from every program.

use std::fmt;
use std::num::ParseIntError;
use std::str::FromStr;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::sync::oneshot;
use yadori_core::Source;
use yadori_core::keys::{Action, Chord, PasteTable};

/// A window that is open, as long as it is; written as a number in base 16.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct WindowId(pub u64);

impl fmt::Display for WindowId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:x}", self.0)
    }
}

impl FromStr for WindowId {
    type Err = ParseIntError;

    fn from_str(text: &str) -> Result<Self, ParseIntError> {
        u64::from_str_radix(text, 16).map(Self)
    }
}

/// The window that has the keyboard.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Focus {
    /// The window.
    pub window: WindowId,
    /// What it is.
    pub source: Source,
}

/// A paste into a program.
#[derive(Clone, Debug, Default)]
pub struct Paste {
    /// The window that is given the keyboard first; whoever has it if none is named.
    pub into: Option<WindowId>,
    /// Which keys paste in which program.
    pub table: Arc<PasteTable>,
}

/// Whether a key reaches us.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum GrabState {
    /// It does.
    Grabbed,
    /// Another program has it; who also may, if something is known.
    Taken(Option<String>),
    /// The keyboard has no such key.
    NoSuchKey,
    /// It does, by whichever keys the desktop and the person have agreed on: what they are, in the desktop's words.
    Assigned(String),
    /// The desktop has given it no keys, or the person has not agreed to any.
    Unassigned,
    /// The desktop gives keys to nobody.
    Unsupported,
}

/// The keyboard of a desktop.
pub trait Keyboard: Send + Sync + 'static {
    /// The window that has the keyboard, if there is one and the desktop tells.
    fn focus(&self) -> oneshot::Receiver<Option<Focus>>;

    /// Presses the keys that paste.
    fn paste(&self, paste: Paste) -> oneshot::Receiver<Result<(), PasteError>>;

    /// From now on these keys, and no others, are told of as [`crate::Event::Key`], whichever program has the keyboard.
    fn grab(&self, keys: Vec<(Action, Chord)>) -> oneshot::Receiver<Vec<(Action, GrabState)>>;
}

/// How long a window may take to get the keyboard back.
pub(crate) const GIVING: Duration = Duration::from_secs(1);

/// Why nothing was pasted.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum PasteError {
    /// There is no way to press keys.
    #[error("no keys can be pressed here ({0}); press {1} yourself")]
    NoKeys(String, Chord),
    /// The window that it was for has been closed.
    #[error("the window that it was for is gone")]
    Gone,
    /// The window does not take the keyboard.
    #[error("the window that it was for does not take the keyboard")]
    NoFocus,
    /// There is no connection to a desktop at the moment.
    #[error("there is no connection to a desktop at the moment")]
    Lost,
}
