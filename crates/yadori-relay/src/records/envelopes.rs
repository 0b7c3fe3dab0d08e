//! Envelopes, and the outboxes in which they lie.

use super::{DAY, Hash, Records, RecordsError, TIMES, begin_in, free, now};
use bytes::Bytes;
use sqlx::Row;

/// Most bytes of envelopes in one answer.
const ANSWER: usize = 4 * 1024 * 1024;

/// An envelope, and where it lies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Envelope {
    /// The number of its arrival in the mailbox.
    pub arrival: u64,
    /// In whose outbox.
    pub outbox: [u8; 16],
    /// Its number there.
    pub number: u64,
    /// What nobody here can read.
    pub sealed: Bytes,
}

/// What is found in a mailbox.
#[derive(Clone, Debug)]
pub struct Look {
    /// The number of the last arrival.
    pub latest: u64,
    /// Envelopes.
    pub found: Vec<Envelope>,
    /// The number of the last envelope of the outbox of whoever looks; zero if none came.
    pub own: u64,
}

impl Records {
    /// Puts an envelope into an outbox. Gives the number of its arrival. The same envelope again is no error.
    ///
    /// # Errors
    /// When there is no room, or the number is not above all that were there.
    pub async fn put_envelope(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        outbox: &[u8; 16],
        number: u64,
        sealed: &[u8],
    ) -> Result<u64, RecordsError> {
        again!(self.put_envelope_once((mailbox, access), outbox, number, sealed))
    }

    async fn put_envelope_once(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        outbox: &[u8; 16],
        number: u64,
        sealed: &[u8],
    ) -> Result<u64, RecordsError> {
        let mut tx = self.pool.begin().await?;
        let usage = begin_in(&mut tx, mailbox, access, 0).await?;
        let last: Option<u64> = sqlx::query_scalar("SELECT number FROM outboxes WHERE mailbox = ? AND outbox = ?")
            .bind(&mailbox[..])
            .bind(&outbox[..])
            .fetch_optional(&mut *tx)
            .await?;
        if let Some(last) = last.filter(|last| number <= *last) {
            let known: Option<(u64, bool)> = sqlx::query_as(
                "SELECT arrival, sealed = ? FROM envelopes WHERE mailbox = ? AND outbox = ? AND number = ?",
            )
            .bind(sealed)
            .bind(&mailbox[..])
            .bind(&outbox[..])
            .bind(number)
            .fetch_optional(&mut *tx)
            .await?;
            return match known {
                Some((arrival, true)) => Ok(arrival),
                _ => Err(RecordsError::NumberTaken(last)),
            };
        }
        // What is there already needs no room.
        usage.has_room_for(sealed.len())?;
        let arrival = usage.latest + 1;
        sqlx::query(
            "INSERT INTO envelopes (mailbox, arrival, outbox, number, expires_at, sealed) VALUES (?, ?, ?, ?, ?, ?)",
        )
        .bind(&mailbox[..])
        .bind(arrival)
        .bind(&outbox[..])
        .bind(number)
        .bind(now() + u64::from(usage.days) * DAY)
        .bind(sealed)
        .execute(&mut *tx)
        .await?;
        sqlx::query("INSERT INTO outboxes (mailbox, outbox, number) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE number = VALUES(number)")
            .bind(&mailbox[..])
            .bind(&outbox[..])
            .bind(number)
            .execute(&mut *tx)
            .await?;
        sqlx::query(
            "UPDATE mailboxes SET latest = ?, bytes = bytes + ?, used_at = ?, changed = ROUND(UNIX_TIMESTAMP(NOW(3)) * 1000) WHERE id = ?",
        )
        .bind(arrival)
        .bind(sealed.len() as u64)
        .bind(now())
        .bind(&mailbox[..])
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(arrival)
    }

    /// Looks for what arrived after this number, but for what came from the outbox `own`.
    ///
    /// # Errors
    /// When there is no mailbox with this key.
    pub async fn look(
        &self,
        mailbox: &[u8; 16],
        access: &Hash,
        after: u64,
        own: Option<&[u8; 16]>,
    ) -> Result<Look, RecordsError> {
        let known: Option<(u64, Option<u64>)> = sqlx::query_as(
            "SELECT m.latest, o.number FROM mailboxes m LEFT JOIN outboxes o ON o.mailbox = m.id AND o.outbox = ?
             WHERE m.id = ? AND m.access = ?",
        )
        .bind(own.map_or(&[][..], |own| &own[..]))
        .bind(&mailbox[..])
        .bind(&access[..])
        .fetch_optional(&self.pool)
        .await?;
        let (latest, own_number) = known.ok_or(RecordsError::NoMailbox)?;
        // Most who ask have all there is, and cost one question.
        let found = if latest > after { self.envelopes_after(mailbox, after, own).await? } else { Vec::new() };
        Ok(Look { latest, found, own: own_number.unwrap_or(0) })
    }

