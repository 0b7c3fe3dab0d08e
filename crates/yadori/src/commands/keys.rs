//! The keys by which Yadori is reached from every program.

use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{Style, pad, safe};
use clap::{Args, Subcommand, ValueEnum};
use std::path::Path;
use yadori_api::{KeyBinding, KeyState, Keys as All, PressKeys, SetKeys};
use yadori_client::in_path;
use yadori_core::keys::{Chord, Syntax};

/// The keys that work in every program: list, set or remove them
///
/// On X11 they work as soon as the service runs. A Wayland compositor gives its keys to no program: `yadori keys --for sway`
/// prints the lines for its configuration.
#[derive(Args)]
#[command(args_conflicts_with_subcommands = true)]
pub struct Keys {
    #[command(subcommand)]
    command: Option<Command>,

    /// Print the lines for this desktop's own configuration
    #[arg(long = "for", value_name = "DESKTOP")]
    desktop: Option<Desktop>,
}

#[derive(Subcommand)]
enum Command {
    /// List the actions, their keys, and whether the keys reach the service
    List,
    /// Set the keys of an action: yadori keys set picker Super+C
    Set {
        /// The action: picker, paste-1 to paste-9, paste-plain, tray-next, tray, pin, pause
        action: String,
        /// The keys, such as Ctrl+Alt+V, Super+F5 or Shift+Super+Insert
        keys: String,
    },
    /// Take an action's keys away
    Remove {
        /// The action
        action: String,
    },
    /// Give all actions their default keys
    Reset,
    /// Do what an action's keys do: for the keys of a desktop's own configuration
    Press {
        /// The action
        action: String,
    },
    /// Set the keys that paste in an application, where they are not Ctrl+V: yadori keys paste Editor Shift+Insert
    Paste {
        /// The application, as clips name it as their source
        application: String,
        /// The keys; without them, what was set is forgotten
        keys: Option<String>,
    },
}

/// A desktop that keeps its keys in a configuration of its own.
#[derive(Clone, Copy, ValueEnum)]
enum Desktop {
    Sway,
    I3,
    Hyprland,
    River,
    Labwc,
    Gnome,
}

impl Keys {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        if let Some(desktop) = self.desktop {
            return lines(desktop, context.home.as_deref(), &service.get("/keys")?);
        }
        let action = |action: &str| format!("/keys/actions/{}", in_path(action));
        // Of what was changed, only that is shown.
        let mut changed = None;
        let all: All = match self.command.unwrap_or(Command::List) {
            Command::List => service.get("/keys")?,
            Command::Set { action: name, keys } => {
                let all = service.put(&action(&name), &SetKeys { keys: Some(keys) })?;
                changed = Some(name);
                all
            }
            Command::Remove { action: name } => {
                let all = service.put(&action(&name), &SetKeys { keys: None })?;
                changed = Some(name);
                all
            }
            Command::Reset => {
                let all = service.post("/keys/reset", &serde_json::json!({}))?;
                if !context.json {
                    return say("All actions have their default keys again");
                }
                all
            }
            Command::Paste { application, keys } => {
                service.put(&format!("/keys/applications/{}", in_path(&application)), &SetKeys { keys })?
            }
            // Whoever presses keys wants to see nothing.
            Command::Press { action } => {
                let _: All = service.post("/keys/press", &PressKeys { action })?;
                return Ok(());
            }
        };
        if context.json { print_json(&all) } else { print(&all, changed.as_deref()) }
    }
}

/// What is to be said of keys that do not work, if anything.
fn remark(binding: &KeyBinding) -> Option<String> {
    match binding.state? {
        // The desktop's words for keys need not be ours.
        KeyState::Grabbed => binding.assigned.as_ref().map(|keys| format!("the desktop says: {}", safe(keys))),
        KeyState::Unassigned => Some("not assigned; see the desktop's settings for shortcuts".into()),
        KeyState::Taken => Some(match binding.taken_by.as_deref().filter(|by| !by.is_empty()) {
            Some(manager) => format!("taken by another program, perhaps {}", safe(manager)),
            None => "taken by another program".into(),
        }),
        KeyState::NoSuchKey => Some("not on this keyboard".into()),
        KeyState::Unsupported => Some("to be set in the desktop's own configuration".into()),
    }
}

/// Prints all keys, or those of one action.
fn print(all: &All, only: Option<&str>) -> Result<(), Failure> {
    let style = Style::of_stdout();
    let remarks: Vec<Option<String>> = all.keys.iter().map(remark).collect();
    // What holds for all keys is said once.
    let nowhere = all.keys.iter().all(|binding| binding.state.is_none_or(|state| state == KeyState::Unsupported));
    for (binding, remark) in all.keys.iter().zip(remarks) {
        if only.is_some_and(|only| only != binding.action) {
            continue;
        }
        let keys = binding.keys.clone().unwrap_or_else(|| "-".into());
        let remark = remark.filter(|_| !nowhere).map(|remark| format!("  ({remark})")).unwrap_or_default();
        let action = style.strong(&pad(&binding.action, 12));
        say(&format!("{action}{}{}{remark}", pad(&keys, 18), binding.description))?;
    }
    for paste in all.paste.iter().filter(|_| only.is_none()) {
        say(&format!("Pastes with {} in {}", paste.keys, safe(&paste.application)))?;
    }
    if let Some(failed) = &all.failed {
        tell!("The key pressed last did not work: {}", safe(failed));
    }
    if nowhere {
        tell!(
            "{}",
            match all.keys.iter().any(|binding| binding.state.is_some()) {
                true =>
                    "This desktop gives its keys to no program. Print lines for its configuration with: yadori keys --for sway (or i3, hyprland, river, labwc, gnome)",
                false => "The service has no desktop, so no keys reach it.",
            }
        );
    }
    Ok(())
}

