//! A copy becomes a clip, in one transaction.

use crate::attributes::{self, GivenAttributes};
use crate::clips::ClipRecord;
use crate::content;
use crate::content::{SEARCHED_BYTES, StoredFormat};
use crate::fresh::FreshClip;
use crate::numbers::Numbers;
use crate::registers::{self, NewState, states_of};
use crate::settings::{self, TRAY};
use crate::statements::Statements;
use crate::steps::{OperationKind, record_step};
use crate::store::{Store, StoreError, number_of, retry_on_deadlock};
use crate::write_tx::{WriteTx, next_change};
use futures_util::TryStreamExt;
use parking_lot::RwLock;
use sqlx::AssertSqlSafe;
use std::io::ErrorKind;
use std::sync::Arc;
use yadori_core::clip::Life;
use yadori_core::format::{Format, MOST, PLAIN};
use yadori_core::refiling::Refiled;
use yadori_core::sensitive::Sensitive;
use yadori_core::shared::MOST_COUNTED;
use yadori_core::{ClipId, DeviceId, Kind, MillisSinceEpoch, Source, Stamp};

/// Formats up to this size lie in their own row; larger ones in a blob.
pub(crate) const INLINE_BYTES: usize = 16 * 1024;

/// Bytes of all formats of a clip that is filed by one message, at most.
const MOST_AT_ONCE: usize = 64 * 1024;

/// MariaDB's number for a key that is there already: here, the clip's id.
const KNOWN: u16 = 1062;

/// A clip to be filed.
#[derive(Clone, Debug)]
pub struct NewClip<'a> {
    /// Its id.
    pub id: ClipId,
    /// What it is.
    pub kind: Kind,
    /// When it was copied.
    pub copied: Stamp,
    /// When it is filed: later than every stamp that was given out before.
    pub filed: Stamp,
    /// Attributes that it gets along with it.
    pub given: GivenAttributes<'a>,
    /// What is to be noted of the tray in the same transaction.
    pub tray: Option<&'a str>,
    /// The clip whose place it takes.
    pub replaces: Option<Replaced>,
    /// Its life so far, if it comes from elsewhere.
    pub moved_in: Option<MovedIn>,
    /// The secret that it looks like.
    pub sensitive: Option<Sensitive>,
    /// Whether other devices are told of it in a moment.
    pub shared: bool,
    /// Bytes of all formats together.
    pub size: u64,
    /// Width and height in pixels, of a picture.
    pub pixels: Option<(u32, u32)>,
    /// Lines and characters, of text.
    pub extent: Option<(u64, u64)>,
    /// Its words.
    pub text: &'a str,
    /// The title given by the person, at most 1,000 characters.
    pub title: Option<&'a str>,
    /// The title of what was copied.
    pub caption: Option<&'a str>,
    /// Where it was copied.
    pub source: &'a Source,
}

/// A clip whose place another takes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Replaced {
    /// Its number.
    pub number: u64,
    /// When it was replaced.
    pub stamp: Stamp,
    /// Whether it goes to the bin; if not, it only hands over its attributes.
    pub retire: bool,
}

/// The life of a clip that comes from elsewhere.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct MovedIn {
    /// How often it was copied there.
    pub copies: u32,
    /// How often it was recalled.
    pub recalls: u32,
    /// When it was last recalled.
    pub recalled_at: Option<MillisSinceEpoch>,
    /// When it came here: its age counts from then.
    pub at: Stamp,
}

/// What filing did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Filed {
    /// The number of the change.
    pub change: u64,
    /// The clip's number.
    pub number: u64,
    /// Whether the clip was not in the records before.
    pub new: bool,
    /// The whole record, where it need not be read to be known.
    pub record: Option<ClipRecord>,
}

/// What filing a clip made of what was on record.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Renewal {
    /// It was not there, or its content was gone for good.
    New,
    /// It is the later copy: its formats and its source are those of the clip now.
    Renewed,
    /// What is on record is later, and stays as it is.
    Counted,
}

