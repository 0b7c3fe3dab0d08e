use super::{Joining, named, print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::table;
use crate::terminal::{Style, count, safe};
use clap::{Args, Subcommand};
use yadori_api::{
    CaptureState, CloseTray, DealNext, Dealt, DrawerContents, Named, OpenTray, Pour, Recalled, Status, Tray as Asked,
    TrayPlace,
};
use yadori_client::in_path;

/// Gather several clips, then paste them one after the other, or all at once
///
/// Open the tray, copy the fields in reading order, go to the other window, and deal them:
///
///   yadori tray open          copies line up from now on
///   yadori tray next --auto   the first one is on the clipboard; each paste brings the next
///   yadori tray close
///
/// The tray survives a restart. What lies in it is in the history too.
#[derive(Args)]
#[command(verbatim_doc_comment)]
pub struct Tray {
    #[command(subcommand)]
    command: Option<Command>,
}

#[derive(Subcommand)]
enum Command {
    /// Show what is in the tray, and which clip comes next (also without any command)
    Show,
    /// Open the tray: from now on, each copy joins it
    Open {
        /// Empty it first
        #[arg(long)]
        empty: bool,
    },
    /// Add clips to its end
    Add {
        /// The clips, in the order in which they are to be pasted
        #[arg(required_unless_present = "drawer")]
        clips: Vec<String>,
        /// Add what lies in this drawer, in its order
        #[arg(long, value_name = "NAME", conflicts_with = "clips")]
        drawer: Option<String>,
    },
    /// Move a clip to another place in the tray
    Move {
        /// The place it has now, from 1
        place: u32,
        /// The place it comes to
        to: u32,
    },
    /// Drop a clip from the tray; it stays in the history
    Drop {
        /// Its place in the tray, from 1
        place: u32,
    },
    /// Take out what was added last
    Undo,
    /// Put the first waiting clip on the clipboard, and move on
    Next {
        /// Go on by itself: as soon as a clip was pasted, the next one follows
        #[arg(long)]
        auto: bool,
        /// Paste it into the window that has the keyboard
        #[arg(long, conflicts_with = "auto")]
        paste: bool,
    },
    /// Go one back: the clip before the last dealt one is on the clipboard again
    Back,
    /// Pass over the first waiting clip
    Skip,
    /// Begin again at the first clip
    Restart,
    /// Put all of it on the clipboard, joined
    Pour {
        #[command(flatten)]
        joining: Joining,
        /// Plain text only
        #[arg(long)]
        plain: bool,
        /// Pour out this drawer instead of the tray
        #[arg(long, value_name = "NAME")]
        drawer: Option<String>,
    },
    /// Close the tray: copies do not join it any more
    Close {
        /// Keep its clips in this drawer, which is made if there is none
        #[arg(long, value_name = "DRAWER")]
        keep_as: Option<String>,
        /// Empty it
        #[arg(long)]
        empty: bool,
    },
}

impl Tray {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let none = serde_json::json!({});
        match self.command.unwrap_or(Command::Show) {
            Command::Show => show(context, &service.get("/tray")?),
            Command::Open { empty } => {
                let tray: Asked = service.post("/tray/open", &OpenTray { empty })?;
                if context.json {
                    return print_json(&tray);
                }
                let holds = match tray.items.len() as u64 {
                    0 => String::new(),
                    clips => format!(
                        "; it holds {} already (empty it with: yadori tray open --empty)",
                        count(clips, "clip", "clips")
                    ),
                };
                say(&format!("The tray is open: each copy joins it{holds}"))?;
                let status: Status = service.get("/status")?;
                match status.capture.state {
                    CaptureState::On => Ok(()),
                    CaptureState::Paused => {
                        tell!("Capture is paused, so nothing joins it yet. Resume with: yadori resume");
                        Ok(())
                    }
                    CaptureState::Off => {
                        tell!("Copies aren't captured, so nothing joins it yet. Find out why with: yadori doctor");
                        Ok(())
                    }
                }
            }
            Command::Add { mut clips, drawer } => {
                if let Some(name) = drawer {
                    let drawer: DrawerContents = service.get(&format!("/drawers/{}", in_path(&name)))?;
                    clips = drawer.items.into_iter().filter_map(|item| Some(item.clip?.id)).collect();
                    if clips.is_empty() {
                        return Err(Failure::Here(format!("there is no clip in the drawer {}", safe(&drawer.name))));
                    }
                }
                let added = clips.len() as u64;
                let tray: Asked = service.post("/tray/add", &Named { clips })?;
                if context.json {
                    return print_json(&tray);
                }
                say(&format!("Added {}; the tray holds {}", count(added, "clip", "clips"), tray.items.len()))
            }
            Command::Move { place, to } => {
                show(context, &service.post("/tray/arrange", &TrayPlace { place, at: Some(to) })?)
            }
            Command::Drop { place } => show(context, &service.post("/tray/arrange", &TrayPlace { place, at: None })?),
            Command::Undo => show(context, &service.post("/tray/undo", &none)?),
            Command::Restart => show(context, &service.post("/tray/restart", &none)?),
            Command::Next { auto, paste } => {
                dealt(context, &service.post("/tray/next", &DealNext { auto, paste })?, "The tray is empty.")
            }
            Command::Back => dealt(context, &service.post("/tray/back", &none)?, "This is the beginning of the tray"),
            Command::Skip => {
                let skipped: Dealt = service.post("/tray/skip", &none)?;
                if context.json { print_json(&skipped) } else { say(&stand(&skipped.tray)) }
            }
            Command::Pour { joining, plain, drawer } => {
                let asked = Pour { join: joining.separator(), plain, skip_others: joining.skip_others, drawer };
                let poured: Recalled = service.post("/tray/pour", &asked)?;
                if context.json {
                    return print_json(&poured);
                }
                super::left_out(&poured);
                say(&format!("On the clipboard, joined: {}", named(&poured.clips)))
            }
            Command::Close { keep_as, empty } => {
                let tray: Asked = service.post("/tray/close", &CloseTray { keep_as: keep_as.clone(), empty })?;
                if context.json {
                    return print_json(&tray);
                }
                say(&match keep_as {
                    Some(drawer) => {
                        format!("The tray is closed; its clips are in the drawer {}", safe(&drawer))
                    }
                    None if tray.items.is_empty() => "The tray is closed".to_owned(),
                    None => format!(
                        "The tray is closed; it still holds {}",
                        count(tray.items.len() as u64, "clip", "clips")
                    ),
                })
            }
        }
    }
}

