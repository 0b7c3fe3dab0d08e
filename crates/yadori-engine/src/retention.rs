//! What goes by itself: clips that the rules sweep, and the bin's after a day.
//!
//! Nothing is polled: the task sleeps until something is due by its age, and wakes when a copy was filed or the
//! rules changed. After a wake it lets a moment pass, so that a burst of copies costs one look.

pub mod bin;
pub mod delete;
mod plan;
pub mod undo;

use crate::background::Background;
use crate::capture::Capture;
use crate::clock::now;
use crate::history::History;
use crate::links::Links;
use parking_lot::Mutex;
use plan::{Going, SweepPlan};
use rustix::time::{ClockId, clock_gettime};
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::{Duration, Instant};
use yadori_core::MillisSinceEpoch;
use yadori_core::amounts::{DAY, counted};
use yadori_core::retention::{self, Rule};
use yadori_store::StoreError;

/// Longest sleep. A sleep does not count the time in which the machine was suspended.
const LONGEST: Duration = Duration::from_secs(3600);

/// Pause after the database has failed to answer.
const PAUSE: Duration = Duration::from_secs(5);

/// Least time between two looks at the rules, and how much more of it than a look takes.
const BETWEEN: (Duration, u32) = (Duration::from_secs(1), 20);

/// Clips swept in one transaction at most, so that a sweep never holds up a capture.
const BATCH: usize = 50;

/// Whether sweeps may go on, and what speaks against it.
#[derive(Debug, Default)]
pub struct SweepState {
    /// What is held, until a person says yes.
    pub held: Option<Held>,
    /// The person has said that the present rules may take more than half.
    confirmed: bool,
    /// The wall clock and the clock that never jumps, when they were last compared.
    clocks: Option<(MillisSinceEpoch, u64)>,
    /// The clock was found to have jumped ahead.
    jumped: bool,
}

/// A sweep that is not made before a person says yes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Held {
    /// How many clips would go.
    pub clips: usize,
    /// Why it is held.
    pub because: String,
}

/// Milliseconds since the machine was started, suspension included: a clock that nobody sets.
fn since_boot() -> u64 {
    let time = clock_gettime(ClockId::Boottime);
    time.tv_sec as u64 * 1000 + time.tv_nsec as u64 / 1_000_000
}

/// What leaves the history: by the rules, or because a person says so.
pub struct Retention {
    pub(crate) history: Arc<History>,
    capture: Arc<Capture>,
    links: Arc<Links>,
    background: Background,
    /// Somebody waits for a large step to be interrupted.
    interrupt: AtomicBool,
    /// Large steps are done, and undone, one after the other.
    stepping: Arc<tokio::sync::Mutex<()>>,
    /// What was forgotten for good is written over, once at a time.
    erasing: tokio::sync::Mutex<()>,
    /// Somebody waits for that already, and has not begun.
    erase_waits: AtomicBool,
    sweeps: Mutex<SweepState>,
}

impl Retention {
    /// Forgets from this history.
    pub fn new((history, links): (Arc<History>, Arc<Links>), capture: Arc<Capture>, background: Background) -> Self {
        Self {
            history,
            capture,
            links,
            background,
            interrupt: AtomicBool::new(false),
            stepping: Arc::default(),
            erasing: tokio::sync::Mutex::default(),
            erase_waits: AtomicBool::new(false),
            sweeps: Mutex::default(),
        }
    }
}

impl Retention {
    /// Forgets what is due, and sleeps until the next is. Ends when the task is dropped.
    pub async fn forget_when_due(self: &Arc<Self>) {
        loop {
            let began = Instant::now();
            let pause = match self.forget_due().await {
                Ok(left) => left.map(|left| left.min(LONGEST)),
                Err(error) => {
                    tracing::warn!(%error, "what is due cannot be forgotten at the moment");
                    Some(PAUSE)
                }
            };
            let (least, times) = BETWEEN;
            let next_look = least.max(began.elapsed() * times);
            match pause {
                None => self.history.forgetting.notified().await,
                Some(pause) => {
                    tokio::select! {
                        () = self.history.forgetting.notified() => {}
                        () = tokio::time::sleep(pause) => continue,
                    }
                }
            }
            // Whoever waits for a sweep does not wait long; a burst of copies is looked at once.
            tokio::time::sleep(next_look).await;
        }
    }

    /// Forgets what is due; tells how long it is until the next.
    async fn forget_due(self: &Arc<Self>) -> Result<Option<Duration>, StoreError> {
        self.capture.count_captured().await?;
        self.look_at_the_clock();
        let (_, next) = self.sweep(false).await?;
        if !self.sweeps().jumped {
            while let Some(change) = self.purge_due().await? {
                self.history.ledger.changed(change);
            }
        }
        let held = self.sweeps().held.is_some();
        let next = [self.history.store.next_due().await?, next].into_iter().flatten().min();
        let next = next.map(|at| Duration::from_millis(at.0.saturating_sub(now().0)).max(Duration::from_millis(1)));
        // What is held does not become less due.
        Ok(if held || self.sweeps().jumped { Some(LONGEST) } else { next })
    }

