//! The rules of capture and retention: shown, changed, tried out.

use crate::capture::Capture;
use crate::history::History;
use crate::history::listing;
use crate::retention::Retention;
use std::sync::Arc;
use thiserror::Error;
use yadori_api as api;
use yadori_core::capture::{self, Copy, Maker};
use yadori_core::retention::{self, Limits, Scope};
use yadori_core::rules::{Checked, Rules, RulesError};
use yadori_core::{Format, Kind, Source, amounts};
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
    /// Neither a kind nor an application, or both.
    #[error("limits for some clips are for a kind or for an application")]
    Scope,
    /// More than half of the history would go.
    #[error("{} of {} clips that are not kept would go", .0, .1)]
    Drastic(usize, usize),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
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
    pub fn rules(&self) -> api::Rules {
        shown(self.history.checked_rules().rules())
    }

    /// Changes rules; durable, and in force, on return.
    pub async fn change_rules(&self, change: &api::RulesChange) -> Result<api::Rules, ChangeRulesError> {
        let _alone = self.changing.lock().await;
        let rules = changed(self.history.checked_rules().rules(), change)?;
        let checked = Checked::new(rules)?;
        if !change.confirmed && checked.rules().retention != self.history.checked_rules().rules().retention {
            let plan = self.retention.plan_sweep(checked.rules()).await;
            if retention::is_drastic(plan.going.len(), plan.considered) {
                return Err(ChangeRulesError::Drastic(plan.going.len(), plan.considered));
            }
        }
        self.put_rules_on_record(checked).await?;
        if change.confirmed {
            self.retention.confirm_sweeps();
        }
        self.history.forgetting.notify_one();
        Ok(self.rules())
    }

    /// Puts the rules back to what they are by default.
    pub async fn reset_rules(&self, confirmed: bool) -> Result<api::Rules, ChangeRulesError> {
        let default = shown(&Rules::default());
        let change = api::RulesChange {
            history: Some(default.history),
            primary: Some(default.primary),
            kinds: Some(default.kinds),
            largest: Some(default.largest),
            ignored_applications: Some(default.ignored_applications),
            ignored_patterns: Some(default.ignored_patterns),
            repeat_millis: Some(default.repeat_millis),
            forget_at_log_out: Some(default.forget_at_log_out),
            recall_to_top: Some(default.recall_to_top),
            limits: Some(default.limits),
            scopes: Some(default.scopes),
            sensitive_seconds: Some(default.sensitive_seconds),
            confirmed,
        };
        self.change_rules(&change).await
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
        self.history.ledger.status_changed();
    }

    /// What changed rules would let go, without changing them.
    pub async fn preview_rules(&self, change: &api::RulesChange) -> Result<api::SweepPreview, ChangeRulesError> {
        let checked = Checked::new(changed(self.history.checked_rules().rules(), change)?)?;
        let plan = self.retention.plan_sweep(checked.rules()).await;
        let mut first = Vec::new();
        for going in plan.going.iter().take(SHOWN) {
            if let Some(record) = self.history.store.clip(going.id).await? {
                let position = self.history.ledger.read().await.position(going.id);
                first.push(api::Going {
                    clip: self.history.listed(&record, position),
                    rule: going.rule.in_words(&checked.rules().retention),
                });
            }
        }
        Ok(api::SweepPreview {
            clips: plan.going.len() as u64,
            bytes: plan.going.iter().map(|going| going.size).sum(),
            staying: (plan.considered - plan.going.len()) as u64,
            kept: plan.kept as u64,
            drastic: retention::is_drastic(plan.going.len(), plan.considered),
            first,
            sentences: checked.rules().retention_sentences(),
        })
    }

    /// What would happen to a copy of this text.
    pub fn test_rules(&self, sample: api::RulesTest) -> api::RulesVerdict {
        let rules = self.history.checked_rules();
        let source = Source { application: sample.application, ..Source::default() };
        let copy = Copy { formats: vec![Format::plain(sample.text)], source };
        let verdict = capture::judge(copy, &rules, Maker::Program);
        let paused = self.capture.journal().pause.is_some();
        let (captured, reason, kind, sensitive) = match verdict {
            Ok(draft) => {
                let secret = draft.sensitive.map(|secret| secret.label());
                let certain = draft.sensitive.is_some_and(|secret| secret.certain);
                let stays = rules.rules().retention.sensitive_millis.filter(|_| certain).map(amounts::span_in_words);
                let what = match (secret, stays) {
                    (Some(secret), Some(stays)) => {
                        format!(
                            "it would be captured, hidden since it looks like a {secret}, and forgotten after {stays}"
                        )
                    }
                    (Some(secret), None) => format!("it would be captured, and hidden since it looks like a {secret}"),
                    (None, _) => format!("it would be captured as {}", kind_in_words(draft.kind)),
                };
                let what = if paused { format!("{what}, were capture not paused at the moment") } else { what };
                (true, what, Some(draft.kind), secret.map(|secret| secret.replace(' ', "-")))
            }
            Err(refusal) => (false, format!("it would not be captured: {refusal}"), None, None),
        };
        api::RulesVerdict { captured, reason, kind: kind.map(listing::kind), sensitive }
    }
}

