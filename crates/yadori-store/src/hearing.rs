//! What other devices tell, taken in: states are merged, content that is not here yet is noted as wanted.

use crate::changes::shred_one;
use crate::content::{CHUNK_BYTES, free_blob, write_blob};
use crate::devices::{hear_of, number_of};
use crate::filing::{INLINE_BYTES, SEARCHED_BYTES};
use crate::store::{Store, StoreError, next_change};
use crate::telling::states;
use bytes::Bytes;
use sqlx::{MySql, Transaction};
use yadori_core::format::PLAIN;
use yadori_core::merge::{State, loses_alias, lost_alias};
use yadori_core::shared::{Body, Clip, Drawer, Hash, Heading, Item};
use yadori_core::sharing::Policy;
use yadori_core::{ClipId, DeviceId, Kind, Mark, MillisSinceEpoch, Order, Stamp};

/// What came of taking in a batch.
#[derive(Clone, Debug, Default)]
pub struct Heard {
    /// The number of the latest change, if there was one.
    pub change: Option<u64>,
    /// Contents to be fetched, and how much of each is here.
    pub wants: Vec<(Hash, u64)>,
    /// The clip of the latest copy among them that is now in the history: its number, and when it was copied.
    pub latest_copy: Option<(u64, Stamp)>,
    /// Pictures that are here as a whole and have no small picture yet.
    pub pictures: Vec<u64>,
    /// Something is known of a device that was not.
    pub devices: bool,
    /// Something was forgotten for good.
    pub purged: bool,
    /// The latest stamp in it: this device's clock goes on after it.
    pub latest: Stamp,
}

/// What came of a piece of content.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Piece {
    /// There is more to come: how much is here.
    More(u64),
    /// It is here as a whole: the number of the latest change, and the pictures that have no small picture yet.
    Whole {
        /// The change.
        change: Option<u64>,
        /// The numbers of the pictures.
        pictures: Vec<u64>,
    },
    /// It is not what its hash says; nothing of it was kept.
    Lie,
    /// Nobody here wants it any more.
    Unwanted,
}

impl Store {
    /// Takes in a batch that the device `from` told, in one transaction with the cursor in its feed.
    ///
    /// # Errors
    /// When the database fails; nothing is taken in then.
    pub async fn hear(
        &self,
        from: DeviceId,
        cursor: Option<([u8; 8], u64)>,
        items: &[Item],
        policy: &Policy,
        at: MillisSinceEpoch,
    ) -> Result<Heard, StoreError> {
        let mut hearing =
            Hearing { tx: self.pool.begin().await?, policy, heard: Heard::default(), by_hand: cursor.is_none() };
        for item in items {
            hearing.item(item).await?;
        }
        let Hearing { mut tx, heard, .. } = hearing;
        if let Some((feed, upto)) = cursor {
            sqlx::query!(
                "UPDATE devices SET cursor_feed = ?, cursor_upto = ?, seen_at = ? WHERE id = ?",
                &feed[..],
                upto,
                at.0,
                &from.0[..]
            )
            .execute(&mut *tx)
            .await?;
        }
        tx.commit().await?;
        Ok(heard)
    }

