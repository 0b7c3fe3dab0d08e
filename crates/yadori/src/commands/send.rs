use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::safe;
use clap::Args;
use yadori_api::{Send as Asked, Sent};

/// Hand clips over to another device of yours, whatever is shared otherwise
#[derive(Args)]
pub struct Send {
    /// The clips: positions, p2, t1, :alias, or the beginnings of ids
    #[arg(required = true)]
    clips: Vec<String>,

    /// The device: its name, or the beginning of its id
    #[arg(long, value_name = "DEVICE")]
    to: String,

    /// Put the last of them on that device's clipboard, if it allows that
    #[arg(long)]
    recall: bool,
}

impl Send {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let asked = Asked { clips: self.clips, to: self.to, recall: self.recall };
        let sent: Sent = context.service()?.post("/send", &asked)?;
        if context.json {
            return print_json(&sent);
        }
        let there = if sent.recalled { ", and it is on the clipboard there" } else { "" };
        say(&format!("Sent to {}: {}{there}", safe(&sent.to), named(&sent.clips)))
    }
}
