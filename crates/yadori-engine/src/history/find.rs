//! The history, and searching it, page by page.

use crate::clock::now;
use crate::history::History;
use crate::history::listing;
use jiff::tz::TimeZone;
use thiserror::Error;
use yadori_api as api;
use yadori_core::search::{Hit, Query, QueryError, When};
use yadori_core::{ClipId, Stamp};
use yadori_store::StoreError;

/// Clips on a page when nothing else is asked for.
const USUAL: u32 = 50;

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
    #[error("a page has 1 to {} clips", api::MOST_ON_A_PAGE)]
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
    pub async fn find(&self, asked: &api::ListQuery) -> Result<api::ClipPage, FindError> {
        let limit = asked.limit.unwrap_or(USUAL);
        if !(1..=api::MOST_ON_A_PAGE).contains(&limit) {
            return Err(FindError::Limit);
        }
        let limit = limit as usize;
        let start = Start::parse(asked.cursor.as_deref())
            .ok_or_else(|| FindError::Cursor(asked.cursor.clone().unwrap_or_default()))?;
        let zone = match &asked.zone {
            Some(name) => TimeZone::get(name).map_err(|_| FindError::Zone(name.clone()))?,
            None => TimeZone::system(),
        };
        let query = Query::parse(asked.q.as_deref().unwrap_or_default(), &When { now: now(), zone })?;

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
        let query = (!query.is_empty()).then_some(&query);
        let place = |number| hits.iter().position(|hit| hit.number == number).and_then(|place| positions[place]);
        let rules = self.checked_rules();
        let clips = records
            .iter()
            .filter(|record| record.is_live())
            .map(|record| listing::clip(record, place(record.number), query, &rules))
            .collect();
        Ok(api::ClipPage { clips, next: next.flatten(), total })
    }
}
