use super::{print_json, say};
use crate::Context;
use crate::ask;
use crate::failure::Failure;
use crate::terminal::{Style, ago, count, fit, moment, pad, safe};
use clap::{Args, Subcommand};
use qrcode::render::unicode::Dense1x2;
use qrcode::{EcLevel, QrCode};
use std::io::{IsTerminal, Write};
use yadori_api::{Device as Known, DeviceState, Invitation, Invite, Join, RemoveDeviceQuery, RenameDevice, Sync, Via};
use yadori_client::in_path;

/// One history on several computers of yours, with nobody in between
///
/// Here:   yadori device invite               shows an address and a code
/// There:  yadori device join ADDRESS CODE    and the two are linked
///
/// Every device has all of the history, and works without the others. What leaves this one is its own
/// choice: see yadori sync policy. Two that cannot reach each other meet by way of a relay:
/// yadori device invite --via relay.
#[derive(Args)]
#[command(verbatim_doc_comment)]
pub struct Device {
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// List the devices and their status (also without any command)
    List,
    /// Invite another device: show a code that is entered there
    Invite {
        /// How long the code holds: 10s to 1h
        #[arg(long = "for", value_name = "TIME", value_parser = super::pause::seconds, default_value = "10m")]
        length: u64,
        /// How the two devices meet: by way of the relay, if they cannot reach each other (see: yadori relay)
        #[arg(long, value_name = "WAY", value_parser = ["relay"])]
        via: Option<String>,
        /// Draw the command for the other device as a QR code even if the output is no terminal
        #[arg(long)]
        qr: bool,
    },
    /// Join a device that has invited
    Join {
        /// Its address, or the URL of a relay, as it shows it
        address: String,
        /// The code, as it shows it
        code: String,
    },
    /// Give a device another name, on all devices
    Rename {
        /// The device: its name, or the beginning of its id
        device: String,
        /// The new name
        name: String,
    },
    /// Remove a device: the other devices no longer accept it. It keeps what it has
    Remove {
        /// The device: its name, or the beginning of its id
        device: String,
        /// Also remove the devices that it introduced
        #[arg(long)]
        with_introduced: bool,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Leave all other devices, with this one. All keep what they have
    Leave {
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
}

impl Device {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        match self.command.unwrap_or(Command::List) {
            Command::List => {
                let devices: Vec<Known> = service.get("/devices")?;
                if context.json {
                    return print_json(&devices);
                }
                print(&devices)?;
                let sync: Sync = service.get("/sync")?;
                sync.relay.map_or(Ok(()), |relay| say(&super::relay::in_a_line(&relay)))
            }
            Command::Invite { length, via, qr } => {
                let invite_for = Invite { seconds: Some(length), via: via.map(|_| Via::Relay) };
                let invitation: Invitation = service.post("/sync/invitation", &invite_for)?;
                if context.json { print_json(&invitation) } else { invite(&invitation, qr) }
            }
            Command::Join { address, code } => {
                let joined: Known = service.post("/sync/join", &Join { address, code })?;
                if context.json {
                    return print_json(&joined);
                }
                let fingerprint = joined.fingerprint.as_deref().unwrap_or_default();
                say(&format!("Linked with {} ({fingerprint}). The histories become one now", safe(&joined.name)))
            }
            Command::Rename { device, name } => {
                let devices: Vec<Known> =
                    service.patch(&format!("/devices/{}", in_path(&device)), &RenameDevice { name: name.clone() })?;
                if context.json {
                    return print_json(&devices);
                }
                say(&format!("Renamed to {} on all devices", safe(&name)))
            }
            Command::Remove { device, with_introduced, yes } => {
                remove(context, &service, &device, with_introduced, yes)
            }
            Command::Leave { yes } => {
                if !ask::confirm(
                    "This unlinks this device from all others. All of them keep what they have. Continue?",
                    yes,
                )? {
                    return Err(Failure::Here("nothing was changed".into()));
                }
                let left: Vec<Known> = service.post("/sync/leave", &serde_json::json!({}))?;
                if context.json {
                    return print_json(&left);
                }
                say(&match left.len() as u64 {
                    0 => "This device wasn't linked with any other.".to_owned(),
                    number => format!("Left {}; the history stays here", count(number, "device", "devices")),
                })
            }
        }
    }
}

fn remove(
    context: &Context,
    service: &yadori_client::Client,
    device: &str,
    mut with_introduced: bool,
    yes: bool,
) -> Result<(), Failure> {
    let path = format!("/devices/{}", in_path(device));
    let known: Known = service.get(&path)?;
    let name = safe(&known.name);
    // This one is not removed, it leaves: the service says so.
    if known.state != DeviceState::ThisOne {
        if !ask::confirm(&format!("Remove {name}? It keeps what it has."), yes)? {
            return Err(Failure::Here("nothing was removed".into()));
        }
        if !known.introduced.is_empty() && !with_introduced && !yes {
            let others = known.introduced.iter().map(|name| safe(name)).collect::<Vec<_>>().join(", ");
            with_introduced = ask::confirm(&format!("{name} introduced {others}. Remove those as well?"), false)?;
        }
    }
    let removed: Known = service.delete_with(&path, &RemoveDeviceQuery { introduced: with_introduced })?;
    if context.json {
        return print_json(&removed);
    }
    say(&format!("Removed {name}: no device accepts it any longer; it keeps what it has"))?;
    let others = removed.introduced.iter().map(|name| safe(name)).collect::<Vec<_>>().join(", ");
    match (others.is_empty(), with_introduced) {
        (true, _) => Ok(()),
        (false, true) => say(&format!("Removed the devices that it introduced, too: {others}")),
        (false, false) => say(&format!(
            "It had introduced {others}, which is still linked. To remove that as well, name it, or use --with-introduced"
        )),
    }
}

fn invite(invitation: &Invitation, qr: bool) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    writeln!(out, "Run this on the other device before {}:\n", moment(invitation.expires_at))?;
    for address in &invitation.addresses {
        // A URL has a mark that a shell may take for something else.
        let quote = if address.contains('#') { "'" } else { "" };
        writeln!(out, "  yadori device join {quote}{}{quote} {}", safe(address), safe(&invitation.code))?;
    }
    if (qr || out.is_terminal())
        && let Some(address) = invitation.addresses.first()
    {
        let words = format!("yadori device join '{address}' {}", invitation.code);
        let code = QrCode::with_error_correction_level(&words, EcLevel::L)
            .map_err(|error| Failure::Here(error.to_string()))?;
        let drawn = code.render::<Dense1x2>().dark_color(Dense1x2::Light).light_color(Dense1x2::Dark).build();
        writeln!(out, "\n{drawn}")?;
    }
    if invitation.addresses.len() > 1 {
        writeln!(out, "\nUse any address that the other device can reach.")?;
    }
    Ok(out.flush()?)
}

