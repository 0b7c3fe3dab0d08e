//! The query language: words in any order, `"exact phrases"`, `-not`, and filters.

use super::fold::fold;
use crate::amounts;
use crate::clock::MillisSinceEpoch;
use crate::kind::Kind;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use thiserror::Error;

/// What is sought.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Query {
    /// All of these must be met.
    pub terms: Vec<Term>,
    /// None of these may be met.
    pub without: Vec<Term>,
    /// All of these must hold.
    pub filters: Vec<Filter>,
}

/// A word or a phrase, folded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Term {
    /// The folded text.
    pub folded: String,
    /// Whether it stood in quotes, so that it must be met as it stands.
    pub phrase: bool,
}

/// A condition on a clip's attributes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Filter {
    /// `kind:image`
    Kind(Kind),
    /// `app:writer`: part of the application's name, folded
    App(String),
    /// `device:van`: part of the device's name, folded
    Device(String),
    /// `drawer:venues`: the drawer's name, folded
    Drawer(String),
    /// `is:pinned`
    Pinned,
    /// `is:kept`
    Kept,
    /// `is:sensitive`
    Sensitive,
    /// `before:2026-11-01`: copied earlier than this
    Before(MillisSinceEpoch),
    /// `after:3d`: copied at this moment or later
    After(MillisSinceEpoch),
    /// `larger:2MB`: more bytes than this
    Larger(u64),
    /// `-kind:image` and the like
    Not(Box<Filter>),
}

/// Why a query cannot be understood.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum QueryError {
    /// A filter takes other things.
    #[error("“{given}” is not something {filter}: takes; try {accepted}")]
    Filter {
        /// The filter's name.
        filter: &'static str,
        /// What stood behind it.
        given: String,
        /// The forms that are accepted.
        accepted: &'static str,
    },
    /// Each word of it is looked for by itself, which takes its time.
    #[error("a query has at most {LONGEST} characters")]
    TooLong,
}

/// Longest query, in characters.
pub const LONGEST: usize = 1000;

/// When and where a query is asked: what `before:` and `after:` are reckoned from.
#[derive(Clone, Debug)]
pub struct When {
    /// Now.
    pub now: MillisSinceEpoch,
    /// The person's time zone.
    pub zone: TimeZone,
}

impl Query {
    /// Reads a query. What is not a filter is a word to look for; a filter that is still being typed
    /// (`kind:`) is passed over.
    ///
    /// # Errors
    /// A filter with something behind it that it does not take.
    pub fn parse(text: &str, when: &When) -> Result<Self, QueryError> {
        if text.chars().nth(LONGEST).is_some() {
            return Err(QueryError::TooLong);
        }
        let mut query = Self::default();
        for Token { negated, name, value, quoted } in tokens(text) {
            let filter = match name {
                Some(name) => match filter(&name, &value, when)? {
                    Read::Filter(filter) => Some(filter),
                    Read::Unfinished => continue,
                    Read::NoSuchFilter => None,
                },
                None => None,
            };
            match filter {
                Some(filter) if negated => query.filters.push(Filter::Not(Box::new(filter))),
                Some(filter) => query.filters.push(filter),
                None => {
                    let folded = fold(&value);
                    let folded = folded.trim();
                    if !folded.is_empty() {
                        let term = Term { folded: folded.to_owned(), phrase: quoted };
                        if negated { query.without.push(term) } else { query.terms.push(term) }
                    }
                }
            }
        }
        Ok(query)
    }

    /// Whether it asks for nothing, so that every clip meets it.
    pub fn is_empty(&self) -> bool {
        self.terms.is_empty() && self.without.is_empty() && self.filters.is_empty()
    }
}

struct Token {
    negated: bool,
    /// What stood before a colon, if that is a filter's name.
    name: Option<String>,
    value: String,
    quoted: bool,
}

/// Cuts a query at white space outside quotes. A quote that is not closed reaches to the end.
fn tokens(text: &str) -> Vec<Token> {
    let mut tokens = Vec::new();
    let mut rest = text.trim_start();
    while !rest.is_empty() {
        let negated = rest.starts_with('-')
            && rest[1..].starts_with(|c: char| c == '"' || !(c.is_whitespace() || c.is_ascii_punctuation()));
        if negated {
            rest = &rest[1..];
        }
        let name = rest.find(|c: char| !c.is_ascii_alphabetic()).and_then(|end| {
            let name = rest[..end].to_ascii_lowercase();
            (rest[end..].starts_with(':') && FILTERS.contains(&name.as_str())).then_some(name)
        });
        if let Some(name) = &name {
            rest = &rest[name.len() + 1..];
        }
        let (value, quoted, after) = match rest.strip_prefix('"') {
            Some(inner) => {
                let (value, after) = inner.split_once('"').unwrap_or((inner, ""));
                (value, true, after)
            }
            None => {
                let end = rest.find(char::is_whitespace).unwrap_or(rest.len());
                (&rest[..end], false, &rest[end..])
            }
        };
        tokens.push(Token { negated, name, value: value.to_owned(), quoted });
        rest = after.trim_start();
    }
    tokens
}

const FILTERS: [&str; 8] = ["kind", "app", "device", "drawer", "is", "before", "after", "larger"];

enum Read {
    Filter(Filter),
    Unfinished,
    NoSuchFilter,
}

