//! The history: its records, its index in memory, and the clips that a name leads to.
//!
//! * `index`: the history in memory, which follows the change feed and announces each change
//! * `names`: the clips that are meant by a position, a place, an alias, the beginning of an id
//! * `find`: pages of the history, and of the clips that meet a query
//! * `repeats`: clips that were announced again, for listeners that were away
//! * `show`, `files`, `listing`: a clip in full, its files, and as a list shows it
//! * `in_force`: the rules that everyone looks at
//! * `snapshot`: the index on the disk, for a quick start
//! * `thumbnails`: small pictures of pictures
//! * `tray`: the clips that line up in the tray

pub mod files;
pub mod find;
pub mod in_force;
pub mod index;
pub mod listing;
pub mod names;
mod pages;
mod repeats;
pub mod show;
pub mod snapshot;
pub mod thumbnails;
pub(crate) mod tray;

use crate::clock::Stamps;
use in_force::InForce;
use index::Ledger;
use snapshot::Snapshots;
use std::sync::Arc;
use tokio::sync::Notify;
use yadori_cage::Cage;
use yadori_core::tray::Tray;
use yadori_store::{Store, StoreError};

/// The clips of this device, on record and in memory.
///
/// Locks: that of the tray is taken before the index is read, never the other way round.
pub struct History {
    /// Where pictures are decoded.
    pub(crate) cage: Cage,
    /// The records.
    pub store: Store,
    /// The index.
    pub ledger: Ledger,
    pub(crate) snapshots: Snapshots,
    /// This device's stamps.
    pub stamps: Stamps,
    /// The name of this device, until it is given another.
    pub device: String,
    pub(crate) rules: Arc<InForce>,
    pub(crate) tray: Arc<tokio::sync::Mutex<Tray>>,
    /// Something may be due earlier than before.
    pub(crate) forgetting: Notify,
}

impl History {
    /// Reads the history into memory.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn open(
        store: Store,
        cage: Cage,
        snapshots: Snapshots,
        (stamps, device): (Stamps, String),
    ) -> Result<Self, StoreError> {
        let ledger = Ledger::open(store.clone(), &snapshots).await?;
        Ok(Self {
            store,
            cage,
            ledger,
            snapshots,
            stamps,
            device,
            rules: Arc::default(),
            tray: Arc::default(),
            forgetting: Notify::new(),
        })
    }
}
