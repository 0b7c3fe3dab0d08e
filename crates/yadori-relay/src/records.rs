//! Tokens, mailboxes, envelopes and contents in MariaDB.
//!
//! Whatever changes a mailbox begins with its row, and so is done alone in that mailbox to the end of the transaction, whichever
//! node does it. Where two nodes of a cluster meet all the same, the database takes one of the two back, and that one is done again.

use sqlx::mysql::{MySqlConnectOptions, MySqlPoolOptions};
use sqlx::{AssertSqlSafe, MySql, MySqlPool, Row, Transaction};
use std::str::FromStr;
use std::time::Duration;
use thiserror::Error;

/// The migrations, in their order. Each statement may be made again.
const MIGRATIONS: [&str; 3] = [
    include_str!("../migrations/0001_mailboxes.sql"),
    include_str!("../migrations/0002_meetings.sql"),
    include_str!("../migrations/0003_handovers.sql"),
];

/// Connections to the database.
const CONNECTIONS: u32 = 16;

/// How long a request waits for one of them.
const PATIENCE: Duration = Duration::from_secs(2);

/// Times that a transaction is made again when it has met another.
const TIMES: u32 = 8;

/// Envelopes and pieces that expire in one transaction.
const BATCH: u32 = 200;

/// Milliseconds of a day.
const DAY: u64 = 86_400_000;

/// Milliseconds since 1970.
pub fn now() -> u64 {
    u64::try_from(jiff::Timestamp::now().as_millisecond()).unwrap_or(0)
}

/// A hash, of a token or an access key.
pub type Hash = [u8; 32];

/// Why nothing was kept or given.
#[derive(Debug, Error)]
pub enum RecordsError {
    /// No such mailbox, or not with this key: nobody is told which.
    #[error("there is no such mailbox, or this is not its key")]
    NoMailbox,
    /// Not a token, or one that was used up.
    #[error("this is not a token of this relay, or it was used already")]
    NoToken,
    /// The mailbox is there, with another key; or something else was said there.
    #[error("there is another one already")]
    Taken,
    /// An envelope of this or a later number was there before, and it was another one.
    #[error("envelope {0} of this outbox is there already")]
    NumberTaken(u64),
    /// No meeting with this secret, or it is over.
    #[error("there is no such meeting, or it is over")]
    NoMeeting,
    /// No room.
    #[error(
        "the mailbox is full: {used} of {quota} bytes are used; there is room when the other devices have fetched what waits there, or ask the relay's owner for more"
    )]
    Full {
        /// Bytes that are used.
        used: u64,
        /// Bytes that there is room for.
        quota: u64,
    },
    /// Written by a later version.
    #[error("the database was written by a later version of the relay")]
    Newer,
    /// The database does not answer.
    #[error("the database does not answer at the moment")]
    Database(#[from] sqlx::Error),
}

impl RecordsError {
    /// Whether another transaction was in the way.
    fn is_deadlock(&self) -> bool {
        let Self::Database(sqlx::Error::Database(error)) = self else { return false };
        let number =
            error.try_downcast_ref::<sqlx::mysql::MySqlDatabaseError>().map(sqlx::mysql::MySqlDatabaseError::number);
        // A deadlock, and a lock that was waited for too long; in a cluster, also a row that came from another server when
        // this transaction had seen that there is none.
        matches!(number, Some(1213 | 1205 | 1062))
    }
}

/// Does a transaction again as long as another is in the way.
macro_rules! again {
    ($work:expr) => {{
        let mut times = 0;
        loop {
            match $work.await {
                Err(error) if error.is_deadlock() && times < TIMES => times += 1,
                done => break done,
            }
        }
    }};
}

mod contents;
mod envelopes;
mod handovers;
mod meetings;
mod tokens;

pub use envelopes::{Envelope, Look};
pub use handovers::Handover;
pub use meetings::InMeeting;
pub use tokens::Token;

