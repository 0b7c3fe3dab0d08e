//! Many clips that come from elsewhere are filed in one transaction, in a handful of statements.

use crate::attributes;
use crate::content;
use crate::filing::{NewClip, fitted, inline_content, is_large, searched};
use crate::store::{Store, StoreError, next_changes, retry_on_deadlock};
use data_encoding::HEXLOWER;
use sqlx::{MySql, QueryBuilder};
use yadori_core::ClipId;
use yadori_core::Format;
use yadori_core::sensitive::Sensitive;
use yadori_core::shared::MOST_COUNTED;

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
        .fetch_all(&self.pool)
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
    /// noted of the tray. Gives their numbers, in their order, and that of the latest change. Durable on return.
    ///
    /// # Errors
    /// When the database fails or has no room, or one of them is on record.
    pub async fn file_all(&self, clips: &[(NewClip<'_>, &[Format])]) -> Result<(Vec<u64>, u64), StoreError> {
        retry_on_deadlock!(self.file_all_once(clips))
    }

    async fn file_all_once(&self, clips: &[(NewClip<'_>, &[Format])]) -> Result<(Vec<u64>, u64), StoreError> {
        let mut tx = self.begin_ahead().await?;
        let mut blobs = Vec::new();
        for (_, formats) in clips {
            for format in *formats {
                blobs.push(if is_large(format) {
                    Some(content::write_blob(&mut tx, &format.data).await?)
                } else {
                    None
                });
            }
        }
        tx.writes();
        let before = next_changes(&mut tx, clips.len()).await?;
        let mut insert = QueryBuilder::<MySql>::new(
            "INSERT INTO clips (id, seq, kind, secret, device, copied, copies, recalls, recalled_at, restored, size, width,
                height, text_lines, text_chars, text, title, title_stamp, caption, application, window_title, page, selected) ",
        );
        insert.push_values((before + 1..).zip(clips), |mut row, (change, (clip, _))| {
            let (width, height) = clip.pixels.unzip();
            let (lines, chars) = clip.extent.unzip();
            let life = clip.moved_in;
            row.push_bind(clip.id.0.to_vec())
                .push_bind(change)
                .push_bind(clip.kind.code())
                .push_bind(clip.sensitive.map_or(0, Sensitive::code))
                .push_bind(self.device)
                .push_bind(clip.copied.to_bits())
                .push_bind(life.map_or(1, |life| life.copies.min(MOST_COUNTED)))
                .push_bind(life.map_or(0, |life| life.recalls.min(MOST_COUNTED)))
                .push_bind(life.and_then(|life| life.recalled_at).map(|at| at.0))
                .push_bind(life.map_or(0, |life| life.at.to_bits()))
                .push_bind(clip.size)
                .push_bind(width)
                .push_bind(height)
                .push_bind(lines)
                .push_bind(chars)
                .push_bind(searched(clip.text))
                .push_bind(clip.title)
                .push_bind(clip.title.map(|_| clip.filed.to_bits()))
                .push_bind(clip.caption)
                .push_bind(fitted(&clip.source.application, 255))
                .push_bind(fitted(&clip.source.window, 1000))
                .push_bind(fitted(&clip.source.page, 8000))
                .push_bind(clip.source.selected);
        });
        insert.build().persistent(false).execute(&mut **tx).await?;
        let last = before + clips.len() as u64;
        let numbers = sqlx::query_scalar!("SELECT no FROM clips WHERE seq > ? AND seq <= ? ORDER BY seq", before, last)
            .fetch_all(&mut **tx)
            .await?;
        let formats = numbers.iter().zip(clips).flat_map(|(number, (clip, formats))| {
            (0u8..).zip(*formats).map(move |(place, format)| (*number, clip, place, format))
        });
        let mut insert =
            QueryBuilder::<MySql>::new("INSERT INTO formats (clip_no, place, mime, size, content, blob_no) ");
        insert.push_values(formats.zip(&blobs), |mut row, ((number, clip, place, format), blob)| {
            row.push_bind(number)
                .push_bind(place)
                .push_bind(&format.mime)
                .push_bind(format.data.len() as u64)
                .push_bind(inline_content(format, *blob, clip.text))
                .push_bind(*blob);
        });
        insert.build().persistent(false).execute(&mut **tx).await?;
        let given: Vec<_> = (numbers.iter().zip(clips))
            .flat_map(|(number, (clip, _))| {
                attributes::attributes(&clip.given).into_iter().map(|given| (*number, given))
            })
            .collect();
        let stamp = clips.iter().map(|(clip, _)| clip.filed).max().unwrap_or_default();
        let last = if given.is_empty() { last } else { attributes::set(&mut tx, &given, stamp).await? };
        tx.commit().await?;
        Ok((numbers, last))
    }
}
