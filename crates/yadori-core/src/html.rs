//! Text out of HTML, and out of the encodings in which browsers put it on the clipboard.

mod text;

/// Decodes text that is UTF-8, or UTF-16 with or without a byte-order mark, as browsers write it.
/// What is not valid becomes `�`; a trailing NUL is dropped.
pub fn decode(data: &[u8]) -> String {
    let utf16 = |data: &[u8], read: fn([u8; 2]) -> u16| {
        let units = data.chunks_exact(2).map(|pair| read([pair[0], pair[1]]));
        char::decode_utf16(units).map(|unit| unit.unwrap_or(char::REPLACEMENT_CHARACTER)).collect::<String>()
    };
    let text = match data {
        [0xff, 0xfe, rest @ ..] => utf16(rest, u16::from_le_bytes),
        [0xfe, 0xff, rest @ ..] => utf16(rest, u16::from_be_bytes),
        [0xef, 0xbb, 0xbf, rest @ ..] => String::from_utf8_lossy(rest).into_owned(),
        // Markup and URLs begin with ASCII, so in UTF-16 one byte of the first pair is zero.
        [first, 0, ..] if *first != 0 => utf16(data, u16::from_le_bytes),
        [0, second, ..] if *second != 0 => utf16(data, u16::from_be_bytes),
        _ => String::from_utf8_lossy(data).into_owned(),
    };
    text.trim_end_matches('\0').to_owned()
}

/// The words of an HTML fragment as a browser copies them: paragraphs and lists by lines, the cells of a table apart by
/// tabs, white space as it is shown (the algorithm of `innerText`, HTML Living Standard, section 3.2.7, as far as it can be
/// told without a style sheet).
pub fn to_text(data: &[u8]) -> String {
    text::of(&decode(data))
}

/// The words of the one link in an HTML fragment, and where it leads; nothing if there are several, or none.
pub fn sole_link(data: &[u8]) -> Option<(String, String)> {
    text::sole_link(&decode(data))
}

/// What an HTML fragment says, as far as it matters when it is copied.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Markup {
    /// Its words ([`to_text`]).
    pub text: String,
    /// Where its one link leads, and the words of that ([`sole_link`]).
    pub link: Option<(String, String)>,
    /// The address of its one picture ([`sole_picture`]).
    pub picture: Option<String>,
}

impl Markup {
    /// Reads an HTML fragment.
    pub fn read(data: &[u8]) -> Self {
        Self { text: to_text(data), link: sole_link(data), picture: sole_picture(data) }
    }
}

/// An HTML fragment as Markdown.
pub fn to_markdown(data: &[u8]) -> String {
    let converter = htmd::HtmlToMarkdown::builder().skip_tags(vec!["head", "script", "style", "title"]).build();
    let text = decode(data);
    converter.convert(&text).map_or_else(|_| to_text(data), |markdown| markdown.trim().to_owned())
}

/// The address of a picture, if the fragment is one picture and nothing else: so a browser writes it beside
/// the picture itself.
pub fn sole_picture(data: &[u8]) -> Option<String> {
    let markup = decode(data);
    let lower = markup.to_ascii_lowercase();
    let mut pictures = lower.match_indices("<img").map(|(at, _)| at);
    let (Some(at), None) = (pictures.next(), pictures.next()) else { return None };
    let tag = &markup[at + 4..at + lower[at..].find('>')?];
    let source = attribute(tag, "src")?;
    let alone = to_text(format!("{}{}", &markup[..at], &markup[at + 4 + tag.len() + 1..]).as_bytes()).is_empty();
    alone.then(|| source.replace("&amp;", "&"))
}

