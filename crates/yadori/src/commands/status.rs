use super::{named, print_json};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{Style, ago, count, moment, safe, size};
use clap::Args;
use std::io::Write;
use yadori_api::{CaptureState, Status as Asked};
use yadori_core::amounts;

/// Show whether copies are kept, since when, and what was refused and why
#[derive(Args)]
pub struct Status {}

impl Status {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let status: Asked = context.service()?.get("/status")?;
        if context.json { print_json(&status) } else { print(&status, Style::of_stdout()) }
    }
}

fn print(status: &Asked, style: Style) -> Result<(), Failure> {
    let now = jiff::Timestamp::now();
    let capture = &status.capture;
    let since = moment(capture.since);
    let state = match (capture.state, capture.until) {
        (CaptureState::On, _) => format!("on, from {} since {since}", capture.clipboard),
        (CaptureState::Paused, Some(until)) => style.warning(&format!("paused until {}", moment(until))),
        (CaptureState::Paused, None) => style.warning(&format!("paused since {since}; resume with: yadori resume")),
        (CaptureState::Off, _) => {
            style.warning(&format!("off: {}", safe(capture.reason.as_deref().unwrap_or("there is no clipboard"))))
        }
    };
    let mut rows = vec![("capture", state)];
    rows.extend(capture.notes.iter().map(|note| ("note", style.warning(&safe(note)))));
    if capture.waiting > 0 {
        rows.push((
            "waiting",
            style.warning(&format!(
                "{} to be stored, until the database takes them",
                count(capture.waiting, "copy", "copies")
            )),
        ));
    }
    rows.push((
        "last copy",
        match &status.last_copy {
            Some(clip) => format!("{}, {}", named(std::slice::from_ref(clip)), ago(clip.copied_at, now)),
            None => "none yet".into(),
        },
    ));
    rows.push(("history", count(status.clips, "clip", "clips")));
    rows.extend(room(status));
    let due = &status.due;
    if due.held > 0 {
        let why = safe(due.held_because.as_deref().unwrap_or_default());
        rows.push((
            "held",
            style.warning(&format!(
                "the rules would delete {}, so they wait for you ({why}); see which: yadori rules preview; delete them: yadori rules sweep",
                count(due.held, "clip", "clips")
            )),
        ));
    }
    if due.within_a_day > 0 {
        rows.push((
            "expiring",
            format!("{} within a day", count(due.within_a_day, "clip is deleted", "clips are deleted")),
        ));
    }
    if due.in_bin > 0 {
        rows.push(("bin", format!("{}, each for 24 hours", count(due.in_bin, "clip", "clips"))));
    }
    if status.tray.open || status.tray.clips > 0 {
        let state = if status.tray.open { "open, copies join it" } else { "closed" };
        rows.push((
            "tray",
            format!("{state}; {} of {} left", status.tray.waiting, count(status.tray.clips.into(), "clip", "clips")),
        ));
    }
    let devices = &status.devices;
    if devices.linked > 0 {
        let state = match (devices.paused, devices.connected) {
            (true, _) => style.warning("sharing is paused; resume with: yadori sync resume"),
            (false, 0) => "none is connected at the moment; see: yadori device list".into(),
            (false, connected) => format!("{connected} connected"),
        };
        rows.push(("devices", format!("{} linked, {state}", devices.linked)));
    }
    for refused in &status.refused {
        let from = refused.last_application.as_deref().map(|name| format!(" from {}", safe(name))).unwrap_or_default();
        let what = count(refused.count, "copy", "copies");
        rows.push((
            "not kept",
            format!("{what}: {}; the last{from}, {}", safe(&refused.message), ago(refused.last_at, now)),
        ));
    }
    let database = &status.database;
    let whose = if database.private { "its own" } else { "the one of database_url" };
    let restarts = if database.restarts > 0 {
        format!(", started again {}", count(database.restarts.into(), "time", "times"))
    } else {
        String::new()
    };
    rows.push((
        "database",
        match database.bytes {
            Some(bytes) => format!("{whose}, {}{restarts}", size(bytes)),
            None => {
                let why = database.failure.as_deref().map(|why| format!(": {}", safe(why))).unwrap_or_default();
                style.warning(&format!("{whose}, doesn't answer{why}{restarts}"))
            }
        },
    ));
    rows.push(("limit", format!("{} MiB per copy", status.size_limit >> 20)));
    rows.push((
        "service",
        format!(
            "yadorid {} on {}, process {}, since {}",
            status.version,
            safe(&status.device),
            status.pid,
            moment(status.started_at)
        ),
    ));
    rows.push((
        "log-in",
        match status.starts_at_log_in {
            Some(true) => "started when you log in".into(),
            Some(false) => "not started when you log in; see: yadori doctor".into(),
            None => "whether the service is started at log-in cannot be told".into(),
        },
    ));
    rows.push(("home", safe(&status.home)));
    let mut out = std::io::stdout().lock();
    for (name, value) in rows {
        writeln!(out, "{}", style.broken(&format!("{}  {value}", style.faint(&format!("{name:>9}"))), 11))?;
    }
    Ok(out.flush()?)
}

/// How much of what the rules allow is taken.
fn room(status: &Asked) -> Vec<(&'static str, String)> {
    let row = |room: &yadori_api::Room| {
        let of = |limit: u64, limited: String| if limit > 0 { format!(" of {limited}") } else { String::new() };
        let what = room.kind.map_or("clips".to_owned(), |kind| format!("{} clips", kind.word()));
        let clips = format!("{}{} {what}", room.clips, of(room.clip_limit, amounts::grouped(room.clip_limit)));
        let bytes = format!("{}{}", size(room.bytes), of(room.limit, amounts::bytes_in_words(room.limit)));
        ("storage", format!("{clips}, {bytes} (excluding pinned and drawers)"))
    };
    status.room.iter().map(row).collect()
}
