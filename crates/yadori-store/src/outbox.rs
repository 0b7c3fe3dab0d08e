//! What other devices are told: the change feed as items, and content by its hash.

use crate::content::{CHUNK_BYTES, FormatOfClip};
use crate::registers::{StateRow, select_states};
use crate::store::{Store, StoreError, numbers_as_json};
use bytes::Bytes;
use std::collections::BTreeMap;
use yadori_core::format::PLAIN;
use yadori_core::shared::{Body, BodyFormat, Clip, Drawer, Hash, Heading, Item};
use yadori_core::sharing::{Candidate, Policy};
use yadori_core::{Rank, Source, Stamp};

/// Clips read from the feed for one batch.
const BATCH: u32 = 200;

/// One batch of the feed.
#[derive(Clone, Debug)]
pub struct OutgoingBatch {
    /// Everything up to this number is in it.
    pub upto: u64,
    /// What has changed.
    pub items: Vec<Item>,
    /// The numbers of the clips that are shared from now on.
    pub newly_shared: Vec<u64>,
}

impl Store {
    /// Which feed this is: another one after the records were set up anew.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn feed(&self) -> Result<[u8; 8], StoreError> {
        let id =
            sqlx::query_scalar!(r#"SELECT id AS "id!" FROM feed WHERE one = 1"#).fetch_one(&self.connections).await?;
        id.try_into().map_err(|_| StoreError::NoFeed)
    }

