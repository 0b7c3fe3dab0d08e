//! Errors for people to read.

/// An error and what caused it, in one line.
pub fn with_causes(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(next) = cause {
        let next_text = next.to_string();
        if !text.contains(&next_text) {
            text = format!("{text}: {next_text}");
        }
        cause = next.source();
    }
    text
}
