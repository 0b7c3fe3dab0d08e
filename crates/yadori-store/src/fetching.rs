//! Content that is on another device comes here, piece by piece, and is checked against its hash.

use crate::content::{CHUNK_BYTES, NowWhole, free_blob, note_whole, read_blob};
use crate::store::{Store, StoreError, retry_on_deadlock};
use crate::write_tx::WriteTx;
use yadori_core::shared::Hash;

/// What came of a piece of content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// There is more to come: how much is here.
    More(u64),
    /// It is here as a whole: the number of the latest change, and the pictures that have no small picture yet.
    Whole {
        /// The change.
        change: Option<u64>,
        /// The numbers of the pictures.
        pictures: Vec<u64>,
        /// Of each clip that is here as a whole now, the numbers of its change before, and of this one.
        moved: Vec<(u64, u64)>,
    },
    /// It is not what its hash says; nothing of it was kept.
    Lie,
    /// It is what its hash says, but not what the id of a clip says that was told of with it. That clip has no content
    /// here any more.
    AnotherClip {
        /// The number of the latest change.
        change: Option<u64>,
    },
    /// Nobody here wants it any more.
    Unwanted,
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

    /// Takes in a piece of content that begins at byte `at`. When it is whole, it is checked against its hash.
    ///
    /// # Errors
    /// When the database fails, or has no room; nothing of the piece is kept then.
    pub async fn apply_content(&self, hash: &Hash, at: u64, data: &[u8]) -> Result<Piece, StoreError> {
        retry_on_deadlock!(self.hear_content_once(hash, at, data))
    }

    async fn hear_content_once(&self, hash: &Hash, at: u64, data: &[u8]) -> Result<Piece, StoreError> {
        let mut tx = self.begin_writing().await?;
        let known = sqlx::query!("SELECT no, size, have FROM blobs WHERE hash = ? FOR UPDATE", &hash[..])
            .fetch_optional(&mut *tx)
            .await?;
        let Some(blob) = known else { return Ok(Piece::Unwanted) };
        if blob.have == blob.size {
            return Ok(Piece::Whole { change: None, pictures: Vec::new(), moved: Vec::new() });
        }
        if blob.have != at {
            return Ok(Piece::More(blob.have));
        }
        if data.is_empty() || at + data.len() as u64 > blob.size {
            return Ok(Piece::Lie);
        }
        let mut offset = at;
        let mut rest = data;
        while !rest.is_empty() {
            let (place, within) = ((offset / CHUNK_BYTES as u64) as u32, offset as usize % CHUNK_BYTES);
            let (piece, after) = rest.split_at(rest.len().min(CHUNK_BYTES - within));
            sqlx::query!(
                "INSERT INTO blob_chunks (blob_no, place, content) VALUES (?, ?, ?)
                 ON DUPLICATE KEY UPDATE content = CONCAT(content, VALUES(content))",
                blob.no,
                place,
                piece
            )
            .execute(&mut *tx)
            .await?;
            offset += piece.len() as u64;
            rest = after;
        }
        sqlx::query!("UPDATE blobs SET have = ? WHERE no = ?", offset, blob.no).execute(&mut *tx).await?;
        if offset < blob.size {
            tx.commit().await?;
            return Ok(Piece::More(offset));
        }
        // What has come in one piece need not be read again.
        let is_all = data.len() as u64 == blob.size;
        let came = if is_all { *blake3::hash(data).as_bytes() } else { hash_of(&mut tx, blob.no).await? };
        if came != *hash {
            sqlx::query!("DELETE FROM blob_chunks WHERE blob_no = ?", blob.no).execute(&mut *tx).await?;
            sqlx::query!("UPDATE blobs SET have = 0 WHERE no = ?", blob.no).execute(&mut *tx).await?;
            tx.commit().await?;
            return Ok(Piece::Lie);
        }
        let NowWhole { change, pictures, moved, is_lie } = note_whole(&mut tx, blob.no).await?;
        if is_lie {
            free_blob(&mut tx, blob.no).await?;
        }
        tx.commit().await?;
        Ok(if is_lie { Piece::AnotherClip { change } } else { Piece::Whole { change, pictures, moved } })
    }
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
