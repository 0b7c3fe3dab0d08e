use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use yadori_api::{Recall as Asked, Recalled};

/// Put clips back on the clipboard
///
/// One clip comes back with all its formats, exactly as it was copied. Several are joined as text, in the
/// order given. The history keeps its order.
#[derive(Args)]
pub struct Recall {
    /// The clips: positions, or beginnings of ids
    #[arg(required = true)]
    clips: Vec<String>,

    /// Plain text only, without formatting
    #[arg(long)]
    plain: bool,

    /// What to put between several clips; \n and \t stand for a line end and a tab [default: \n]
    #[arg(long, value_name = "SEP", allow_hyphen_values = true)]
    join: Option<String>,
}

impl Recall {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let asked = Asked { clips: self.clips, plain: self.plain, join: self.join.as_deref().map(unescaped) };
        let recalled: Recalled = context.service()?.post("/recall", &asked)?;
        if context.json {
            return print_json(&recalled);
        }
        let formats =
            if recalled.formats.len() > 1 { format!(", in {} formats", recalled.formats.len()) } else { String::new() };
        say(&format!("On the clipboard: {}{formats}", named(&recalled.clips)))?;
        if recalled.missing > 0 {
            eprintln!(
                "yadori: {} not there any more and cannot be pasted; see: yadori show {}",
                match recalled.missing {
                    1 => "one of these files is".to_owned(),
                    missing => format!("{missing} of these files are"),
                },
                recalled.clips[0].id
            );
        }
        Ok(())
    }
}

/// `\n`, `\t` and `\\` as what they stand for.
fn unescaped(text: &str) -> String {
    let mut result = String::with_capacity(text.len());
    let mut chars = text.chars();
    while let Some(c) = chars.next() {
        match (c, chars.as_str().chars().next()) {
            ('\\', Some('n')) => result.push('\n'),
            ('\\', Some('t')) => result.push('\t'),
            ('\\', Some('\\')) => result.push('\\'),
            _ => {
                result.push(c);
                continue;
            }
        }
        chars.next();
    }
    result
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn separators_may_be_written_with_backslashes() {
        assert_eq!(unescaped(r"\n-\t\\n\x\"), "\n-\t\\n\\x\\");
    }
}
