//! How long clips stay: which of them go, when, and by which rule.

use crate::amounts::{DAY, MINUTE};
use crate::clock::{MillisSinceEpoch, Stamp};
use crate::kind::Kind;
use crate::search::fold::fold;
use serde::{Deserialize, Serialize};

/// How long a sensitive clip stays by default: ten minutes.
pub const SENSITIVE_MILLIS: u64 = 10 * MINUTE;

/// How long a clip waits in the bin: a day.
pub const BIN_MILLIS: u64 = DAY;

/// Deleted at or before this moment, a clip's grace in the bin is over at `now`.
pub fn bin_horizon(now: MillisSinceEpoch) -> MillisSinceEpoch {
    now.minus(BIN_MILLIS)
}

/// Limits; what is `None` is not limited.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Limits {
    /// Most clips.
    pub count: Option<u64>,
    /// Longest time since a clip was copied, recalled, brought back, kept, or let go, in milliseconds.
    pub age_millis: Option<u64>,
    /// Most bytes of all clips together.
    pub bytes: Option<u64>,
}

impl Limits {
    /// The limits that are set.
    pub fn values(&self) -> impl Iterator<Item = u64> {
        [self.count, self.age_millis, self.bytes].into_iter().flatten()
    }
}

/// Clips for which limits of their own hold, besides those for all.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Scope {
    /// Those of a kind.
    Kind(Kind),
    /// Those copied in an application. Letter case and accents do not matter.
    Application(String),
}

impl Scope {
    /// The scope in a sentence, after “of”.
    pub fn in_words(&self) -> String {
        match self {
            Self::Kind(kind) => kind.plural().to_owned(),
            Self::Application(name) => format!("what was copied in {name}"),
        }
    }

    /// The scope without the differences that do not matter.
    pub fn folded(&self) -> Self {
        match self {
            Self::Kind(kind) => Self::Kind(*kind),
            Self::Application(name) => Self::Application(fold(name.trim())),
        }
    }

    fn holds(&self, clip: &Candidate) -> bool {
        match self {
            Self::Kind(kind) => clip.kind == *kind,
            Self::Application(folded) => clip.application == folded,
        }
    }
}

/// How long clips stay.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct RetentionRules {
    /// Limits for all clips.
    pub all: Limits,
    /// Limits for some of them, besides.
    pub scopes: Vec<(Scope, Limits)>,
    /// How long a clip stays that surely is a secret, in milliseconds.
    pub sensitive_millis: Option<u64>,
}

impl Default for RetentionRules {
    fn default() -> Self {
        Self {
            all: Limits { count: Some(2000), age_millis: Some(90 * DAY), bytes: Some(1 << 30) },
            scopes: Vec::new(),
            sensitive_millis: Some(SENSITIVE_MILLIS),
        }
    }
}

/// What the rules look at.
#[derive(Clone, Copy, Debug)]
pub struct Candidate<'a> {
    /// Its number in the records; breaks ties.
    pub number: u64,
    /// What its age is counted from.
    pub touched: Stamp,
    /// What it is.
    pub kind: Kind,
    /// The application it was copied in, folded; empty if unknown.
    pub application: &'a str,
    /// Bytes of all its formats.
    pub size: u64,
    /// Whether it looks like a secret.
    pub sensitive: bool,
    /// Whether it is pinned or lies in a drawer: then no rule touches it.
    pub kept: bool,
}

/// The rule by which a clip goes. The number is that of the scope, in the order of the rules; none: for all.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rule {
    /// It looks like a secret, and its time is up.
    Sensitive,
    /// It is too old.
    Age(Option<usize>),
    /// There are too many.
    Count(Option<usize>),
    /// They take too much room.
    Bytes(Option<usize>),
}

impl Rule {
    /// The rule in a few words; `rules` are those by which it was planned.
    pub fn in_words(self, rules: &RetentionRules) -> String {
        let (what, link, scope) = match self {
            Self::Sensitive => ("looks like a secret", "", None),
            Self::Age(scope) => ("too old", " for ", scope),
            Self::Count(scope) => ("too many", " of ", scope),
            Self::Bytes(scope) => ("too much room", " for ", scope),
        };
        match scope.and_then(|place| rules.scopes.get(place)) {
            Some((scope, _)) => format!("{what}{link}{}", scope.in_words()),
            None => what.to_owned(),
        }
    }
}