    /// What has changed after change number `after`, up to `until` at most, one batch of about `most` bytes, as far as the
    /// policy lets it out. What the others are told of for the first time is noted before, so that they are also told when
    /// it goes.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn outgoing_since(
        &self,
        after: u64,
        until: u64,
        most: usize,
        policy: &Policy,
    ) -> Result<OutgoingBatch, StoreError> {
        if let Some(fresh) = self.cache.outgoing_since(after, until, most) {
            return Ok(fresh);
        }
        let latest = self.latest_change().min(until);
        let rows: Vec<StateRow> = sqlx::query_as(select_states(
            "FROM clips c FORCE INDEX (seq) WHERE c.seq > ? AND c.seq <= ? ORDER BY c.seq LIMIT ?",
        ))
        .bind(after)
        .bind(latest)
        .bind(BATCH)
        .fetch_all(&self.connections)
        .await?;
        let mut upto = if rows.len() < BATCH as usize { latest } else { rows.last().map_or(latest, |row| row.seq) };
        let numbers: Vec<u64> = rows.iter().filter(|row| !row.tombstone).map(|row| row.no).collect();
        let mut bodies = self.bodies(&numbers).await?;
        let (mut clips, mut newly_shared, mut bytes) = (Vec::new(), Vec::new(), 0);
        for row in rows {
            let body = bodies.remove(&row.no);
            bytes += body.as_ref().map_or(0, weight) + 200;
            let seq = row.seq;
            if let Some((clip, newly)) = let_out(&row, body, policy)? {
                newly_shared.extend(newly.then_some(row.no));
                clips.push(clip);
            }
            if bytes >= most {
                // The rest is for the next batch.
                upto = seq;
                break;
            }
        }
        if !newly_shared.is_empty() {
            let mut tx = self.begin_writing().await?;
            sqlx::query!(
                "UPDATE JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
                 STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no SET c.shared = TRUE",
                numbers_as_json(&newly_shared)
            )
            .execute(&mut *tx)
            .await?;
            tx.commit().await?;
        }
        let mut items = self.devices_told(after, upto).await?;
        items.extend(self.drawers_told(after, upto).await?);
        items.extend(clips.into_iter().map(|clip| Item::Clip(Box::new(clip))));
        Ok(OutgoingBatch { upto, items, newly_shared })
    }

    /// A clip as it is handed over by hand, whatever the policy says; nothing if it is sensitive or gone.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn outgoing_clip(&self, number: u64) -> Result<Option<Clip>, StoreError> {
        let row: Option<StateRow> = sqlx::query_as(select_states("FROM clips c WHERE c.no = ?"))
            .bind(number)
            .fetch_optional(&self.connections)
            .await?;
        let Some(row) = row else { return Ok(None) };
        let body = self.bodies(&[number]).await?.remove(&number);
        if row.secret != 0 || row.tombstone || row.private {
            return Ok(None);
        }
        Ok(Some(clip_of(&row, body)?))
    }

    async fn bodies(&self, numbers: &[u64]) -> Result<BTreeMap<u64, Body>, StoreError> {
        let mut bodies = BTreeMap::new();
        if numbers.is_empty() {
            return Ok(bodies);
        }
        let rows = sqlx::query!(
            r#"SELECT c.no, c.size, c.width, c.height, c.text_lines, c.text_chars, c.text, c.caption, c.application,
               c.window_title, c.page, c.selected AS "selected: bool", c.plain AS "plain: bool"
               FROM JSON_TABLE(?, '$[*]' COLUMNS (no BIGINT UNSIGNED PATH '$')) w
               STRAIGHT_JOIN clips c FORCE INDEX (PRIMARY) ON c.no = w.no"#,
            numbers_as_json(numbers)
        )
        .fetch_all(&self.connections)
        .await?;
        let (mut plain, mut rest) = (Vec::new(), Vec::new());
        for row in rows {
            match row.text.as_deref().filter(|_| row.plain) {
                Some(text) => plain.push(FormatOfClip::plain(row.no, text)),
                None => rest.push(row.no),
            }
            let source = Source {
                application: row.application,
                window: row.window_title,
                page: row.page,
                selected: row.selected,
            };
            let body = Body {
                size: row.size,
                pixels: row.width.zip(row.height),
                extent: row.text_lines.zip(row.text_chars),
                text: row.text,
                caption: row.caption,
                source,
                formats: Vec::new(),
            };
            bodies.insert(row.no, body);
        }
        for stored in self.formats_beside(plain, &rest).await? {
            let Some(body) = bodies.get_mut(&stored.clip) else { continue };
            let data = stored.format.here().cloned();
            let hash = match (&stored.hash, &data) {
                (Some(hash), _) => *hash,
                (None, Some(data)) => *blake3::hash(data).as_bytes(),
                (None, None) => continue,
            };
            body.formats.push(BodyFormat { mime: stored.format.mime, size: stored.format.size, hash, data });
        }
        bodies.values_mut().for_each(tell_words_once);
        bodies.retain(|_, body| !body.formats.is_empty());
        Ok(bodies)
    }

    async fn drawers_told(&self, after: u64, upto: u64) -> Result<Vec<Item>, StoreError> {
        let drawers = sqlx::query!(
            r#"SELECT no, id, name, place, changed, removed AS "removed: bool" FROM drawers
               WHERE seq > ? AND seq <= ? AND changed > 0 AND no NOT IN (SELECT drawer FROM private_drawers)"#,
            after,
            upto
        )
        .fetch_all(&self.connections)
        .await?;
        let headings = sqlx::query!(
            r#"SELECT h.no, h.id, d.id AS drawer, h.place, h.words, h.changed, h.removed AS "removed: bool"
               FROM headings h JOIN drawers d ON d.no = h.drawer
               WHERE h.seq > ? AND h.seq <= ? AND d.no NOT IN (SELECT drawer FROM private_drawers)"#,
            after,
            upto
        )
        .fetch_all(&self.connections)
        .await?;
        let damaged = |no: u32| StoreError::Damaged(no.into());
        let id = |no: u32, bytes: Vec<u8>| <[u8; 16]>::try_from(bytes).map_err(|_| damaged(no));
        let mut items = Vec::with_capacity(drawers.len() + headings.len());
        for row in drawers {
            items.push(Item::Drawer(Drawer {
                id: id(row.no, row.id)?,
                name: row.name,
                place: Rank::from_slice(&row.place).ok_or_else(|| damaged(row.no))?,
                changed: Stamp::from_bits(row.changed),
                removed: row.removed,
            }));
        }
        for row in headings {
            items.push(Item::Heading(Heading {
                id: id(row.no, row.id)?,
                drawer: id(row.no, row.drawer)?,
                place: Rank::from_slice(&row.place).ok_or_else(|| damaged(row.no))?,
                words: row.words,
                changed: Stamp::from_bits(row.changed),
                removed: row.removed,
            }));
        }
        Ok(items)
    }

    /// Bytes of the content with this hash, from `from` on and at most to the end of the piece in which it lies
    /// or `most`; nothing if that is not here, or belongs to no clip that the others are told of. With `handed`, it
    /// belongs to one that was handed over by hand.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn content_by_hash(
        &self,
        hash: &Hash,
        from: u64,
        most: usize,
        handed: bool,
    ) -> Result<Option<Bytes>, StoreError> {
        let (place, within) = ((from / CHUNK_BYTES as u64) as u32, from % CHUNK_BYTES as u64);
        let chunk = sqlx::query_scalar!(
            r#"SELECT SUBSTRING(k.content, ?, ?) AS "content: Vec<u8>" FROM blobs b JOIN blob_chunks k ON k.blob_no = b.no
               WHERE b.hash = ? AND b.have = b.size AND k.place = ? AND EXISTS (
                SELECT 1 FROM formats f JOIN clips c ON c.no = f.clip_no
                WHERE f.blob_no = b.no AND c.secret = 0 AND (c.shared = TRUE OR ?)
                AND NOT EXISTS (SELECT 1 FROM private_drawers p WHERE p.drawer = c.drawer))"#,
            within + 1,
            most as u64,
            &hash[..],
            place,
            handed
        )
        .fetch_optional(&self.connections)
        .await?;
        Ok(chunk.flatten().filter(|chunk| !chunk.is_empty()).map(Bytes::from))
    }
}

