//! From the tokens of HTML to the text that a person sees.

use html5ever::TokenizerResult;
use html5ever::tendril::StrTendril;
use html5ever::tokenizer::states::RawKind;
use html5ever::tokenizer::{BufferQueue, Tag, TagKind, Token, TokenSink, TokenSinkResult, Tokenizer, TokenizerOpts};
use std::cell::RefCell;

/// Elements whose content is not shown.
const HIDDEN: [&str; 6] = ["head", "script", "style", "title", "template", "noscript"];

/// Elements that begin and end on a line of their own.
const BLOCKS: [&str; 30] = [
    "address",
    "article",
    "aside",
    "blockquote",
    "body",
    "center",
    "dd",
    "details",
    "dialog",
    "dir",
    "div",
    "dl",
    "dt",
    "fieldset",
    "figcaption",
    "figure",
    "footer",
    "form",
    "header",
    "hr",
    "html",
    "legend",
    "li",
    "main",
    "nav",
    "ol",
    "pre",
    "section",
    "table",
    "ul",
];

/// Elements with an empty line before and after them.
const PARAGRAPHS: [&str; 7] = ["p", "h1", "h2", "h3", "h4", "h5", "h6"];

#[derive(Default)]
struct Reader {
    text: String,
    /// Line ends that are needed before the next words.
    lines: usize,
    /// White space that is shown as one space, if words follow on the same line.
    space: bool,
    /// How deep within elements that are not shown, or whose white space counts.
    hidden: usize,
    preformatted: usize,
    /// Whether a cell has ended in this row of a table, so that another needs a tab.
    cell: Vec<bool>,
    /// Links so far; where the first leads, and its words while they are read.
    links: usize,
    link: Option<(String, String)>,
    in_link: bool,
}

impl Reader {
    fn words(&mut self, words: &str) {
        if self.hidden > 0 {
            return;
        }
        for c in words.chars() {
            // A space that must not be broken is an ordinary one when it is copied.
            let c = if c == '\u{a0}' { ' ' } else { c };
            if self.preformatted == 0 && matches!(c, ' ' | '\t' | '\n' | '\r' | '\u{c}') && words != "\u{a0}" {
                self.space = true;
                continue;
            }
            self.push(c);
        }
    }

    fn push(&mut self, c: char) {
        let at_start = self.text.is_empty() || self.text.ends_with(['\n', '\t']);
        if self.lines > 0 && !self.text.is_empty() {
            let there = self.text.len() - self.text.trim_end_matches('\n').len();
            (there..self.lines).for_each(|_| self.text.push('\n'));
        } else if self.space && !at_start {
            self.text.push(' ');
        }
        if let Some((_, words)) = self.link.as_mut().filter(|_| self.in_link) {
            if self.space && !words.is_empty() {
                words.push(' ');
            }
            words.push(c);
        }
        (self.lines, self.space) = (0, false);
        self.text.push(c);
    }

    /// A new line begins, after at least so many line ends; what was there stays as it is.
    fn line(&mut self, ends: usize) {
        self.lines = self.lines.max(ends);
        self.space = false;
    }

    fn tag(&mut self, tag: &Tag) {
        let name: &str = &tag.name;
        let starts = tag.kind == TagKind::StartTag;
        if HIDDEN.contains(&name) {
            self.hidden = if starts { self.hidden + 1 } else { self.hidden.saturating_sub(1) };
        }
        match name {
            "body" if starts => self.hidden = 0,
            "br" => {
                let there = self.lines;
                self.settle_lines(there);
                self.text.push('\n');
                self.space = false;
            }
            "tr" => {
                self.line(1);
                match starts {
                    true => self.cell.push(false),
                    false => drop(self.cell.pop()),
                }
            }
            "td" | "th" if starts => {
                if self.cell.last() == Some(&true) {
                    let there = self.lines;
                    self.settle_lines(there);
                    self.text.push('\t');
                } else if self.lines > 0 && !self.text.is_empty() {
                    let there = self.lines;
                    self.settle_lines(there);
                }
                self.space = false;
                match self.cell.last_mut() {
                    Some(cell) => *cell = true,
                    None => self.cell.push(true),
                }
            }
            "a" if starts && tag.attrs.iter().any(|attribute| &*attribute.name.local == "href") => {
                self.links += 1;
                if self.link.is_none() {
                    let href = tag.attrs.iter().find(|attribute| &*attribute.name.local == "href");
                    let href = href.map(|attribute| attribute.value.to_string()).unwrap_or_default();
                    (self.link, self.in_link) = (Some((href, String::new())), true);
                }
            }
            "a" => self.in_link = false,
            "pre" | "textarea" => {
                self.line(1);
                self.preformatted = if starts { self.preformatted + 1 } else { self.preformatted.saturating_sub(1) };
            }
            // Within a cell, a paragraph does not break its row.
            name if PARAGRAPHS.contains(&name) => self.line(if self.cell.last() == Some(&true) { 0 } else { 2 }),
            name if BLOCKS.contains(&name) => {
                self.line(if self.cell.last() == Some(&true) && name != "table" { 0 } else { 1 });
            }
            _ => {}
        }
    }

    fn settle_lines(&mut self, ends: usize) {
        if !self.text.is_empty() {
            let there = self.text.len() - self.text.trim_end_matches('\n').len();
            (there..ends).for_each(|_| self.text.push('\n'));
        }
        self.lines = 0;
    }
}

struct Sink(RefCell<Reader>);

impl TokenSink for Sink {
    type Handle = ();

    fn process_token(&self, token: Token, _line: u64) -> TokenSinkResult<()> {
        let mut reader = self.0.borrow_mut();
        match token {
            Token::CharacterTokens(words) => reader.words(&words),
            Token::TagToken(tag) => {
                reader.tag(&tag);
                // What is in these is no markup (HTML, section 13.2.5.2 and following).
                if tag.kind == TagKind::StartTag && !tag.self_closing {
                    match &*tag.name {
                        "script" | "style" | "noscript" | "iframe" => {
                            return TokenSinkResult::RawData(RawKind::Rawtext);
                        }
                        "title" | "textarea" => return TokenSinkResult::RawData(RawKind::Rcdata),
                        _ => {}
                    }
                }
            }
            _ => {}
        }
        TokenSinkResult::Continue
    }
}

fn read(markup: &str) -> Reader {
    let tokenizer = Tokenizer::new(Sink(RefCell::default()), TokenizerOpts::default());
    let input = BufferQueue::default();
    input.push_back(StrTendril::from(markup));
    while let TokenizerResult::Script(()) = tokenizer.feed(&input) {}
    tokenizer.end();
    tokenizer.sink.0.take()
}

/// The text of some markup.
pub(super) fn of(markup: &str) -> String {
    let text = read(markup).text;
    // White space at the edges of a line is not shown, but for tabs, which tell cells apart, and what was preformatted.
    let trimmed = text.trim_end_matches(['\n', ' ']).trim_start_matches('\n');
    trimmed.to_owned()
}

/// The words of the one link in some markup, and where it leads.
pub(super) fn sole_link(markup: &str) -> Option<(String, String)> {
    let reader = read(markup);
    reader.link.filter(|(href, words)| reader.links == 1 && !href.is_empty() && !words.trim().is_empty())
}
