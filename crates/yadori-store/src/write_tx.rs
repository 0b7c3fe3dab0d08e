//! Transactions that write.
//!
//! Whoever writes takes a number of the change feed for each change, and nobody else writes from the first on, so that what is read
//! can be relied upon, and nobody stands in another's way with what each took first. The feed is brought up to the last of them in
//! the message that makes all of it durable, unless a new clip bears that number.

use crate::cache::{Cache, Writing};
use crate::clips::ClipRecord;
use crate::connections::Lease;
use crate::content::StoredFormat;
use crate::feed::{Feed, LAST_ON_RECORD};
use crate::fresh::FreshClip;
use crate::statements::Statements;
use crate::store::Store;
use sqlx::MySqlConnection;
use sqlx::mysql::MySqlRow;
use std::ops::{Deref, DerefMut};
use std::sync::Arc;
use std::time::Duration;
use tokio::time::timeout;

/// How long whoever writes waits for its turn.
const PATIENCE: Duration = Duration::from_secs(50);

/// How long content that was written first stands while whoever wrote it waits for its turn.
const SOON: Duration = Duration::from_millis(50);

/// A transaction that writes; nothing that was read before is believed from its first write on. Dropped before it was made durable,
/// it leaves nothing.
pub(crate) struct WriteTx {
    lease: Lease,
    cache: Arc<Cache>,
    feed: Arc<Feed>,
    writing: Option<Writing>,
    /// The last number that was taken, or the one before, once it is its turn.
    last: Option<u64>,
    /// Whether the server knows that it has begun.
    is_begun: bool,
    /// The last of its numbers that a clip bears.
    borne: u64,
    /// Blobs that came to be here as a whole before it was its turn.
    whole: Vec<u64>,
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

    /// Takes a connection for a transaction that may wait long before it writes to clips ([`WriteTx::writes`]), or begins at all
    /// ([`WriteTx::begin`]).
    pub(crate) async fn begin_ahead(&self) -> Result<WriteTx, sqlx::Error> {
        Ok(self.tx(self.connections.lend().await?))
    }

    async fn begin_holding(&self, question: Statements) -> Result<(WriteTx, Vec<MySqlRow>), sqlx::Error> {
        // In this order: whose turn it is must not wait for a connection of somebody who waits for the turn.
        let mut lease = self.connections.lend().await?;
        let turn = timeout(PATIENCE, self.feed.turn()).await.map_err(|_| sqlx::Error::PoolTimedOut)?;
        lease.takes(turn);
        let mut tx = self.tx(lease);
        let mut statements = Statements::default();
        statements.add("BEGIN").append(question);
        let answers = statements.fetch_all(&mut tx).await?;
        tx.is_begun = true;
        tx.has_turn().await?;
        Ok((tx, answers))
    }

    fn tx(&self, lease: Lease) -> WriteTx {
        WriteTx {
            lease,
            cache: self.cache.clone(),
            feed: self.feed.clone(),
            writing: None,
            last: None,
            is_begun: false,
            borne: 0,
            whole: Vec::new(),
        }
    }
}

impl WriteTx {
    /// Waits until nobody else writes. Whoever does may be waiting for what this has written already: if it `has_written` anything and
    /// its turn does not come soon, that is taken back; `false` is given then, and it is to be written again.
    pub(crate) async fn take_turn(&mut self, has_written: bool) -> Result<bool, sqlx::Error> {
        let feed = self.feed.clone();
        let mut turn = Box::pin(feed.turn());
        let soon = if has_written { timeout(SOON, &mut turn).await.ok() } else { None };
        let stands = soon.is_some() || !has_written;
        if !stands {
            sqlx::raw_sql("ROLLBACK").execute(&mut *self.lease).await?;
            self.is_begun = false;
            self.whole.clear();
        }
        let turn = match soon {
            Some(turn) => turn,
            None => timeout(PATIENCE, turn).await.map_err(|_| sqlx::Error::PoolTimedOut)?,
        };
        self.lease.takes(turn);
        self.has_turn().await?;
        Ok(stands)
    }

    /// Whether nobody else writes until its end.
    pub(crate) fn is_its_turn(&self) -> bool {
        self.last.is_some()
    }

    /// A blob is here as a whole; what that comes to for clips that lacked it is written in its turn: [`WriteTx::take_whole`].
    pub(crate) fn has_whole(&mut self, blob: u64) {
        self.whole.push(blob);
    }

    /// The blobs of which that is still to be written.
    pub(crate) fn take_whole(&mut self) -> Vec<u64> {
        std::mem::take(&mut self.whole)
    }

