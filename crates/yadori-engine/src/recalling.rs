//! Recall: put clips back on the clipboard.

mod expand;

pub use expand::Expanded;

use crate::capture::Capture;
use crate::clock::now;
use crate::fetching::{FetchError, Fetching};
use crate::history::History;
use crate::history::files;
use crate::history::listing::Listed;
use crate::history::names::{FindNameError, Found, check_number};
use crate::links::Links;
use jiff::Zoned;
use parking_lot::RwLock;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::MutexGuard;
use yadori_core::fill::{self, Ask, Values};
use yadori_core::join::{self, Part};
use yadori_core::keys::PasteTable;
use yadori_core::reshape::{self, ReshapeError, Way};
use yadori_core::{self as core, ClipId, Format, Kind, format, own};
use yadori_desktop::{Clipboard, Focus, Keyboard, OfferError, Paste, PasteError, WindowId};
use yadori_store::StoreError;

/// Why nothing was recalled.
#[derive(Debug, Error)]
pub enum RecallError {
    /// No clip was named.
    #[error("no clip was named")]
    Nothing,
    /// One of the names leads nowhere.
    #[error(transparent)]
    Name(#[from] FindNameError),
    /// A picture, where text is wanted.
    #[error("clip {0} has no text that could be {1}")]
    NoText(String, &'static str),
    /// Texts, pictures and files among one another.
    #[error("these can't be joined with the others: {0}")]
    Mixed(String),
    /// The text does not fit the way it is to be reshaped.
    #[error(transparent)]
    Reshape(#[from] ReshapeError),
    /// Placeholders ask for something.
    #[error("its placeholders ask for: {}", .0.iter().map(|ask| ask.name.as_str()).collect::<Vec<_>>().join(", "))]
    Asks(Vec<Ask>),
    /// An answer to what no placeholder asks for; and what they do ask for.
    #[error("nothing asks for “{0}”; the placeholders ask for: {1}")]
    NotAsked(String, String),
    /// No text is on the clipboard.
    #[error("there is no text on the clipboard")]
    NothingHeld,
    /// There is no clipboard.
    #[error("there is no clipboard to put it on: {0}")]
    NoClipboard(String),
    /// The clipboard did not take it.
    #[error(transparent)]
    Offer(#[from] OfferError),
    /// It is on the clipboard, but was not pasted.
    #[error("it is on the clipboard, but {0}")]
    Paste(#[from] PasteError),
    /// Some of the content cannot be fetched.
    #[error(transparent)]
    Fetch(#[from] FetchError),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// How long a program may take to paste once the keys were pressed.
const TAKEN: Duration = Duration::from_millis(1500);

/// A program that pastes may ask for several formats. When it has been quiet for so long, it has pasted.
pub(crate) const QUIET: Duration = Duration::from_millis(150);

/// How clips are recalled.
#[derive(Clone, Debug, Default)]
pub struct Recall {
    /// As plain text.
    pub plain: bool,
    /// What comes between several; a line end if not given.
    pub join: Option<String>,
    /// How the text is reshaped on the way out.
    pub reshape: Vec<String>,
    /// Whether placeholders are filled in; as each clip has it if not given.
    pub fill: Option<bool>,
    /// Answers to what placeholders ask for, by name.
    pub answers: BTreeMap<String, String>,
    /// Whether what has a usual answer must be answered too.
    pub ask_usual: bool,
    /// Whether to paste it into the window that has the keyboard.
    pub paste: bool,
    /// The window that is given the keyboard first, if it is to be pasted into that one.
    pub into: Option<WindowId>,
    /// Whether to put back what was on the clipboard, once it was pasted.
    pub restore: bool,
    /// Whether to leave out clips that cannot be joined with the others.
    pub skip_others: bool,
    /// Whether to fail rather than to fetch content from another device.
    pub at_once: bool,
}

/// What was recalled.
#[derive(Clone, Debug)]
pub struct Recalled {
    /// The clips.
    pub clips: Vec<Listed>,
    /// The MIME types that were offered.
    pub formats: Vec<String>,
    /// How many of the files are gone.
    pub missing: u32,
    /// Clips that could not be joined with the others.
    pub left_out: Vec<Listed>,
    /// Whether a program has pasted it.
    pub pasted: bool,
}

/// The answers to placeholders, and what was asked for so far.
pub(crate) struct Filling<'a> {
    answers: &'a BTreeMap<String, String>,
    /// Whether what has a usual answer must be answered too.
    ask_usual: bool,
    asked: Vec<String>,
}

impl<'a> Filling<'a> {
    pub(crate) fn new(answers: &'a BTreeMap<String, String>, ask_usual: bool) -> Self {
        Self { answers, ask_usual, asked: Vec::new() }
    }

    /// Says if there is an answer to what nothing asked for: a misspelt name, most likely.
    pub(crate) fn check(self) -> Result<(), RecallError> {
        match self.answers.keys().find(|name| !self.asked.contains(name)) {
            Some(name) => Err(RecallError::NotAsked(
                name.clone(),
                if self.asked.is_empty() { "nothing".to_owned() } else { self.asked.join(", ") },
            )),
            None => Ok(()),
        }
    }
}

/// The clipboard and the keyboard, where there are any.
type Desk = (Option<Arc<dyn Clipboard>>, Option<Arc<dyn Keyboard>>);

/// Puts clips back on the clipboard.
pub struct Recalling {
    history: Arc<History>,
    fetching: Arc<Fetching>,
    capture: Arc<Capture>,
    links: Arc<Links>,
    clipboard: Option<Arc<dyn Clipboard>>,
    keyboard: Option<Arc<dyn Keyboard>>,
    /// Which keys paste in which program.
    paste_table: RwLock<Arc<PasteTable>>,
    /// Pastes follow one another; when the latest was taken.
    pasting: tokio::sync::Mutex<Option<Instant>>,
}

impl Recalling {
    /// Recalls from this history to the clipboard.
    pub fn new(
        (history, links): (Arc<History>, Arc<Links>),
        fetching: Arc<Fetching>,
        capture: Arc<Capture>,
        (clipboard, keyboard): Desk,
    ) -> Self {
        let (paste_table, pasting) = (RwLock::default(), tokio::sync::Mutex::default());
        Self { history, fetching, capture, links, clipboard, keyboard, paste_table, pasting }
    }
}

impl Recalling {
    /// Puts clips on the clipboard: one with all its formats, several joined. Their places in the history stay,
    /// unless the rules say otherwise; that and how often they were used is noted.
    pub async fn recall(&self, names: &[String], asked: &Recall) -> Result<Recalled, RecallError> {
        check_number(names)?;
        // The same clip may be wanted twice in one text.
        let mut clips = Vec::with_capacity(names.len());
        for name in names {
            clips.push(self.history.find_clip(name).await?);
        }
        self.recall_found(clips, asked).await
    }

    /// Puts the clip with this id on the clipboard, if it is in the history.
    pub(crate) async fn recall_clip(&self, id: ClipId) -> Result<Recalled, RecallError> {
        self.recall_clips(&[id], &Recall::default()).await
    }

    /// The same with several.
    pub(crate) async fn recall_clips(&self, ids: &[ClipId], asked: &Recall) -> Result<Recalled, RecallError> {
        let mut clips = Vec::with_capacity(ids.len());
        for id in ids {
            let found = self.history.found(*id).await?;
            clips.push(found.ok_or_else(|| FindNameError::NoSuchClip(id.to_string()))?);
        }
        self.recall_found(clips, asked).await
    }

    async fn recall_found(&self, mut clips: Vec<Found>, asked: &Recall) -> Result<Recalled, RecallError> {
        for found in &clips {
            if asked.at_once && found.0.elsewhere {
                return Err(FetchError::Elsewhere.into());
            }
            self.fetching.fetch_whole(&found.0).await?;
        }
        let ways = reshape::ways(asked.reshape.iter().map(String::as_str))?;
        let mut left_out = Vec::new();
        let mut filling = Filling::new(&asked.answers, asked.ask_usual);
        let formats = match clips.as_slice() {
            [] => return Err(RecallError::Nothing),
            [one] => self.on_the_way_out(one, asked, &ways, &mut filling).await?,
            [first, ..] => {
                let files = first.0.kind == Kind::Files && ways.is_empty() && !asked.plain;
                let joins = |(record, _): &Found| match files {
                    true => record.kind == Kind::Files,
                    false => {
                        matches!(record.kind, Kind::Text | Kind::Link) || (record.kind == Kind::Files && asked.plain)
                    }
                };
                // Pictures first of all: then the texts are what can be joined.
                let (joined, others): (Vec<Found>, Vec<Found>) = clips.iter().cloned().partition(joins);
                if !others.is_empty() && (!asked.skip_others || joined.is_empty()) {
                    return Err(RecallError::Mixed(self.in_words(&others)));
                }
                left_out =
                    others.iter().map(|(record, position)| self.history.listed(record, Some(*position))).collect();
                clips = joined;
                self.joined(&clips, asked, &ways, files, &mut filling).await?
            }
        };
        filling.check()?;
        let missing = if formats.iter().any(|format| format.mime == format::URI_LIST) {
            files::look_for(&formats).await
        } else {
            Vec::new()
        };
        let missing = missing.iter().filter(|file| file.missing == Some(true)).count() as u32;
        let offered = formats.iter().map(|format| format.mime.clone()).collect();
        let mut pasting = if asked.paste { Some(self.begin_paste().await) } else { None };
        let before = if asked.restore { self.held().await } else { None };
        self.offer(formats).await?;
        self.links.note_newest(self.history.stamps.next());

        let mut numbers: Vec<u64> = clips.iter().map(|(record, _)| record.number).collect();
        numbers.sort_unstable();
        numbers.dedup();
        let to_top = self.history.checked_rules().rules().recall_to_top.then(|| self.history.stamps.next());
        // It is pasted while its use is noted; and it is pasted if that fails, too.
        let noting = self.history.store.note_recall(&numbers, now(), to_top);
        let pasting_now = async {
            match &mut pasting {
                Some(latest) => self.paste(asked.into, latest).await,
                None => Ok(false),
            }
        };
        let (noted, pasted) = tokio::join!(noting, pasting_now);
        let noted = noted.map(|changes| self.history.ledger.changed(changes));
        let pasted = pasted?;
        noted?;
        if let Some(before) = before.filter(|_| pasted) {
            self.put_back(before).await;
        }
        drop(pasting);
        let clips = clips.iter().map(|(record, position)| self.history.listed(record, Some(*position))).collect();
        Ok(Recalled { clips, formats: offered, missing, left_out, pasted })
    }

    fn in_words(&self, clips: &[Found]) -> String {
        let word = |(record, position): &Found| format!("{position} ({})", record.kind.word());
        clips.iter().map(word).collect::<Vec<_>>().join(", ")
    }

    /// The formats of one clip, filled in and reshaped as is wanted.
    async fn on_the_way_out(
        &self,
        (record, position): &Found,
        asked: &Recall,
        ways: &[Way],
        filling: &mut Filling<'_>,
    ) -> Result<Vec<Format>, RecallError> {
        let stored = self.history.store.formats(record.number).await?;
        let fills = asked.fill.unwrap_or(record.fills);
        if !asked.plain && ways.is_empty() && !fills {
            let formats = self.history.whole_formats(&stored).await?;
            return Ok(if record.kind == Kind::Files {
                core::files::to_copy(&formats)
            } else {
                own::offered_back(formats)
            });
        }
        let what = if ways.is_empty() { "recalled as plain text" } else { "reshaped" };
        let no_text = || RecallError::NoText(position.to_string(), what);
        let text = self.history.plain_text(record, &stored).await?.ok_or_else(no_text)?;
        let mut formats = vec![Format::plain(text)];
        if !asked.plain
            && ways.is_empty()
            && let Some(markup) = self.history.stored_format(&stored, format::HTML).await?
        {
            formats.push(Format::new(format::HTML, markup));
        }
        if fills {
            formats = self.filled(formats, filling).await?;
        }
        if !ways.is_empty() {
            let text = String::from_utf8_lossy(&formats[0].data).into_owned();
            // What was filled in is the text that counts.
            let markup = if fills { None } else { self.history.stored_format(&stored, format::HTML).await? };
            formats = vec![Format::plain(self.history.reshape(text, markup, ways).await?)];
        }
        Ok(formats)
    }

    async fn joined(
        &self,
        clips: &[Found],
        asked: &Recall,
        ways: &[Way],
        files: bool,
        filling: &mut Filling<'_>,
    ) -> Result<Vec<Format>, RecallError> {
        if files {
            let mut lists = Vec::with_capacity(clips.len());
            for (record, _) in clips {
                let formats = self.history.whole_formats(&self.history.store.formats(record.number).await?).await?;
                lists.push(core::files::listed(&formats).unwrap_or_default());
            }
            return Ok(join::files(&lists));
        }
        let mut parts = Vec::with_capacity(clips.len());
        for clip in clips {
            let formats = self.on_the_way_out(clip, &Recall { plain: false, ..asked.clone() }, ways, filling).await?;
            let of = |mime| {
                let data = format::find(&formats, mime)?;
                Some(String::from_utf8_lossy(data).into_owned())
            };
            let (text, html) = (of(format::PLAIN), of(format::HTML).filter(|_| !asked.plain));
            let text = match text {
                Some(text) => text,
                None => {
                    let stored = self.history.store.formats(clip.0.number).await?;
                    let no_text = || RecallError::NoText(clip.1.to_string(), "joined");
                    self.history.plain_text(&clip.0, &stored).await?.ok_or_else(no_text)?
                }
            };
            parts.push(Part { text, html });
        }
        Ok(join::texts(&parts, asked.join.as_deref().unwrap_or("\n")))
    }

    /// Formats with their placeholders filled in.
    pub(crate) async fn filled(
        &self,
        formats: Vec<Format>,
        filling: &mut Filling<'_>,
    ) -> Result<Vec<Format>, RecallError> {
        let now = Zoned::now();
        let texts: Vec<String> =
            formats.iter().map(|format| String::from_utf8_lossy(&format.data).into_owned()).collect();
        let clipboard = if texts.iter().any(|text| fill::wants_clipboard(text)) {
            self.newest_text().await?.unwrap_or_default()
        } else {
            String::new()
        };
        for ask in texts.iter().flat_map(|text| fill::asks(text)) {
            if !filling.asked.contains(&ask.name) {
                filling.asked.push(ask.name);
            }
        }
        let values =
            Values { now: &now, clipboard: &clipboard, answers: filling.answers, ask_usual: filling.ask_usual };
        let mut filled = Vec::with_capacity(formats.len());
        for (format, text) in formats.into_iter().zip(texts) {
            let escape: fn(&str) -> String = if format.mime == format::HTML { join::escaped } else { str::to_owned };
            let text = fill::fill(&text, &values, escape).map_err(RecallError::Asks)?;
            filled.push(Format::new(format.mime, text));
        }
        Ok(filled)
    }

    /// The newest text of the history: what is on the clipboard, as far as it is text.
    async fn newest_text(&self) -> Result<Option<String>, StoreError> {
        let Some(id) = self.history.ledger.read().await.at(1) else { return Ok(None) };
        let Some(record) = self.history.store.clip(id).await? else { return Ok(None) };
        if record.sensitive.is_some() {
            return Ok(None);
        }
        self.history.plain_text(&record, &self.history.store.formats(record.number).await?).await
    }

    pub(crate) async fn offer(&self, formats: Vec<Format>) -> Result<(), RecallError> {
        let off = || {
            RecallError::NoClipboard(
                self.capture.journal().off.as_ref().map_or_else(|| OfferError::Lost.to_string(), ToString::to_string),
            )
        };
        let clipboard = self.clipboard.as_ref().ok_or_else(off)?;
        match clipboard.offer(formats).await.unwrap_or(Err(OfferError::Lost)) {
            Err(OfferError::Lost) => Err(off()),
            other => Ok(other?),
        }
    }

    /// Has these keys paste from now on, by program.
    pub(crate) fn paste_with(&self, table: PasteTable) {
        *self.paste_table.write() = Arc::new(table);
    }

    /// The window that has the keyboard, if the desktop tells.
    pub async fn focus(&self) -> Option<Focus> {
        self.keyboard.as_ref()?.focus().await.ok().flatten()
    }

    /// What is on the clipboard.
    async fn held(&self) -> Option<Vec<Format>> {
        self.clipboard.as_ref()?.held().await.ok().flatten()
    }

    /// Presses the keys that paste, in this window or the one that has the keyboard. Tells whether a program has taken the
    /// content then.
    async fn paste(&self, into: Option<WindowId>, latest: &mut Option<Instant>) -> Result<bool, PasteError> {
        let mut pastes = self.capture.pastes.subscribe();
        pastes.mark_unchanged();
        let table = self.paste_table.read().clone();
        match &self.keyboard {
            Some(keyboard) => keyboard.paste(Paste { into, table }).await.unwrap_or(Err(PasteError::Lost))?,
            None => return Err(PasteError::Lost),
        }
        let taken = tokio::time::timeout(TAKEN, pastes.changed()).await.is_ok();
        if taken {
            *latest = Some(Instant::now());
        }
        Ok(taken)
    }

    /// Begins a paste as soon as the one before it is over: what it pastes is not replaced while a program still asks for it.
    async fn begin_paste(&self) -> MutexGuard<'_, Option<Instant>> {
        let latest = self.pasting.lock().await;
        if let Some(latest) = *latest {
            tokio::time::sleep(QUIET.saturating_sub(latest.elapsed())).await;
        }
        latest
    }

    /// Puts back what was on the clipboard, when the program that pasted has asked for all that it wants.
    async fn put_back(&self, before: Vec<Format>) {
        let mut pastes = self.capture.pastes.subscribe();
        pastes.mark_unchanged();
        while tokio::time::timeout(QUIET, pastes.changed()).await.is_ok() {}
        if let Err(error) = self.offer(before).await {
            tracing::warn!(%error, "what was on the clipboard could not be put back");
        }
    }

    /// Pastes as plain text what is on the clipboard, which then has all its formats again.
    pub(crate) async fn paste_plain(&self) -> Result<(), RecallError> {
        let mut latest = self.begin_paste().await;
        let before = self.held().await.ok_or(RecallError::NothingHeld)?;
        let text = format::find(&before, format::PLAIN).cloned().ok_or(RecallError::NothingHeld)?;
        self.offer(vec![Format::new(format::PLAIN, text)]).await?;
        if self.paste(None, &mut latest).await? {
            self.put_back(before).await;
        }
        Ok(())
    }
}
