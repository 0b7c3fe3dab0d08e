//! Which clip a person means.

use crate::service::Service;
use thiserror::Error;
use yadori_core::ClipId;
use yadori_core::name::{ClipName, NameError};
use yadori_store::{ClipRecord, StoreError};

/// Candidates that are listed for an ambiguous name.
const CANDIDATES: usize = 5;

/// Why a name leads to no clip.
#[derive(Debug, Error)]
pub enum FindNameError {
    /// It is no name at all.
    #[error("“{0}” does not name a clip: {1}")]
    NotAName(String, NameError),
    /// There is no such clip.
    #[error("there is no clip {0}")]
    NoSuchClip(String),
    /// Several ids begin so.
    #[error("{} clips have ids that begin with {name}", count(candidates))]
    Ambiguous {
        /// What was given.
        name: String,
        /// Some of them.
        candidates: Vec<ClipId>,
    },
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

fn count(candidates: &[ClipId]) -> String {
    if candidates.len() > CANDIDATES { format!("more than {CANDIDATES}") } else { candidates.len().to_string() }
}

impl Service {
    /// The clip with this name, and its place in the history.
    pub async fn find_clip(&self, name: &str) -> Result<(ClipRecord, usize), FindNameError> {
        let shown: String = yadori_core::preview::one_line(name, 40);
        let parsed: ClipName = name.trim().parse().map_err(|error| FindNameError::NotAName(shown.clone(), error))?;
        let none = || FindNameError::NoSuchClip(shown.clone());
        let (id, position) = {
            let index = self.ledger.read().await;
            let id = match &parsed {
                ClipName::Position(position) => index.at(*position).ok_or_else(none)?,
                ClipName::IdPrefix(prefix) => match index.with_prefix(prefix, CANDIDATES + 1).as_slice() {
                    [] => return Err(none()),
                    [id] => *id,
                    candidates => {
                        return Err(FindNameError::Ambiguous { name: shown, candidates: candidates.to_vec() });
                    }
                },
            };
            (id, index.position(id).ok_or_else(none)?)
        };
        let record = self.store.clip(id).await?.filter(ClipRecord::is_live).ok_or_else(none)?;
        Ok((record, position))
    }

    /// The clips with these names, each once, in the order given.
    pub async fn find_clips(&self, names: &[String]) -> Result<Vec<(ClipRecord, usize)>, FindNameError> {
        let mut clips: Vec<(ClipRecord, usize)> = Vec::with_capacity(names.len());
        for name in names {
            let clip = self.find_clip(name).await?;
            if !clips.iter().any(|(known, _)| known.id == clip.0.id) {
                clips.push(clip);
            }
        }
        Ok(clips)
    }
}
