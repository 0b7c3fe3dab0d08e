//! The clips of a batch, taken in together: a few statements for all of them.

use super::Applier;
use crate::belonging::is_what_it_says;
use crate::changes::clear_content;
use crate::clips::ClipRecord;
use crate::content::{SEARCHED_BYTES, expect_blob, free_blob, is_plain, write_blob};
use crate::filing::{INLINE_BYTES, INSERT_FORMATS};
use crate::fresh::FreshClip;
use crate::hashed_tombstones::with_hashed_tombstones;
use crate::registers::{self, BodyColumns, NewState, StateRow, select_states, states_selected};
use crate::statements::Statements;
use crate::store::{StoreError, numbers_as_json};
use data_encoding::HEXLOWER;
use serde::Serialize;
use sqlx::FromRow;
use sqlx::mysql::MySqlRow;
use std::collections::HashMap;
use std::sync::Arc;
use yadori_core::belonging;
use yadori_core::format::{PLAIN, RASTERS, SVG};
use yadori_core::merge::State;
use yadori_core::shared::{Body, BodyFormat, Clip, MOST_ALIASES};
use yadori_core::{ClipId, DeviceId, Kind, Stamp};

/// Clips of a batch at most that others are told of without reading them again. More than that come at once only when a device is
/// told everything.
const MOST_FRESH: usize = 64;

/// Which content is accepted of what is told of a known clip.
#[derive(Clone, Copy)]
struct Accepted {
    /// It may take the place of what is here.
    replaces: bool,
    /// It is the same copy, with more formats.
    completes: bool,
    /// It is the same copy, with all formats that are here.
    is_complete: bool,
}

/// What is to become of a clip.
struct Taken<'a> {
    told: &'a Clip,
    /// What is on record of it; none if it was never here.
    known: Option<&'a StateRow>,
    state: State,
    body: Option<&'a Body>,
    /// Its content goes for good.
    clears_content: bool,
    /// A copy that was not known here, of a clip that is now in the history.
    copied: bool,
    /// It becomes just what was told.
    is_as_told: bool,
}

/// Where a clip was put down.
struct Put {
    number: u64,
    /// The number of the change.
    change: u64,
    /// It is here just as it was told.
    is_as_told: bool,
}

impl Taken<'_> {
    /// Whether it comes to be with this: a copy of a clip that was never here.
    fn is_new(&self) -> bool {
        self.known.is_none() && self.copied
    }

    /// Whether it comes to be, or its tombstone, and all of it is one row; nobody else has to give anything up for it.
    fn is_one_new_row(&self) -> bool {
        let is_one_row = |body| {
            let columns = body_columns(body);
            columns.plain && !columns.is_long()
        };
        let State { alias, drawer, .. } = &self.state;
        self.known.is_none() && alias.value.is_none() && drawer.value.is_none() && self.body.is_none_or(is_one_row)
    }

    /// Whether some of its content may be on another device only.
    fn may_lack_content(&self) -> bool {
        let promises = |body: &Body| body.formats.iter().any(|format| format.data.is_none());
        !self.clears_content && self.body.map_or(self.known.is_some(), promises)
    }
}

fn json(rows: &[impl Serialize]) -> String {
    serde_json::to_string(rows).unwrap_or_else(|_| "[]".into())
}

fn by_id(rows: Vec<StateRow>) -> Result<HashMap<ClipId, StateRow>, StoreError> {
    rows.into_iter().map(|row| Ok((row.clip()?, row))).collect()
}

/// Asks what is on record of these clips, if there are any.
pub(super) fn ask_for_states(clips: &[&Clip], question: &mut Statements) {
    if !clips.is_empty() {
        question.add(states_selected()).words(" FROM clips c FORCE INDEX (id) WHERE c.id IN ").row();
        for clip in clips {
            question.value(&clip.id.0[..]);
        }
        question.end_row();
    }
}

