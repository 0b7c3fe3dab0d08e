//! Yadori's command-line client. It talks to the service over HTTP and to nothing else.
//!
//! * `commands`: one file for each command: its arguments, whose comments are its help, and what it does
//! * `ask`: questions to the person at the terminal
//! * `pager`: output that is longer than the screen
//! * `failure`: errors as message, hint and exit code; `hints`: what can be done about them
//! * `terminal`, `table`: what is printed, fitted to where it is printed; `zone`: the time zone that it is printed in

#[macro_use]
mod terminal;

mod ask;
mod commands;
mod failure;
mod fetching;
mod hints;
mod pager;
mod table;
mod zone;

use clap::{Args, CommandFactory, FromArgMatches, Parser, Subcommand};
use failure::Failure;
use std::ffi::OsString;
use std::path::PathBuf;
use std::process::ExitCode;
use yadori_client::Client;

/// Find again what you copied, and put it back on the clipboard.
///
/// A clip is named by its position in the list (3), by its place among the pinned clips (p2) or in the
/// tray (t1), by its alias (:sig), or by the first four or more characters of its id.
/// Every command that prints something takes --json.
///
/// Exit codes: 0 done, 1 failed, 2 wrong usage, 3 the service cannot be reached, 4 no such clip.
#[derive(Parser)]
#[command(version, name = "yadori", max_term_width = 100, arg_required_else_help = true)]
struct Arguments {
    #[command(flatten)]
    general: General,

    #[command(subcommand)]
    command: Command,
}

/// What can be said with every command.
#[derive(Args)]
struct General {
    /// The folder of the service to talk to, if it was started with one [env: YADORI_HOME]
    #[arg(long, global = true, value_name = "DIR")]
    home: Option<PathBuf>,

    /// Print JSON, as the HTTP interface gives it
    #[arg(long, global = true)]
    json: bool,

    /// Print nothing but errors and what was asked for
    #[arg(long, short, global = true)]
    quiet: bool,

    /// Print without a pager what is longer than the screen
    #[arg(long, global = true)]
    no_pager: bool,

    /// When to use colour
    #[arg(long, global = true, value_name = "WHEN", default_value = "auto", hide_default_value = true)]
    color: terminal::When,
}

// Only the arguments of the command that is given are made: all of them would take longer than most answers.
#[derive(Subcommand)]
#[command(defer = true)]
enum Command {
    #[command(visible_aliases = ["ls", "history"])]
    List(commands::list::List),
    #[command(visible_aliases = ["search", "grep"])]
    Find(commands::find::Find),
    Show(commands::show::Show),
    Recall(commands::recall::Recall),
    Pick(commands::pick::Pick),
    Copy(commands::pipes::Copy),
    Paste(commands::pipes::Paste),
    Open(commands::open::Open),
    #[command(visible_alias = "new")]
    Add(commands::add::Add),
    Pin(commands::pin::Pin),
    Unpin(commands::pin::Unpin),
    Title(commands::attributes::Title),
    Mark(commands::attributes::Mark),
    Alias(commands::attributes::Alias),
    Fill(commands::attributes::Fill),
    Unmask(commands::attributes::Unmask),
    Expand(commands::expand::Expand),
    Drawer(commands::drawer::Drawer),
    Tray(commands::tray::Tray),
    Keys(commands::keys::Keys),
    Edit(commands::edit::Edit),
    Reshape(commands::edit::Reshape),
    #[command(visible_alias = "rm")]
    Delete(commands::delete::Delete),
    Clear(commands::delete::Clear),
    Undo(commands::undo::Undo),
    Redo(commands::undo::Redo),
    #[command(visible_alias = "trash")]
    Bin(commands::bin::Bin),
    Device(commands::device::Device),
    Send(commands::send::Send),
    Sync(commands::sync::Sync),
    Relay(commands::relay::Relay),
    Lock(commands::lock::Lock),
    Unlock(commands::lock::Unlock),
    Pause(commands::pause::Pause),
    Resume(commands::resume::Resume),
    Rules(commands::rules::Rules),
    Export(commands::export::Export),
    Import(commands::export::Import),
    Stats(commands::stats::Stats),
    Watch(commands::watch::Watch),
    Status(commands::status::Status),
    Service(commands::service::Service),
    Doctor(commands::doctor::Doctor),
    Console(commands::console::Console),
    Api(commands::api::Api),
    Completions(commands::completions::Completions),
    Widget(commands::widget::Widget),
    Man(commands::man::Man),
}

/// What every command works with.
struct Context {
    home: Option<PathBuf>,
    json: bool,
}

impl Context {
    fn service(&self) -> Result<Client, Failure> {
        Ok(Client::find(self.home.as_deref())?)
    }
}

impl Command {
    /// Whether it prints something to be read at length.
    fn is_read(&self) -> bool {
        match self {
            Self::List(_) | Self::Find(_) | Self::Show(_) => true,
            Self::Bin(bin) => bin.is_listing(),
            _ => false,
        }
    }
}

/// All commands with their arguments.
fn all_commands() -> clap::Command {
    let mut all = Arguments::command();
    all.build();
    all
}

