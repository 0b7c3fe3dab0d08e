//! The bytes of formats, in pieces.

use crate::belonging;
use crate::read_clip::ReadClip;
use crate::statements::Statements;
use crate::store::{Store, StoreError, numbers_as_json};
use crate::write_tx::{WriteTx, next_change};
use bytes::{Bytes, BytesMut};
use sqlx::{Executor, MySql};
use std::sync::Arc;
use yadori_core::format::PLAIN;
use yadori_core::{Format, Kind};

/// Most bytes of text kept with the clip's own record, for searching. Longer texts are kept whole as
/// content, and found by their beginning.
pub(crate) const SEARCHED_BYTES: usize = 64 * 1024;

/// Size of one piece of a blob: 1 MiB. Neither the server nor we ever hold more than a few.
pub const CHUNK_BYTES: usize = 1024 * 1024;

/// One format of a clip, as it is stored.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StoredFormat {
    /// Its MIME type.
    pub mime: String,
    /// Its size in bytes.
    pub size: u64,
    held: Held,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Held {
    Here(Bytes),
    Blob(u64),
}

/// A format together with the clip that it belongs to, for reading many in one go.
#[derive(Clone, Debug)]
pub struct FormatOfClip {
    /// The clip's number.
    pub clip: u64,
    /// Its place among the clip's formats.
    pub place: u8,
    /// The BLAKE3 hash of its bytes, where it is on record.
    pub hash: Option<[u8; 32]>,
    /// The format.
    pub format: StoredFormat,
}

impl FormatOfClip {
    /// The only format of a clip that is plain ([`is_plain`]).
    pub(crate) fn plain(clip: u64, text: &str) -> Self {
        Self { clip, place: 0, hash: None, format: StoredFormat::small(&Format::plain(text)) }
    }
}

impl StoredFormat {
    pub(crate) fn read(mime: String, size: u64, blob: Option<u64>, content: Option<Vec<u8>>) -> Self {
        let held = match blob {
            Some(blob) => Held::Blob(blob),
            None => Held::Here(content.unwrap_or_default().into()),
        };
        Self { mime, size, held }
    }

    /// A format that lies in its own row, or is the clip's text.
    pub(crate) fn small(format: &Format) -> Self {
        Self { mime: format.mime.clone(), size: format.data.len() as u64, held: Held::Here(format.data.clone()) }
    }

    /// The number of the blob that holds it, if one does.
    pub(crate) fn blob(&self) -> Option<u64> {
        match self.held {
            Held::Here(_) => None,
            Held::Blob(blob) => Some(blob),
        }
    }

    /// The bytes, if they were read along.
    pub fn here(&self) -> Option<&Bytes> {
        match &self.held {
            Held::Here(content) => Some(content),
            Held::Blob(_) => None,
        }
    }
}