/// A transaction that files one copy. Dropped without [`Filing::commit`], it leaves nothing.
pub struct Filing {
    tx: WriteTx,
    device: u32,
    /// Looked at when it is filed: it may have another by then.
    device_id: Arc<RwLock<DeviceId>>,
    device_name: String,
    /// Blobs already written for the formats, by place.
    blobs: Vec<Option<u64>>,
}

impl Store {
    /// Begins to file a copy.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn begin_filing(&self) -> Result<Filing, StoreError> {
        Ok(Filing {
            tx: self.begin_ahead().await?,
            device: self.device,
            device_id: self.device_id.clone(),
            device_name: self.device_name.clone(),
            blobs: Vec::new(),
        })
    }
}

impl NewClip<'_> {
    /// Its record, once it has been inserted; what it was given is not in it.
    pub(crate) fn record(&self, (number, change): (u64, u64), formats: &[Format], device: &str) -> ClipRecord {
        let owned = |text: Option<&str>| text.map(str::to_owned);
        let text = searched(self.text).unwrap_or_default().to_owned();
        let once = ClipRecord::copied_once(number, (self.id, self.kind), text, device.to_owned());
        let life = self.moved_in;
        ClipRecord {
            change,
            sensitive: self.sensitive,
            shared: self.shared,
            life: Life {
                copied: self.copied,
                restored: life.map(|life| life.at).unwrap_or_default(),
                ..Life::default()
            },
            copies: life.map_or(once.copies, |life| life.copies.min(MOST_COUNTED)),
            recalls: life.map_or(once.recalls, |life| life.recalls.min(MOST_COUNTED)),
            recalled_at: life.and_then(|life| life.recalled_at),
            size: self.size,
            plain: self.is_plain(formats),
            pixels: self.pixels,
            extent: self.extent,
            title: owned(self.title),
            caption: owned(self.caption),
            source: Source {
                application: owned(fitted(&self.source.application, 255)),
                window: owned(fitted(&self.source.window, 1000)),
                page: owned(fitted(&self.source.page, 8000)),
                selected: self.source.selected,
            },
            ..once
        }
    }

    /// Whether it is plain, if these are its formats.
    pub(crate) fn is_plain(&self, formats: &[Format]) -> bool {
        let formats = formats.iter().map(|format| (&*format.mime, Some(&*format.data)));
        content::is_plain((searched(self.text), self.size), formats)
    }
}

impl Filing {
    /// Writes the large formats. May go on while the clip's id is still being worked out.
    ///
    /// # Errors
    /// When the database fails, or has no room.
    pub async fn put_content(&mut self, formats: &[Format]) -> Result<(), StoreError> {
        if formats.iter().any(is_large) {
            self.tx.begin().await?;
        }
        for format in formats {
            let blob =
                if is_large(format) { Some(content::write_blob(&mut self.tx, &format.data).await?) } else { None };
            self.blobs.push(blob);
        }
        Ok(())
    }

