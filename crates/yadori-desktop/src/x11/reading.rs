//! Reading a copy: TARGETS, then one format after the other, each in one piece or in many (INCR).
//!
//! ICCCM, sections 2.2 and 2.7.2. Nothing here waits: each answer moves the reading one step on, and a
//! reading whose deadline passes is given up.
//!
//! In a burst of copies the next owner may come before the last has answered. What was asked of the last
//! is still answered by it, so the reading goes on to the end of that answer; but it asks nothing more,
//! since the next owner would answer.

use super::atoms::Atoms;
use super::text;
use std::cell::Cell;
use std::collections::VecDeque;
use std::time::{Duration, Instant};
use x11rb::connection::Connection;
use x11rb::errors::ReplyOrIdError;
use x11rb::protocol::xproto::{Atom, AtomEnum, ConnectionExt, Timestamp, Window};
use x11rb::rust_connection::RustConnection;
use yadori_core::capture::{Copy, Refusal};
use yadori_core::{Format, Source, format};

/// One copy being read.
pub(super) struct CopyReading {
    /// The window that owned the clipboard when this began.
    pub owner: Window,
    time: Timestamp,
    /// The window in front, once it has been looked up.
    pub window: Option<Source>,
    source: Source,
    steps: VecDeque<Step>,
    current: Step,
    answer: Atom,
    /// The number of the request that is to be answered.
    asked: u64,
    /// The owner has been replaced since.
    superseded: bool,
    /// Data of an INCR transfer, while it is under way.
    pieces: Option<Vec<u8>>,
    formats: Vec<Format>,
    size: u64,
    limit: u64,
    patience: Duration,
    pub deadline: Instant,
}

#[derive(Clone, Debug)]
enum Step {
    Targets,
    /// Is it marked as secret?
    Secret,
    /// The page from which it was copied.
    Page(Atom),
    Take {
        target: Atom,
        mime: String,
        text: TextIn,
    },
}

/// How the plain text of a target is encoded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum TextIn {
    NotText,
    Utf8,
    Utf16,
    Latin1,
    Compound,
    /// The type of the answer tells.
    AsTyped,
}

/// How far a reading has come.
pub(super) enum Progress {
    Going,
    Done(Copy),
    Failed(Refusal),
}

impl CopyReading {
    /// Begins to read what was copied at `time`.
    pub fn begin(
        at: &Place<'_>,
        owner: Window,
        time: Timestamp,
        limit: u64,
        patience: Duration,
    ) -> Result<Self, ReplyOrIdError> {
        let mut reading = Self {
            owner,
            time,
            window: None,
            source: Source::default(),
            steps: VecDeque::new(),
            current: Step::Targets,
            answer: 0,
            asked: 0,
            superseded: false,
            pieces: None,
            formats: Vec::new(),
            size: 0,
            limit,
            patience,
            deadline: Instant::now() + patience,
        };
        reading.ask(at, Step::Targets)?;
        Ok(reading)
    }

    fn ask(&mut self, at: &Place<'_>, step: Step) -> Result<(), ReplyOrIdError> {
        self.answer = at.next_answer();
        self.current = step;
        let target = self.target(at.atoms);
        at.connection.delete_property(at.window, self.answer)?;
        let cookie = at.connection.convert_selection(at.window, at.atoms.CLIPBOARD, target, self.answer, self.time)?;
        self.asked = cookie.sequence_number();
        at.connection.flush()?;
        self.deadline = Instant::now() + self.patience;
        self.pieces = None;
        Ok(())
    }

    /// Whether its last question was put before the server had carried out the request of this number.
    pub fn asked_before(&self, carried_out: u64) -> bool {
        self.asked <= carried_out
    }

    /// Whether the answer that is waited for is the last.
    pub fn waits_for_the_last(&self) -> bool {
        self.steps.is_empty() && !matches!(self.current, Step::Targets)
    }

