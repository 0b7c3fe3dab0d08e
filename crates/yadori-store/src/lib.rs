//! Yadori's records in MariaDB.
//!
//! * [`schema`]: its tables, brought up to date
//! * [`Store`] opens a database, brings its tables up to date, and is the way to all records:
//!   * `connections`: the connections to it, each lent to one use at a time
//!   * `write_tx`: transactions that write
//!   * `filing`: a copy becomes a clip, in one transaction
//!   * `clips`: reading clips, by number and along the change feed
//!   * `cache`, `read_clip`: what was read lately, and what was made of it
//!   * `content`: the bytes of formats, in pieces
//!   * `belonging`: whether content is that of a clip's id
//!   * `columns`, `registers`: a clip's state: its columns, and the one way to read and write it
//!   * `attributes`, `drawers`: what a person gives a clip, and where they put it
//!   * `private_drawers`: what lies sealed in drawers with a passphrase
//!   * `changes`: recall, and forgetting for good
//!   * `steps`: deleting and clearing many clips in one go, and undoing it
//!   * `forgetting`: what goes by itself
//!   * `hashed_tombstones`: what stays of clips that were deleted long ago
//!   * `snapshots`: what a snapshot of the index must agree with
//!   * `secure_erase`: what was forgotten for good is written over
//!   * `days`: what happened on each day
//!   * `devices`, `outbox`, `applying`: the person's devices, and what they tell each other
//!   * `fresh`: the latest of what they are told, which need not be read
//!   * `numbers`: devices and drawers by their ids
//!   * `clock_repair`, `stamps`: stamps of a clock that was wrong
//!   * `fetching`: content that comes from another device when it is wanted
//!   * `thumbnails`: small pictures of pictures
//!   * `settings`: settings, and the console's sessions
//!
//! Every write takes the next number of the change feed inside its transaction. The feed's row stays
//! locked until the commit, so numbers become visible in their order and a reader that follows the
//! feed by cursor never misses one.

mod applying;
mod attributes;
mod belonging;
mod cache;
mod changes;
mod clips;
mod clock_repair;
mod columns;
mod connections;
mod content;
mod days;
mod devices;
mod drawers;
mod feed;
mod fetching;
mod filing;
mod filing_many;
mod forgetting;
mod fresh;
mod hashed_tombstones;
mod numbers;
mod outbox;
mod private_drawers;
mod read_clip;
mod registers;
pub mod schema;
mod secure_erase;
mod settings;
mod snapshots;
mod stamps;
mod statements;
mod steps;
mod store;
mod thumbnails;
mod write_tx;

pub use applying::{ApplyOutcome, Cursor, CursorAdvance};
pub use attributes::{Attribute, GivenAttributes};
pub use clips::{ClipRecord, InDrawer};
pub use columns::STAMPS_OF_CLIPS;
pub use content::{CHUNK_BYTES, FormatOfClip, StoredFormat};
pub use days::Day;
pub use devices::DeviceRecord;
pub use drawers::{Drawer, Heading};
pub use fetching::{AppliedContent, Piece};
pub use filing::{Filed, Filing, MovedIn, NewClip, Replaced};
pub use filing_many::{FiledTogether, OnRecord};
pub use outbox::OutgoingBatch;
pub use private_drawers::{Privacy, PrivateDrawer};
pub use read_clip::ReadClip;
pub use settings::{ConsoleSession, TRAY};
pub use snapshots::SnapshotRecord;
pub use stamps::STAMPS_ELSEWHERE;
pub use steps::{GENTLE, OperationKind, QUICK, UndoableOperation};
pub use store::{Claim, DEADLOCKS, OpenError, Store, StoreError};
pub use thumbnails::Thumbnail;
