//! Where in a text a query was met, for marking it.

use super::fold::fold_each;
use super::query::Query;
use super::words;
use memchr::memmem::find_iter;
use std::ops::Range;

/// The parts of `text` that meet terms of the query, as ranges of characters (Unicode scalar values),
/// rising and without overlap.
pub fn marks(text: &str, query: &Query) -> Vec<Range<usize>> {
    if query.terms.is_empty() || text.is_empty() {
        return Vec::new();
    }
    let (folded, origins) = folded(text);
    let origin = |byte: usize| match &origins {
        Some(origins) => origins[byte].start as usize..origins[byte].end as usize,
        None => byte..byte + 1,
    };
    let mut found: Vec<Range<usize>> = Vec::new();
    for term in &query.terms {
        let places = find_iter(folded.as_bytes(), term.folded.as_bytes());
        let (at_words, inside): (Vec<usize>, Vec<usize>) =
            places.partition(|start| words::is_boundary(&folded, *start));
        // Where the term begins a word, matches in the middle of others would only distract.
        for start in if at_words.is_empty() { inside } else { at_words } {
            found.push(origin(start).start..origin(start + term.folded.len() - 1).end);
        }
    }
    found.sort_by_key(|range| range.start);
    let mut joined: Vec<Range<usize>> = Vec::with_capacity(found.len());
    for range in found {
        match joined.last_mut() {
            Some(last) if range.start <= last.end => last.end = last.end.max(range.end),
            _ => joined.push(range),
        }
    }
    joined
}

/// The folded form of a text, and for each of its bytes the characters of `text` from which it comes, unless it is the one at
/// the same place.
fn folded(text: &str) -> (String, Option<Vec<Range<u32>>>) {
    if is_plain(text.as_bytes()) {
        return (text.to_ascii_lowercase(), None);
    }
    let mut folded = String::with_capacity(text.len());
    let mut origins: Vec<Range<u32>> = Vec::with_capacity(text.len());
    let mut at = 0;
    fold_each(text, |range, piece| {
        let chars = text[range].chars().count() as u32;
        folded.push_str(piece);
        origins.resize(folded.len(), at..at + chars);
        at += chars;
    });
    (folded, Some(origins))
}

/// Whether a text is printable ASCII with one space at most between words. All of it is looked at, since that is how a processor
/// can look at many bytes at a time.
fn is_plain(text: &[u8]) -> bool {
    let printable = text.iter().fold(true, |all, byte| all & (*byte == b' ' || byte.is_ascii_graphic()));
    let single = text.iter().zip(text.iter().skip(1)).fold(true, |all, (a, b)| all & ((*a, *b) != (b' ', b' ')));
    printable && single
}

#[cfg(test)]
mod tests {
    use super::super::query::When;
    use super::*;
    use crate::clock::MillisSinceEpoch;
    use jiff::tz::TimeZone;
    use proptest::prelude::*;

    fn marked(text: &str, query: &str) -> String {
        let query = Query::parse(query, &When { now: MillisSinceEpoch(0), zone: TimeZone::UTC }).unwrap();
        let marks = marks(text, &query);
        let mut shown = String::new();
        for (place, c) in text.chars().enumerate() {
            if marks.iter().any(|mark| mark.start == place) {
                shown.push('[');
            }
            shown.push(c);
            if marks.iter().any(|mark| mark.end == place + 1) {
                shown.push(']');
            }
        }
        shown
    }

    #[test]
    fn matches_are_marked_in_the_text_as_it_was_written() {
        assert_eq!(marked("Straße nach Čáslav", "STRASSE caslav"), "[Straße] nach [Čáslav]");
        assert_eq!(marked("舞台の照明", "照明"), "舞台の[照明]");
        assert_eq!(marked("a  b", "\"a b\""), "[a  b]");
        assert_eq!(marked("clamp the lamp", "lamp"), "clamp the [lamp]");
        assert_eq!(marked("clamp", "lamp"), "c[lamp]");
        assert_eq!(marked("abcab", "ab bc"), "[abc]ab");
        assert_eq!(marked("none", "some"), "none");
    }

    proptest! {
        #[test]
        fn a_plain_text_folds_as_any_other(text in "[ -~\t\né]{0,20}") {
            let (quickly, origins) = folded(&text);
            prop_assert_eq!(&quickly, &super::super::fold::fold(&text));
            match origins {
                Some(origins) => prop_assert_eq!(origins.len(), quickly.len()),
                None => fold_each(&text, |range, piece| assert_eq!((range.len(), piece.len()), (1, 1))),
            }
        }

        #[test]
        fn marks_lie_within_the_text_and_apart(text in "\\PC{0,30}", query in "[a-cé]{1,3}") {
            let query = Query::parse(&query, &When { now: MillisSinceEpoch(0), zone: TimeZone::UTC }).unwrap();
            let mut last = 0;
            for mark in marks(&text, &query) {
                prop_assert!(mark.start >= last && mark.start < mark.end && mark.end <= text.chars().count());
                last = mark.end + 1;
            }
        }
    }
}