    /// There is another owner: nothing more is asked.
    pub fn supersede(&mut self) {
        self.superseded = true;
    }

    /// Whether there is another owner.
    pub fn is_superseded(&self) -> bool {
        self.superseded
    }

    /// Whether this reading waits for an answer in this property, or with none for one about this target.
    pub fn expects(&self, property: Atom, target: Atom, atoms: &Atoms) -> bool {
        if property == x11rb::NONE { self.target(atoms) == target } else { self.answer == property }
    }

    fn target(&self, atoms: &Atoms) -> Atom {
        match &self.current {
            Step::Targets => atoms.TARGETS,
            Step::Secret => atoms.SECRET_HINT,
            Step::Page(target) | Step::Take { target, .. } => *target,
        }
    }

    /// The owner has answered (`property` is none when it refuses).
    pub fn answered(&mut self, at: &Place<'_>, property: Atom) -> Result<Progress, ReplyOrIdError> {
        if property == x11rb::NONE {
            return self.refused(at);
        }
        if self.pieces.is_some() {
            return Ok(Progress::Going);
        }
        let Some((kind, data)) = self.fetch(at)? else { return Ok(self.too_large()) };
        if kind == at.atoms.INCR {
            let announced = data.first_chunk().map_or(0, |bytes| u64::from(u32::from_ne_bytes(*bytes)));
            if self.size + announced > self.limit {
                return Ok(self.too_large());
            }
            self.pieces = Some(Vec::new());
            self.deadline = Instant::now() + self.patience;
            return Ok(Progress::Going);
        }
        self.received(at, kind, data)
    }

    /// A property of our window has a new value: perhaps the next piece.
    pub fn piece_arrived(&mut self, at: &Place<'_>) -> Result<Progress, ReplyOrIdError> {
        if self.pieces.is_none() {
            return Ok(Progress::Going);
        }
        let Some((kind, data)) = self.fetch(at)? else { return Ok(self.too_large()) };
        self.deadline = Instant::now() + self.patience;
        let Some(pieces) = &mut self.pieces else { return Ok(Progress::Going) };
        if data.is_empty() {
            let whole = std::mem::take(pieces);
            return self.received(at, kind, whole);
        }
        pieces.extend_from_slice(&data);
        if self.size + pieces.len() as u64 > self.limit {
            return Ok(self.too_large());
        }
        Ok(Progress::Going)
    }

    /// Takes the property's value off our window, unless it is larger than what is still allowed.
    fn fetch(&self, at: &Place<'_>) -> Result<Option<(Atom, Vec<u8>)>, ReplyOrIdError> {
        let allowed = self.limit.saturating_sub(self.size).max(64 * 1024) / 4 + 1;
        let allowed = u32::try_from(allowed).unwrap_or(u32::MAX);
        let reply = at.connection.get_property(true, at.window, self.answer, AtomEnum::ANY, 0, allowed)?.reply()?;
        if reply.bytes_after > 0 {
            at.connection.delete_property(at.window, self.answer)?;
            return Ok(None);
        }
        Ok(Some((reply.type_, reply.value)))
    }

    fn too_large(&self) -> Progress {
        Progress::Failed(Refusal::TooLarge { limit: self.limit })
    }

    fn refused(&mut self, at: &Place<'_>) -> Result<Progress, ReplyOrIdError> {
        // An owner that does not even tell its targets may still give text.
        if matches!(self.current, Step::Targets) && self.steps.is_empty() {
            self.steps.push_back(Step::Take {
                target: at.atoms.UTF8_STRING,
                mime: format::PLAIN.into(),
                text: TextIn::Utf8,
            });
            self.steps.push_back(Step::Take {
                target: at.atoms.STRING,
                mime: format::PLAIN.into(),
                text: TextIn::AsTyped,
            });
        }
        self.go_on(at)
    }

