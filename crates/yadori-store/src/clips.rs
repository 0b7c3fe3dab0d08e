//! Reading clips: by number, along the change feed, and all of them at start.

use crate::read_clip::ReadClip;
use crate::store::{Store, StoreError, numbers_as_json};
use sqlx::Row;
use std::collections::HashMap;
use std::sync::Arc;
use yadori_core::clip::Life;
use yadori_core::sensitive::Sensitive;
use yadori_core::{ClipId, Kind, Mark, MillisSinceEpoch, Rank, Source, Stamp};

/// A clip as it is on record, without its content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ClipRecord {
    /// Its number in these records.
    pub number: u64,
    /// Its id.
    pub id: ClipId,
    /// The number of the latest change to it.
    pub change: u64,
    /// What it is.
    pub kind: Kind,
    /// The secret that it looks like.
    pub sensitive: Option<Sensitive>,
    /// When it was copied, deleted, restored.
    pub life: Life,
    /// Whether its content is gone for good.
    pub tombstone: bool,
    /// When it was last recalled.
    pub recalled_at: Option<MillisSinceEpoch>,
    /// How often it was copied.
    pub copies: u32,
    /// How often it was recalled.
    pub recalls: u32,
    /// Bytes of all formats together.
    pub size: u64,
    /// Width and height in pixels, of a picture.
    pub pixels: Option<(u32, u32)>,
    /// Lines and characters, of text.
    pub extent: Option<(u64, u64)>,
    /// The beginning of its words, as far as was asked for.
    pub text: String,
    /// The title given by the person.
    pub title: Option<String>,
    /// The title of what was copied.
    pub caption: Option<String>,
    /// Where it was copied.
    pub source: Source,
    /// The name of the device on which it was copied.
    pub device: String,
    /// Its place among the pinned ones.
    pub pin: Option<Rank>,
    /// The drawer that it lies in, and its place there.
    pub drawer: Option<InDrawer>,
    /// Its colour mark.
    pub mark: Option<Mark>,
    /// Its alias, without the colon.
    pub alias: Option<String>,
    /// Whether its placeholders are filled in when it is recalled.
    pub fills: bool,
    /// Whether other devices know it.
    pub shared: bool,
    /// Whether some of its content is on another device only.
    pub elsewhere: bool,
    /// Whether its text is its only format.
    pub plain: bool,
}

/// Where in a drawer a clip lies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InDrawer {
    /// The drawer's number in these records.
    pub number: u32,
    /// The drawer's name.
    pub name: String,
    /// The clip's place in it.
    pub place: Rank,
}

impl ClipRecord {
    /// A clip with these words that was copied once on this device, and to which nothing was given.
    pub fn copied_once(number: u64, (id, kind): (ClipId, Kind), text: String, device: String) -> Self {
        Self {
            number,
            id,
            change: 0,
            kind,
            sensitive: None,
            life: Life::default(),
            tombstone: false,
            recalled_at: None,
            copies: 1,
            recalls: 0,
            size: text.len() as u64,
            pixels: None,
            extent: None,
            text,
            title: None,
            caption: None,
            source: Source::default(),
            device,
            pin: None,
            drawer: None,
            mark: None,
            alias: None,
            fills: false,
            shared: false,
            elsewhere: false,
            plain: false,
        }
    }

    /// Whether it is in the history.
    pub fn is_live(&self) -> bool {
        !self.tombstone && self.life.is_live()
    }

    /// Whether it is pinned or lies in a drawer.
    pub fn is_kept(&self) -> bool {
        self.life.is_kept()
    }

    /// All of its content, if that is its text, and this has it to its end.
    pub fn whole(&self) -> Option<&str> {
        (self.plain && self.text.len() as u64 == self.size).then_some(&self.text)
    }

    /// As it is read for a list: with the beginning of its words.
    pub(crate) fn listed(&self) -> Self {
        let end = self.text.char_indices().nth(LISTED_CHARS as usize).map_or(self.text.len(), |(end, _)| end);
        Self { text: self.text[..end].to_owned(), ..self.clone() }
    }
}

