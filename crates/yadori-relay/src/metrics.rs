//! What the owner of a relay sees of it, in Prometheus' text format (version 0.0.4). Nothing in it tells of one mailbox.

use std::fmt::Write;
use std::sync::atomic::{AtomicU64, Ordering};

/// The counts of one node.
#[derive(Debug, Default)]
pub struct Metrics {
    /// Requests that were answered.
    pub requests: AtomicU64,
    /// Of these, requests that were refused (4xx).
    pub refused: AtomicU64,
    /// Of these, requests that failed (5xx).
    pub failed: AtomicU64,
    /// Envelopes that came.
    pub envelopes_in: AtomicU64,
    /// Envelopes that were fetched.
    pub envelopes_out: AtomicU64,
    /// Bytes of envelopes and contents that came.
    pub bytes_in: AtomicU64,
    /// Bytes of envelopes and contents that were fetched.
    pub bytes_out: AtomicU64,
    /// Devices that wait at present.
    pub waiting: AtomicU64,
    /// Questions that the database did not answer.
    pub database_errors: AtomicU64,
}

impl Metrics {
    /// As text.
    pub fn to_text(&self) -> String {
        let rows: [(&str, &str, &str, &AtomicU64); 9] = [
            ("requests_total", "counter", "Requests that were answered.", &self.requests),
            ("requests_refused_total", "counter", "Requests that were refused.", &self.refused),
            ("requests_failed_total", "counter", "Requests that failed.", &self.failed),
            ("envelopes_received_total", "counter", "Envelopes that came.", &self.envelopes_in),
            ("envelopes_sent_total", "counter", "Envelopes that were fetched.", &self.envelopes_out),
            ("received_bytes_total", "counter", "Bytes of envelopes and contents that came.", &self.bytes_in),
            ("sent_bytes_total", "counter", "Bytes of envelopes and contents that were fetched.", &self.bytes_out),
            ("waiting_devices", "gauge", "Devices that wait for what is new.", &self.waiting),
            ("database_errors_total", "counter", "Questions that the database did not answer.", &self.database_errors),
        ];
        let mut text = String::new();
        for (name, kind, help, value) in rows {
            let value = value.load(Ordering::Relaxed);
            let _ = write!(
                text,
                "# HELP yadori_relay_{name} {help}\n# TYPE yadori_relay_{name} {kind}\nyadori_relay_{name} {value}\n"
            );
        }
        text
    }
}
