//! A copy becomes a clip: the rules judge it, it gets its identity, the records take it, and it is
//! announced.

pub(crate) mod journal;
pub(crate) mod moving_in;
pub mod pause;

use crate::availability::Availability;
use crate::background::Background;
use crate::clock::now;
use crate::history::History;
use crate::history::index::Part;
use crate::links::Links;
use backon::{BackoffBuilder, ExponentialBuilder};
use journal::Journal;
use parking_lot::Mutex;
use parking_lot::MutexGuard;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::Notify;
use tokio::sync::broadcast::error::RecvError;
use tokio::sync::{mpsc, watch};
use yadori_cage::{Cage, Decoded, PictureError};
use yadori_core::MillisSinceEpoch;
use yadori_core::amounts::DAY;
use yadori_core::capture::{self, Copy, Draft, Maker, Refusal};
use yadori_core::html::Markup;
use yadori_core::keys::Action;
use yadori_core::sensitive::Sensitive;
use yadori_core::sharing::Candidate;
use yadori_core::{ClipId, Format, Mark, Rank, Stamp, format};
use yadori_desktop::Shortcoming;
use yadori_desktop::{Clipboard, Copied, Event, GrabState, Reading};
use yadori_store::{DEADLOCKS, Filed, Filing, GivenAttributes, MovedIn, NewClip, Replaced, StoreError};

/// Longest pause between tries.
const LONGEST_PAUSE: Duration = Duration::from_secs(3);

/// Pauses between tries when the records do not take a copy.
const RETRY: ExponentialBuilder = ExponentialBuilder::new()
    .with_min_delay(Duration::from_millis(50))
    .with_factor(4.0)
    .with_max_delay(LONGEST_PAUSE)
    .without_max_times();

/// How long copies that still wait are tried to be filed when the service ends.
const LAST_PATIENCE: Duration = Duration::from_secs(5);

