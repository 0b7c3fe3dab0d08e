//! The rules.

use super::figures::refusal_reason;
use super::{Contract, kind_of};
use std::sync::Arc;
use yadori_api as api;
use yadori_core::feedback::Feedback;
use yadori_core::retention::{Limits, Scope};
use yadori_core::rules::{Checked, Rules};
use yadori_core::sensitive::Sensitive;
use yadori_core::{Kind, amounts};
use yadori_engine::rule_book::{ChangeRulesError, SweepPreview, Verdict};

impl Contract for Arc<Checked> {
    type As = api::Rules;

    fn contract(self, _: &Checked) -> api::Rules {
        shown(self.rules())
    }
}

impl Contract for SweepPreview {
    type As = api::SweepPreview;

    fn contract(self, rules: &Checked) -> api::SweepPreview {
        let retention = &self.rules.rules().retention;
        let going = |(clip, rule): (yadori_engine::history::listing::Listed, yadori_core::retention::Rule)| {
            api::Going { clip: clip.contract(rules), rule: rule.in_words(retention) }
        };
        api::SweepPreview {
            count: self.clips,
            bytes: self.bytes,
            staying: self.staying,
            kept: self.kept,
            drastic: self.drastic,
            first: self.first.into_iter().map(going).collect(),
            sentences: self.rules.rules().retention_sentences(),
        }
    }
}

impl Contract for Verdict {
    type As = api::RulesVerdict;

    fn contract(self, rules: &Checked) -> api::RulesVerdict {
        let paused = self.paused;
        match self.judged {
            Ok(draft) => {
                let certain = draft.sensitive.is_some_and(|secret| secret.certain);
                let stays = rules.rules().retention.sensitive_millis.filter(|_| certain);
                let what = match (draft.sensitive.map(Sensitive::label), stays.map(amounts::span_in_words)) {
                    (Some(secret), Some(stays)) => {
                        format!(
                            "it would be captured, hidden since it looks like a {secret}, and forgotten after {stays}"
                        )
                    }
                    (Some(secret), None) => format!("it would be captured, and hidden since it looks like a {secret}"),
                    (None, _) => format!("it would be captured as {}", kind_in_words(draft.kind)),
                };
                api::RulesVerdict {
                    captured: true,
                    reason: if paused { format!("{what}, were capture not paused at the moment") } else { what },
                    refused: None,
                    forgotten_after_seconds: stays.map(|millis| millis / 1000),
                    paused,
                    kind: Some(super::kind(draft.kind)),
                    sensitive: draft.sensitive.map(super::secret),
                }
            }
            Err(refusal) => api::RulesVerdict {
                captured: false,
                reason: format!("it would not be captured: {refusal}"),
                refused: Some(refusal_reason(refusal.kind())),
                forgotten_after_seconds: None,
                paused,
                kind: None,
                sensitive: None,
            },
        }
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

fn feedback_shown(feedback: Feedback) -> api::Feedback {
    match feedback {
        Feedback::Notification => api::Feedback::Notification,
        Feedback::Sound => api::Feedback::Sound,
        Feedback::Flash => api::Feedback::Flash,
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

pub fn shown(rules: &Rules) -> api::Rules {
    let scope = |(scope, limits): &(Scope, Limits)| {
        let limits = limits_shown(limits);
        match scope {
            Scope::Kind(kind) => api::ScopeLimits { kind: Some(super::kind(*kind)), application: None, limits },
            Scope::Application(name) => api::ScopeLimits { kind: None, application: Some(name.clone()), limits },
        }
    };
    api::Rules {
        history: rules.history,
        primary: rules.primary,
        kinds: rules.kinds.iter().map(|kind| super::kind(*kind)).collect(),
        largest: rules.largest,
        ignored_applications: rules.ignored_applications.clone(),
        ignored_patterns: rules.ignored_patterns.clone(),
        repeat_millis: rules.repeat_millis,
        forget_at_log_out: rules.forget_at_log_out,
        recall_to_top: rules.recall_to_top,
        feedback: rules.feedback.iter().map(|feedback| feedback_shown(*feedback)).collect(),
        limits: limits_shown(&rules.retention.all),
        scopes: rules.retention.scopes.iter().map(scope).collect(),
        sensitive_seconds: rules.retention.sensitive_millis.unwrap_or(0) / 1000,
        capture_sentences: rules.capture_sentences(),
        retention_sentences: rules.retention_sentences(),
    }
}

/// Makes a change that a client wants.
pub fn change(rules: &mut Rules, change: &api::RulesChange) -> Result<(), ChangeRulesError> {
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
        let wanted: Vec<Kind> = kinds.iter().map(|kind| kind_of(*kind)).collect();
        rules.kinds = Kind::ALL.into_iter().filter(|kind| wanted.contains(kind)).collect();
    }
    if let Some(feedback) = &change.feedback {
        rules.feedback = Feedback::ALL.into_iter().filter(|way| feedback.contains(&feedback_shown(*way))).collect();
    }
    if let Some(limits) = &change.limits {
        rules.retention.all = limits_of(limits);
    }
    if let Some(scopes) = &change.scopes {
        let scope = |given: &api::ScopeLimits| match (given.kind, &given.application) {
            (Some(kind), None) => Ok((Scope::Kind(kind_of(kind)), limits_of(&given.limits))),
            (None, Some(name)) => Ok((Scope::Application(name.trim().to_owned()), limits_of(&given.limits))),
            _ => Err(ChangeRulesError::Scope),
        };
        let scopes: Vec<(Scope, Limits)> = scopes.iter().map(scope).collect::<Result<_, _>>()?;
        rules.retention.scopes = scopes.into_iter().filter(|(_, limits)| limits.values().next().is_some()).collect();
    }
    if let Some(seconds) = change.sensitive_seconds {
        rules.retention.sensitive_millis = (seconds > 0).then(|| seconds.saturating_mul(1000));
    }
    Ok(())
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
        let mut again = Rules::default();
        super::change(&mut again, &change).unwrap();
        assert_eq!(again, rules);
        let told = vec![api::Feedback::Flash, api::Feedback::Sound, api::Feedback::Sound];
        super::change(&mut again, &api::RulesChange { feedback: Some(told), ..api::RulesChange::default() }).unwrap();
        assert_eq!(shown(&again).feedback, [api::Feedback::Sound, api::Feedback::Flash]);
        let off = api::RulesChange { limits: Some(api::Limits::default()), scopes: Some(Vec::new()), ..change };
        let mut without = rules.clone();
        super::change(&mut without, &off).unwrap();
        assert_eq!((without.retention.all, without.retention.scopes.len()), (Limits::default(), 0));
    }
}
