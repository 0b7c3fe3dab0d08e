//! Work that goes on beside what is asked for, and its end.

use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

/// Where work in the background is begun, and whether it is time to end it.
#[derive(Clone, Default)]
pub struct Background {
    /// Small work that may go on while the service ends.
    pub tasks: TaskTracker,
    /// Whether the service ends.
    pub ending: CancellationToken,
}
