//! Is a copy to be kept, and as what?
//!
//! [`judge`] turns what a desktop delivered into a [`Draft`] or a [`Refusal`]. Pictures are decoded
//! by the caller (decoding is slow and has limits of its own), which then asks the draft for its id.

use crate::clip::Source;
use crate::format::{self, Format};
use crate::html::Markup;
use crate::identity::{self, ClipId};
use crate::kind::Kind;
use crate::rules::Checked;
use crate::sensitive::{self, Sensitive};
use crate::{files, link, preview};
use thiserror::Error;

/// What was copied, as a desktop delivers it.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Copy {
    /// All useful formats, in the owner's order.
    pub formats: Vec<Format>,
    /// Where it was made.
    pub source: Source,
}

/// Who made a copy.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Maker {
    /// A program, by copying. All rules hold.
    Program,
    /// The person, by asking for a clip to be made. Only the limit of its size holds.
    Person,
}

/// Why a copy made no clip.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum Refusal {
    /// Capture is paused.
    #[error("capture is paused")]
    Paused,
    /// The owner marked it as a secret.
    #[error("its owner marked it as secret")]
    Secret,
    /// Another program has put on the clipboard what we had put there ourselves.
    #[error("another program copied what was put on the clipboard a moment before")]
    Echo,
    /// The rules turn the history off.
    #[error("the history is off (turn it on: yadori rules set history on)")]
    Off,
    /// The rules leave out this kind.
    #[error("the rules ignore {}", .0.plural())]
    Kind(Kind),
    /// The rules leave out this application.
    #[error("the rules ignore copies made in {0}")]
    Application(String),
    /// The rules leave out texts that meet this pattern.
    #[error("the rules ignore text that matches {0}")]
    Pattern(String),
    /// The same was copied a moment before.
    #[error("the same was copied a moment before")]
    Repeat,
    /// It is said to be another clip than it is.
    #[error("its content is not that of the clip it is said to be")]
    AnotherId,
    /// Nothing in it but white space, or nothing at all.
    #[error("nothing but white space")]
    Blank,
    /// None of its formats is one that is kept.
    #[error("none of its formats can be kept")]
    NoUsefulFormat,
    /// Larger than the rules allow.
    #[error("larger than the limit of {limit} bytes")]
    TooLarge {
        /// The limit in force, in bytes.
        limit: u64,
    },
    /// The text is not in the encoding its owner claims.
    #[error("its text is not valid UTF-8")]
    InvalidText,
    /// A picture that cannot be decoded.
    #[error("the picture is broken: {0}")]
    BrokenImage(String),
    /// The owner did not answer in time, or went away in the middle.
    #[error("its owner did not deliver: {0}")]
    Undelivered(String),
}

/// Why copies made no clip, for counting: [`Refusal`] without its attributes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[expect(missing_docs, reason = "they are those of `Refusal`")]
pub enum RefusalKind {
    Paused,
    Secret,
    Echo,
    Off,
    Kind,
    Application,
    Pattern,
    Repeat,
    AnotherId,
    Blank,
    NoUsefulFormat,
    TooLarge,
    InvalidText,
    BrokenImage,
    Undelivered,
}

impl Refusal {
    /// Which kind of reason it is.
    pub fn kind(&self) -> RefusalKind {
        match self {
            Self::Paused => RefusalKind::Paused,
            Self::Secret => RefusalKind::Secret,
            Self::Echo => RefusalKind::Echo,
            Self::Off => RefusalKind::Off,
            Self::Kind(_) => RefusalKind::Kind,
            Self::Application(_) => RefusalKind::Application,
            Self::Pattern(_) => RefusalKind::Pattern,
            Self::Repeat => RefusalKind::Repeat,
            Self::AnotherId => RefusalKind::AnotherId,
            Self::Blank => RefusalKind::Blank,
            Self::NoUsefulFormat => RefusalKind::NoUsefulFormat,
            Self::TooLarge { .. } => RefusalKind::TooLarge,
            Self::InvalidText => RefusalKind::InvalidText,
            Self::BrokenImage(_) => RefusalKind::BrokenImage,
            Self::Undelivered(_) => RefusalKind::Undelivered,
        }
    }
}

/// A clip to be, but for its id.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Draft {
    /// What it is.
    pub kind: Kind,
    /// What it is called by its source: the title of a link, nothing for other kinds.
    pub caption: Option<String>,
    /// Its words: the text, the URL, the paths of files, empty for images.
    pub text: String,
    /// The secret that the text looks like.
    pub sensitive: Option<Sensitive>,
    /// The formats to keep.
    pub formats: Vec<Format>,
    /// Where the copy was made.
    pub source: Source,
    canonical: Canonical,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Canonical {
    Bytes(Vec<u8>),
    Text,
    Image { format: usize },
}

