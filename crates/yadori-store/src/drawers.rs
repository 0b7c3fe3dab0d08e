//! Drawers, and the headings in them.

use crate::given::{self, Particular};
use crate::store::{Store, StoreError, next_change};
use yadori_core::{Order, Stamp};

/// A drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drawer {
    /// Its number in these records.
    pub number: u32,
    /// Its name.
    pub name: String,
    /// Its place among the drawers.
    pub place: Order,
    /// How many clips lie in it.
    pub clips: u64,
}

/// A heading between the clips of a drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Heading {
    /// Its number in these records.
    pub number: u32,
    /// Its place in the drawer.
    pub place: Order,
    /// What it says.
    pub words: String,
}

impl Store {
    /// All drawers, in their order.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn drawers(&self) -> Result<Vec<Drawer>, StoreError> {
        let rows = sqlx::query!(
            r#"SELECT d.no, d.name, d.place,
                (SELECT COUNT(*) FROM clips c WHERE c.drawer = d.no AND c.gone IS NULL AND c.shredded = FALSE) AS "clips!: u64"
               FROM drawers d WHERE d.removed = FALSE ORDER BY d.place, d.id"#
        )
        .fetch_all(&self.pool)
        .await?;
        let drawer = |(no, name, place, clips): (u32, String, Vec<u8>, u64)| {
            let place = Order::from_slice(&place).ok_or(StoreError::Damaged(no.into()))?;
            Ok(Drawer { number: no, name, place, clips })
        };
        rows.into_iter().map(|row| drawer((row.no, row.name, row.place, row.clips))).collect()
    }

    /// The headings of a drawer, in their order.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn headings(&self, drawer: u32) -> Result<Vec<Heading>, StoreError> {
        let rows = sqlx::query!(
            "SELECT no, place, words FROM headings WHERE drawer = ? AND removed = FALSE ORDER BY place, id",
            drawer
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter()
            .map(|row| {
                let place = Order::from_slice(&row.place).ok_or(StoreError::Damaged(row.no.into()))?;
                Ok(Heading { number: row.no, place, words: row.words })
            })
            .collect()
    }

    /// Makes a drawer. Gives its number.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_drawer(&self, id: [u8; 16], name: &str, place: &Order, stamp: Stamp) -> Result<u32, StoreError> {
        let done = sqlx::query!(
            "INSERT INTO drawers (id, name, place, changed) VALUES (?, ?, ?, ?)",
            &id[..],
            name,
            place.as_bytes(),
            stamp.to_bits()
        )
        .execute(&self.pool)
        .await?;
        Ok(done.last_insert_id() as u32)
    }

    /// Gives a drawer another name. Gives the number of the latest change to its clips, 0 if it has none.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn rename_drawer(&self, drawer: u32, name: &str, stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query!("UPDATE drawers SET name = ?, changed = ? WHERE no = ?", name, stamp.to_bits(), drawer)
            .execute(&mut *tx)
            .await?;
        let clips = sqlx::query_scalar!("SELECT no FROM clips WHERE drawer = ?", drawer).fetch_all(&mut *tx).await?;
        let mut change = 0;
        for number in clips {
            change = next_change(&mut tx).await?;
            sqlx::query!("UPDATE clips SET seq = ? WHERE no = ?", change, number).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(change)
    }

    /// Moves a drawer to another place among the drawers.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn move_drawer(&self, drawer: u32, place: &Order, stamp: Stamp) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE drawers SET place = ?, changed = ? WHERE no = ?",
            place.as_bytes(),
            stamp.to_bits(),
            drawer
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Removes a drawer with its headings; `clips` says what becomes of its clips. Gives the number of the
    /// latest change, 0 if it had no clips.
    ///
    /// # Errors
    /// When the database does not answer; nothing is removed then.
    pub async fn remove_drawer(
        &self,
        drawer: u32,
        clips: &[(u64, Particular)],
        stamp: Stamp,
    ) -> Result<u64, StoreError> {
        let mut tx = self.pool.begin().await?;
        let mut change = 0;
        for (number, particular) in clips {
            change = next_change(&mut tx).await?;
            given::set(&mut tx, change, *number, particular, stamp).await?;
        }
        // Those in the bin go back into the history when they are brought back.
        sqlx::query!("UPDATE clips SET drawer = NULL, place = NULL WHERE drawer = ?", drawer).execute(&mut *tx).await?;
        sqlx::query!("UPDATE headings SET removed = TRUE, changed = ? WHERE drawer = ?", stamp.to_bits(), drawer)
            .execute(&mut *tx)
            .await?;
        sqlx::query!("UPDATE drawers SET removed = TRUE, changed = ? WHERE no = ?", stamp.to_bits(), drawer)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Adds a heading to a drawer.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_heading(
        &self,
        id: [u8; 16],
        drawer: u32,
        words: &str,
        place: &Order,
        stamp: Stamp,
    ) -> Result<(), StoreError> {
        sqlx::query!(
            "INSERT INTO headings (id, drawer, place, words, changed) VALUES (?, ?, ?, ?, ?)",
            &id[..],
            drawer,
            place.as_bytes(),
            words,
            stamp.to_bits()
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Changes a heading: its words, its place; with neither, it is removed.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn change_heading(
        &self,
        heading: u32,
        words: Option<&str>,
        place: Option<&Order>,
        stamp: Stamp,
    ) -> Result<(), StoreError> {
        sqlx::query!(
            "UPDATE headings SET words = COALESCE(?, words), place = COALESCE(?, place), removed = ?, changed = ? WHERE no = ?",
            words,
            place.map(Order::as_bytes),
            words.is_none() && place.is_none(),
            stamp.to_bits(),
            heading
        )
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}
