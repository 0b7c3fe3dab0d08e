//! Settings, and the browsers that were let in.

use crate::store::{Store, StoreError};
use sqlx::{Executor, MySql};
use yadori_core::MillisSinceEpoch;

/// The setting that holds the tray.
pub const TRAY: &str = "tray";

pub(crate) async fn set<'c>(
    database: impl Executor<'c, Database = MySql>,
    name: &str,
    value: Option<&str>,
) -> Result<(), sqlx::Error> {
    match value {
        Some(value) => {
            sqlx::query!("REPLACE INTO settings (name, value) VALUES (?, ?)", name, value).execute(database).await?
        }
        None => sqlx::query!("DELETE FROM settings WHERE name = ?", name).execute(database).await?,
    };
    Ok(())
}

impl Store {
    /// The value of a setting.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn setting(&self, name: &str) -> Result<Option<String>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT value FROM settings WHERE name = ?", name).fetch_optional(&self.pool).await?)
    }

    /// Sets a setting, or with `None` removes it.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_setting(&self, name: &str, value: Option<&str>) -> Result<(), StoreError> {
        Ok(set(&self.pool, name, value).await?)
    }

    /// Remembers a console session by the hash of its key; forgets those that are over.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_console_session(
        &self,
        hash: &[u8; 32],
        now: MillisSinceEpoch,
        expires_at: MillisSinceEpoch,
    ) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM console_sessions WHERE expires_at <= ?", now.0).execute(&self.pool).await?;
        sqlx::query!("INSERT INTO console_sessions (hash, expires_at) VALUES (?, ?)", &hash[..], expires_at.0)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Whether there is a session with the key of this hash.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn has_console_session(&self, hash: &[u8; 32], now: MillisSinceEpoch) -> Result<bool, StoreError> {
        let found = sqlx::query_scalar!("SELECT expires_at FROM console_sessions WHERE hash = ?", &hash[..])
            .fetch_optional(&self.pool)
            .await?;
        Ok(found.is_some_and(|expires_at| expires_at > now.0))
    }
}