fn filter(name: &str, value: &str, when: &When) -> Result<Read, QueryError> {
    if value.is_empty() {
        return Ok(Read::Unfinished);
    }
    let refuse = |filter, accepted| QueryError::Filter { filter, given: value.to_owned(), accepted };
    let filter = match name {
        "kind" => Filter::Kind(Kind::from_word(value).ok_or_else(|| refuse("kind", "text, link, image or files"))?),
        "app" => Filter::App(fold(value)),
        "device" => Filter::Device(fold(value)),
        "drawer" => Filter::Drawer(fold(value)),
        "is" => match value.to_ascii_lowercase().as_str() {
            "pinned" => Filter::Pinned,
            "kept" => Filter::Kept,
            "sensitive" => Filter::Sensitive,
            _ => return Err(refuse("is", "pinned, kept or sensitive")),
        },
        "before" => Filter::Before(moment(value, when).ok_or_else(|| refuse("before", MOMENTS))?),
        "after" => Filter::After(moment(value, when).ok_or_else(|| refuse("after", MOMENTS))?),
        "larger" => Filter::Larger(amounts::bytes(value).ok_or_else(|| refuse("larger", "500, 20kB, 2MB or 1GB"))?),
        _ => return Ok(Read::NoSuchFilter),
    };
    Ok(Read::Filter(filter))
}

const MOMENTS: &str = "2026-11-01, today, yesterday, or an age such as 30m, 12h, 3d, 2w";

/// The beginning of a day, or a moment so long ago.
fn moment(text: &str, when: &When) -> Option<MillisSinceEpoch> {
    let day = |date: Date| {
        let start = date.to_zoned(when.zone.clone()).ok()?.timestamp().as_millisecond();
        Some(MillisSinceEpoch(u64::try_from(start).ok()?))
    };
    let today = || {
        let now = jiff::Timestamp::from_millisecond(i64::try_from(when.now.0).ok()?).ok()?;
        Some(now.to_zoned(when.zone.clone()).date())
    };
    match text.to_ascii_lowercase().as_str() {
        "today" => return day(today()?),
        "yesterday" => return day(today()?.yesterday().ok()?),
        _ => {}
    }
    if let Ok(date) = text.parse::<Date>() {
        return day(date);
    }
    Some(when.now.minus(amounts::span(text)?))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn when() -> When {
        // 2026-11-23T09:00:00Z
        When { now: MillisSinceEpoch(1_795_424_400_000), zone: TimeZone::UTC }
    }

    fn parse(text: &str) -> Query {
        Query::parse(text, &when()).unwrap()
    }

    fn term(folded: &str, phrase: bool) -> Term {
        Term { folded: folded.into(), phrase }
    }

    #[test]
    fn words_phrases_and_exclusions_are_told_apart() {
        let query = parse("Lamp \"Cue  7\" -draft -\"old plan\" a-b -- https://example.org");
        assert_eq!(
            query.terms,
            [
                term("lamp", false),
                term("cue 7", true),
                term("a-b", false),
                term("--", false),
                term("https://example.org", false)
            ]
        );
        assert_eq!(query.without, [term("draft", false), term("old plan", true)]);
    }

    #[test]
    fn filters_are_read() {
        let query = parse("kind:IMAGE app:\"Stage Desk\" is:sensitive -kind:text larger:2MB");
        assert_eq!(
            query.filters,
            [
                Filter::Kind(Kind::Image),
                Filter::App("stage desk".into()),
                Filter::Sensitive,
                Filter::Not(Box::new(Filter::Kind(Kind::Text))),
                Filter::Larger(2_000_000),
            ]
        );
        assert!(query.terms.is_empty());
    }

    #[test]
    fn moments_are_days_or_ages() {
        let midnight = MillisSinceEpoch(1_795_392_000_000);
        assert_eq!(parse("after:today").filters, [Filter::After(midnight)]);
        assert_eq!(parse("before:2026-11-23").filters, [Filter::Before(midnight)]);
        assert_eq!(parse("after:yesterday").filters, [Filter::After(midnight.minus(86_400_000))]);
        assert_eq!(parse("after:3d").filters, [Filter::After(when().now.minus(3 * 86_400_000))]);
    }

    #[test]
    fn a_filter_still_being_typed_is_passed_over_and_nonsense_is_refused() {
        assert!(parse("kind: app: \"").is_empty());
        let error = Query::parse("kind:movie", &when()).unwrap_err();
        assert_eq!(error.to_string(), "“movie” is not something kind: takes; try text, link, image or files");
        for nonsense in [
            "is:blue",
            "before:soon",
            "after:3x",
            "after:9999999999999999999d",
            "larger:many",
            "larger:99999999999999999999",
        ] {
            assert!(Query::parse(nonsense, &when()).is_err(), "{nonsense}");
        }
        let long = "é".repeat(LONGEST);
        assert!(Query::parse(&long, &when()).is_ok());
        assert_eq!(Query::parse(&(long + "é"), &when()), Err(QueryError::TooLong));
    }

    proptest! {
        #[test]
        fn no_query_upsets_the_parser(text in "(?s)[-\":a-z0-9 é]{0,30}|(?s).{0,30}") {
            let _ = Query::parse(&text, &when());
        }
    }
}
