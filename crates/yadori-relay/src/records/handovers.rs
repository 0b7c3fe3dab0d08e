//! Another key of a mailbox, and what is left for those who have only the one before.

use super::{DAY, Hash, Records, RecordsError, TIMES, begin_in, now};
use bytes::Bytes;

/// What is left for one device: its outbox, and what only it can open.
pub type Handover = ([u8; 16], Vec<u8>);

impl Records {
    /// Gives a mailbox another key; who has only the old one is let in no more, and finds what is left here for it.
    ///
    /// # Errors
    /// When there is none with the old key, or no room for what is to be left: then the key is the old one.
    pub async fn change_access(
        &self,
        mailbox: &[u8; 16],
        (old, new): (&Hash, &Hash),
        handovers: &[Handover],
    ) -> Result<(), RecordsError> {
        match again!(self.change_access_once(mailbox, (old, new), handovers)) {
            // Done before, when the answer was lost?
            Err(RecordsError::NoMailbox) => self.usage(mailbox, new).await.map(drop),
            done => done,
        }
    }

    async fn change_access_once(
        &self,
        mailbox: &[u8; 16],
        (old, new): (&Hash, &Hash),
        handovers: &[Handover],
    ) -> Result<(), RecordsError> {
        let bytes = handovers.iter().map(|(_, sealed)| sealed.len()).sum();
        let mut tx = self.pool.begin().await?;
        let usage = begin_in(&mut tx, mailbox, old, bytes).await?;
        for (outbox, sealed) in handovers {
            sqlx::query("REPLACE INTO handovers (mailbox, access, outbox, expires_at, sealed) VALUES (?, ?, ?, ?, ?)")
                .bind(&mailbox[..])
                .bind(&old[..])
                .bind(&outbox[..])
                .bind(now() + u64::from(usage.days) * DAY)
                .bind(&sealed[..])
                .execute(&mut *tx)
                .await?;
        }
        sqlx::query("UPDATE mailboxes SET access = ?, bytes = bytes + ? WHERE id = ?")
            .bind(&new[..])
            .bind(bytes as u64)
            .bind(&mailbox[..])
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }

    /// What was left for the device with this outbox when the mailbox got another key than this one.
    ///
    /// # Errors
    /// When nothing was: nobody is told whether there is such a mailbox.
    pub async fn handover(&self, mailbox: &[u8; 16], old: &Hash, outbox: &[u8; 16]) -> Result<Bytes, RecordsError> {
        let sealed: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT sealed FROM handovers WHERE mailbox = ? AND access = ? AND outbox = ?")
                .bind(&mailbox[..])
                .bind(&old[..])
                .bind(&outbox[..])
                .fetch_optional(&self.pool)
                .await?;
        sealed.map(Bytes::from).ok_or(RecordsError::NoMailbox)
    }
}
