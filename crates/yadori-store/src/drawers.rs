//! Drawers, and the headings in them.

use crate::attributes::{self, Attribute};
use crate::private_drawers::{self, Privacy};
use crate::store::{Store, StoreError, numbers_as_json};
use crate::write_tx::{WriteTx, next_change, next_changes};
use yadori_core::{Rank, Stamp};

/// A drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drawer {
    /// Its number in these records.
    pub number: u32,
    /// Its name.
    pub name: String,
    /// Its place among the drawers.
    pub place: Rank,
    /// How many clips lie in it.
    pub clips: u64,
    /// How it stands, if it is private.
    pub privacy: Option<Privacy>,
}

/// A heading between the clips of a drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Heading {
    /// Its number in these records.
    pub number: u32,
    /// Its place in the drawer.
    pub place: Rank,
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
            r#"SELECT d.no, d.name, d.place, p.state AS "state?: u8", CAST(COALESCE(p.clips, 0) AS UNSIGNED) AS "sealed!: u64",
                (SELECT COUNT(*) FROM clips c WHERE c.drawer = d.no AND c.gone IS NULL AND c.tombstone = FALSE) AS "clips!: u64"
               FROM drawers d LEFT JOIN private_drawers p ON p.drawer = d.no
               WHERE d.removed = FALSE ORDER BY d.place, d.id"#
        )
        .fetch_all(&self.connections)
        .await?;
        rows.into_iter()
            .map(|row| {
                let place = Rank::from_slice(&row.place).ok_or(StoreError::Damaged(row.no.into()))?;
                let privacy =
                    row.state.map(|state| Privacy::from_code(state).ok_or(StoreError::Damaged(row.no.into())));
                let privacy = privacy.transpose()?;
                let clips = if privacy == Some(Privacy::Closed) { row.sealed } else { row.clips };
                Ok(Drawer { number: row.no, name: row.name, place, clips, privacy })
            })
            .collect()
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
        .fetch_all(&self.connections)
        .await?;
        rows.into_iter()
            .map(|row| {
                let place = Rank::from_slice(&row.place).ok_or(StoreError::Damaged(row.no.into()))?;
                Ok(Heading { number: row.no, place, words: row.words })
            })
            .collect()
    }

    /// Makes a drawer, or one anew that was removed; with a key, a private one, which is open. Gives its number, and that of
    /// the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_drawer(
        &self,
        id: [u8; 16],
        name: &str,
        place: &Rank,
        (stamp, key): (Stamp, Option<&str>),
    ) -> Result<(u32, u64), StoreError> {
        let mut tx = self.begin_writing().await?;
        let (number, change) = insert(&mut tx, id, (name, place), (stamp, key)).await?;
        tx.commit().await?;
        Ok((number, change))
    }

    /// Whether there is a drawer with this id that was not removed.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn has_drawer(&self, id: [u8; 16]) -> Result<bool, StoreError> {
        let found = sqlx::query_scalar!("SELECT no FROM drawers WHERE id = ? AND removed = FALSE", &id[..])
            .fetch_optional(&self.connections)
            .await?;
        Ok(found.is_some())
    }

    /// Gives a drawer another name. Gives the number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn rename_drawer(&self, drawer: u32, name: &str, stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let change = next_change(&mut tx).await?;
        sqlx::query!(
            "UPDATE drawers SET name = ?, changed = ?, seq = ? WHERE no = ?",
            name,
            stamp.to_bits(),
            change,
            drawer
        )
        .execute(&mut *tx)
        .await?;
        let change = renumber(&mut tx, drawer).await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Moves a drawer to another place among the drawers. Gives the number of the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn move_drawer(&self, drawer: u32, place: &Rank, stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let change = next_change(&mut tx).await?;
        sqlx::query!(
            "UPDATE drawers SET place = ?, changed = ?, seq = ? WHERE no = ?",
            place.as_bytes(),
            stamp.to_bits(),
            change,
            drawer
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Removes a drawer with its headings; `clips` says what becomes of its clips. Gives the number of the
    /// latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is removed then.
    pub async fn remove_drawer(
        &self,
        drawer: u32,
        clips: &[(u64, Attribute)],
        stamp: Stamp,
    ) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let change = remove(&mut tx, drawer, clips, stamp).await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Makes a private drawer, which is open, in the place of an ordinary one, with these headings (which get these ids) and these
    /// clips at their places: at no time there are two, or none. Gives its number, and that of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is changed then.
    pub async fn replace_by_private(
        &self,
        drawer: &Drawer,
        (id, key): ([u8; 16], &str),
        headings: &[([u8; 16], Heading)],
        clips: &[(u64, Rank)],
        stamp: Stamp,
    ) -> Result<(u32, u64), StoreError> {
        let mut tx = self.begin_writing().await?;
        let (number, _) = insert(&mut tx, id, (&drawer.name, &drawer.place), (stamp, Some(key))).await?;
        for (id, heading) in headings {
            insert_heading(&mut tx, *id, number, (&heading.words, &heading.place), stamp).await?;
        }
        let moved = clips.iter().map(|(clip, place)| (*clip, Attribute::Drawer(Some((number, place.clone())))));
        let change = remove(&mut tx, drawer.number, &moved.collect::<Vec<_>>(), stamp).await?;
        tx.commit().await?;
        Ok((number, change))
    }

    /// Adds a heading to a drawer. Gives the number of the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn add_heading(
        &self,
        id: [u8; 16],
        drawer: u32,
        words: &str,
        place: &Rank,
        stamp: Stamp,
    ) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let change = insert_heading(&mut tx, id, drawer, (words, place), stamp).await?;
        tx.commit().await?;
        Ok(change)
    }

    /// Changes a heading: its words, its place; with neither, it is removed. Gives the number of the change.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn change_heading(
        &self,
        heading: u32,
        words: Option<&str>,
        place: Option<&Rank>,
        stamp: Stamp,
    ) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let change = next_change(&mut tx).await?;
        sqlx::query!(
            "UPDATE headings SET words = COALESCE(?, words), place = COALESCE(?, place), removed = ?, changed = ?, seq = ?
             WHERE no = ?",
            words,
            place.map(Rank::as_bytes),
            words.is_none() && place.is_none(),
            stamp.to_bits(),
            change,
            heading
        )
        .execute(&mut *tx)
        .await?;
        tx.commit().await?;
        Ok(change)
    }
}

