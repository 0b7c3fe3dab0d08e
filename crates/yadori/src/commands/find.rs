use super::list::Shown;
use crate::Context;
use crate::failure::Failure;
use clap::Args;

/// Search the history, best match first
///
/// Words may come in any order, and may be parts of words; letter case and accents do not matter, and a
/// misspelled word is forgiven. Searched are the text, the title, the alias, the source's page and application.
///
///   '"two words"'    these words, next to each other (the shell takes one pair of quotes)
///   -word            without this word
///   kind:image       of this kind (text, link, image, files)
///   app:writer       copied in this application
///   device:van       copied on this device
///   drawer:venues    in this drawer
///   is:pinned        pinned; is:kept: pinned or in a drawer; is:sensitive: looks like a secret
///   after:3d         copied in the last three days (30m, 12h, 2w, today, yesterday, 2026-11-01)
///   before:today     copied earlier than this
///   larger:2MB       of more bytes than this
///
/// A filter is turned round with a minus: -kind:image. What begins with a minus is written within one
/// quoted query, or after two dashes: yadori find "lamp -draft", yadori find lamp -- -draft
#[derive(Args)]
#[command(verbatim_doc_comment)]
pub struct Find {
    /// What to look for
    #[arg(required = true, num_args = 1..)]
    query: Vec<String>,

    #[command(flatten)]
    shown: Shown,
}

impl Find {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let query = self.query.join(" ");
        let found = self.shown.clips(context, Some(query.clone()))?;
        if found.clips.is_empty() && !context.json {
            tell!("No match for “{query}” in {} clips.", found.total);
            return Ok(());
        }
        self.shown.print(context, &found, false)
    }
}