/// Words that are those of a format, which is told with its data, are not told beside it.
pub(crate) fn tell_words_once(body: &mut Body) {
    let plain = body.formats.iter().find(|format| format.mime == PLAIN).and_then(|format| format.data.as_ref());
    if plain.is_some_and(|plain| body.text.as_ref().is_some_and(|text| text.as_bytes() == &plain[..])) {
        body.text = None;
    }
}

pub(crate) fn weight(body: &Body) -> usize {
    let along = body.formats.iter().filter_map(|format| format.data.as_ref()).map(bytes::Bytes::len);
    body.text.as_ref().map_or(0, String::len) + along.sum::<usize>()
}

fn clip_of(row: &StateRow, body: Option<Body>) -> Result<Clip, StoreError> {
    Ok(Clip { id: row.clip()?, kind: row.kind()?, state: row.state(), body })
}

/// The clip, if the policy lets it out, and whether the others have not known it.
fn let_out(row: &StateRow, body: Option<Body>, policy: &Policy) -> Result<Option<(Clip, bool)>, StoreError> {
    let mut clip = clip_of(row, body)?;
    let candidate = Candidate {
        kind: clip.kind,
        size: clip.body.as_ref().map_or(0, |body| body.size),
        application: clip.body.as_ref().and_then(|body| body.source.application.as_deref()),
        kept: clip.state.life(Stamp::NEVER).is_kept(),
        sensitive: row.secret != 0,
        shared: row.shared,
    };
    // What is gone and was never told of is nobody's business; nor is what only this device has swept.
    let gone = !clip.state.is_live(Stamp::NEVER);
    // Nor what lies in a private drawer; that it is gone from the history they are told when the drawer is closed.
    if !policy.lets_out(&candidate) || (gone && !row.shared) || (row.private && !gone) {
        return Ok(None);
    }
    if gone {
        clip.body = None;
    }
    Ok(Some((clip, !row.shared)))
}
