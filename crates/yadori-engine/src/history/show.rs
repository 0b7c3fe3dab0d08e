//! One clip: its attributes, its formats, its words.

use crate::history::History;
use crate::history::files::ListedFile;
use crate::history::listing::Listed;
use crate::history::names::FindNameError;
use bytes::Bytes;
use yadori_core::{Format, format};
use yadori_store::{ClipRecord, StoreError, StoredFormat};

/// Most bytes of words that are given with a clip's attributes.
const LONGEST_TEXT: usize = 64 * 1024;

/// All there is to know of a clip.
#[derive(Clone, Debug)]
pub struct Detail {
    /// The clip.
    pub clip: Listed,
    /// Its formats.
    pub formats: Vec<StoredFormat>,
    /// Its words, if it has any and they are no secret.
    pub text: Option<String>,
    /// Whether that is all of them.
    pub text_is_whole: bool,
    /// Its files, if it is a list of files.
    pub files: Vec<ListedFile>,
}

impl History {
    /// All there is to know of a clip.
    pub async fn show(&self, name: &str) -> Result<Detail, FindNameError> {
        let (record, position) = self.find_clip(name).await?;
        let formats = self.store.formats(record.number).await?;
        let (text, text_is_whole) = if record.elsewhere {
            (Some(record.text.clone()).filter(|text| record.sensitive.is_none() && !text.is_empty()), false)
        } else if record.sensitive.is_some() || record.extent.is_none() {
            (None, true)
        } else {
            let text = self.plain_text(&record, &formats).await?.unwrap_or_default();
            let shown = &text[..text.floor_char_boundary(LONGEST_TEXT)];
            (Some(shown.to_owned()), shown.len() == text.len())
        };
        let files = self.files_of(&record, &formats).await?;
        Ok(Detail { clip: self.listed(&record, Some(position)), formats, text, text_is_whole, files })
    }

    /// A clip as plain text: its text format, or the words of its HTML, or the paths of its files.
    pub async fn plain_text(
        &self,
        record: &ClipRecord,
        formats: &[StoredFormat],
    ) -> Result<Option<String>, StoreError> {
        if let Some(plain) = self.stored_format(formats, format::PLAIN).await? {
            return Ok(Some(String::from_utf8_lossy(&plain).into_owned()));
        }
        if let Some(page) = self.stored_format(formats, format::HTML).await? {
            return Ok(Some(self.words_of_page(record, &page).await));
        }
        Ok(Some(record.text.clone()).filter(|text| !text.is_empty()))
    }

    /// The bytes of one format, if the clip has it.
    pub async fn stored_format(&self, formats: &[StoredFormat], mime: &str) -> Result<Option<Bytes>, StoreError> {
        match formats.iter().find(|stored| stored.mime == mime) {
            Some(stored) => Ok(Some(self.store.content(stored).await?)),
            None => Ok(None),
        }
    }

    /// All formats with their bytes.
    pub async fn whole_formats(&self, formats: &[StoredFormat]) -> Result<Vec<Format>, StoreError> {
        let mut whole = Vec::with_capacity(formats.len());
        for stored in formats {
            whole.push(Format::new(stored.mime.clone(), self.store.content(stored).await?));
        }
        Ok(whole)
    }
}