/// What a mailbox holds.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Usage {
    /// Its number.
    pub mailbox: [u8; 16],
    /// The number of the last arrival.
    pub latest: u64,
    /// Bytes that are used.
    pub bytes: u64,
    /// Bytes that there is room for.
    pub quota_bytes: u64,
    /// For how many days envelopes wait.
    pub days: u32,
    /// When it was made, in milliseconds since 1970.
    pub made_at: u64,
    /// When something last came.
    pub used_at: u64,
}

impl Usage {
    fn has_room_for(&self, more: usize) -> Result<(), RecordsError> {
        let (used, quota) = (self.bytes, self.quota_bytes);
        if more > 0 && used + more as u64 > quota { Err(RecordsError::Full { used, quota }) } else { Ok(()) }
    }
}

/// The records of a relay.
#[derive(Clone)]
pub struct Records {
    pool: MySqlPool,
}

impl Records {
    /// Opens a database and brings its tables up to date, while other nodes may be at work.
    ///
    /// # Errors
    /// When it does not answer, or a later version wrote it.
    pub async fn open(url: &str) -> Result<Self, RecordsError> {
        let options = MySqlConnectOptions::from_str(url)?.charset("utf8mb4").collation("utf8mb4_bin");
        let pool = MySqlPoolOptions::new()
            .max_connections(CONNECTIONS)
            .acquire_timeout(PATIENCE)
            .after_connect(|connection, _| {
                Box::pin(async move {
                    // In a cluster, what one node has acknowledged is there when another is asked. (MariaDB, `wsrep_sync_wait`.)
                    let session = "SET SESSION wsrep_sync_wait = 1, SESSION innodb_lock_wait_timeout = 5";
                    sqlx::raw_sql(session).execute(connection).await.map(drop)
                })
            })
            .connect_with(options)
            .await?;
        let mut connection = pool.acquire().await?;
        sqlx::raw_sql(
            "CREATE TABLE IF NOT EXISTS migrations (version INT UNSIGNED NOT NULL PRIMARY KEY, done_at BIGINT UNSIGNED NOT NULL)
             ENGINE = InnoDB",
        )
        .execute(&mut *connection)
        .await?;
        let done: Option<u32> =
            sqlx::query_scalar("SELECT MAX(version) FROM migrations").fetch_one(&mut *connection).await?;
        if done.unwrap_or(0) as usize > MIGRATIONS.len() {
            return Err(RecordsError::Newer);
        }
        // Several nodes may do it at once: every statement may be made again. (A cluster takes no named lock.)
        for (version, script) in (1u32..).zip(MIGRATIONS).skip(done.unwrap_or(0) as usize) {
            let script: String = script.lines().filter(|line| !line.starts_with("--")).collect::<Vec<_>>().join("\n");
            for statement in script.split(';').map(str::trim).filter(|statement| !statement.is_empty()) {
                sqlx::raw_sql(AssertSqlSafe(statement.to_owned())).execute(&mut *connection).await?;
            }
            sqlx::query("INSERT IGNORE INTO migrations (version, done_at) VALUES (?, ?)")
                .bind(version)
                .bind(now())
                .execute(&mut *connection)
                .await?;
        }
        drop(connection);
        Ok(Self { pool })
    }

    /// Whether the database answers. A server of a cluster that lost sight of most others is reached, and does not answer.
    pub async fn is_there(&self) -> bool {
        let pool = self.pool.clone();
        // To its end, even if nobody waits for it any more: a question must not be broken off in the middle.
        let asked = tokio::spawn(async move {
            let version: Result<Option<u32>, sqlx::Error> =
                sqlx::query_scalar("SELECT MAX(version) FROM migrations").fetch_one(&pool).await;
            version.is_ok()
        });
        matches!(tokio::time::timeout(PATIENCE, asked).await, Ok(Ok(true)))
    }

    /// Ends all connections.
    pub async fn close(&self) {
        self.pool.close().await;
    }

    // Mailboxes

    /// Opens a mailbox by a token. The same again, with the same key, is no error: the answer may have been lost.
    ///
    /// # Errors
    /// When the token opens none, or the mailbox is there with another key.
    pub async fn open_mailbox(&self, token: &Hash, mailbox: &[u8; 16], access: &Hash) -> Result<Usage, RecordsError> {
        again!(self.open_mailbox_once(token, mailbox, access))?;
        self.usage(mailbox, access).await
    }