    fn received(&mut self, at: &Place<'_>, kind: Atom, data: Vec<u8>) -> Result<Progress, ReplyOrIdError> {
        match self.current.clone() {
            Step::Targets => {
                let targets: Vec<Atom> =
                    data.chunks_exact(4).map(|four| u32::from_ne_bytes([four[0], four[1], four[2], four[3]])).collect();
                self.steps = plan(at, &targets)?;
            }
            Step::Secret => {
                if data.starts_with(b"secret") {
                    return Ok(Progress::Failed(Refusal::Secret));
                }
            }
            Step::Page(_) => {
                let page = yadori_core::html::decode(&data);
                self.source.page =
                    Some(page.trim().to_owned()).filter(|page| yadori_core::link::sole_url(page).is_some());
            }
            Step::Take { mime, text, .. } => {
                let data = match decode(at, text, kind, data) {
                    Some(data) => data,
                    None => return self.go_on(at),
                };
                self.size += data.len() as u64;
                if self.size > self.limit {
                    return Ok(self.too_large());
                }
                // The fallback asks for plain text twice; the first answer counts.
                if !data.is_empty() && format::find(&self.formats, &mime).is_none() {
                    self.formats.push(Format::new(mime, data));
                }
            }
        }
        self.go_on(at)
    }

    fn go_on(&mut self, at: &Place<'_>) -> Result<Progress, ReplyOrIdError> {
        if let Some(next) = self.steps.pop_front() {
            if !self.superseded {
                self.ask(at, next)?;
                return Ok(Progress::Going);
            }
            if self.formats.is_empty() {
                return Ok(Progress::Failed(Refusal::Undelivered(REPLACED.into())));
            }
        }
        if self.formats.is_empty() {
            return Ok(Progress::Failed(Refusal::NoUsefulFormat));
        }
        let formats = std::mem::take(&mut self.formats);
        Ok(Progress::Done(Copy { formats, source: std::mem::take(&mut self.source) }))
    }
}

/// Why a copy was not read whose owner was replaced too soon.
pub(super) const REPLACED: &str = "something else was copied before it answered";

/// Where a reading takes place.
pub(super) struct Place<'a> {
    pub connection: &'a RustConnection,
    pub atoms: &'a Atoms,
    pub window: Window,
    /// Counts the questions that were asked.
    pub questions: &'a Cell<usize>,
}

impl Place<'_> {
    /// The property for the next answer. They take turns, so that a late answer is not taken for another.
    fn next_answer(&self) -> Atom {
        let atoms = self.atoms;
        let answers = [
            atoms.ANSWER_0,
            atoms.ANSWER_1,
            atoms.ANSWER_2,
            atoms.ANSWER_3,
            atoms.ANSWER_4,
            atoms.ANSWER_5,
            atoms.ANSWER_6,
            atoms.ANSWER_7,
        ];
        let turn = self.questions.get();
        self.questions.set(turn.wrapping_add(1));
        answers[turn % answers.len()]
    }
}

/// Most targets that are looked at; an honest owner has some thirty.
const MOST_TARGETS: usize = 256;

