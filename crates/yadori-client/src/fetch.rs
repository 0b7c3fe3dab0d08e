//! Content that is on another device is fetched while somebody watches.

use crate::client::{Client, in_path};
use crate::error::ClientError;
use std::time::{Duration, Instant};
use yadori_api::{FetchQuery, Fetched, Problem, ProblemKind};

/// How long nothing at all may come.
const PATIENCE: Duration = Duration::from_secs(30);

/// How long to wait before asking again for a device that is gone.
const PAUSE: Duration = Duration::from_millis(500);

/// Whether the problem is that the content is on another device.
pub fn is_elsewhere(problem: &Problem) -> bool {
    problem.kind == ProblemKind::Elsewhere
}

/// Fetches the content of a clip; tells `progress` how far it is.
///
/// # Errors
/// When no device that has it is there, or it has stopped coming for half a minute. What has come stays.
pub fn fetch(client: &Client, clip: &str, mut progress: impl FnMut(&Fetched)) -> Result<(), ClientError> {
    let path = format!("/clips/{}/fetch", in_path(clip));
    let more = |after| client.post_with::<Fetched>(&path, &FetchQuery { after });
    let mut fetched = more(None)?;
    let (mut has_come, mut latest) = (false, Instant::now());
    while fetched.here < fetched.size {
        progress(&fetched);
        let before = fetched.here;
        match more(Some(before)) {
            Ok(further) => fetched = further,
            // The device that was sending is gone at the moment, and may be back in the next.
            Err(ClientError::Problem(problem)) if is_elsewhere(&problem) && has_come => std::thread::sleep(PAUSE),
            Err(error) => return Err(error),
        }
        if fetched.here > before {
            (has_come, latest) = (true, Instant::now());
        } else if latest.elapsed() > PATIENCE {
            return Err(ClientError::Stalled);
        }
    }
    Ok(())
}
