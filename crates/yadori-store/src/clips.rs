//! Reading clips: by number, along the change feed, and all of them at start.

use crate::store::{Store, StoreError};
use sqlx::Row;
use yadori_core::clip::Life;
use yadori_core::sensitive::Secret;
use yadori_core::{ClipId, Kind, MillisSinceEpoch, Source, Stamp};

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
    pub sensitive: Option<Secret>,
    /// When it was copied, deleted, restored.
    pub life: Life,
    /// Whether its content is gone for good.
    pub shredded: bool,
    /// When it goes by itself.
    pub expires_at: Option<MillisSinceEpoch>,
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
}

impl ClipRecord {
    /// Whether it is in the history.
    pub fn is_live(&self) -> bool {
        !self.shredded && self.life.is_live()
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
    shredded: bool,
    expires_at: Option<u64>,
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
}

impl TryFrom<Raw> for ClipRecord {
    type Error = StoreError;

    fn try_from(raw: Raw) -> Result<Self, StoreError> {
        let damaged = || StoreError::Damaged(raw.no);
        Ok(Self {
            number: raw.no,
            id: ClipId::from_slice(&raw.id).ok_or_else(damaged)?,
            change: raw.seq,
            kind: Kind::from_code(raw.kind).ok_or_else(damaged)?,
            sensitive: Secret::from_code(raw.secret),
            life: Life {
                copied: Stamp::from_bits(raw.copied),
                restored: Stamp::from_bits(raw.restored),
                deleted: Stamp::from_bits(raw.deleted),
            },
            shredded: raw.shredded,
            expires_at: raw.expires_at.map(MillisSinceEpoch),
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
               c.copied AS "copied!", c.restored AS "restored!", c.deleted AS "deleted!", c.shredded AS "shredded!: bool",
               c.expires_at, c.recalled_at, c.copies AS "copies!", c.recalls AS "recalls!", c.size AS "size!",
               c.width, c.height, c.text_lines, c.text_chars, LEFT(c.text, ?) AS "text", c.title, c.caption,
               c.application, c.window_title, c.page, c.selected AS "selected!: bool", (SELECT d.name FROM devices d WHERE d.no = c.device) AS "device!" "# + $from,
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
                .fetch_all(&self.pool)
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
    pub async fn clips(&self, numbers: &[u64]) -> Result<Vec<ClipRecord>, StoreError> {
        if numbers.is_empty() {
            return Ok(Vec::new());
        }
        // While the server's statistics still say that the table is small, it would rather read all of it.
        let list: Vec<String> = numbers.iter().map(u64::to_string).collect();
        let rows = clips!(
            LISTED_CHARS,
            "FROM JSON_TABLE(?, '$[*]' COLUMNS (place FOR ORDINALITY, no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no ORDER BY w.place",
            format!("[{}]", list.join(","))
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(ClipRecord::try_from).collect()
    }

    /// The clip with this id, live or not.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn clip(&self, id: ClipId) -> Result<Option<ClipRecord>, StoreError> {
        let row = clips!(LISTED_CHARS, "FROM clips c WHERE c.id = ?", &id.0[..]).fetch_optional(&self.pool).await?;
        row.map(ClipRecord::try_from).transpose()
    }

    /// The clips that changed after change number `after`, in the order of their latest changes, at
    /// most `most`; with all their words.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn changed_since(&self, after: u64, most: u32) -> Result<Vec<ClipRecord>, StoreError> {
        let rows = clips!(u32::MAX, "FROM clips c WHERE c.seq > ? ORDER BY c.seq LIMIT ?", after, most)
            .fetch_all(&self.pool)
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
        .fetch_one(&self.pool)
        .await?;
        Ok(row.try_get::<u64, _>(0)?)
    }
}
