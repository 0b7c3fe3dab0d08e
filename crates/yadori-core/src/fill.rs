//! Placeholders in a clip that are filled in when it is recalled, if the clip says so.
//!
//! | placeholder | becomes |
//! | --- | --- |
//! | `{date}` | today, as 2026-11-23 |
//! | `{date:%d %B}` | today, in a form of one's own (the conversions of `strftime`) |
//! | `{time}`, `{time:%H.%M}` | the time, as 14:30 or in a form of one's own |
//! | `{clipboard}` | the text that is on the clipboard |
//! | `{ask:Name}`, `{ask:Name=usual}` | what the person answers; with a usual answer they need not |
//!
//! `\{date}` is the text `{date}`. Braces around anything else are ordinary text.

use jiff::Zoned;
use jiff::fmt::strtime;
use std::collections::BTreeMap;

/// What fills placeholders.
#[derive(Clone, Debug)]
pub struct Values<'a> {
    /// Now, where the person is.
    pub now: &'a Zoned,
    /// The text on the clipboard.
    pub clipboard: &'a str,
    /// Answers, by name.
    pub answers: &'a BTreeMap<String, String>,
    /// Whether what has a usual answer must be answered too.
    pub ask_usual: bool,
}

/// What a placeholder asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ask {
    /// The name under which it asks.
    pub name: String,
    /// The usual answer.
    pub usual: Option<String>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Part<'a> {
    Text(&'a str),
    Moment(&'a str),
    Clipboard,
    Ask(Ask),
}

fn placeholder(inside: &str) -> Option<Part<'_>> {
    let (name, form) = inside.split_once(':').map_or((inside, None), |(name, form)| (name, Some(form)));
    let fits = |form: &str| !form.is_empty() && form.contains('%') && strtime::format(form, &Zoned::default()).is_ok();
    match (name, form) {
        ("date", None) => Some(Part::Moment("%Y-%m-%d")),
        ("time", None) => Some(Part::Moment("%H:%M")),
        ("date" | "time", Some(form)) if fits(form) => Some(Part::Moment(form)),
        ("clipboard", None) => Some(Part::Clipboard),
        ("ask", Some(ask)) => {
            let (name, usual) = ask.split_once('=').map_or((ask, None), |(name, usual)| (name, Some(usual.to_owned())));
            let name = name.trim();
            (!name.is_empty()).then(|| Part::Ask(Ask { name: name.to_owned(), usual }))
        }
        _ => None,
    }
}

fn parts(text: &str) -> Vec<Part<'_>> {
    let mut parts = Vec::new();
    let (mut kept, mut at) = (0, 0);
    while let Some(found) = text[at..].find('{') {
        let open = at + found;
        let Some(length) = text[open..].find(['}', '\n']).filter(|length| text[open + length..].starts_with('}'))
        else {
            at = open + 1;
            continue;
        };
        let Some(part) = placeholder(&text[open + 1..open + length]) else {
            at = open + 1;
            continue;
        };
        if text[..open].ends_with('\\') && open > kept {
            parts.push(Part::Text(&text[kept..open - 1]));
            kept = open;
        } else {
            parts.push(Part::Text(&text[kept..open]));
            parts.push(part);
            kept = open + length + 1;
        }
        at = open + length + 1;
    }
    parts.push(Part::Text(&text[kept..]));
    parts
}

/// What the placeholders of a text ask for, each name once.
pub fn asks(text: &str) -> Vec<Ask> {
    let mut asks: Vec<Ask> = Vec::new();
    for part in parts(text) {
        if let Part::Ask(ask) = part
            && !asks.iter().any(|known| known.name == ask.name)
        {
            asks.push(ask);
        }
    }
    asks
}

/// Whether there is a placeholder in a text.
pub fn has_placeholders(text: &str) -> bool {
    parts(text).iter().any(|part| !matches!(part, Part::Text(_)))
}

/// Whether a text needs what is on the clipboard.
pub fn wants_clipboard(text: &str) -> bool {
    parts(text).contains(&Part::Clipboard)
}