    /// Files the clip with these formats (those of [`Filing::put_content`]): a new clip, or the known
    /// one moved to the top, with the formats and the source of this latest copy. Durable on return.
    ///
    /// # Errors
    /// When the database fails, or has no room. Nothing is left behind then.
    pub async fn commit(mut self, clip: &NewClip<'_>, formats: &[Format]) -> Result<Filed, StoreError> {
        if !self.tx.take_turn(self.blobs.iter().any(Option::is_some)).await? {
            self.blobs.clear();
            self.put_content(formats).await?;
        }
        self.tx.inserts();
        content::note_all_whole(&mut self.tx).await?;
        let given = attributes::attributes(&clip.given);
        let is_only_filed = given.is_empty() && clip.replaces.is_none() && clip.moved_in.is_none();
        // Most copies are small, new, and nothing else is to be done with them.
        let at_once =
            is_only_filed && clip.tray.is_none() && is_small(formats) && self.blobs.iter().all(Option::is_none);
        let (change, inserted) = self.insert(clip, formats, at_once).await?;
        let (number, renewal) = match inserted {
            Some(number) if at_once => {
                let record = clip.record((number, change), formats, &self.device_name);
                let formats: Vec<StoredFormat> = formats.iter().map(StoredFormat::small).collect();
                let fresh = || FreshClip::filed(&record, clip.filed, &formats, *self.device_id.read());
                let fresh = clip.shared.then(fresh).flatten();
                self.tx.end_with(record.listed(), &formats, fresh);
                return Ok(Filed { change, number, new: true, record: Some(record) });
            }
            Some(number) => (number, Renewal::New),
            None => {
                self.tx.begin().await?;
                self.tx.changes_more();
                self.renew(change, clip, formats).await?
            }
        };
        if renewal == Renewal::Counted {
            self.free_content().await?;
        } else if !clip.is_plain(formats) {
            self.put_formats(number, clip, formats).await?;
        }
        let new = renewal == Renewal::New;
        let mut last = change;
        if !given.is_empty() {
            let given: Vec<_> = given.iter().cloned().map(|attribute| (number, attribute)).collect();
            last = attributes::set(&mut self.tx, &given, clip.filed).await?;
        }
        if let Some(tray) = clip.tray {
            settings::set(&mut *self.tx, TRAY, Some(tray)).await?;
        }
        // A link that is only written otherwise is the same clip, and takes nobody's place.
        if let Some(replaced) = clip.replaces.filter(|replaced| replaced.number != number) {
            let both = (number, replaced.number);
            last = attributes::take_place(&mut self.tx, both, replaced.stamp, replaced.retire).await?;
            if replaced.retire {
                record_step(&mut self.tx, OperationKind::Edit, &[replaced.number], replaced.stamp, Some(number))
                    .await?;
            }
        } else if let Some(life) = clip.moved_in {
            sqlx::query!(
                "UPDATE clips SET copies = ?, recalls = ?, recalled_at = ?, restored = ? WHERE no = ?",
                life.copies.min(MOST_COUNTED),
                life.recalls.min(MOST_COUNTED),
                life.recalled_at.map(|at| at.0),
                life.at.to_bits(),
                number
            )
            .execute(&mut *self.tx)
            .await?;
        }
        let record =
            (inserted.is_some() && is_only_filed).then(|| clip.record((number, change), formats, &self.device_name));
        self.tx.commit().await?;
        Ok(Filed { change: last, number, new, record })
    }

    /// Takes the number of the next change, and inserts the clip if it is not known yet: gives both numbers. With `at_once`, its
    /// formats, which must have no blobs, are inserted too and all of it is made durable; of a known clip, nothing is done but
    /// that the number of the change is taken.
    async fn insert(
        &mut self,
        clip: &NewClip<'_>,
        formats: &[Format],
        at_once: bool,
    ) -> Result<(u64, Option<u64>), StoreError> {
        let change = next_change(&mut self.tx).await?;
        let mut statements = Statements::default();
        let is_plain = clip.is_plain(formats);
        // One statement is durable by itself.
        let is_alone = at_once && is_plain && !self.tx.is_begun();
        let before = usize::from(!is_alone && self.tx.begin_with(&mut statements));
        statements.add(INSERT_CLIPS);
        add_clip(&mut statements, (clip, is_plain), change, self.device);
        if at_once {
            let formats = if is_plain { &[] } else { formats };
            if !formats.is_empty() {
                statements.add(INSERT_FORMATS);
            }
            for (place, format) in (0u8..).zip(formats) {
                statements.row().expression("LAST_INSERT_ID()").value(place);
                statements.value(&*format.mime).value(format.data.len() as u64);
                statements.value(inline_content(format, None, clip.text)).value(None::<u64>).end_row();
            }
            if !is_alone {
                statements.add("COMMIT");
            }
            self.tx.commits();
        }
        let mut done = sqlx::raw_sql(AssertSqlSafe(statements.into_text())).execute_many(&mut *self.tx);
        // What each statement says; that which inserts the clip, its number.
        let mut said = Vec::with_capacity(4);
        let outcome = loop {
            match done.try_next().await {
                Ok(Some(result)) => said.push(result.last_insert_id()),
                Ok(None) => break Ok(()),
                Err(error) => break Err(error),
            }
        };
        drop(done);
        let number = match (outcome, said.get(before)) {
            (Ok(()), Some(number)) => Some(*number),
            (Err(error), None) if number_of(&error) == Some(KNOWN) => {
                if is_of_change(&error) {
                    self.tx.is_found_behind();
                    return Err(sqlx::Error::Io(ErrorKind::Deadlock.into()).into());
                }
                None
            }
            (Err(error), _) => {
                self.tx.has_failed(&error);
                return Err(error.into());
            }
            (Ok(()), None) => return Err(sqlx::Error::Protocol("fewer answers than questions".into()).into()),
        };
        self.tx.is_decided(number.is_some());
        Ok((change, number))
    }

