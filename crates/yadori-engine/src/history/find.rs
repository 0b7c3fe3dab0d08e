//! The history, and searching it, page by page.

use crate::clock::now;
use crate::history::History;
use crate::history::listing::Listed;
use jiff::tz::TimeZone;
use thiserror::Error;
use yadori_core::search::{Hit, Place, Query, QueryError, When};
use yadori_core::{ClipId, Stamp};
use yadori_store::StoreError;

/// Clips on a page when nothing else is asked for.
const USUAL: u32 = 50;

/// Most clips on a page.
pub const MOST_ON_A_PAGE: u32 = 200;

/// A page of the history that is asked for, or of what meets a query.
#[derive(Clone, Debug, Default)]
pub struct PageRequest {
    /// The query; everything if there is none.
    pub query: Option<String>,
    /// Where to go on, as the page before said.
    pub cursor: Option<String>,
    /// Most clips on the page.
    pub limit: Option<u32>,
    /// The IANA name of the time zone that days are meant in; the system's if there is none.
    pub zone: Option<String>,
}

/// A page of clips.
#[derive(Clone, Debug)]
pub struct Page {
    /// The clips.
    pub clips: Vec<Listed>,
    /// What they meet.
    pub query: Option<Query>,
    /// Where the next page begins, if there is one.
    pub next: Option<String>,
    /// How many clips the history has.
    pub total: u64,
}

/// Why nothing was listed.
#[derive(Debug, Error)]
pub enum FindError {
    /// The query makes no sense.
    #[error(transparent)]
    Query(#[from] QueryError),
    /// Not a cursor that we gave.
    #[error("“{0}” is not a cursor of this list")]
    Cursor(String),
    /// Zero clips, or too many.
    #[error("a page has 1 to {} clips", MOST_ON_A_PAGE)]
    Limit,
    /// No such time zone.
    #[error("“{0}” is not the name of a time zone")]
    Zone(String),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Where a page of the history begins: after the clip with this stamp and id.
fn after_clip(cursor: &str) -> Option<(Stamp, ClipId)> {
    let (stamp, id) = cursor.strip_prefix('h')?.split_once('-')?;
    Some((Stamp::from_bits(stamp.parse().ok()?), ClipId::parse(id)?))
}

/// The name of a query in its cursors, which are of no use to another.
fn name_of(query: &str) -> String {
    blake3::hash(query.trim().as_bytes()).to_hex()[..12].to_owned()
}

/// Where a page of this search begins.
fn after_hit(cursor: &str, query: &str) -> Option<Place> {
    let (name, place) = cursor.strip_prefix('q')?.split_once('-')?;
    place.parse().ok().filter(|_| name == name_of(query))
}

impl History {
    /// A page of the history, or of the clips that meet a query.
    pub async fn find(&self, asked: &PageRequest) -> Result<Page, FindError> {
        let limit = asked.limit.unwrap_or(USUAL);
        if !(1..=MOST_ON_A_PAGE).contains(&limit) {
            return Err(FindError::Limit);
        }
        let limit = limit as usize;
        let zone = match &asked.zone {
            Some(name) => TimeZone::get(name).map_err(|_| FindError::Zone(name.clone()))?,
            None => TimeZone::system(),
        };
        let query = Query::parse(asked.query.as_deref().unwrap_or_default(), &When { now: now(), zone })?;

        let no_cursor = || FindError::Cursor(asked.cursor.clone().unwrap_or_default());
        let (hits, positions, total, next): (Vec<Hit>, Vec<Option<usize>>, u64, Option<String>) = {
            let index = self.ledger.read().await;
            let (hits, next) = if query.is_empty() {
                let after =
                    asked.cursor.as_deref().map(|cursor| after_clip(cursor).ok_or_else(no_cursor)).transpose()?;
                // One more than is shown tells whether there is a next page.
                let mut hits = index.page(after, limit + 1);
                let more = hits.len() > limit;
                hits.truncate(limit);
                let last = hits.last().filter(|_| more).and_then(|last| Some((index.copied_at(last.id)?, last.id)));
                (hits, last.map(|(copied, id)| format!("h{}-{id}", copied.to_bits())))
            } else {
                let words = asked.query.as_deref().unwrap_or_default();
                let after = asked.cursor.as_deref().map(|cursor| after_hit(cursor, words).ok_or_else(no_cursor));
                let (hits, next) = index.search(&query, after.transpose()?.as_ref(), limit);
                (hits, next.map(|place| format!("q{}-{place}", name_of(words))))
            };
            let positions = hits.iter().map(|hit| index.position(hit.id)).collect();
            (hits, positions, index.len() as u64, next)
        };
        let numbers: Vec<u64> = hits.iter().map(|hit| hit.number).collect();
        let records = self.store.clips(&numbers).await?;
        let query = (!query.is_empty()).then_some(query);
        let place = |number| hits.iter().position(|hit| hit.number == number).and_then(|place| positions[place]);
        let clips = records
            .into_iter()
            .filter(|record| record.is_live())
            .map(|record| Listed { position: place(record.number), record })
            .collect();
        Ok(Page { clips, query, next, total })
    }
}
