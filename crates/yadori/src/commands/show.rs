use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::fetching::asking;
use crate::terminal::{Style, columns, count, moment, safe, size};
use clap::Args;
use qrcode::render::unicode::Dense1x2;
use qrcode::{EcLevel, QrCode};
use std::io::{IsTerminal, Read, Write};
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use yadori_api::{Clip, ClipDetail, ContentQuery, Kind};
use yadori_client::in_path;

/// Show a clip: what it is, where it is from, and its words
#[derive(Args)]
pub struct Show {
    /// The clip: its position, p2, t1, :alias, or the beginning of its id
    clip: String,

    /// Print the bytes of this format instead, for example text/html
    #[arg(long, value_name = "MIME")]
    format: Option<String>,

    /// Print the exact bytes of the clip's first format
    #[arg(long, conflicts_with = "format")]
    raw: bool,

    /// Save the exact bytes to this file
    #[arg(long, value_name = "FILE", conflicts_with_all = ["raw", "qr"])]
    save: Option<PathBuf>,

    /// Write over the file if it is there
    #[arg(long, requires = "save")]
    force: bool,

    /// Draw its text as a QR code, for a phone
    #[arg(long, conflicts_with_all = ["format", "raw"])]
    qr: bool,
}

impl Show {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let path = format!("/clips/{}", in_path(&self.clip));
        if self.raw || self.format.is_some() || self.save.is_some() {
            let query = ContentQuery { format: self.format, at_once: true };
            let content = asking(&service, std::slice::from_ref(&self.clip), || {
                service.get_bytes(&format!("{path}/content"), &query)
            })?;
            return match self.save {
                Some(file) => save(content, &file, self.force),
                None => copy_out(content),
            };
        }
        let detail: ClipDetail = service.get(&path)?;
        if self.qr {
            return qr(&detail);
        }
        if context.json { print_json(&detail) } else { print(&detail, Style::of_stdout()) }
    }
}

/// Saves bytes to a file that only this user can read.
fn save(mut content: impl Read, file: &Path, force: bool) -> Result<(), Failure> {
    let failed = |error: std::io::Error| Failure::Here(format!("couldn't write {}: {error}", file.display()));
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(!force).create(true).truncate(force).mode(0o600);
    let mut to = options.open(file).map_err(|error| match error.kind() {
        std::io::ErrorKind::AlreadyExists => {
            Failure::Here(format!("{} exists already; overwrite it with --force", file.display()))
        }
        _ => failed(error),
    })?;
    let bytes = std::io::copy(&mut content, &mut to).map_err(failed)?;
    say(&format!("Saved {} to {}", size(bytes), file.display()))
}

/// Copies bytes to standard output, unless that is a terminal and they are not text.
fn copy_out(mut content: impl Read) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    let mut beginning = Vec::new();
    content.by_ref().take(8192).read_to_end(&mut beginning)?;
    let is_text = match std::str::from_utf8(&beginning) {
        Ok(text) => !text.contains('\0'),
        // The beginning may end within a character.
        Err(error) => error.error_len().is_none(),
    };
    if out.is_terminal() {
        if !is_text {
            return Err(Failure::Here("this is not text; send it to a file: yadori show … --raw > FILE".into()));
        }
        content.read_to_end(&mut beginning)?;
        out.write_all(safe(&String::from_utf8_lossy(&beginning)).as_bytes())?;
        return Ok(out.flush()?);
    }
    out.write_all(&beginning)?;
    std::io::copy(&mut content, &mut out)?;
    Ok(out.flush()?)
}

/// Draws the text as a QR code: two squares of it in one character, dark on light whatever the terminal's colours.
fn qr(detail: &ClipDetail) -> Result<(), Failure> {
    let too_much =
        || Failure::Here("a QR code holds a text or a link of at most some 2,900 bytes, that is not sensitive".into());
    let text = detail.text.as_deref().filter(|_| detail.text_is_whole).ok_or_else(too_much)?;
    draw_qr(text)
}

/// Draws a text as a QR code.
pub(super) fn draw_qr(text: &str) -> Result<(), Failure> {
    let too_long = |_| Failure::Here("a QR code holds at most some 2,900 bytes".into());
    let code = QrCode::with_error_correction_level(text, EcLevel::L).map_err(too_long)?;
    let drawn = code.render::<Dense1x2>().dark_color(Dense1x2::Light).light_color(Dense1x2::Dark).build();
    let width = drawn.lines().next().map_or(0, columns);
    let style = Style::of_stdout();
    if style.width.is_some_and(|room| width > room) {
        return Err(Failure::Here(format!(
            "the code is {width} columns wide; make the terminal wider, or use the console"
        )));
    }
    drawn
        .lines()
        .try_for_each(|line| say(&if style.colour { format!("\u{1b}[97;40m{line}\u{1b}[0m") } else { line.to_owned() }))
}

