use super::{named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use yadori_api::{Delete as Asked, Deleted};

/// Delete clips; they can be brought back for 24 hours
#[derive(Args)]
pub struct Delete {
    /// The clips: positions, or beginnings of ids
    #[arg(required = true)]
    clips: Vec<String>,
}

impl Delete {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let deleted: Deleted = context.service()?.post("/delete", &Asked { clips: self.clips })?;
        if context.json {
            return print_json(&deleted);
        }
        say(&format!("Deleted {}. Bring back with: yadori undo", named(&deleted.clips)))
    }
}