/// The value of an attribute in the inside of a tag.
fn attribute<'a>(tag: &'a str, name: &str) -> Option<&'a str> {
    let mut rest = tag;
    loop {
        rest = rest.trim_start_matches(|c: char| c.is_whitespace() || c == '/');
        let end = rest.find(|c: char| c == '=' || c.is_whitespace()).filter(|end| *end > 0)?;
        let (found, after) = rest.split_at(end);
        let Some(value) = after.trim_start().strip_prefix('=').map(str::trim_start) else {
            rest = after;
            continue;
        };
        let quote = value.chars().next().filter(|c| matches!(c, '"' | '\''));
        let (value, after) = match quote {
            Some(quote) => value[1..].split_once(quote)?,
            None => value.split_at(value.find(char::is_whitespace).unwrap_or(value.len())),
        };
        if found.eq_ignore_ascii_case(name) {
            return Some(value);
        }
        rest = after;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn html_is_read_in_utf8_and_both_utf16() {
        let html = "<p>Grüße aus <b>Čáslav</b></p>";
        let little: Vec<u8> = html.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let big: Vec<u8> = html.encode_utf16().flat_map(u16::to_be_bytes).collect();
        let marked: Vec<u8> = [&[0xff, 0xfe], little.as_slice()].concat();
        for data in [html.as_bytes(), &little, &big, &marked] {
            assert_eq!(to_text(data), "Grüße aus Čáslav");
        }
    }

    #[test]
    fn script_and_style_are_not_text() {
        assert_eq!(to_text(b"<style>p{}</style><script>alert(1)</script><p>Cue 7</p>"), "Cue 7");
    }

    #[test]
    fn what_is_copied_as_html_reads_as_a_browser_copies_it() {
        let table = "<table><thead><tr><th>Cue</th><th>Lamp</th></tr></thead><tbody>\n<tr><td>1</td>\n<td>7 &amp; 8</td></tr>\
            <tr><td></td><td>12</td></tr></tbody></table>";
        assert_eq!(to_text(table.as_bytes()), "Cue\tLamp\n1\t7 & 8\n\t12");
        let words =
            "<h1>Load-in</h1><p>By  the\n north <b>door</b>.</p><p>At<br>14:30</p><ul><li>lamp<li>gel</ul>after";
        assert_eq!(to_text(words.as_bytes()), "Load-in\n\nBy the north door.\n\nAt\n14:30\n\nlamp\ngel\nafter");
        assert_eq!(to_text(b"<div>one</div><div><div>two</div></div><span>three</span>"), "one\ntwo\nthree");
        assert_eq!(to_text(b"<pre>  a\n    b</pre>"), "  a\n    b");
        assert_eq!(to_text("a&nbsp;b<!-- c --><title>d</title>".as_bytes()), "a b");
        assert_eq!(to_text(b"<p></p><p> </p>"), "");
    }

    #[test]
    fn the_one_link_has_a_title() {
        let of = |markup: &str| sole_link(markup.as_bytes());
        let found = Some(("https://example.org/stalls".to_owned(), "Stalls plan".to_owned()));
        assert_eq!(of("<meta charset='utf-8'><a href=\"https://example.org/stalls\">Stalls <b>plan</b></a>"), found);
        assert_eq!(of("<a href='https://example.org/a'>a</a> <a href='https://example.org/b'>b</a>"), None);
        assert_eq!(of("<a name='x'>Stalls plan</a>"), None);
    }

    #[test]
    fn a_picture_alone_has_an_address() {
        let address = |markup: &str| sole_picture(markup.as_bytes());
        let found = Some("https://example.org/poster.png".to_owned());
        assert_eq!(address("<meta charset='utf-8'><img alt=\"a > b\" src=\"https://example.org/poster.png\"/>"), None);
        assert_eq!(address("<meta charset='utf-8'><IMG hidden alt='x' SRC=https://example.org/poster.png>"), found);
        assert_eq!(address("<p><img src='https://example.org/poster.png'></p>"), found);
        assert_eq!(address("<img src='https://example.org/poster.png'> and words"), None);
        assert_eq!(address("<img src='https://example.org/a.png'><img src='https://example.org/b.png'>"), None);
    }

    proptest! {
        #[test]
        fn no_markup_can_upset_it(markup in "(<img|src=|['\"<> a=/é]){0,30}") {
            let _ = sole_picture(markup.as_bytes());
        }

        #[test]
        fn no_bytes_can_upset_the_reader(data in prop::collection::vec(any::<u8>(), 0..200)) {
            let _ = to_text(&data);
        }
    }
}
