//! Errors as message, hint and exit code. This is the only place where they become so.

use crate::hints::hint;
use crate::terminal::{Style, safe};
use std::io::Write;
use std::process::ExitCode;
use yadori_api::{Clip, Problem, ProblemKind};
use yadori_client::ClientError;

/// Why a command failed.
#[derive(Debug)]
pub enum Failure {
    /// The arguments make no sense together.
    Usage(String),
    /// The service cannot be reached.
    Unreachable {
        /// What is known of it.
        message: String,
        /// The command that starts it.
        start: String,
    },
    /// The service says no.
    Problem(Box<Problem>),
    /// Something on this side.
    Here(String),
    /// Whoever reads our output has had enough.
    ClosedPipe,
    /// All is said; only the exit code remains.
    Silent(u8),
}

impl From<ClientError> for Failure {
    fn from(error: ClientError) -> Self {
        match (error.start(), error) {
            (Some(start), error) => Self::Unreachable { message: error.to_string(), start },
            (None, ClientError::Problem(problem)) => Self::Problem(problem),
            (None, ClientError::Request(message)) => Self::Usage(message),
            (None, error) => Self::Here(error.to_string()),
        }
    }
}

impl From<std::io::Error> for Failure {
    fn from(error: std::io::Error) -> Self {
        if error.kind() == std::io::ErrorKind::BrokenPipe { Self::ClosedPipe } else { Self::Here(error.to_string()) }
    }
}

impl Failure {
    /// Prints it to standard error, and gives the exit code.
    ///
    /// With `json`, what it prints is a problem document (RFC 9457), as the HTTP interface gives it.
    pub fn report(self, json: bool) -> ExitCode {
        if json && let Some((code, document)) = self.document() {
            let mut text = serde_json::to_string_pretty(&document).unwrap_or_default();
            crate::terminal::escape_json(&mut text);
            let _ = writeln!(std::io::stderr(), "{text}");
            return ExitCode::from(code);
        }
        let (code, message, hint, candidates): (u8, String, Option<String>, Vec<Clip>) = match self {
            Self::Usage(message) => (2, message, Some("see: yadori help".into()), Vec::new()),
            Self::Unreachable { message, start } => {
                let hint = format!("start it with: {start} (or find out what's wrong: yadori doctor)");
                (3, message, Some(hint), Vec::new())
            }
            Self::Here(message) => (1, message, None, Vec::new()),
            Self::ClosedPipe => return ExitCode::SUCCESS,
            Self::Silent(code) => return ExitCode::from(code),
            Self::Problem(problem) => {
                (code_of(problem.kind), problem.detail, hint(problem.kind).map(str::to_owned), problem.candidates)
            }
        };
        let style = Style::of_stderr();
        eprintln!("{}", style.broken(&format!("yadori: {}", safe(&message)), 2));
        for clip in candidates {
            eprintln!("  {}  {}", &clip.id[..clip.id.len().min(10)], safe(&clip.preview));
        }
        if let Some(hint) = hint {
            eprintln!("{}", style.broken(&format!("  {}", safe(&hint)), 4));
        }
        ExitCode::from(code)
    }

    /// The failure as a problem document, and the exit code; none where there is nothing to say.
    fn document(&self) -> Option<(u8, serde_json::Value)> {
        let own = |kind: &str, detail: &str| serde_json::json!({ "type": format!("urn:yadori:problem:{kind}"), "detail": detail });
        Some(match self {
            Self::Usage(message) => (2, own("usage", message)),
            Self::Unreachable { message, .. } => (3, own("unreachable", message)),
            Self::Here(message) => (1, own("client", message)),
            Self::Problem(problem) => (code_of(problem.kind), serde_json::to_value(problem).ok()?),
            Self::ClosedPipe | Self::Silent(_) => return None,
        })
    }
}

/// The exit code for a kind of problem.
fn code_of(kind: ProblemKind) -> u8 {
    match kind {
        ProblemKind::NoSuchClip
        | ProblemKind::NotInBin
        | ProblemKind::InBin
        | ProblemKind::NoSuchAlias
        | ProblemKind::AmbiguousName => 4,
        ProblemKind::NotAName
        | ProblemKind::BadQuery
        | ProblemKind::BadWay
        | ProblemKind::BadKeys
        | ProblemKind::BadRule
        | ProblemKind::BadAttribute
        | ProblemKind::BadDrawer
        | ProblemKind::BadPage
        | ProblemKind::BadSlice
        | ProblemKind::NotAsked => 2,
        _ => 1,
    }
}
