use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use yadori_api::Status;

/// Resume keeping copies after a pause
#[derive(Args)]
pub struct Resume {}

impl Resume {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let status: Status = context.service()?.post("/resume", &())?;
        if context.json {
            return print_json(&status.capture);
        }
        say(match status.capture.reason {
            None => "Resumed; copies are kept.",
            Some(_) => "Resumed, but copies can't be kept; find out why with: yadori doctor",
        })
    }
}