impl Store {
    /// The formats of many clips, clip by clip in the order of their numbers. Small ones are read along.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn formats_of(&self, clips: &[Arc<ReadClip>]) -> Result<Vec<FormatOfClip>, StoreError> {
        let rest: Vec<u64> = clips.iter().filter(|clip| clip.whole().is_none()).map(|clip| clip.number).collect();
        let plain = clips.iter().filter_map(|clip| Some(FormatOfClip::plain(clip.number, clip.whole()?)));
        self.formats_beside(plain.collect(), &rest).await
    }

    /// The same of the clips `rest`, which are read, and of others that are plain.
    pub(crate) async fn formats_beside(
        &self,
        plain: Vec<FormatOfClip>,
        rest: &[u64],
    ) -> Result<Vec<FormatOfClip>, StoreError> {
        let mut formats = plain;
        if !rest.is_empty() {
            formats.extend(self.formats_on_record_of(rest).await?);
        }
        // The server would do so on the disk, which may be full.
        formats.sort_by_key(|format| (format.clip, format.place));
        Ok(formats)
    }

    async fn formats_on_record_of(&self, clips: &[u64]) -> Result<impl Iterator<Item = FormatOfClip>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT c.no, COALESCE(f.place, 0) AS "place!: u8", COALESCE(f.mime, ?) AS "mime!",
                COALESCE(f.size, c.size) AS "size!", f.blob_no AS "blob_no?", b.hash AS "hash?: Vec<u8>",
                COALESCE(f.content, IF(f.blob_no IS NULL, c.text, NULL)) AS "content: Vec<u8>"
               FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
               STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no
               LEFT JOIN formats f FORCE INDEX (PRIMARY) ON f.clip_no = c.no
               LEFT JOIN blobs b ON b.no = f.blob_no
               WHERE c.plain = TRUE OR f.clip_no IS NOT NULL"#,
            PLAIN,
            numbers_as_json(clips)
        )
        .fetch_all(&self.connections)
        .await?;
        Ok(rows.into_iter().map(|row| FormatOfClip {
            clip: row.no,
            place: row.place,
            hash: row.hash.and_then(|hash| hash.try_into().ok()),
            format: StoredFormat::read(row.mime, row.size, row.blob_no, row.content),
        }))
    }

    /// The formats of a clip, in the order in which they were offered. Small ones are read along.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn formats(&self, clip: u64) -> Result<Vec<StoredFormat>, StoreError> {
        let (known, ticket) = self.cache.formats(clip);
        if let Some(known) = known {
            return Ok(known);
        }
        let read = formats_on_record(&self.connections, clip).await?;
        self.cache.keep_formats(ticket, clip, &read);
        Ok(read)
    }

    /// The bytes of a format from `offset` on, at most to the end of the piece in which it lies; empty
    /// at the end.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn content_at(&self, format: &StoredFormat, offset: u64) -> Result<Bytes, StoreError> {
        if offset >= format.size {
            return Ok(Bytes::new());
        }
        match &format.held {
            Held::Here(content) => Ok(content.slice((offset as usize).min(content.len())..)),
            Held::Blob(blob) => {
                let (place, within) = ((offset / CHUNK_BYTES as u64) as u32, offset as usize % CHUNK_BYTES);
                let chunk =
                    sqlx::query_scalar!("SELECT content FROM blob_chunks WHERE blob_no = ? AND place = ?", blob, place)
                        .fetch_optional(&self.connections)
                        .await?;
                Ok(chunk
                    .map(Bytes::from)
                    .filter(|chunk| chunk.len() >= within)
                    .map_or_else(Bytes::new, |chunk| chunk.slice(within..)))
            }
        }
    }

    /// All bytes of a format.
    ///
    /// # Errors
    /// When the database does not answer, or some of it is on another device.
    pub async fn content(&self, format: &StoredFormat) -> Result<Bytes, StoreError> {
        if let Held::Here(content) = &format.held {
            return Ok(content.clone());
        }
        // The size may be another device's word: what is allocated is what comes.
        let mut content = BytesMut::new();
        loop {
            let chunk = self.content_at(format, content.len() as u64).await?;
            if chunk.is_empty() && (content.len() as u64) < format.size {
                return Err(StoreError::Elsewhere);
            }
            if chunk.is_empty() {
                return Ok(content.freeze());
            }
            content.extend_from_slice(&chunk);
        }
    }
}

/// The formats of a clip, in the order in which they were offered, with the small ones.
pub(crate) async fn formats_on_record<'e>(
    database: impl Executor<'e, Database = MySql>,
    clip: u64,
) -> Result<Vec<StoredFormat>, sqlx::Error> {
    let mut rows = sqlx::query!(
        r#"SELECT COALESCE(f.place, 0) AS "place!: u8", COALESCE(f.mime, ?) AS "mime!", COALESCE(f.size, c.size) AS "size!", f.blob_no AS "blob_no?",
            COALESCE(f.content, IF(f.blob_no IS NULL, c.text, NULL)) AS "content: Vec<u8>"
           FROM clips c LEFT JOIN formats f FORCE INDEX (PRIMARY) ON f.clip_no = c.no
           WHERE c.no = ? AND (c.plain = TRUE OR f.clip_no IS NOT NULL)"#,
        PLAIN,
        clip
    )
    .fetch_all(database)
    .await?;
    // The server would do so on the disk, which may be full.
    rows.sort_by_key(|row| row.place);
    Ok(rows.into_iter().map(|row| StoredFormat::read(row.mime, row.size, row.blob_no, row.content)).collect())
}

/// Whether a clip is plain: these are all of its formats, and the only one is its text, which stands with it as a whole. It has
/// no rows in `formats` then.
pub(crate) fn is_plain<'a>(
    (text, size): (Option<&str>, u64),
    mut formats: impl Iterator<Item = (&'a str, Option<&'a [u8]>)>,
) -> bool {
    let (Some(text), Some((mime, data)), None) = (text, formats.next(), formats.next()) else { return false };
    mime == PLAIN && text.len() as u64 == size && data == Some(text.as_bytes())
}

/// Reads a blob piece by piece.
pub(crate) async fn read_blob(tx: &mut WriteTx, blob: u64, mut piece: impl FnMut(&[u8])) -> Result<(), sqlx::Error> {
    for place in 0u32.. {
        let chunk = sqlx::query_scalar!("SELECT content FROM blob_chunks WHERE blob_no = ? AND place = ?", blob, place)
            .fetch_optional(&mut **tx)
            .await?;
        let Some(chunk) = chunk else { break };
        piece(&Bytes::from(chunk));
    }
    Ok(())
}