/// What a sweep would do.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Plan {
    /// The clips that go, as places in the list that was given, oldest first, each with its rule.
    pub going: Vec<(usize, Rule)>,
    /// When the next clip goes by its age alone.
    pub next: Option<MillisSinceEpoch>,
    /// How many clips the rules looked at: those that are not kept.
    pub considered: usize,
}

/// Decides which clips go at `now`. Takes time proportional to n log n, and memory proportional to n.
///
/// Ages come first, so that what is too old does not take another's place; then the limits of the scopes,
/// then those for all. Of what is too many or too much, the oldest go; a clip that is larger than a whole limit
/// goes alone. Clips that are kept neither go nor count.
pub fn plan(clips: &[Candidate], rules: &RetentionRules, now: MillisSinceEpoch) -> Plan {
    let scopes: Vec<(Scope, Limits)> = rules.scopes.iter().map(|(scope, limits)| (scope.folded(), *limits)).collect();
    // The keys lie side by side, so that sorting them reads no clip.
    let unkept = clips.iter().enumerate().filter(|(_, clip)| !clip.kept);
    let mut order: Vec<(Stamp, u64, usize)> = unkept.map(|(place, clip)| (clip.touched, clip.number, place)).collect();
    order.sort_unstable();
    let mut next: Option<MillisSinceEpoch> = None;
    let mut verdicts: Vec<Option<Rule>> = order
        .iter()
        .map(|(.., place)| match soonest(&clips[*place], rules, &scopes) {
            Some((at, rule)) if at <= now => Some(rule),
            Some((at, _)) => {
                next = Some(next.map_or(at, |next| next.min(at)));
                None
            }
            None => None,
        })
        .collect();
    for (place, (scope, limits)) in scopes.iter().enumerate() {
        limit(clips, &order, &mut verdicts, |clip| scope.holds(clip), limits, Some(place));
    }
    limit(clips, &order, &mut verdicts, |_| true, &rules.all, None);
    let going = order.iter().zip(&verdicts).filter_map(|((.., place), verdict)| Some((*place, (*verdict)?)));
    Plan { going: going.collect(), next, considered: order.len() }
}

/// When a clip goes by its age, and by which rule; `None` when it stays as far as age goes.
pub fn expiry(clip: &Candidate, rules: &RetentionRules) -> Option<(MillisSinceEpoch, Rule)> {
    if clip.kept {
        return None;
    }
    let scopes: Vec<(Scope, Limits)> = rules.scopes.iter().map(|(scope, limits)| (scope.folded(), *limits)).collect();
    soonest(clip, rules, &scopes)
}

fn soonest(clip: &Candidate, rules: &RetentionRules, scopes: &[(Scope, Limits)]) -> Option<(MillisSinceEpoch, Rule)> {
    let at = |millis: u64| clip.touched.at().plus(millis);
    let sensitive = rules.sensitive_millis.filter(|_| clip.sensitive).map(|millis| (at(millis), None, true));
    let scoped = scopes
        .iter()
        .enumerate()
        .filter(|(_, (scope, _))| scope.holds(clip))
        .filter_map(|(place, (_, limits))| Some((at(limits.age_millis?), Some(place), false)));
    let all = rules.all.age_millis.map(|millis| (at(millis), None, false));
    let (at, place, sensitive) = sensitive.into_iter().chain(scoped).chain(all).min_by_key(|(at, ..)| *at)?;
    let rule = match place {
        _ if sensitive => Rule::Sensitive,
        place => Rule::Age(place),
    };
    Some((at, rule))
}

/// Gives its verdict to what is beyond the limits and has none yet, from the newest to the oldest.
fn limit(
    clips: &[Candidate],
    order: &[(Stamp, u64, usize)],
    verdicts: &mut [Option<Rule>],
    within: impl Fn(&Candidate) -> bool,
    limits: &Limits,
    scope: Option<usize>,
) {
    if limits.count.is_none() && limits.bytes.is_none() {
        return;
    }
    let (mut count, mut bytes, mut full) = (0, 0u64, false);
    for ((.., place), verdict) in order.iter().zip(verdicts).rev() {
        let clip = &clips[*place];
        if verdict.is_some() || !within(clip) {
            continue;
        }
        if limits.bytes.is_some_and(|most| clip.size > most) {
            *verdict = Some(Rule::Bytes(scope));
        } else if limits.count.is_some_and(|most| count >= most) {
            *verdict = Some(Rule::Count(scope));
        } else {
            full |= limits.bytes.is_some_and(|most| bytes.saturating_add(clip.size) > most);
            if full {
                *verdict = Some(Rule::Bytes(scope));
            } else {
                count += 1;
                bytes += clip.size;
            }
        }
    }
}

