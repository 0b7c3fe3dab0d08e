//! What is captured and how long it stays, as data and as sentences.

use crate::amounts::{bytes_in_words, counted, span_in_words};
use crate::feedback::Feedback;
use crate::kind::Kind;
use crate::retention::{Limits, RetentionRules, Scope};
use crate::search::fold::fold;
use regex::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// Most bytes of one copy by default: 32 MiB.
pub const DEFAULT_SIZE_LIMIT: u64 = 32 * 1024 * 1024;

/// All rules of one device. What a record does not say is as by default.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Rules {
    /// Whether copies are captured at all.
    pub history: bool,
    /// Whether text that is merely selected (the primary selection) is captured too.
    pub primary: bool,
    /// The kinds that are captured.
    pub kinds: Vec<Kind>,
    /// Most bytes of one copy, all formats together.
    pub largest: u64,
    /// Applications of which nothing is captured. Letter case and accents do not matter.
    pub ignored_applications: Vec<String>,
    /// Regular expressions; a copy whose text meets one is not captured.
    pub ignored_patterns: Vec<String>,
    /// The same thing copied again within so many milliseconds counts once. 0: every time counts.
    pub repeat_millis: u64,
    /// Whether everything that is not kept is forgotten when the person logs out.
    pub forget_at_log_out: bool,
    /// Whether a recall moves the clip to the top, as a copy does.
    pub recall_to_top: bool,
    /// How a person is told of each copy that was kept; not at all if there is none.
    pub feedback: Vec<Feedback>,
    /// How long clips stay.
    pub retention: RetentionRules,
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            history: true,
            primary: false,
            kinds: Kind::ALL.to_vec(),
            largest: DEFAULT_SIZE_LIMIT,
            ignored_applications: Vec::new(),
            ignored_patterns: Vec::new(),
            repeat_millis: 0,
            forget_at_log_out: false,
            recall_to_top: false,
            feedback: Vec::new(),
            retention: RetentionRules::default(),
        }
    }
}

/// Most names and patterns in one list.
pub const MOST_IN_A_LIST: usize = 100;
/// Longest name of an application, and longest pattern, in characters.
pub const LONGEST_IN_A_LIST: usize = 500;
/// Smallest and largest limit for one copy.
const LARGEST_RANGE: std::ops::RangeInclusive<u64> = 1024..=1 << 30;
/// Memory that one compiled pattern may take.
const PATTERN_BYTES: usize = 1 << 20;

/// Why rules make no sense.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum RulesError {
    /// No kind at all.
    #[error("no kind would be captured; to capture nothing, turn the history off")]
    NoKind,
    /// Too small or too large.
    #[error("the limit for one copy lies between 1 KiB and 1 GiB")]
    Largest,
    /// A pattern that cannot be understood, or would cost too much.
    #[error("“{0}” is not a regular expression that can be used: {1}")]
    Pattern(String, String),
    /// Empty, or too long.
    #[error("the names of applications and the patterns have 1 to {LONGEST_IN_A_LIST} characters")]
    Entry,
    /// Too many.
    #[error("there is room for {MOST_IN_A_LIST} entries in a list of rules")]
    List,
    /// The same scope twice.
    #[error("there are two sets of limits for {0}")]
    Twice(String),
    /// A limit that is no limit.
    #[error("a limit is at least 1; what is not to be limited is off")]
    Zero,
    /// Too long.
    #[error("repeats are ignored for at most a minute")]
    Repeats,
}

/// Rules that have been checked, ready to be applied.
#[derive(Clone, Debug, Default)]
pub struct Checked {
    rules: Rules,
    applications: Vec<String>,
    patterns: Vec<Regex>,
}