    /// How far each outbox of a mailbox was numbered, whether or not its envelopes are still there.
    ///
    /// # Errors
    /// When there is no mailbox with this key.
    pub async fn outboxes(&self, mailbox: &[u8; 16], access: &Hash) -> Result<Vec<([u8; 16], u64)>, RecordsError> {
        let rows: Vec<(Option<Vec<u8>>, Option<u64>)> = sqlx::query_as(
            "SELECT o.outbox, o.number FROM mailboxes m LEFT JOIN outboxes o ON o.mailbox = m.id WHERE m.id = ? AND m.access = ?",
        )
        .bind(&mailbox[..])
        .bind(&access[..])
        .fetch_all(&self.pool)
        .await?;
        if rows.is_empty() {
            return Err(RecordsError::NoMailbox);
        }
        let known = rows.into_iter().filter_map(|(outbox, number)| Some((outbox?.try_into().ok()?, number?)));
        Ok(known.collect())
    }

    /// The envelopes that arrived after this number, but for those of one outbox; as many as an answer holds.
    ///
    /// # Errors
    /// When the database does not answer.
    async fn envelopes_after(
        &self,
        mailbox: &[u8; 16],
        after: u64,
        but: Option<&[u8; 16]>,
    ) -> Result<Vec<Envelope>, RecordsError> {
        let rows = sqlx::query(
            "SELECT arrival, outbox, number, LENGTH(sealed) FROM envelopes
             WHERE mailbox = ? AND arrival > ? AND outbox <> ? ORDER BY arrival LIMIT 500",
        )
        .bind(&mailbox[..])
        .bind(after)
        .bind(but.map_or(&[][..], |outbox| &outbox[..]))
        .fetch_all(&self.pool)
        .await?;
        let (mut envelopes, mut bytes) = (Vec::new(), 0);
        for row in rows {
            bytes += row.try_get::<i64, _>(3)? as usize;
            if bytes > ANSWER && !envelopes.is_empty() {
                break;
            }
            let arrival: u64 = row.try_get(0)?;
            let sealed: Option<Vec<u8>> =
                sqlx::query_scalar("SELECT sealed FROM envelopes WHERE mailbox = ? AND arrival = ?")
                    .bind(&mailbox[..])
                    .bind(arrival)
                    .fetch_optional(&self.pool)
                    .await?;
            let outbox: Vec<u8> = row.try_get(1)?;
            let (Some(sealed), Ok(outbox)) = (sealed, outbox.try_into()) else { continue };
            envelopes.push(Envelope { arrival, outbox, number: row.try_get(2)?, sealed: sealed.into() });
        }
        Ok(envelopes)
    }

    /// Removes the envelopes of an outbox up to this number: all have them.
    ///
    /// # Errors
    /// When there is no mailbox with this key.
    pub async fn remove_envelopes(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        outbox: &[u8; 16],
        upto: u64,
    ) -> Result<(), RecordsError> {
        again!(self.remove_envelopes_once((mailbox, access), outbox, upto))
    }

    async fn remove_envelopes_once(
        &self,
        (mailbox, access): (&[u8; 16], &Hash),
        outbox: &[u8; 16],
        upto: u64,
    ) -> Result<(), RecordsError> {
        let mut tx = self.pool.begin().await?;
        begin_in(&mut tx, mailbox, access, 0).await?;
        let bytes: u64 = sqlx::query_scalar(
            "SELECT CAST(COALESCE(SUM(LENGTH(sealed)), 0) AS UNSIGNED) FROM envelopes WHERE mailbox = ? AND outbox = ? AND number <= ?",
        )
        .bind(&mailbox[..])
        .bind(&outbox[..])
        .bind(upto)
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query("DELETE FROM envelopes WHERE mailbox = ? AND outbox = ? AND number <= ?")
            .bind(&mailbox[..])
            .bind(&outbox[..])
            .bind(upto)
            .execute(&mut *tx)
            .await?;
        free(&mut tx, mailbox, bytes).await?;
        Ok(tx.commit().await?)
    }
}