/// The answer to that.
pub(super) fn states(rows: &[MySqlRow]) -> Result<HashMap<ClipId, StateRow>, StoreError> {
    by_id(rows.iter().map(StateRow::from_row).collect::<Result<_, _>>()?)
}

impl Applier {
    /// Takes in clips, no two of which are the same.
    pub(super) async fn clips(&mut self, told: &[&Clip]) -> Result<(), StoreError> {
        let hashed = with_hashed_tombstones(&mut self.tx, self.tombstone_key.as_ref(), told).await?;
        let told: Vec<&Clip> = told.iter().map(|clip| hashed.get(&clip.id).unwrap_or(clip)).collect();
        let known = self.known(&told).await?;
        let (mut taken, mut unchanged) = (Vec::new(), Vec::new());
        for clip in told {
            match known.get(&clip.id) {
                None => taken.extend(self.unknown(clip)),
                // It looks like a secret here: what others do with it is theirs, and what is done here stays here.
                Some(known) if known.secret != 0 => {}
                Some(known) => {
                    let state = known.state();
                    let accepted = self.accepts(clip, known, &state).await?;
                    match merged(clip, known, &state, accepted) {
                        Some(merged) => taken.push(merged),
                        None => {
                            if is_as_told(clip, &state, accepted.is_complete) && !hashed.contains_key(&clip.id) {
                                self.outcome.echoes.push(known.seq);
                            }
                            unchanged.extend((!known.tombstone).then_some(known.no));
                        }
                    }
                }
            }
        }
        // What met a hashed tombstone is not what was told.
        taken.iter_mut().for_each(|clip| clip.is_as_told &= !hashed.contains_key(&clip.told.id));
        // Of those that are known, it is still to be asked what they lack.
        self.is_all &= unchanged.is_empty();
        let put = self.put_states(&taken).await?;
        let numbers: Vec<u64> = put.iter().map(|put| put.number).collect();
        let elsewhere = self.put_formats(&taken, &numbers).await?;
        for (clip, put) in taken.iter().zip(&put).filter(|(clip, put)| put.is_as_told && clip.is_new()) {
            self.records.extend(record_of(clip, put, &elsewhere, (self.from, &self.name)));
        }
        for (clip, number) in taken.iter().zip(&numbers) {
            if clip.clears_content {
                self.outcome.purged = true;
                clear_content(&mut self.tx, *number).await?;
            }
            if clip.copied && self.outcome.latest_copy.is_none_or(|(_, latest)| latest < clip.state.copied) {
                self.outcome.latest_copy = Some((*number, clip.state.copied));
            }
        }
        let lacking = taken.iter().zip(&numbers).filter(|(clip, _)| clip.may_lack_content()).map(|(_, number)| *number);
        unchanged.extend(lacking);
        self.want(&unchanged).await
    }

    /// What is on record of these clips.
    async fn known(&mut self, told: &[&Clip]) -> Result<HashMap<ClipId, StateRow>, StoreError> {
        if let Some(known) = self.asked_ahead.take() {
            return Ok(known);
        }
        let ids: Vec<String> = told.iter().map(|clip| HEXLOWER.encode(&clip.id.0)).collect();
        let rows: Vec<StateRow> = sqlx::query_as(select_states(
            "FROM JSON_TABLE(?, '$[*]' COLUMNS (id CHAR(32) PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (id) ON c.id = UNHEX(w.id)",
        ))
        .bind(json(&ids))
        .fetch_all(&mut *self.tx)
        .await?;
        by_id(rows)
    }

