//! Does this content belong to that id?
//!
//! A clip's id is a hash of its content, so whoever is told of a clip can check what it is given. Where the content lies
//! depends on the kind: see [`canonical`].

use crate::format::{FILE_LIST, Format, PLAIN, TITLED_URL, URI_LIST, find};
use crate::kind::Kind;
use crate::{files, link};

/// Formats that carry the content of files.
const OF_FILES: [&str; 3] = [FILE_LIST, URI_LIST, PLAIN];

/// The canonical content of a clip.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Canonical {
    /// What [`ClipId::of`](crate::ClipId::of) hashes.
    Bytes(Vec<u8>),
    /// There is none in these formats.
    None,
}

/// Whether a format of this type is what the id of a clip of this kind may rest on. Pictures are not decided here.
pub fn carries(kind: Kind, mime: &str) -> bool {
    match kind {
        Kind::Text | Kind::Link => mime == PLAIN,
        Kind::Files => OF_FILES.contains(&mime),
        Kind::Image => false,
    }
}

/// The canonical content of a clip with these formats, and with these words on record. Nothing for a picture.
///
/// Texts are their plain text; a text that was copied as HTML alone is the words that were made of it then, which are told along
/// with it: nobody reads the page again. Links are
/// the normalised URL in their words, or the URL of a titled one; files are their URIs, one on a line.
pub fn canonical(kind: Kind, formats: &[Format], words: Option<&str>) -> Canonical {
    let plain = || find(formats, PLAIN).and_then(|plain| std::str::from_utf8(plain).ok());
    let bytes = match kind {
        Kind::Text => plain().or(words).map(|words| words.as_bytes().to_vec()),
        Kind::Link => {
            let of_words = plain().or(words).and_then(link::sole_url);
            let url = of_words.or_else(|| link::titled_url(find(formats, TITLED_URL)?).map(|(url, _)| url));
            url.map(|url| url.as_str().as_bytes().to_vec())
        }
        Kind::Files => files::listed(formats).map(|uris| uris.join("\n").into_bytes()),
        Kind::Image => None,
    };
    bytes.map_or(Canonical::None, Canonical::Bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::capture::{Copy, Maker, judge, markup_wanted};
    use crate::format::HTML;
    use crate::html;
    use crate::rules::Checked;
    use crate::{ClipId, Kind};

    #[test]
    fn what_capture_makes_of_a_copy_belongs_to_its_id_and_other_words_do_not() {
        let copies = [
            vec![Format::plain("Load-in 14:30 ")],
            vec![Format::plain("Cue 7"), Format::new(HTML, "<b>Cue 7</b>")],
            vec![Format::new(HTML, "<p>Cue <b>8</b>")],
            vec![Format::plain(" https://EXAMPLE.org/stalls\n")],
            vec![Format::new(TITLED_URL, "https://example.org/stalls\nStalls plan")],
            vec![Format::new(FILE_LIST, "cut\nfile:///srv/cue%20list.ods"), Format::plain("/srv/cue list.ods")],
            vec![Format::new(URI_LIST, "file:///srv/a\r\nfile:///srv/b\r\n")],
        ];
        for formats in copies {
            let markup = markup_wanted(&formats).map(|format| html::Markup::read(&format.data));
            let copy = Copy { formats, ..Copy::default() };
            let draft = judge(copy, markup.as_ref(), &Checked::default(), Maker::Program).expect("a draft");
            let id = |words: &str| match canonical(draft.kind, &draft.formats, Some(words)) {
                Canonical::Bytes(bytes) => ClipId::of(draft.kind, &bytes),
                Canonical::None => panic!("{:?} has no content", draft.formats),
            };
            assert_eq!(id(&draft.text), draft.id(None), "{:?}", draft.formats);
        }
        let other = canonical(Kind::Text, &[Format::plain("Load-in 15:30 ")], Some("Load-in 14:30 "));
        assert_eq!(other, Canonical::Bytes(b"Load-in 15:30 ".to_vec()));
        assert_eq!(canonical(Kind::Link, &[Format::plain("no link")], None), Canonical::None);
        assert_eq!(canonical(Kind::Text, &[Format::new(HTML, "<p>Cue <b>8</b>")], None), Canonical::None);
    }
}
