//! Reshaping: a text made into another one. Each way is a function of the text alone.
//!
//! * `cases`: upper, lower, title and sentence case
//! * `spaces`, `lines`: white space; whole lines
//! * `letters`: accents, quotes
//! * `addresses`: links, and what can be picked out of a text
//! * `json`: laid out or packed, with nothing of it changed

mod addresses;
mod cases;
mod json;
mod letters;
mod lines;
mod spaces;

pub use cases::Tongue;

use crate::html;
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// A way to reshape a text.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// Capital letters.
    Upper(Tongue),
    /// Small letters.
    Lower(Tongue),
    /// Each word with a capital.
    Title(Tongue),
    /// Each sentence with a capital.
    Sentence(Tongue),
    /// No white space around the text, nor at the ends of its lines.
    Trim,
    /// One space where there are several.
    Squeeze,
    /// The lines of each paragraph as one.
    Join,
    /// Lines of at most so many columns.
    Wrap(usize),
    /// No empty lines.
    DropBlank,
    /// Numbered lines.
    Number,
    /// Lines in alphabetical order.
    Sort,
    /// Each line once.
    Unique,
    /// Lines without their numbers and bullets.
    Unlist,
    /// Markup as plain text.
    Text,
    /// Markup as Markdown.
    Markdown,
    /// Letters without accents.
    Unaccent,
    /// Straight quotes.
    Straighten,
    /// `%20` and the like as what they stand for.
    UrlDecode,
    /// What is not a letter or a digit as `%20` and the like.
    UrlEncode,
    /// Links without what follows the person who opens them.
    Untrack,
    /// JSON laid out.
    Json,
    /// JSON packed.
    JsonCompact,
    /// The links in it.
    Links,
    /// The e-mail addresses in it.
    Emails,
    /// The numbers in it.
    Numbers,
}

/// Every way, as it is written and what it does.
pub const WAYS: [(&str, &str); 25] = [
    ("upper", "capital letters (upper:tr for Turkish and Azerbaijani)"),
    ("lower", "small letters (lower:tr)"),
    ("title", "a capital at the beginning of each word (title:tr)"),
    ("sentence", "a capital at the beginning of each sentence (sentence:tr)"),
    ("trim", "no white space around the text, nor at the ends of its lines"),
    ("squeeze", "one space where there are several"),
    ("join", "the lines of each paragraph as one line"),
    ("wrap:N", "lines of at most N columns, broken between words (wrap: 72)"),
    ("drop-blank", "no empty lines"),
    ("number", "numbered lines"),
    ("sort", "lines in alphabetical order"),
    ("unique", "each line once, where it came first"),
    ("unlist", "lines without their numbers and bullets"),
    ("text", "markup as plain text, with lists and tables readable"),
    ("markdown", "markup as Markdown"),
    ("unaccent", "letters without accents"),
    ("straighten", "straight quotes for curly ones"),
    ("url-decode", "%20 and the like as what they stand for"),
    ("url-encode", "all but letters, digits and -._~ as %20 and the like"),
    ("untrack", "links without the parameters that follow the person who opens them"),
    ("json", "JSON laid out over lines"),
    ("json-compact", "JSON without white space"),
    ("links", "the links in it, one on a line"),
    ("emails", "the e-mail addresses in it, one on a line"),
    ("numbers", "the numbers in it, one on a line"),
];

/// Why a text was not reshaped.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ReshapeError {
    /// There is no such way.
    #[error("“{0}” is not a way to reshape; there are {list}", list = WAYS.map(|(name, _)| name).join(", "))]
    NoSuchWay(String),
    /// Lines cannot be so wide.
    #[error("lines are wrapped at 1 to 1000 columns: wrap:72")]
    Width,
    /// Not JSON.
    #[error("this is not JSON: {0}")]
    NotJson(String),
    /// Nothing is left.
    #[error("nothing would be left of it: there are no {0} in it")]
    NothingLeft(&'static str),
    /// Whoever reads pages died over this one, or took too long.
    #[error("this page cannot be read, or takes too long")]
    Unreadable,
    /// More than ways are useful.
    #[error("at most {MOST} ways in one go")]
    TooMany,
}

/// Most ways in one go.
pub const MOST: usize = 20;

impl FromStr for Way {
    type Err = ReshapeError;

