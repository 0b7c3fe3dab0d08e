use super::{named, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use yadori_api::{ClipDetail, Kind};
use yadori_client::in_path;

/// Open a link in the browser, or files with their programs
#[derive(Args)]
pub struct Open {
    /// The clip: its position, p2, t1, :alias, or the first characters of its id
    clip: String,
}

impl Open {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let detail: ClipDetail = context.service()?.get(&format!("/clips/{}", in_path(&self.clip)))?;
        let text = detail.text.as_deref().unwrap_or_default();
        let targets: Vec<&str> = match detail.clip.kind {
            Kind::Link => vec![text.trim()],
            Kind::Files => text.lines().collect(),
            kind => {
                let what = kind.word();
                return Err(Failure::Here(format!("only links and files can be opened; this is {what}")));
            }
        };
        for target in targets {
            // Its name is no option of the program that opens it.
            let target = if target.starts_with('-') { format!("./{target}") } else { target.to_owned() };
            let opened = yadori_files::opener(&target).status();
            match opened {
                Ok(status) if status.success() => {}
                Ok(status) => return Err(Failure::Here(format!("xdg-open couldn't open {target} ({status})"))),
                Err(error) => {
                    return Err(Failure::Here(format!("couldn't run xdg-open (Debian's package xdg-utils): {error}")));
                }
            }
        }
        say(&format!("Opened: {}", named(std::slice::from_ref(&detail.clip))))
    }
}