    /// Contents that are not here as a whole and belong to clips that are to be fetched by themselves.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn wanted(&self, fetch_above: u64) -> Result<Vec<(Hash, u64)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT DISTINCT b.hash, b.have FROM clips c JOIN formats f ON f.clip_no = c.no JOIN blobs b ON b.no = f.blob_no
             WHERE c.elsewhere = TRUE AND b.have < b.size AND c.size <= ?",
            fetch_above
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().filter_map(|row| Some((row.hash.try_into().ok()?, row.have))).collect())
    }

    /// Contents of a clip that are not here as a whole, how much of each is here, and how large it is.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn missing(&self, clip: u64) -> Result<Vec<(Hash, u64, u64)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT DISTINCT b.hash, b.have, b.size FROM formats f JOIN blobs b ON b.no = f.blob_no
             WHERE f.clip_no = ? AND b.have < b.size",
            clip
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().filter_map(|row| Some((row.hash.try_into().ok()?, row.have, row.size))).collect())
    }

    /// Takes in a piece of content that begins at byte `at`. When it is whole, it is checked against its hash.
    ///
    /// # Errors
    /// When the database fails, or has no room; nothing of the piece is kept then.
    pub async fn hear_content(&self, hash: &Hash, at: u64, data: &[u8]) -> Result<Piece, StoreError> {
        let mut tx = self.pool.begin().await?;
        let known = sqlx::query!("SELECT no, size, have FROM blobs WHERE hash = ? FOR UPDATE", &hash[..])
            .fetch_optional(&mut *tx)
            .await?;
        let Some(blob) = known else { return Ok(Piece::Unwanted) };
        if blob.have == blob.size {
            return Ok(Piece::Whole { change: None, pictures: Vec::new() });
        }
        if blob.have != at {
            return Ok(Piece::More(blob.have));
        }
        if data.is_empty() || at + data.len() as u64 > blob.size {
            return Ok(Piece::Lie);
        }
        let mut offset = at;
        let mut rest = data;
        while !rest.is_empty() {
            let (place, within) = ((offset / CHUNK_BYTES as u64) as u32, offset as usize % CHUNK_BYTES);
            let (piece, after) = rest.split_at(rest.len().min(CHUNK_BYTES - within));
            sqlx::query!(
                "INSERT INTO blob_chunks (blob_no, place, content) VALUES (?, ?, ?)
                 ON DUPLICATE KEY UPDATE content = CONCAT(content, VALUES(content))",
                blob.no,
                place,
                piece
            )
            .execute(&mut *tx)
            .await?;
            offset += piece.len() as u64;
            rest = after;
        }
        sqlx::query!("UPDATE blobs SET have = ? WHERE no = ?", offset, blob.no).execute(&mut *tx).await?;
        if offset < blob.size {
            tx.commit().await?;
            return Ok(Piece::More(offset));
        }
        if hash_of(&mut tx, blob.no).await? != *hash {
            sqlx::query!("DELETE FROM blob_chunks WHERE blob_no = ?", blob.no).execute(&mut *tx).await?;
            sqlx::query!("UPDATE blobs SET have = 0 WHERE no = ?", blob.no).execute(&mut *tx).await?;
            tx.commit().await?;
            return Ok(Piece::Lie);
        }
        let whole = sqlx::query!(
            "SELECT c.no, c.kind FROM clips c WHERE c.elsewhere = TRUE
             AND EXISTS (SELECT 1 FROM formats f WHERE f.clip_no = c.no AND f.blob_no = ?)
             AND NOT EXISTS (SELECT 1 FROM formats f JOIN blobs b ON b.no = f.blob_no WHERE f.clip_no = c.no AND b.have < b.size)",
            blob.no
        )
        .fetch_all(&mut *tx)
        .await?;
        let (mut change, mut pictures) = (None, Vec::new());
        for clip in whole {
            let number = next_change(&mut tx).await?;
            sqlx::query!("UPDATE clips SET elsewhere = FALSE, seq = ? WHERE no = ?", number, clip.no)
                .execute(&mut *tx)
                .await?;
            change = Some(number);
            if Kind::from_code(clip.kind) == Some(Kind::Image) {
                pictures.push(clip.no);
            }
        }
        tx.commit().await?;
        Ok(Piece::Whole { change, pictures })
    }
}

/// The hash of what a blob holds, piece by piece.
async fn hash_of(tx: &mut Transaction<'static, MySql>, blob: u64) -> Result<Hash, sqlx::Error> {
    let mut hasher = blake3::Hasher::new();
    for place in 0u32.. {
        let chunk = sqlx::query_scalar!("SELECT content FROM blob_chunks WHERE blob_no = ? AND place = ?", blob, place)
            .fetch_optional(&mut **tx)
            .await?;
        let Some(chunk) = chunk else { break };
        hasher.update(&Bytes::from(chunk));
    }
    Ok(*hasher.finalize().as_bytes())
}

