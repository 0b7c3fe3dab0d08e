use crate::failure::Failure;
use clap::{Args, Command};
use clap_complete::Shell;
use std::io::Write;

/// Print completions for a shell
///
/// For bash, for example: yadori completions bash > ~/.local/share/bash-completion/completions/yadori
#[derive(Args)]
pub struct Completions {
    /// The shell
    shell: Shell,
}

impl Completions {
    pub fn run(self, command: &mut Command) -> Result<(), Failure> {
        let mut script = Vec::new();
        clap_complete::generate(self.shell, command, "yadori", &mut script);
        Ok(std::io::stdout().write_all(&script)?)
    }
}
