//! Whether the service is started at log-in, for those who are not at a terminal. The command line does it, which is installed
//! beside the service: it knows systemd and the desktop's folder.

use std::path::Path;
use std::process::Stdio;
use std::time::Duration;
use thiserror::Error;
use tokio::process::Command;

/// How long that may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// Why it stays as it was.
#[derive(Debug, Error)]
#[error("{0}")]
pub struct LogInError(String);

/// Has the service started at the next log-in, with this home if it is not the usual one; or no longer.
///
/// # Errors
/// When the command line is not there, or says no: with what it says.
pub async fn set(starts: bool, home: Option<&Path>) -> Result<(), LogInError> {
    let own = std::env::current_exe()
        .map_err(|error| LogInError(format!("where this program is cannot be told: {error}")))?;
    let program = own.with_file_name("yadori");
    let mut command = Command::new(&program);
    command.args(home.map(|home| [Path::new("--home"), home]).into_iter().flatten());
    command.arg("service").args(if starts { &["install", "--later"][..] } else { &["remove"] });
    command.stdin(Stdio::null()).kill_on_drop(true);
    let done = tokio::time::timeout(PATIENCE, command.output()).await;
    let done =
        done.map_err(|_| LogInError("that takes too long; try it in a terminal: yadori service install".into()))?;
    let done = done.map_err(|error| {
        LogInError(format!("{} cannot be run: {error}; install it beside yadorid", program.display()))
    })?;
    if done.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&done.stderr);
    Err(LogInError(said.trim().trim_start_matches("yadori: ").to_owned()))
}