    /// Whether the content that is told may take the place of what is here. Content that is here as a whole is what the
    /// id says. It gives way only to what travelled along and was checked, or to the very same content with other
    /// formats beside it: else a promise of content that never comes, or comes as something else, would destroy it.
    async fn replaces_content(&mut self, told: &Clip, known: &StateRow) -> Result<bool, StoreError> {
        let Some(body) = &told.body else { return Ok(false) };
        if known.tombstone || known.elsewhere {
            return Ok(true);
        }
        let carries = |mime: &str| match told.kind {
            Kind::Image => RASTERS.contains(&mime) || mime == SVG,
            kind => belonging::carries(kind, mime),
        };
        let waits = |format: &&BodyFormat| format.data.is_none() || told.kind == Kind::Image;
        for format in body.formats.iter().filter(|format| carries(&format.mime)).filter(waits) {
            let is_its_own = sqlx::query_scalar!(
                "SELECT EXISTS (SELECT 1 FROM formats f JOIN blobs b ON b.no = f.blob_no
                    WHERE f.clip_no = ? AND f.mime = ? AND b.hash = ? AND b.have = b.size) AS `is: bool`",
                known.no,
                format.mime,
                &format.hash[..]
            )
            .fetch_one(&mut *self.tx)
            .await?;
            let lies_inline = match &format.data {
                Some(data) => sqlx::query_scalar!(
                    "SELECT EXISTS (SELECT 1 FROM formats WHERE clip_no = ? AND mime = ? AND content = ?) AS `is: bool`",
                    known.no,
                    format.mime,
                    &data[..]
                )
                .fetch_one(&mut *self.tx)
                .await?,
                None => false,
            };
            if !is_its_own && !lies_inline {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Which content is accepted of what is told of a known clip.
    async fn accepts(&mut self, told: &Clip, known: &StateRow, state: &State) -> Result<Accepted, StoreError> {
        let replaces = self.replaces_content(told, known).await?;
        let is_same_copy = (told.state.copied, told.state.origin) == (state.copied, state.origin);
        let Some(body) = told.body.as_ref().filter(|_| is_same_copy && replaces && !known.tombstone) else {
            return Ok(Accepted { replaces, completes: false, is_complete: false });
        };
        // What a program keeps for itself may follow the rest of a copy.
        let here = sqlx::query_scalar!(
            r#"SELECT IF(plain = TRUE, 1, (SELECT COUNT(*) FROM formats WHERE clip_no = no)) AS "here!: i64" FROM clips WHERE no = ?"#,
            known.no
        )
        .fetch_one(&mut *self.tx)
        .await?;
        let told = body.formats.len() as i64;
        Ok(Accepted { replaces, completes: told > here, is_complete: told >= here })
    }

    /// A clip that was never here; nothing if it is not to be.
    fn unknown<'a>(&self, told: &'a Clip) -> Option<Taken<'a>> {
        let live = told.state.is_live(Stamp::NEVER);
        let kept = told.state.life(Stamp::NEVER).is_kept();
        if live && (told.body.is_none() || !(self.by_hand || self.policy.lets_in(kept))) {
            return None;
        }
        let body = told.body.as_ref().filter(|_| live);
        let state = told.state.clone();
        Some(Taken { told, known: None, state, body, clears_content: false, copied: live, is_as_told: true })
    }

