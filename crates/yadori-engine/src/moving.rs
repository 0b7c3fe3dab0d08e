//! Moving clips out of the history, into archives and other forms, and in again.

pub(crate) mod archive;
mod aside;
pub mod export;
pub(crate) mod filing;
pub mod import;

use crate::background::Background;
use crate::capture::Capture;
use crate::history::History;
use crate::keeping::Keeping;
use std::path::PathBuf;
use std::sync::Arc;

/// Exports and imports.
pub struct Moving {
    pub(crate) history: Arc<History>,
    capture: Arc<Capture>,
    keeping: Arc<Keeping>,
    background: Background,
    /// The folder for files that are on their way in.
    folder: PathBuf,
}

impl Moving {
    /// Moves clips out of this history and into it. Files on their way in are made in `folder`.
    pub fn new(
        history: Arc<History>,
        capture: Arc<Capture>,
        keeping: Arc<Keeping>,
        background: Background,
        folder: PathBuf,
    ) -> Self {
        Self { history, capture, keeping, background, folder }
    }
}
