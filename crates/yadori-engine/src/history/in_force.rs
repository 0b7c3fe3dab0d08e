//! The rules in force, for all who must look at them.

use super::History;
use parking_lot::RwLock;
use std::sync::Arc;
use yadori_core::rules::Checked;

/// The rules in force, for all who must look at them.
#[derive(Default)]
pub struct InForce(RwLock<Arc<Checked>>);

impl InForce {
    /// The rules, as they are now.
    pub fn get(&self) -> Arc<Checked> {
        self.0.read().clone()
    }

    /// Puts other rules in force.
    pub(crate) fn set(&self, rules: Checked) {
        *self.0.write() = Arc::new(rules);
    }
}

impl History {
    /// The rules in force, checked.
    pub(crate) fn checked_rules(&self) -> Arc<Checked> {
        self.rules.get()
    }
}
