use super::{clips, print_json};
use crate::failure::Failure;
use crate::terminal::Style;
use crate::{Context, table};
use clap::Args;

/// Search the history, best match first
///
/// Words may come in any order, and may be parts of words; letter case and accents do not matter, and a
/// misspelled word is forgiven. Searched are the text, the title, the alias, the source's page and application.
///
///   "exact phrase"   these words, as they stand
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

    /// How many clips to list
    #[arg(short = 'n', long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..))]
    limit: u32,
}

impl Find {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let query = query(&self.query);
        let (clips, total) = clips(&context.service()?, Some(query.clone()), self.limit)?;
        if context.json {
            return print_json(&clips);
        }
        if clips.is_empty() {
            eprintln!("None of {total} clips meets {query}");
            return Ok(());
        }
        Ok(table::print(&clips, Style::of_stdout(), jiff::Timestamp::now())?)
    }
}

/// The arguments as one query. What the shell has taken out of quotes goes back into them.
fn query(arguments: &[String]) -> String {
    let quoted = |argument: &String| {
        let several = argument.contains(char::is_whitespace) && !argument.contains('"');
        if several && arguments.len() > 1 { format!("\"{argument}\"") } else { argument.clone() }
    };
    arguments.iter().map(quoted).collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn phrases_that_the_shell_unquoted_are_phrases_again() {
        let of = |arguments: &[&str]| query(&arguments.iter().map(|one| (*one).to_owned()).collect::<Vec<_>>());
        assert_eq!(of(&["lamp", "cue 7"]), "lamp \"cue 7\"");
        assert_eq!(of(&["lamp cue"]), "lamp cue");
        assert_eq!(of(&["kind:text", "-\"a b\""]), "kind:text -\"a b\"");
    }
}
