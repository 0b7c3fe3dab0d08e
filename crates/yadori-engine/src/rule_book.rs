//! The rules of capture and retention: shown, changed, tried out.

use crate::capture::Capture;
use crate::history::History;
use crate::history::index::Part;
use crate::history::listing::Listed;
use crate::retention::Retention;
use std::sync::Arc;
use thiserror::Error;
use yadori_core::capture::{self, Copy, Draft, Maker, Refusal};
use yadori_core::retention::{self, Rule};
use yadori_core::rules::{Checked, Rules, RulesError};
use yadori_core::{Format, Source};
use yadori_desktop::Reading;
use yadori_store::StoreError;

const SETTING: &str = "rules";

/// Clips that a preview lists.
const SHOWN: usize = 50;

/// Why rules were not changed.
#[derive(Debug, Error)]
pub enum ChangeRulesError {
    /// They make no sense.
    #[error(transparent)]
    Rules(#[from] RulesError),
    /// Limits for neither a kind nor an application, or for both.
    #[error("limits for some clips are for a kind or for an application")]
    Scope,
    /// More than half of the history would go.
    #[error("{} of {} clips that are not kept would go", .0, .1)]
    Drastic(usize, usize),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A change of the rules, made to a copy of those in force.
pub type Change<'a> = &'a (dyn Fn(&mut Rules) -> Result<(), ChangeRulesError> + Sync);

/// What changed rules would let go.
#[derive(Clone, Debug)]
pub struct SweepPreview {
    /// How many clips.
    pub clips: u64,
    /// How many bytes they have.
    pub bytes: u64,
    /// How many that are not kept stay.
    pub staying: u64,
    /// How many are kept.
    pub kept: u64,
    /// Whether that is more than half of those that are not kept.
    pub drastic: bool,
    /// The first of them, each with the rule that lets it go.
    pub first: Vec<(Listed, Rule)>,
    /// The rules as they would be.
    pub rules: Checked,
}

/// What the rules say of a copy.
#[derive(Debug)]
pub struct Verdict {
    /// The clip that it would make, or why it would make none.
    pub judged: Result<Draft, Refusal>,
    /// Whether capture is paused at the moment.
    pub paused: bool,
}

/// The rules, and changing them.
pub struct RuleBook {
    history: Arc<History>,
    capture: Arc<Capture>,
    retention: Arc<Retention>,
    reading: Arc<Reading>,
    /// The rules are changed one after the other.
    changing: tokio::sync::Mutex<()>,
}

impl RuleBook {
    /// The rules of this history.
    pub fn new(history: Arc<History>, capture: Arc<Capture>, retention: Arc<Retention>, reading: Arc<Reading>) -> Self {
        Self { history, capture, retention, reading, changing: tokio::sync::Mutex::default() }
    }
}

impl RuleBook {
    /// The rules in force.
    pub fn rules(&self) -> Arc<Checked> {
        self.history.checked_rules()
    }

    /// Changes rules; durable, and in force, on return. Unless it is `confirmed`, more than half of the history must not go.
    pub async fn change_rules(&self, change: Change<'_>, confirmed: bool) -> Result<Arc<Checked>, ChangeRulesError> {
        let _alone = self.changing.lock().await;
        let checked = self.changed(change)?;
        if !confirmed && checked.rules().retention != self.history.checked_rules().rules().retention {
            let plan = self.retention.plan_sweep(checked.rules()).await;
            if retention::is_drastic(plan.going.len(), plan.considered) {
                return Err(ChangeRulesError::Drastic(plan.going.len(), plan.considered));
            }
        }
        self.put_rules_on_record(checked).await?;
        if confirmed {
            self.retention.confirm_sweeps();
        }
        self.history.forgetting.notify_one();
        Ok(self.rules())
    }

    /// Puts the rules back to what they are by default.
    pub async fn reset_rules(&self, confirmed: bool) -> Result<Arc<Checked>, ChangeRulesError> {
        let reset = |rules: &mut Rules| {
            *rules = Rules::default();
            Ok(())
        };
        self.change_rules(&reset, confirmed).await
    }

    fn changed(&self, change: Change<'_>) -> Result<Checked, ChangeRulesError> {
        let mut rules = self.history.checked_rules().rules().clone();
        change(&mut rules)?;
        Ok(Checked::new(rules)?)
    }

    async fn put_rules_on_record(&self, rules: Checked) -> Result<(), StoreError> {
        let text = serde_json::to_string(rules.rules()).unwrap_or_default();
        self.history.store.set_setting(SETTING, Some(&text)).await?;
        self.enforce(rules);
        Ok(())
    }

    /// Puts the rules on record into force.
    pub async fn restore_rules(&self) -> Result<(), StoreError> {
        let Some(stored) = self.history.store.setting(SETTING).await? else { return Ok(()) };
        let rules = serde_json::from_str(&stored).map_err(|error| error.to_string());
        match rules.and_then(|rules| Checked::new(rules).map_err(|error| error.to_string())) {
            Ok(rules) => self.enforce(rules),
            Err(error) => tracing::error!(error, "the rules on record cannot be used; those by default are in force"),
        }
        Ok(())
    }

    fn enforce(&self, rules: Checked) {
        self.reading.take_primary(rules.rules().primary);
        self.reading.limit_size(rules.rules().largest);
        self.history.rules.set(rules);
        self.history.ledger.part_changed(Part::Rules);
        self.history.ledger.status_changed();
    }

    /// What changed rules would let go, without changing them.
    pub async fn preview_rules(&self, change: Change<'_>) -> Result<SweepPreview, ChangeRulesError> {
        let checked = self.changed(change)?;
        let plan = self.retention.plan_sweep(checked.rules()).await;
        let mut first = Vec::new();
        for going in plan.going.iter().take(SHOWN) {
            if let Some(record) = self.history.store.clip(going.id).await? {
                let position = self.history.ledger.read().await.position(going.id);
                first.push((Listed { record: record.into(), position }, going.rule));
            }
        }
        Ok(SweepPreview {
            clips: plan.going.len() as u64,
            bytes: plan.going.iter().map(|going| going.size).sum(),
            staying: (plan.considered - plan.going.len()) as u64,
            kept: plan.kept as u64,
            drastic: retention::is_drastic(plan.going.len(), plan.considered),
            first,
            rules: checked,
        })
    }

    /// What would happen to a copy of this text from this application.
    pub fn test_rules(&self, text: String, application: Option<String>) -> Verdict {
        let rules = self.history.checked_rules();
        let source = Source { application, ..Source::default() };
        let copy = Copy { formats: vec![Format::plain(text)], source };
        let judged = capture::judge(copy, None, &rules, Maker::Program);
        Verdict { judged, paused: self.capture.journal().pause.is_some() }
    }
}