/// A text with its placeholders filled in; `escape` is applied to what is put in.
///
/// # Errors
/// What must be answered first.
pub fn fill(text: &str, values: &Values, escape: impl Fn(&str) -> String) -> Result<String, Vec<Ask>> {
    let mut missing = Vec::new();
    let mut filled = String::with_capacity(text.len());
    for part in parts(text) {
        match part {
            Part::Text(text) => filled.push_str(text),
            Part::Moment(form) => filled.push_str(&escape(&strtime::format(form, values.now).unwrap_or_default())),
            Part::Clipboard => filled.push_str(&escape(values.clipboard)),
            Part::Ask(ask) => match (values.answers.get(&ask.name), &ask.usual) {
                (Some(answer), _) => filled.push_str(&escape(answer)),
                (None, Some(usual)) if !values.ask_usual => filled.push_str(&escape(usual)),
                (None, _) if !missing.iter().any(|known: &Ask| known.name == ask.name) => missing.push(ask),
                (None, _) => {}
            },
        }
    }
    if missing.is_empty() { Ok(filled) } else { Err(missing) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn filled(text: &str, answers: &[(&str, &str)]) -> Result<String, Vec<Ask>> {
        filled_asking(text, answers, false)
    }

    fn filled_asking(text: &str, answers: &[(&str, &str)], ask_usual: bool) -> Result<String, Vec<Ask>> {
        let now: Zoned = "2026-11-23T14:30:00+00:00[UTC]".parse().unwrap();
        let answers = answers.iter().map(|(name, answer)| ((*name).to_owned(), (*answer).to_owned())).collect();
        fill(text, &Values { now: &now, clipboard: "<Lamp 7>", answers: &answers, ask_usual }, str::to_owned)
    }

    #[test]
    fn placeholders_are_filled_in() {
        assert_eq!(filled("On {date} at {time}.", &[]).unwrap(), "On 2026-11-23 at 14:30.");
        assert_eq!(filled("{date:%d %B %Y}", &[]).unwrap(), "23 November 2026");
        assert_eq!(filled("Re: {clipboard}", &[]).unwrap(), "Re: <Lamp 7>");
        assert_eq!(filled("Dear {ask:Name}, {ask:Closing=Yours}", &[("Name", "Ada")]).unwrap(), "Dear Ada, Yours");
    }

    #[test]
    fn ordinary_braces_are_left_alone() {
        for text in [
            "fn main() { date }",
            "{}",
            "{dates}",
            "{date:}",
            "{date:plain}",
            "{date:%!}",
            "{ask:}",
            "{\ndate}",
            "{",
            "}{",
        ] {
            assert_eq!(filled(text, &[]).unwrap(), text);
        }
        assert_eq!(filled(r"\{date} is {date:%Y}", &[]).unwrap(), "{date} is 2026");
        assert_eq!(filled("{{date}}", &[]).unwrap(), "{2026-11-23}");
    }

    #[test]
    fn what_is_not_answered_is_named_once() {
        let text = "{ask:Name} {ask:Venue} {ask:Name}";
        let ask = |name: &str, usual: Option<&str>| Ask { name: name.into(), usual: usual.map(Into::into) };
        assert_eq!(filled(text, &[]), Err(vec![ask("Name", None), ask("Venue", None)]));
        let closing = "{ask:Closing=Yours}";
        assert_eq!(filled_asking(closing, &[], true), Err(vec![ask("Closing", Some("Yours"))]));
        assert_eq!(filled_asking(closing, &[("Closing", "Bye")], true).unwrap(), "Bye");
        assert_eq!(asks(text).len(), 2);
        assert!(has_placeholders(text) && !has_placeholders("{none}") && !wants_clipboard(text));
    }

    #[test]
    fn what_is_put_in_can_be_escaped() {
        let (now, answers) = (Zoned::default(), BTreeMap::new());
        let values = Values { now: &now, clipboard: "<b>", answers: &answers, ask_usual: false };
        assert_eq!(fill("<i>{clipboard}</i>", &values, |text| text.replace('<', "&lt;")).unwrap(), "<i>&lt;b></i>");
    }

    proptest! {
        #[test]
        fn a_text_without_placeholders_stays_as_it_is(text in "[a-z{}:%\\\\\n ]{0,40}") {
            if !has_placeholders(&text) && !text.contains("\\{") {
                prop_assert_eq!(filled(&text, &[]).unwrap(), text);
            }
        }
    }
}