fn kind_in_words(kind: Kind) -> &'static str {
    match kind {
        Kind::Text => "text",
        Kind::Link => "a link",
        Kind::Image => "an image",
        Kind::Files => "a list of files",
    }
}

fn limits_shown(limits: &Limits) -> api::Limits {
    api::Limits {
        count: limits.count.unwrap_or(0),
        age_seconds: limits.age_millis.unwrap_or(0) / 1000,
        bytes: limits.bytes.unwrap_or(0),
    }
}

fn limits_of(limits: &api::Limits) -> Limits {
    let some = |value: u64| (value > 0).then_some(value);
    Limits {
        count: some(limits.count),
        age_millis: some(limits.age_seconds.saturating_mul(1000)),
        bytes: some(limits.bytes),
    }
}

fn shown(rules: &Rules) -> api::Rules {
    let scope = |(scope, limits): &(Scope, Limits)| {
        let limits = limits_shown(limits);
        match scope {
            Scope::Kind(kind) => api::ScopeLimits { kind: Some(listing::kind(*kind)), application: None, limits },
            Scope::Application(name) => api::ScopeLimits { kind: None, application: Some(name.clone()), limits },
        }
    };
    api::Rules {
        history: rules.history,
        primary: rules.primary,
        kinds: rules.kinds.iter().map(|kind| listing::kind(*kind)).collect(),
        largest: rules.largest,
        ignored_applications: rules.ignored_applications.clone(),
        ignored_patterns: rules.ignored_patterns.clone(),
        repeat_millis: rules.repeat_millis,
        forget_at_log_out: rules.forget_at_log_out,
        recall_to_top: rules.recall_to_top,
        limits: limits_shown(&rules.retention.all),
        scopes: rules.retention.scopes.iter().map(scope).collect(),
        sensitive_seconds: rules.retention.sensitive_millis.unwrap_or(0) / 1000,
        capture_sentences: rules.capture_sentences(),
        retention_sentences: rules.retention_sentences(),
    }
}

fn changed(rules: &Rules, change: &api::RulesChange) -> Result<Rules, ChangeRulesError> {
    let mut rules = rules.clone();
    macro_rules! take {
        ($($field:ident),*) => { $(if let Some(value) = change.$field.clone() { rules.$field = value; })* };
    }
    take!(
        history,
        primary,
        largest,
        ignored_applications,
        ignored_patterns,
        repeat_millis,
        forget_at_log_out,
        recall_to_top
    );
    if let Some(kinds) = &change.kinds {
        let wanted: Vec<Kind> = kinds.iter().map(|kind| listing::kind_of(*kind)).collect();
        rules.kinds = Kind::ALL.into_iter().filter(|kind| wanted.contains(kind)).collect();
    }
    if let Some(limits) = &change.limits {
        rules.retention.all = limits_of(limits);
    }
    if let Some(scopes) = &change.scopes {
        let scope = |given: &api::ScopeLimits| match (given.kind, &given.application) {
            (Some(kind), None) => Ok((Scope::Kind(listing::kind_of(kind)), limits_of(&given.limits))),
            (None, Some(name)) => Ok((Scope::Application(name.trim().to_owned()), limits_of(&given.limits))),
            _ => Err(ChangeRulesError::Scope),
        };
        let scopes: Vec<(Scope, Limits)> = scopes.iter().map(scope).collect::<Result<_, _>>()?;
        rules.retention.scopes = scopes.into_iter().filter(|(_, limits)| limits.values().next().is_some()).collect();
    }
    if let Some(seconds) = change.sensitive_seconds {
        rules.retention.sensitive_millis = (seconds > 0).then(|| seconds.saturating_mul(1000));
    }
    Ok(rules)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_shown_can_be_given_back() {
        let mut rules = Rules::default();
        rules.retention.scopes = vec![(Scope::Kind(Kind::Image), Limits { count: Some(5), ..Limits::default() })];
        let seen = shown(&rules);
        let change =
            api::RulesChange { limits: Some(seen.limits), scopes: Some(seen.scopes), ..api::RulesChange::default() };
        assert_eq!(changed(&rules, &change).unwrap(), rules);
        let off = api::RulesChange { limits: Some(api::Limits::default()), scopes: Some(Vec::new()), ..change };
        let without = changed(&rules, &off).unwrap();
        assert_eq!((without.retention.all, without.retention.scopes.len()), (Limits::default(), 0));
    }
}
