//! Many clips that come from elsewhere are filed in one transaction, in a handful of statements.

use crate::attributes;
use crate::clips::ClipRecord;
use crate::content;
use crate::filing::{INSERT_CLIPS, INSERT_FORMATS, NewClip, add_clip, inline_content, is_large};
use crate::statements::Statements;
use crate::store::{Store, StoreError, retry_on_deadlock};
use crate::write_tx::{WriteTx, next_changes};
use data_encoding::HEXLOWER;
use yadori_core::ClipId;
use yadori_core::Format;

/// What is on record of a clip.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OnRecord {
    /// Its place among the ids that were asked for.
    pub place: usize,
    /// Its number.
    pub number: u64,
    /// Whether it is in the history; if not, it is in the bin, or there is only its tombstone.
    pub live: bool,
    /// Whether there is only its tombstone.
    pub tombstone: bool,
}

/// What came of filing many clips.
#[derive(Clone, Debug)]
pub struct FiledTogether {
    /// Their numbers, in their order.
    pub numbers: Vec<u64>,
    /// The number of the latest change.
    pub change: u64,
    /// Their records, unless they must be read to be known.
    pub records: Vec<ClipRecord>,
}

impl Store {
    /// Which of these clips are on record.
    ///
    /// # Errors
    /// When the database does not answer.
    pub async fn on_record(&self, ids: &[ClipId]) -> Result<Vec<OnRecord>, StoreError> {
        let ids: Vec<String> = ids.iter().map(|id| HEXLOWER.encode(&id.0)).collect();
        let rows = sqlx::query!(
            r#"SELECT w.nth AS "nth!: u32", c.no, c.tombstone AS "tombstone: bool", c.gone IS NULL AS "live!: bool"
               FROM JSON_TABLE(?, '$[*]' COLUMNS (nth FOR ORDINALITY, id CHAR(32) PATH '$')) w
               STRAIGHT_JOIN clips c ON c.id = UNHEX(w.id)"#,
            serde_json::to_string(&ids).unwrap_or_else(|_| "[]".into())
        )
        .fetch_all(&self.connections)
        .await?;
        Ok(rows
            .into_iter()
            .map(|row| OnRecord {
                place: row.nth as usize - 1,
                number: row.no,
                live: row.live && !row.tombstone,
                tombstone: row.tombstone,
            })
            .collect())
    }

    /// Files clips with their formats, none of which is on record; all of them or none. They replace nothing, and nothing is
    /// noted of the tray. Durable on return.
    ///
    /// # Errors
    /// When the database fails or has no room, or one of them is on record.
    pub async fn file_all(&self, clips: &[(NewClip<'_>, &[Format])]) -> Result<FiledTogether, StoreError> {
        retry_on_deadlock!(self.file_all_once(clips))
    }

    async fn file_all_once(&self, clips: &[(NewClip<'_>, &[Format])]) -> Result<FiledTogether, StoreError> {
        let mut tx = self.begin_ahead().await?;
        tx.begin().await?;
        let mut blobs = put_blobs(&mut tx, clips).await?;
        if !tx.take_turn(blobs.iter().any(Option::is_some)).await? {
            tx.begin().await?;
            blobs = put_blobs(&mut tx, clips).await?;
        }
        tx.writes();
        content::note_all_whole(&mut tx).await?;
        let before = next_changes(&mut tx, clips.len()).await?;
        let mut insert = Statements::default();
        insert.add(INSERT_CLIPS);
        for (change, (clip, formats)) in (before + 1..).zip(clips) {
            add_clip(&mut insert, (clip, clip.is_plain(formats)), change, self.device);
        }
        insert.execute(&mut tx).await?;
        let last = before + clips.len() as u64;
        let numbers = sqlx::query_scalar!("SELECT no FROM clips WHERE seq > ? AND seq <= ? ORDER BY seq", before, last)
            .fetch_all(&mut *tx)
            .await?;
        if numbers.len() == clips.len() {
            tx.bears(last);
        }
        let formats = numbers.iter().zip(clips).flat_map(|(number, (clip, formats))| {
            let is_plain = clip.is_plain(formats);
            (0u8..).zip(*formats).map(move |(place, format)| (*number, (clip, is_plain), place, format))
        });
        let mut insert = Statements::default();
        let with_rows = formats.zip(&blobs).filter(|((_, (_, is_plain), ..), _)| !is_plain);
        for ((number, (clip, _), place, format), blob) in with_rows {
            if insert.is_empty() {
                insert.add(INSERT_FORMATS);
            }
            insert.row().value(number).value(place).value(&format.mime).value(format.data.len() as u64);
            insert.value(inline_content(format, *blob, clip.text)).value(*blob).end_row();
        }
        insert.execute(&mut tx).await?;
        let given: Vec<_> = (numbers.iter().zip(clips))
            .flat_map(|(number, (clip, _))| {
                attributes::attributes(&clip.given).into_iter().map(|given| (*number, given))
            })
            .collect();
        let stamp = clips.iter().map(|(clip, _)| clip.filed).max().unwrap_or_default();
        let mut records = Vec::new();
        let last =
            if given.is_empty() {
                let filed = numbers.iter().zip(before + 1..).zip(clips);
                records.extend(filed.map(|((number, change), (clip, formats))| {
                    clip.record((*number, change), formats, &self.device_name)
                }));
                last
            } else {
                attributes::set(&mut tx, &given, stamp).await?
            };
        tx.commit().await?;
        Ok(FiledTogether { numbers, change: last, records })
    }
}

/// Writes the large formats; gives their blobs, and none for each of the others.
async fn put_blobs(tx: &mut WriteTx, clips: &[(NewClip<'_>, &[Format])]) -> Result<Vec<Option<u64>>, sqlx::Error> {
    let mut blobs = Vec::new();
    for format in clips.iter().flat_map(|(_, formats)| *formats) {
        blobs.push(if is_large(format) { Some(content::write_blob(tx, &format.data).await?) } else { None });
    }
    Ok(blobs)
}