/// Makes a drawer; with a key, a private one. Gives its number, and that of the change.
async fn insert(
    tx: &mut WriteTx,
    id: [u8; 16],
    (name, place): (&str, &Rank),
    (stamp, key): (Stamp, Option<&str>),
) -> Result<(u32, u64), StoreError> {
    let change = next_change(tx).await?;
    let done = sqlx::query!(
        "INSERT INTO drawers (id, name, place, changed, seq) VALUES (?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE no = LAST_INSERT_ID(no), name = VALUES(name), place = VALUES(place),
             changed = VALUES(changed), seq = VALUES(seq), removed = FALSE",
        &id[..],
        name,
        place.as_bytes(),
        stamp.to_bits(),
        change
    )
    .execute(&mut **tx)
    .await?;
    let number = done.last_insert_id() as u32;
    if let Some(key) = key {
        private_drawers::put_key(tx, number, key).await?;
    }
    Ok((number, change))
}

/// Adds a heading to a drawer. Gives the number of the change.
async fn insert_heading(
    tx: &mut WriteTx,
    id: [u8; 16],
    drawer: u32,
    (words, place): (&str, &Rank),
    stamp: Stamp,
) -> Result<u64, StoreError> {
    let change = next_change(tx).await?;
    sqlx::query!(
        "INSERT INTO headings (id, drawer, place, words, changed, seq) VALUES (?, ?, ?, ?, ?, ?)",
        &id[..],
        drawer,
        place.as_bytes(),
        words,
        stamp.to_bits(),
        change
    )
    .execute(&mut **tx)
    .await?;
    Ok(change)
}

/// Removes a drawer with its headings; `clips` says what becomes of its clips. Gives the number of the change.
async fn remove(tx: &mut WriteTx, drawer: u32, clips: &[(u64, Attribute)], stamp: Stamp) -> Result<u64, StoreError> {
    attributes::set(tx, clips, stamp).await?;
    leave_drawer(tx, drawer, stamp).await?;
    let change = next_change(tx).await?;
    // Nobody else has ever heard of a private one.
    sqlx::query!(
        "DELETE FROM headings WHERE drawer = ? AND drawer IN (SELECT p.drawer FROM private_drawers p)",
        drawer
    )
    .execute(&mut **tx)
    .await?;
    sqlx::query!(
        "UPDATE headings SET removed = TRUE, changed = ?, seq = ? WHERE drawer = ?",
        stamp.to_bits(),
        change,
        drawer
    )
    .execute(&mut **tx)
    .await?;
    sqlx::query!(
        "UPDATE drawers SET removed = TRUE, changed = IF(EXISTS(SELECT 1 FROM private_drawers p WHERE p.drawer = no), 0, ?),
                seq = ? WHERE no = ?",
        stamp.to_bits(),
        change,
        drawer
    )
    .execute(&mut **tx)
    .await?;
    sqlx::query!("DELETE FROM private_drawers WHERE drawer = ?", drawer).execute(&mut **tx).await?;
    Ok(change)
}

/// Gives all clips of a drawer new numbers in the change feed. Gives the latest.
pub(crate) async fn renumber(tx: &mut WriteTx, drawer: u32) -> Result<u64, sqlx::Error> {
    let clips = sqlx::query_scalar!("SELECT no FROM clips WHERE drawer = ?", drawer).fetch_all(&mut **tx).await?;
    let before = next_changes(tx, clips.len()).await?;
    sqlx::query!(
        "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (nth FOR ORDINALITY, no BIGINT UNSIGNED PATH '$')) w
         STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no SET c.seq = ? + w.nth",
        numbers_as_json(&clips),
        before
    )
    .execute(&mut **tx)
    .await?;
    Ok(before + clips.len() as u64)
}

/// What lies in a drawer that is removed at `stamp` is only in the history again, unless it was put there later.
/// For what is in the bin nothing changes but that it comes back into the history: so its stamp hardly moves.
pub(crate) async fn leave_drawer(tx: &mut WriteTx, drawer: u32, stamp: Stamp) -> Result<(), sqlx::Error> {
    sqlx::query!(
        "UPDATE clips SET drawer_stamp = IF(gone IS NULL, ?, drawer_stamp + 1), place = NULL, drawer = NULL
         WHERE drawer = ? AND drawer_stamp <= ?",
        stamp.to_bits(),
        drawer,
        stamp.to_bits()
    )
    .execute(&mut **tx)
    .await?;
    Ok(())
}