struct Hearing<'a> {
    tx: Transaction<'static, MySql>,
    policy: &'a Policy,
    heard: Heard,
    /// It was handed over by hand, so that it is taken in whatever the policy says.
    by_hand: bool,
}

impl Hearing<'_> {
    async fn next_change(&mut self) -> Result<u64, sqlx::Error> {
        let change = next_change(&mut self.tx).await?;
        self.heard.change = Some(change);
        Ok(change)
    }

    async fn item(&mut self, item: &Item) -> Result<(), StoreError> {
        let stamp = match item {
            Item::Clip(clip) => {
                self.clip(clip).await?;
                clip.state.latest()
            }
            Item::Drawer(drawer) => {
                self.drawer(drawer).await?;
                drawer.changed
            }
            Item::Heading(heading) => {
                self.heading(heading).await?;
                heading.changed
            }
            Item::Device(device) => {
                if let Some(change) = hear_of(&mut self.tx, device).await? {
                    self.heard.change = Some(change);
                    self.heard.devices = true;
                }
                device.latest()
            }
        };
        self.heard.latest = self.heard.latest.max(stamp);
        Ok(())
    }

    async fn clip(&mut self, told: &Clip) -> Result<(), StoreError> {
        let id = &told.id.0[..];
        let row = states!("FROM clips c WHERE c.id = ? FOR UPDATE", id).fetch_optional(&mut *self.tx).await?;
        let Some(row) = row else { return self.unknown(told).await };
        if row.secret != 0 {
            // It looks like a secret here: what others do with it is theirs, and what is done here stays here.
            return Ok(());
        }
        let before = row.state();
        let mut merged = before.clone().merge(told.state.clone());
        self.settle_alias(told.id, row.no, &mut merged).await?;
        let swept = Stamp::from_bits(row.swept.unwrap_or(0));
        let later = before.is_copied_before(&told.state);
        // What this device let go of comes back with its content when it was copied or kept again.
        let back = row.shredded && merged.is_live(swept);
        let body = told.body.as_ref().filter(|_| (later || back) && !merged.is_purged());
        if merged == before && body.is_none() {
            if !row.shredded {
                self.want(row.no).await?;
            }
            return Ok(());
        }
        let change = self.next_change().await?;
        self.put_state(row.no, change, &merged).await?;
        if let Some(body) = body {
            self.put_body(row.no, told.kind, body).await?;
        }
        if merged.is_purged() && !row.shredded {
            self.heard.purged = true;
            self.heard.change = Some(shred_one(&mut self.tx, row.no, None).await?);
        } else {
            self.want(row.no).await?;
        }
        if later && merged.is_live(swept) {
            self.note_copy(row.no, merged.copied);
        }
        Ok(())
    }

    /// A clip that was never here.
    async fn unknown(&mut self, told: &Clip) -> Result<(), StoreError> {
        let mut state = told.state.clone();
        let live = state.is_live(Stamp::NEVER);
        let kept = state.life(Stamp::NEVER).is_kept();
        if live && (told.body.is_none() || !(self.by_hand || self.policy.lets_in(kept))) {
            return Ok(());
        }
        let change = self.next_change().await?;
        let origin = number_of(&mut self.tx, state.origin).await?;
        let done = sqlx::query!(
            "INSERT INTO clips (id, seq, kind, secret, device, copied, copies, size, shared, shredded)
             VALUES (?, ?, ?, 0, ?, ?, ?, 0, TRUE, ?)",
            &told.id.0[..],
            change,
            told.kind.code(),
            origin,
            state.copied.to_bits(),
            state.copies,
            !live
        )
        .execute(&mut *self.tx)
        .await?;
        let number = done.last_insert_id();
        self.settle_alias(told.id, number, &mut state).await?;
        self.put_state(number, change, &state).await?;
        if let Some(body) = told.body.as_ref().filter(|_| live) {
            self.put_body(number, told.kind, body).await?;
            self.want(number).await?;
            self.note_copy(number, state.copied);
        }
        Ok(())
    }

    fn note_copy(&mut self, number: u64, copied: Stamp) {
        if self.heard.latest_copy.is_none_or(|(_, latest)| latest < copied) {
            self.heard.latest_copy = Some((number, copied));
        }
    }

    /// An alias stands for one clip: of two that were given it, the later has it.
    async fn settle_alias(&mut self, id: ClipId, number: u64, state: &mut State) -> Result<(), StoreError> {
        let Some(alias) = &state.alias.value else { return Ok(()) };
        let other =
            sqlx::query!("SELECT no, id, alias_stamp FROM clips WHERE alias = ? AND no <> ? FOR UPDATE", alias, number)
                .fetch_optional(&mut *self.tx)
                .await?;
        let Some(other) = other else { return Ok(()) };
        let stamp = Stamp::from_bits(other.alias_stamp.unwrap_or(0));
        let other_id = ClipId::from_slice(&other.id).ok_or(StoreError::Damaged(other.no))?;
        if loses_alias((state.alias.stamp, id), (stamp, other_id)) {
            state.alias = lost_alias(state.alias.stamp, stamp);
        } else {
            let change = self.next_change().await?;
            sqlx::query!(
                "UPDATE clips SET seq = ?, alias = NULL, alias_stamp = ? WHERE no = ?",
                change,
                lost_alias(stamp, state.alias.stamp).stamp.to_bits(),
                other.no
            )
            .execute(&mut *self.tx)
            .await?;
        }
        Ok(())
    }

    async fn put_state(&mut self, number: u64, change: u64, state: &State) -> Result<(), StoreError> {
        let drawer = match &state.drawer.value {
            Some(lies) => Some((self.drawer_number(lies.drawer).await?, lies.place.as_bytes())),
            None => None,
        };
        let (drawer, place) = drawer.unzip();
        let origin = number_of(&mut self.tx, state.origin).await?;
        let set = |stamp: Stamp| (stamp != Stamp::NEVER).then(|| stamp.to_bits());
        sqlx::query!(
            "UPDATE clips SET seq = ?, shared = TRUE, device = ?, copied = ?, restored = ?, deleted = ?, cleared = ?,
                purged = ?, copies = ?, recalls = ?, recalled_at = ?, title = ?, title_stamp = ?, mark = ?,
                mark_stamp = ?, alias = ?, alias_stamp = ?, fills = ?, fills_stamp = ?, pin = ?, pin_stamp = ?,
                drawer = ?, place = ?, drawer_stamp = ? WHERE no = ?",
            change,
            origin,
            state.copied.to_bits(),
            state.restored.to_bits(),
            state.deleted.to_bits(),
            set(state.cleared),
            set(state.purged),
            state.copies,
            state.recalls,
            (state.recalled_at.0 > 0).then_some(state.recalled_at.0),
            state.title.value,
            set(state.title.stamp),
            state.mark.value.map(Mark::code),
            set(state.mark.stamp),
            state.alias.value,
            set(state.alias.stamp),
            state.fills.value,
            set(state.fills.stamp),
            state.pin.value.as_ref().map(Order::as_bytes),
            set(state.pin.stamp),
            drawer,
            place,
            set(state.drawer.stamp),
            number
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }

    /// Puts down what a clip consists of, in the place of what it consisted of before.
    async fn put_body(&mut self, number: u64, kind: Kind, body: &Body) -> Result<(), StoreError> {
        let before = sqlx::query_scalar!(
            "SELECT blob_no AS `blob_no!` FROM formats WHERE clip_no = ? AND blob_no IS NOT NULL",
            number
        )
        .fetch_all(&mut *self.tx)
        .await?;
        sqlx::query!("DELETE FROM formats WHERE clip_no = ?", number).execute(&mut *self.tx).await?;
        let plain = body.formats.iter().find(|format| format.mime == PLAIN).and_then(|format| format.data.as_ref());
        let along = plain.and_then(|plain| std::str::from_utf8(plain).ok()).filter(|text| text.len() <= SEARCHED_BYTES);
        let text = body.text.as_deref().or(along).map(|text| &text[..text.floor_char_boundary(SEARCHED_BYTES)]);
        let (width, height) = body.pixels.unzip();
        let (lines, chars) = body.extent.unzip();
        sqlx::query!(
            "UPDATE clips SET shredded = FALSE, size = ?, width = ?, height = ?, text_lines = ?, text_chars = ?, text = ?,
                caption = ?, application = ?, window_title = ?, page = ?, selected = ? WHERE no = ?",
            body.size,
            width,
            height,
            lines,
            chars,
            text,
            body.caption,
            body.source.application,
            body.source.window,
            body.source.page,
            body.source.selected,
            number
        )
        .execute(&mut *self.tx)
        .await?;
        for (place, format) in (0u8..).zip(&body.formats) {
            let is_text = format.mime == PLAIN
                && format.data.as_ref().is_some_and(|data| text.is_some_and(|text| text.as_bytes() == &data[..]));
            let blob = match &format.data {
                Some(_) if is_text => None,
                Some(data) if data.len() <= INLINE_BYTES => None,
                Some(data) => Some(write_blob(&mut self.tx, data).await?),
                None => Some(self.expect_blob(&format.hash, format.size).await?),
            };
            let content = format.data.as_deref().filter(|_| blob.is_none() && !is_text);
            sqlx::query!(
                "INSERT INTO formats (clip_no, place, mime, size, content, blob_no) VALUES (?, ?, ?, ?, ?, ?)",
                number,
                place,
                format.mime,
                format.size,
                content,
                blob
            )
            .execute(&mut *self.tx)
            .await?;
        }
        for blob in before {
            free_blob(&mut self.tx, blob).await?;
        }
        let missing = self.missing(number).await?;
        sqlx::query!("UPDATE clips SET elsewhere = ? WHERE no = ?", !missing.is_empty(), number)
            .execute(&mut *self.tx)
            .await?;
        if missing.is_empty() && kind == Kind::Image {
            self.heard.pictures.push(number);
        }
        Ok(())
    }

    /// The blob with this hash, empty if it was not here.
    async fn expect_blob(&mut self, hash: &Hash, size: u64) -> Result<u64, StoreError> {
        let done = sqlx::query!(
            "INSERT INTO blobs (hash, size, have) VALUES (?, ?, 0) ON DUPLICATE KEY UPDATE no = LAST_INSERT_ID(no)",
            &hash[..],
            size
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(done.last_insert_id())
    }

    async fn missing(&mut self, number: u64) -> Result<Vec<(Hash, u64)>, StoreError> {
        let rows = sqlx::query!(
            "SELECT DISTINCT b.hash, b.have FROM formats f JOIN blobs b ON b.no = f.blob_no
             WHERE f.clip_no = ? AND b.have < b.size",
            number
        )
        .fetch_all(&mut *self.tx)
        .await?;
        Ok(rows.into_iter().filter_map(|row| Some((row.hash.try_into().ok()?, row.have))).collect())
    }

    /// Wants what a clip is missing, unless it is so large that it is fetched when somebody wants it.
    async fn want(&mut self, number: u64) -> Result<(), StoreError> {
        let small = sqlx::query_scalar!(
            "SELECT no FROM clips WHERE no = ? AND elsewhere = TRUE AND size <= ? AND gone IS NULL",
            number,
            self.policy.fetch_above
        )
        .fetch_optional(&mut *self.tx)
        .await?;
        if small.is_some() {
            let missing = self.missing(number).await?;
            self.heard.wants.extend(missing);
        }
        Ok(())
    }

    /// The number of the drawer with this id; it is put on record if it has not been heard of yet.
    async fn drawer_number(&mut self, id: [u8; 16]) -> Result<u32, StoreError> {
        let place = Order::between(None, None);
        let done = sqlx::query!(
            "INSERT INTO drawers (id, name, place, changed) VALUES (?, '', ?, 0)
             ON DUPLICATE KEY UPDATE no = LAST_INSERT_ID(no)",
            &id[..],
            place.as_bytes()
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(done.last_insert_id() as u32)
    }

    async fn drawer(&mut self, told: &Drawer) -> Result<(), StoreError> {
        let number = self.drawer_number(told.id).await?;
        let row = sqlx::query!(
            r#"SELECT name, place, changed, removed AS "removed: bool" FROM drawers WHERE no = ?"#,
            number
        )
        .fetch_one(&mut *self.tx)
        .await?;
        let known = Drawer {
            id: told.id,
            name: row.name,
            place: Order::from_slice(&row.place).ok_or(StoreError::Damaged(number.into()))?,
            changed: Stamp::from_bits(row.changed),
            removed: row.removed,
        };
        if !told.is_after(&known) {
            return Ok(());
        }
        let change = self.next_change().await?;
        sqlx::query!(
            "UPDATE drawers SET name = ?, place = ?, changed = ?, removed = ?, seq = ? WHERE no = ?",
            told.name,
            told.place.as_bytes(),
            told.changed.to_bits(),
            told.removed,
            change,
            number
        )
        .execute(&mut *self.tx)
        .await?;
        // Its clips are found by its name.
        let clips =
            sqlx::query_scalar!("SELECT no FROM clips WHERE drawer = ?", number).fetch_all(&mut *self.tx).await?;
        for clip in &clips {
            let change = self.next_change().await?;
            if told.removed {
                // What lay in it goes back into the history, unless it was put there after the drawer was removed.
                sqlx::query!(
                    "UPDATE clips SET drawer_stamp = IF(drawer_stamp <= ?, ?, drawer_stamp), place = IF(drawer_stamp <= ?, NULL, place),
                     drawer = IF(drawer_stamp <= ?, NULL, drawer), seq = ? WHERE no = ?",
                    told.changed.to_bits(),
                    told.changed.to_bits(),
                    told.changed.to_bits(),
                    told.changed.to_bits(),
                    change,
                    clip
                )
                .execute(&mut *self.tx)
                .await?;
            } else {
                sqlx::query!("UPDATE clips SET seq = ? WHERE no = ?", change, clip).execute(&mut *self.tx).await?;
            }
        }
        Ok(())
    }

    async fn heading(&mut self, told: &Heading) -> Result<(), StoreError> {
        let drawer = self.drawer_number(told.drawer).await?;
        let row = sqlx::query!(
            r#"SELECT place, words, changed, removed AS "removed: bool" FROM headings WHERE id = ?"#,
            &told.id[..]
        )
        .fetch_optional(&mut *self.tx)
        .await?;
        if let Some(row) = row {
            let known = Heading {
                id: told.id,
                drawer: told.drawer,
                place: Order::from_slice(&row.place).ok_or(StoreError::Damaged(drawer.into()))?,
                words: row.words,
                changed: Stamp::from_bits(row.changed),
                removed: row.removed,
            };
            if !told.is_after(&known) {
                return Ok(());
            }
        }
        let change = self.next_change().await?;
        sqlx::query!(
            "INSERT INTO headings (id, drawer, place, words, changed, removed, seq) VALUES (?, ?, ?, ?, ?, ?, ?)
             ON DUPLICATE KEY UPDATE drawer = VALUES(drawer), place = VALUES(place), words = VALUES(words),
             changed = VALUES(changed), removed = VALUES(removed), seq = VALUES(seq)",
            &told.id[..],
            drawer,
            told.place.as_bytes(),
            told.words,
            told.changed.to_bits(),
            told.removed,
            change
        )
        .execute(&mut *self.tx)
        .await?;
        Ok(())
    }
}