    /// Files a known clip once more ([`State::refile`](yadori_core::merge::State)). Gives its number, too.
    async fn renew(
        &mut self,
        change: u64,
        clip: &NewClip<'_>,
        formats: &[Format],
    ) -> Result<(u64, Renewal), StoreError> {
        let number =
            sqlx::query!("UPDATE clips SET no = LAST_INSERT_ID(no), seq = ? WHERE id = ?", change, &clip.id.0[..])
                .execute(&mut *self.tx)
                .await?
                .last_insert_id();
        let known = states_of(&mut self.tx, &[number]).await?;
        let known = known.get(&number).ok_or(StoreError::Damaged(number))?;
        let own =
            sqlx::query_scalar!("SELECT id FROM devices WHERE no = ?", self.device).fetch_one(&mut *self.tx).await?;
        let mut state = known.state();
        let copy = Refiled {
            copied: clip.copied,
            origin: DeviceId::from_slice(&own).ok_or(StoreError::Damaged(number))?,
            filed: clip.filed,
            title: clip.title.map(str::to_owned),
        };
        let is_later = state.refile(known.swept(), copy);
        let states = vec![NewState::of_known(known, state)?];
        registers::put_after(&mut self.tx, &mut Numbers::default(), change - 1, states, false).await?;
        if !is_later && !known.tombstone && !known.elsewhere {
            return Ok((number, Renewal::Counted));
        }
        let (width, height) = clip.pixels.unzip();
        let (lines, chars) = clip.extent.unzip();
        sqlx::query!(
            "UPDATE clips SET secret = ?, tombstone = FALSE, elsewhere = FALSE, size = ?, width = ?, height = ?,
                text_lines = ?, text_chars = ?, text = ?, plain = ?, caption = COALESCE(?, caption), application = ?,
                window_title = ?, page = ?, selected = selected AND ?
             WHERE no = ?",
            clip.sensitive.map_or(0, Sensitive::code),
            clip.size,
            width,
            height,
            lines,
            chars,
            searched(clip.text),
            clip.is_plain(formats),
            clip.caption,
            fitted(&clip.source.application, 255),
            fitted(&clip.source.window, 1000),
            fitted(&clip.source.page, 8000),
            clip.source.selected,
            number,
        )
        .execute(&mut *self.tx)
        .await?;
        let replaced = sqlx::query_scalar!(
            "SELECT blob_no AS `blob_no!` FROM formats WHERE clip_no = ? AND blob_no IS NOT NULL",
            number
        )
        .fetch_all(&mut *self.tx)
        .await?;
        sqlx::query!("DELETE FROM formats WHERE clip_no = ?", number).execute(&mut *self.tx).await?;
        for blob in replaced {
            if !self.blobs.contains(&Some(blob)) {
                content::free_blob(&mut self.tx, blob).await?;
            }
        }
        Ok((number, if known.tombstone { Renewal::New } else { Renewal::Renewed }))
    }

    /// Content that was written ahead and is not used after all.
    async fn free_content(&mut self) -> Result<(), StoreError> {
        for blob in std::mem::take(&mut self.blobs).into_iter().flatten() {
            content::free_blob(&mut self.tx, blob).await?;
        }
        Ok(())
    }

