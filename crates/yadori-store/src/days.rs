//! What happened on each day, counted for the figures.

use crate::store::{Store, StoreError};
use crate::write_tx::WriteTx;
use yadori_core::MillisSinceEpoch;
use yadori_core::amounts::DAY;

/// Something that is counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Happened {
    /// A copy was captured.
    Captured,
    /// A clip was recalled.
    Recalled,
    /// The retention rules took a clip.
    Swept,
    /// A person deleted or cleared a clip.
    Cleared,
}

/// The counts of one day.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Day {
    /// Days since 1970-01-01, in UTC.
    pub number: u32,
    /// Copies captured.
    pub captured: u32,
    /// Clips recalled.
    pub recalled: u32,
    /// Clips that the retention rules took.
    pub swept: u32,
    /// Clips that a person deleted or cleared.
    pub cleared: u32,
}

pub(crate) async fn note(
    tx: &mut WriteTx,
    at: MillisSinceEpoch,
    what: Happened,
    times: u32,
) -> Result<(), sqlx::Error> {
    let of = |counted: Happened| if counted == what { times } else { 0 };
    let (captured, recalled) = (of(Happened::Captured), of(Happened::Recalled));
    let (swept, cleared) = (of(Happened::Swept), of(Happened::Cleared));
    sqlx::query!(
        "INSERT INTO days (day, captured, recalled, swept, cleared) VALUES (?, ?, ?, ?, ?)
         ON DUPLICATE KEY UPDATE captured = captured + VALUES(captured), recalled = recalled + VALUES(recalled),
            swept = swept + VALUES(swept), cleared = cleared + VALUES(cleared)",
        u32::try_from(at.0 / DAY).unwrap_or(u32::MAX),
        captured,
        recalled,
        swept,
        cleared
    )
    .execute(&mut **tx)
    .await?;
    Ok(())
}

impl Store {
    /// Counts copies that were captured on the day of `at`.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn count_captured(&self, at: MillisSinceEpoch, copies: u32) -> Result<(), StoreError> {
        let mut tx = self.begin_writing().await?;
        note(&mut tx, at, Happened::Captured, copies).await?;
        Ok(tx.commit().await?)
    }

    /// How often clips that are still on record were recalled, all together.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn recalls(&self) -> Result<u64, StoreError> {
        Ok(sqlx::query_scalar!(r#"SELECT CAST(COALESCE(SUM(recalls), 0) AS UNSIGNED) AS "recalls!: u64" FROM clips"#)
            .fetch_one(&self.connections)
            .await?)
    }

    /// The counts of the days from `first` on (days since 1970-01-01 UTC), in their order; days on which nothing
    /// happened are left out.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn days(&self, first: u32) -> Result<Vec<Day>, StoreError> {
        let rows = sqlx::query_as!(
            Day,
            "SELECT day AS number, captured, recalled, swept, cleared FROM days WHERE day >= ? ORDER BY day",
            first
        )
        .fetch_all(&self.connections)
        .await?;
        Ok(rows)
    }
}
