//! A picker in the terminal.
//!
//! * `state`: what is shown and chosen, and what a key does to it
//! * `screen`: how that is drawn; `picture`: a picture in cells

mod picture;
mod screen;
mod state;

use super::{Joining, named, say};
use crate::Context;
use crate::failure::Failure;
use crate::fetching::asking;
use crate::zone;
use clap::Args;
use ratatui::backend::CrosstermBackend;
use ratatui::crossterm::event::{self, Event, KeyEventKind};
use ratatui::crossterm::terminal::{disable_raw_mode, enable_raw_mode};
use ratatui::text::Line;
use ratatui::{Terminal, TerminalOptions, Viewport};
use state::{State, Step};
use std::fs::OpenOptions;
use std::io::{Read, Stdout, Write};
use std::os::fd::OwnedFd;
use yadori_api::{Clip, ClipPage, Clips, ContentQuery, ListQuery, Named, Pin, Recall, Recalled};
use yadori_client::{Client, in_path};

/// Clips that are asked for at a time.
const PAGE: u32 = 50;

/// Lines that the picker takes of the terminal, if it has as many.
const HEIGHT: u16 = 14;

/// Choose a clip from a list that narrows as you type, and recall it, paste it, or print it
///
/// Type to search; press a digit (before anything is typed, or with Alt), or choose with the arrows and Enter. Tab marks
/// several, which are joined. Ctrl+K switches between the history and what you keep, Ctrl+P pins, Escape leaves. Leaving
/// without a choice is exit code 1.
#[derive(Args)]
pub struct Pick {
    /// Begin with this search
    query: Vec<String>,

    /// Print the text of the clips, exactly, instead of recalling them
    #[arg(long, conflicts_with = "paste")]
    print: bool,

    /// Print a NUL after each clip instead of joining them: for xargs -0
    #[arg(short = '0', long, requires = "print", conflicts_with = "join")]
    null: bool,

    /// Plain text only, without formatting
    #[arg(long)]
    plain: bool,

    /// Paste into the window that has the keyboard
    #[arg(long)]
    paste: bool,

    #[command(flatten)]
    joining: Joining,
}

/// The terminal, which is as it was when this is dropped.
struct Screen {
    terminal: Terminal<CrosstermBackend<Stdout>>,
    /// Where what is printed goes, which may be a pipe.
    output: OwnedFd,
}

impl Screen {
    /// Takes some lines below the cursor. For that time, standard output is the terminal itself: whoever asks a terminal where its
    /// cursor is asks there.
    fn take() -> Result<Self, Failure> {
        let none = |_| Failure::Here("there is no terminal to choose in; name the clip: yadori recall 3".into());
        let tty = OpenOptions::new().read(true).write(true).open("/dev/tty").map_err(none)?;
        let output = rustix::io::dup(rustix::stdio::stdout()).map_err(std::io::Error::from)?;
        rustix::stdio::dup2_stdout(&tty).map_err(std::io::Error::from)?;
        let taken = enable_raw_mode().and_then(|()| {
            let height = ratatui::crossterm::terminal::size().map_or(HEIGHT, |(_, rows)| rows.clamp(3, HEIGHT));
            let options = TerminalOptions { viewport: Viewport::Inline(height) };
            Terminal::with_options(CrosstermBackend::new(std::io::stdout()), options)
        });
        match taken {
            Ok(terminal) => Ok(Self { terminal, output }),
            Err(error) => {
                let _ = disable_raw_mode();
                let _ = rustix::stdio::dup2_stdout(&output);
                Err(Failure::Here(format!("the terminal does not answer: {error}")))
            }
        }
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let _ = self.terminal.clear();
        let _ = self.terminal.show_cursor();
        let _ = disable_raw_mode();
        let _ = std::io::stdout().flush();
        let _ = rustix::stdio::dup2_stdout(&self.output);
    }
}

/// The clips that a state is to show.
fn wanted(service: &Client, state: &State) -> Result<Vec<Clip>, Failure> {
    let query = state.query().trim();
    if state.kept() && query.is_empty() {
        // Pins come in their own order, and what lies in drawers after them.
        let mut clips = service.get::<Clips>("/pins")?.clips;
        let page: ClipPage = service.get_with("/clips", &asked("is:kept"))?;
        clips.extend(page.clips.into_iter().filter(|clip| !clip.pinned));
        return Ok(clips);
    }
    let query = if state.kept() { format!("{query} is:kept") } else { query.to_owned() };
    Ok(service.get_with::<ClipPage>("/clips", &asked(&query))?.clips)
}

