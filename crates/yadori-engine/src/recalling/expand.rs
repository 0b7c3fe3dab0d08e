//! Expand: aliases in a text become the clips that they stand for.

use crate::clock::now;
use crate::history::names::FindNameError;
use crate::recalling::Recalling;
use crate::recalling::{Filling, RecallError};
use std::collections::BTreeMap;
use yadori_core::Format;
use yadori_core::alias::{self, Piece};
use yadori_core::fill::Ask;

/// A text with its aliases filled in.
#[derive(Clone, Debug)]
pub struct Expanded {
    /// The text.
    pub text: String,
    /// The aliases that were filled in.
    pub filled: Vec<String>,
    /// Those that stand for nothing.
    pub unknown: Vec<String>,
}

impl Recalling {
    /// A text with its aliases filled in, and the placeholders of clips that have some. What stands for nothing
    /// stays as it is.
    pub async fn expand(&self, text: &str, answers: &BTreeMap<String, String>) -> Result<Expanded, RecallError> {
        let mut expanded = Expanded { text: String::new(), filled: Vec::new(), unknown: Vec::new() };
        let mut used = Vec::new();
        let mut missing: Vec<Ask> = Vec::new();
        let mut filling = Filling::new(answers, false);
        let once = |list: &mut Vec<String>, name: String| {
            if !list.contains(&name) {
                list.push(name);
            }
        };
        for piece in alias::pieces(text) {
            let (alias, written) = match piece {
                Piece::Text(text) => {
                    expanded.text.push_str(text);
                    continue;
                }
                Piece::Alias(alias, written) => (alias, written),
            };
            let record = match self.history.with_alias(&alias).await {
                Ok(record) => record,
                Err(FindNameError::NoSuchAlias(_)) => {
                    expanded.text.push_str(written);
                    once(&mut expanded.unknown, alias.to_string());
                    continue;
                }
                Err(error) => return Err(error.into()),
            };
            let formats = self.history.store.formats(record.number).await?;
            let text = self.history.plain_text(&record, &formats).await?;
            let mut text = text.ok_or_else(|| RecallError::NoText(alias.to_string(), "filled in"))?;
            if record.fills {
                match self.filled(vec![Format::plain(text.clone())], &mut filling).await {
                    Ok(filled) => text = filled.iter().map(|format| String::from_utf8_lossy(&format.data)).collect(),
                    Err(RecallError::Asks(asks)) => {
                        for ask in asks {
                            if !missing.iter().any(|known| known.name == ask.name) {
                                missing.push(ask);
                            }
                        }
                    }
                    Err(error) => return Err(error),
                }
            }
            expanded.text.push_str(&text);
            once(&mut expanded.filled, alias.to_string());
            if !used.contains(&record.number) {
                used.push(record.number);
            }
        }
        if !missing.is_empty() {
            return Err(RecallError::Asks(missing));
        }
        filling.check()?;
        if !used.is_empty() {
            self.history.ledger.changed(self.history.store.note_recall(&used, now(), None).await?);
        }
        Ok(expanded)
    }
}