    async fn has_turn(&mut self) -> Result<(), sqlx::Error> {
        if self.feed.is_behind() {
            let (last, on_record) = sqlx::query_as(LAST_ON_RECORD).fetch_one(&mut *self.lease).await?;
            self.feed.is_at(last, on_record);
        }
        self.last = Some(self.feed.last());
        Ok(())
    }

    /// Begins it, unless that is done already.
    pub(crate) async fn begin(&mut self) -> Result<(), sqlx::Error> {
        if !self.is_begun {
            sqlx::raw_sql("BEGIN").execute(&mut *self.lease).await?;
            self.is_begun = true;
        }
        Ok(())
    }

    /// Begins it with the first of these statements, unless that is done already; gives whether it is added.
    pub(crate) fn begin_with(&mut self, statements: &mut Statements) -> bool {
        let is_added = !std::mem::replace(&mut self.is_begun, true);
        if is_added {
            statements.add("BEGIN");
        }
        is_added
    }

    /// Whether the server knows that it has begun.
    pub(crate) fn is_begun(&self) -> bool {
        self.is_begun
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

    /// A number that was taken is that of another change already.
    pub(crate) fn is_found_behind(&self) {
        self.feed.is_found_behind();
    }

    /// A clip bears this number once it is durable, so that the feed need not have it on record.
    pub(crate) fn bears(&mut self, change: u64) {
        self.borne = change;
    }

    /// The number of the latest change, its own included; only once it is its turn.
    pub(crate) fn latest_change(&self) -> u64 {
        self.last.unwrap_or_else(|| self.feed.last())
    }

    /// The statements that follow make it durable themselves: from now on it may be, whether their answer is heard or not.
    pub(crate) fn commits(&mut self) {
        if let Some(writing) = &mut self.writing {
            writing.commits();
        }
        if let (Some(turn), Some(last)) = (self.lease.turn(), self.last) {
            turn.leaves(last);
        }
    }

    /// The server has said what became of them: they made it durable, or the first that it refused was before the end.
    pub(crate) fn is_decided(&mut self, is_durable: bool) {
        if let Some(writing) = &mut self.writing {
            writing.is_done();
        }
        if let Some(turn) = self.lease.turn().filter(|_| !is_durable) {
            turn.leaves_nothing();
        }
    }

    /// They came to nothing if the server says so; if it says nothing at all, nobody knows.
    pub(crate) fn has_failed(&mut self, error: &sqlx::Error) {
        if let (sqlx::Error::Database(_), Some(turn)) = (error, self.lease.turn()) {
            turn.leaves_nothing();
        }
    }

    /// They have made it durable, and this clip with its formats; and what other devices are told of it.
    pub(crate) fn end_with(self, clip: ClipRecord, formats: &[StoredFormat], fresh: Option<FreshClip>) {
        let Self { lease, writing, .. } = self;
        // Before anybody else writes, or none of it could be kept.
        if let Some(writing) = writing {
            writing.end_with(Arc::new(clip.into()), formats, fresh);
        }
        lease.end();
    }

    /// It is durable ([`WriteTx::make_durable_after`]); what other devices are told of the clips that it has made is kept.
    pub(crate) fn end_with_fresh(self, fresh: Vec<FreshClip>) {
        let Self { lease, writing, .. } = self;
        if let Some(writing) = writing {
            writing.end_with_fresh(fresh);
        }
        lease.end();
    }

    /// Makes it durable.
    pub(crate) async fn commit(mut self) -> Result<(), sqlx::Error> {
        self.make_durable_after(Statements::default()).await?;
        self.lease.end();
        Ok(())
    }

    /// Has these statements done and makes all of it durable, in one message; gives the rows of those that have any. Nothing can be
    /// written after it, but it is still to be ended: [`WriteTx::end_with_fresh`].
    pub(crate) async fn make_durable_after(
        &mut self,
        mut statements: Statements,
    ) -> Result<Vec<MySqlRow>, sqlx::Error> {
        // Even if it has taken none: the clip that bears the last number may be gone by now.
        let to_record = self.last.filter(|last| self.borne != *last && !self.feed.has_on_record(*last));
        if let Some(last) = to_record {
            statements.add("UPDATE feed SET last = ").alone(last).words(" WHERE one = 1");
        }
        statements.add("COMMIT");
        self.commits();
        let rows = statements.fetch_all(&mut self.lease).await.inspect_err(|error| self.has_failed(error))?;
        self.is_decided(true);
        if let Some(last) = to_record {
            self.feed.records(last);
        }
        Ok(rows)
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
    if tx.last.is_none() {
        tx.take_turn(false).await?;
    }
    let before = tx.latest_change();
    tx.last = Some(before + count as u64);
    Ok(before)
}
