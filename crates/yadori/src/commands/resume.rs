use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use yadori_api::Status;

/// Keep what is copied again, after a pause
#[derive(Args)]
pub struct Resume {}

impl Resume {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let status: Status = context.service()?.post("/resume", &())?;
        if context.json {
            return print_json(&status.capture);
        }
        say(match status.capture.reason {
            None => "What is copied is kept again.",
            Some(_) => "Not paused any more, but there is no clipboard to keep from; see: yadori doctor",
        })
    }
}
