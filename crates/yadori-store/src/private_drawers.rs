//! Private drawers: what lies in them, sealed, and how each stands.
//!
//! A closed drawer's clips are not among the clips: they are kept here as sealed items, each in pieces. An open one's clips are
//! ordinary clips, and what is kept here is what they were when it was opened. So whatever ends the service, the
//! state on record tells how to go on:
//!
//! * *opening*: the sealed items count; what has been taken out of them is forgotten again
//! * *open*: its clips count; they are sealed anew
//! * *closing*: they were sealed; the clips are forgotten

use crate::drawers::renumber;
use crate::store::{Store, StoreError};
use crate::write_tx::{WriteTx, next_change};
use yadori_core::Stamp;

/// How a private drawer stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Privacy {
    /// Its clips are sealed.
    Closed,
    /// They are being taken out.
    Opening,
    /// They are ordinary clips.
    Open,
    /// They are sealed, and the clips are being forgotten.
    Closing,
}

impl Privacy {
    const ALL: [Self; 4] = [Self::Closed, Self::Opening, Self::Open, Self::Closing];

    /// How it is written.
    fn code(self) -> u8 {
        self as u8
    }

    pub(crate) fn from_code(code: u8) -> Option<Self> {
        Self::ALL.get(usize::from(code)).copied()
    }
}

/// A private drawer.
#[derive(Clone, Debug)]
pub struct PrivateDrawer {
    /// The number of the drawer.
    pub drawer: u32,
    /// Its key, as whoever keeps drawers writes it.
    pub key: String,
    /// How it stands.
    pub privacy: Privacy,
}

/// A sealed item is relied upon.
const KEPT: u8 = 0;
/// Its clip is out.
const OUT: u8 = 1;
/// Not all of its drawer was sealed yet.
const UNSURE: u8 = 2;

