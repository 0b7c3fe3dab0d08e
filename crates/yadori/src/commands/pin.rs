use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use yadori_api::{Clips, Named, Pin as Asked};

/// Pin clips: they stay, whatever is cleared or swept
///
/// The pinned clips have an order of their own, and stay where they are while the history moves on: the
/// second of them is p2. List them with: yadori list --pinned
#[derive(Args)]
pub struct Pin {
    /// The clips: positions, p2, t1, :alias, or beginnings of ids
    #[arg(required = true)]
    clips: Vec<String>,

    /// The place among the pinned ones that the first of them comes to, from 1
    #[arg(long, value_name = "PLACE", value_parser = clap::value_parser!(u32).range(1..))]
    at: Option<u32>,
}

/// Unpin clips; they stay in the history
#[derive(Args)]
pub struct Unpin {
    /// The clips: p2, positions, :alias, or beginnings of ids
    #[arg(required = true)]
    clips: Vec<String>,
}

impl Pin {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let pinned: Clips = context.service()?.post("/pins", &Asked { clips: self.clips, at: self.at })?;
        if context.json {
            return print_json(&pinned.clips);
        }
        say(&format!("Pinned {}", named(&pinned.clips)))
    }
}

impl Unpin {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let unpinned: Clips = context.service()?.post("/pins/remove", &Named { clips: self.clips })?;
        if context.json {
            return print_json(&unpinned.clips);
        }
        say(&format!("Unpinned {}", named(&unpinned.clips)))
    }
}
