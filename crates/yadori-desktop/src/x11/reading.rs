//! Reading a copy: its targets, then one format after the other.
//!
//! In a burst of copies the next owner may come before the last has answered. What was asked of the last
//! is still answered by it, so the reading goes on to the end of that answer; but it asks nothing more,
//! since the next owner would answer.

use super::TransferContext;
use super::atoms::Atoms;
use super::transfer::{Arrival, Transfer};
use crate::OWN_PATIENCE;
use crate::wanted::{self, MOST_NAMES, TextIn, Typed, Wanted};
use std::collections::VecDeque;
use std::time::{Duration, Instant};
use x11rb::errors::ReplyOrIdError;
use x11rb::protocol::xproto::{Atom, Timestamp, Window};
use yadori_core::capture::{Copy, Refusal};
use yadori_core::{Format, Source, format, own};

/// One copy being read.
pub(super) struct CopyReading {
    /// The clipboard, or the primary selection.
    pub selection: Atom,
    /// The window that owned it when this began.
    pub owner: Window,
    time: Timestamp,
    /// The window in front, once it has been looked up.
    pub window: Option<Source>,
    source: Source,
    steps: VecDeque<Step>,
    current: Step,
    transfer: Transfer,
    /// The owner has been replaced since.
    superseded: bool,
    formats: Vec<Format>,
    size: u64,
    limit: u64,
    patience: Duration,
    /// What the program keeps for itself: to be asked for afterwards.
    own: VecDeque<Step>,
    /// The names of all formats, in the owner's order.
    order: Vec<String>,
    /// Whether this reads such formats.
    is_of_own: bool,
    /// How it ended, while it waits for an earlier one to end, and until when it waits.
    ended: Option<(Result<Copy, Refusal>, Instant)>,
}