    async fn put_formats(&mut self, number: u64, clip: &NewClip<'_>, formats: &[Format]) -> Result<(), StoreError> {
        for (place, format) in (0u8..).zip(formats) {
            let blob = self.blobs.get(usize::from(place)).copied().flatten();
            let content = inline_content(format, blob, clip.text);
            sqlx::query!(
                "INSERT INTO formats (clip_no, place, mime, size, content, blob_no) VALUES (?, ?, ?, ?, ?, ?)",
                number,
                place,
                format.mime,
                format.data.len() as u64,
                content,
                blob,
            )
            .execute(&mut *self.tx)
            .await?;
        }
        Ok(())
    }
}

impl Store {
    /// Adds formats to a clip that was just copied, as the copy of that stamp, and puts all in this order. Gives the number
    /// of the change; nothing if the clip has been copied again or has gone meanwhile.
    ///
    /// # Errors
    /// When the database fails, or has no room; nothing is added then.
    pub async fn add_formats(
        &self,
        clip: u64,
        copied: Stamp,
        formats: &[Format],
        order: &[String],
    ) -> Result<Option<u64>, StoreError> {
        retry_on_deadlock!(self.add_formats_once(clip, copied, formats, order))
    }

    async fn add_formats_once(
        &self,
        clip: u64,
        copied: Stamp,
        formats: &[Format],
        order: &[String],
    ) -> Result<Option<u64>, StoreError> {
        let mut tx = self.begin_writing().await?;
        let there = sqlx::query_scalar!(
            "SELECT no FROM clips WHERE no = ? AND copied = ? AND tombstone = FALSE AND gone IS NULL",
            clip,
            copied.to_bits()
        )
        .fetch_optional(&mut *tx)
        .await?;
        if there.is_none() {
            return Ok(None);
        }
        // A plain one has several formats from now on, and so a row for each.
        sqlx::query!(
            "INSERT INTO formats (clip_no, place, mime, size) SELECT no, 0, ?, size FROM clips WHERE no = ? AND plain = TRUE",
            PLAIN,
            clip
        )
        .execute(&mut *tx)
        .await?;
        let known = sqlx::query!("SELECT place, mime FROM formats WHERE clip_no = ? ORDER BY place", clip)
            .fetch_all(&mut *tx)
            .await?;
        let place_of = |mime: &str| order.iter().position(|name| name == mime).unwrap_or(order.len());
        let new: Vec<&Format> = formats
            .iter()
            .filter(|format| known.iter().all(|known| known.mime != format.mime))
            .take(MOST.saturating_sub(known.len()))
            .collect();
        let mut places: Vec<(usize, &str)> = (known.iter().map(|known| known.mime.as_str()))
            .chain(new.iter().map(|format| format.mime.as_str()))
            .map(|mime| (place_of(mime), mime))
            .collect();
        places.sort_by_key(|(place, _)| *place);
        // Out of the way first, since a place is taken once only.
        sqlx::query!("UPDATE formats SET place = place + 128 WHERE clip_no = ? ORDER BY place DESC", clip)
            .execute(&mut *tx)
            .await?;
        let mut size = 0;
        for (place, (_, mime)) in (0u8..128).zip(&places) {
            match new.iter().find(|format| format.mime == *mime) {
                None => {
                    sqlx::query!("UPDATE formats SET place = ? WHERE clip_no = ? AND mime = ?", place, clip, mime)
                        .execute(&mut *tx)
                        .await?;
                }
                Some(format) => {
                    let large = format.data.len() > INLINE_BYTES;
                    let blob = if large { Some(content::write_blob(&mut tx, &format.data).await?) } else { None };
                    let inline = (!large).then_some(&format.data[..]);
                    sqlx::query!(
                        "INSERT INTO formats (clip_no, place, mime, size, content, blob_no) VALUES (?, ?, ?, ?, ?, ?)",
                        clip,
                        place,
                        mime,
                        format.data.len() as u64,
                        inline,
                        blob
                    )
                    .execute(&mut *tx)
                    .await?;
                    size += format.data.len() as u64;
                }
            }
        }
        let change = next_change(&mut tx).await?;
        sqlx::query!("UPDATE clips SET size = size + ?, plain = FALSE, seq = ? WHERE no = ?", size, change, clip)
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(Some(change))
    }
}

