//! Contents that do not travel in envelopes: pieces under names that tell nothing.

use super::{DAY, Hash, Records, RecordsError, TIMES, begin_in, now};

impl Records {
    /// Puts a piece of a content down; one that is there already stays.
    ///
    /// # Errors
    /// When there is no room.
    pub async fn put_content(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        name: &Hash,
        piece: u32,
        sealed: &[u8],
    ) -> Result<(), RecordsError> {
        again!(self.put_content_once((mailbox, access), name, piece, sealed))
    }

    async fn put_content_once(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        name: &Hash,
        piece: u32,
        sealed: &[u8],
    ) -> Result<(), RecordsError> {
        let mut tx = self.pool.begin().await?;
        let usage = begin_in(&mut tx, mailbox, access, sealed.len()).await?;
        let done = sqlx::query(
            "INSERT IGNORE INTO contents (mailbox, name, piece, expires_at, sealed) VALUES (?, ?, ?, ?, ?)",
        )
        .bind(&mailbox[..])
        .bind(&name[..])
        .bind(piece)
        .bind(now() + u64::from(usage.days) * DAY)
        .bind(sealed)
        .execute(&mut *tx)
        .await?;
        if done.rows_affected() == 1 {
            sqlx::query("UPDATE mailboxes SET bytes = bytes + ?, used_at = ? WHERE id = ?")
                .bind(sealed.len() as u64)
                .bind(now())
                .bind(&mailbox[..])
                .execute(&mut *tx)
                .await?;
        }
        Ok(tx.commit().await?)
    }

    /// A piece of a content, if it is there.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn content(&self, mailbox: &[u8; 16], name: &Hash, piece: u32) -> Result<Option<Vec<u8>>, RecordsError> {
        Ok(sqlx::query_scalar("SELECT sealed FROM contents WHERE mailbox = ? AND name = ? AND piece = ?")
            .bind(&mailbox[..])
            .bind(&name[..])
            .bind(piece)
            .fetch_optional(&self.pool)
            .await?)
    }

    /// How many pieces of a content are there.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn pieces(&self, mailbox: &[u8; 16], name: &Hash) -> Result<u64, RecordsError> {
        Ok(sqlx::query_scalar("SELECT CAST(COUNT(*) AS UNSIGNED) FROM contents WHERE mailbox = ? AND name = ?")
            .bind(&mailbox[..])
            .bind(&name[..])
            .fetch_one(&self.pool)
            .await?)
    }
}