/// Why a copy made no clip.
#[derive(Debug, Error)]
pub enum CaptureError {
    /// The rules refuse it.
    #[error(transparent)]
    Refused(#[from] Refusal),
    /// The records do not take it.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// Attributes that come with a copy made by hand.
#[derive(Clone, Debug, Default)]
pub struct ByHand {
    /// Its title.
    pub title: Option<String>,
    /// When it was copied, if not now.
    pub copied: Option<Stamp>,
    /// Its place among the pinned ones.
    pub pin: Option<Rank>,
    /// Its drawer, and its place there.
    pub drawer: Option<(u32, Rank)>,
    /// Its colour mark.
    pub mark: Option<Mark>,
    /// Its alias.
    pub alias: Option<String>,
    /// Whether its placeholders are filled in.
    pub fills: bool,
    /// The clip whose place it takes.
    pub replaces: Option<Replaced>,
    /// Its life so far, if it comes from elsewhere.
    pub moved_in: Option<MovedIn>,
    /// The id that it is said to have.
    pub said_to_be: Option<ClipId>,
}

/// What capturing did.
#[derive(Clone, Copy, Debug)]
pub struct Captured {
    /// The clip.
    pub id: ClipId,
    /// Its number in the records.
    pub number: u64,
    /// Whether it was not there before.
    pub new: bool,
    /// When it was copied, as it was filed.
    pub copied: Stamp,
    /// Whether it is a secret, or may be one.
    pub sensitive: bool,
}

/// What a desktop tells of its keyboard.
#[derive(Debug)]
pub(crate) enum KeyEvent {
    /// There is a connection to it, in which no keys are grabbed yet.
    Connected,
    /// A key that we have grabbed was pressed.
    Pressed(Action),
    /// The keyboard is another, and which keys reach us now.
    Grabbed(Vec<(Action, GrabState)>),
}

/// Makes clips of copies.
pub struct Capture {
    pub(crate) history: Arc<History>,
    links: Arc<Links>,
    clipboard: Option<Arc<dyn Clipboard>>,
    reading: Arc<Reading>,
    server: Availability,
    background: Background,
    /// Something that the service put on the clipboard was pasted.
    pub(crate) pasted: Notify,
    /// How often that has happened.
    pub(crate) pastes: watch::Sender<u64>,
    /// How many copies that were made in programs have been kept; what was merely selected is none.
    kept: watch::Sender<u64>,
    /// Copies that have been filed and not yet counted among those of their days (since 1970-01-01).
    uncounted: Mutex<BTreeMap<u64, u32>>,
    /// The latest copy and when it was made, for telling repeats.
    latest_copy: Mutex<Option<(ClipId, MillisSinceEpoch)>>,
    journal: Mutex<Journal>,
    /// A pause began or ended.
    pausing: Notify,
    /// What the desktop tells of its keyboard.
    keys: mpsc::UnboundedSender<KeyEvent>,
}

impl Capture {
    /// Captures for this history from the clipboard; `off` says why there is none, until one is told of.
    pub(crate) fn new(
        (history, links): (Arc<History>, Arc<Links>),
        clipboard: Option<Arc<dyn Clipboard>>,
        reading: Arc<Reading>,
        off: Shortcoming,
        server: Availability,
        background: Background,
        keys: mpsc::UnboundedSender<KeyEvent>,
    ) -> Self {
        Self {
            keys,
            history,
            links,
            clipboard,
            reading,
            server,
            background,
            pasted: Notify::new(),
            pastes: watch::Sender::new(0),
            kept: watch::Sender::new(0),
            uncounted: Mutex::default(),
            latest_copy: Mutex::default(),
            journal: Mutex::new(Journal::new(off)),
            pausing: Notify::new(),
        }
    }
}

impl Capture {
    pub(crate) fn journal(&self) -> MutexGuard<'_, Journal> {
        self.journal.lock()
    }

    /// Counts the copies of the last moments among those of their days: not each with its copy, which would be the slower
    /// for it.
    pub(crate) async fn count_captured(&self) -> Result<(), StoreError> {
        let uncounted = std::mem::take(&mut *self.uncounted.lock());
        for (day, copies) in uncounted {
            self.history.store.count_captured(MillisSinceEpoch(day * DAY), copies).await?;
        }
        Ok(())
    }

    /// Files what the desktop tells, one copy after the other. When the service ends, what has been read
    /// is still filed.
    pub async fn capture_all(self: &Arc<Self>, mut events: mpsc::Receiver<Event>) {
        let mut latest: Option<Captured> = None;
        loop {
            let event = tokio::select! {
                biased;
                event = events.recv() => event,
                () = self.background.ending.cancelled(), if !events.is_closed() => {
                    events.close();
                    continue;
                }
            };
            let Some(event) = event else { return };
            match event {
                Event::Copied(copied) => {
                    latest = self.capture_one(copied, &events).await;
                }
                Event::Own(formats, order) => {
                    if let Some(captured) = latest.take() {
                        self.add_own_formats(captured, &formats, &order).await;
                    }
                }
                Event::Missed { refusal, source } => {
                    latest = None;
                    self.note_refusal(refusal, source.application);
                }
                Event::Pasted => {
                    self.pastes.send_modify(|times| *times += 1);
                    self.pasted.notify_one();
                }
                Event::Key(action) => self.tell_of_keys(KeyEvent::Pressed(action)),
                Event::Grabbed(states) => self.tell_of_keys(KeyEvent::Grabbed(states)),
                other => self.note_desktop(other),
            }
        }
    }

    fn tell_of_keys(&self, event: KeyEvent) {
        // Nobody listens any more when the engine ends.
        let _ = self.keys.send(event);
    }

    /// Notes how the desktop stands.
    pub fn note_desktop(&self, event: Event) {
        if matches!(event, Event::Connected { .. }) {
            self.tell_of_keys(KeyEvent::Connected);
        }
        {
            let mut journal = self.journal();
            match event {
                Event::Connected { clipboard, notes } => journal.connected(clipboard, notes),
                Event::Lost(reason) => journal.disconnected(reason),
                Event::Contested(by) => journal.contested = Some(by.application.unwrap_or_else(|| "unknown".into())),
                Event::Uncontested => journal.contested = None,
                Event::Copied(_)
                | Event::Own(..)
                | Event::Missed { .. }
                | Event::Pasted
                | Event::Key(_)
                | Event::Grabbed(_) => {}
            }
        }
        self.history.ledger.status_changed();
    }

    async fn capture_one(
        self: &Arc<Self>,
        Copied { copy, .. }: Copied,
        waiting: &mpsc::Receiver<Event>,
    ) -> Option<Captured> {
        let application = copy.source.application.clone();
        let mut pauses = RETRY.build();
        let mut since: Option<Instant> = None;
        loop {
            match self.capture_guarded(copy.clone()).await {
                Ok(captured) => {
                    let mut journal = self.journal();
                    journal.last_copy = Some(captured.id);
                    journal.waiting = 0;
                    return Some(captured);
                }
                Err(CaptureError::Refused(refusal)) => {
                    self.note_refusal(refusal, application);
                    return None;
                }
                Err(CaptureError::Store(error)) if error.may_pass() => {
                    if since.is_none() {
                        tracing::error!(%error, "a copy waits to be filed");
                    }
                    let since = since.get_or_insert_with(Instant::now);
                    self.journal().waiting = waiting.len() + 1;
                    self.history.ledger.status_changed();
                    if self.background.ending.is_cancelled() && since.elapsed() > LAST_PATIENCE {
                        tracing::error!("the service ends before a copy could be filed; it is lost");
                        return None;
                    }
                    tokio::select! {
                        () = tokio::time::sleep(pauses.next().unwrap_or(LONGEST_PAUSE)) => {}
                        () = self.server.is_back() => {}
                    }
                }
                Err(CaptureError::Store(error)) => {
                    tracing::error!(%error, "a copy could not be filed");
                    let refusal = Refusal::Undelivered(format!("the records did not take it: {error}"));
                    self.note_refusal(refusal, application);
                    return None;
                }
            }
        }
    }

    /// What a program keeps for itself is added to its copy. Secrets are left as they are.
    async fn add_own_formats(&self, captured: Captured, formats: &[Format], order: &[String]) {
        let bytes: u64 = formats.iter().map(|format| format.data.len() as u64).sum();
        if captured.sensitive || bytes > self.history.checked_rules().rules().largest {
            return;
        }
        match self.history.store.add_formats(captured.number, captured.copied, formats, order).await {
            Ok(Some(change)) => self.history.ledger.changed(change),
            Ok(None) => {}
            Err(error) => tracing::warn!(%error, "a program's own formats of a copy could not be kept"),
        }
    }

    /// Captures in a task of its own, so that a defect that a copy brings to light costs that copy only.
    async fn capture_guarded(self: &Arc<Self>, copy: Copy) -> Result<Captured, CaptureError> {
        let service = self.clone();
        let task = tokio::spawn(async move { service.capture_in(copy, None).await });
        task.await.unwrap_or_else(|failure| {
            Err(Refusal::Undelivered(format!("the service failed over it: {failure}")).into())
        })
    }

    fn note_refusal(&self, refusal: Refusal, application: Option<String>) {
        tracing::info!(reason = %refusal, application = application.as_deref().unwrap_or("unknown"), "a copy made no clip");
        self.journal().refuse(refusal, application);
        self.history.ledger.status_changed();
    }

    /// Makes a clip of a copy. It is durable, and about to be announced, on return.
    pub async fn capture(self: &Arc<Self>, copy: Copy, by_hand: &ByHand) -> Result<Captured, CaptureError> {
        self.capture_in(copy, Some(by_hand)).await
    }

    /// Makes a clip of a copy that is said to have this id; refuses it if it has another.
    pub(crate) async fn capture_as(
        self: &Arc<Self>,
        copy: Copy,
        by_hand: &ByHand,
        id: ClipId,
    ) -> Result<Captured, CaptureError> {
        self.capture(copy, &ByHand { said_to_be: Some(id), ..by_hand.clone() }).await
    }

    async fn capture_in(self: &Arc<Self>, copy: Copy, by_hand: Option<&ByHand>) -> Result<Captured, CaptureError> {
        let mut collisions = 0;
        loop {
            match self.capture_once(copy.clone(), by_hand).await {
                Err(CaptureError::Store(error)) if error.is_deadlock() && collisions < DEADLOCKS => collisions += 1,
                done => return done,
            }
        }
    }

    async fn capture_once(self: &Arc<Self>, copy: Copy, by_hand: Option<&ByHand>) -> Result<Captured, CaptureError> {
        let rules = self.history.checked_rules();
        let maker = if by_hand.is_some() { Maker::Person } else { Maker::Program };
        let markup = read_markup(&self.history.cage, &copy).await;
        let draft = capture::judge(copy.clone(), markup.as_ref(), &rules, maker)?;
        let mut filing = self.history.store.begin_filing().await?;
        let (decoded, size) = match put_and_decode(&self.history.cage, &mut filing, &draft).await? {
            Ok(decoded) => decoded,
            Err(reason) => {
                drop(filing);
                return Box::pin(self.capture_without_picture(copy, &draft, by_hand, reason)).await;
            }
        };
        let id = draft.id(decoded.as_ref().and_then(|decoded| decoded.picture.as_ref()));
        let pixels = (decoded.as_ref().map(|decoded| (decoded.width, decoded.height))).or(size);
        if by_hand.and_then(|by_hand| by_hand.said_to_be).is_some_and(|said| said != id) {
            return Err(Refusal::AnotherId.into());
        }
        if by_hand.is_none() {
            self.refuse_repeat(id, rules.rules().repeat_millis)?;
        }
        let sensitive = match draft.sensitive {
            Some(_) if self.history.store.is_no_secret(id).await? => None,
            found => found,
        };
        let filed = self.history.stamps.next();
        let copied = by_hand.and_then(|by_hand| by_hand.copied).unwrap_or(filed);
        let tray = if by_hand.is_none() { self.history.tray_with(id).await } else { None };
        let clip = NewClip {
            shared: self.is_told_of(&draft, by_hand, sensitive),
            tray: tray.as_ref().map(|(_, _, text)| text.as_str()),
            ..new_clip(&draft, by_hand, (id, pixels, sensitive), (copied, filed))
        };
        let filed = filing.commit(&clip, &draft.formats).await?;
        let captured = Captured { id, number: filed.number, new: filed.new, copied, sensitive: sensitive.is_some() };
        self.announce(filed, &clip, by_hand.is_none()).await;
        if let Some((mut held, tray, _)) = tray {
            *held = tray;
            self.history.ledger.part_changed(Part::Tray);
            self.history.ledger.status_changed();
        }
        let is_secret = sensitive.is_some_and(|found| found.certain);
        if is_secret && rules.rules().retention.sensitive_millis.is_some() {
            // What is to be forgotten soon does not stay on the clipboard when its owner goes.
            if let Some(clipboard) = &self.clipboard {
                clipboard.let_go();
            }
        }
        if let Some(decoded) = decoded {
            self.draw(vec![(captured.number, decoded)]);
        }
        Ok(captured)
    }

    /// Whether other devices, which are connected, are told of a copy as soon as it is filed. What is given a place of its own waits
    /// until that is known to be no private one.
    fn is_told_of(&self, draft: &Draft, by_hand: Option<&ByHand>, sensitive: Option<Sensitive>) -> bool {
        let is_plain =
            |by_hand: &ByHand| by_hand.drawer.is_none() && by_hand.replaces.is_none() && by_hand.moved_in.is_none();
        let candidate = Candidate {
            kind: draft.kind,
            size: draft.size(),
            application: draft.source.application.as_deref(),
            kept: false,
            sensitive: sensitive.is_some(),
            shared: false,
        };
        self.links.any_is_connected() && by_hand.is_none_or(is_plain) && self.links.policy().lets_out(&candidate)
    }

    /// Tells everyone of a copy that was filed.
    async fn announce(&self, filed: Filed, clip: &NewClip<'_>, is_from_a_program: bool) {
        if is_from_a_program {
            self.links.note_newest(clip.copied);
            // Not before it is filed: what has to be tried again repeats nothing.
            self.note_copied(clip.id);
        }
        if clip.replaces.is_none() && clip.moved_in.is_none() {
            *self.uncounted.lock().entry(clip.copied.at().0 / DAY).or_default() += 1;
        }
        self.history.ledger.changed_to(Vec::from_iter(filed.record), filed.change);
        // Those who show it go first.
        tokio::task::yield_now().await;
        self.history.forgetting.notify_one();
        if is_from_a_program && !clip.source.selected {
            self.kept.send_modify(|kept| *kept += 1);
        }
    }

    /// Waits until there is a clipboard to capture from, or none.
    pub async fn wait_for_clipboard(&self, there: bool) {
        let mut announcements = self.history.ledger.listen();
        while self.journal().off.is_none() != there {
            if let Err(RecvError::Closed) = announcements.recv().await {
                std::future::pending::<()>().await;
            }
        }
    }

    /// How many copies that were made in programs have been kept, as it grows.
    pub fn kept_copies(&self) -> watch::Receiver<u64> {
        self.kept.subscribe()
    }

    /// Makes the small pictures of clips, while everything goes on.
    fn draw(&self, pictures: Vec<(u64, Decoded)>) {
        if pictures.is_empty() {
            return;
        }
        let history = self.history.clone();
        self.background.tasks.spawn(async move { drop(history.keep_thumbnails(pictures).await) });
    }

    /// Refuses a copy of what was copied within the last `millis`, if the rules want that.
    fn refuse_repeat(&self, id: ClipId, millis: u64) -> Result<(), Refusal> {
        let latest = *self.latest_copy.lock();
        if latest.is_some_and(|(known, at)| known == id && now().0.saturating_sub(at.0) < millis) {
            self.note_copied(id);
            return Err(Refusal::Repeat);
        }
        Ok(())
    }

    fn note_copied(&self, id: ClipId) {
        *self.latest_copy.lock() = Some((id, now()));
    }

    /// The picture is broken; what else was copied with it may still make a clip.
    async fn capture_without_picture(
        self: &Arc<Self>,
        mut copy: Copy,
        draft: &Draft,
        by_hand: Option<&ByHand>,
        reason: String,
    ) -> Result<Captured, CaptureError> {
        let broken = draft.raster().map(|format| format.mime.clone());
        copy.formats.retain(|format| Some(&format.mime) != broken.as_ref());
        let more = copy.formats.iter().any(|format| {
            format.mime == format::PLAIN
                || format::RASTERS.contains(&format.mime.as_str())
                || format.mime == format::SVG
        });
        if more {
            tracing::info!(%reason, "a broken picture is left out of a copy");
            return self.capture_in(copy, by_hand).await;
        }
        Err(Refusal::BrokenImage(reason).into())
    }
}

/// The clip that a draft becomes.
fn new_clip<'a>(
    draft: &'a Draft,
    by_hand: Option<&'a ByHand>,
    (id, pixels, sensitive): (ClipId, Option<(u32, u32)>, Option<Sensitive>),
    (copied, filed): (Stamp, Stamp),
) -> NewClip<'a> {
    NewClip {
        id,
        kind: draft.kind,
        copied,
        filed,
        sensitive,
        size: draft.size(),
        pixels,
        extent: (!draft.text.is_empty()).then(|| (draft.lines(), draft.characters())),
        text: &draft.text,
        title: by_hand.and_then(|by_hand| by_hand.title.as_deref()),
        caption: draft.caption.as_deref(),
        source: &draft.source,
        given: by_hand.map(given).unwrap_or_default(),
        shared: false,
        tray: None,
        replaces: by_hand.and_then(|by_hand| by_hand.replaces),
        moved_in: by_hand.and_then(|by_hand| by_hand.moved_in),
    }
}