/// The statement that inserts formats; the rows are yet to be added.
pub(crate) const INSERT_FORMATS: &str = "INSERT INTO formats (clip_no, place, mime, size, content, blob_no) VALUES ";

/// The statement that inserts clips, of which [`add_clip`] adds the rows.
pub(crate) const INSERT_CLIPS: &str = "INSERT INTO clips (id, seq, kind, secret, device, copied, copies, recalls, \
    recalled_at, restored, size, width, height, text_lines, text_chars, text, plain, title, title_stamp, caption, application, \
    window_title, page, selected, shared) VALUES ";

/// Adds the row of a clip, with the number of its change.
pub(crate) fn add_clip(statements: &mut Statements, (clip, is_plain): (&NewClip<'_>, bool), change: u64, device: u32) {
    let (width, height) = clip.pixels.unzip();
    let (lines, chars) = clip.extent.unzip();
    let life = clip.moved_in;
    statements.row().value(&clip.id.0[..]).value(change);
    statements.value(clip.kind.code()).value(clip.sensitive.map_or(0, Sensitive::code)).value(device);
    statements.value(clip.copied.to_bits()).value(life.map_or(1, |life| life.copies.min(MOST_COUNTED)));
    statements.value(life.map_or(0, |life| life.recalls.min(MOST_COUNTED)));
    statements
        .value(life.and_then(|life| life.recalled_at).map(|at| at.0))
        .value(life.map_or(0, |life| life.at.to_bits()));
    statements.value(clip.size).value(width).value(height).value(lines).value(chars);
    statements.value(searched(clip.text)).value(is_plain);
    statements.value(clip.title).value(clip.title.map(|_| clip.filed.to_bits())).value(clip.caption);
    statements.value(fitted(&clip.source.application, 255)).value(fitted(&clip.source.window, 1000));
    statements.value(fitted(&clip.source.page, 8000)).value(clip.source.selected).value(clip.shared).end_row();
}

/// Whether a key that is there already is the number of a change.
fn is_of_change(error: &sqlx::Error) -> bool {
    error.as_database_error().is_some_and(|error| error.message().ends_with("for key 'seq'"))
}

/// Whether formats are small enough for one message.
fn is_small(formats: &[Format]) -> bool {
    formats.iter().map(|format| format.data.len()).sum::<usize>() <= MOST_AT_ONCE
}

/// Whether a format lies in a blob, and not in a row of its own.
pub(crate) fn is_large(format: &Format) -> bool {
    format.data.len() > if format.mime == PLAIN { SEARCHED_BYTES } else { INLINE_BYTES }
}

/// What of a format stands in its row: nothing if it lies in a blob, or is the text that stands with the clip.
pub(crate) fn inline_content<'a>(format: &'a Format, blob: Option<u64>, text: &str) -> Option<&'a [u8]> {
    let is_text = format.mime == PLAIN && *format.data == *text.as_bytes();
    (blob.is_none() && !is_text).then_some(&format.data[..])
}

/// The part of a text that is kept with the clip's record.
pub(crate) fn searched(text: &str) -> Option<&str> {
    (!text.is_empty()).then(|| &text[..text.floor_char_boundary(SEARCHED_BYTES)])
}

/// At most `longest` characters of what the outside world calls something.
pub(crate) fn fitted(name: &Option<String>, longest: usize) -> Option<&str> {
    name.as_deref().map(|name| name.char_indices().nth(longest).map_or(name, |(end, _)| &name[..end]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_names_and_texts_are_cut_between_characters() {
        assert_eq!(fitted(&Some("čšž".into()), 2), Some("čš"));
        assert_eq!(fitted(&Some("čšž".into()), 3), Some("čšž"));
        let text = "č".repeat(SEARCHED_BYTES);
        assert_eq!(searched(&text).map(str::len), Some(SEARCHED_BYTES));
        assert_eq!(searched(""), None);
    }
}