/// Prints the lines that a desktop's configuration needs, with which each key calls us.
fn lines(desktop: Desktop, home: Option<&Path>, all: &All) -> Result<(), Failure> {
    let own = std::env::current_exe()?;
    let program = match home {
        Some(home) => format!("{} --home {}", own.display(), home.display()),
        None => own.display().to_string(),
    };
    let keys = all.keys.iter().filter_map(|binding| Some((binding, binding.keys.as_ref()?.parse::<Chord>().ok()?)));
    let bound: Vec<(&str, Chord, String)> = keys
        .map(|(binding, chord)| {
            let command = format!("{program} keys press {}", binding.action);
            (binding.action.as_str(), chord, command)
        })
        .collect();
    match desktop {
        Desktop::Sway => {
            say("# Add to ~/.config/sway/config, then run: swaymsg reload")?;
            say("for_window [app_id=\"org.yadori.Picker\"] floating enable, border none")?;
            bound.iter().try_for_each(|(_, chord, command)| {
                say_whole(&format!("bindsym --no-repeat {} exec {command}", chord.written(Syntax::Plus)))
            })
        }
        Desktop::I3 => {
            say("# Only where Yadori's own keys do not reach it. Add to ~/.config/i3/config, then run: i3-msg reload")?;
            say("for_window [class=\"org.yadori.Picker\"] floating enable, border none")?;
            bound.iter().try_for_each(|(_, chord, command)| {
                say_whole(&format!("bindsym {} exec --no-startup-id {command}", chord.written(Syntax::Plus)))
            })
        }
        Desktop::Hyprland => {
            say("# Add to ~/.config/hypr/hyprland.conf; it is read at once")?;
            say("windowrulev2 = float, class:^(org.yadori.Picker)$")?;
            bound
                .iter()
                .try_for_each(|(_, chord, command)| say_whole(&format!("bind = {}, exec, {command}", comma(chord))))
        }
        Desktop::River => {
            say("# Add to ~/.config/river/init, then log in anew")?;
            say("riverctl rule-add -app-id org.yadori.Picker float")?;
            bound.iter().try_for_each(|(_, chord, command)| {
                let written = chord.written(Syntax::Plus).replace("Mod4", "Super").replace("Ctrl", "Control");
                let (held, key) = written.rsplit_once('+').unwrap_or(("None", &written));
                say_whole(&format!("riverctl map normal {held} {key} spawn '{command}'"))
            })
        }
        Desktop::Labwc => {
            say("<!-- Add within <keyboard> of ~/.config/labwc/rc.xml, then run: labwc --reconfigure -->")?;
            bound.iter().try_for_each(|(_, chord, command)| {
                say_whole(&format!(
                    "<keybind key=\"{}\"><action name=\"Execute\" command=\"{command}\" /></keybind>",
                    chord.written(Syntax::Dash)
                ))
            })
        }
        Desktop::Gnome => gnome(&bound),
    }
}

/// Hyprland wants the modifiers and the key as two words, even if there are no modifiers.
fn comma(chord: &Chord) -> String {
    let written = chord.written(Syntax::Comma);
    if written.contains(',') { written } else { format!(", {written}") }
}

/// GNOME keeps keys in its settings: commands, to be run once.
fn gnome(bound: &[(&str, Chord, String)]) -> Result<(), Failure> {
    const SCHEMA: &str = "org.gnome.settings-daemon.plugins.media-keys";
    let path =
        |action: &str| format!("/org/gnome/settings-daemon/plugins/media-keys/custom-keybindings/yadori-{action}/");
    say("# Run these lines once. Shortcuts of your own in the settings are replaced by the first one.")?;
    let paths: Vec<String> = bound.iter().map(|(action, ..)| format!("'{}'", path(action))).collect();
    say_whole(&format!("gsettings set {SCHEMA} custom-keybindings \"[{}]\"", paths.join(", ")))?;
    for (action, chord, command) in bound {
        let target = format!("{SCHEMA}.custom-keybinding:{}", path(action));
        for (name, value) in [
            ("name", format!("Yadori: {action}")),
            ("command", command.clone()),
            ("binding", chord.written(Syntax::Angle)),
        ] {
            say_whole(&format!("gsettings set {target} {name} '{value}'"))?;
        }
    }
    Ok(())
}

/// Prints a line that a program reads: it is never broken.
fn say_whole(line: &str) -> Result<(), Failure> {
    use std::io::Write;
    Ok(writeln!(std::io::stdout().lock(), "{}", safe(line))?)
}
