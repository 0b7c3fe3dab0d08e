//! A clip's state in the records: the one place where states are read and written.
//!
//! Whoever changes what is known of a clip loads its [`State`], changes or merges it by the rules of `yadori-core`, and
//! writes it back with [`put`], many at a time.

use crate::columns::{COLUMNS, Columns, WITHOUT_DEFAULT, stamp};
use crate::numbers::Numbers;
use crate::statements::{Literal, Statements};
use crate::store::{StoreError, numbers_as_json};
use crate::write_tx::{WriteTx, next_change, next_changes};
use sqlx::mysql::MySqlRow;
use sqlx::{AssertSqlSafe, FromRow, Row};
use std::collections::HashMap;
use std::sync::LazyLock;
use yadori_core::merge::{Register, State, loses_alias, lost_alias};
use yadori_core::{ClipId, DeviceId, Kind, Stamp};

/// A statement is sent when it is so long, in bytes. A packet takes 64 MiB, and a row far less than this.
const LONG: usize = 1 << 20;

/// A clip as far as its state is concerned.
#[derive(Clone, Debug, FromRow)]
pub(crate) struct StateRow {
    pub no: u64,
    pub id: Vec<u8>,
    pub seq: u64,
    pub kind: u8,
    pub secret: u8,
    pub shared: bool,
    pub tombstone: bool,
    pub elsewhere: bool,
    origin: Option<Vec<u8>>,
    drawer_id: Option<Vec<u8>>,
    /// Whether it lies in a private drawer.
    pub private: bool,
    #[sqlx(flatten)]
    pub columns: Columns,
}

impl StateRow {
    pub fn state(&self) -> State {
        let origin = self.origin.as_ref().and_then(|id| DeviceId::from_slice(id)).unwrap_or_default();
        let drawer = self.drawer_id.as_ref().and_then(|id| <[u8; 16]>::try_from(id.as_slice()).ok());
        self.columns.state(origin, drawer)
    }

    pub fn swept(&self) -> Stamp {
        stamp(self.columns.swept)
    }

    pub fn clip(&self) -> Result<ClipId, StoreError> {
        ClipId::from_slice(&self.id).ok_or(StoreError::Damaged(self.no))
    }

    pub fn kind(&self) -> Result<Kind, StoreError> {
        Kind::from_code(self.kind).ok_or(StoreError::Damaged(self.no))
    }
}

fn listed(columns: &[&str], column: impl Fn(&str) -> String) -> String {
    columns.iter().map(|name| column(name)).collect::<Vec<_>>().join(", ")
}

/// The beginning of a statement that selects [`StateRow`]s of clips, which the rest of it calls `c`.
pub(crate) fn states_selected() -> &'static str {
    static SELECT: LazyLock<String> = LazyLock::new(|| {
        format!(
            "SELECT c.no, c.id, c.seq, c.kind, c.secret, c.shared, c.tombstone, c.elsewhere,
                (SELECT d.id FROM devices d WHERE d.no = c.device) AS origin,
                (SELECT w.id FROM drawers w WHERE w.no = c.drawer) AS drawer_id,
                EXISTS (SELECT 1 FROM private_drawers p WHERE p.drawer = c.drawer) AS private, {}",
            listed(COLUMNS, |name| format!("c.{name}"))
        )
    });
    &SELECT
}

/// Selects [`StateRow`]s of clips, which `rest` calls `c`.
pub(crate) fn select_states(rest: &str) -> AssertSqlSafe<String> {
    AssertSqlSafe(format!("{} {rest}", states_selected()))
}

/// The states of the clips with these numbers, in any order.
pub(crate) async fn states_of(tx: &mut WriteTx, numbers: &[u64]) -> Result<HashMap<u64, StateRow>, StoreError> {
    let rows: Vec<StateRow> = sqlx::query_as(select_states(
        "FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
         STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no",
    ))
    .bind(numbers_as_json(numbers))
    .fetch_all(&mut **tx)
    .await?;
    Ok(rows.into_iter().map(|row| (row.no, row)).collect())
}