impl Store {
    /// All private drawers.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn private_drawers(&self) -> Result<Vec<PrivateDrawer>, StoreError> {
        let rows = sqlx::query!("SELECT drawer, secret_key, state FROM private_drawers ORDER BY drawer")
            .fetch_all(&self.connections)
            .await?;
        rows.into_iter()
            .map(|row| {
                let privacy = Privacy::from_code(row.state).ok_or(StoreError::Damaged(row.drawer.into()))?;
                Ok(PrivateDrawer { drawer: row.drawer, key: row.secret_key, privacy })
            })
            .collect()
    }

    /// Gives a private drawer another key.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_drawer_key(&self, drawer: u32, key: &str) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        put_key(&mut tx, drawer, key).await?;
        Ok(tx.commit().await?)
    }

    /// Makes a private drawer, which is open, an ordinary one: the other devices are told of it. Gives the number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn make_ordinary(&self, drawer: u32, stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        sqlx::query!("DELETE FROM private_drawers WHERE drawer = ?", drawer).execute(&mut *tx).await?;
        let change = next_change(&mut tx).await?;
        sqlx::query!("UPDATE drawers SET changed = ?, seq = ? WHERE no = ?", stamp.to_bits(), change, drawer)
            .execute(&mut *tx)
            .await?;
        sqlx::query!("UPDATE headings SET changed = ?, seq = ? WHERE drawer = ?", stamp.to_bits(), change, drawer)
            .execute(&mut *tx)
            .await?;
        let last = renumber(&mut tx, drawer).await?;
        tx.commit().await?;
        Ok(last.max(change))
    }

    /// Notes how a private drawer stands.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn set_privacy(&self, drawer: u32, privacy: Privacy) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        sqlx::query!("UPDATE private_drawers SET state = ? WHERE drawer = ?", privacy.code(), drawer)
            .execute(&mut *tx)
            .await?;
        Ok(tx.commit().await?)
    }

    /// The numbers of the clips in a drawer, those in the bin too.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn all_in_drawer(&self, drawer: u32) -> Result<Vec<u64>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT no FROM clips WHERE drawer = ? AND tombstone = FALSE", drawer)
            .fetch_all(&self.connections)
            .await?)
    }

    /// The number that the next sealed item of a drawer has, when those of a sealing that was broken off are gone.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn begin_sealing(&self, drawer: u32) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        sqlx::query!("DELETE FROM sealed_items WHERE drawer = ? AND standing = ?", drawer, UNSURE)
            .execute(&mut *tx)
            .await?;
        let last = sqlx::query_scalar!(
            r#"SELECT CAST(COALESCE(MAX(item), 0) AS UNSIGNED) AS "last!: u64" FROM sealed_items WHERE drawer = ?"#,
            drawer
        )
        .fetch_one(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(last + 1)
    }

    /// Puts a piece of a sealed item down. It is not relied upon before [`Self::end_sealing`].
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn put_sealed(&self, drawer: u32, item: u64, piece: u32, sealed: &[u8]) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        sqlx::query!(
            "INSERT INTO sealed_items (drawer, item, piece, standing, sealed) VALUES (?, ?, ?, ?, ?)",
            drawer,
            item,
            piece,
            UNSURE,
            sealed
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// From now on the items that were put down count, in the place of those that are out; the drawer is being closed. It will
    /// have `clips` clips beside those that stayed sealed.
    ///
    /// # Errors
    /// When the database does not answer; nothing is changed then.
    pub async fn end_sealing(&self, drawer: u32, clips: u32) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        sqlx::query!("DELETE FROM sealed_items WHERE drawer = ? AND standing = ?", drawer, OUT)
            .execute(&mut *tx)
            .await?;
        let stayed = sqlx::query_scalar!(
            r#"SELECT CAST(COUNT(DISTINCT item) AS UNSIGNED) AS "stayed!: u64" FROM sealed_items WHERE drawer = ? AND standing = ?"#,
            drawer,
            KEPT
        )
        .fetch_one(&mut *tx)
        .await?;
        sqlx::query!("UPDATE sealed_items SET standing = ? WHERE drawer = ?", KEPT, drawer).execute(&mut *tx).await?;
        sqlx::query!(
            "UPDATE private_drawers SET state = ?, clips = ? WHERE drawer = ?",
            Privacy::Closing.code(),
            stayed + u64::from(clips),
            drawer
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// The numbers of the sealed items of a drawer.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn sealed_items(&self, drawer: u32) -> Result<Vec<u64>, StoreError> {
        Ok(sqlx::query_scalar!("SELECT DISTINCT item FROM sealed_items WHERE drawer = ? ORDER BY item", drawer)
            .fetch_all(&self.connections)
            .await?)
    }

    /// The pieces of a sealed item, in their order.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn sealed_pieces(&self, drawer: u32, item: u64) -> Result<Vec<Vec<u8>>, StoreError> {
        Ok(sqlx::query_scalar!(
            "SELECT sealed FROM sealed_items WHERE drawer = ? AND item = ? ORDER BY piece",
            drawer,
            item
        )
        .fetch_all(&self.connections)
        .await?)
    }

    /// Notes that the clip of a sealed item is out, or that none is.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn note_out(&self, drawer: u32, item: Option<u64>) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        sqlx::query!(
            "UPDATE sealed_items SET standing = ? WHERE drawer = ? AND (? IS NULL OR item = ?)",
            if item.is_some() { OUT } else { KEPT },
            drawer,
            item,
            item
        )
        .execute(&mut *tx)
        .await?;
        Ok(tx.commit().await?)
    }

    /// Forgets the headings of a private drawer: they are sealed.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn forget_headings(&self, drawer: u32) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        sqlx::query!("DELETE FROM headings WHERE drawer = ?", drawer).execute(&mut *tx).await?;
        Ok(tx.commit().await?)
    }
}

/// Gives a drawer a key: an ordinary one becomes a private one that is open.
pub(crate) async fn put_key(tx: &mut WriteTx, drawer: u32, key: &str) -> Result<(), sqlx::Error> {
    sqlx::query!(
        "INSERT INTO private_drawers (drawer, secret_key, state) VALUES (?, ?, ?)
         ON DUPLICATE KEY UPDATE secret_key = VALUES(secret_key)",
        drawer,
        key,
        Privacy::Open.code()
    )
    .execute(&mut **tx)
    .await?;
    Ok(())
}
