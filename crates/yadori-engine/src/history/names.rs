//! Which clip a person means.

use crate::history::History;
use crate::history::listing::Listed;
use std::collections::HashSet;
use thiserror::Error;
use yadori_core::ClipId;
use yadori_core::alias::Alias;
use yadori_core::name::{ClipName, NameError, SHORTEST_PREFIX};
use yadori_core::preview::one_line;
use yadori_store::{ClipRecord, StoreError};

/// Candidates that are listed for an ambiguous name.
const CANDIDATES: usize = 5;

/// Most clips that can be named in one go.
const MOST: usize = 1000;

/// Refuses to look for no clip, or for far too many.
pub(crate) fn check_number(names: &[String]) -> Result<(), FindNameError> {
    if (1..=MOST).contains(&names.len()) { Ok(()) } else { Err(FindNameError::Number) }
}

/// How often an alias is looked up whose clip leaves the history at the same time.
const LOOKS: usize = 5;

/// Why a name leads to no clip.
#[derive(Debug, Error)]
pub enum FindNameError {
    /// It is no name at all.
    #[error("“{0}” does not name a clip: {1}")]
    NotAName(String, NameError),
    /// There is no such clip.
    #[error("there is no clip {0}")]
    NoSuchClip(String),
    /// There is no such clip in the bin.
    #[error("there is no clip {0} in the bin")]
    NotInBin(String),
    /// It waits in the bin.
    #[error("the clip {0} is in the bin")]
    InBin(String),
    /// No clip has this alias.
    #[error("no clip has the alias {0}")]
    NoSuchAlias(String),
    /// Several ids begin so.
    #[error("{} clips have ids that begin with {name}", count(candidates))]
    Ambiguous {
        /// What was given.
        name: String,
        /// Some of them.
        candidates: Vec<ClipId>,
    },
    /// No clip, or far too many.
    #[error("name from 1 to {MOST} clips")]
    Number,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

fn count(candidates: &[ClipId]) -> String {
    if candidates.len() > CANDIDATES { format!("more than {CANDIDATES}") } else { candidates.len().to_string() }
}

/// A clip that was found, and its place in the history.
pub type Found = (ClipRecord, usize);

impl History {
    /// A clip as lists show it.
    pub fn listed(&self, record: &ClipRecord, position: Option<usize>) -> Listed {
        Listed { record: record.clone().into(), position }
    }

    /// Clips as lists show them, as they are now; those that have left the history are passed over.
    pub(crate) async fn listed_now(&self, ids: &[ClipId]) -> Result<Vec<Listed>, StoreError> {
        let mut clips = Vec::with_capacity(ids.len());
        for id in ids {
            let position = self.ledger.read().await.position(*id);
            if let Some(record) = self.store.clip(*id).await?.filter(ClipRecord::is_live) {
                clips.push(self.listed(&record, position));
            }
        }
        Ok(clips)
    }

    /// The clip with this name, and its place in the history.
    pub async fn find_clip(&self, name: &str) -> Result<Found, FindNameError> {
        let shown: String = one_line(name, 40);
        let name = name.trim();
        let parsed: ClipName = name.parse().map_err(|error| FindNameError::NotAName(shown.clone(), error))?;
        // A clip that has left the history since it was looked up may have left its alias to another. (A position that
        // stands for another clip by now is not what was meant.)
        let looks = if matches!(parsed, ClipName::Alias(_)) { LOOKS } else { 1 };
        for _ in 0..looks {
            let id = self.id_of(&parsed, name, &shown).await?;
            if let Some(found) = self.found(id).await? {
                return Ok(found);
            }
        }
        Err(FindNameError::NoSuchClip(shown))
    }

