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

type Row = (&'static str, String);

fn print(status: &Asked, style: Style) -> Result<(), Failure> {
    let now = jiff::Timestamp::now();
    let mut rows = capture(status, style);
    let last_copy = match &status.last_copy {
        Some(clip) => format!("{}, {}", named(std::slice::from_ref(clip)), ago(clip.copied_at, now)),
        None => "none yet".into(),
    };
    rows.push(("last copy", last_copy));
    rows.push(("history", count(status.count, "clip", "clips")));
    rows.extend(room(status));
    rows.extend(due(status, style));
    rows.extend(tray(status));
    rows.extend(devices(status, style));
    for refused in &status.refused {
        let from = refused.last_application.as_deref().map(|name| format!(" from {}", safe(name))).unwrap_or_default();
        let what = count(refused.count, "copy", "copies");
        let last = ago(refused.last_at, now);
        rows.push(("not kept", format!("{what}: {}; the last{from}, {last}", safe(&refused.message))));
    }
    rows.push(("database", database(status, style)));
    rows.push(("encrypted", encrypted(status)));
    rows.extend(service(status));
    let mut out = std::io::stdout().lock();
    for (name, value) in rows {
        writeln!(out, "{}", style.broken(&format!("{}  {value}", style.faint(&format!("{name:>9}"))), 11))?;
    }
    Ok(out.flush()?)
}

/// Whether copies are kept.
fn capture(status: &Asked, style: Style) -> Vec<Row> {
    let capture = &status.capture;
    let since = moment(capture.since);
    let state = match (capture.state, capture.until) {
        (CaptureState::On, _) => format!("on, from {} since {since}", capture.clipboard.word()),
        (CaptureState::Paused, Some(until)) => style.warning(&format!("paused until {}", moment(until))),
        (CaptureState::Paused, None) => style.warning(&format!("paused since {since}; resume with: yadori resume")),
        (CaptureState::Off, _) => style.warning(&format!(
            "off: {}",
            safe(capture.reason.as_ref().map_or("there is no clipboard", |reason| &reason.message))
        )),
    };
    let mut rows = vec![("capture", state)];
    rows.extend(capture.notes.iter().map(|note| ("note", style.warning(&safe(&note.message)))));
    if capture.waiting > 0 {
        let waiting = count(capture.waiting, "copy", "copies");
        rows.push(("waiting", style.warning(&format!("{waiting} to be stored, until the database takes them"))));
    }
    rows
}

/// What is deleted soon.
fn due(status: &Asked, style: Style) -> Vec<Row> {
    let (due, mut rows) = (&status.due, Vec::new());
    if due.held > 0 {
        let held = count(due.held, "clip", "clips");
        let why = safe(due.held_because.as_deref().unwrap_or_default());
        let text = format!(
            "the rules would delete {held}, so they wait for you ({why}); see which: yadori rules preview; \
             delete them: yadori rules sweep"
        );
        rows.push(("held", style.warning(&text)));
    }
    if due.within_a_day > 0 {
        let going = count(due.within_a_day, "clip is deleted", "clips are deleted");
        rows.push(("expiring", format!("{going} within a day")));
    }
    if due.in_bin > 0 {
        rows.push(("bin", format!("{}, each for 24 hours", count(due.in_bin, "clip", "clips"))));
    }
    rows
}

fn tray(status: &Asked) -> Option<Row> {
    let tray = &status.tray;
    let state = if tray.open { "open, copies join it" } else { "closed" };
    let left = format!("{} of {} left", tray.waiting, count(tray.count.into(), "clip", "clips"));
    (tray.open || tray.count > 0).then(|| ("tray", format!("{state}; {left}")))
}

fn devices(status: &Asked, style: Style) -> Option<Row> {
    let devices = &status.devices;
    let state = match (devices.paused, devices.connected) {
        (true, _) => style.warning("sharing is paused; resume with: yadori sync resume"),
        (false, 0) => "none is connected at the moment; see: yadori device list".into(),
        (false, connected) => format!("{connected} connected"),
    };
    (devices.linked > 0).then(|| ("devices", format!("{} linked, {state}", devices.linked)))
}

fn database(status: &Asked, style: Style) -> String {
    let database = &status.database;
    let whose = if database.private { "its own" } else { "the one of database_url" };
    let restarts = match database.restarts {
        0 => String::new(),
        restarts => format!(", started again {}", count(restarts.into(), "time", "times")),
    };
    if let Some(bytes) = database.bytes {
        return format!("{whose}, {}{restarts}", size(bytes));
    }
    let why = database.failure.as_deref().map(|why| format!(": {}", safe(why))).unwrap_or_default();
    style.warning(&format!("{whose}, doesn't answer{why}{restarts}"))
}

/// Whether what is kept is encrypted, and what opens it.
fn encrypted(status: &Asked) -> String {
    if !status.encrypted {
        return "no; see why: yadori lock status".into();
    }
    let words: Vec<&str> = status.protectors.iter().map(|protector| protector.word()).collect();
    format!("yes, opened by: {}; what that protects: yadori lock status", words.join(", "))
}

fn service(status: &Asked) -> [Row; 4] {
    let (version, device, since) = (&status.version, safe(&status.device), moment(status.started_at));
    let log_in = match status.starts_at_log_in {
        Some(true) => "started when you log in",
        Some(false) => "not started when you log in; see: yadori doctor",
        None => "whether the service is started at log-in cannot be told",
    };
    [
        ("limit", format!("{} MiB per copy", status.size_limit >> 20)),
        ("service", format!("yadorid {version} on {device}, process {}, since {since}", status.pid)),
        ("log-in", log_in.into()),
        ("home", safe(&status.home)),
    ]
}

/// How much of what the rules allow is taken.
fn room(status: &Asked) -> Vec<Row> {
    let row = |room: &yadori_api::Room| {
        let of = |limit: u64, limited: String| if limit > 0 { format!(" of {limited}") } else { String::new() };
        let what = room.kind.map_or("clips".to_owned(), |kind| format!("{} clips", kind.word()));
        let clips = format!("{}{} {what}", room.count, of(room.clip_limit, amounts::grouped(room.clip_limit)));
        let bytes = format!("{}{}", size(room.bytes), of(room.limit, amounts::bytes_in_words(room.limit)));
        ("storage", format!("{clips}, {bytes} (excluding pinned and drawers)"))
    };
    status.room.iter().map(row).collect()
}
