use super::osc52;
use super::select::Selection;
use super::{Joining, left_out, named, print_json, say};
use crate::Context;
use crate::ask::answer;
use crate::failure::Failure;
use crate::fetching::asking;
use clap::Args;
use std::collections::BTreeMap;
use std::io::IsTerminal;
use yadori_api::{Recall as Asked, Recalled};
use yadori_client::Client;

/// Put clips back on the clipboard
///
/// One clip comes back with all its formats, exactly as it was copied. Several are joined, in the order
/// given: texts and links as text (and as HTML, where one of them has some), lists of files as one list.
/// The history keeps its order. What is on another device is fetched first. A lone - reads the names from standard input, one
/// on a line: the lines of `yadori list --lines`, as a menu program gives back those that were chosen.
#[derive(Args)]
pub struct Recall {
    #[command(flatten)]
    selection: Selection,

    /// Plain text only, without formatting
    #[arg(long)]
    plain: bool,

    #[command(flatten)]
    joining: Joining,

    /// Reshape the text on the way out: trim,upper (see: yadori reshape --list); the clip stays as it is
    #[arg(long, value_name = "WAYS")]
    reshape: Vec<String>,

    /// Fill in placeholders, whatever the clip says
    #[arg(long, conflicts_with = "no_fill")]
    fill: bool,

    /// Leave placeholders as they are
    #[arg(long)]
    no_fill: bool,

    /// Answer what a placeholder asks for
    #[arg(long = "answer", value_name = "NAME=VALUE")]
    answers: Vec<String>,

    /// Paste it into the window that has the keyboard
    #[arg(long)]
    paste: bool,

    /// Put back what was on the clipboard once it was pasted
    #[arg(long, requires = "paste")]
    restore: bool,

    /// Put its text on the clipboard of the terminal, at whichever end of an SSH connection that is (OSC 52)
    #[arg(long, conflicts_with = "paste")]
    osc52: bool,
}

/// Answers to placeholders, from arguments.
pub fn answers(given: &[String]) -> Result<BTreeMap<String, String>, Failure> {
    let answer = |text: &String| {
        let (name, value) =
            text.split_once('=').ok_or_else(|| Failure::Usage(format!("--answer takes NAME=VALUE, not {text}")))?;
        Ok((name.trim().to_owned(), value.to_owned()))
    };
    given.iter().map(answer).collect()
}

impl Recall {
    /// What comes between several clips, if it was given.
    pub fn separator(&self) -> Option<String> {
        self.joining.separator()
    }

    /// The names of the clips.
    pub fn names(self, service: &Client) -> Result<Vec<String>, Failure> {
        self.selection.names(service)
    }

    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        if self.osc52 {
            return osc52::put(context, &service, self);
        }
        let mut asked = Asked {
            clips: self.selection.names(&service)?,
            plain: self.plain,
            join: self.joining.separator(),
            reshape: self.reshape,
            fill: if self.fill { Some(true) } else { self.no_fill.then_some(false) },
            answers: answers(&self.answers)?,
            ask_usual: std::io::stdin().is_terminal(),
            paste: self.paste,
            into: None,
            restore: self.restore,
            skip_others: self.joining.skip_others,
            at_once: true,
        };
        let recalled: Recalled = loop {
            match asking(&service, &asked.clips, || service.post("/recall", &asked)) {
                Err(Failure::Problem(problem)) if !problem.asks.is_empty() => {
                    for name in &problem.asks {
                        match answer(name, problem.usual.get(name))? {
                            // A bare Enter would leave a hole in the letter: it is asked once more.
                            Some(answer) if answer.is_empty() && !problem.usual.contains_key(name) => {}
                            Some(answer) => drop(asked.answers.insert(name.clone(), answer)),
                            None => return Err(Failure::Problem(problem)),
                        }
                    }
                }
                other => break other?,
            }
        };
        if context.json {
            return print_json(&recalled);
        }
        let formats =
            if recalled.formats.len() > 1 { format!(", in {} formats", recalled.formats.len()) } else { String::new() };
        let done = match (recalled.pasted, self.paste) {
            (true, _) => "Pasted",
            (false, true) => "On the clipboard, but no window took it; press Ctrl+V there",
            (false, false) => "On the clipboard",
        };
        say(&format!("{done}: {}{formats}", named(&recalled.clips)))?;
        left_out(&recalled);
        if recalled.missing > 0 {
            tell!(
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn answers_have_names() {
        let given = ["Name=Ada".to_owned(), "Sum=1=2".to_owned()];
        assert_eq!(answers(&given).unwrap().get("Sum").map(String::as_str), Some("1=2"));
        assert!(answers(&["Ada".to_owned()]).is_err());
    }
}