struct Raw {
    no: u64,
    id: Vec<u8>,
    seq: u64,
    kind: u8,
    secret: u8,
    copied: u64,
    restored: u64,
    deleted: u64,
    tombstone: bool,
    recalled_at: Option<u64>,
    copies: u32,
    recalls: u32,
    size: u64,
    width: Option<u32>,
    height: Option<u32>,
    text_lines: Option<u64>,
    text_chars: Option<u64>,
    text: Option<String>,
    title: Option<String>,
    caption: Option<String>,
    application: Option<String>,
    window_title: Option<String>,
    page: Option<String>,
    selected: bool,
    device: String,
    cleared: Option<u64>,
    swept: Option<u64>,
    pin: Option<Vec<u8>>,
    pin_stamp: Option<u64>,
    drawer: Option<u32>,
    drawer_name: Option<String>,
    place: Option<Vec<u8>>,
    drawer_stamp: Option<u64>,
    mark: Option<u8>,
    alias: Option<String>,
    fills: bool,
    shared: bool,
    elsewhere: bool,
    plain: bool,
}

impl TryFrom<Raw> for ClipRecord {
    type Error = StoreError;

    fn try_from(raw: Raw) -> Result<Self, StoreError> {
        let damaged = || StoreError::Damaged(raw.no);
        let stamp = |bits: Option<u64>| bits.map_or(Stamp::NEVER, Stamp::from_bits);
        let order = |bytes: Option<Vec<u8>>| bytes.and_then(|bytes| Rank::from_slice(&bytes));
        Ok(Self {
            number: raw.no,
            id: ClipId::from_slice(&raw.id).ok_or_else(damaged)?,
            change: raw.seq,
            kind: Kind::from_code(raw.kind).ok_or_else(damaged)?,
            sensitive: Sensitive::from_code(raw.secret),
            life: Life {
                copied: Stamp::from_bits(raw.copied),
                restored: Stamp::from_bits(raw.restored),
                deleted: Stamp::from_bits(raw.deleted),
                cleared: stamp(raw.cleared),
                swept: stamp(raw.swept),
                pinned: (stamp(raw.pin_stamp), raw.pin.is_some()),
                in_drawer: (stamp(raw.drawer_stamp), raw.drawer.is_some()),
            },
            tombstone: raw.tombstone,
            recalled_at: raw.recalled_at.map(MillisSinceEpoch),
            copies: raw.copies,
            recalls: raw.recalls,
            size: raw.size,
            pixels: raw.width.zip(raw.height),
            extent: raw.text_lines.zip(raw.text_chars),
            text: raw.text.unwrap_or_default(),
            title: raw.title,
            caption: raw.caption,
            source: Source {
                application: raw.application,
                window: raw.window_title,
                page: raw.page,
                selected: raw.selected,
            },
            device: raw.device,
            pin: order(raw.pin),
            drawer: match (raw.drawer, raw.drawer_name, order(raw.place)) {
                (Some(number), Some(name), Some(place)) => Some(InDrawer { number, name, place }),
                _ => None,
            },
            mark: raw.mark.and_then(Mark::from_code),
            alias: raw.alias,
            fills: raw.fills,
            shared: raw.shared,
            elsewhere: raw.elsewhere,
            plain: raw.plain,
        })
    }
}

/// Selects clips with the first `$text` characters of their words. The device is looked up for each: joined,
/// the server would begin with the few devices and sort all clips for every batch.
macro_rules! clips {
    ($text:expr, $from:literal $(, $argument:expr)*) => {
        sqlx::query_as!(
            Raw,
            r#"SELECT c.no AS "no!", c.id AS "id!", c.seq AS "seq!", c.kind AS "kind!", c.secret AS "secret!",
               c.copied AS "copied!", c.restored AS "restored!", c.deleted AS "deleted!", c.tombstone AS "tombstone!: bool",
               c.recalled_at, c.copies AS "copies!", c.recalls AS "recalls!", c.size AS "size!",
               c.width, c.height, c.text_lines, c.text_chars, LEFT(c.text, ?) AS "text", c.title, c.caption,
               c.application, c.window_title, c.page, c.selected AS "selected!: bool", (SELECT d.name FROM devices d WHERE d.no = c.device) AS "device!",
               c.cleared, c.swept, c.pin, c.pin_stamp, c.drawer, (SELECT w.name FROM drawers w WHERE w.no = c.drawer) AS drawer_name,
               c.place, c.drawer_stamp, c.mark, c.alias, c.fills AS "fills!: bool",
               c.shared AS "shared!: bool", c.elsewhere AS "elsewhere!: bool", c.plain AS "plain!: bool" "# + $from,
            $text $(, $argument)*
        )
    };
}