/// What to ask for, of what is offered.
fn plan(at: &Place<'_>, targets: &[Atom]) -> Result<VecDeque<Step>, ReplyOrIdError> {
    let targets = &targets[..targets.len().min(MOST_TARGETS)];
    let mut steps = VecDeque::new();
    if targets.contains(&at.atoms.SECRET_HINT) {
        steps.push_back(Step::Secret);
    }
    if let Some(page) =
        [at.atoms.SOURCE_URL, at.atoms.SOURCE_URL_PRIVATE].into_iter().find(|page| targets.contains(page))
    {
        steps.push_back(Step::Page(page));
    }
    let atoms = at.atoms;
    // The common text targets need no look-up; with them alone the whole plan costs no round trip.
    let well_known = [
        atoms.TARGETS,
        atoms.MULTIPLE,
        atoms.TIMESTAMP,
        atoms.UTF8_STRING,
        atoms.STRING,
        atoms.TEXT,
        atoms.COMPOUND_TEXT,
        atoms.TEXT_PLAIN,
        atoms.TEXT_PLAIN_UTF8,
        atoms.SECRET_HINT,
        atoms.SOURCE_URL,
    ];
    let unknown: Vec<Atom> = targets.iter().copied().filter(|target| !well_known.contains(target)).collect();
    let cookies: Vec<_> = unknown.iter().map(|target| at.connection.get_atom_name(*target)).collect();
    let mut named: Vec<(Atom, String)> = Vec::new();
    for (target, cookie) in unknown.into_iter().zip(cookies) {
        // A target that is no atom at all is the owner's lie, not our failure.
        if let Ok(reply) = cookie?.reply() {
            named.push((target, String::from_utf8_lossy(&reply.name).into_owned()));
        }
    }
    let with_charset = |wanted: &str| {
        named
            .iter()
            .find(|(_, name)| {
                name.to_ascii_lowercase().replace([' ', '"'], "") == format!("text/plain;charset={wanted}")
            })
            .map(|(target, _)| *target)
    };
    let has = |target: Atom| targets.contains(&target).then_some(target);
    let plain = [
        (has(atoms.UTF8_STRING), TextIn::Utf8),
        (has(atoms.TEXT_PLAIN_UTF8).or_else(|| with_charset("utf-8")), TextIn::Utf8),
        (with_charset("utf-16"), TextIn::Utf16),
        (has(atoms.COMPOUND_TEXT), TextIn::Compound),
        (has(atoms.TEXT_PLAIN), TextIn::AsTyped),
        (has(atoms.TEXT), TextIn::AsTyped),
        (has(atoms.STRING), TextIn::AsTyped),
        (with_charset("iso-8859-1"), TextIn::Latin1),
    ];
    let plain = plain.into_iter().find_map(|(target, text)| Some((target?, text)));
    let mut offered: Vec<(Atom, String)> = named
        .into_iter()
        .map(|(target, name)| (target, format::canonical_mime(&name)))
        .filter(|(_, mime)| mime != format::PLAIN)
        .collect();
    // Some toolkits offer one type under names that differ in case only.
    let mut seen = std::collections::HashSet::new();
    offered.retain(|(_, mime)| seen.insert(mime.clone()));
    if let Some((target, text)) = plain {
        steps.push_back(Step::Take { target, mime: format::PLAIN.into(), text });
    }
    let mimes: Vec<&str> = offered.iter().map(|(_, mime)| mime.as_str()).collect();
    for mime in format::useful(&mimes) {
        if let Some((target, mime)) = offered.iter().find(|(_, offer)| offer == mime) {
            steps.push_back(Step::Take { target: *target, mime: mime.clone(), text: TextIn::NotText });
        }
    }
    Ok(steps)
}

/// The data of a target; plain text as UTF-8. `None` when it is in an encoding that we do not read.
fn decode(at: &Place<'_>, text: TextIn, kind: Atom, data: Vec<u8>) -> Option<Vec<u8>> {
    let decoded = match text {
        TextIn::NotText => return Some(data),
        TextIn::Utf8 => data,
        TextIn::Utf16 => yadori_core::html::decode(&data).into_bytes(),
        TextIn::Latin1 => text::from_latin1(&data).into_bytes(),
        TextIn::Compound => text::from_compound(&data)?.into_bytes(),
        TextIn::AsTyped if kind == at.atoms.COMPOUND_TEXT => text::from_compound(&data)?.into_bytes(),
        TextIn::AsTyped if kind == at.atoms.STRING && std::str::from_utf8(&data).is_err() => {
            text::from_latin1(&data).into_bytes()
        }
        // `STRING` that is valid UTF-8 beyond ASCII is nearly always UTF-8 from a careless owner.
        TextIn::AsTyped => data,
    };
    let end = decoded.iter().rposition(|byte| *byte != 0).map_or(0, |last| last + 1);
    Some(decoded[..end].to_vec())
}