/// What was given on the command line; ends the program where that is a call for help, or wrong.
fn given() -> Arguments {
    let words: Vec<OsString> = std::env::args_os().collect();
    // Help and errors are made with all commands at hand.
    let with_all = || Arguments::from_arg_matches(&all_commands().get_matches_from(&words));
    parsed_alone(&words).map_or_else(with_all, Ok).unwrap_or_else(|error| error.exit())
}

/// What was given, if there is nothing to say about it. The parser is told of one command only, the one that is named:
/// it begins by giving every command that it knows a copy of the general options, which takes longer than most answers.
fn parsed_alone(words: &[OsString]) -> Option<Arguments> {
    let all = Command::augment_subcommands(clap::Command::new("yadori"));
    let named = words.iter().skip(1).find_map(|word| all.find_subcommand(word))?;
    let parser = General::augment_args(clap::Command::new("yadori")).subcommand(named.clone());
    Arguments::from_arg_matches(&parser.try_get_matches_from(words).ok()?).ok()
}

fn main() -> ExitCode {
    clap_complete::CompleteEnv::with_factory(|| commands::completions::taught(all_commands()))
        .var(commands::completions::VARIABLE)
        .complete();
    let Arguments { general: General { home, json, quiet, no_pager, color }, command } = given();
    terminal::settle(quiet, color);
    let pager = (command.is_read() && !json && !no_pager).then(pager::Pager::start).flatten();
    let context = Context { home, json };
    let outcome = match command {
        Command::List(command) => command.run(&context),
        Command::Find(command) => command.run(&context),
        Command::Show(command) => command.run(&context),
        Command::Recall(command) => command.run(&context),
        Command::Pick(command) => command.run(&context),
        Command::Copy(command) => command.run(&context),
        Command::Paste(command) => command.run(&context),
        Command::Open(command) => command.run(&context),
        Command::Watch(command) => command.run(&context),
        Command::Add(command) => command.run(&context),
        Command::Pin(command) => command.run(&context),
        Command::Unpin(command) => command.run(&context),
        Command::Title(command) => command.run(&context),
        Command::Mark(command) => command.run(&context),
        Command::Alias(command) => command.run(&context),
        Command::Fill(command) => command.run(&context),
        Command::Unmask(command) => command.run(&context),
        Command::Expand(command) => command.run(&context),
        Command::Drawer(command) => command.run(&context),
        Command::Tray(command) => command.run(&context),
        Command::Keys(command) => command.run(&context),
        Command::Edit(command) => command.run(&context),
        Command::Reshape(command) => command.run(&context),
        Command::Clear(command) => command.run(&context),
        Command::Export(command) => command.run(&context),
        Command::Import(command) => command.run(&context),
        Command::Bin(command) => command.run(&context),
        Command::Stats(command) => command.run(&context),
        Command::Delete(command) => command.run(&context),
        Command::Undo(command) => command.run(&context),
        Command::Redo(command) => command.run(&context),
        Command::Device(command) => command.run(&context),
        Command::Send(command) => command.run(&context),
        Command::Sync(command) => command.run(&context),
        Command::Relay(command) => command.run(&context),
        Command::Lock(command) => command.run(&context),
        Command::Unlock(command) => command.run(&context),
        Command::Pause(command) => command.run(&context),
        Command::Resume(command) => command.run(&context),
        Command::Rules(command) => command.run(&context),
        Command::Status(command) => command.run(&context),
        Command::Service(command) => command.run(&context),
        Command::Doctor(command) => command.run(&context),
        Command::Console(command) => command.run(&context),
        Command::Api(command) => command.run(&context),
        Command::Completions(command) => command.run(),
        Command::Widget(command) => command.run(),
        Command::Man(command) => command.run(&mut all_commands()),
    };
    let shown = pager.map_or(Ok(()), |pager| pager.show(outcome.is_ok()));
    match outcome.and(shown) {
        Ok(()) => ExitCode::SUCCESS,
        Err(failure) => failure.report(context.json),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fmt::Write;
    use std::path::Path;

    #[test]
    fn the_arguments_are_consistent() {
        Arguments::command().debug_assert();
    }

    /// The reference of all commands, made from their help.
    fn reference() -> String {
        let mut text = String::from(
            "# Commands\n\nMade from the commands' own help (`yadori help COMMAND`); do not edit.\n\n## yadori\n\n```text\n",
        );
        let mut root = Arguments::command().term_width(100).disable_help_subcommand(true);
        root.build();
        let _ = writeln!(text, "{}```", root.render_long_help());
        for command in root.get_subcommands_mut() {
            let name = format!("yadori {}", command.get_name());
            let _ = write!(text, "\n## {name}\n\n```text\n{}```\n", command.render_long_help());
            for below in command.get_subcommands_mut().filter(|below| below.get_name() != "help") {
                let _ = write!(text, "\n### {name} {}\n\n```text\n", below.get_name());
                let _ = writeln!(text, "{}```", below.render_long_help());
            }
        }
        text.lines().map(str::trim_end).collect::<Vec<_>>().join("\n") + "\n"
    }

    #[test]
    fn the_committed_reference_is_current() {
        let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/commands.md");
        let current = reference();
        if std::env::var_os("YADORI_UPDATE").is_some() {
            std::fs::write(&path, &current).unwrap();
        }
        let committed = std::fs::read_to_string(&path).unwrap_or_default();
        assert!(committed == current, "docs/commands.md is not current; run: YADORI_UPDATE=1 cargo test -p yadori");
    }
}
