//! What there is not of a clipboard, for a person to read.

use thiserror::Error;

/// Why there is no clipboard, or not all that one may expect of it.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Shortcoming {
    /// It has not been looked for to the end.
    #[error("it has not been found yet")]
    NotFoundYet,
    /// Nobody wants one.
    #[error("the service was started without a clipboard")]
    NotWanted,
    /// There is no desktop, or it is gone, or does not let us in: what it or the system says, in English.
    #[error("{0}")]
    NoDesktop(String),
    /// There is a compositor, without the protocols for it.
    #[error(
        "the compositor gives no access to its clipboard (it has neither ext-data-control-v1 nor wlr-data-control)"
    )]
    NoAccess,
    /// Another program has the part that we would play.
    #[error("another program keeps what exiting programs leave on the clipboard (it owns CLIPBOARD_MANAGER)")]
    AnotherManager,
    /// A program of this name wants the clipboard for itself.
    #[error("another program ({0}) takes the clipboard each time something is put on it, and is let have it")]
    Contested(String),
}
