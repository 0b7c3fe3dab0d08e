//! Content that is on another device is fetched while the person watches.

use crate::failure::Failure;
use crate::reach::{Service, in_path};
use indicatif::{ProgressBar, ProgressStyle};
use std::time::{Duration, Instant};
use yadori_api::{FetchQuery, Fetched, Problem};

/// How long nothing at all may come.
const PATIENCE: Duration = Duration::from_secs(30);

/// How long to wait before asking again for a device that is gone.
const PAUSE: Duration = Duration::from_millis(500);

/// Asks for something that needs the content of clips; if some of it is on another device, fetches that first,
/// showing on a terminal how it goes, and asks again.
pub fn asking<T>(
    service: &Service,
    clips: &[String],
    mut ask: impl FnMut() -> Result<T, Failure>,
) -> Result<T, Failure> {
    match ask() {
        Err(Failure::Problem(problem)) if is_elsewhere(&problem) => {
            for clip in clips {
                fetch(service, clip)?;
            }
            ask()
        }
        other => other,
    }
}

fn is_elsewhere(problem: &Problem) -> bool {
    problem.kind.ends_with(":elsewhere")
}

fn fetch(service: &Service, clip: &str) -> Result<(), Failure> {
    let path = format!("/clips/{}/fetch", in_path(clip));
    let more = |after| service.post_with::<Fetched>(&path, &FetchQuery { after });
    let mut fetched = more(None)?;
    let bar = ProgressBar::new(fetched.size);
    if let Ok(style) = ProgressStyle::with_template("Fetching {bytes} of {total_bytes} {bar:24} {eta} left") {
        bar.set_style(style.progress_chars("██░"));
    }
    let (mut has_come, mut latest) = (false, Instant::now());
    while fetched.here < fetched.size {
        bar.set_position(fetched.here);
        let before = fetched.here;
        match more(Some(before)) {
            Ok(further) => fetched = further,
            // The device that was sending is gone at the moment, and may be back in the next.
            Err(Failure::Problem(problem)) if is_elsewhere(&problem) && has_come => std::thread::sleep(PAUSE),
            Err(failure) => {
                bar.finish_and_clear();
                return Err(failure);
            }
        }
        if fetched.here > before {
            (has_come, latest) = (true, Instant::now());
        } else if latest.elapsed() > PATIENCE {
            bar.finish_and_clear();
            return Err(Failure::Here(
                "the other device sends nothing more at the moment; what has come stays, so try again later".into(),
            ));
        }
    }
    bar.finish_and_clear();
    Ok(())
}
