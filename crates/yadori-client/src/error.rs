//! Why the service did not answer, or said no.

use std::path::PathBuf;
use thiserror::Error;
use yadori_api::Problem;

/// Why something asked of the service was not done.
#[derive(Debug, Error)]
pub enum ClientError {
    /// It is not known where the service keeps its files.
    #[error("there is no home folder (HOME is not set); name the service's folder with --home")]
    NoHome,
    /// No service runs with this home, or with the user's own folders if it is none.
    #[error("the service isn't running{}, so nothing is being kept", with(.0))]
    NotRunning(Option<PathBuf>),
    /// The service was there, and is not any more.
    #[error("the service can't be reached ({reason}); it may have crashed")]
    Gone {
        /// What happened.
        reason: String,
        /// Its home, if it has one of its own.
        home: Option<PathBuf>,
    },
    /// It is there, and takes too long.
    #[error("the service does not answer in time")]
    TimedOut,
    /// The file that tells how to reach it cannot be used.
    #[error("{path} cannot be used: {reason}")]
    Reach {
        /// The file.
        path: String,
        /// Why.
        reason: String,
    },
    /// What is asked for makes no request.
    #[error("{0}")]
    Request(String),
    /// It says no, and why.
    #[error("{}", .0.detail)]
    Problem(Box<Problem>),
    /// It says no, without a reason.
    #[error("the service answered {0}")]
    Status(u16),
    /// Its answer breaks off.
    #[error("the answer cannot be read: {0}")]
    BrokenOff(#[from] std::io::Error),
    /// Its answer is not what was expected.
    #[error("the answer is not understood ({0}); are client and service of the same version?")]
    NotUnderstood(#[from] serde_json::Error),
    /// Content that is on another device has stopped coming.
    #[error("the other device sends nothing more at the moment; what has come stays, so try again later")]
    Stalled,
}

fn with(home: &Option<PathBuf>) -> String {
    home.as_ref().map(|home| format!(" with --home {}", home.display())).unwrap_or_default()
}

impl ClientError {
    /// The command that starts the service, if it is not there.
    pub fn start(&self) -> Option<String> {
        match self {
            Self::NotRunning(home) | Self::Gone { home, .. } => {
                let with = home.as_ref().map(|home| format!(" --home {}", home.display()));
                Some(format!("yadorid{}", with.unwrap_or_default()))
            }
            _ => None,
        }
    }
}
