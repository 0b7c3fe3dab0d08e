//! Why there is no connection with a device, for a person to read.

use rustls::AlertDescription;
use std::io;
use thiserror::Error;

/// Why there is no connection with a device. Its text is said of that device.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum LinkFailure {
    /// It proved who it is, and does not let this device in.
    #[error("it no longer accepts this device: one of the two was removed (link them again with a new invitation)")]
    NotAccepted,
    /// It has said so.
    #[error("it has removed this device")]
    Removed,
    /// It ended in the middle.
    #[error("the connection broke")]
    Broke,
    /// Nobody listens.
    #[error("nothing answers there")]
    NothingAnswers,
    /// Somebody may listen, but says nothing.
    #[error("no answer came in time")]
    NoAnswer,
    /// The network leads nowhere.
    #[error("there is no way to it from this network")]
    NoWay,
    /// Nobody knows where it is.
    #[error("it has told no address")]
    NoAddress,
    /// It cannot exchange anything with this one.
    #[error("its version of Yadori is too old for this one: please update it")]
    TooOldThere,
    /// This one cannot exchange anything with it.
    #[error("this version of Yadori is too old for it: please update this one")]
    TooOldHere,
    /// See [`yadori_core::clock::CLOCKS_APART_MILLIS`].
    #[error("the clocks of the two devices are more than five minutes apart: please set the one that is wrong")]
    ClocksApart,
    /// One of the two says what the other cannot read.
    #[error("the two devices do not understand each other: {0}")]
    NotUnderstood(&'static str),
    /// Anything else, in English.
    #[error("{0}")]
    Other(String),
}

impl From<&io::Error> for LinkFailure {
    fn from(error: &io::Error) -> Self {
        use io::ErrorKind::{
            BrokenPipe, ConnectionAborted, ConnectionRefused, ConnectionReset, HostUnreachable, NetworkUnreachable,
            TimedOut, UnexpectedEof,
        };
        let of_tls = error.get_ref().and_then(|inner| inner.downcast_ref::<rustls::Error>());
        if of_tls == Some(&rustls::Error::AlertReceived(AlertDescription::AccessDenied)) {
            // Only the device itself can say so: it has proved its key by now.
            return Self::NotAccepted;
        }
        match error.kind() {
            UnexpectedEof | ConnectionReset | ConnectionAborted | BrokenPipe => Self::Broke,
            ConnectionRefused => Self::NothingAnswers,
            TimedOut => Self::NoAnswer,
            HostUnreachable | NetworkUnreachable => Self::NoWay,
            _ => Self::Other(error.to_string()),
        }
    }
}
