//! The clips of a batch, taken in together: a few statements for all of them.

use super::Applier;
use crate::belonging::is_what_it_says;
use crate::changes::shred_one;
use crate::content::SEARCHED_BYTES;
use crate::content::{expect_blob, free_blob, write_blob};
use crate::devices::number_of;
use crate::filing::INLINE_BYTES;
use crate::hashed_tombstones::with_seals;
use crate::outbox::states;
use crate::store::{StoreError, next_changes, numbers_as_json};
use data_encoding::HEXLOWER;
use serde::Serialize;
use std::collections::HashMap;
use yadori_core::belonging;
use yadori_core::format::{PLAIN, RASTERS, SVG};
use yadori_core::merge::{Register, State, loses_alias, lost_alias};
use yadori_core::shared::{Body, BodyFormat, Clip, MOST_ALIASES};
use yadori_core::{ClipId, Kind, Mark, Stamp};

/// A clip as it is on record here.
struct Known {
    number: u64,
    change: u64,
    state: State,
    shredded: bool,
    elsewhere: bool,
    secret: bool,
    swept: Stamp,
}

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
    /// Its number; none if it was never here.
    number: Option<u64>,
    state: State,
    /// The alias as it is on record here.
    alias: Register<Option<String>>,
    body: Option<&'a Body>,
    /// Its content goes for good.
    shred: bool,
    /// A copy that was not known here, of a clip that is now in the history.
    copied: bool,
    /// It becomes just what was told.
    is_as_told: bool,
}

/// A state as the database reads it: stamps as their bits, bytes in hexadecimal digits.
#[derive(Serialize)]
struct StateRow<'a> {
    id: String,
    kind: u8,
    shredded: bool,
    device: u32,
    copied: u64,
    restored: u64,
    deleted: u64,
    cleared: Option<u64>,
    purged: Option<u64>,
    copies: u32,
    recalls: u32,
    recalled_at: Option<u64>,
    title: Option<&'a str>,
    title_stamp: Option<u64>,
    mark: Option<u8>,
    mark_stamp: Option<u64>,
    fills: bool,
    fills_stamp: Option<u64>,
    pin: Option<String>,
    pin_stamp: Option<u64>,
    drawer: Option<u32>,
    place: Option<String>,
    drawer_stamp: Option<u64>,
}

/// What a clip consists of, as the database reads it.
#[derive(Serialize)]
struct BodyRow<'a> {
    clip: u64,
    size: u64,
    width: Option<u32>,
    height: Option<u32>,
    lines: Option<u64>,
    chars: Option<u64>,
    text: Option<&'a str>,
    caption: Option<&'a str>,
    application: Option<&'a str>,
    window: Option<&'a str>,
    page: Option<&'a str>,
    selected: bool,
}

#[derive(Serialize)]
struct FormatRow<'a> {
    clip: u64,
    place: u8,
    mime: &'a str,
    size: u64,
    content: Option<String>,
    blob: Option<u64>,
}

fn json(rows: &[impl Serialize]) -> String {
    serde_json::to_string(rows).unwrap_or_else(|_| "[]".into())
}

fn set(stamp: Stamp) -> Option<u64> {
    (stamp != Stamp::NEVER).then(|| stamp.to_bits())
}