    /// Puts down everything but formats.
    async fn put_states(&mut self, taken: &[Taken<'_>]) -> Result<Vec<Put>, StoreError> {
        if taken.is_empty() {
            return Ok(Vec::new());
        }
        let states = taken.iter().map(|clip| NewState {
            id: clip.told.id,
            kind: clip.told.kind,
            known: clip.known,
            state: clip.state.clone(),
            body: clip.body.map(body_columns),
        });
        let states: Vec<_> = states.collect();
        let last = self.last.take_if(|_| self.is_all && taken.iter().all(Taken::is_one_new_row));
        let put = match last {
            Some(last) => registers::put_and_make_durable(&mut self.tx, &mut self.numbers, &states, true, last).await?,
            None => registers::put(&mut self.tx, &mut self.numbers, states, true).await?,
        };
        self.outcome.change = Some(put.last);
        let gets_alias = |clip: &Taken<'_>| {
            let alias = &clip.state.alias.value;
            alias.is_some() && clip.known.is_none_or(|known| known.columns.alias != *alias)
        };
        if taken.iter().any(gets_alias) {
            let aliases = sqlx::query_scalar!("SELECT COUNT(*) FROM clips WHERE alias IS NOT NULL")
                .fetch_one(&mut *self.tx)
                .await?;
            if aliases as u64 > MOST_ALIASES {
                return Err(StoreError::TooMany("aliases", MOST_ALIASES));
            }
        }
        let lies = |clip: &Taken<'_>| clip.state.drawer.value.is_some();
        let left_drawer = taken.iter().any(lies) && self.leave_removed_drawers(&put.numbers).await?;
        let mut done = Vec::with_capacity(taken.len());
        for ((clip, number), (change, as_wanted)) in
            taken.iter().zip(&put.numbers).zip(put.changes.iter().zip(put.as_wanted))
        {
            let is_as_told = clip.is_as_told && as_wanted && !(left_drawer && lies(clip));
            done.push(Put { number: *number, change: *change, is_as_told });
            if is_as_told {
                self.outcome.echoes.push(*change);
                if clip.is_new() && taken.len() <= MOST_FRESH && clip.body.is_some_and(lies_with_its_record) {
                    self.fresh.push(FreshClip { change: *change, clip: Arc::new(clip.told.clone()) });
                }
            }
        }
        Ok(done)
    }

