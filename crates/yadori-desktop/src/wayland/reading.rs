//! Reading a copy: one pipe for each format, into which its owner writes.
//!
//! All formats are asked for at once, as soon as a copy is told of: an owner that is replaced a moment later
//! has been asked by then, and still answers. Only a copy that may be a secret waits for that answer first.

use super::protocol::Offer;
use crate::OWN_PATIENCE;
use crate::wanted::{self, Plan, TextIn, Typed};
use rustix::pipe::{PipeFlags, pipe_with};
use std::os::fd::{AsFd, OwnedFd};
use std::time::{Duration, Instant};
use yadori_core::capture::{Copy, Refusal};
use yadori_core::{Format, Source, own};

/// Most bytes that are read in one go; others are to have their turn.
const TURN: usize = 1024 * 1024;

/// One copy being read.
pub(super) struct CopyReading {
    /// The number of the seat whose clipboard it is.
    pub seat: u32,
    /// Whether it was merely selected.
    pub selected: bool,
    /// Something else was copied since.
    pub superseded: bool,
    /// When it is given up.
    pub deadline: Instant,
    offer: Offer,
    names: Vec<String>,
    plan: Plan,
    pipes: Vec<Pipe>,
    /// The data of each format of the plan, once it is whole.
    data: Vec<Option<Vec<u8>>>,
    source: Source,
    size: u64,
    limit: u64,
    patience: Duration,
    /// Whether this reads what a program keeps for itself.
    is_of_own: bool,
}

struct Pipe {
    end: OwnedFd,
    part: Part,
    data: Vec<u8>,
}

#[derive(Clone, Copy)]
enum Part {
    Secret,
    Page,
    Format(usize),
}

/// How far a reading has come.
pub(super) enum Progress {
    Going,
    Done(Copy),
    Failed(Refusal),
}

impl CopyReading {
    /// Begins to read an offer of formats with these names.
    pub fn begin(
        seat: u32,
        selected: bool,
        offer: Offer,
        names: Vec<String>,
        source: Source,
        (limit, patience): (u64, Duration),
    ) -> std::io::Result<Self> {
        let plan = {
            let names: Vec<&str> = names.iter().map(String::as_str).take(wanted::MOST_NAMES).collect();
            if selected { wanted::plan_text(&names) } else { wanted::plan(&names) }
        };
        let mut reading = Self {
            seat,
            selected,
            superseded: false,
            deadline: Instant::now() + patience,
            offer,
            names,
            data: vec![None; plan.formats.len()],
            plan,
            pipes: Vec::new(),
            source,
            size: 0,
            limit,
            patience,
            is_of_own: false,
        };
        match reading.plan.secret {
            Some(place) => reading.ask(place, Part::Secret)?,
            None => reading.ask_all()?,
        }
        Ok(reading)
    }

    fn ask(&mut self, place: usize, part: Part) -> std::io::Result<()> {
        let (end, theirs) = pipe_with(PipeFlags::CLOEXEC)?;
        rustix::io::ioctl_fionbio(&end, true)?;
        self.offer.receive(&self.names[place], theirs.as_fd());
        self.pipes.push(Pipe { end, part, data: Vec::new() });
        Ok(())
    }

    fn ask_all(&mut self) -> std::io::Result<()> {
        if let Some(place) = self.plan.page {
            self.ask(place, Part::Page)?;
        }
        for number in 0..self.plan.formats.len() {
            self.ask(self.plan.formats[number].place, Part::Format(number))?;
        }
        Ok(())
    }

    /// The pipes that are waited for, to be polled.
    pub fn pipes(&self) -> impl Iterator<Item = &OwnedFd> {
        self.pipes.iter().map(|pipe| &pipe.end)
    }

    /// How it stands before anything has been written.
    pub fn progress(&mut self) -> Progress {
        if self.pipes.is_empty() { self.end() } else { Progress::Going }
    }

    /// Reads what has been written into all pipes.
    pub fn read(&mut self) -> Progress {
        for number in (0..self.pipes.len()).rev() {
            match self.read_one(number) {
                Ok(false) => {}
                Ok(true) => {
                    let pipe = self.pipes.swap_remove(number);
                    if let Some(refusal) = self.received(pipe) {
                        return Progress::Failed(refusal);
                    }
                }
                Err(refusal) => return Progress::Failed(refusal),
            }
        }
        self.progress()
    }