fn print(detail: &ClipDetail, style: Style) -> Result<(), Failure> {
    let mut out = std::io::stdout().lock();
    for (name, value) in attributes(detail) {
        let row = format!("{}  {}", style.faint(&format!("{name:>9}")), safe(&value).replace('\n', " "));
        writeln!(out, "{}", style.broken(&row, 11))?;
    }
    if !detail.files.is_empty() {
        writeln!(out)?;
        for file in &detail.files {
            let missing = match file.missing {
                Some(true) => format!("  {}", style.warning("missing")),
                _ => String::new(),
            };
            writeln!(out, "{}{missing}", safe(&file.path))?;
        }
    } else if let Some(text) = &detail.text {
        writeln!(out)?;
        writeln!(out, "{}", safe(text).trim_end_matches('\n'))?;
        if !detail.text_is_whole {
            writeln!(out, "{}", style.faint("… there is more: yadori show --raw"))?;
        }
    } else if detail.clip.sensitive.is_some() {
        writeln!(out, "\n{}", style.faint("Its words are hidden; print them with: yadori show --raw"))?;
    }
    Ok(out.flush()?)
}

/// How often something happened, if more than once.
fn times(times: u32) -> String {
    if times > 1 { format!(", {times} times in all") } else { String::new() }
}

fn attributes(ClipDetail { clip, formats, .. }: &ClipDetail) -> Vec<(&'static str, String)> {
    let mut rows = vec![("id", clip.id.clone())];
    if let Some(position) = clip.position {
        rows.push(("position", position.to_string()));
    }
    rows.push(("kind", format!("{}, {}", clip.kind.word(), extent(clip))));
    rows.extend(clip.title.iter().map(|title| ("title", title.clone())));
    rows.extend(clip.alias.iter().map(|alias| ("alias", format!(":{alias}"))));
    let kept = [
        clip.pinned.then(|| "pinned".to_owned()),
        clip.drawer.as_ref().map(|drawer| format!("in the drawer {drawer}")),
    ];
    let kept: Vec<String> = kept.into_iter().flatten().collect();
    if !kept.is_empty() {
        rows.push(("kept", kept.join(", ")));
    }
    rows.extend(clip.mark.map(|mark| ("mark", mark.word().to_owned())));
    if clip.fills {
        rows.push(("fills", "its placeholders are filled in when it is recalled".into()));
    }
    rows.extend(clip.caption.iter().map(|caption| ("called", caption.clone())));
    if let Some(secret) = &clip.sensitive {
        rows.push(("sensitive", format!("looks like a {}", secret.word().replace('-', " "))));
    }
    rows.push(("copied", format!("{}{}", moment(clip.copied_at), times(clip.copies))));
    if let Some(at) = clip.recalled_at {
        rows.push(("recalled", format!("{}{}", moment(at), times(clip.recalls))));
    }
    rows.extend(clip.expires_at.map(|at| ("expires", moment(at))));
    let from = [clip.source.application.as_deref(), clip.source.window.as_deref()]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>()
        .join(", ");
    if !from.is_empty() {
        rows.push(("from", from));
    }
    if clip.source.selected {
        rows.push(("selected", "it was only selected, and never copied".into()));
    }
    rows.extend(clip.source.page.iter().map(|page| ("page", page.clone())));
    let shared = match (clip.shared, clip.elsewhere) {
        (_, true) => ", its content is on another device",
        (true, false) => ", shared with your other devices",
        (false, false) => "",
    };
    rows.push(("device", format!("{}{shared}", clip.device)));
    let formats: Vec<String> =
        formats.iter().map(|format| format!("{} ({})", format.mime, size(format.size))).collect();
    rows.push(("formats", formats.join(", ")));
    rows
}

fn extent(clip: &Clip) -> String {
    if clip.kind == Kind::Files {
        return count(clip.lines.unwrap_or_default(), "file", "files");
    }
    match (clip.width.zip(clip.height), clip.lines.zip(clip.characters)) {
        (Some((width, height)), _) => format!("{width} × {height} pixels, {}", size(clip.size)),
        (None, Some((lines, characters))) => {
            format!("{}, {}", count(lines, "line", "lines"), count(characters, "character", "characters"))
        }
        (None, None) => size(clip.size),
    }
}
