//! Yadori's records in MariaDB.
//!
//! * [`private`]: the server that the service starts for itself
//! * [`Store`] opens a database, brings its tables up to date, and is the way to all records:
//!   * `filing`: a copy becomes a clip, in one transaction
//!   * `clips`: reading clips, by number and along the change feed
//!   * `content`: the bytes of formats, in pieces
//!   * `changes`: recall, delete, undo
//!   * `forgetting`: what goes by itself
//!   * `thumbnails`: small pictures of pictures
//!   * `settings`: settings, and the console's sessions
//!
//! Every write takes the next number of the change feed inside its transaction. The feed's row stays
//! locked until the commit, so numbers become visible in their order and a reader that follows the
//! feed by cursor never misses one.

mod changes;
mod clips;
mod content;
mod filing;
mod forgetting;
pub mod private;
mod settings;
mod store;
mod thumbnails;

pub use changes::{Deleted, Undone};
pub use clips::ClipRecord;
pub use content::{CHUNK_BYTES, StoredFormat};
pub use filing::{Filed, Filing, NewClip};
pub use store::{OpenError, Store, StoreError};
pub use thumbnails::Thumbnail;