    async fn open_mailbox_once(&self, token: &Hash, mailbox: &[u8; 16], access: &Hash) -> Result<(), RecordsError> {
        let mut tx = self.pool.begin().await?;
        let row = sqlx::query("SELECT mailboxes_left, quota_bytes, days FROM tokens WHERE hash = ? FOR UPDATE")
            .bind(&token[..])
            .fetch_optional(&mut *tx)
            .await?
            .ok_or(RecordsError::NoToken)?;
        let known: Option<(Vec<u8>, Vec<u8>)> = sqlx::query_as("SELECT access, token FROM mailboxes WHERE id = ?")
            .bind(&mailbox[..])
            .fetch_optional(&mut *tx)
            .await?;
        if let Some((known, by)) = known {
            return if known == access[..] && by == token[..] { Ok(()) } else { Err(RecordsError::Taken) };
        }
        if row.try_get::<u32, _>(0)? == 0 {
            return Err(RecordsError::NoToken);
        }
        sqlx::query(
            "INSERT INTO mailboxes (id, access, token, made_at, used_at, quota_bytes, days) VALUES (?, ?, ?, ?, ?, ?, ?)",
        )
        .bind(&mailbox[..])
        .bind(&access[..])
        .bind(&token[..])
        .bind(now())
        .bind(now())
        .bind(row.try_get::<u64, _>(1)?)
        .bind(row.try_get::<u32, _>(2)?)
        .execute(&mut *tx)
        .await?;
        sqlx::query("UPDATE tokens SET mailboxes_left = mailboxes_left - 1 WHERE hash = ?")
            .bind(&token[..])
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }

    /// What a mailbox holds.
    ///
    /// # Errors
    /// When there is none with this key.
    pub async fn usage(&self, mailbox: &[u8; 16], access: &Hash) -> Result<Usage, RecordsError> {
        let row = sqlx::query(
            "SELECT id, latest, bytes, quota_bytes, days, made_at, used_at FROM mailboxes WHERE id = ? AND access = ?",
        )
        .bind(&mailbox[..])
        .bind(&access[..])
        .fetch_optional(&self.pool)
        .await?;
        usage_of(&row.ok_or(RecordsError::NoMailbox)?)
    }

    /// Erases a mailbox and all that is in it.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn erase(&self, mailbox: &[u8; 16]) -> Result<bool, RecordsError> {
        let mut tx = self.pool.begin().await?;
        let done = sqlx::query("DELETE FROM mailboxes WHERE id = ?").bind(&mailbox[..]).execute(&mut *tx).await?;
        sqlx::query("DELETE FROM meeting_messages WHERE meeting = (SELECT id FROM meetings WHERE mailbox = ?)")
            .bind(&mailbox[..])
            .execute(&mut *tx)
            .await?;
        for table in ["envelopes", "contents", "outboxes", "handovers", "meetings"] {
            sqlx::query(AssertSqlSafe(format!("DELETE FROM {table} WHERE mailbox = ?")))
                .bind(&mailbox[..])
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(done.rows_affected() == 1)
    }

    // For all mailboxes

