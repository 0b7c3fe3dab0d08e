//! What a person gives a clip: title, mark, alias, pin, a place in a drawer.

use crate::store::{Store, StoreError, next_change};
use sqlx::{MySql, Transaction};
use yadori_core::{Mark, Rank, Stamp};

/// One particular, and what it is to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Attribute {
    /// The title.
    Title(Option<String>),
    /// The colour mark.
    Mark(Option<Mark>),
    /// The alias, without its colon. Whatever other clip has it, loses it.
    Alias(Option<String>),
    /// Whether placeholders are filled in.
    Fills(bool),
    /// The place among the pinned ones.
    Pin(Option<Rank>),
    /// The drawer, and the place in it.
    Drawer(Option<(u32, Rank)>),
}

/// Particulars that a clip is given when it is made.
#[derive(Clone, Debug, Default)]
pub struct GivenAttributes<'a> {
    /// Its place among the pinned ones.
    pub pin: Option<Rank>,
    /// Its drawer, and the place in it.
    pub drawer: Option<(u32, Rank)>,
    /// Its mark.
    pub mark: Option<Mark>,
    /// Its alias.
    pub alias: Option<&'a str>,
    /// Whether its placeholders are filled in.
    pub fills: bool,
}

pub(crate) fn particulars(given: &GivenAttributes<'_>) -> Vec<Attribute> {
    [
        given.pin.clone().map(|pin| Attribute::Pin(Some(pin))),
        given.drawer.clone().map(|drawer| Attribute::Drawer(Some(drawer))),
        given.mark.map(|mark| Attribute::Mark(Some(mark))),
        given.alias.map(|alias| Attribute::Alias(Some(alias.to_owned()))),
        given.fills.then_some(Attribute::Fills(true)),
    ]
    .into_iter()
    .flatten()
    .collect()
}

pub(crate) async fn set(
    tx: &mut Transaction<'static, MySql>,
    change: u64,
    number: u64,
    particular: &Attribute,
    stamp: Stamp,
) -> Result<(), sqlx::Error> {
    let stamp = stamp.to_bits();
    match particular {
        Attribute::Title(title) => {
            sqlx::query!(
                "UPDATE clips SET seq = ?, title = ?, title_stamp = ? WHERE no = ?",
                change,
                title,
                stamp,
                number
            )
            .execute(&mut **tx)
            .await?
        }
        Attribute::Mark(mark) => {
            let mark = mark.map(Mark::code);
            sqlx::query!("UPDATE clips SET seq = ?, mark = ?, mark_stamp = ? WHERE no = ?", change, mark, stamp, number)
                .execute(&mut **tx)
                .await?
        }
        Attribute::Alias(alias) => {
            let other = sqlx::query_scalar!("SELECT no FROM clips WHERE alias = ? AND no <> ?", alias, number)
                .fetch_optional(&mut **tx)
                .await?;
            if let Some(other) = other {
                let its_change = next_change(tx).await?;
                sqlx::query!(
                    "UPDATE clips SET seq = ?, alias = NULL, alias_stamp = ? WHERE no = ?",
                    its_change,
                    stamp,
                    other
                )
                .execute(&mut **tx)
                .await?;
            }
            sqlx::query!(
                "UPDATE clips SET seq = ?, alias = ?, alias_stamp = ? WHERE no = ?",
                change,
                alias,
                stamp,
                number
            )
            .execute(&mut **tx)
            .await?
        }
        Attribute::Fills(fills) => {
            sqlx::query!(
                "UPDATE clips SET seq = ?, fills = ?, fills_stamp = ? WHERE no = ?",
                change,
                fills,
                stamp,
                number
            )
            .execute(&mut **tx)
            .await?
        }
        Attribute::Pin(pin) => {
            let pin = pin.as_ref().map(Rank::as_bytes);
            sqlx::query!("UPDATE clips SET seq = ?, pin = ?, pin_stamp = ? WHERE no = ?", change, pin, stamp, number)
                .execute(&mut **tx)
                .await?
        }
        Attribute::Drawer(drawer) => {
            let (drawer, place) = drawer.as_ref().map(|(drawer, place)| (*drawer, place.as_bytes())).unzip();
            sqlx::query!(
                "UPDATE clips SET seq = ?, drawer = ?, place = ?, drawer_stamp = ? WHERE no = ?",
                change,
                drawer,
                place,
                stamp,
                number
            )
            .execute(&mut **tx)
            .await?
        }
    };
    Ok(())
}

impl Store {
    /// Gives clips particulars, all or none. Gives the number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is changed then.
    pub async fn set_attributes(&self, given: &[(u64, Attribute)], stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let mut change = 0;
        for (number, particular) in given {
            change = next_change(&mut tx).await?;
            set(&mut tx, change, *number, particular, stamp).await?;
        }
        tx.commit().await?;
        Ok(change)
    }
}
