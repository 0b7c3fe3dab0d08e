//! Yadori's service: keeps a history of what is copied. See `yadorid --help`.

use clap::{CommandFactory, Parser};
use std::io::{IsTerminal, Write};
use std::path::PathBuf;
use std::process::ExitCode;
use tokio::signal::unix::{SignalKind, signal};
use tracing_subscriber::filter::Targets;
use tracing_subscriber::prelude::*;
use yadori_core::with_causes;
use yadori_files::Places;
use yadorid::config::{ClipboardChoice, Config};
use yadorid::service;

/// Keeps a history of what is copied: text, links, pictures and lists of files.
///
/// Runs in the foreground until it is told to end (Ctrl-C, or SIGTERM). When it is ready it prints one
/// line, `ready` and its address. Use `yadori` to talk to it.
#[derive(Parser)]
#[command(version, name = "yadorid")]
struct Arguments {
    /// Keep everything under this folder, instead of in the user's own folders [env: YADORI_HOME]
    #[arg(long, value_name = "DIR")]
    home: Option<PathBuf>,

    /// Print the manual page, and end
    #[arg(long)]
    manual: bool,

    /// The clipboard to use [default: that of config.toml, or auto]
    #[arg(long, value_enum)]
    clipboard: Option<ClipboardChoice>,

    /// End with the desktop session: when the desktop is gone and does not come back within some seconds
    #[arg(long)]
    session: bool,

    /// Check that everything needed to start is there, say so, and end
    #[arg(long)]
    check: bool,
}

fn main() -> ExitCode {
    // Before anything else is read or opened.
    if std::env::args_os().nth(1).is_some_and(|argument| argument == service::CAGE) {
        return yadori_cage::work();
    }
    let arguments = Arguments::parse();
    if arguments.manual {
        let printed = clap_mangen::Man::new(Arguments::command()).render(&mut std::io::stdout());
        return if printed.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
    }
    yadorid::hardening::harden();
    yadorid::hardening::use_memory_sparingly();
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    let outcome = runtime.map_err(|error| error.to_string()).and_then(|runtime| {
        let outcome = runtime.block_on(run(arguments));
        runtime.shutdown_timeout(std::time::Duration::from_secs(1));
        outcome
    });
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            let _ = writeln!(std::io::stderr(), "yadorid: {message}");
            ExitCode::FAILURE
        }
    }
}

async fn run(arguments: Arguments) -> Result<(), String> {
    let places = Places::find(arguments.home.as_deref(), |name| std::env::var_os(name).map(PathBuf::from))
        .ok_or("there is no home folder (HOME is not set); say where to keep everything with --home")?;
    let mut config = Config::read(&places.config).map_err(|error| with_causes(&error))?;
    config.clipboard = arguments.clipboard.unwrap_or(config.clipboard);
    let filter = config.log.clone().unwrap_or_else(|| "info".into());
    let filter: Targets =
        filter.parse().map_err(|error| format!("log = \"{filter}\" in config.toml is not right: {error}"))?;
    let told = tracing_subscriber::fmt::layer()
        .with_ansi(std::io::stderr().is_terminal())
        .with_writer(std::io::stderr)
        // A log that cannot be written (its disk is full, its reader is gone) is no reason to fail at what it tells of.
        .log_internal_errors(false);
    tracing_subscriber::registry().with(told.with_filter(filter)).init();

    // Told to end while starting counts as well.
    let mut terminate = signal(SignalKind::terminate()).map_err(|error| error.to_string())?;
    let mut interrupt = signal(SignalKind::interrupt()).map_err(|error| error.to_string())?;
    let end = async move {
        tokio::select! {
            _ = terminate.recv() => {}
            _ = interrupt.recv() => {}
        }
    };
    let running = service::start(places.clone(), config).await.map_err(|error| with_causes(&error))?;
    if arguments.check {
        let data = places.data.display().to_string();
        let told = move |address| {
            let _ = writeln!(std::io::stdout(), "Everything needed is there: {data} and {address} can be used.");
        };
        let done = running.run(Box::new(told), Box::pin(async {}));
        return done.await.map_err(|error| with_causes(&error));
    }
    let ready = |address| {
        let mut out = std::io::stdout();
        let _ = writeln!(out, "ready {address}").and_then(|()| out.flush());
        let _ = sd_notify::notify(&[sd_notify::NotifyState::Ready]);
    };
    let gone = running.desktop_gone();
    let end = async move {
        tokio::select! {
            () = end => {}
            () = gone, if arguments.session => {}
        }
    };
    running.run(Box::new(ready), Box::pin(end)).await.map_err(|error| with_causes(&error))
}