fn given(by_hand: &ByHand) -> GivenAttributes<'_> {
    GivenAttributes {
        pin: by_hand.pin.clone(),
        drawer: by_hand.drawer.clone(),
        mark: by_hand.mark,
        alias: by_hand.alias.as_deref(),
        fills: by_hand.fills,
    }
}

/// Large content is on its way to the disk while the picture is being decoded. Gives the picture, if there is one that is not
/// too large, or else its size where that is known; or what is wrong with it.
async fn put_and_decode(
    cage: &Cage,
    filing: &mut Filing,
    draft: &Draft,
) -> Result<Result<Picture, String>, StoreError> {
    let (content, decoded) = tokio::join!(filing.put_content(&draft.formats), decode(cage, draft));
    if decoded.is_ok() {
        content?;
    }
    Ok(decoded)
}

/// What the HTML of a copy says, if it matters; nothing if the one that reads it died over it.
async fn read_markup(cage: &Cage, copy: &Copy) -> Option<Markup> {
    cage.read_markup(&capture::markup_wanted(&copy.formats)?.data).await.ok()
}

/// The picture of a draft, if there is one; or what is wrong with it.
async fn decode(cage: &Cage, draft: &Draft) -> Result<Picture, String> {
    let Some(raster) = draft.raster() else { return Ok((None, None)) };
    match cage.decode(raster).await {
        Ok(decoded) => Ok((Some(decoded), None)),
        Err(PictureError::Broken(reason)) => Err(reason),
        Err(PictureError::TooLarge(size)) => Ok((None, size)),
        Err(PictureError::Died(_)) => Ok((None, None)),
    }
}

/// A picture that is decoded, or else its size where that is known.
type Picture = (Option<Decoded>, Option<(u32, u32)>);