/// Characters of its words that are read along with a clip for a list.
const LISTED_CHARS: u32 = 4_000;

/// Clips read at a time when all are read.
const BATCH: u32 = 5_000;

impl Store {
    /// Reads all clips, in batches by their numbers, and calls `each` with every live one, with all
    /// the words there are to search.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn read_all(&self, mut each: impl FnMut(ClipRecord)) -> Result<(), StoreError> {
        let mut after = 0;
        loop {
            let rows = clips!(u32::MAX, "FROM clips c WHERE c.no > ? ORDER BY c.no LIMIT ?", after, BATCH)
                .fetch_all(&self.connections)
                .await?;
            let Some(last) = rows.last() else { return Ok(()) };
            after = last.no;
            for row in rows {
                let record = ClipRecord::try_from(row)?;
                if record.is_live() {
                    each(record);
                }
            }
        }
    }

    /// The clips with these numbers, in their order; numbers without a clip are passed over.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn clips(&self, numbers: &[u64]) -> Result<Vec<Arc<ReadClip>>, StoreError> {
        if numbers.is_empty() {
            return Ok(Vec::new());
        }
        let missing = |found: &HashMap<u64, Arc<ReadClip>>| -> Vec<u64> {
            numbers.iter().copied().filter(|number| !found.contains_key(number)).collect()
        };
        let (mut found, _) = self.cache.clips(numbers);
        if let Some(first) = missing(&found).first() {
            // Many ask for the same at once, after each write: one of them reads it.
            let _reading = self.cache.reading(*first).await;
            let (known, ticket) = self.cache.clips(numbers);
            found = known;
            let missing = missing(&found);
            if !missing.is_empty() {
                let read: Vec<_> =
                    self.clips_on_record(&missing).await?.into_iter().map(|record| Arc::new(record.into())).collect();
                self.cache.keep_clips(ticket, &read);
                found.extend(read.into_iter().map(|clip| (clip.number, clip)));
            }
        }
        Ok(numbers.iter().filter_map(|number| found.get(number).cloned()).collect())
    }

    /// In any order: the server would sort them in files, for the texts.
    async fn clips_on_record(&self, numbers: &[u64]) -> Result<Vec<ClipRecord>, StoreError> {
        // While the server's statistics still say that the table is small, it would rather read all of it.
        let rows = clips!(
            LISTED_CHARS,
            "FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no",
            numbers_as_json(numbers)
        )
        .fetch_all(&self.connections)
        .await?;
        rows.into_iter().map(ClipRecord::try_from).collect()
    }

    /// The clip with this id, live or not.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn clip(&self, id: ClipId) -> Result<Option<ClipRecord>, StoreError> {
        let (known, ticket) = self.cache.clip(id);
        if let Some(known) = known {
            return Ok(Some(ClipRecord::clone(&known)));
        }
        let row =
            clips!(LISTED_CHARS, "FROM clips c WHERE c.id = ?", &id.0[..]).fetch_optional(&self.connections).await?;
        let clip = row.map(ClipRecord::try_from).transpose()?;
        self.cache.keep_clips(ticket, clip.clone().map(|record| Arc::new(record.into())).as_slice());
        Ok(clip)
    }

    /// The pinned clips, in their order.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn pinned(&self) -> Result<Vec<ClipRecord>, StoreError> {
        let rows = clips!(
            LISTED_CHARS,
            "FROM clips c FORCE INDEX (by_drawer_and_pin)
             WHERE (c.drawer IS NULL OR c.drawer > 0) AND c.pin IS NOT NULL AND c.gone IS NULL AND c.tombstone = FALSE
             ORDER BY c.pin, c.id"
        )
        .fetch_all(&self.connections)
        .await?;
        rows.into_iter().map(ClipRecord::try_from).collect()
    }

    /// The clips in a drawer, in their order.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn in_drawer(&self, drawer: u32) -> Result<Vec<ClipRecord>, StoreError> {
        let rows = clips!(
            LISTED_CHARS,
            "FROM clips c FORCE INDEX (by_drawer_and_pin) WHERE c.drawer = ? AND c.gone IS NULL AND c.tombstone = FALSE ORDER BY c.place, c.id",
            drawer
        )
        .fetch_all(&self.connections)
        .await?;
        rows.into_iter().map(ClipRecord::try_from).collect()
    }

    /// The clips that have an alias, in the order of their aliases.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn aliased(&self) -> Result<Vec<ClipRecord>, StoreError> {
        let rows = clips!(
            LISTED_CHARS,
            "FROM clips c FORCE INDEX (by_alias) WHERE c.alias IS NOT NULL AND c.gone IS NULL AND c.tombstone = FALSE ORDER BY c.alias"
        )
        .fetch_all(&self.connections)
        .await?;
        rows.into_iter().map(ClipRecord::try_from).collect()
    }

    /// The clip with this alias, live or not.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn with_alias(&self, alias: &str) -> Result<Option<ClipRecord>, StoreError> {
        let row =
            clips!(LISTED_CHARS, "FROM clips c WHERE c.alias = ?", alias).fetch_optional(&self.connections).await?;
        row.map(ClipRecord::try_from).transpose()
    }

    /// What waits in the bin, latest first: at most `most` clips after the first `skip`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn bin(&self, skip: u32, most: u32) -> Result<Vec<ClipRecord>, StoreError> {
        let rows = clips!(
            LISTED_CHARS,
            "FROM clips c WHERE c.gone IS NOT NULL AND c.tombstone = FALSE ORDER BY c.gone DESC, c.no DESC LIMIT ? OFFSET ?",
            most,
            skip
        )
        .fetch_all(&self.connections)
        .await?;
        rows.into_iter().map(ClipRecord::try_from).collect()
    }

    /// How many clips wait in the bin, and their bytes.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn bin_size(&self) -> Result<(u64, u64), StoreError> {
        let row = sqlx::query!(
            r#"SELECT COUNT(*) AS "clips!: u64", CAST(COALESCE(SUM(size), 0) AS UNSIGNED) AS "bytes!: u64"
               FROM clips WHERE gone IS NOT NULL AND tombstone = FALSE"#
        )
        .fetch_one(&self.connections)
        .await?;
        Ok((row.clips, row.bytes))
    }

    /// The ids of all clips in the bin.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn bin_ids(&self) -> Result<Vec<ClipId>, StoreError> {
        let ids = sqlx::query_scalar!("SELECT id FROM clips WHERE gone IS NOT NULL AND tombstone = FALSE")
            .fetch_all(&self.connections)
            .await?;
        Ok(ids.iter().filter_map(|id| ClipId::from_slice(id)).collect())
    }

    /// The clips that changed after change number `after`, in the order of their latest changes, at
    /// most `most`; with all their words.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn changed_since(&self, after: u64, most: u32) -> Result<Vec<ClipRecord>, StoreError> {
        let rows =
            clips!(u32::MAX, "FROM clips c FORCE INDEX (seq) WHERE c.seq > ? ORDER BY c.seq LIMIT ?", after, most)
                .fetch_all(&self.connections)
                .await?;
        rows.into_iter().map(ClipRecord::try_from).collect()
    }

    /// Bytes that the database takes on disk, as far as it tells.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn bytes_on_disk(&self) -> Result<u64, StoreError> {
        let row = sqlx::query(
            "SELECT CAST(COALESCE(SUM(data_length + index_length), 0) AS UNSIGNED) FROM information_schema.tables
             WHERE table_schema = DATABASE()",
        )
        .fetch_one(&self.connections)
        .await?;
        Ok(row.try_get::<u64, _>(0)?)
    }
}