    /// Reads from one pipe; tells whether that was all.
    fn read_one(&mut self, number: usize) -> Result<bool, Refusal> {
        let mut left = TURN;
        while left > 0 {
            let pipe = &mut self.pipes[number];
            let before = pipe.data.len();
            pipe.data.resize(before + left.min(64 * 1024), 0);
            let read = rustix::io::read(&pipe.end, &mut pipe.data[before..]);
            pipe.data.truncate(before + *read.as_ref().unwrap_or(&0));
            match read {
                Ok(0) => return Ok(true),
                Ok(read) => {
                    self.size += read as u64;
                    if self.size > self.limit {
                        return Err(Refusal::TooLarge { limit: self.limit });
                    }
                    self.deadline = Instant::now() + self.patience;
                    left = left.saturating_sub(read);
                }
                Err(rustix::io::Errno::AGAIN) => return Ok(false),
                Err(rustix::io::Errno::INTR) => {}
                Err(error) => return Err(Refusal::Undelivered(error.to_string())),
            }
        }
        Ok(false)
    }

    fn received(&mut self, Pipe { part, data, .. }: Pipe) -> Option<Refusal> {
        match part {
            Part::Secret if wanted::is_secret(&data) => return Some(Refusal::Secret),
            Part::Secret => {
                if let Err(error) = self.ask_all() {
                    return Some(Refusal::Undelivered(error.to_string()));
                }
            }
            Part::Page => self.source.page = wanted::page(&data),
            Part::Format(number) => {
                let wanted = &self.plan.formats[number];
                let decoded = wanted::decode(wanted.text, typed(wanted.text, &self.names[wanted.place]), data);
                self.data[number] = decoded.filter(|data| !data.is_empty());
            }
        }
        None
    }

    fn end(&mut self) -> Progress {
        match self.done() {
            Some(copy) => Progress::Done(copy),
            None if self.superseded => {
                Progress::Failed(Refusal::Undelivered("something else was copied before it answered".into()))
            }
            None => Progress::Failed(Refusal::NoUsefulFormat),
        }
    }

    /// What has been delivered whole so far.
    pub fn done(&mut self) -> Option<Copy> {
        let wanted = self.plan.formats.iter().zip(std::mem::take(&mut self.data));
        let formats: Vec<Format> = wanted.filter_map(|(wanted, data)| Some(Format::new(&wanted.mime, data?))).collect();
        let source = Source { selected: self.selected, ..std::mem::take(&mut self.source) };
        (!formats.is_empty()).then_some(Copy { formats, source })
    }
}

impl CopyReading {
    /// Begins to read what the program keeps for itself, after everything else has been read: of the same offer. Nothing if
    /// there is none, or the owner has been replaced.
    pub fn own(mut self) -> Option<Self> {
        let own = std::mem::take(&mut self.plan.own);
        if own.is_empty() || self.superseded || self.selected {
            return None;
        }
        self.data = vec![None; own.len()];
        self.plan.formats = own;
        self.limit = own::MOST_BYTES.min(self.limit.saturating_sub(self.size));
        self.size = 0;
        self.patience = OWN_PATIENCE;
        self.deadline = Instant::now() + OWN_PATIENCE;
        self.is_of_own = true;
        for number in 0..self.plan.formats.len() {
            self.ask(self.plan.formats[number].place, Part::Format(number)).ok()?;
        }
        Some(self)
    }

    /// Whether this reads what a program keeps for itself.
    pub fn is_of_own(&self) -> bool {
        self.is_of_own
    }

    /// The names of all formats, in the owner's order.
    pub fn order(&mut self) -> Vec<String> {
        std::mem::take(&mut self.plan.order)
    }
}

impl Drop for CopyReading {
    fn drop(&mut self) {
        self.offer.destroy();
    }
}

/// The older names tell how the text under them is encoded; on X11, whose programs are here through the
/// compositor, the answer's type would.
fn typed(text: TextIn, name: &str) -> Typed {
    match (text, name) {
        (TextIn::AsTyped, "STRING") => Typed::Latin1,
        (TextIn::AsTyped, "COMPOUND_TEXT") => Typed::Compound,
        _ => Typed::Other,
    }
}
