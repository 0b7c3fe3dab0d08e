//! What a person gives a clip: title, mark, alias, pin, a place in a drawer; and a clip that takes another's place.

use crate::numbers::Numbers;
use crate::registers::{self, NewState, states_of};
use crate::store::{Store, StoreError};
use crate::write_tx::WriteTx;
use std::collections::BTreeMap;
use yadori_core::merge::{InDrawer, Register};
use yadori_core::{Mark, Rank, Stamp};

/// One attribute, and what it is to be.
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

/// Attributes that a clip is given when it is made.
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

pub(crate) fn attributes(given: &GivenAttributes<'_>) -> Vec<Attribute> {
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

/// Gives clips attributes at `stamp`. Gives the number of the latest change; zero if there was none.
pub(crate) async fn set(tx: &mut WriteTx, given: &[(u64, Attribute)], stamp: Stamp) -> Result<u64, StoreError> {
    let mut numbers: Vec<u64> = given.iter().map(|(number, _)| *number).collect();
    numbers.sort_unstable();
    numbers.dedup();
    let known = states_of(tx, &numbers).await?;
    let mut states: BTreeMap<u64, NewState<'_>> = BTreeMap::new();
    for (number, row) in &known {
        states.insert(*number, NewState::of_known(row, row.state())?);
    }
    for (number, attribute) in given {
        let Some(new) = states.get_mut(number) else { continue };
        let state = &mut new.state;
        match attribute {
            Attribute::Title(title) => state.title = Register::new(stamp, title.clone()),
            Attribute::Mark(mark) => state.mark = Register::new(stamp, *mark),
            Attribute::Alias(alias) => state.alias = Register::new(stamp, alias.clone()),
            Attribute::Fills(fills) => state.fills = Register::new(stamp, *fills),
            Attribute::Pin(pin) => state.pin = Register::new(stamp, pin.clone()),
            Attribute::Drawer(drawer) => {
                let lies = match drawer {
                    Some((drawer, place)) => {
                        Some(InDrawer { drawer: id_of_drawer(tx, *drawer).await?, place: place.clone() })
                    }
                    None => None,
                };
                state.drawer = Register::new(stamp, lies);
            }
        }
    }
    let states = states.into_values().collect();
    Ok(registers::put(tx, &mut Numbers::default(), states, false).await?.last)
}

async fn id_of_drawer(tx: &mut WriteTx, number: u32) -> Result<[u8; 16], StoreError> {
    let id = sqlx::query_scalar!("SELECT id FROM drawers WHERE no = ?", number).fetch_one(&mut **tx).await?;
    id.try_into().map_err(|_| StoreError::Damaged(number.into()))
}

/// Lets the clip `new` take the place of `old`, at `stamp` ([`State::take_place_of`](yadori_core::merge::State)). Gives the
/// number of the latest change.
pub(crate) async fn take_place(
    tx: &mut WriteTx,
    (new, old): (u64, u64),
    stamp: Stamp,
    retire: bool,
) -> Result<u64, StoreError> {
    let known = states_of(tx, &[new, old]).await?;
    let (Some(new), Some(old)) = (known.get(&new), known.get(&old)) else { return Err(StoreError::Damaged(new)) };
    let (mut of_new, mut of_old) = (new.state(), old.state());
    of_new.take_place_of(&mut of_old, stamp, retire);
    let states = vec![NewState::of_known(old, of_old)?, NewState::of_known(new, of_new)?];
    Ok(registers::put(tx, &mut Numbers::default(), states, false).await?.last)
}

impl Store {
    /// Gives clips attributes, all or none. Gives the number of the latest change.
    ///
    /// # Errors
    /// When the database does not answer; nothing is changed then.
    pub async fn set_attributes(&self, given: &[(u64, Attribute)], stamp: Stamp) -> Result<u64, StoreError> {
        let mut tx = self.begin_writing().await?;
        let change = set(&mut tx, given, stamp).await?;
        tx.commit().await?;
        Ok(change)
    }
}
