//! Errors as message, hint and exit code. This is the only place where they become so.

use crate::terminal::safe;
use std::process::ExitCode;
use yadori_api::{Clip, Problem};

/// Why a command failed.
#[derive(Debug)]
pub enum Failure {
    /// The arguments make no sense together.
    Usage(String),
    /// The service cannot be reached.
    Unreachable(String),
    /// The service says no.
    Problem(Box<Problem>),
    /// Something on this side.
    Here(String),
    /// Whoever reads our output has had enough.
    ClosedPipe,
    /// All is said; only the exit code remains.
    Silent(u8),
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        if error.kind() == std::io::ErrorKind::BrokenPipe { Self::ClosedPipe } else { Self::Here(error.to_string()) }
    }
}

impl Failure {
    /// Prints it to standard error, and gives the exit code.
    pub fn report(self) -> ExitCode {
        let (code, message, hint, candidates): (u8, String, Option<String>, Vec<Clip>) = match self {
            Self::Usage(message) => (2, message, Some("see: yadori help".into()), Vec::new()),
            Self::Unreachable(message) => (
                3,
                message,
                Some("start it with: yadorid (or see what is wrong with: yadori doctor)".into()),
                Vec::new(),
            ),
            Self::Here(message) => (1, message, None, Vec::new()),
            Self::ClosedPipe => return ExitCode::SUCCESS,
            Self::Silent(code) => return ExitCode::from(code),
            Self::Problem(problem) => {
                let code = match problem.kind.rsplit(':').next().unwrap_or_default() {
                    "no-such-clip" | "ambiguous-name" => 4,
                    "not-a-name" | "bad-query" | "bad-way" | "bad-rule" | "bad-particulars" | "bad-drawer"
                    | "bad-page" => 2,
                    _ => 1,
                };
                (code, problem.detail, problem.hint, problem.candidates)
            }
        };
        eprintln!("yadori: {}", safe(&message));
        for clip in candidates {
            eprintln!("  {}  {}", &clip.id[..clip.id.len().min(10)], safe(&clip.preview));
        }
        if let Some(hint) = hint {
            eprintln!("  {}", safe(&hint));
        }
        ExitCode::from(code)
    }
}