/// A state that a clip is to have.
pub(crate) struct NewState<'a> {
    /// The clip.
    pub id: ClipId,
    /// What it is.
    pub kind: Kind,
    /// What is on record of it; none if it was never here.
    pub known: Option<&'a StateRow>,
    /// The state.
    pub state: State,
    /// What the clip consists of from now on, if that is put down too.
    pub body: Option<BodyColumns<'a>>,
}

/// What a clip consists of, but for the rows of its formats.
#[derive(Clone, Copy, Debug)]
pub(crate) struct BodyColumns<'a> {
    pub size: u64,
    pub pixels: Option<(u32, u32)>,
    pub extent: Option<(u64, u64)>,
    pub text: Option<&'a str>,
    /// Its text is its only format, and as such has no row in `formats`.
    pub plain: bool,
    pub caption: Option<&'a str>,
    pub application: Option<&'a str>,
    pub window: Option<&'a str>,
    pub page: Option<&'a str>,
    pub selected: bool,
}

/// The columns of `clips` that hold what a clip consists of.
const BODY_COLUMNS: &[&str; 12] = &[
    "size",
    "width",
    "height",
    "text_lines",
    "text_chars",
    "text",
    "plain",
    "caption",
    "application",
    "window_title",
    "page",
    "selected",
];

/// Texts above this, in bytes, lie in pages of their own. They are put down after their row: should the disk be full by then, InnoDB
/// takes the change back, while a row that is inserted with them brings the server down (seen with MariaDB 10.11).
const LONG_TEXT: usize = 4096;

impl BodyColumns<'_> {
    /// Whether its text is put down after the row.
    pub fn is_long(&self) -> bool {
        self.text.is_some_and(|text| text.len() > LONG_TEXT)
    }

    /// Gives all of them to `reader`, in the order of [`BODY_COLUMNS`], without a long text.
    fn values(&self, reader: impl FnOnce([&dyn Literal; BODY_COLUMNS.len()])) {
        let ((width, height), (lines, chars)) = (self.pixels.unzip(), self.extent.unzip());
        reader([
            &self.size,
            &width,
            &height,
            &lines,
            &chars,
            &self.text.filter(|_| !self.is_long()),
            &self.plain,
            &self.caption,
            &self.application,
            &self.window,
            &self.page,
            &self.selected,
        ]);
    }
}

/// What a clip without content consists of.
const NOTHING: BodyColumns<'static> = BodyColumns {
    size: 0,
    pixels: None,
    extent: None,
    text: None,
    plain: false,
    caption: None,
    application: None,
    window: None,
    page: None,
    selected: false,
};

impl<'a> NewState<'a> {
    /// Another state of a clip that is on record.
    pub fn of_known(known: &'a StateRow, state: State) -> Result<Self, StoreError> {
        Ok(Self { id: known.clip()?, kind: known.kind()?, known: Some(known), state, body: None })
    }
}

/// What came of putting states on record.
#[derive(Debug, Default)]
pub(crate) struct PutStates {
    /// The numbers of the clips.
    pub numbers: Vec<u64>,
    /// The number of the change of each.
    pub changes: Vec<u64>,
    /// Whether each has the state that it was to have. It has not if it lost its alias.
    pub as_wanted: Vec<bool>,
    /// The number of the latest change, which may be that of another clip.
    pub last: u64,
}

/// The columns of a state.
async fn columns_of(tx: &mut WriteTx, numbers: &mut Numbers, new: &NewState<'_>) -> Result<Columns, StoreError> {
    let (state, known) = (&new.state, new.known);
    let device = match known {
        Some(known) if known.origin.as_deref() == Some(&state.origin.0[..]) => known.columns.device,
        _ => numbers.device(tx, state.origin).await?,
    };
    let drawer = match (&state.drawer.value, known) {
        (None, _) => None,
        (Some(lies), Some(known)) if known.drawer_id.as_deref() == Some(&lies.drawer[..]) => known.columns.drawer,
        (Some(lies), _) => Some(numbers.drawer(tx, lies.drawer).await?),
    };
    Ok(Columns::of(state, device, drawer, known.map_or(Stamp::NEVER, StateRow::swept)))
}

struct PutRow<'a> {
    id: &'a [u8],
    /// Whether the clip is on record.
    is_known: bool,
    kind: u8,
    tombstone: bool,
    columns: Columns,
    body: Option<BodyColumns<'a>>,
}

