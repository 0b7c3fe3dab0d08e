//! Transactions that write.
//!
//! Whoever writes takes a number of the change feed for each change, and holds the feed from the first on, so that what is read can
//! be relied upon, and nobody stands in another's way with what each took first. The numbers are counted here, and the feed is
//! brought up to the last of them in the message that makes all of it durable.

use crate::cache::{Cache, Writing};
use crate::clips::ClipRecord;
use crate::connections::Lease;
use crate::content::StoredFormat;
use crate::fresh::FreshClip;
use crate::statements::Statements;
use crate::store::Store;
use sqlx::mysql::MySqlRow;
use sqlx::{MySqlConnection, Row};
use std::ops::{Deref, DerefMut};
use std::sync::Arc;

/// Gives the number of the latest change. Nobody else takes one from then on.
const HOLD_FEED: &str = "SELECT last FROM feed WHERE one = 1 FOR UPDATE";

/// A transaction that writes; nothing that was read before is believed from its first write on. Dropped before it was made durable,
/// it leaves nothing.
pub(crate) struct WriteTx {
    lease: Lease,
    cache: Arc<Cache>,
    writing: Option<Writing>,
    /// The number of the latest change, once the feed is held.
    last: Option<u64>,
    /// Whether that is to be put on record.
    has_taken: bool,
}

impl Store {
    /// Begins to write: nobody else does from here to the end. (Only large content may be on its way to the disk meanwhile:
    /// see [`Filing::put_content`](crate::Filing::put_content).)
    pub(crate) async fn begin_writing(&self) -> Result<WriteTx, sqlx::Error> {
        Ok(self.begin_writing_asking(Statements::default()).await?.0)
    }

    /// The same, with a question that is asked in the same message. Gives the rows that are answered, too.
    pub(crate) async fn begin_writing_asking(
        &self,
        question: Statements,
    ) -> Result<(WriteTx, Vec<MySqlRow>), sqlx::Error> {
        let (mut tx, answers) = self.begin_holding(question).await?;
        tx.writes();
        Ok((tx, answers))
    }

    /// Begins to write, and only to the records of these clips.
    pub(crate) async fn begin_notes(&self, clips: &[u64]) -> Result<WriteTx, sqlx::Error> {
        let (mut tx, _) = self.begin_holding(Statements::default()).await?;
        tx.writing = Some(tx.cache.begin_notes(clips));
        Ok(tx)
    }

    /// Begins a transaction that may wait long before it writes to clips: [`WriteTx::writes`].
    pub(crate) async fn begin_ahead(&self) -> Result<WriteTx, sqlx::Error> {
        let mut lease = self.connections.lend().await?;
        sqlx::raw_sql("BEGIN").execute(&mut *lease).await?;
        Ok(WriteTx::of(lease, self.cache.clone()))
    }

    async fn begin_holding(&self, question: Statements) -> Result<(WriteTx, Vec<MySqlRow>), sqlx::Error> {
        let mut lease = self.connections.lend().await?;
        let mut statements = Statements::default();
        statements.add("BEGIN").add(HOLD_FEED).append(question);
        let mut answers = statements.fetch_all(&mut lease).await?;
        if answers.is_empty() {
            return Err(sqlx::Error::RowNotFound);
        }
        let last = answers.remove(0).try_get(0)?;
        Ok((WriteTx { last: Some(last), ..WriteTx::of(lease, self.cache.clone()) }, answers))
    }
}

impl WriteTx {
    fn of(lease: Lease, cache: Arc<Cache>) -> Self {
        Self { lease, cache, writing: None, last: None, has_taken: false }
    }

    /// What follows changes what is on record of clips.
    pub(crate) fn writes(&mut self) {
        if self.writing.is_none() {
            self.writing = Some(self.cache.begin());
        }
    }

