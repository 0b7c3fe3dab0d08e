//! Yadori's picker: a small window at a key press, in which a clip is found and pasted.
//!
//! It stays in memory once it has been shown, and is asked to show itself again through a socket. It speaks to the service
//! over HTTP and to nothing else.
//!
//! * `instance`: one picker for each instance of the service, and what it is asked
//! * `service`: what is asked of the service, on threads of their own, and what it answers
//! * `keys`: which keys do what in the window, and how a person changes them
//! * `entries`: the lists as data
//! * `window`: the window; `rows`: an entry as a row; `lines`: text in it; `panels`: help, a whole clip, ways to reshape, questions
//! * `accessible`: what screen readers are told
//! * `look`: colours and faces; `place`: where the window appears

mod accessible;
mod entries;
mod instance;
mod keys;
mod lines;
mod look;
mod panels;
mod place;
mod rows;
mod service;
mod window;

use clap::{CommandFactory, Parser};
use gtk4::glib;
use instance::{Instance, Order};
use std::path::PathBuf;
use std::process::ExitCode;

/// Find a clip and paste it, in a small window.
///
/// Shows the window, or has the picker that already runs show it. Type to search, choose with the arrows or a digit, paste
/// with Enter; ? lists all keys. They can be changed in picker.toml, beside config.toml.
#[derive(Parser)]
#[command(version, name = "yadori-picker")]
struct Arguments {
    /// The folder of the service to talk to, if it was started with one [env: YADORI_HOME]
    #[arg(long, value_name = "DIR")]
    home: Option<PathBuf>,

    /// Print the manual page, and end
    #[arg(long)]
    manual: bool,
}

/// The name by which desktops know the window.
const NAME: &str = "org.yadori.Picker";

fn main() -> ExitCode {
    if std::env::var_os("GSK_RENDERER").is_none() {
        // Of the renderers, it is ready soonest and takes the least memory.
        // SAFETY: no other thread runs yet.
        unsafe { std::env::set_var("GSK_RENDERER", "cairo") };
    }
    let Arguments { home, manual } = Arguments::parse();
    if manual {
        let printed = clap_mangen::Man::new(Arguments::command()).render(&mut std::io::stdout());
        return if printed.is_ok() { ExitCode::SUCCESS } else { ExitCode::FAILURE };
    }
    match run(home) {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("yadori-picker: {message}");
            ExitCode::FAILURE
        }
    }
}

fn run(home: Option<PathBuf>) -> Result<(), String> {
    let places = yadori_client::places(home.as_deref()).map_err(|error| error.to_string())?;
    let (orders, asked) = async_channel::unbounded();
    let Some(instance) = Instance::claim(&places, orders).map_err(|error| {
        format!("{} cannot be used: {error}; is the service's folder there?", places.picker().display())
    })?
    else {
        return Ok(());
    };
    let config = keys::Config::read(&places.config.with_file_name("picker.toml"))?;
    glib::set_prgname(Some(NAME));
    glib::set_application_name("Yadori");
    gtk4::init().map_err(|_| "there is no display to show a window on; in a terminal, use: yadori pick".to_owned())?;
    let main = glib::MainLoop::new(None, false);
    let picker = window::Picker::new(home, config);
    picker.follow_news();
    let context = glib::MainContext::default();
    let ended = main.clone();
    context.spawn_local(async move {
        picker.show();
        while let Ok(order) = asked.recv().await {
            match order {
                Order::Show => picker.show(),
                Order::End => break,
            }
        }
        ended.quit();
    });
    main.run();
    drop(instance);
    Ok(())
}