    /// The mailboxes to which something came since `since`, a time of the database's clock, and what that clock says now.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn changed_since(&self, since: u64) -> Result<(u64, Vec<([u8; 16], u64)>), RecordsError> {
        let now: u64 = sqlx::query_scalar("SELECT CAST(ROUND(UNIX_TIMESTAMP(NOW(3)) * 1000) AS UNSIGNED)")
            .fetch_one(&self.pool)
            .await?;
        let rows: Vec<(Vec<u8>, u64)> = sqlx::query_as("SELECT id, latest FROM mailboxes WHERE changed >= ?")
            .bind(since)
            .fetch_all(&self.pool)
            .await?;
        let changed = rows.into_iter().filter_map(|(id, latest)| Some((id.try_into().ok()?, latest)));
        Ok((now, changed.collect()))
    }

    /// Removes what has waited for too long at `now`, one batch of it. Tells whether there may be more.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn expire(&self, now: u64) -> Result<bool, RecordsError> {
        self.end_meetings(now).await?;
        let mut more = false;
        for (table, place) in [("envelopes", "arrival"), ("contents", "name"), ("handovers", "access")] {
            let due: Vec<(Vec<u8>, u64)> = sqlx::query_as(AssertSqlSafe(format!(
                "SELECT mailbox, CAST(SUM(bytes) AS UNSIGNED) FROM
                 (SELECT mailbox, LENGTH(sealed) AS bytes FROM {table} WHERE expires_at <= ? ORDER BY mailbox, {place} LIMIT {BATCH}) due
                 GROUP BY mailbox"
            )))
            .bind(now)
            .fetch_all(&self.pool)
            .await?;
            for (mailbox, _) in due {
                let Ok(mailbox) = <[u8; 16]>::try_from(mailbox) else { continue };
                again!(self.expire_in(table, &mailbox, now))?;
                more = true;
            }
        }
        Ok(more)
    }

    async fn expire_in(&self, table: &'static str, mailbox: &[u8; 16], now: u64) -> Result<(), RecordsError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("SELECT id FROM mailboxes WHERE id = ? FOR UPDATE")
            .bind(&mailbox[..])
            .fetch_optional(&mut *tx)
            .await?;
        let bytes: u64 = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT CAST(COALESCE(SUM(LENGTH(sealed)), 0) AS UNSIGNED) FROM {table} WHERE mailbox = ? AND expires_at <= ?"
        )))
        .bind(&mailbox[..])
        .bind(now)
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query(AssertSqlSafe(format!("DELETE FROM {table} WHERE mailbox = ? AND expires_at <= ?")))
            .bind(&mailbox[..])
            .bind(now)
            .execute(&mut *tx)
            .await?;
        free(&mut tx, mailbox, bytes).await?;
        Ok(tx.commit().await?)
    }

    /// All mailboxes, the largest first, at most so many.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn mailboxes(&self, most: u32) -> Result<Vec<Usage>, RecordsError> {
        let rows = sqlx::query(
            "SELECT id, latest, bytes, quota_bytes, days, made_at, used_at FROM mailboxes ORDER BY bytes DESC LIMIT ?",
        )
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(usage_of).collect()
    }
}

/// Begins a change of a mailbox, for which so many bytes more are wanted. Gives what it holds.
async fn begin_in(
    tx: &mut Transaction<'static, MySql>,
    mailbox: &[u8; 16],
    access: &Hash,
    more: usize,
) -> Result<Usage, RecordsError> {
    let row = sqlx::query(
        "SELECT id, latest, bytes, quota_bytes, days, made_at, used_at FROM mailboxes WHERE id = ? AND access = ? FOR UPDATE",
    )
    .bind(&mailbox[..])
    .bind(&access[..])
    .fetch_optional(&mut **tx)
    .await?;
    let usage = usage_of(&row.ok_or(RecordsError::NoMailbox)?)?;
    usage.has_room_for(more)?;
    Ok(usage)
}

async fn free(tx: &mut Transaction<'static, MySql>, mailbox: &[u8; 16], bytes: u64) -> Result<(), sqlx::Error> {
    sqlx::query("UPDATE mailboxes SET bytes = IF(bytes > ?, bytes - ?, 0) WHERE id = ?")
        .bind(bytes)
        .bind(bytes)
        .bind(&mailbox[..])
        .execute(&mut **tx)
        .await?;
    Ok(())
}

fn usage_of(row: &sqlx::mysql::MySqlRow) -> Result<Usage, RecordsError> {
    let mailbox: Vec<u8> = row.try_get(0)?;
    Ok(Usage {
        mailbox: mailbox.try_into().unwrap_or_default(),
        latest: row.try_get(1)?,
        bytes: row.try_get(2)?,
        quota_bytes: row.try_get(3)?,
        days: row.try_get(4)?,
        made_at: row.try_get(5)?,
        used_at: row.try_get(6)?,
    })
}
