//! Tokens, by which people open mailboxes.

use super::{Hash, Records, RecordsError};
use sqlx::Row;

/// A token, as far as it is known.
#[derive(Clone, Debug)]
pub struct Token {
    /// Its hash.
    pub hash: Hash,
    /// What its owner wrote beside it.
    pub note: String,
    /// When it was made.
    pub made_at: u64,
    /// How many mailboxes it still opens.
    pub mailboxes_left: u32,
    /// Bytes of each.
    pub quota_bytes: u64,
    /// For how many days envelopes wait there.
    pub days: u32,
}

impl Records {
    /// Adds a token, known by its hash.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_token(&self, token: &Token) -> Result<(), RecordsError> {
        sqlx::query(
            "INSERT INTO tokens (hash, note, made_at, mailboxes_left, quota_bytes, days) VALUES (?, ?, ?, ?, ?, ?)",
        )
        .bind(&token.hash[..])
        .bind(&token.note)
        .bind(token.made_at)
        .bind(token.mailboxes_left)
        .bind(token.quota_bytes)
        .bind(token.days)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Whether there is a token with this hash.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn is_token(&self, token: &Hash) -> Result<bool, RecordsError> {
        let known: Option<u32> = sqlx::query_scalar("SELECT days FROM tokens WHERE hash = ?")
            .bind(&token[..])
            .fetch_optional(&self.pool)
            .await?;
        Ok(known.is_some())
    }

    /// All tokens, the newest first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn tokens(&self) -> Result<Vec<Token>, RecordsError> {
        let rows = sqlx::query(
            "SELECT hash, note, made_at, mailboxes_left, quota_bytes, days FROM tokens ORDER BY made_at DESC, hash",
        )
        .fetch_all(&self.pool)
        .await?;
        let token = |row: &sqlx::mysql::MySqlRow| -> Result<Token, sqlx::Error> {
            let hash: Vec<u8> = row.try_get(0)?;
            Ok(Token {
                hash: hash.try_into().unwrap_or_default(),
                note: row.try_get(1)?,
                made_at: row.try_get(2)?,
                mailboxes_left: row.try_get(3)?,
                quota_bytes: row.try_get(4)?,
                days: row.try_get(5)?,
            })
        };
        rows.iter().map(|row| Ok(token(row)?)).collect()
    }

    /// Removes a token: it opens no mailbox any more. Those that it has opened stay.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn remove_token(&self, hash: &Hash) -> Result<bool, RecordsError> {
        let done = sqlx::query("DELETE FROM tokens WHERE hash = ?").bind(&hash[..]).execute(&self.pool).await?;
        Ok(done.rows_affected() == 1)
    }
}
