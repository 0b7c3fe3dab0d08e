//! Pins, and the attributes that a person gives a clip.

pub mod add;
pub mod drawers;
pub mod edit;

use crate::capture::Capture;
use crate::fetching::Fetching;
use crate::history::History;
use crate::history::listing::{self, Listed};
use crate::history::names::FindNameError;
use parking_lot::Mutex;
use std::collections::HashMap;
use std::sync::Arc;
use thiserror::Error;
use yadori_core::alias::{Alias, NotAnAlias};
use yadori_core::preview::one_line;
use yadori_core::sensitive;
use yadori_core::{ClipId, Mark, MillisSinceEpoch, Rank};
use yadori_store::{Attribute, ClipRecord, StoreError};

/// Longest title, in characters.
pub const LONGEST_TITLE: usize = 1000;

/// Why something was not kept so.
#[derive(Debug, Error)]
pub enum KeepError {
    /// One of the names leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// A title with more characters than there is room for.
    #[error("a title has at most {LONGEST_TITLE} characters; this one has {0}")]
    LongTitle(usize),
    /// Not an alias.
    #[error("“{0}”: {1}")]
    NotAnAlias(String, NotAnAlias),
    /// Another clip has it.
    #[error("the alias {alias} stands for another clip: {holder}")]
    AliasTaken {
        /// The alias.
        alias: String,
        /// What the other clip shows.
        holder: String,
    },
    /// It is not pinned.
    #[error("the clip {0} is not pinned")]
    NotPinned(String),
    /// Places count from 1.
    #[error("places count from 1")]
    Place,
}

impl From<StoreError> for KeepError {
    fn from(error: StoreError) -> Self {
        Self::Name(error.into())
    }
}

/// A title as it is kept: tidied, and not too long. An empty one is none.
pub(crate) fn title(given: &str) -> Result<Option<String>, KeepError> {
    let length = given.trim().chars().count();
    if length > LONGEST_TITLE {
        return Err(KeepError::LongTitle(length));
    }
    let title = one_line(given, LONGEST_TITLE);
    Ok((!title.is_empty()).then_some(title))
}

pub(crate) fn alias(given: &str) -> Result<Option<Alias>, KeepError> {
    match given.trim() {
        "" => Ok(None),
        word => word.parse().map(Some).map_err(|error| KeepError::NotAnAlias(one_line(given, 40), error)),
    }
}

/// What is to change of a clip.
#[derive(Clone, Debug, Default)]
pub struct ClipChange {
    /// Its title; an empty one takes it away.
    pub title: Option<String>,
    /// Its mark, or none.
    pub mark: Option<Option<Mark>>,
    /// Its alias; an empty one takes it away.
    pub alias: Option<String>,
    /// Whether to take the alias from the clip that has it.
    pub take_alias: bool,
    /// Whether its placeholders are filled in.
    pub fills: Option<bool>,
    /// Whether it may be recognised as a secret.
    pub secret: Option<bool>,
}

/// What a person keeps, names, arranges and writes.
pub struct Keeping {
    pub(crate) history: Arc<History>,
    pub(crate) capture: Arc<Capture>,
    pub(crate) fetching: Arc<Fetching>,
    /// When private drawers that are open close by themselves, by their numbers.
    pub(crate) closing: Mutex<HashMap<u32, MillisSinceEpoch>>,
    /// What is kept and arranged is changed one after the other.
    pub(crate) changing: tokio::sync::Mutex<()>,
}

impl Keeping {
    /// Keeps clips of this history.
    pub fn new(history: Arc<History>, capture: Arc<Capture>, fetching: Arc<Fetching>) -> Self {
        Self { history, capture, fetching, closing: Mutex::default(), changing: tokio::sync::Mutex::default() }
    }
}

impl Keeping {
    /// The pinned clips, in their order.
    pub async fn pins(&self) -> Result<Vec<Listed>, StoreError> {
        let pinned = self.history.store.pinned().await?;
        self.listed_in_order(&pinned).await
    }

    /// Records as lists show them, with their positions.
    pub(crate) async fn listed_in_order(&self, records: &[ClipRecord]) -> Result<Vec<Listed>, StoreError> {
        let index = self.history.ledger.read().await;
        let listed = |record: &ClipRecord| self.history.listed(record, index.position(record.id));
        Ok(records.iter().map(listed).collect())
    }