impl Checked {
    /// Checks rules.
    ///
    /// # Errors
    /// The first thing in them that makes no sense.
    pub fn new(rules: Rules) -> Result<Self, RulesError> {
        if rules.kinds.is_empty() {
            return Err(RulesError::NoKind);
        }
        if !LARGEST_RANGE.contains(&rules.largest) {
            return Err(RulesError::Largest);
        }
        if rules.repeat_millis > 60_000 {
            return Err(RulesError::Repeats);
        }
        for list in [&rules.ignored_applications, &rules.ignored_patterns] {
            if list.len() > MOST_IN_A_LIST {
                return Err(RulesError::List);
            }
            if list.iter().any(|entry| entry.trim().is_empty() || entry.chars().count() > LONGEST_IN_A_LIST) {
                return Err(RulesError::Entry);
            }
        }
        let retention = &rules.retention;
        let all = retention.scopes.iter().map(|(_, limits)| limits).chain([&retention.all]);
        if all.flat_map(Limits::values).any(|value| value == 0) || retention.sensitive_millis == Some(0) {
            return Err(RulesError::Zero);
        }
        if retention.scopes.len() > MOST_IN_A_LIST {
            return Err(RulesError::List);
        }
        for (place, (scope, _)) in retention.scopes.iter().enumerate() {
            if matches!(scope, Scope::Application(name) if name.trim().is_empty() || name.chars().count() > LONGEST_IN_A_LIST)
            {
                return Err(RulesError::Entry);
            }
            if retention.scopes[..place].iter().any(|(other, _)| other.folded() == scope.folded()) {
                return Err(RulesError::Twice(scope.in_words()));
            }
        }
        let patterns = rules.ignored_patterns.iter().map(|pattern| compiled(pattern)).collect::<Result<_, _>>()?;
        let applications = rules.ignored_applications.iter().map(|name| fold(name.trim())).collect();
        Ok(Self { rules, applications, patterns })
    }

    /// The rules.
    pub fn rules(&self) -> &Rules {
        &self.rules
    }

    /// The ignored application that this one is, if any.
    pub fn ignored_application(&self, application: Option<&str>) -> Option<&str> {
        let folded = fold(application?.trim());
        let place = self.applications.iter().position(|ignored| *ignored == folded)?;
        Some(&self.rules.ignored_applications[place])
    }

    /// The pattern that `text` meets, if any. Linear in the length of the text.
    pub fn ignored_pattern(&self, text: &str) -> Option<&str> {
        let place = self.patterns.iter().position(|pattern| pattern.is_match(text))?;
        Some(&self.rules.ignored_patterns[place])
    }
}

fn compiled(pattern: &str) -> Result<Regex, RulesError> {
    let built = RegexBuilder::new(pattern).size_limit(PATTERN_BYTES).build();
    built.map_err(|error| {
        let said = error.to_string();
        let reason = said.lines().last().unwrap_or_default().trim_start_matches("error: ").to_owned();
        RulesError::Pattern(pattern.to_owned(), reason)
    })
}

impl Rules {
    /// The rules of capture as sentences.
    pub fn capture_sentences(&self) -> Vec<String> {
        let mut said = Vec::new();
        said.push(match self.history {
            true => "History is on; copies are kept.".to_owned(),
            false => "History is off; copies are not kept.".to_owned(),
        });
        let kinds: Vec<&str> = self.kinds.iter().map(|kind| kind.plural()).collect();
        let left_out: Vec<&str> =
            Kind::ALL.into_iter().filter(|kind| !self.kinds.contains(kind)).map(Kind::plural).collect();
        let but = if left_out.is_empty() { String::new() } else { format!(", not {}", listed(&left_out)) };
        said.push(format!("Copied {} are kept{but}, each up to {}.", listed(&kinds), bytes_in_words(self.largest)));
        said.push(if self.primary {
            "Text that you select is kept too, once it has stayed selected for a moment.".to_owned()
        } else {
            "Selecting text does not save it; copying does.".to_owned()
        });
        if !self.ignored_applications.is_empty() {
            let names: Vec<&str> = self.ignored_applications.iter().map(String::as_str).collect();
            said.push(format!("Copies made in {} are not kept.", listed(&names)));
        }
        for pattern in &self.ignored_patterns {
            said.push(format!("Text that matches this pattern is not kept: {pattern}"));
        }
        if self.repeat_millis > 0 {
            let span = span_in_words(self.repeat_millis);
            said.push(format!("The same copy made again within {span} counts once."));
        }
        said.push("What a program marks as secret is never kept.".to_owned());
        if self.recall_to_top {
            said.push("Recalling a clip moves it to the top of the history.".to_owned());
        }
        if !self.feedback.is_empty() {
            let ways: Vec<&str> = self.feedback.iter().map(|feedback| feedback.in_words()).collect();
            said.push(format!("You are told of each copy by {}.", listed(&ways)));
        }
        if self.forget_at_log_out {
            said.push(
                "When the service stops (at log-out), everything not pinned or in a drawer is deleted for good."
                    .to_owned(),
            );
        }
        said
    }

