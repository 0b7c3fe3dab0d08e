//! How the service stands, and what it has done.

pub mod stats;
pub mod status;

use crate::availability::Availability;
use crate::capture::Capture;
use crate::clock::now;
use crate::history::History;
use crate::links::Links;
use crate::retention::Retention;
use crate::sync::DeviceSync;
use std::sync::Arc;
use yadori_core::MillisSinceEpoch;
use yadori_desktop::Reading;

/// What is to be known of all parts.
pub struct Overview {
    pub(crate) history: Arc<History>,
    capture: Arc<Capture>,
    retention: Arc<Retention>,
    sync: Arc<DeviceSync>,
    links: Arc<Links>,
    reading: Arc<Reading>,
    server: Availability,
    /// The folder that everything is kept in.
    home: String,
    started: MillisSinceEpoch,
}

impl Overview {
    /// An overview of these parts, which were started now.
    pub fn new(
        (history, links): (Arc<History>, Arc<Links>),
        capture: Arc<Capture>,
        retention: Arc<Retention>,
        sync: Arc<DeviceSync>,
        reading: Arc<Reading>,
        server: Availability,
        home: String,
    ) -> Self {
        Self { history, capture, retention, sync, links, reading, server, home, started: now() }
    }
}
