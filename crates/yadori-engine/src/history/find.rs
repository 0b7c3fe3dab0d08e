//! The history, and searching it, page by page.

use crate::clock::now;
use crate::history::History;
use crate::history::listing::Listed;
use jiff::tz::TimeZone;
use thiserror::Error;
use yadori_core::search::{Hit, Query, QueryError, When};
use yadori_core::{ClipId, Stamp};
use yadori_store::{ClipRecord, StoreError};

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

/// Deepest place of a search that can be paged to; beyond it, a better query helps more.
const DEEPEST: usize = 10_000;

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

/// Where a page begins.
enum Start {
    /// At the newest or best.
    Top,
    /// Of the history: after the clip with this stamp and id.
    After(Stamp, ClipId),
    /// Of a search: after so many clips.
    Skip(usize),
}

impl Start {
    fn parse(cursor: Option<&str>) -> Option<Self> {
        let Some(cursor) = cursor else { return Some(Self::Top) };
        if let Some(skip) = cursor.strip_prefix('s') {
            return skip.parse().ok().filter(|skip| *skip <= DEEPEST).map(Self::Skip);
        }
        let (stamp, id) = cursor.strip_prefix('h')?.split_once('-')?;
        Some(Self::After(Stamp::from_bits(stamp.parse().ok()?), ClipId::parse(id)?))
    }
}

impl History {
    /// A page of the history, or of the clips that meet a query.
    pub async fn find(&self, asked: &PageRequest) -> Result<Page, FindError> {
        let limit = asked.limit.unwrap_or(USUAL);
        if !(1..=MOST_ON_A_PAGE).contains(&limit) {
            return Err(FindError::Limit);
        }
        let limit = limit as usize;
        let start = Start::parse(asked.cursor.as_deref())
            .ok_or_else(|| FindError::Cursor(asked.cursor.clone().unwrap_or_default()))?;
        let zone = match &asked.zone {
            Some(name) => TimeZone::get(name).map_err(|_| FindError::Zone(name.clone()))?,
            None => TimeZone::system(),
        };
        let query = Query::parse(asked.query.as_deref().unwrap_or_default(), &When { now: now(), zone })?;

        // One more than is shown tells whether there is a next page.
        let (mut hits, positions, total): (Vec<Hit>, Vec<Option<usize>>, u64) = {
            let index = self.ledger.read().await;
            let hits = match start {
                _ if !query.is_empty() => {
                    let skip = if let Start::Skip(skip) = start { skip } else { 0 };
                    index.search(&query, skip, limit + 1)
                }
                Start::After(stamp, id) => index.page(Some((stamp, id)), limit + 1),
                Start::Top | Start::Skip(_) => index.page(None, limit + 1),
            };
            let positions = hits.iter().map(|hit| index.position(hit.id)).collect();
            (hits, positions, index.len() as u64)
        };
        let more = hits.len() > limit;
        hits.truncate(limit);
        let numbers: Vec<u64> = hits.iter().map(|hit| hit.number).collect();
        let records = self.store.clips(&numbers).await?;
        let next = more.then(|| match start {
            _ if !query.is_empty() => {
                let skip = if let Start::Skip(skip) = start { skip } else { 0 };
                (skip + limit <= DEEPEST).then(|| format!("s{}", skip + limit))
            }
            _ => records.last().map(|last| format!("h{}-{}", last.life.copied.to_bits(), last.id)),
        });
        let query = (!query.is_empty()).then_some(query);
        let place = |number| hits.iter().position(|hit| hit.number == number).and_then(|place| positions[place]);
        let clips = records
            .into_iter()
            .filter(ClipRecord::is_live)
            .map(|record| Listed { position: place(record.number), record })
            .collect();
        Ok(Page { clips, query, next: next.flatten(), total })
    }
}