impl Applier {
    /// Takes in clips, no two of which are the same.
    pub(super) async fn clips(&mut self, told: &[&Clip]) -> Result<(), StoreError> {
        let sealed = with_seals(&mut self.tx, self.seal_key.as_ref(), told).await?;
        let told: Vec<&Clip> = told.iter().map(|clip| sealed.get(&clip.id).unwrap_or(clip)).collect();
        let said = |taken: &Taken<'_>| taken.is_as_told && !sealed.contains_key(&taken.told.id);
        let known = self.known(&told).await?;
        let (mut taken, mut unchanged) = (Vec::new(), Vec::new());
        for clip in told {
            match known.get(&clip.id) {
                None => taken.extend(self.unknown(clip)),
                // It looks like a secret here: what others do with it is theirs, and what is done here stays here.
                Some(known) if known.secret => {}
                Some(known) => {
                    let accepted = self.accepts(clip, known).await?;
                    match merged(clip, known, accepted) {
                        Some(merged) => taken.push(merged),
                        None => {
                            if is_as_told(clip, &known.state, accepted.is_complete) && !sealed.contains_key(&clip.id) {
                                self.outcome.echoes.push(known.change);
                            }
                            unchanged.extend((!known.shredded).then_some(known.number));
                        }
                    }
                }
            }
        }
        let before = next_changes(&mut self.tx, taken.len()).await?;
        let (numbers, mut is_echo) = self.put_states(before, &taken).await?;
        for (place, (clip, number)) in taken.iter().zip(&numbers).enumerate() {
            is_echo[place] &= said(clip) && !clip.shred;
            if clip.state.alias != clip.alias {
                is_echo[place] &= self.put_alias(clip, *number).await?;
            }
        }
        let echoes = (before + 1..).zip(is_echo).filter(|(_, is_echo)| *is_echo);
        self.outcome.echoes.extend(echoes.map(|(change, _)| change));
        self.put_bodies(&taken, &numbers).await?;
        for (clip, number) in taken.iter().zip(&numbers) {
            if clip.shred {
                self.outcome.purged = true;
                self.outcome.change = Some(shred_one(&mut self.tx, *number, None).await?);
            }
            if clip.copied && self.outcome.latest_copy.is_none_or(|(_, latest)| latest < clip.state.copied) {
                self.outcome.latest_copy = Some((*number, clip.state.copied));
            }
        }
        let here = taken.iter().zip(&numbers).filter(|(clip, _)| !clip.shred).map(|(_, number)| *number);
        unchanged.extend(here);
        self.want(&unchanged).await
    }

    /// What is on record of these clips.
    async fn known(&mut self, told: &[&Clip]) -> Result<HashMap<ClipId, Known>, StoreError> {
        let ids: Vec<String> = told.iter().map(|clip| HEXLOWER.encode(&clip.id.0)).collect();
        let rows = states!(
            "FROM JSON_TABLE(?, '$[*]' COLUMNS (id CHAR(32) PATH '$')) w
             STRAIGHT_JOIN clips c FORCE INDEX (id) ON c.id = UNHEX(w.id)",
            json(&ids)
        )
        .fetch_all(&mut *self.tx)
        .await?;
        let known = rows.into_iter().map(|row| {
            let id = ClipId::from_slice(&row.id).ok_or(StoreError::Damaged(row.no))?;
            let known = Known {
                number: row.no,
                change: row.seq,
                state: row.state(),
                shredded: row.shredded,
                elsewhere: row.elsewhere,
                secret: row.secret != 0,
                swept: Stamp::from_bits(row.swept.unwrap_or(0)),
            };
            Ok((id, known))
        });
        known.collect()
    }

