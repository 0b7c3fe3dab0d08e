//! Content that is on another device is fetched while the person watches.

use crate::failure::Failure;
use indicatif::{ProgressBar, ProgressStyle};
use yadori_client::{Client, ClientError, fetch, is_elsewhere};

/// Asks for something that needs the content of clips; if some of it is on another device, fetches that first,
/// showing on a terminal how it goes, and asks again.
pub fn asking<T>(
    service: &Client,
    clips: &[String],
    mut ask: impl FnMut() -> Result<T, ClientError>,
) -> Result<T, Failure> {
    match ask() {
        Err(ClientError::Problem(problem)) if is_elsewhere(&problem) => {
            for clip in clips {
                watched(service, clip)?;
            }
            Ok(ask()?)
        }
        other => Ok(other?),
    }
}

fn watched(service: &Client, clip: &str) -> Result<(), ClientError> {
    let bar = ProgressBar::new(0);
    if let Ok(style) = ProgressStyle::with_template("Fetching {bytes} of {total_bytes} {bar:24} {eta} left") {
        bar.set_style(style.progress_chars("██░"));
    }
    let done = fetch(service, clip, |fetched| {
        bar.set_length(fetched.size);
        bar.set_position(fetched.here);
    });
    bar.finish_and_clear();
    done
}
