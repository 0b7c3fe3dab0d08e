use super::say;
use crate::failure::Failure;
use clap::{Args, Command};
use std::path::PathBuf;

/// Write the manual pages
///
/// One page for yadori, and one for each command: yadori man ~/.local/share/man/man1, and then: man yadori-find
#[derive(Args)]
pub struct Man {
    /// The folder for the pages; it is made if it is missing
    folder: PathBuf,
}

impl Man {
    pub fn run(self, command: &mut Command) -> Result<(), Failure> {
        let failed =
            |error: std::io::Error| Failure::Here(format!("couldn't write to {}: {error}", self.folder.display()));
        std::fs::create_dir_all(&self.folder).map_err(failed)?;
        command.build();
        clap_mangen::generate_to(command.clone(), &self.folder).map_err(failed)?;
        say(&format!("Wrote the manual pages to {}", self.folder.display()))
    }
}
