//! Content that is on another device comes here, piece by piece, and is checked against its hash.

use crate::content::{CHUNK_BYTES, NowWhole, free_blob, note_whole, read_blob};
use crate::statements::Statements;
use crate::store::{Store, StoreError, retry_on_deadlock};
use crate::write_tx::WriteTx;
use sqlx::Row;
use std::collections::BTreeMap;
use yadori_core::shared::{ContentPiece, Hash};

/// What came of a piece of content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Piece {
    /// There is more to come: how much is here.
    More(u64),
    /// It is here as a whole.
    Whole,
    /// It is not what its hash says; nothing of it was kept.
    Lie,
    /// Nobody here wants it any more.
    Unwanted,
}

/// What came of several pieces of content.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct AppliedContent {
    /// Of each of them, in their order.
    pub pieces: Vec<Piece>,
    /// The number of the latest change, if clips are here as a whole now.
    pub change: Option<u64>,
    /// The numbers of those of these clips that are pictures: they have no small picture yet.
    pub pictures: Vec<u64>,
    /// Of each of them, the numbers of its change before, and of this one.
    pub moved: Vec<(u64, u64)>,
    /// Some content is what its hash says, but not what the id of a clip says that was told of with it. That clip has no content
    /// here any more.
    pub is_another_clip: bool,
}

/// A content that is on record, if not all of it.
struct Known {
    no: u64,
    size: u64,
    have: u64,
    /// Whether that is not on record yet.
    is_changed: bool,
}

impl Store {
    /// Contents that are not here as a whole and belong to clips that are to be fetched by themselves.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn wanted(&self, fetch_above: u64) -> Result<Vec<(Hash, u64)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT DISTINCT b.hash, b.have FROM blobs b STRAIGHT_JOIN formats f ON f.blob_no = b.no
             STRAIGHT_JOIN clips c ON c.no = f.clip_no
             WHERE b.have < b.size AND c.elsewhere = TRUE AND c.gone IS NULL AND c.size <= ?",
            fetch_above
        )
        .fetch_all(&self.connections)
        .await?;
        Ok(rows.into_iter().filter_map(|row| Some((row.hash.try_into().ok()?, row.have))).collect())
    }

    /// Contents of a clip that are not here as a whole, how much of each is here, and how large it is.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn missing(&self, clip: u64) -> Result<Vec<(Hash, u64, u64)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT DISTINCT b.hash, b.have, b.size FROM formats f JOIN blobs b ON b.no = f.blob_no
             WHERE f.clip_no = ? AND b.have < b.size",
            clip
        )
        .fetch_all(&self.connections)
        .await?;
        Ok(rows.into_iter().filter_map(|row| Some((row.hash.try_into().ok()?, row.have, row.size))).collect())
    }

    /// Takes in pieces of contents, all of them in one transaction. Each content that is whole then is checked against its hash.
    ///
    /// # Errors
    /// When the database fails, or has no room; nothing of the pieces is kept then.
    pub async fn apply_content(&self, pieces: &[ContentPiece]) -> Result<AppliedContent, StoreError> {
        retry_on_deadlock!(self.apply_content_once(pieces))
    }

    async fn apply_content_once(&self, pieces: &[ContentPiece]) -> Result<AppliedContent, StoreError> {
        if pieces.is_empty() {
            return Ok(AppliedContent::default());
        }
        let (mut tx, answers) = self.begin_writing_asking(question(pieces)).await?;
        let mut known = BTreeMap::new();
        for row in answers {
            let hash: Vec<u8> = row.try_get(1)?;
            let blob = Known { no: row.try_get(0)?, size: row.try_get(2)?, have: row.try_get(3)?, is_changed: false };
            known.insert(hash, blob);
        }
        let mut applied = AppliedContent::default();
        let mut whole = Vec::new();
        for piece in pieces {
            applied.pieces.push(match known.get_mut(&piece.hash[..]) {
                None => Piece::Unwanted,
                Some(blob) if blob.have == blob.size => Piece::Whole,
                Some(blob) if blob.have != piece.at => Piece::More(blob.have),
                Some(blob) => {
                    let came = take_in(&mut tx, blob, piece).await?;
                    whole.extend((came == Piece::Whole).then_some(blob.no));
                    came
                }
            });
        }
        let mut had = Statements::default();
        for blob in known.values().filter(|blob| blob.is_changed) {
            had.add("UPDATE blobs SET have = ").alone(blob.have).words(" WHERE no = ").alone(blob.no);
        }
        had.execute(&mut tx).await?;
        let NowWhole { change, pictures, moved, is_lie } = note_whole(&mut tx, &whole).await?;
        if is_lie {
            for blob in whole {
                free_blob(&mut tx, blob).await?;
            }
        }
        if let Some(change) = change {
            tx.bears(change);
        }
        tx.commit().await?;
        Ok(AppliedContent { change, pictures, moved, is_another_clip: is_lie, ..applied })
    }
}

/// Asks for what is on record of contents. They are locked in an order that is the same for all.
fn question(pieces: &[ContentPiece]) -> Statements {
    let mut question = Statements::default();
    question.add("SELECT no, hash, size, have FROM blobs WHERE hash IN ").row();
    for piece in pieces {
        question.value(&piece.hash[..]);
    }
    question.end_row().words(" ORDER BY hash FOR UPDATE");
    question
}

/// Adds a piece to a content that goes on where it begins. How much is here is not on record yet then.
async fn take_in(tx: &mut WriteTx, blob: &mut Known, piece: &ContentPiece) -> Result<Piece, sqlx::Error> {
    let ContentPiece { hash, at, data } = piece;
    if data.is_empty() || at + data.len() as u64 > blob.size {
        return Ok(Piece::Lie);
    }
    let mut offset = *at;
    let mut rest = &data[..];
    while !rest.is_empty() {
        let (place, within) = ((offset / CHUNK_BYTES as u64) as u32, offset as usize % CHUNK_BYTES);
        let (part, after) = rest.split_at(rest.len().min(CHUNK_BYTES - within));
        sqlx::query!(
            "INSERT INTO blob_chunks (blob_no, place, content) VALUES (?, ?, ?)
                 ON DUPLICATE KEY UPDATE content = CONCAT(content, VALUES(content))",
            blob.no,
            place,
            part
        )
        .execute(&mut **tx)
        .await?;
        offset += part.len() as u64;
        rest = after;
    }
    (blob.have, blob.is_changed) = (offset, true);
    if offset < blob.size {
        return Ok(Piece::More(offset));
    }
    // What has come in one piece need not be read again.
    let is_all = data.len() as u64 == blob.size;
    let came = if is_all { *blake3::hash(data).as_bytes() } else { hash_of(tx, blob.no).await? };
    if came == *hash {
        return Ok(Piece::Whole);
    }
    sqlx::query!("DELETE FROM blob_chunks WHERE blob_no = ?", blob.no).execute(&mut **tx).await?;
    blob.have = 0;
    Ok(Piece::Lie)
}

/// The hash of what a blob holds, piece by piece.
async fn hash_of(tx: &mut WriteTx, blob: u64) -> Result<Hash, sqlx::Error> {
    let mut hasher = blake3::Hasher::new();
    read_blob(tx, blob, |piece| {
        hasher.update(piece);
    })
    .await?;
    Ok(*hasher.finalize().as_bytes())
}