    /// What was put into a drawer before that was removed, and is told of afterwards, is only in the history again.
    /// Tells whether there was any.
    async fn leave_removed_drawers(&mut self, clips: &[u64]) -> Result<bool, StoreError> {
        let done = sqlx::query!(
            "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no STRAIGHT_JOIN drawers d ON d.no = c.drawer
             SET c.drawer_stamp = IF(c.gone IS NULL, d.changed, c.drawer_stamp + 1), c.place = NULL, c.drawer = NULL
             WHERE d.removed = TRUE AND c.drawer_stamp <= d.changed",
            numbers_as_json(clips)
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Puts down the formats of clips, in the place of those that they had before. Gives the numbers of those of whose content
    /// something was promised and is not here.
    async fn put_formats(&mut self, taken: &[Taken<'_>], numbers: &[u64]) -> Result<Vec<u64>, StoreError> {
        let with_body = || {
            let numbered = taken.iter().zip(numbers);
            numbered.filter_map(|(clip, number)| clip.body.map(|body| (clip, *number, body)))
        };
        if with_body().next().is_none() {
            return Ok(Vec::new());
        }
        let before: Vec<u64> = with_body().filter_map(|(clip, _, _)| clip.known).map(|known| known.no).collect();
        let blobs = self.take_formats_away(&before).await?;
        let mut insert = Statements::default();
        let (mut in_blobs, mut promised) = (Vec::new(), Vec::new());
        for (_, number, body) in with_body() {
            let BodyColumns { text, plain, .. } = body_columns(body);
            if plain {
                continue;
            }
            for (place, format) in (0u8..).zip(&body.formats) {
                let is_text = format.mime == PLAIN
                    && format.data.as_ref().is_some_and(|data| text.is_some_and(|text| text.as_bytes() == &data[..]));
                let blob = match &format.data {
                    Some(_) if is_text => None,
                    Some(data) if data.len() <= INLINE_BYTES => None,
                    Some(data) => Some(write_blob(&mut self.tx, data).await?),
                    None => Some(expect_blob(&mut self.tx, &format.hash, format.size).await?),
                };
                in_blobs.extend(blob.map(|_| number));
                let content = format.data.as_deref().filter(|_| blob.is_none() && !is_text);
                if insert.is_empty() {
                    insert.add(INSERT_FORMATS);
                }
                insert.row().value(number).value(place).value(&format.mime).value(format.size);
                insert.value(content).value(blob).end_row();
            }
            promised.extend(body.formats.iter().any(|format| format.data.is_none()).then_some(number));
        }
        insert.execute(&mut self.tx).await?;
        in_blobs.dedup();
        for blob in blobs {
            free_blob(&mut self.tx, blob).await?;
        }
        let is_here = |number: &u64| !in_blobs.contains(number);
        let pictures = with_body().filter(|(clip, number, _)| clip.told.kind == Kind::Image && is_here(number));
        self.outcome.pictures.extend(pictures.map(|(_, number, _)| number));
        self.note_elsewhere(&in_blobs).await?;
        // Content that did not travel along may be here already, under its hash.
        let elsewhere = self.elsewhere(&promised).await?;
        for number in promised.iter().filter(|number| !elsewhere.contains(number)) {
            if !is_what_it_says(&mut self.tx, *number).await? {
                return Err(StoreError::AnotherClip);
            }
        }
        Ok(elsewhere)
    }

    /// Which of these clips have content that is on another device only.
    async fn elsewhere(&mut self, clips: &[u64]) -> Result<Vec<u64>, StoreError> {
        if clips.is_empty() {
            return Ok(Vec::new());
        }
        Ok(sqlx::query_scalar!(
            "SELECT c.no FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no WHERE c.elsewhere = TRUE",
            numbers_as_json(clips)
        )
        .fetch_all(&mut *self.tx)
        .await?)
    }

    /// Takes away the formats of clips; gives the blobs that they lay in.
    async fn take_formats_away(&mut self, clips: &[u64]) -> Result<Vec<u64>, StoreError> {
        if clips.is_empty() {
            return Ok(Vec::new());
        }
        let clips = numbers_as_json(clips);
        let blobs = sqlx::query_scalar!(
            "SELECT f.blob_no AS `blob_no!` FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN formats f ON f.clip_no = w.no WHERE f.blob_no IS NOT NULL",
            clips
        )
        .fetch_all(&mut *self.tx)
        .await?;
        sqlx::query!(
            "DELETE f FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN formats f ON f.clip_no = w.no",
            clips
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(blobs)
    }

    /// Notes which of these clips, which have blobs, have content that is on another device only, and which pictures are here
    /// as a whole.
    async fn note_elsewhere(&mut self, clips: &[u64]) -> Result<(), StoreError> {
        if clips.is_empty() {
            return Ok(());
        }
        let clips = numbers_as_json(clips);
        sqlx::query!(
            "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no
             SET c.elsewhere = EXISTS (SELECT 1 FROM formats f JOIN blobs b ON b.no = f.blob_no
                WHERE f.clip_no = c.no AND b.have < b.size)",
            clips
        )
        .execute(&mut *self.tx)
        .await?;
        let pictures = sqlx::query_scalar!(
            "SELECT c.no FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no WHERE c.elsewhere = FALSE AND c.kind = ?",
            clips,
            Kind::Image.code()
        )
        .fetch_all(&mut *self.tx)
        .await?;
        self.outcome.pictures.extend(pictures);
        Ok(())
    }

    /// Wants what clips are missing, but for those so large that they are fetched when somebody wants them.
    async fn want(&mut self, clips: &[u64]) -> Result<(), StoreError> {
        if clips.is_empty() {
            return Ok(());
        }
        let rows = sqlx::query!(
            "SELECT DISTINCT b.hash, b.have FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no
             STRAIGHT_JOIN formats f ON f.clip_no = c.no STRAIGHT_JOIN blobs b ON b.no = f.blob_no
             WHERE c.elsewhere = TRUE AND c.size <= ? AND c.gone IS NULL AND b.have < b.size",
            numbers_as_json(clips),
            self.policy.fetch_above
        )
        .fetch_all(&mut *self.tx)
        .await?;
        self.outcome.wants.extend(rows.into_iter().filter_map(|row| Some((row.hash.try_into().ok()?, row.have))));
        Ok(())
    }
}

/// What a known clip becomes; nothing if nothing new is told.
fn merged<'a>(told: &'a Clip, known: &'a StateRow, before: &State, accepted: Accepted) -> Option<Taken<'a>> {
    let swept = known.swept();
    let state = before.clone().merge(told.state.clone());
    let later = before.is_copied_before(&told.state);
    // What this device let go of comes back with its content when it was copied or kept again. What comes back from
    // the bin may be a later copy, of which only the end was told.
    let latest = (told.state.copied, told.state.origin) == (state.copied, state.origin);
    let is_back = state.is_live(swept) && !before.is_live(swept) && latest;
    let is_needed = known.tombstone && state.is_live(swept);
    let body = told
        .body
        .as_ref()
        .filter(|_| (later || is_back || is_needed || accepted.completes) && accepted.replaces && !state.is_purged());
    if state == *before && body.is_none() {
        return None;
    }
    Some(Taken {
        told,
        known: Some(known),
        body,
        clears_content: state.is_purged() && !known.tombstone,
        copied: later && state.is_live(swept),
        is_as_told: is_as_told(told, &state, body.is_some() || accepted.is_complete),
        state,
    })
}

/// Whether a clip in this state is just what was told, so that whoever told it need not be told. Who told of one that is
/// live without all of its content may lack it.
fn is_as_told(told: &Clip, state: &State, is_whole: bool) -> bool {
    *state == told.state && (is_whole || !state.is_live(Stamp::NEVER))
}

/// The record of a clip that came to be just as it was told, if it comes from this device. What lies in a drawer is read; so is
/// that of which content was promised that is here: its words may be others than was said.
fn record_of(clip: &Taken<'_>, put: &Put, elsewhere: &[u64], (from, name): (DeviceId, &str)) -> Option<ClipRecord> {
    let (state, body) = (&clip.state, clip.body?);
    let Put { number, change, .. } = *put;
    let elsewhere = elsewhere.contains(&number);
    if state.origin != from || state.drawer.value.is_some() || clip.may_lack_content() != elsewhere {
        return None;
    }
    let columns = body_columns(body);
    let text = columns.text.unwrap_or_default().to_owned();
    let once = ClipRecord::copied_once(number, (clip.told.id, clip.told.kind), text, name.to_owned());
    Some(ClipRecord {
        change,
        life: state.life(Stamp::NEVER),
        recalled_at: Some(state.recalled_at).filter(|at| at.0 > 0),
        copies: state.copies,
        recalls: state.recalls,
        size: body.size,
        pixels: body.pixels,
        extent: body.extent,
        title: state.title.value.clone(),
        caption: body.caption.clone(),
        source: body.source.clone(),
        pin: state.pin.value.clone(),
        mark: state.mark.value,
        alias: state.alias.value.clone(),
        fills: state.fills.value,
        shared: true,
        elsewhere,
        plain: columns.plain,
        ..once
    })
}

/// Whether all of it has come, and none of it lies in a blob.
fn lies_with_its_record(body: &Body) -> bool {
    body.formats.iter().all(|format| format.data.as_ref().is_some_and(|data| data.len() <= INLINE_BYTES))
}

fn body_columns(body: &Body) -> BodyColumns<'_> {
    let plain = body.formats.iter().find(|format| format.mime == PLAIN).and_then(|format| format.data.as_ref());
    let along = plain.and_then(|plain| std::str::from_utf8(plain).ok()).filter(|text| text.len() <= SEARCHED_BYTES);
    let text = body.text.as_deref().or(along).map(|text| &text[..text.floor_char_boundary(SEARCHED_BYTES)]);
    let formats = body.formats.iter().map(|format| (&*format.mime, format.data.as_deref()));
    BodyColumns {
        size: body.size,
        pixels: body.pixels,
        extent: body.extent,
        text,
        plain: is_plain((text, body.size), formats),
        caption: body.caption.as_deref(),
        application: body.source.application.as_deref(),
        window: body.source.window.as_deref(),
        page: body.source.page.as_deref(),
        selected: body.source.selected,
    }
}