    /// What follows makes new clips, and does nothing to those that are there: see [`WriteTx::changes_more`].
    pub(crate) fn inserts(&mut self) {
        if self.writing.is_none() {
            self.writing = Some(self.cache.begin_insert());
        }
    }

    /// What follows changes clips that are there after all.
    pub(crate) fn changes_more(&self) {
        if let Some(writing) = &self.writing {
            writing.changes_more();
        }
    }

    /// Adds a statement that takes the next number of the feed and puts it on record; it is the statement's last id. To be followed
    /// by [`WriteTx::has_put`].
    pub(crate) fn put_next(&self, statements: &mut Statements) {
        statements.add("UPDATE feed SET last = LAST_INSERT_ID(");
        match self.last {
            // Some may have been taken that are not on record yet.
            Some(last) => statements.alone(last + 1),
            None => statements.words("last + 1"),
        };
        statements.words(") WHERE one = 1");
    }

    /// This number of the feed, and all before it, are on record.
    pub(crate) fn has_put(&mut self, change: u64) {
        (self.last, self.has_taken) = (Some(change), false);
    }

    /// The statements that follow make it durable themselves: from now on it may be, whether their answer is heard or not.
    pub(crate) fn commits(&mut self) {
        if let Some(writing) = &mut self.writing {
            writing.commits();
        }
    }

    /// The server has said what became of them: they made it durable, or the first that it refused was before the end.
    pub(crate) fn is_decided(&mut self) {
        if let Some(writing) = &mut self.writing {
            writing.is_done();
        }
    }

    /// They have made it durable, and this clip with its formats; and what other devices are told of it.
    pub(crate) fn end_with(self, clip: ClipRecord, formats: &[StoredFormat], fresh: Option<FreshClip>) {
        let Self { lease, writing, .. } = self;
        lease.end();
        if let Some(writing) = writing {
            writing.end_with(Arc::new(clip.into()), formats, fresh);
        }
    }

    /// Makes it durable after these statements, and keeps what other devices are told of the clips that it has made.
    pub(crate) async fn commit_after(
        mut self,
        statements: Statements,
        fresh: Vec<FreshClip>,
    ) -> Result<(), sqlx::Error> {
        self.make_durable(statements).await?;
        let Self { lease, writing, .. } = self;
        lease.end();
        if let Some(writing) = writing {
            writing.end_with_fresh(fresh);
        }
        Ok(())
    }

    /// Makes it durable.
    pub(crate) async fn commit(mut self) -> Result<(), sqlx::Error> {
        self.make_durable(Statements::default()).await?;
        self.lease.end();
        Ok(())
    }

    async fn make_durable(&mut self, mut statements: Statements) -> Result<(), sqlx::Error> {
        if let Some(last) = self.last.filter(|_| self.has_taken) {
            statements.add("UPDATE feed SET last = ").alone(last).words(" WHERE one = 1");
        }
        statements.add("COMMIT");
        self.commits();
        statements.execute(&mut self.lease).await?;
        self.is_decided();
        Ok(())
    }
}

impl Deref for WriteTx {
    type Target = MySqlConnection;

    fn deref(&self) -> &MySqlConnection {
        &self.lease
    }
}

impl DerefMut for WriteTx {
    fn deref_mut(&mut self) -> &mut MySqlConnection {
        &mut self.lease
    }
}

/// Takes the next number of the change feed.
pub(crate) async fn next_change(tx: &mut WriteTx) -> Result<u64, sqlx::Error> {
    Ok(next_changes(tx, 1).await? + 1)
}

/// Takes the next `count` numbers of the change feed; gives the last before them. From the first on, nobody else writes.
pub(crate) async fn next_changes(tx: &mut WriteTx, count: usize) -> Result<u64, sqlx::Error> {
    let before = match tx.last {
        Some(last) => last,
        None => sqlx::query_scalar(HOLD_FEED).fetch_one(&mut **tx).await?,
    };
    tx.last = Some(before + count as u64);
    tx.has_taken |= count > 0;
    Ok(before)
}
