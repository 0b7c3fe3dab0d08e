//! A database for one test, and clips to file in it.

use std::time::Duration;
use yadori_core::format::Format;
use yadori_core::{ClipId, Kind, MillisSinceEpoch, Source, Stamp};
use yadori_database::testing::TestDatabase;
use yadori_store::{Filed, GivenAttributes, NewClip, Store, StoreError};

/// How long something may take that takes milliseconds, on a machine that is busy otherwise.
pub const PATIENCE: Duration = Duration::from_secs(60);

/// Records, and the database that they are in.
pub struct Records {
    pub store: Store,
    pub database: TestDatabase,
}

impl Records {
    async fn in_database(database: TestDatabase, device: u8) -> Self {
        let store = Store::open(database.url(), ("workshop", [device; 16])).await.unwrap();
        Self { store, database }
    }
}

/// Records in a database of the server's own user, as the service has them by itself.
pub async fn private() -> Records {
    private_of(1).await
}

/// The same, of some device.
pub async fn private_of(device: u8) -> Records {
    Records::in_database(TestDatabase::new(), device).await
}

/// Records in a database that is given, to a user who may use nothing else.
pub async fn given() -> Records {
    Records::in_database(TestDatabase::of_a_guest(), 1).await
}

/// Files a text with more formats.
pub async fn file(store: &Store, text: &str, stamp: u64, more: &[Format]) -> Filed {
    try_to_file(store, text, stamp, more).await.unwrap()
}

/// A text, to be filed.
pub fn of<'a>(text: &'a str, source: &'a Source) -> NewClip<'a> {
    NewClip {
        id: ClipId::of(Kind::Text, text.as_bytes()),
        kind: Kind::Text,
        copied: Stamp::NEVER,
        filed: Stamp::NEVER,
        sensitive: None,
        size: text.len() as u64,
        pixels: None,
        extent: Some((1, text.chars().count() as u64)),
        text,
        title: None,
        caption: None,
        source,
        given: GivenAttributes::default(),
        shared: false,
        tray: None,
        replaces: None,
        moved_in: None,
    }
}

/// Files a text with more formats, once.
pub async fn try_to_file(store: &Store, text: &str, stamp: u64, more: &[Format]) -> Result<Filed, StoreError> {
    let mut formats = vec![Format::plain(text)];
    formats.extend_from_slice(more);
    let source = Source::default();
    let at = Stamp::at_start_of(MillisSinceEpoch(stamp));
    let size = formats.iter().map(|format| format.data.len() as u64).sum();
    let clip = NewClip { copied: at, filed: at, size, ..of(text, &source) };
    let mut filing = store.begin_filing().await?;
    filing.put_content(&formats).await?;
    filing.commit(&clip, &formats).await
}