    /// Whether the content that is told may take the place of what is here. Content that is here as a whole is what the
    /// id says. It gives way only to what travelled along and was checked, or to the very same content with other
    /// formats beside it: else a promise of content that never comes, or comes as something else, would destroy it.
    async fn replaces_content(&mut self, told: &Clip, known: &Known) -> Result<bool, StoreError> {
        let Some(body) = &told.body else { return Ok(false) };
        if known.shredded || known.elsewhere {
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
                known.number,
                format.mime,
                &format.hash[..]
            )
            .fetch_one(&mut *self.tx)
            .await?;
            let lies_inline = match &format.data {
                Some(data) => sqlx::query_scalar!(
                    "SELECT EXISTS (SELECT 1 FROM formats WHERE clip_no = ? AND mime = ? AND content = ?) AS `is: bool`",
                    known.number,
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
    async fn accepts(&mut self, told: &Clip, known: &Known) -> Result<Accepted, StoreError> {
        let replaces = self.replaces_content(told, known).await?;
        let is_same_copy = (told.state.copied, told.state.origin) == (known.state.copied, known.state.origin);
        let Some(body) = told.body.as_ref().filter(|_| is_same_copy && replaces && !known.shredded) else {
            return Ok(Accepted { replaces, completes: false, is_complete: false });
        };
        // What a program keeps for itself may follow the rest of a copy.
        let here = sqlx::query_scalar!("SELECT COUNT(*) FROM formats WHERE clip_no = ?", known.number)
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
        let alias = Register::default();
        let state = told.state.clone();
        Some(Taken { told, number: None, state, alias, body, shred: false, copied: live, is_as_told: true })
    }

    /// Puts down everything but aliases and bodies, as the changes that follow the number `before`. Gives the numbers of the
    /// clips, and of which of them the state is on record as it was to be.
    async fn put_states(&mut self, before: u64, taken: &[Taken<'_>]) -> Result<(Vec<u64>, Vec<bool>), StoreError> {
        if taken.is_empty() {
            return Ok((Vec::new(), Vec::new()));
        }
        self.outcome.change = Some(before + taken.len() as u64);
        let mut rows = Vec::with_capacity(taken.len());
        for clip in taken {
            rows.push(self.state_row(clip).await?);
        }
        sqlx::query!(
            "INSERT INTO clips (id, seq, kind, secret, size, shared, shredded, device, copied, restored, deleted, cleared,
                purged, copies, recalls, recalled_at, title, title_stamp, mark, mark_stamp, fills, fills_stamp, pin,
                pin_stamp, drawer, place, drawer_stamp)
             SELECT UNHEX(w.id), ? + w.nth, w.kind, 0, 0, TRUE, w.shredded, w.device, w.copied, w.restored, w.deleted,
                w.cleared, w.purged, w.copies, w.recalls, w.recalled_at, w.title, w.title_stamp, w.mark, w.mark_stamp,
                w.fills, w.fills_stamp, UNHEX(w.pin), w.pin_stamp, w.drawer, UNHEX(w.place), w.drawer_stamp
             FROM JSON_TABLE(?, '$[*]' COLUMNS (nth FOR ORDINALITY, id CHAR(32) PATH '$.id',
                kind TINYINT UNSIGNED PATH '$.kind', shredded BOOLEAN PATH '$.shredded',
                device INT UNSIGNED PATH '$.device', copied BIGINT UNSIGNED PATH '$.copied',
                restored BIGINT UNSIGNED PATH '$.restored', deleted BIGINT UNSIGNED PATH '$.deleted',
                cleared BIGINT UNSIGNED PATH '$.cleared', purged BIGINT UNSIGNED PATH '$.purged',
                copies INT UNSIGNED PATH '$.copies', recalls INT UNSIGNED PATH '$.recalls',
                recalled_at BIGINT UNSIGNED PATH '$.recalled_at', title VARCHAR(1000) PATH '$.title',
                title_stamp BIGINT UNSIGNED PATH '$.title_stamp', mark TINYINT UNSIGNED PATH '$.mark',
                mark_stamp BIGINT UNSIGNED PATH '$.mark_stamp', fills BOOLEAN PATH '$.fills',
                fills_stamp BIGINT UNSIGNED PATH '$.fills_stamp', pin VARCHAR(510) PATH '$.pin',
                pin_stamp BIGINT UNSIGNED PATH '$.pin_stamp', drawer INT UNSIGNED PATH '$.drawer',
                place VARCHAR(510) PATH '$.place', drawer_stamp BIGINT UNSIGNED PATH '$.drawer_stamp')) w
             ON DUPLICATE KEY UPDATE seq = VALUES(seq), shared = TRUE, device = VALUES(device), copied = VALUES(copied),
                restored = VALUES(restored), deleted = VALUES(deleted), cleared = VALUES(cleared),
                purged = VALUES(purged), copies = VALUES(copies), recalls = VALUES(recalls),
                recalled_at = VALUES(recalled_at), title = VALUES(title), title_stamp = VALUES(title_stamp),
                mark = VALUES(mark), mark_stamp = VALUES(mark_stamp), fills = VALUES(fills),
                fills_stamp = VALUES(fills_stamp), pin = VALUES(pin), pin_stamp = VALUES(pin_stamp),
                drawer = VALUES(drawer), place = VALUES(place), drawer_stamp = VALUES(drawer_stamp)",
            before,
            json(&rows)
        )
        .execute(&mut *self.tx)
        .await?;
        let put =
            sqlx::query!("SELECT no, seq FROM clips WHERE seq > ? AND seq <= ?", before, before + taken.len() as u64)
                .fetch_all(&mut *self.tx)
                .await?;
        let mut numbers = vec![0; taken.len()];
        for row in put {
            numbers[(row.seq - before - 1) as usize] = row.no;
        }
        let mut is_as_it_was_to_be = vec![true; taken.len()];
        if rows.iter().any(|row| row.drawer.is_some()) && self.leave_removed_drawers(&numbers).await? {
            let lies = rows.iter().map(|row| row.drawer.is_none());
            is_as_it_was_to_be = lies.collect();
        }
        Ok((numbers, is_as_it_was_to_be))
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

    async fn state_row<'a>(&mut self, taken: &'a Taken<'_>) -> Result<StateRow<'a>, StoreError> {
        let state = &taken.state;
        let device = match self.devices.get(&state.origin) {
            Some(number) => *number,
            None => {
                let number = number_of(&mut self.tx, state.origin).await?;
                *self.devices.entry(state.origin).or_insert(number)
            }
        };
        let drawer = match &state.drawer.value {
            Some(lies) => Some((self.drawer_number(lies.drawer).await?, HEXLOWER.encode(lies.place.as_bytes()))),
            None => None,
        };
        let (drawer, place) = drawer.unzip();
        Ok(StateRow {
            id: HEXLOWER.encode(&taken.told.id.0),
            kind: taken.told.kind.code(),
            shredded: !state.is_live(Stamp::NEVER),
            device,
            copied: state.copied.to_bits(),
            restored: state.restored.to_bits(),
            deleted: state.deleted.to_bits(),
            cleared: set(state.cleared),
            purged: set(state.purged),
            copies: state.copies,
            recalls: state.recalls,
            recalled_at: (state.recalled_at.0 > 0).then_some(state.recalled_at.0),
            title: state.title.value.as_deref(),
            title_stamp: set(state.title.stamp),
            mark: state.mark.value.map(Mark::code),
            mark_stamp: set(state.mark.stamp),
            fills: state.fills.value,
            fills_stamp: set(state.fills.stamp),
            pin: state.pin.value.as_ref().map(|pin| HEXLOWER.encode(pin.as_bytes())),
            pin_stamp: set(state.pin.stamp),
            drawer,
            place,
            drawer_stamp: set(state.drawer.stamp),
        })
    }

    /// Puts down the alias of a clip. It stands for one clip: of two that were given it, the later has it. Tells whether it
    /// is on record as it was to be.
    async fn put_alias(&mut self, clip: &Taken<'_>, number: u64) -> Result<bool, StoreError> {
        // Another clip of this batch may have taken it away since it was read.
        let row =
            sqlx::query!("SELECT alias, alias_stamp FROM clips WHERE no = ?", number).fetch_one(&mut *self.tx).await?;
        let stamp = Stamp::from_bits(row.alias_stamp.unwrap_or(0));
        let present = if stamp > clip.state.purged { Register::new(stamp, row.alias) } else { Register::default() };
        let mut register = clip.state.alias.clone().max(present);
        let other = match &register.value {
            Some(alias) => {
                sqlx::query!("SELECT no, id, alias_stamp FROM clips WHERE alias = ? AND no <> ?", alias, number)
                    .fetch_optional(&mut *self.tx)
                    .await?
            }
            None => None,
        };
        if register.value.is_some() && other.is_none() {
            let aliases = sqlx::query_scalar!("SELECT COUNT(*) FROM clips WHERE alias IS NOT NULL")
                .fetch_one(&mut *self.tx)
                .await?;
            if aliases as u64 >= MOST_ALIASES {
                return Err(StoreError::TooMany("aliases", MOST_ALIASES));
            }
        }
        if let Some(other) = other {
            let stamp = Stamp::from_bits(other.alias_stamp.unwrap_or(0));
            let other_id = ClipId::from_slice(&other.id).ok_or(StoreError::Damaged(other.no))?;
            if loses_alias((register.stamp, clip.told.id), (stamp, other_id)) {
                register = lost_alias(register.stamp, stamp);
            } else {
                let change = self.next_change().await?;
                sqlx::query!(
                    "UPDATE clips SET seq = ?, alias = NULL, alias_stamp = ? WHERE no = ?",
                    change,
                    lost_alias(stamp, register.stamp).stamp.to_bits(),
                    other.no
                )
                .execute(&mut *self.tx)
                .await?;
            }
        }
        sqlx::query!(
            "UPDATE clips SET alias = ?, alias_stamp = ? WHERE no = ?",
            register.value,
            set(register.stamp),
            number
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(register == clip.state.alias)
    }

    /// Puts down what clips consist of, in the place of what they consisted of before.
    async fn put_bodies(&mut self, taken: &[Taken<'_>], numbers: &[u64]) -> Result<(), StoreError> {
        let with_body = || {
            let numbered = taken.iter().zip(numbers);
            numbered.filter_map(|(clip, number)| clip.body.map(|body| (clip, *number, body)))
        };
        let bodies: Vec<BodyRow<'_>> = with_body().map(|(_, number, body)| body_row(number, body)).collect();
        if bodies.is_empty() {
            return Ok(());
        }
        let before: Vec<u64> = with_body().filter_map(|(clip, _, _)| clip.number).collect();
        let blobs = self.take_formats_away(&before).await?;
        sqlx::query!(
            "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (clip BIGINT UNSIGNED PATH '$.clip', size BIGINT UNSIGNED PATH '$.size',
                width INT UNSIGNED PATH '$.width', height INT UNSIGNED PATH '$.height',
                text_lines BIGINT UNSIGNED PATH '$.lines', text_chars BIGINT UNSIGNED PATH '$.chars',
                text MEDIUMTEXT PATH '$.text', caption VARCHAR(1000) PATH '$.caption',
                application VARCHAR(255) PATH '$.application', window_title VARCHAR(1000) PATH '$.window',
                page TEXT PATH '$.page', selected BOOLEAN PATH '$.selected')) w
             STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.clip
             SET c.shredded = FALSE, c.size = w.size, c.width = w.width, c.height = w.height,
                c.text_lines = w.text_lines, c.text_chars = w.text_chars, c.text = w.text, c.caption = w.caption,
                c.application = w.application, c.window_title = w.window_title, c.page = w.page,
                c.selected = w.selected",
            json(&bodies)
        )
        .execute(&mut *self.tx)
        .await?;
        let mut formats = Vec::new();
        for ((_, number, body), row) in with_body().zip(&bodies) {
            for (place, format) in (0u8..).zip(&body.formats) {
                let is_text = format.mime == PLAIN
                    && format
                        .data
                        .as_ref()
                        .is_some_and(|data| row.text.is_some_and(|text| text.as_bytes() == &data[..]));
                let blob = match &format.data {
                    Some(_) if is_text => None,
                    Some(data) if data.len() <= INLINE_BYTES => None,
                    Some(data) => Some(write_blob(&mut self.tx, data).await?),
                    None => Some(expect_blob(&mut self.tx, &format.hash, format.size).await?),
                };
                let content = format.data.as_deref().filter(|_| blob.is_none() && !is_text);
                formats.push(FormatRow {
                    clip: number,
                    place,
                    mime: &format.mime,
                    size: format.size,
                    content: content.map(|content| HEXLOWER.encode(content)),
                    blob,
                });
            }
        }
        sqlx::query!(
            "INSERT INTO formats (clip_no, place, mime, size, content, blob_no)
             SELECT w.clip, w.place, w.mime, w.size, UNHEX(w.content), w.blob_no
             FROM JSON_TABLE(?, '$[*]' COLUMNS (clip BIGINT UNSIGNED PATH '$.clip', place TINYINT UNSIGNED PATH '$.place',
                mime VARCHAR(500) PATH '$.mime', size BIGINT UNSIGNED PATH '$.size',
                content MEDIUMTEXT PATH '$.content', blob_no BIGINT UNSIGNED PATH '$.blob')) w",
            json(&formats)
        )
        .execute(&mut *self.tx)
        .await?;
        for blob in blobs {
            free_blob(&mut self.tx, blob).await?;
        }
        self.note_elsewhere(&with_body().map(|(_, number, _)| number).collect::<Vec<_>>()).await?;
        // Content that did not travel along may be here already, under its hash.
        let promised = with_body().filter(|(_, _, body)| body.formats.iter().any(|format| format.data.is_none()));
        for number in promised.map(|(_, number, _)| number).collect::<Vec<_>>() {
            let is_whole =
                sqlx::query_scalar!("SELECT elsewhere = FALSE AS `is: bool` FROM clips WHERE no = ?", number)
                    .fetch_one(&mut *self.tx)
                    .await?;
            if is_whole && !is_what_it_says(&mut self.tx, number).await? {
                return Err(StoreError::AnotherClip);
            }
        }
        Ok(())
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

    /// Notes which of these clips have content that is on another device only, and which pictures are here as a whole.
    async fn note_elsewhere(&mut self, clips: &[u64]) -> Result<(), StoreError> {
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
fn merged<'a>(told: &'a Clip, known: &Known, accepted: Accepted) -> Option<Taken<'a>> {
    let state = known.state.clone().merge(told.state.clone());
    let later = known.state.is_copied_before(&told.state);
    // What this device let go of comes back with its content when it was copied or kept again. What comes back from
    // the bin may be a later copy, of which only the end was told.
    let latest = (told.state.copied, told.state.origin) == (state.copied, state.origin);
    let is_back = state.is_live(known.swept) && !known.state.is_live(known.swept) && latest;
    let is_needed = known.shredded && state.is_live(known.swept);
    let body = told
        .body
        .as_ref()
        .filter(|_| (later || is_back || is_needed || accepted.completes) && accepted.replaces && !state.is_purged());
    if state == known.state && body.is_none() {
        return None;
    }
    Some(Taken {
        told,
        number: Some(known.number),
        alias: known.state.alias.clone(),
        body,
        shred: state.is_purged() && !known.shredded,
        copied: later && state.is_live(known.swept),
        is_as_told: is_as_told(told, &state, body.is_some() || accepted.is_complete),
        state,
    })
}

/// Whether a clip in this state is just what was told, so that whoever told it need not be told. Who told of one that is
/// live without all of its content may lack it.
fn is_as_told(told: &Clip, state: &State, is_whole: bool) -> bool {
    *state == told.state && (is_whole || !state.is_live(Stamp::NEVER))
}

fn body_row(clip: u64, body: &Body) -> BodyRow<'_> {
    let plain = body.formats.iter().find(|format| format.mime == PLAIN).and_then(|format| format.data.as_ref());
    let along = plain.and_then(|plain| std::str::from_utf8(plain).ok()).filter(|text| text.len() <= SEARCHED_BYTES);
    let (width, height) = body.pixels.unzip();
    let (lines, chars) = body.extent.unzip();
    BodyRow {
        clip,
        size: body.size,
        width,
        height,
        lines,
        chars,
        text: body.text.as_deref().or(along).map(|text| &text[..text.floor_char_boundary(SEARCHED_BYTES)]),
        caption: body.caption.as_deref(),
        application: body.source.application.as_deref(),
        window: body.source.window.as_deref(),
        page: body.source.page.as_deref(),
        selected: body.source.selected,
    }
}