/// Deletes a blob unless a format still uses it.
pub(crate) async fn free_blob(tx: &mut WriteTx, blob: u64) -> Result<(), sqlx::Error> {
    sqlx::query!("DELETE FROM blobs WHERE no = ? AND NOT EXISTS (SELECT 1 FROM formats WHERE blob_no = ?)", blob, blob)
        .execute(&mut **tx)
        .await?;
    Ok(())
}

/// The blob with this hash, empty if it was not here. Its row is locked from then on.
pub(crate) async fn expect_blob(tx: &mut WriteTx, hash: &[u8; 32], size: u64) -> Result<u64, sqlx::Error> {
    // Also one that is there is written, as it is: only so its row is locked for certain.
    let done = sqlx::query!(
        "INSERT INTO blobs (hash, size, have) VALUES (?, ?, 0)
         ON DUPLICATE KEY UPDATE no = LAST_INSERT_ID(no)",
        &hash[..],
        size
    )
    .execute(&mut **tx)
    .await?;
    Ok(done.last_insert_id())
}

/// What came of a blob that is here as a whole.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(crate) struct NowWhole {
    /// The number of the latest change, if there was one.
    pub change: Option<u64>,
    /// Of each clip that is here as a whole now, the numbers of its change before, and of this one.
    pub moved: Vec<(u64, u64)>,
    /// Those of them that are pictures.
    pub pictures: Vec<u64>,
    /// Some clip was told of with content that is not that of its id. It has no content here any more.
    pub is_lie: bool,
}

/// Blobs are here as a whole: so may be clips that lacked them, if they are what their ids say.
pub(crate) async fn note_whole(tx: &mut WriteTx, blobs: &[u64]) -> Result<NowWhole, sqlx::Error> {
    let mut done = NowWhole::default();
    if blobs.is_empty() {
        return Ok(done);
    }
    let whole = sqlx::query!(
        "SELECT DISTINCT c.no, c.kind, c.seq FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
         STRAIGHT_JOIN formats g ON g.blob_no = w.no STRAIGHT_JOIN clips c ON c.no = g.clip_no
         WHERE c.elsewhere = TRUE AND NOT EXISTS (
            SELECT 1 FROM formats f JOIN blobs b ON b.no = f.blob_no WHERE f.clip_no = c.no AND b.have < b.size)",
        numbers_as_json(blobs)
    )
    .fetch_all(&mut **tx)
    .await?;
    let mut notes = Statements::default();
    for clip in whole {
        let is_picture = Kind::from_code(clip.kind) == Some(Kind::Image);
        if !is_picture && !belonging::is_what_it_says(tx, clip.no).await? {
            done.is_lie = true;
            done.change = Some(belonging::drop_content(tx, clip.no, blobs).await?);
            continue;
        }
        let number = next_change(tx).await?;
        notes.add("UPDATE clips SET elsewhere = FALSE, seq = ").alone(number).words(" WHERE no = ").alone(clip.no);
        done.change = Some(number);
        done.moved.push((clip.seq, number));
        if is_picture {
            done.pictures.push(clip.no);
        }
    }
    notes.execute(tx).await?;
    Ok(done)
}

/// Writes content down, unless it is here already. Gives the number of its blob.
pub(crate) async fn write_blob(tx: &mut WriteTx, data: &[u8]) -> Result<u64, sqlx::Error> {
    let hash = blake3::hash(data);
    let size = data.len() as u64;
    let number = expect_blob(tx, hash.as_bytes(), size).await?;
    // The row is ours until the end: nobody writes the same content, and nobody frees it.
    let have =
        sqlx::query_scalar!("SELECT have FROM blobs WHERE no = ? FOR UPDATE", number).fetch_one(&mut **tx).await?;
    if have == size {
        return Ok(number);
    }
    // The beginning may have come from another device, or a size that was not true; here is all of it.
    sqlx::query!("DELETE FROM blob_chunks WHERE blob_no = ?", number).execute(&mut **tx).await?;
    sqlx::query!("UPDATE blobs SET size = ?, have = ? WHERE no = ?", size, size, number).execute(&mut **tx).await?;
    for (place, chunk) in (0u32..).zip(data.chunks(CHUNK_BYTES)) {
        sqlx::query!("INSERT INTO blob_chunks (blob_no, place, content) VALUES (?, ?, ?)", number, place, chunk)
            .execute(&mut **tx)
            .await?;
    }
    // Other clips may have lacked it.
    if tx.is_its_turn() {
        note_whole(tx, &[number]).await?;
    } else {
        tx.has_whole(number);
    }
    Ok(number)
}

/// Notes of all that was written before it was its turn.
pub(crate) async fn note_all_whole(tx: &mut WriteTx) -> Result<(), sqlx::Error> {
    let whole = tx.take_whole();
    if !whole.is_empty() {
        tx.changes_more();
        note_whole(tx, &whole).await?;
    }
    Ok(())
}