#[derive(Clone, Debug)]
enum Step {
    Targets,
    /// Is it marked as secret?
    Secret(Atom),
    /// The page from which it was copied.
    Page(Atom),
    Take {
        target: Atom,
        mime: String,
        text: TextIn,
    },
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
        at: &TransferContext<'_>,
        selection: Atom,
        owner: Window,
        time: Timestamp,
        limit: u64,
        patience: Duration,
    ) -> Result<Self, ReplyOrIdError> {
        Ok(Self {
            selection,
            owner,
            time,
            window: None,
            source: Source::default(),
            steps: VecDeque::new(),
            current: Step::Targets,
            transfer: Transfer::ask(at, selection, at.atoms.TARGETS, time, limit, patience)?,
            superseded: false,
            formats: Vec::new(),
            size: 0,
            limit,
            patience,
            own: VecDeque::new(),
            order: Vec::new(),
            is_of_own: false,
            ended: None,
        })
    }

    /// Begins to read what the program keeps for itself, after everything else has been read; nothing if there is none, or
    /// the owner has been replaced.
    pub fn own(&mut self, at: &TransferContext<'_>) -> Result<Option<Self>, ReplyOrIdError> {
        let mut steps = std::mem::take(&mut self.own);
        let Some(first) = steps.pop_front().filter(|_| !self.superseded) else { return Ok(None) };
        let Step::Take { target, .. } = &first else { return Ok(None) };
        let (limit, patience) = (own::MOST_BYTES.min(self.limit.saturating_sub(self.size)), OWN_PATIENCE);
        Ok(Some(Self {
            selection: self.selection,
            owner: self.owner,
            time: self.time,
            window: None,
            source: Source::default(),
            transfer: Transfer::ask(at, self.selection, *target, self.time, limit, patience)?,
            steps,
            current: first,
            superseded: false,
            formats: Vec::new(),
            size: 0,
            limit,
            patience,
            own: VecDeque::new(),
            order: std::mem::take(&mut self.order),
            is_of_own: true,
            ended: None,
        }))
    }

    /// The names of all formats, in the owner's order.
    pub fn order(&mut self) -> Vec<String> {
        std::mem::take(&mut self.order)
    }

    fn ask(&mut self, at: &TransferContext<'_>, step: Step) -> Result<(), ReplyOrIdError> {
        let target = match &step {
            Step::Targets => at.atoms.TARGETS,
            Step::Secret(target) | Step::Page(target) | Step::Take { target, .. } => *target,
        };
        let allowed = self.limit.saturating_sub(self.size);
        self.current = step;
        self.transfer = Transfer::ask(at, self.selection, target, self.time, allowed, self.patience)?;
        Ok(())
    }

    /// When it is given up, or waits no longer for those before it.
    pub fn deadline(&self) -> Instant {
        self.ended.as_ref().map_or(self.transfer.deadline, |(_, until)| *until)
    }

    /// Notes how it ended. It is told after those before it, but does not wait for them for long.
    pub fn end(&mut self, how: Result<Copy, Refusal>) {
        self.ended = Some((how, Instant::now() + IN_ORDER));
    }

    /// Whether it has ended, and waits for others.
    pub fn has_ended(&self) -> bool {
        self.ended.is_some()
    }

    /// How it ended, once.
    pub fn take_end(&mut self) -> Option<Result<Copy, Refusal>> {
        self.ended.take().map(|(how, _)| how)
    }

    /// Whether its last question was put before the server had carried out the request of this number.
    pub fn asked_before(&self, carried_out: u64) -> bool {
        self.transfer.asked_before(carried_out)
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
    pub fn expects(&self, property: Atom, about: (Atom, Atom)) -> bool {
        self.ended.is_none() && self.transfer.expects(property, about)
    }

    /// The property in which an answer is still awaited.
    pub fn awaits(&self) -> Option<Atom> {
        self.ended.is_none().then(|| self.transfer.awaits())
    }

    /// The owner has answered (`property` is none when it refuses).
    pub fn answered(&mut self, at: &TransferContext<'_>, property: Atom) -> Result<Progress, ReplyOrIdError> {
        let arrival = self.transfer.answered(at, property)?;
        self.arrived(at, arrival)
    }

    /// A property of our window has a new value: perhaps the next piece.
    pub fn piece_arrived(&mut self, at: &TransferContext<'_>) -> Result<Progress, ReplyOrIdError> {
        let arrival = self.transfer.piece_arrived(at)?;
        self.arrived(at, arrival)
    }

    fn arrived(&mut self, at: &TransferContext<'_>, arrival: Arrival) -> Result<Progress, ReplyOrIdError> {
        match arrival {
            Arrival::Going => Ok(Progress::Going),
            // The others may fit.
            Arrival::TooLarge if self.is_of_own => self.go_on(at),
            Arrival::TooLarge => Ok(self.too_large()),
            Arrival::Refused => self.refused(at),
            Arrival::Whole(kind, data) => self.received(at, kind, data),
        }
    }

    fn too_large(&self) -> Progress {
        Progress::Failed(Refusal::TooLarge { limit: self.limit })
    }

    fn refused(&mut self, at: &TransferContext<'_>) -> Result<Progress, ReplyOrIdError> {
        // An owner that does not even tell its targets may still give text.
        if matches!(self.current, Step::Targets) && self.steps.is_empty() {
            for (target, text) in [(at.atoms.UTF8_STRING, TextIn::Utf8), (at.atoms.STRING, TextIn::AsTyped)] {
                self.steps.push_back(Step::Take { target, mime: format::PLAIN.into(), text });
            }
        }
        self.go_on(at)
    }

    fn received(&mut self, at: &TransferContext<'_>, kind: Atom, data: Vec<u8>) -> Result<Progress, ReplyOrIdError> {
        match self.current.clone() {
            Step::Targets => self.steps = self.plan(at, &atoms_in(&data))?,
            Step::Secret(_) => {
                if wanted::is_secret(&data) {
                    return Ok(Progress::Failed(Refusal::Secret));
                }
            }
            Step::Page(_) => self.source.page = wanted::page(&data),
            Step::Take { mime, text, .. } => {
                let Some(data) = wanted::decode(text, typed(at.atoms, kind), data) else { return self.go_on(at) };
                if self.is_of_own && self.size + data.len() as u64 > self.limit {
                    return self.go_on(at);
                }
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

    fn plan(&mut self, at: &TransferContext<'_>, targets: &[Atom]) -> Result<VecDeque<Step>, ReplyOrIdError> {
        let named = at.names(&targets[..targets.len().min(MOST_NAMES)])?;
        let names: Vec<&str> = named.iter().map(|(_, name)| name.as_str()).collect();
        let clipboard = self.selection == at.atoms.CLIPBOARD;
        let plan = if clipboard { wanted::plan(&names) } else { wanted::plan_text(&names) };
        let target = |place: usize| named[place].0;
        let secret = plan.secret.map(|place| Step::Secret(target(place)));
        let page = plan.page.map(|place| Step::Page(target(place)));
        let take = |Wanted { place, mime, text }| Step::Take { target: target(place), mime, text };
        self.own = plan.own.into_iter().map(take).collect();
        self.order = plan.order;
        Ok(secret.into_iter().chain(page).chain(plan.formats.into_iter().map(take)).collect())
    }

    fn go_on(&mut self, at: &TransferContext<'_>) -> Result<Progress, ReplyOrIdError> {
        if let Some(next) = self.steps.pop_front() {
            if !self.superseded {
                self.ask(at, next)?;
                return Ok(Progress::Going);
            }
            if self.formats.is_empty() {
                return Ok(Progress::Failed(Refusal::Undelivered(REPLACED.into())));
            }
        }
        Ok(self.done().map_or(Progress::Failed(Refusal::NoUsefulFormat), Progress::Done))
    }

    /// What has been delivered so far.
    pub fn done(&mut self) -> Option<Copy> {
        let formats = std::mem::take(&mut self.formats);
        (!formats.is_empty()).then(|| Copy { formats, source: std::mem::take(&mut self.source) })
    }
}

/// How long a copy that has been read waits for one that was made before it.
const IN_ORDER: Duration = Duration::from_secs(1);

/// Why a copy was not read whose owner was replaced too soon.
pub(super) const REPLACED: &str = "something else was copied before it answered";

/// The atoms in the value of a property.
pub(super) fn atoms_in(data: &[u8]) -> Vec<Atom> {
    data.chunks_exact(4).map(|four| u32::from_ne_bytes([four[0], four[1], four[2], four[3]])).collect()
}

fn typed(atoms: &Atoms, kind: Atom) -> Typed {
    match kind {
        kind if kind == atoms.COMPOUND_TEXT => Typed::Compound,
        kind if kind == atoms.STRING => Typed::Latin1,
        _ => Typed::Other,
    }
}
