use super::{clips, print_json};
use crate::failure::Failure;
use crate::terminal::Style;
use crate::{Context, table};
use clap::Args;
use yadori_api::{Clip, Clips};

/// List the history, newest first
///
/// Each line tells the clip's position, its kind, how long ago it was copied, what it is, and the
/// application it came from; then, in brackets, its alias, pin, drawer and mark, and when it goes if that is
/// within a day. A terminal gets lines that fit; a pipe gets them whole.
#[derive(Args)]
pub struct List {
    /// How many clips to list
    #[arg(short = 'n', long, default_value_t = 20, value_parser = clap::value_parser!(u32).range(1..))]
    limit: u32,

    /// List the pinned clips, in their order
    #[arg(long)]
    pinned: bool,
}

impl List {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        if self.pinned {
            return self.pinned(context);
        }
        let (clips, _) = clips(&context.service()?, None, self.limit)?;
        if context.json {
            return print_json(&clips);
        }
        if clips.is_empty() {
            eprintln!("Nothing has been copied yet. Copy something, or add it: yadori add \"some text\"");
        }
        Ok(table::print(&clips, Style::of_stdout(), jiff::Timestamp::now())?)
    }

    fn pinned(self, context: &Context) -> Result<(), Failure> {
        let Clips { clips } = context.service()?.get("/pins")?;
        if context.json {
            return print_json(&clips);
        }
        if clips.is_empty() {
            eprintln!("Nothing is pinned yet. Pin something: yadori pin 3");
        }
        let labels: Vec<String> = (1..=clips.len()).map(|place| format!("p{place}")).collect();
        // That they are pinned goes without saying here.
        let clips: Vec<Clip> = clips.into_iter().map(|clip| Clip { pinned: false, ..clip }).collect();
        Ok(table::print_labelled(&clips, &labels, Style::of_stdout(), jiff::Timestamp::now())?)
    }
}