/// Puts states on record, each as a change of its own; no two are of the same clip. Clips that were never here come to
/// be, without content if they have no body. With `shared`, other devices know them from now on. Where the law of aliases ([`loses_alias`])
/// takes one from another clip, that clip changes too.
pub(crate) async fn put(
    tx: &mut WriteTx,
    numbers: &mut Numbers,
    states: Vec<NewState<'_>>,
    shared: bool,
) -> Result<PutStates, StoreError> {
    if states.is_empty() {
        return Ok(PutStates::default());
    }
    let before = next_changes(tx, states.len()).await?;
    put_after(tx, numbers, before, states, shared).await
}

/// The same, as the changes after the number `before`, which were taken already.
pub(crate) async fn put_after(
    tx: &mut WriteTx,
    numbers: &mut Numbers,
    before: u64,
    mut states: Vec<NewState<'_>>,
    shared: bool,
) -> Result<PutStates, StoreError> {
    let wanted: Vec<Register<Option<String>>> = states.iter().map(|new| new.state.alias.clone()).collect();
    let losers = settle_aliases(tx, &mut states).await?;
    let as_wanted = states.iter().zip(&wanted).map(|(new, wanted)| new.state.alias == *wanted).collect();
    let rows = rows_of(tx, numbers, &states).await?;
    let numbers = put_rows(tx, before, shared, &rows).await?;
    let last = before + rows.len() as u64;
    let mut put = PutStates { numbers, changes: (before + 1..=last).collect(), as_wanted, last };
    for (loser, register) in losers {
        put.last = next_change(tx).await?;
        let stamp = register.stamp.to_bits();
        sqlx::query!("UPDATE clips SET seq = ?, alias_stamp = ? WHERE no = ?", put.last, stamp, loser)
            .execute(&mut **tx)
            .await?;
    }
    Ok(put)
}

/// Does what [`put`] does, for clips that come to be, each with one row and no alias; and makes it durable after the statements `last`,
/// all in one message ([`WriteTx::make_durable_after`]).
pub(crate) async fn put_and_make_durable(
    tx: &mut WriteTx,
    numbers: &mut Numbers,
    states: &[NewState<'_>],
    shared: bool,
    last: Statements,
) -> Result<PutStates, StoreError> {
    let before = next_changes(tx, states.len()).await?;
    let rows = rows_of(tx, numbers, states).await?;
    let mut statements = statements_for(tx, before, shared, &rows).await?;
    statements.append(last);
    let last = before + rows.len() as u64;
    tx.bears(last);
    let answer = tx.make_durable_after(statements).await?;
    let numbers = numbers_of_changes(&answer, before, rows.len())?;
    Ok(PutStates { numbers, changes: (before + 1..=last).collect(), as_wanted: vec![true; rows.len()], last })
}

/// The rows of states.
async fn rows_of<'a>(
    tx: &mut WriteTx,
    numbers: &mut Numbers,
    states: &'a [NewState<'_>],
) -> Result<Vec<PutRow<'a>>, StoreError> {
    let mut rows = Vec::with_capacity(states.len());
    for new in states {
        let columns = columns_of(tx, numbers, new).await?;
        let tombstone = new.body.is_none() && !new.state.is_live(Stamp::NEVER);
        rows.push(PutRow {
            id: &new.id.0,
            is_known: new.known.is_some(),
            kind: new.kind.code(),
            tombstone,
            columns,
            body: new.body,
        });
    }
    Ok(rows)
}

/// Puts the columns of known clips on record as they are here. Gives the number of the latest change.
pub(crate) async fn put_columns(tx: &mut WriteTx, clips: &[StateRow]) -> Result<u64, StoreError> {
    let before = next_changes(tx, clips.len()).await?;
    let rows = clips.iter().map(|row| PutRow {
        id: &row.id,
        is_known: true,
        kind: row.kind,
        tombstone: row.tombstone,
        columns: row.columns.clone(),
        body: None,
    });
    put_rows(tx, before, false, &rows.collect::<Vec<_>>()).await?;
    Ok(before + clips.len() as u64)
}

