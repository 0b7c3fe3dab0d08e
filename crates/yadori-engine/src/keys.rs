//! Keys that reach us from every program, and what they do.
//!
//! One task does what keys ask for, one after the other, so that three pastes come out in the order in which they were
//! asked for.

use crate::capture::pause::PauseError;
use crate::capture::{Capture, KeyEvent};
use crate::clock::now;
use crate::history::History;
use crate::history::index::Part;
use crate::history::names::FindNameError;
use crate::keeping::{KeepError, Keeping};
use crate::recalling::{Recall, RecallError, Recalling};
use crate::tray::{Dealer, TrayActError};
use parking_lot::Mutex;
use std::collections::BTreeMap;
use std::sync::Arc;
use thiserror::Error;
use tokio::sync::{Notify, mpsc};
use yadori_core::ClipId;
use yadori_core::keys::{Action, Chord, ChordError, KeySettings, KeysTaken, LISTED, PasteTableError, PositionRun};
use yadori_desktop::{GrabState, Keyboard};
use yadori_store::StoreError;

const SETTING: &str = "keys";

/// How long the key for it pauses, in seconds.
const PAUSE: u64 = 15 * 60;

/// Why keys were not changed.
#[derive(Debug, Error)]
pub enum ChangeKeysError {
    /// There is no such action.
    #[error("there is no action “{0}”; there are: {all}", all = words())]
    NoSuchAction(String),
    /// There is no such key.
    #[error(transparent)]
    Chord(#[from] ChordError),
    /// Another action has them.
    #[error(transparent)]
    Taken(#[from] KeysTaken),
    /// Keys cannot be set for that application.
    #[error(transparent)]
    Application(#[from] PasteTableError),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

fn words() -> String {
    Action::ALL.map(Action::word).join(", ")
}

/// Why an action was not done.
#[derive(Debug, Error)]
pub enum ActError {
    /// There is no such action.
    #[error(transparent)]
    Keys(#[from] ChangeKeysError),
    /// Nothing is at that position.
    #[error("there is no clip at position {0}")]
    NoSuchPosition(u8),
    /// The clip could not be put on the clipboard, or pasted.
    #[error(transparent)]
    Recall(#[from] RecallError),
    /// The tray did not do that.
    #[error(transparent)]
    Tray(#[from] TrayActError),
    /// The clip was not pinned.
    #[error(transparent)]
    Keep(#[from] KeepError),
    /// Capture was not paused.
    #[error(transparent)]
    Pause(#[from] PauseError),
}

impl From<StoreError> for ActError {
    fn from(error: StoreError) -> Self {
        Self::Recall(error.into())
    }
}

/// The keys of an action.
#[derive(Clone, Debug)]
pub struct Binding {
    /// The action.
    pub action: Action,
    /// Its keys, if it has any.
    pub chord: Option<Chord>,
    /// Whether they reach us; unknown while there is no desktop.
    pub state: Option<GrabState>,
}

/// Does what keys ask for.
pub struct Keys {
    history: Arc<History>,
    capture: Arc<Capture>,
    keeping: Arc<Keeping>,
    recalling: Arc<Recalling>,
    dealer: Arc<Dealer>,
    keyboard: Option<Arc<dyn Keyboard>>,
    settings: Mutex<KeySettings>,
    states: Mutex<BTreeMap<Action, GrabState>>,
    run: Mutex<PositionRun>,
    /// Why the latest key that was pressed did not do what it says.
    failed: Mutex<Option<String>>,
    /// Keys are changed one after the other.
    changing: tokio::sync::Mutex<()>,
    /// The picker is wanted.
    picker: Notify,
    /// Told when the history is to be locked.
    lock: Notify,
    events: tokio::sync::Mutex<mpsc::UnboundedReceiver<KeyEvent>>,
}

impl Keys {
    /// Keys of this keyboard, if there is one; `events` is what the desktop tells of it.
    pub(crate) fn new(
        (history, capture): (Arc<History>, Arc<Capture>),
        keeping: Arc<Keeping>,
        recalling: Arc<Recalling>,
        dealer: Arc<Dealer>,
        (keyboard, events): (Option<Arc<dyn Keyboard>>, mpsc::UnboundedReceiver<KeyEvent>),
    ) -> Self {
        Self {
            history,
            capture,
            keeping,
            recalling,
            dealer,
            keyboard,
            settings: Mutex::default(),
            states: Mutex::default(),
            run: Mutex::default(),
            failed: Mutex::default(),
            changing: tokio::sync::Mutex::default(),
            picker: Notify::new(),
            lock: Notify::new(),
            events: tokio::sync::Mutex::new(events),
        }
    }

    /// Goes on with the keys as they were when the service ended.
    pub(crate) async fn restore_keys(&self) -> Result<(), StoreError> {
        let stored = self.history.store.setting(SETTING).await?;
        if let Some(settings) = stored.and_then(|value| serde_json::from_str(&value).ok()) {
            self.put_in_force(settings);
        }
        Ok(())
    }

    fn put_in_force(&self, settings: KeySettings) {
        self.recalling.paste_with(settings.paste.clone());
        *self.settings.lock() = settings;
    }

    /// All actions and their keys.
    pub fn bindings(&self) -> Vec<Binding> {
        let (settings, states) = (self.settings.lock(), self.states.lock());
        Action::ALL
            .into_iter()
            .map(|action| {
                let chord = settings.chord(action);
                let state = chord.as_ref().and_then(|_| states.get(&action).cloned());
                Binding { action, chord, state }
            })
            .collect()
    }

    /// The applications that a person named, and the keys that paste there.
    pub fn paste_keys(&self) -> Vec<(String, Chord)> {
        self.settings.lock().paste.named().map(|(name, chord)| (name.to_owned(), chord.clone())).collect()
    }

    /// Sets the keys of an action, or takes them away; durable, and in force, on return.
    pub async fn set(&self, action: &str, keys: Option<&str>) -> Result<(), ChangeKeysError> {
        let action = Action::of_word(action).ok_or_else(|| ChangeKeysError::NoSuchAction(action.to_owned()))?;
        let chord = keys.map(str::parse).transpose()?;
        self.change(|settings| Ok(settings.set(action, chord)?)).await
    }

    /// Gives all actions their default keys.
    pub async fn reset(&self) -> Result<(), ChangeKeysError> {
        self.change(|settings| {
            settings.reset();
            Ok(())
        })
        .await
    }

    /// Sets the keys that paste in an application, or forgets them.
    pub async fn set_paste(&self, application: &str, keys: Option<&str>) -> Result<(), ChangeKeysError> {
        let chord = keys.map(str::parse).transpose()?;
        self.change(|settings| Ok(settings.paste.set(application, chord)?)).await
    }

    async fn change(
        &self,
        change: impl FnOnce(&mut KeySettings) -> Result<(), ChangeKeysError>,
    ) -> Result<(), ChangeKeysError> {
        let _alone = self.changing.lock().await;
        let mut settings = self.settings.lock().clone();
        change(&mut settings)?;
        let written = serde_json::to_string(&settings).unwrap_or_default();
        self.history.store.set_setting(SETTING, Some(&written)).await?;
        self.put_in_force(settings);
        self.grab().await;
        Ok(())
    }

    /// Has the desktop give us our keys.
    async fn grab(&self) {
        let Some(keyboard) = &self.keyboard else { return };
        let wanted = self.settings.lock().chords();
        if let Ok(states) = keyboard.grab(wanted).await {
            self.note_states(states);
        }
    }

    fn note_states(&self, states: Vec<(Action, GrabState)>) {
        for (action, state) in &states {
            if matches!(state, GrabState::Taken(_) | GrabState::NoSuchKey) {
                tracing::warn!(action = action.word(), ?state, "keys that do not reach us");
            }
        }
        *self.states.lock() = states.into_iter().collect();
        self.history.ledger.part_changed(Part::Keys);
        self.history.ledger.status_changed();
    }

    /// A person sees these clips at the first positions: the keys mean them so for a minute.
    pub async fn seen(&self) {
        let current = self.first_clips().await;
        self.run.lock().seen(&current, now());
    }

    async fn first_clips(&self) -> Vec<ClipId> {
        let index = self.history.ledger.read().await;
        (1..=LISTED).map_while(|position| index.at(position)).collect()
    }

    /// Why the latest key that was pressed did not do what it says, if it did not.
    pub fn failed(&self) -> Option<String> {
        self.failed.lock().clone()
    }

    /// Waits until the picker is wanted.
    pub async fn picker_wanted(&self) {
        self.picker.notified().await;
    }

    /// Waits until the history is to be locked.
    pub async fn lock_wanted(&self) {
        self.lock.notified().await;
    }

    /// What was wanted by keys could not be done, and why.
    pub fn note_failure(&self, reason: String) {
        *self.failed.lock() = Some(reason);
        self.history.ledger.part_changed(Part::Keys);
        self.history.ledger.status_changed();
    }

    /// Does what an action says, as if its keys had been pressed.
    pub async fn act_on(&self, word: &str) -> Result<(), ActError> {
        let action = Action::of_word(word).ok_or_else(|| ChangeKeysError::NoSuchAction(word.to_owned()))?;
        self.act(action).await
    }

    async fn act(&self, action: Action) -> Result<(), ActError> {
        let pasted = Recall { paste: true, ..Recall::default() };
        match action {
            Action::Picker => {
                self.seen().await;
                self.picker.notify_one();
            }
            Action::Paste(position) => {
                let current = self.first_clips().await;
                let clip = self.run.lock().clip(position, &current, now());
                let clip = clip.ok_or(ActError::NoSuchPosition(position))?;
                self.recalling.recall_clips(&[clip], &pasted).await?;
            }
            Action::TrayNext => {
                self.dealer.deal_and_paste().await?;
            }
            Action::Tray => {
                let open = self.history.tray.lock().await.open;
                if open {
                    self.dealer.close_tray(None, false).await?;
                } else {
                    self.dealer.open_tray(true).await?;
                }
            }
            Action::PastePlain => self.recalling.paste_plain().await?,
            Action::Pin => {
                let newest = self.history.ledger.read().await.at(1).ok_or(ActError::NoSuchPosition(1))?;
                let name = [newest.to_string()];
                let found = self.history.found(newest).await?;
                if found.is_some_and(|(record, _)| record.pin.is_some()) {
                    self.keeping.unpin(&name).await?;
                } else {
                    self.keeping.pin(&name, None).await?;
                }
            }
            Action::Lock => self.lock.notify_one(),
            Action::Pause => {
                if self.capture.is_paused() {
                    self.capture.resume().await?;
                } else {
                    self.capture.pause(Some(PAUSE)).await?;
                }
            }
        }
        Ok(())
    }

    /// Does what keys ask for. Ends when the task is dropped.
    pub(crate) async fn follow_keys(&self) {
        let mut events = self.events.lock().await;
        while let Some(event) = events.recv().await {
            match event {
                KeyEvent::Connected => self.grab().await,
                KeyEvent::Grabbed(states) => self.note_states(states),
                KeyEvent::Pressed(action) => {
                    let outcome = self.act(action).await;
                    *self.failed.lock() = None;
                    if let Err(error) = outcome {
                        tracing::warn!(action = action.word(), error = %error, "a key did not do what it says");
                        self.note_failure(error.to_string());
                    }
                }
            }
        }
    }
}

impl From<FindNameError> for ActError {
    fn from(error: FindNameError) -> Self {
        Self::Recall(error.into())
    }
}