    fn from_str(text: &str) -> Result<Self, ReshapeError> {
        let word = text.trim().to_ascii_lowercase();
        let none = || ReshapeError::NoSuchWay(crate::preview::one_line(text, 40));
        let (name, given) = word.split_once(':').map_or((word.as_str(), None), |(name, given)| (name, Some(given)));
        let tongue = || match given {
            None => Ok(Tongue::Any),
            Some("tr" | "az") => Ok(Tongue::Turkic),
            Some(_) => Err(none()),
        };
        let way = match name {
            "upper" => return Ok(Self::Upper(tongue()?)),
            "lower" => return Ok(Self::Lower(tongue()?)),
            "title" => return Ok(Self::Title(tongue()?)),
            "sentence" => return Ok(Self::Sentence(tongue()?)),
            "wrap" => {
                let width = given.map_or(Ok(72), |given| given.trim().parse().map_err(|_| ReshapeError::Width))?;
                return if (1..=1000).contains(&width) { Ok(Self::Wrap(width)) } else { Err(ReshapeError::Width) };
            }
            "trim" => Self::Trim,
            "squeeze" => Self::Squeeze,
            "join" => Self::Join,
            "drop-blank" => Self::DropBlank,
            "number" => Self::Number,
            "sort" => Self::Sort,
            "unique" => Self::Unique,
            "unlist" => Self::Unlist,
            "text" => Self::Text,
            "markdown" => Self::Markdown,
            "unaccent" => Self::Unaccent,
            "straighten" => Self::Straighten,
            "url-decode" => Self::UrlDecode,
            "url-encode" => Self::UrlEncode,
            "untrack" => Self::Untrack,
            "json" => Self::Json,
            "json-compact" => Self::JsonCompact,
            "links" => Self::Links,
            "emails" => Self::Emails,
            "numbers" => Self::Numbers,
            _ => return Err(none()),
        };
        if given.is_none() { Ok(way) } else { Err(none()) }
    }
}

impl fmt::Display for Way {
    fn fmt(&self, f: &mut fmt::Formatter) -> fmt::Result {
        let place = match self {
            Self::Upper(tongue) | Self::Lower(tongue) | Self::Title(tongue) | Self::Sentence(tongue) => {
                let name = match self {
                    Self::Upper(_) => "upper",
                    Self::Lower(_) => "lower",
                    Self::Title(_) => "title",
                    _ => "sentence",
                };
                return write!(f, "{name}{}", if *tongue == Tongue::Turkic { ":tr" } else { "" });
            }
            Self::Wrap(width) => return write!(f, "wrap:{width}"),
            Self::Trim => 4,
            Self::Squeeze => 5,
            Self::Join => 6,
            Self::DropBlank => 8,
            Self::Number => 9,
            Self::Sort => 10,
            Self::Unique => 11,
            Self::Unlist => 12,
            Self::Text => 13,
            Self::Markdown => 14,
            Self::Unaccent => 15,
            Self::Straighten => 16,
            Self::UrlDecode => 17,
            Self::UrlEncode => 18,
            Self::Untrack => 19,
            Self::Json => 20,
            Self::JsonCompact => 21,
            Self::Links => 22,
            Self::Emails => 23,
            Self::Numbers => 24,
        };
        f.write_str(WAYS[place].0)
    }
}

/// Reads ways as people list them: separated by commas or spaces, or one by one.
///
/// # Errors
/// The first that is none.
pub fn ways<'a>(texts: impl IntoIterator<Item = &'a str>) -> Result<Vec<Way>, ReshapeError> {
    let words = texts.into_iter().flat_map(|text| text.split([',', ' '])).filter(|word| !word.is_empty());
    let ways: Vec<Way> = words.map(str::parse).collect::<Result<_, _>>()?;
    if ways.len() > MOST { Err(ReshapeError::TooMany) } else { Ok(ways) }
}

/// Reshapes a text in several ways, one after the other. `markup` is what the text was copied with, for the ways
/// that look at it; once the text has been changed, it is the text that counts.
///
/// # Errors
/// When a way does not fit the text.
pub fn reshape(text: &str, markup: Option<&[u8]>, ways: &[Way]) -> Result<String, ReshapeError> {
    let mut text = text.to_owned();
    let mut markup = markup;
    for way in ways {
        text = apply(*way, &text, markup.take())?;
    }
    Ok(text)
}

