//! Several clips as one: texts with a separator between them, lists of files as one list.

use crate::format::{self, Format};

/// One of the clips to be joined.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Part {
    /// Its text.
    pub text: String,
    /// Its markup, if it has some.
    pub html: Option<String>,
}

/// The separator that a word stands for: `newline`, `tab`, `comma`, `space`, `nothing`, `paragraph`; anything else
/// is the separator itself.
pub fn separator(word: &str) -> &str {
    match word {
        "newline" => "\n",
        "tab" => "\t",
        "comma" => ", ",
        "space" => " ",
        "paragraph" => "\n\n",
        "nothing" => "",
        other => other,
    }
}

/// Texts joined. Where one of them has markup, markup is offered beside the text: tabs make the cells of a row,
/// line ends make paragraphs.
pub fn texts(parts: &[Part], separator: &str) -> Vec<Format> {
    let text: Vec<&str> = parts.iter().map(|part| part.text.as_str()).collect();
    let mut formats = vec![Format::plain(text.join(separator))];
    if parts.iter().any(|part| part.html.is_some()) {
        let pieces: Vec<String> =
            parts.iter().map(|part| part.html.as_deref().map_or_else(|| escaped(&part.text), fragment)).collect();
        let wrapped = |open: &str, close: &str| -> String {
            pieces.iter().map(|piece| format!("{open}{piece}{close}")).collect()
        };
        let markup = match separator {
            "\t" => format!("<table><tr>{}</tr></table>", wrapped("<td>", "</td>")),
            "\n" | "\n\n" => wrapped("<div>", "</div>"),
            other => pieces.join(&escaped(other)),
        };
        formats.push(Format::new(format::HTML, markup));
    }
    formats
}

/// Lists of URIs joined to one, each file once, in their order.
pub fn files(lists: &[Vec<String>]) -> Vec<Format> {
    let mut all: Vec<&str> = Vec::new();
    for uri in lists.iter().flatten() {
        if !all.contains(&uri.as_str()) {
            all.push(uri);
        }
    }
    let list: String = all.iter().map(|uri| format!("{uri}\r\n")).collect();
    crate::files::to_copy(&[Format::new(format::URI_LIST, list)])
}

/// The part of a document of markup that was copied.
fn fragment(markup: &str) -> String {
    let between = |open: &str, close: &str| {
        let start = markup.find(open)? + open.len();
        let end = markup[start..].find(close)? + start;
        Some(markup[start..end].to_owned())
    };
    let body = || {
        let start = markup.find("<body").or_else(|| markup.find("<BODY"))?;
        let start = start + markup[start..].find('>')? + 1;
        let end = markup.rfind("</body").or_else(|| markup.rfind("</BODY")).unwrap_or(markup.len());
        markup.get(start..end).map(str::to_owned)
    };
    between("<!--StartFragment-->", "<!--EndFragment-->").or_else(body).unwrap_or_else(|| markup.to_owned())
}

/// Text as markup that shows it.
pub fn escaped(text: &str) -> String {
    let mut markup = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            '&' => markup.push_str("&amp;"),
            '<' => markup.push_str("&lt;"),
            '>' => markup.push_str("&gt;"),
            '"' => markup.push_str("&quot;"),
            '\n' => markup.push_str("<br>"),
            '\t' => markup.push_str("&emsp;"),
            _ => markup.push(c),
        }
    }
    markup
}

#[cfg(test)]
mod tests {
    use super::*;

    fn part(text: &str, html: Option<&str>) -> Part {
        Part { text: text.into(), html: html.map(str::to_owned) }
    }

    fn data(formats: &[Format]) -> Vec<(String, String)> {
        formats.iter().map(|format| (format.mime.clone(), String::from_utf8(format.data.to_vec()).unwrap())).collect()
    }

    #[test]
    fn plain_texts_are_joined_plainly() {
        let joined = texts(&[part("a", None), part("b", None)], separator("tab"));
        assert_eq!(data(&joined), [(format::PLAIN.to_owned(), "a\tb".to_owned())]);
    }

    #[test]
    fn markup_is_joined_as_markup_beside_the_text() {
        let parts = [
            part("a", Some("<html><body><!--StartFragment--><b>a</b><!--EndFragment--></body></html>")),
            part("1 < 2", None),
        ];
        let html = |separator| data(&texts(&parts, separator)).remove(1).1;
        assert_eq!(html("\t"), "<table><tr><td><b>a</b></td><td>1 &lt; 2</td></tr></table>");
        assert_eq!(html("\n"), "<div><b>a</b></div><div>1 &lt; 2</div>");
        assert_eq!(html(" & "), "<b>a</b> &amp; 1 &lt; 2");
        assert_eq!(fragment("<body class=x>hi</body>"), "hi");
    }

    #[test]
    fn files_are_listed_once() {
        let list = |uris: &[&str]| uris.iter().map(|uri| (*uri).to_owned()).collect::<Vec<_>>();
        let joined = files(&[list(&["file:///a", "file:///b"]), list(&["file:///a", "file:///c"])]);
        let data = data(&joined);
        let uris = data.iter().find(|(mime, _)| mime == format::URI_LIST).map(|(_, uris)| uris.as_str());
        assert_eq!(uris, Some("file:///a\r\nfile:///b\r\nfile:///c\r\n"));
    }
}