/// How far the other is behind this device, and this device behind the other, as far as is known.
fn behind(device: &Known) -> String {
    let to_go = format!("{} to go", count(device.behind, "change", "changes"));
    if device.ahead == 0 { to_go } else { format!("{to_go}, {} to come", device.ahead) }
}

pub(super) fn state(device: &Known, now: jiff::Timestamp) -> String {
    match device.state {
        DeviceState::ThisOne => "this one".to_owned(),
        DeviceState::Connected if device.behind == 0 && device.ahead == 0 => "connected, up to date".to_owned(),
        DeviceState::Connected => format!("connected, {}", behind(device)),
        DeviceState::Away => match device.seen_at {
            Some(at) => {
                let behind =
                    if device.behind + device.ahead == 0 { String::new() } else { format!(", {}", behind(device)) };
                format!("away, last seen {}{behind}", ago(at, now))
            }
            None => "away, not seen yet".to_owned(),
        },
    }
}

pub(super) fn print(devices: &[Known]) -> Result<(), Failure> {
    let style = Style::of_stdout();
    let now = jiff::Timestamp::now();
    let mut out = std::io::stdout().lock();
    let width = devices.iter().map(|device| device.name.chars().count()).max().unwrap_or(0).clamp(8, 24);
    for device in devices {
        let fingerprint = device.fingerprint.as_deref().unwrap_or("not linked yet");
        let addresses = device.addresses.first().map(|address| format!("  {}", safe(address))).unwrap_or_default();
        writeln!(
            out,
            "{}  {}  {}{}",
            pad(&fit(&safe(&device.name), width), width),
            pad(fingerprint, 14),
            state(device, now),
            style.faint(&addresses)
        )?;
        for note in &device.notes {
            writeln!(out, "{}  {}", " ".repeat(width), style.warning(&safe(&note.message)))?;
        }
    }
    if devices.len() == 1 {
        writeln!(out, "No other device is linked. Link one with: yadori device invite")?;
    }
    Ok(out.flush()?)
}