fn apply(way: Way, text: &str, markup: Option<&[u8]>) -> Result<String, ReshapeError> {
    let found = |found: Vec<String>, what| match found.is_empty() {
        true => Err(ReshapeError::NothingLeft(what)),
        false => Ok(found.join("\n")),
    };
    let markup = || markup.unwrap_or(text.as_bytes());
    Ok(match way {
        Way::Upper(tongue) => cases::upper(text, tongue),
        Way::Lower(tongue) => cases::lower(text, tongue),
        Way::Title(tongue) => cases::title(text, tongue),
        Way::Sentence(tongue) => cases::sentence(text, tongue),
        Way::Trim => spaces::trim(text),
        Way::Squeeze => spaces::squeeze(text),
        Way::Join => lines::join(text),
        Way::Wrap(width) => lines::wrap(text, width),
        Way::DropBlank => lines::drop_blank(text),
        Way::Number => lines::number(text),
        Way::Sort => lines::sort(text),
        Way::Unique => lines::unique(text),
        Way::Unlist => lines::unlist(text),
        Way::Text => html::to_text(markup()),
        Way::Markdown => html::to_markdown(markup()),
        Way::Unaccent => letters::unaccent(text),
        Way::Straighten => letters::straighten(text),
        Way::UrlDecode => addresses::decode(text),
        Way::UrlEncode => addresses::encode(text),
        Way::Untrack => addresses::untrack(text),
        Way::Json => json::laid_out(text)?,
        Way::JsonCompact => json::packed(text)?,
        Way::Links => found(addresses::links(text), "links")?,
        Way::Emails => found(addresses::emails(text), "e-mail addresses")?,
        Way::Numbers => found(addresses::numbers(text), "numbers")?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn all() -> Vec<Way> {
        WAYS.iter().map(|(name, _)| name.replace(":N", ":20").parse().unwrap()).collect()
    }

    #[test]
    fn every_way_is_read_as_it_is_written() {
        for way in all() {
            assert_eq!(way.to_string().parse(), Ok(way));
        }
        assert_eq!(ways(["trim, upper:tr", "sort"]).unwrap().len(), 3);
        assert_eq!(ways(["wrap:0"]), Err(ReshapeError::Width));
        for nonsense in ["uper", "trim:3", "upper:xx", "wrap:many"] {
            assert!(ways([nonsense]).is_err(), "{nonsense}");
        }
        assert_eq!(ways(["trim ".repeat(21).as_str()]), Err(ReshapeError::TooMany));
    }

    #[test]
    fn ways_follow_one_another_and_markup_is_looked_at_first() {
        let markup = "<ul><li>lamp</li><li>gel</li></ul>";
        let ways = ways(["markdown,upper"]).unwrap();
        assert_eq!(reshape("lamp gel", Some(markup.as_bytes()), &ways).unwrap(), "*   LAMP\n*   GEL");
        assert_eq!(reshape("<b>x</b> y", None, &[Way::Text]).unwrap(), "x y");
        assert!(matches!(reshape("no", None, &[Way::Json]), Err(ReshapeError::NotJson(_))));
        assert_eq!(reshape("none", None, &[Way::Links]), Err(ReshapeError::NothingLeft("links")));
    }

    proptest! {
        #[test]
        fn no_text_upsets_any_way(text in "(?s).{0,60}|[\\[\\]{}\",:0-9a-z %@./<>&;=*-]{0,60}", which in 0usize..25) {
            let _ = reshape(&text, None, &[all()[which]]);
        }

        #[test]
        fn doing_it_twice_is_doing_it_once(text in "(?s)\\PC{0,40}|[ a-zA-Z.!?\n\t1-9)*ßİıǆ“”é-]{0,60}", which in prop::sample::select(vec![
            "upper", "lower", "title", "sentence", "trim", "squeeze", "join", "wrap:20", "drop-blank", "sort", "unique", "unaccent", "straighten",
        ])) {
            let way = [which.parse().unwrap()];
            let once = reshape(&text, None, &way).unwrap();
            prop_assert_eq!(reshape(&once, None, &way).unwrap(), once);
        }
    }
}