    /// The rules of retention as sentences.
    pub fn retention_sentences(&self) -> Vec<String> {
        let retention = &self.retention;
        let mut said = Vec::new();
        let all = limits_in_words(&retention.all);
        said.push(if all.is_empty() {
            "The history keeps clips without limit.".to_owned()
        } else {
            format!("The history keeps {}.", listed(&all.iter().map(String::as_str).collect::<Vec<_>>()))
        });
        for (scope, limits) in &retention.scopes {
            let words = limits_in_words(limits);
            if !words.is_empty() {
                let words: Vec<&str> = words.iter().map(String::as_str).collect();
                said.push(format!("Of {}, it keeps {}.", scope.in_words(), listed(&words)));
            }
        }
        said.push(match retention.sensitive_millis {
            Some(millis) => format!(
                "What surely is a secret is deleted for good after {}; what only may be one is masked, and stays.",
                span_in_words(millis)
            ),
            None => "Secrets are masked, and stay like everything else.".to_owned(),
        });
        said.push("Pinned clips and those in drawers stay. Deleted clips wait in the bin for 24 hours.".to_owned());
        said
    }
}

fn limits_in_words(limits: &Limits) -> Vec<String> {
    let count = limits.count.map(|count| format!("at most {}", counted(count, "clip", "clips")));
    let age = limits.age_millis.map(|millis| format!("what was used within {}", span_in_words(millis)));
    let bytes = limits.bytes.map(|bytes| format!("at most {} together", bytes_in_words(bytes)));
    [count, age, bytes].into_iter().flatten().collect()
}

fn listed(words: &[&str]) -> String {
    match words {
        [] => String::new(),
        [one] => (*one).to_owned(),
        [first @ .., last] => format!("{} and {last}", first.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_rules_read_as_sentences() {
        let mut rules = Rules::default();
        assert_eq!(
            rules.retention_sentences()[0],
            "The history keeps at most 2,000 clips, what was used within 90 days and at most 1 GiB together."
        );
        assert_eq!(
            rules.capture_sentences()[..2],
            [
                "History is on; copies are kept.",
                "Copied texts, links, images and lists of files are kept, each up to 32 MiB."
            ]
        );
        rules.kinds = vec![Kind::Text];
        rules.retention.all = Limits::default();
        rules.retention.scopes = vec![(Scope::Kind(Kind::Image), Limits { count: Some(1), ..Limits::default() })];
        assert_eq!(
            rules.retention_sentences()[..2],
            ["The history keeps clips without limit.", "Of images, it keeps at most 1 clip."]
        );
        rules.feedback = vec![Feedback::Sound, Feedback::Flash];
        assert_eq!(
            rules.capture_sentences().last().unwrap(),
            "You are told of each copy by a short sound and a flash of the icon."
        );
        assert!(rules.capture_sentences()[1].contains("not links, images and lists of files"));
    }

    #[test]
    fn nonsense_is_refused() {
        let with = |change: fn(&mut Rules)| {
            let mut rules = Rules::default();
            change(&mut rules);
            Checked::new(rules).unwrap_err()
        };
        assert_eq!(with(|rules| rules.kinds.clear()), RulesError::NoKind);
        assert_eq!(with(|rules| rules.largest = 3), RulesError::Largest);
        assert_eq!(with(|rules| rules.retention.all.count = Some(0)), RulesError::Zero);
        assert_eq!(with(|rules| rules.ignored_applications = vec![" ".into()]), RulesError::Entry);
        assert!(matches!(with(|rules| rules.ignored_patterns = vec!["(".into()]), RulesError::Pattern(..)));
        assert!(matches!(
            with(|rules| rules.ignored_patterns = vec![r"(\w{1000}){1000}".into()]),
            RulesError::Pattern(..)
        ));
        let twice = with(|rules| {
            let scope = |name: &str| (Scope::Application(name.into()), Limits::default());
            rules.retention.scopes = vec![scope("Écran"), scope("ecran")];
        });
        assert_eq!(twice, RulesError::Twice("what was copied in ecran".into()));
    }

    #[test]
    fn applications_and_patterns_are_recognised() {
        let rules = Rules {
            ignored_applications: vec!["Safe Box".into()],
            ignored_patterns: vec!["(?i)^draft".into()],
            ..Rules::default()
        };
        let checked = Checked::new(rules).unwrap();
        assert_eq!(checked.ignored_application(Some("safe box")), Some("Safe Box"));
        assert_eq!(checked.ignored_application(Some("Safe")), None);
        assert_eq!(checked.ignored_application(None), None);
        assert_eq!(checked.ignored_pattern("Draft 3"), Some("(?i)^draft"));
        assert_eq!(checked.ignored_pattern("final"), None);
    }
}
