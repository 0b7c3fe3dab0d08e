use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use clap::Args;
use std::process::{Command, Stdio};
use yadori_api::ConsoleLink;

/// Open the console in a browser
///
/// Prints a link that lets one browser in, once, within two minutes; and opens it where there is a
/// desktop.
#[derive(Args)]
pub struct Console {
    /// Only print the link
    #[arg(long)]
    print: bool,
}

impl Console {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let link: ConsoleLink = context.service()?.post("/console-links", &())?;
        if context.json {
            return print_json(&link);
        }
        say(&link.url)?;
        let desktop = ["DISPLAY", "WAYLAND_DISPLAY"].iter().any(|name| std::env::var_os(name).is_some());
        if !self.print && desktop {
            let opened = Command::new("xdg-open")
                .arg(&link.url)
                .stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn();
            if opened.is_err() {
                eprintln!(
                    "No browser could be opened (xdg-open is missing); open the link yourself, within two minutes."
                );
            }
        }
        Ok(())
    }
}