/// A decoded picture of one frame: what its identity rests on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// Width in pixels.
    pub width: u32,
    /// Height in pixels.
    pub height: u32,
    /// What [`identity::pixels`] says of it.
    pub canonical: [u8; 40],
}

impl Picture {
    /// A picture of these pixels (8-bit RGBA, row by row).
    pub fn of_rgba(width: u32, height: u32, rgba: &[u8]) -> Self {
        Self { width, height, canonical: identity::pixels(width, height, rgba) }
    }
}

impl Draft {
    /// The raster picture that must be decoded before the draft has an id.
    pub fn raster(&self) -> Option<&Format> {
        match self.canonical {
            Canonical::Image { format } => {
                self.formats.get(format).filter(|format| format::RASTERS.contains(&format.mime.as_str()))
            }
            _ => None,
        }
    }

    /// The clip's id. Vector images, animations, and pictures whose decoding the limits forbid (`picture`
    /// is `None`), are identified by their bytes.
    pub fn id(&self, picture: Option<&Picture>) -> ClipId {
        match (&self.canonical, picture) {
            (Canonical::Bytes(bytes), _) => ClipId::of(self.kind, bytes),
            (Canonical::Text, _) => ClipId::of(self.kind, self.text.as_bytes()),
            (Canonical::Image { .. }, Some(picture)) => ClipId::of(self.kind, &picture.canonical),
            (Canonical::Image { format }, None) => ClipId::of(self.kind, &self.formats[*format].data),
        }
    }

    /// Bytes of all formats together.
    pub fn size(&self) -> u64 {
        total_size(&self.formats)
    }

    /// Lines of the text; a last line without an end counts, an empty text has none.
    pub fn lines(&self) -> u64 {
        self.text.lines().count() as u64
    }

    /// Characters (Unicode scalar values) of the text.
    pub fn characters(&self) -> u64 {
        self.text.chars().count() as u64
    }
}

fn total_size(formats: &[Format]) -> u64 {
    formats.iter().map(|format| format.data.len() as u64).sum()
}

/// The HTML of a copy, if [`judge`] wants to know what it says: where there is no text beside it, or nothing but an address.
pub fn markup_wanted(formats: &[Format]) -> Option<&Format> {
    let plain = format::find(formats, format::PLAIN).map(|data| String::from_utf8_lossy(data));
    let tells = plain.is_some_and(|text| !text.trim().is_empty() && link::sole_url(&text).is_none());
    formats.iter().find(|format| format.mime == format::HTML && !tells)
}

/// Decides what a copy becomes. `markup` is what its HTML says, if that is known.
///
/// # Errors
/// The reason why it makes no clip.
pub fn judge(copy: Copy, markup: Option<&Markup>, rules: &Checked, maker: Maker) -> Result<Draft, Refusal> {
    if maker == Maker::Person {
        return draft(copy, markup, rules.rules().largest);
    }
    if !rules.rules().history {
        return Err(Refusal::Off);
    }
    if let Some(name) = rules.ignored_application(copy.source.application.as_deref()) {
        return Err(Refusal::Application(name.to_owned()));
    }
    let draft = draft(copy, markup, rules.rules().largest)?;
    if !rules.rules().kinds.contains(&draft.kind) {
        return Err(Refusal::Kind(draft.kind));
    }
    match rules.ignored_pattern(&draft.text) {
        Some(pattern) => Err(Refusal::Pattern(pattern.to_owned())),
        None => Ok(draft),
    }
}