/// Fewest clips that make a sweep worth asking about.
const WORTH_ASKING: usize = 20;

/// Whether a sweep is so large that it should be asked about first: it would take more than half of what is not
/// kept. A clock that is wrong, or a rule with a typing error, does that.
pub fn is_drastic(going: usize, considered: usize) -> bool {
    going >= WORTH_ASKING && going * 2 > considered
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const NOW: MillisSinceEpoch = MillisSinceEpoch(1_000 * DAY);

    fn clip(number: u64, age_days: u64) -> Candidate<'static> {
        Candidate {
            number,
            touched: Stamp::at_start_of(NOW.minus(age_days * DAY)),
            kind: Kind::Text,
            application: "",
            size: 10,
            sensitive: false,
            kept: false,
        }
    }

    fn unlimited() -> RetentionRules {
        RetentionRules { all: Limits::default(), scopes: Vec::new(), sensitive_millis: None }
    }

    fn going(clips: &[Candidate], rules: &RetentionRules) -> Vec<u64> {
        plan(clips, rules, NOW).going.iter().map(|(place, _)| clips[*place].number).collect()
    }

    #[test]
    fn the_oldest_go_when_there_are_too_many() {
        let rules = RetentionRules { all: Limits { count: Some(2), ..Limits::default() }, ..unlimited() };
        let kept = Candidate { kept: true, ..clip(9, 50) };
        assert_eq!(going(&[clip(1, 3), clip(2, 1), kept, clip(3, 4), clip(4, 2)], &rules), [3, 1]);
    }

    #[test]
    fn a_giant_goes_alone() {
        let rules = RetentionRules { all: Limits { bytes: Some(25), ..Limits::default() }, ..unlimited() };
        let giant = Candidate { size: 26, ..clip(9, 0) };
        assert_eq!(going(&[giant, clip(1, 1), clip(2, 2), clip(3, 3)], &rules), [3, 9]);
    }

    #[test]
    fn kinds_applications_and_secrets_have_limits_of_their_own() {
        let scope = |scope, days| (scope, Limits { age_millis: Some(days * DAY), ..Limits::default() });
        let rules = RetentionRules {
            scopes: vec![scope(Scope::Kind(Kind::Image), 5), scope(Scope::Application("Écran".into()), 2)],
            sensitive_millis: Some(SENSITIVE_MILLIS),
            ..unlimited()
        };
        let clips = [
            Candidate { kind: Kind::Image, ..clip(1, 6) },
            Candidate { application: "ecran", ..clip(2, 3) },
            Candidate { sensitive: true, ..clip(3, 1) },
            clip(4, 900),
            Candidate { kind: Kind::Image, ..clip(5, 4) },
        ];
        let plan = plan(&clips, &rules, NOW);
        assert_eq!(plan.going.iter().map(|(place, _)| clips[*place].number).collect::<Vec<_>>(), [1, 2, 3]);
        assert_eq!(plan.going[1].1.in_words(&rules), "too old for what was copied in Écran");
        assert_eq!(plan.next, Some(NOW.plus(DAY)));
        assert_eq!(expiry(&clips[4], &rules), Some((NOW.plus(DAY), Rule::Age(Some(0)))));
    }

    #[test]
    fn a_clock_gone_back_takes_nothing_and_half_the_history_is_asked_about() {
        let rules = RetentionRules { all: Limits { age_millis: Some(DAY), ..Limits::default() }, ..unlimited() };
        let clips: Vec<Candidate> = (0..100).map(|number| clip(number, 0)).collect();
        assert!(plan(&clips, &rules, MillisSinceEpoch(0)).going.is_empty());
        assert!(is_drastic(plan(&clips, &rules, NOW.plus(365 * DAY)).going.len(), 100));
        assert!(!is_drastic(50, 100) && !is_drastic(5, 5));
    }

    fn candidates() -> impl Strategy<Value = Vec<Candidate<'static>>> {
        let one = (0u64..40, 0usize..4, any::<bool>(), 1u64..30, prop::bool::weighted(0.2), prop::bool::weighted(0.2));
        prop::collection::vec(one, 0..60).prop_map(|all| {
            let of =
                |(number, (age, kind, app, size, sensitive, kept)): (usize, (u64, usize, bool, u64, bool, bool))| {
                    Candidate {
                        kind: Kind::ALL[kind],
                        application: if app { "writer" } else { "" },
                        size,
                        sensitive,
                        kept,
                        ..clip(number as u64, age)
                    }
                };
            all.into_iter().enumerate().map(of).collect()
        })
    }

    fn limits() -> impl Strategy<Value = Limits> {
        let some = |range| prop::option::of(range);
        (some(1u64..20), some(1u64..40), some(1u64..200)).prop_map(|(count, days, bytes)| Limits {
            count,
            age_millis: days.map(|days| days * DAY),
            bytes,
        })
    }

    fn rules() -> impl Strategy<Value = RetentionRules> {
        (limits(), limits(), limits(), prop::option::of(1u64..5)).prop_map(|(all, images, writer, sensitive)| {
            RetentionRules {
                all,
                scopes: vec![(Scope::Kind(Kind::Image), images), (Scope::Application("Writer".into()), writer)],
                sensitive_millis: sensitive.map(|days| days * DAY),
            }
        })
    }

    fn without<'a>(clips: &[Candidate<'a>], plan: &Plan) -> Vec<Candidate<'a>> {
        let stays = |place: &usize| plan.going.iter().all(|(going, _)| going != place);
        (0..clips.len()).filter(stays).map(|place| clips[place]).collect()
    }

    proptest! {
        #[test]
        fn kept_clips_never_go(clips in candidates(), rules in rules()) {
            for (place, _) in plan(&clips, &rules, NOW).going {
                prop_assert!(!clips[place].kept);
            }
        }

        #[test]
        fn a_second_sweep_finds_nothing_to_do(clips in candidates(), rules in rules()) {
            let left = without(&clips, &plan(&clips, &rules, NOW));
            prop_assert!(plan(&left, &rules, NOW).going.is_empty());
        }

        #[test]
        fn the_order_in_which_clips_are_given_does_not_matter(clips in candidates(), rules in rules(), turn in 0usize..60) {
            let mut turned = clips.clone();
            turned.rotate_left(turn.min(clips.len()));
            turned.reverse();
            prop_assert_eq!(going(&clips, &rules), going(&turned, &rules));
        }

        #[test]
        fn nothing_goes_that_could_have_stayed(clips in candidates(), all in limits()) {
            let rules = RetentionRules { all, ..unlimited() };
            let plan = plan(&clips, &rules, NOW);
            let left: Vec<Candidate> = without(&clips, &plan).into_iter().filter(|clip| !clip.kept).collect();
            let bytes: u64 = left.iter().map(|clip| clip.size).sum();
            prop_assert!(all.count.is_none_or(|most| left.len() as u64 <= most));
            prop_assert!(all.bytes.is_none_or(|most| bytes <= most));
            // The newest of those that went for want of room would not have fitted.
            let newest = plan.going.iter().rev().find(|(place, rule)| {
                matches!(rule, Rule::Count(_) | Rule::Bytes(_)) && all.bytes.is_none_or(|most| clips[*place].size <= most)
            });
            if let Some((place, _)) = newest {
                let newer: Vec<&Candidate> = left.iter().filter(|clip| clip.touched >= clips[*place].touched).collect();
                let with: u64 = newer.iter().map(|clip| clip.size).sum::<u64>() + clips[*place].size;
                prop_assert!(all.count.is_some_and(|most| newer.len() as u64 + 1 > most) || all.bytes.is_some_and(|most| with > most));
            }
            for (place, rule) in &plan.going {
                if matches!(rule, Rule::Age(_)) {
                    prop_assert!(clips[*place].touched.at().plus(all.age_millis.unwrap()) <= NOW);
                }
            }
        }
    }
}