    /// Expires what is due, one batch; gives the number of the latest change, if anything was.
    async fn purge_due(&self) -> Result<Option<u64>, StoreError> {
        // Nobody connects in between.
        let (connected, _meeting) = self.links.meet().await;
        let expired = self.history.store.purge_due(now(), &connected).await?;
        if expired.is_some() {
            self.history.snapshots.outlives();
        }
        Ok(expired)
    }

    pub(crate) fn sweeps(&self) -> parking_lot::MutexGuard<'_, SweepState> {
        self.sweeps.lock()
    }

    /// Notes whether the wall clock has jumped ahead since the last look.
    fn look_at_the_clock(&self) {
        let (wall, steady) = (now(), since_boot());
        let mut sweeps = self.sweeps();
        if let Some((wall_before, steady_before)) = sweeps.clocks.replace((wall, steady)) {
            let ahead = wall.0.saturating_sub(wall_before.0).saturating_sub(steady.saturating_sub(steady_before));
            let back = wall_before.0.saturating_sub(wall.0);
            if ahead > DAY {
                sweeps.jumped = true;
                tracing::warn!(
                    days = ahead / DAY,
                    "the clock has jumped ahead; nothing is forgotten until it is confirmed"
                );
            } else if back > DAY {
                sweeps.jumped = false;
            }
        }
    }

    /// The person knows what goes and wants it.
    pub(crate) fn confirm_sweeps(&self) {
        let mut sweeps = self.sweeps();
        *sweeps = SweepState { confirmed: true, clocks: sweeps.clocks, ..SweepState::default() };
    }

    /// Sweeps now, with a person's word for it. Gives the number of clips that went.
    pub async fn sweep_now(self: &Arc<Self>) -> Result<u64, StoreError> {
        self.confirm_sweeps();
        let (swept, _) = self.sweep(true).await?;
        self.history.forgetting.notify_one();
        Ok(swept)
    }

    /// Sweeps; tells how many clips went, and when the next is too old.
    async fn sweep(self: &Arc<Self>, asked: bool) -> Result<(u64, Option<MillisSinceEpoch>), StoreError> {
        let stamp = self.history.stamps.next();
        let SweepPlan { going, next, considered, .. } = self.plan_sweep(self.history.checked_rules().rules()).await;
        // Secrets go in any case, and for good: they should never be there for long.
        let (secrets, others): (Vec<Going>, Vec<Going>) =
            going.into_iter().partition(|going| going.rule == Rule::Sensitive);
        let mut swept = secrets.len() as u64;
        for batch in secrets.chunks(BATCH) {
            let numbers: Vec<u64> = batch.iter().map(|going| going.number).collect();
            self.history.ledger.changed(self.history.store.purge(&numbers, self.history.stamps.next()).await?);
        }
        // Else they would stay in the log of the database until that is written over.
        if !secrets.is_empty() {
            self.secure_erase();
        }
        {
            let mut sweeps = self.sweeps();
            let held = if others.is_empty() || asked {
                None
            } else if sweeps.jumped {
                Some("the clock of this computer has jumped ahead".to_owned())
            } else if !sweeps.confirmed && retention::is_drastic(others.len(), considered) {
                let all = counted(considered as u64, "clip", "clips");
                Some(format!("that is more than half of the {all} that are not kept"))
            } else {
                None
            };
            let held = held.map(|because| Held { clips: others.len(), because });
            let news = held != sweeps.held;
            sweeps.held = held;
            if others.is_empty() {
                sweeps.confirmed = false;
            }
            if news {
                self.history.ledger.status_changed();
            }
            if sweeps.held.is_some() {
                return Ok((swept, next));
            }
        }
        for batch in others.chunks(BATCH) {
            let numbers: Vec<u64> = batch.iter().map(|going| going.number).collect();
            self.history.ledger.changed(self.history.store.sweep(&numbers, stamp).await?);
            swept += numbers.len() as u64;
            tokio::task::yield_now().await;
        }
        if swept > 0 {
            tracing::info!(clips = swept, "swept");
        }
        Ok((swept, next))
    }

    /// Forgets everything that is not kept, for good, if the rules want that at the end of a session.
    pub async fn forget_session(&self) -> Result<(), StoreError> {
        if !self.history.checked_rules().rules().forget_at_log_out {
            return Ok(());
        }
        let numbers: Vec<u64> = {
            let index = self.history.ledger.read().await;
            index.candidates().into_iter().filter(|(_, clip)| !clip.kept).map(|(_, clip)| clip.number).collect()
        };
        let count = numbers.len();
        for batch in numbers.chunks(BATCH) {
            self.history.ledger.changed(self.history.store.purge(batch, self.history.stamps.next()).await?);
        }
        if count > 0 {
            tracing::info!(clips = count, "the session's history is forgotten");
        }
        Ok(())
    }
}
