use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use yadori_api::{Undo as Asked, Undone};

/// Bring back what was deleted last
///
/// Run again, it brings back what was deleted before that.
#[derive(Args)]
pub struct Undo {
    /// Undo this step, of those that delete --json tells, instead of the last
    #[arg(long)]
    step: Option<u64>,
}

impl Undo {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let undone: Undone = context.service()?.post("/undo", &Asked { step: self.step })?;
        if context.json {
            return print_json(&undone);
        }
        say(&format!("Back in the history: {}", named(&undone.clips)))
    }
}