fn asked(query: &str) -> ListQuery {
    ListQuery {
        q: Some(query.to_owned()).filter(|query| !query.is_empty()),
        cursor: None,
        limit: Some(PAGE),
        zone: zone::name(),
    }
}

impl Pick {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let service = context.service()?;
        let mut state = State::new(self.query.join(" "));
        let clips = wanted(&service, &state)?;
        state.show(clips);
        // The terminal is given back before anything is said.
        let chosen = choose(&service, &mut state)?;
        let Some(chosen) = chosen else { return Err(Failure::Silent(1)) };
        let names: Vec<String> = chosen.iter().map(|clip| clip.id.clone()).collect();
        if self.print {
            return self.print(&service, &names);
        }
        let recall = Recall {
            clips: names,
            plain: self.plain,
            join: self.joining.separator(),
            paste: self.paste,
            skip_others: self.joining.skip_others,
            at_once: true,
            ..Recall::default()
        };
        let recalled: Recalled = asking(&service, &recall.clips, || service.post("/recall", &recall))?;
        if context.json {
            return super::print_json(&recalled);
        }
        super::left_out(&recalled);
        let done = if recalled.pasted { "Pasted" } else { "On the clipboard" };
        say(&format!("{done}: {}", named(&recalled.clips)))
    }

    fn print(&self, service: &Client, names: &[String]) -> Result<(), Failure> {
        let separator = self.joining.separator().unwrap_or_else(|| "\n".into());
        let mut out = std::io::stdout().lock();
        for (place, name) in names.iter().enumerate() {
            let path = format!("/clips/{}/content", in_path(name));
            let query = ContentQuery { format: None, at_once: true };
            let mut content = Vec::new();
            let name = std::slice::from_ref(name);
            asking(service, name, || service.get_bytes(&path, &query))?.read_to_end(&mut content)?;
            if place > 0 && !self.null {
                out.write_all(separator.as_bytes())?;
            }
            out.write_all(&content)?;
            if self.null {
                out.write_all(&[0])?;
            }
        }
        Ok(out.flush()?)
    }
}

/// The small picture of a clip, as lines; none if it cannot be had.
fn small_picture(service: &Client, id: &str, columns: u32) -> Vec<Line<'static>> {
    let query = ContentQuery { format: None, at_once: true };
    let mut content = Vec::new();
    let read = service.get_bytes(&format!("/clips/{}/thumbnail", in_path(id)), &query);
    match read.map(|mut read| read.read_to_end(&mut content)) {
        Ok(Ok(_)) => picture::lines(&content, columns),
        _ => Vec::new(),
    }
}

/// Lets the person choose; none if they leave without.
fn choose(service: &Client, state: &mut State) -> Result<Option<Vec<Clip>>, Failure> {
    let mut screen = Screen::take()?;
    let pictures = picture::can_be_shown();
    loop {
        screen.terminal.draw(|frame| screen::draw(frame, state))?;
        if pictures && let Some(id) = state.lacks_picture() {
            let columns = screen.terminal.size().map_or(0, |size| u32::from(size.width)).saturating_sub(screen::INDENT);
            state.show_picture(small_picture(service, &id, columns));
            continue;
        }
        let key = match event::read()? {
            Event::Key(key) if key.kind != KeyEventKind::Release => key,
            _ => continue,
        };
        match state.pressed(key) {
            Step::Stay => {}
            Step::Leave => return Ok(None),
            Step::Done(clips) => return Ok(Some(clips)),
            Step::Search => match wanted(service, state) {
                Ok(clips) => state.show(clips),
                // Half a filter is no query yet; the list stays until it is one.
                Err(Failure::Problem(problem)) => state.say(problem.detail),
                Err(other) => return Err(other),
            },
            Step::Pin(id, pinned) => {
                if pinned {
                    service.post::<Clips>("/pins", &Pin { clips: vec![id], at: None })?;
                } else {
                    service.post::<Clips>("/pins/remove", &Named { clips: vec![id] })?;
                }
                let clips = wanted(service, state)?;
                state.show(clips);
            }
        }
    }
}