    /// Pins clips, or moves those that are pinned: the first comes to the place `at` among the pinned ones, the
    /// others follow it. Without a place, new ones go to the end and pinned ones stay where they are.
    pub async fn pin(&self, names: &[String], at: Option<u32>) -> Result<Vec<Listed>, KeepError> {
        if at == Some(0) {
            return Err(KeepError::Place);
        }
        let _alone = self.changing.lock().await;
        let clips = self.history.find_clips(names).await?;
        let moved = |record: &ClipRecord| at.is_some() || record.pin.is_none();
        let moving: Vec<&ClipRecord> = clips.iter().map(|(record, _)| record).filter(|record| moved(record)).collect();
        let pinned = self.history.store.pinned().await?;
        let mut places: Vec<Rank> = pinned
            .into_iter()
            .filter(|record| moving.iter().all(|moving| moving.id != record.id))
            .filter_map(|record| record.pin)
            .collect();
        let first = at.map_or(places.len(), |at| (at as usize - 1).min(places.len()));
        let mut given = Vec::with_capacity(moving.len());
        for (place, record) in (first..).zip(&moving) {
            let order = Rank::at(&places, place);
            places.insert(place, order.clone());
            given.push((record.number, Attribute::Pin(Some(order))));
        }
        self.set_attributes(&given).await?;
        let ids: Vec<ClipId> = clips.iter().map(|(record, _)| record.id).collect();
        Ok(self.history.listed_now(&ids).await?)
    }

    /// Unpins clips; they stay in the history.
    pub async fn unpin(&self, names: &[String]) -> Result<Vec<Listed>, KeepError> {
        let _alone = self.changing.lock().await;
        let clips = self.history.find_clips(names).await?;
        if let Some((_, position)) = clips.iter().find(|(record, _)| record.pin.is_none()) {
            return Err(KeepError::NotPinned(position.to_string()));
        }
        let given: Vec<(u64, Attribute)> =
            clips.iter().map(|(record, _)| (record.number, Attribute::Pin(None))).collect();
        self.set_attributes(&given).await?;
        let ids: Vec<ClipId> = clips.iter().map(|(record, _)| record.id).collect();
        Ok(self.history.listed_now(&ids).await?)
    }

    /// Changes the attributes of a clip, all or none.
    pub async fn change_attributes(&self, name: &str, change: &ClipChange) -> Result<Listed, KeepError> {
        let _alone = self.changing.lock().await;
        let (record, _) = self.history.find_clip(name).await?;
        let mut given = Vec::new();
        if let Some(text) = &change.title {
            given.push(Attribute::Title(title(text)?));
        }
        if let Some(mark) = change.mark {
            given.push(Attribute::Mark(mark));
        }
        if let Some(fills) = change.fills {
            given.push(Attribute::Fills(fills));
        }
        if let Some(text) = &change.alias {
            let wanted = alias(text)?;
            if let Some(wanted) = &wanted {
                self.check_alias(wanted, Some(record.id), change.take_alias).await?;
                if !record.is_kept() {
                    given.push(Attribute::Pin(Some(self.last_pin().await?)));
                }
            }
            given.push(Attribute::Alias(wanted.map(|alias| alias.as_str().to_owned())));
        }
        let given: Vec<(u64, Attribute)> = given.into_iter().map(|given| (record.number, given)).collect();
        self.set_attributes(&given).await?;
        if let Some(secret) = change.secret {
            let sensitive = if secret { sensitive::recognise(&record.text) } else { None };
            self.history.ledger.changed(self.history.store.set_secret(record.number, record.id, sensitive).await?);
            self.history.forgetting.notify_one();
        }
        self.history
            .listed_now(&[record.id])
            .await?
            .pop()
            .ok_or(KeepError::Name(FindNameError::NoSuchClip(one_line(name, 40))))
    }

    /// Fails if a live clip other than `of` has the alias, and it is not to be taken.
    pub(crate) async fn check_alias(&self, alias: &Alias, of: Option<ClipId>, take: bool) -> Result<(), KeepError> {
        let holder = self.history.store.with_alias(alias.as_str()).await?.filter(ClipRecord::is_live);
        match holder {
            Some(holder) if Some(holder.id) != of && !take => {
                let holder = one_line(&holder.title.clone().unwrap_or_else(|| listing::preview(&holder, None).0), 60);
                Err(KeepError::AliasTaken { alias: alias.to_string(), holder })
            }
            _ => Ok(()),
        }
    }

    /// The place after the last pinned clip.
    pub(crate) async fn last_pin(&self) -> Result<Rank, StoreError> {
        let places: Vec<Rank> =
            self.history.store.pinned().await?.into_iter().filter_map(|record| record.pin).collect();
        Ok(Rank::at(&places, places.len()))
    }

    /// Puts attributes on record, and announces them.
    pub(crate) async fn set_attributes(&self, given: &[(u64, Attribute)]) -> Result<(), StoreError> {
        if !given.is_empty() {
            self.history.ledger.changed(self.history.store.set_attributes(given, self.history.stamps.next()).await?);
            self.history.forgetting.notify_one();
        }
        Ok(())
    }

    /// The clips that have an alias, in the order of their aliases.
    pub async fn aliases(&self) -> Result<Vec<Listed>, StoreError> {
        let records = self.history.store.aliased().await?;
        self.listed_in_order(&records).await
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_given_is_tidied_and_checked() {
        assert_eq!(title("  Load-in\n times ").unwrap().as_deref(), Some("Load-in times"));
        assert_eq!(title(" \n").unwrap(), None);
        assert!(matches!(title(&"x".repeat(1 << 20)), Err(KeepError::LongTitle(1_048_576))));
        assert!(alias(":a b").is_err());
    }
}
