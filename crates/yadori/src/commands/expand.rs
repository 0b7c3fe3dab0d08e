use super::print_json;
use super::recall::answers;
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use std::io::{Read, Write};
use std::path::PathBuf;
use yadori_api::{Expand as Asked, Expanded};

/// Fill in the aliases of a text
///
/// Reads a text and writes it with the clips in place of :sig and the like; for use in editors and
/// scripts. An alias counts at the beginning of a word; ::sig is written as :sig. What stands for nothing
/// is left as it is.
#[derive(Args)]
pub struct Expand {
    /// The file to read; - or nothing reads standard input
    file: Option<PathBuf>,

    /// Answer what a placeholder asks for
    #[arg(long = "answer", value_name = "NAME=VALUE")]
    answers: Vec<String>,

    /// Fail if something looks like an alias and stands for nothing
    #[arg(long)]
    strict: bool,
}

impl Expand {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let mut text = String::new();
        match self.file.filter(|file| file.as_os_str() != "-") {
            Some(file) => {
                text = std::fs::read_to_string(&file)
                    .map_err(|error| Failure::Here(format!("{} cannot be read: {error}", file.display())))?;
            }
            None => drop(std::io::stdin().lock().read_to_string(&mut text)?),
        }
        let asked = Asked { text, answers: answers(&self.answers)? };
        let expanded: Expanded = context.service()?.post("/expand", &asked)?;
        if self.strict && !expanded.unknown.is_empty() {
            return Err(Failure::Here(format!("Unknown alias: {}", expanded.unknown.join(", "))));
        }
        if context.json {
            return print_json(&expanded);
        }
        let mut out = std::io::stdout().lock();
        out.write_all(expanded.text.as_bytes())?;
        Ok(out.flush()?)
    }
}
