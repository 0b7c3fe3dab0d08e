//! Settings, and the browsers that were let in.

use crate::store::{Store, StoreError};
use crate::write_tx::next_change;
use sqlx::{Executor, MySql};
use yadori_core::sensitive::Sensitive;
use yadori_core::{ClipId, MillisSinceEpoch};

/// The setting that holds the tray.
pub const TRAY: &str = "tray";

/// What stands for a clip that is no secret. It does not lead back to the clip's id by itself.
fn no_secret(id: ClipId) -> [u8; 32] {
    blake3::derive_key("yadori 2026-11 texts that are no secrets", &id.0)
}

/// The use of a session is noted so often.
const NOTED_MILLIS: u64 = 60 * 60 * 1000;

/// A browser that was let in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ConsoleSession {
    /// The hash of its key.
    pub hash: [u8; 32],
    /// What it says that it is.
    pub browser: String,
    /// When it was let in.
    pub created_at: MillisSinceEpoch,
    /// When it was last used, to the hour.
    pub used_at: MillisSinceEpoch,
    /// Until when it is let in.
    pub expires_at: MillisSinceEpoch,
}

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
        Ok(sqlx::query_scalar!("SELECT value FROM settings WHERE name = ?", name)
            .fetch_optional(&self.connections)
            .await?)
    }

    /// Sets a setting, or with `None` removes it.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_setting(&self, name: &str, value: Option<&str>) -> Result<(), StoreError> {
        Ok(set(&self.connections, name, value).await?)
    }

    /// Whether a person has said that the clip with this id is no secret.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn is_no_secret(&self, id: ClipId) -> Result<bool, StoreError> {
        let found = sqlx::query_scalar!("SELECT hash FROM not_secret WHERE hash = ?", &no_secret(id)[..]);
        Ok(found.fetch_optional(&self.connections).await?.is_some())
    }

    /// Notes that a clip is no secret, now and whenever it is copied again; or no longer. Gives the number of the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_secret(&self, clip: u64, id: ClipId, sensitive: Option<Sensitive>) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        match sensitive {
            None => {
                sqlx::query!("REPLACE INTO not_secret (hash) VALUES (?)", &no_secret(id)[..]).execute(&mut *tx).await?
            }
            Some(_) => {
                sqlx::query!("DELETE FROM not_secret WHERE hash = ?", &no_secret(id)[..]).execute(&mut *tx).await?
            }
        };
        let change = next_change(&mut tx).await?;
        sqlx::query!(
            "UPDATE clips SET secret = ?, seq = ? WHERE no = ?",
            sensitive.map_or(0, Sensitive::code),
            change,
            clip
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Remembers a console session by the hashes of its key and of its path; forgets those that are over.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_console_session(
        &self,
        hash: &[u8; 32],
        path_hash: &[u8; 32],
        browser: &str,
        now: MillisSinceEpoch,
        expires_at: MillisSinceEpoch,
    ) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM console_sessions WHERE expires_at <= ?", now.0).execute(&self.connections).await?;
        sqlx::query!(
            "INSERT INTO console_sessions (hash, path_hash, browser, created_at, used_at, expires_at)
             VALUES (?, ?, ?, ?, ?, ?)",
            &hash[..],
            &path_hash[..],
            browser,
            now.0,
            now.0,
            expires_at.0
        )
        .execute(&self.connections)
        .await?;
        Ok(())
    }

    /// Whether there is a session with the key of this hash at the path of that one. Notes that it was used, once an hour.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn has_console_session(
        &self,
        hash: &[u8; 32],
        path_hash: &[u8; 32],
        now: MillisSinceEpoch,
    ) -> Result<bool, StoreError> {
        let found = sqlx::query!(
            "SELECT expires_at, used_at FROM console_sessions WHERE hash = ? AND path_hash = ?",
            &hash[..],
            &path_hash[..]
        )
        .fetch_optional(&self.connections)
        .await?;
        let Some(found) = found.filter(|found| found.expires_at > now.0) else { return Ok(false) };
        if found.used_at + NOTED_MILLIS < now.0 {
            sqlx::query!("UPDATE console_sessions SET used_at = ? WHERE hash = ?", now.0, &hash[..])
                .execute(&self.connections)
                .await?;
        }
        Ok(true)
    }

    /// The sessions that are not over, the one used last first.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn console_sessions(&self, now: MillisSinceEpoch) -> Result<Vec<ConsoleSession>, StoreError> {
        let rows = sqlx::query!(
            "SELECT hash, browser, created_at, used_at, expires_at FROM console_sessions WHERE expires_at > ?
             ORDER BY used_at DESC",
            now.0
        )
        .fetch_all(&self.connections)
        .await?;
        let read = rows.into_iter().filter_map(|row| {
            Some(ConsoleSession {
                hash: row.hash.try_into().ok()?,
                browser: row.browser,
                created_at: MillisSinceEpoch(row.created_at),
                used_at: MillisSinceEpoch(row.used_at),
                expires_at: MillisSinceEpoch(row.expires_at),
            })
        });
        Ok(read.collect())
    }

    /// The hashes of keys and paths of the sessions, and until when they last.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn console_keys(
        &self,
        now: MillisSinceEpoch,
    ) -> Result<Vec<([u8; 32], [u8; 32], MillisSinceEpoch)>, StoreError> {
        let rows = sqlx::query!("SELECT hash, path_hash, expires_at FROM console_sessions WHERE expires_at > ?", now.0)
            .fetch_all(&self.connections)
            .await?;
        let read = rows.into_iter().filter_map(|row| {
            Some((row.hash.try_into().ok()?, row.path_hash?.try_into().ok()?, MillisSinceEpoch(row.expires_at)))
        });
        Ok(read.collect())
    }

    /// Forgets a session.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn remove_console_session(&self, hash: &[u8; 32]) -> Result<(), StoreError> {
        sqlx::query!("DELETE FROM console_sessions WHERE hash = ?", &hash[..]).execute(&self.connections).await?;
        Ok(())
    }
}
