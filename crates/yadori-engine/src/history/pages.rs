//! What is read of pages: never in this process, since a page may be made so that no reader survives it.

use crate::history::History;
use bytes::Bytes;
use yadori_core::reshape::{self, ReshapeError, Way};
use yadori_store::ClipRecord;

impl History {
    /// The words of a clip that is a page without any text beside it.
    pub(crate) async fn words_of_page(&self, record: &ClipRecord, page: &[u8]) -> String {
        // They were read when it was copied.
        let is_whole = record.extent.is_some_and(|(_, characters)| record.text.chars().count() as u64 == characters);
        if is_whole {
            return record.text.clone();
        }
        self.cage.read_markup(page).await.map_or_else(|_| record.text.clone(), |markup| markup.text)
    }

    /// Reshapes a text as [`reshape::reshape`] does, whose HTML is this.
    pub(crate) async fn reshape(
        &self,
        text: String,
        mut markup: Option<Bytes>,
        ways: &[Way],
    ) -> Result<String, ReshapeError> {
        let mut text = text;
        for way in ways {
            let page = markup.take().unwrap_or_default();
            let page = if page.is_empty() { text.as_bytes() } else { &page[..] };
            text = match way {
                Way::Text => self.cage.read_markup(page).await.map_err(|_| ReshapeError::Unreadable)?.text,
                Way::Markdown => self.cage.to_markdown(page).await.map_err(|_| ReshapeError::Unreadable)?,
                way => reshape::reshape(&text, None, &[*way])?,
            };
        }
        Ok(text)
    }
}
