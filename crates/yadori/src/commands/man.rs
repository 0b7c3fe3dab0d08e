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
        clap_mangen::generate_to(without_help(command.clone()), &self.folder).map_err(failed)?;
        say(&format!("Wrote the manual pages to {}", self.folder.display()))
    }
}

/// The same without its commands that only show help, which have no pages.
fn without_help(command: Command) -> Command {
    command.mut_subcommands(|part| if part.get_name() == "help" { part.hide(true) } else { without_help(part) })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pages(command: &Command) -> Vec<String> {
        let parts = command.get_subcommands().filter(|part| !part.is_hide_set());
        parts.flat_map(|part| std::iter::once(part.get_name().to_owned()).chain(pages(part))).collect()
    }

    #[test]
    fn every_command_has_a_page_and_help_on_it_has_none() {
        let part = || Command::new("drawer").subcommand(Command::new("add"));
        let mut all = Command::new("yadori").subcommand(part()).subcommand(Command::new("man"));
        all.build();
        assert!(pages(&all).iter().any(|name| name == "help"));
        assert_eq!(pages(&without_help(all)), ["drawer", "add", "man"]);
    }
}
