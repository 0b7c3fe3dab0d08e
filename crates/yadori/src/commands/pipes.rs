//! `copy` and `paste`, for pipes.

use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use std::io::{IsTerminal, Read, Write};
use yadori_api::{AddQuery, Added, ContentQuery, Recall, Recalled};

/// Copy text: add it to the history and put it on the clipboard
///
/// Reads standard input unless a text is given: `date | yadori copy`
#[derive(Args)]
pub struct Copy {
    /// The text; - or nothing reads standard input
    text: Vec<String>,
}

/// Print the newest clip, or another one
///
/// Prints the clip's text exactly, without a line end of its own: `yadori paste > notes.txt`
#[derive(Args)]
pub struct Paste {
    /// The clip
    #[arg(default_value = "1")]
    clip: String,
}

impl Copy {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let mut content = self.text.join(" ").into_bytes();
        if self.text.is_empty() || self.text == ["-"] {
            let mut input = std::io::stdin().lock();
            if self.text.is_empty() && input.is_terminal() {
                return Err(Failure::Usage(
                    "give a text, or pipe something in; to recall a clip: yadori recall 3".into(),
                ));
            }
            content.clear();
            input.read_to_end(&mut content)?;
        }
        let service = context.service()?;
        let added: Added = service.post_content("/clips", &AddQuery::default(), "text/plain", &content)?;
        let recalled: Recalled =
            service.post("/recall", &Recall { clips: vec![added.clip.id.clone()], ..Recall::default() })?;
        if context.json {
            return print_json(&recalled);
        }
        say(&format!("Copied: {}", named(std::slice::from_ref(&added.clip))))
    }
}

impl Paste {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let path = format!("/clips/{}/content", yadori_client::in_path(&self.clip));
        let query = ContentQuery { format: None, at_once: true };
        let mut content =
            crate::fetching::asking(&service, std::slice::from_ref(&self.clip), || service.get_bytes(&path, &query))?;
        let mut out = std::io::stdout().lock();
        let mut bytes = Vec::new();
        content.read_to_end(&mut bytes)?;
        if std::io::stdout().is_terminal() && std::str::from_utf8(&bytes).map_or(true, |text| text.contains('\0')) {
            return Err(Failure::Here("this isn't text; write it to a file: yadori show 1 --save FILE".into()));
        }
        out.write_all(&bytes)?;
        Ok(out.flush()?)
    }
}