fn draft(copy: Copy, markup: Option<&Markup>, size_limit: u64) -> Result<Draft, Refusal> {
    let Copy { mut formats, source } = copy;
    formats.retain(|format| !format.data.is_empty());
    format::keep_most(&mut formats);
    if formats.is_empty() {
        return Err(Refusal::Blank);
    }
    if total_size(&formats) > size_limit {
        return Err(Refusal::TooLarge { limit: size_limit });
    }
    let draft = |kind, text: String, canonical, formats| Draft {
        kind,
        caption: None,
        text,
        sensitive: None,
        formats,
        source: source.clone(),
        canonical,
    };

    if let Some(uris) = files::listed(&formats) {
        let paths: Vec<String> = uris.iter().map(|uri| files::path(uri)).collect();
        return Ok(draft(Kind::Files, paths.join("\n"), Canonical::Bytes(uris.join("\n").into_bytes()), formats));
    }

    let plain = match format::find(&formats, format::PLAIN) {
        Some(data) => Some(std::str::from_utf8(data).map_err(|_| Refusal::InvalidText)?.to_owned()),
        None => None,
    };
    let titled = format::find(&formats, format::TITLED_URL).and_then(|data| link::titled_url(data));
    let image = format::RASTERS
        .into_iter()
        .chain([format::SVG])
        .find_map(|mime| formats.iter().position(|format| format.mime == mime));
    // Office programs offer a picture of the text beside the text; browsers put the address of a
    // picture beside the picture. Words win, unless they are just such an address.
    if let Some(format) = image
        && plain.as_deref().is_none_or(|text| text.trim().is_empty() || link::sole_url(text).is_some())
    {
        let address = plain.as_deref().and_then(link::sole_url);
        let in_markup = || link::sole_url(markup?.picture.as_ref()?);
        let caption = address.or_else(in_markup).map(String::from);
        return Ok(Draft { caption, ..draft(Kind::Image, String::new(), Canonical::Image { format }, formats) });
    }

    let text = match plain {
        Some(text) => text,
        None => match (&titled, markup) {
            (Some((url, _)), _) => url.to_string(),
            (None, Some(markup)) => markup.text.clone(),
            (None, None) => return Err(Refusal::NoUsefulFormat),
        },
    };
    if text.chars().all(|c| c.is_whitespace() || c == '\0') {
        return Err(Refusal::Blank);
    }
    let sensitive = sensitive::recognise(&text);
    if let Some(url) = link::sole_url(&text) {
        let of_markup = || {
            let (href, title) = markup?.link.as_ref()?;
            Some(title.clone())
                .filter(|title| link::sole_url(href).is_some_and(|of| of == url) && link::sole_url(title).is_none())
        };
        let caption = titled
            .filter(|(of, _)| *of == url)
            .and_then(|(_, title)| title)
            .or_else(of_markup)
            .map(|title| preview::one_line(&title, preview::LONGEST));
        let canonical = Canonical::Bytes(url.as_str().into());
        return Ok(Draft { caption, sensitive, ..draft(Kind::Link, text, canonical, formats) });
    }
    Ok(Draft { sensitive, ..draft(Kind::Text, text, Canonical::Text, formats) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rules::Rules;
    use proptest::prelude::*;

    fn of(formats: Vec<Format>) -> Result<Draft, Refusal> {
        let markup = markup_wanted(&formats).map(|format| Markup::read(&format.data));
        judge(Copy { formats, ..Copy::default() }, markup.as_ref(), &Checked::default(), Maker::Program)
    }

    #[test]
    fn text_keeps_its_formats_and_its_exact_words() {
        let draft =
            of(vec![Format::plain("Load-in\n14:30 "), Format::new(format::HTML, "<b>Load-in</b><br>14:30 ")]).unwrap();
        assert_eq!(
            (draft.kind, draft.text.as_str(), draft.lines(), draft.characters()),
            (Kind::Text, "Load-in\n14:30 ", 2, 14)
        );
        assert_eq!(draft.formats.len(), 2);
        assert_eq!(draft.id(None), ClipId::of(Kind::Text, "Load-in\n14:30 ".as_bytes()));
    }

    #[test]
    fn html_alone_is_text_too() {
        let draft = of(vec![Format::new(format::HTML, "<ul><li>lamp</li></ul>")]).unwrap();
        assert_eq!((draft.kind, draft.text.as_str()), (Kind::Text, "lamp"));
    }

    #[test]
    fn html_is_looked_into_only_where_it_may_tell_more_than_the_text() {
        let html = || Format::new(format::HTML, "<a href='https://example.org/stalls'>Stalls plan</a>");
        assert_eq!(markup_wanted(&[Format::plain("Stalls plan"), html()]), None);
        assert_eq!(markup_wanted(&[Format::plain("https://example.org/stalls"), html()]), Some(&html()));
        assert_eq!(markup_wanted(&[Format::plain(" "), html()]), Some(&html()));
        assert_eq!(markup_wanted(&[html()]), Some(&html()));
        assert_eq!(markup_wanted(&[Format::plain(" ")]), None);
    }

    #[test]
    fn a_link_takes_its_title_along() {
        let draft = of(vec![
            Format::plain("https://example.org/stalls"),
            Format::new(format::TITLED_URL, "https://example.org/stalls\nStalls plan"),
        ])
        .unwrap();
        assert_eq!((draft.kind, draft.caption.as_deref()), (Kind::Link, Some("Stalls plan")));
        let again = of(vec![Format::plain(" https://EXAMPLE.org/stalls\n")]).unwrap();
        assert_eq!(again.id(None), draft.id(None));
        assert_eq!(again.text, " https://EXAMPLE.org/stalls\n", "what is recalled is what was copied");
    }

    #[test]
    fn files_are_their_uris_and_show_their_paths() {
        let draft = of(vec![
            Format::new(format::FILE_LIST, "cut\nfile:///srv/cue%20list.ods"),
            Format::new(format::URI_LIST, "file:///srv/cue%20list.ods\r\n"),
            Format::plain("/srv/cue list.ods"),
        ])
        .unwrap();
        assert_eq!((draft.kind, draft.text.as_str()), (Kind::Files, "/srv/cue list.ods"));
        assert_eq!(draft.id(None), ClipId::of(Kind::Files, b"file:///srv/cue%20list.ods"));
    }

    #[test]
    fn a_picture_beside_words_is_text_and_beside_its_own_address_is_a_picture() {
        let png = || Format::new("image/png", "not decoded here");
        assert_eq!(of(vec![png(), Format::plain("A1\tB1")]).unwrap().kind, Kind::Text);
        let draft = of(vec![png(), Format::plain("https://example.org/poster.png")]).unwrap();
        assert_eq!((draft.kind, draft.caption.as_deref()), (Kind::Image, Some("https://example.org/poster.png")));
        let from_page =
            of(vec![Format::new(format::HTML, "<img src='https://example.org/p?a=1&amp;b=2'>"), png()]).unwrap();
        assert_eq!(from_page.raster(), Some(&png()));
        assert_eq!(from_page.caption.as_deref(), Some("https://example.org/p?a=1&b=2"));
    }

    #[test]
    fn the_same_pixels_are_one_clip_in_any_encoding() {
        let picture = Picture::of_rgba(1, 1, &[1, 2, 3, 255]);
        let png = of(vec![Format::new("image/png", "one encoding")]).unwrap();
        let bmp = of(vec![Format::new("image/bmp", "another")]).unwrap();
        assert_eq!(png.id(Some(&picture)), bmp.id(Some(&picture)));
        assert_ne!(png.id(None), bmp.id(None));
    }

    #[test]
    fn what_cannot_be_kept_is_refused_with_its_reason() {
        assert_eq!(of(vec![]), Err(Refusal::Blank));
        assert_eq!(of(vec![Format::plain(" \n\t\u{a0}\0")]), Err(Refusal::Blank));
        assert_eq!(of(vec![Format::new(format::PLAIN, vec![b'a', 0xff])]), Err(Refusal::InvalidText));
        assert_eq!(of(vec![Format::new(format::RTF, "{\\rtf1}")]), Err(Refusal::NoUsefulFormat));
        let rules = Checked::new(Rules { largest: 1024, ..Rules::default() }).unwrap();
        let copy = Copy { formats: vec![Format::plain("four ".repeat(300))], ..Copy::default() };
        assert_eq!(judge(copy, None, &rules, Maker::Person), Err(Refusal::TooLarge { limit: 1024 }));
    }

    #[test]
    fn the_rules_hold_for_programs_and_not_for_the_person() {
        let copy = Copy {
            formats: vec![Format::plain("Draft of cue 7")],
            source: Source { application: Some("Safe Box".into()), ..Source::default() },
        };
        let under = |rules| {
            let rules = Checked::new(rules).unwrap();
            assert!(judge(copy.clone(), None, &rules, Maker::Person).is_ok());
            judge(copy.clone(), None, &rules, Maker::Program).unwrap_err()
        };
        let rules = Rules::default;
        assert_eq!(under(Rules { history: false, ..rules() }), Refusal::Off);
        assert_eq!(under(Rules { kinds: vec![Kind::Link], ..rules() }), Refusal::Kind(Kind::Text));
        let ignored = under(Rules { ignored_applications: vec!["safe box".into()], ..rules() });
        assert_eq!(ignored.to_string(), "the rules ignore copies made in safe box");
        assert_eq!(
            under(Rules { ignored_patterns: vec!["^Draft".into()], ..rules() }),
            Refusal::Pattern("^Draft".into())
        );
    }

    #[test]
    fn a_secret_is_kept_but_known_as_one() {
        assert_eq!(
            of(vec![Format::plain("password: kestrel-lane-9")]).unwrap().sensitive.map(|found| found.secret),
            Some(sensitive::Secret::Password)
        );
    }

    proptest! {
        #[test]
        fn a_copy_that_is_kept_keeps_every_byte(
            formats in prop::collection::vec((prop::sample::select(vec![
                format::PLAIN, format::HTML, format::RTF, format::URI_LIST, format::TITLED_URL, "image/png", format::SVG,
            ]), prop::collection::vec(any::<u8>(), 1..60)), 0..5)
        ) {
            let formats: Vec<Format> = formats.into_iter().map(|(mime, data)| Format::new(mime, data)).collect();
            if let Ok(draft) = of(formats.clone()) {
                prop_assert_eq!(&draft.formats, &formats);
                prop_assert_eq!(draft.id(None), of(formats).unwrap().id(None));
            }
        }
    }
}