    async fn id_of(&self, parsed: &ClipName, name: &str, shown: &str) -> Result<ClipId, FindNameError> {
        let id = match parsed {
            ClipName::Position(position) => self.ledger.read().await.at(*position),
            ClipName::Pin(place) => self.store.pinned().await?.get(place - 1).map(|record| record.id),
            ClipName::Tray(place) => self.tray.lock().await.items().get(place - 1).copied(),
            ClipName::Alias(alias) => Some(self.with_alias(alias).await?.id),
            ClipName::IdPrefix(_) => None,
        };
        // `p234` may also be the beginning of an id.
        match (id, parsed) {
            (Some(id), _) => Ok(id),
            (None, ClipName::IdPrefix(_) | ClipName::Pin(_) | ClipName::Tray(_)) if name.len() >= SHORTEST_PREFIX => {
                self.with_prefix(&name.to_ascii_lowercase(), shown).await
            }
            (None, _) => Err(FindNameError::NoSuchClip(shown.to_owned())),
        }
    }

    /// The clip with this id, if it is in the history.
    pub(crate) async fn found(&self, id: ClipId) -> Result<Option<Found>, StoreError> {
        let position = self.ledger.read().await.position(id);
        let Some(record) = self.store.clip(id).await?.filter(ClipRecord::is_live) else { return Ok(None) };
        let position = match position {
            Some(position) => Some(position),
            None => {
                // It is on record, but whoever put it there has not told so yet.
                self.ledger.changed(record.change);
                self.ledger.read().await.position(id)
            }
        };
        Ok(position.map(|position| (record, position)))
    }

    async fn with_prefix(&self, prefix: &str, shown: &str) -> Result<ClipId, FindNameError> {
        let found = self.ledger.read().await.with_prefix(prefix, CANDIDATES + 1);
        match found.as_slice() {
            [id] => Ok(*id),
            [] => {
                let binned = self.store.bin_ids().await?.iter().any(|id| id.to_string().starts_with(prefix));
                let shown = shown.to_owned();
                Err(if binned { FindNameError::InBin(shown) } else { FindNameError::NoSuchClip(shown) })
            }
            candidates => Err(FindNameError::Ambiguous { name: shown.to_owned(), candidates: candidates.to_vec() }),
        }
    }

    /// The live clip with this alias.
    pub(crate) async fn with_alias(&self, alias: &Alias) -> Result<ClipRecord, FindNameError> {
        let found = self.store.with_alias(alias.as_str()).await?;
        found.filter(ClipRecord::is_live).ok_or_else(|| FindNameError::NoSuchAlias(alias.to_string()))
    }

    /// The clips with these names, each once, in the order given.
    pub async fn find_clips(&self, names: &[String]) -> Result<Vec<Found>, FindNameError> {
        check_number(names)?;
        let mut clips: Vec<Found> = Vec::with_capacity(names.len());
        let mut known = HashSet::new();
        for name in names {
            let clip = self.find_clip(name).await?;
            if known.insert(clip.0.number) {
                clips.push(clip);
            }
        }
        Ok(clips)
    }

    /// The clip in the bin with this name: the beginning of its id.
    pub(crate) async fn find_in_bin(&self, name: &str) -> Result<ClipRecord, FindNameError> {
        let shown = one_line(name, 40);
        let prefix = match name.trim().to_ascii_lowercase().parse() {
            Ok(ClipName::IdPrefix(prefix)) => prefix,
            Ok(ClipName::Position(place)) => {
                let found = self.store.bin(u32::try_from(place - 1).unwrap_or(u32::MAX), 1).await?.pop();
                return found.ok_or(FindNameError::NotInBin(shown));
            }
            Ok(_) => name.trim().to_ascii_lowercase(),
            Err(error) => return Err(FindNameError::NotAName(shown, error)),
        };
        let ids = self.store.bin_ids().await?;
        let found: Vec<ClipId> = ids.into_iter().filter(|id| id.to_string().starts_with(&prefix)).collect();
        match found.as_slice() {
            [] => Err(FindNameError::NotInBin(shown)),
            [id] => self.store.clip(*id).await?.ok_or(FindNameError::NoSuchClip(shown)),
            several => {
                let candidates = several.iter().copied().take(CANDIDATES + 1).collect();
                Err(FindNameError::Ambiguous { name: shown, candidates })
            }
        }
    }
}