fn dealt(context: &Context, dealt: &Dealt, otherwise: &str) -> Result<(), Failure> {
    if context.json {
        return print_json(dealt);
    }
    match &dealt.recalled {
        Some(recalled) => say(&format!("On the clipboard: {}. {}", named(&recalled.clips), stand(&dealt.tray))),
        None => say(otherwise),
    }
}

fn stand(tray: &Asked) -> String {
    let total = tray.items.len() as u32;
    let left = (total + 1).saturating_sub(tray.next);
    match left {
        0 => format!("That was the last of {total}"),
        left => format!("{left} of {total} left"),
    }
}

fn show(context: &Context, tray: &Asked) -> Result<(), Failure> {
    if context.json {
        return print_json(tray);
    }
    let state = if tray.open { "open: each copy joins it" } else { "closed" };
    if tray.items.is_empty() {
        return say(&format!("The tray is {state}, and empty"));
    }
    let auto = if tray.auto { "; each paste brings the next" } else { "" };
    say(&format!("The tray is {state}{auto}. {}", stand(tray)))?;
    let label = |item: &yadori_api::TrayItem| {
        let sign = if item.place == tray.next {
            ">"
        } else if item.dealt {
            "✓"
        } else {
            " "
        };
        format!("{sign} t{}", item.place)
    };
    let labels: Vec<String> = tray.items.iter().map(label).collect();
    let clips: Vec<yadori_api::Clip> = tray.items.iter().map(|item| item.clip.clone()).collect();
    Ok(table::print_labelled(&clips, &labels, Style::of_stdout(), jiff::Timestamp::now())?)
}
