//! The rules of capture: shown, and changed.

use crate::service::Service;
use serde::{Deserialize, Serialize};
use yadori_api as api;
use yadori_store::StoreError;

const SETTING: &str = "rules";

/// The rules as they are on record. What a record does not say is as by default.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
struct Stored {
    primary: bool,
}

impl Service {
    /// The rules in force.
    pub fn rules(&self) -> api::Rules {
        api::Rules { primary: self.reading.wants_primary() }
    }

    /// Changes rules; durable, and in force, on return.
    pub async fn change_rules(&self, change: api::RulesChange) -> Result<api::Rules, StoreError> {
        let rules = Stored { primary: change.primary.unwrap_or(self.rules().primary) };
        self.store.set_setting(SETTING, Some(&serde_json::to_string(&rules).unwrap_or_default())).await?;
        self.enforce(rules);
        Ok(self.rules())
    }

    /// Puts the rules on record into force.
    pub async fn restore_rules(&self) -> Result<(), StoreError> {
        let stored = self.store.setting(SETTING).await?;
        self.enforce(stored.and_then(|value| serde_json::from_str(&value).ok()).unwrap_or_default());
        Ok(())
    }

    fn enforce(&self, rules: Stored) {
        self.reading.take_primary(rules.primary);
        self.ledger.status_changed();
    }
}
