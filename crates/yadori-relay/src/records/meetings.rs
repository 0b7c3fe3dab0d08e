//! Places where two devices meet that are not linked yet.

use super::{Hash, Records, RecordsError, TIMES, begin_in};

/// Where a message of a meeting stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct InMeeting {
    /// On which line: each try has one of its own.
    pub line: u8,
    /// Which of the two says it: 0 invites, 1 joins.
    pub side: u8,
    /// Its number, from zero.
    pub number: u32,
}

impl Records {
    /// Opens a meeting, until this time. The one that the mailbox had is over.
    ///
    /// # Errors
    /// When there is no mailbox with this key.
    pub async fn open_meeting(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        id: &Hash,
        expires_at: u64,
    ) -> Result<(), RecordsError> {
        again!(self.open_meeting_once((mailbox, access), id, expires_at))
    }

    async fn open_meeting_once(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        id: &Hash,
        expires_at: u64,
    ) -> Result<(), RecordsError> {
        let mut tx = self.pool.begin().await?;
        begin_in(&mut tx, mailbox, access, 0).await?;
        sqlx::query("DELETE FROM meeting_messages WHERE meeting = (SELECT id FROM meetings WHERE mailbox = ?)")
            .bind(&mailbox[..])
            .execute(&mut *tx)
            .await?;
        sqlx::query("REPLACE INTO meetings (mailbox, id, expires_at) VALUES (?, ?, ?)")
            .bind(&mailbox[..])
            .bind(&id[..])
            .bind(expires_at)
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }

    /// Ends this meeting of a mailbox, if it is still the one that there is.
    ///
    /// # Errors
    /// When there is no mailbox with this key.
    pub async fn close_meeting(&self, (mailbox, access): (&[u8; 16], &Hash), id: &Hash) -> Result<(), RecordsError> {
        self.usage(mailbox, access).await?;
        for statement in [
            "DELETE FROM meeting_messages WHERE meeting = (SELECT id FROM meetings WHERE mailbox = ? AND id = ?)",
            "DELETE FROM meetings WHERE mailbox = ? AND id = ?",
        ] {
            sqlx::query(statement).bind(&mailbox[..]).bind(&id[..]).execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Puts down what one of the two says. The same again is no error.
    ///
    /// # Errors
    /// When there is no such meeting, or something else was said there.
    pub async fn say_in_meeting(
        &self,
        id: &Hash,
        InMeeting { line, side, number }: InMeeting,
        message: &[u8],
        now: u64,
    ) -> Result<(), RecordsError> {
        self.is_open(id, now).await?;
        sqlx::query(
            "INSERT IGNORE INTO meeting_messages (meeting, line, side, number, message) VALUES (?, ?, ?, ?, ?)",
        )
        .bind(&id[..])
        .bind(line)
        .bind(side)
        .bind(number)
        .bind(message)
        .execute(&self.pool)
        .await?;
        let there = self.said_in_meeting(id, InMeeting { line, side, number }, now).await?;
        if there.as_deref() == Some(message) { Ok(()) } else { Err(RecordsError::Taken) }
    }

    /// What one of the two said, if it did.
    ///
    /// # Errors
    /// When there is no such meeting.
    pub async fn said_in_meeting(
        &self,
        id: &Hash,
        InMeeting { line, side, number }: InMeeting,
        now: u64,
    ) -> Result<Option<Vec<u8>>, RecordsError> {
        self.is_open(id, now).await?;
        Ok(sqlx::query_scalar(
            "SELECT message FROM meeting_messages WHERE meeting = ? AND line = ? AND side = ? AND number = ?",
        )
        .bind(&id[..])
        .bind(line)
        .bind(side)
        .bind(number)
        .fetch_optional(&self.pool)
        .await?)
    }

    async fn is_open(&self, id: &Hash, now: u64) -> Result<(), RecordsError> {
        let until: Option<u64> = sqlx::query_scalar("SELECT expires_at FROM meetings WHERE id = ?")
            .bind(&id[..])
            .fetch_optional(&self.pool)
            .await?;
        if until.is_some_and(|until| until > now) { Ok(()) } else { Err(RecordsError::NoMeeting) }
    }

    /// Removes the meetings that are over at `now`.
    pub(super) async fn end_meetings(&self, now: u64) -> Result<(), RecordsError> {
        for statement in [
            "DELETE FROM meeting_messages WHERE meeting IN (SELECT id FROM meetings WHERE expires_at <= ?)",
            "DELETE FROM meetings WHERE expires_at <= ?",
        ] {
            sqlx::query(statement).bind(now).execute(&self.pool).await?;
        }
        Ok(())
    }
}
