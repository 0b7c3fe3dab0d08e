//! Clips, pages of them, and what was done with them.

use super::Contract;
use std::ops::Range;
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_core::search::Query;
use yadori_core::sensitive::{Secret, Sensitive};
use yadori_core::{Kind, Mark};
use yadori_engine::clock::timestamp;
use yadori_engine::fetching::Fetched;
use yadori_engine::history::files::ListedFile;
use yadori_engine::history::index::Change;
use yadori_engine::history::listing::{self, Listed};
use yadori_engine::history::show::Detail;
use yadori_engine::keeping::add::Added;
use yadori_engine::keeping::edit::{Edited, Reshaped};
use yadori_engine::recalling::{Expanded, Recalled};

fn colour(mark: Mark) -> api::Colour {
    match mark {
        Mark::Amber => api::Colour::Amber,
        Mark::Brick => api::Colour::Brick,
        Mark::Fern => api::Colour::Fern,
        Mark::Lagoon => api::Colour::Lagoon,
        Mark::Plum => api::Colour::Plum,
        Mark::Slate => api::Colour::Slate,
    }
}

/// A mark that a client names.
pub fn mark_of(colour: api::Colour) -> Mark {
    match colour {
        api::Colour::Amber => Mark::Amber,
        api::Colour::Brick => Mark::Brick,
        api::Colour::Fern => Mark::Fern,
        api::Colour::Lagoon => Mark::Lagoon,
        api::Colour::Plum => Mark::Plum,
        api::Colour::Slate => Mark::Slate,
    }
}

/// The secret that a text looks like.
pub fn secret(found: Sensitive) -> api::Secret {
    match found.secret {
        Secret::PrivateKey => api::Secret::PrivateKey,
        Secret::Token => api::Secret::Token,
        Secret::CardNumber => api::Secret::CardNumber,
        Secret::Password => api::Secret::Password,
        Secret::Account => api::Secret::BankAccount,
    }
}

/// A kind that a client names.
pub fn kind_of(kind: api::Kind) -> Kind {
    match kind {
        api::Kind::Text => Kind::Text,
        api::Kind::Link => Kind::Link,
        api::Kind::Image => Kind::Image,
        api::Kind::Files => Kind::Files,
    }
}

/// A kind for the client.
pub fn kind(kind: Kind) -> api::Kind {
    match kind {
        Kind::Text => api::Kind::Text,
        Kind::Link => api::Kind::Link,
        Kind::Image => api::Kind::Image,
        Kind::Files => api::Kind::Files,
    }
}

/// Where a text meets a query.
pub(in crate::http) fn marks(met: Vec<Range<usize>>) -> Vec<api::Mark> {
    met.into_iter().map(|range| api::Mark { start: range.start as u32, end: range.end as u32 }).collect()
}

/// A clip in a list, or among what meets a query.
pub(in crate::http) fn clip(Listed { record, position }: &Listed, query: Option<&Query>, rules: &Checked) -> api::Clip {
    let (preview, met) = listing::preview(record, query);
    // Matches are marked in the one line.
    let excerpt = if query.is_some_and(|query| !query.is_empty()) { None } else { listing::excerpt(record) };
    let (width, height) = record.pixels.unzip();
    let (lines, characters) = record.extent.unzip();
    api::Clip {
        id: record.id.to_string(),
        position: position.map(|position| position as u32),
        kind: kind(record.kind),
        preview,
        excerpt,
        expires_at: listing::expiry(record, rules).map(timestamp),
        title: record.title.clone(),
        caption: record.caption.clone(),
        pinned: record.pin.is_some(),
        mark: record.mark.map(colour),
        fills: record.fills,
        drawer: record.drawer.as_ref().map(|drawer| drawer.name.clone()),
        alias: record.alias.clone(),
        marks: marks(met),
        sensitive: record.sensitive.map(secret),
        copied_at: timestamp(record.life.copied.at()),
        recalled_at: record.recalled_at.map(timestamp),
        copies: record.copies,
        recalls: record.recalls,
        size: record.size,
        width,
        height,
        lines,
        characters,
        source: api::Source {
            application: record.source.application.clone(),
            window: record.source.window.clone(),
            page: record.source.page.clone(),
            selected: record.source.selected,
        },
        device: record.device.clone(),
        shared: record.shared,
        elsewhere: record.elsewhere,
    }
}

impl Contract for Listed {
    type As = api::Clip;

    fn contract(self, rules: &Checked) -> api::Clip {
        clip(&self, None, rules)
    }
}

impl Contract for Change {
    type As = api::ClipChange;

    fn contract(self, rules: &Checked) -> api::ClipChange {
        api::ClipChange {
            change: self.number,
            id: self.id.to_string(),
            clip: self.clip.contract(rules),
            total: self.total,
        }
    }
}

impl Contract for ListedFile {
    type As = api::FileInfo;

    fn contract(self, _: &Checked) -> api::FileInfo {
        api::FileInfo { uri: self.uri, path: self.path, missing: self.missing }
    }
}

impl Contract for Detail {
    type As = api::ClipDetail;

    fn contract(self, rules: &Checked) -> api::ClipDetail {
        let formats = self.formats.into_iter();
        api::ClipDetail {
            clip: self.clip.contract(rules),
            formats: formats.map(|format| api::FormatInfo { mime: format.mime, size: format.size }).collect(),
            text: self.text,
            text_is_whole: self.text_is_whole,
            files: self.files.contract(rules),
        }
    }
}

impl Contract for Added {
    type As = api::Added;

    fn contract(self, rules: &Checked) -> api::Added {
        api::Added { clip: self.clip.contract(rules), new: self.new }
    }
}

impl Contract for Edited {
    type As = api::Edited;

    fn contract(self, rules: &Checked) -> api::Edited {
        api::Edited { clip: self.clip.contract(rules), changed: self.changed, old_stays: self.old_stays }
    }
}

impl Contract for Reshaped {
    type As = api::Reshaped;

    fn contract(self, rules: &Checked) -> api::Reshaped {
        api::Reshaped { before: self.before, after: self.after, clip: self.clip.contract(rules) }
    }
}

impl Contract for Expanded {
    type As = api::Expanded;

    fn contract(self, _: &Checked) -> api::Expanded {
        api::Expanded { text: self.text, filled: self.filled, unknown: self.unknown }
    }
}

impl Contract for Recalled {
    type As = api::Recalled;

    fn contract(self, rules: &Checked) -> api::Recalled {
        api::Recalled {
            clips: self.clips.contract(rules),
            formats: self.formats,
            missing: self.missing,
            left_out: self.left_out.contract(rules),
            pasted: self.pasted,
        }
    }
}

impl Contract for Fetched {
    type As = api::Fetched;

    fn contract(self, _: &Checked) -> api::Fetched {
        api::Fetched { id: self.id.to_string(), here: self.here, size: self.size }
    }
}
