use crate::failure::Failure;
use clap::{Args, Command};
use clap_complete::Shell;
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use clap_complete::env::Shells;
use std::ffi::OsStr;
use std::io::Write;
use yadori_api::{Clips, Device, Drawer, Way};
use yadori_client::Client;

/// The variable by which a shell asks for completions.
pub const VARIABLE: &str = "YADORI_COMPLETE";

/// Print what a shell needs to complete commands, and the names of clips, drawers and devices
///
/// For bash, for example: yadori completions bash > ~/.local/share/bash-completion/completions/yadori
#[derive(Args)]
pub struct Completions {
    /// The shell
    shell: Shell,
}

impl Completions {
    pub fn run(self) -> Result<(), Failure> {
        let name = self.shell.to_string();
        let shells = Shells::builtins();
        let shell = shells.completer(&name).ok_or_else(|| Failure::Usage(format!("no completions for {name}")))?;
        let mut script = Vec::new();
        if self.shell == Shell::Bash {
            // An alias begins with a colon, which would be a word of its own.
            script.extend_from_slice(b"COMP_WORDBREAKS=${COMP_WORDBREAKS//:}\n");
        }
        shell.write_registration(VARIABLE, "yadori", "yadori", "yadori", &mut script)?;
        Ok(std::io::stdout().write_all(&script)?)
    }
}

/// The commands, with what is known of their arguments' values: an argument has the name of what it takes.
pub fn taught(command: Command) -> Command {
    let name = command.get_name().to_owned();
    let command = command.mut_args(|argument| {
        let values = match (name.as_str(), argument.get_id().as_str()) {
            (_, "clip" | "clips" | "alias") => aliases,
            (_, "drawer") | ("remove", "into") => drawers,
            (_, "device") | ("send", "to") => devices,
            (_, "ways" | "reshape") => ways,
            _ => return argument,
        };
        argument.add(ArgValueCompleter::new(values))
    });
    let below: Vec<String> = command.get_subcommands().map(|below| below.get_name().to_owned()).collect();
    below.into_iter().fold(command, |command, below| command.mut_subcommand(below, taught))
}

/// What the service knows that begins with what was typed; nothing without a service.
fn known<T: serde::de::DeserializeOwned>(
    path: &str,
    typed: &OsStr,
    names: impl Fn(T) -> Vec<(String, String)>,
) -> Vec<CompletionCandidate> {
    let Some(typed) = typed.to_str() else { return Vec::new() };
    // Bash gives and takes words as they are typed; the other shells do that themselves.
    let is_bash = std::env::var_os("_CLAP_COMPLETE_COMP_TYPE").is_some();
    let is_bare = is_bash && !typed.starts_with(['"', '\'']);
    let typed = typed.trim_start_matches(['"', '\'']).replace('\\', "").to_lowercase();
    let found = Client::find(None).and_then(|service| service.get(path));
    let names = found.map(names).unwrap_or_default().into_iter();
    names
        .filter(|(name, _)| name.to_lowercase().starts_with(&typed))
        .map(|(name, help)| {
            CompletionCandidate::new(if is_bare { escaped(&name) } else { name })
                .help(Some(crate::terminal::safe(&help).into()))
        })
        .collect()
}

/// A word as it is typed in bash.
fn escaped(name: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || !c.is_ascii() || "-_./:,@%+=".contains(c);
    name.chars().flat_map(|c| (!is_plain(c)).then_some('\\').into_iter().chain([c])).collect()
}

fn aliases(typed: &OsStr) -> Vec<CompletionCandidate> {
    known("/aliases", typed, |found: Clips| {
        let named = found.clips.into_iter().filter_map(|clip| Some((clip.alias?, clip.title.unwrap_or(clip.preview))));
        named.map(|(alias, what)| (format!(":{alias}"), crate::terminal::fit(&what.replace('\n', " "), 40))).collect()
    })
}

fn drawers(typed: &OsStr) -> Vec<CompletionCandidate> {
    known("/drawers", typed, |found: Vec<Drawer>| {
        found.into_iter().map(|drawer| (drawer.name, String::new())).collect()
    })
}

fn devices(typed: &OsStr) -> Vec<CompletionCandidate> {
    known("/devices", typed, |found: Vec<Device>| {
        found.into_iter().map(|device| (device.name, String::new())).collect()
    })
}

fn ways(typed: &OsStr) -> Vec<CompletionCandidate> {
    known("/ways", typed, |found: Vec<Way>| found.into_iter().map(|way| (way.name, way.does)).collect())
}