/// Gives the numbers of the clips.
async fn put_rows(tx: &mut WriteTx, before: u64, shared: bool, rows: &[PutRow<'_>]) -> Result<Vec<u64>, StoreError> {
    let answer = statements_for(tx, before, shared, rows).await?.fetch_all(tx).await?;
    for (change, row) in (before + 1..).zip(rows) {
        if let Some(body) = row.body.filter(BodyColumns::is_long) {
            let put = sqlx::query!("UPDATE clips SET text = ? WHERE seq = ?", body.text, change);
            put.execute(&mut **tx).await?;
        }
    }
    let numbers = numbers_of_changes(&answer, before, rows.len())?;
    if let Some(last) = numbers.iter().rposition(|number| *number > 0) {
        tx.bears(before + 1 + last as u64);
    }
    Ok(numbers)
}

/// What puts rows on record, but for long texts, and asks for the numbers of their clips. Of very many, most is put on record already.
async fn statements_for(
    tx: &mut WriteTx,
    before: u64,
    shared: bool,
    rows: &[PutRow<'_>],
) -> Result<Statements, StoreError> {
    let mut statements = Statements::default();
    for (is_known, with_body) in [(false, false), (false, true), (true, false), (true, true)] {
        let some = || {
            let all = (before + 1..).zip(rows);
            all.filter(|(_, row)| (row.is_known, row.body.is_some()) == (is_known, with_body))
        };
        // Most of what may be said of a clip is not said of most. A known one may have it on record, though.
        let mut states = COLUMNS.map(|column| is_known || WITHOUT_DEFAULT.contains(&column));
        let mut bodies = BODY_COLUMNS.map(|column| (is_known && with_body) || column == "size");
        for (_, row) in some() {
            name(&mut states, row.columns.values());
            row.body.unwrap_or(NOTHING).values(|values| name(&mut bodies, values));
        }
        let update = match (is_known, with_body) {
            (false, _) => "",
            (true, false) => PUT[0].as_str(),
            (true, true) => PUT[1].as_str(),
        };
        let mut is_begun = false;
        for (change, row) in some() {
            if is_begun && statements.len() > LONG {
                statements.words(update);
                std::mem::take(&mut statements).execute(tx).await?;
                is_begun = false;
            }
            if !is_begun {
                insert(&mut statements, &states, &bodies);
                is_begun = true;
            }
            statements.row().value(row.id).value(change).value(row.kind).value(0u8).value(shared).value(row.tombstone);
            add(&mut statements, &states, row.columns.values());
            row.body.unwrap_or(NOTHING).values(|values| add(&mut statements, &bodies, values));
            statements.end_row();
        }
        if is_begun {
            statements.words(update);
        }
    }
    // Asked in the same message.
    statements.add("SELECT no, seq FROM clips WHERE seq > ").alone(before);
    statements.words(" AND seq <= ").alone(before + rows.len() as u64);
    Ok(statements)
}

/// The numbers of clips, in the order of their changes, of which there are so many after `before`; 0 for one that is not in the answer.
fn numbers_of_changes(answer: &[MySqlRow], before: u64, count: usize) -> Result<Vec<u64>, sqlx::Error> {
    let mut numbers = vec![0; count];
    for row in answer {
        let (number, change): (u64, u64) = (row.try_get(0)?, row.try_get(1)?);
        numbers[(change - before - 1) as usize] = number;
    }
    Ok(numbers)
}

/// Begins a statement that inserts rows with the columns that are named: of [`COLUMNS`], and of [`BODY_COLUMNS`].
fn insert(statements: &mut Statements, states: &[bool], bodies: &[bool]) {
    statements.add("INSERT INTO clips (id, seq, kind, secret, shared, tombstone");
    let columns = COLUMNS.iter().zip(states).chain(BODY_COLUMNS.iter().zip(bodies));
    for (column, _) in columns.filter(|(_, is_named)| **is_named) {
        statements.words(", ").words(column);
    }
    statements.words(") VALUES ");
}

/// Names the columns that a new row cannot leave to the table's defaults.
fn name<const N: usize>(named: &mut [bool; N], values: [&dyn Literal; N]) {
    named.iter_mut().zip(values).for_each(|(is_named, value)| *is_named |= !value.is_default());
}

/// Adds the values of the columns that are named to a row.
fn add<const N: usize>(statements: &mut Statements, named: &[bool; N], values: [&dyn Literal; N]) {
    for (value, _) in values.into_iter().zip(named).filter(|(_, is_named)| **is_named) {
        statements.value(value);
    }
}

/// What follows the rows of known clips, which are changed instead: without bodies, and with them.
static PUT: LazyLock<[String; 2]> = LazyLock::new(|| {
    [
        put_update(COLUMNS, ""),
        put_update(&[&COLUMNS[..], &BODY_COLUMNS[..]].concat(), ", tombstone = FALSE, elsewhere = FALSE"),
    ]
});

fn put_update(columns: &[&str], more: &str) -> String {
    let updates = listed(columns, |name| format!("{name} = VALUES({name})"));
    format!(" ON DUPLICATE KEY UPDATE seq = VALUES(seq), shared = clips.shared OR VALUES(shared), {updates}{more}")
}

/// An alias stands for one clip: of two that were given it, the later has it. Gives the clips beside these that lose
/// theirs. No alias that changes stands in the way of those that come in its place any more.
///
/// The clips are taken in their order, so that a batch comes to the same as its parts.
async fn settle_aliases(
    tx: &mut WriteTx,
    states: &mut [NewState<'_>],
) -> Result<Vec<(u64, Register<Option<String>>)>, StoreError> {
    let had = |new: &NewState<'_>| new.known.and_then(|known| known.columns.alias.clone());
    if states.iter().all(|new| new.state.alias.value == had(new)) {
        return Ok(Vec::new());
    }
    // What each has at the moment: those that were not taken yet have what is on record.
    let mut present: Vec<Register<Option<String>>> =
        states.iter().map(|new| new.known.map(|known| known.state().alias).unwrap_or_default()).collect();
    let (mut losers, mut free): (Vec<_>, Vec<u64>) = Default::default();
    for place in 0..states.len() {
        let id = states[place].id;
        let lost = std::mem::take(&mut present[place]);
        let mut register = states[place].state.alias.clone();
        if lost.stamp > states[place].state.purged {
            register = register.max(lost);
        }
        if let Some(alias) = register.value.clone() {
            let own = register.stamp;
            if let Some(rival) = present.iter().position(|other| other.value.as_ref() == Some(&alias)) {
                let other = (present[rival].stamp, states[rival].id);
                if loses_alias((own, id), other) {
                    register = lost_alias(own, other.0);
                } else {
                    present[rival] = lost_alias(other.0, own);
                }
            } else if let Some((number, other)) = holder_of(tx, &alias, states, &losers).await? {
                if loses_alias((own, id), other) {
                    register = lost_alias(own, other.0);
                } else {
                    losers.push((number, lost_alias(other.0, own)));
                    free.push(number);
                }
            }
        }
        present[place] = register;
    }
    for (new, register) in states.iter_mut().zip(present) {
        new.state.alias = register;
    }
    let changed = states.iter().filter(|new| had(new).is_some() && had(new) != new.state.alias.value);
    free.extend(changed.filter_map(|new| new.known).map(|known| known.no));
    if !free.is_empty() {
        sqlx::query!(
            "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no SET c.alias = NULL",
            numbers_as_json(&free)
        )
        .execute(&mut **tx)
        .await?;
    }
    Ok(losers)
}

/// The clip that has an alias on record, and is neither among these nor has lost it: its number, when it was given it, and
/// its id.
async fn holder_of(
    tx: &mut WriteTx,
    alias: &str,
    states: &[NewState<'_>],
    losers: &[(u64, Register<Option<String>>)],
) -> Result<Option<(u64, (Stamp, ClipId))>, StoreError> {
    let holder =
        sqlx::query!("SELECT no, id, alias_stamp FROM clips WHERE alias = ?", alias).fetch_optional(&mut **tx).await?;
    let Some(holder) = holder else { return Ok(None) };
    let id = ClipId::from_slice(&holder.id).ok_or(StoreError::Damaged(holder.no))?;
    let is_free = states.iter().any(|new| new.id == id) || losers.iter().any(|(loser, _)| *loser == holder.no);
    Ok((!is_free).then(|| (holder.no, (stamp(holder.alias_stamp), id))))
}
