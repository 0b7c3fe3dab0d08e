//! Private drawers: a passphrase of their own, and what lies in them sealed.
//!
//! Closed, a drawer holds nothing but sealed items: there is no clip that could be listed, found, shown, exported or told to
//! another device. Opened, its clips are ordinary ones, but for the other devices, which are never told of them. It closes after
//! some minutes, by hand, and whenever the engine ends; for that its passphrase is not needed, since items are sealed to
//! a public key. What a drawer was when the engine was killed tells how to go on ([`yadori_store::Privacy`]).

mod sealed;

use crate::clock::now;
use crate::fetching::FetchError;
use crate::history::History;
use crate::history::index::Part;
use crate::keeping::Keeping;
use crate::keeping::drawers::{DrawerError, Summary, random_id};
use crate::moving::export::line_of;
use crate::moving::filing::{self, Fault, Kept};
use crate::retention::Retention;
use bytes::Bytes;
use parking_lot::Mutex;
use sealed::{Item, SealedClip, SealedHeading};
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::Notify;
use yadori_core::{ClipId, MillisSinceEpoch, Rank};
use yadori_store::{Attribute, ClipRecord, Drawer, Privacy, StoreError};
use yadori_vault::phrases::PhraseError;
use yadori_vault::{DrawerKey, DrawerKeyError, Secret, Tries};

/// How long a drawer is open if nothing else is said.
const USUALLY: Duration = Duration::from_mins(5);

/// The longest that it can be open.
const LONGEST: Duration = Duration::from_hours(12);

/// Pause after a drawer could not be closed.
const PAUSE: Duration = Duration::from_secs(5);

/// Why a private drawer was not opened, or not changed so.
#[derive(Debug, Error)]
pub enum PrivateDrawerError {
    /// As with any drawer.
    #[error(transparent)]
    Drawer(#[from] DrawerError),
    /// It has no passphrase.
    #[error("the drawer “{0}” is not private")]
    NotPrivate(String),
    /// Not this one.
    #[error("this is not the passphrase of the drawer “{0}”")]
    Wrong(String),
    /// After several wrong ones.
    #[error("there were several wrong ones; the next one is taken in {} s", .0.as_secs() + 1)]
    TooSoon(Duration),
    /// Too short or too long.
    #[error(transparent)]
    Phrase(#[from] PhraseError),
    /// Too long, or no time at all.
    #[error("a drawer is opened for 1 to {} minutes", LONGEST.as_secs() / 60)]
    Length,
    /// What is on record of its key cannot be read.
    #[error("the key of the drawer “{0}” is damaged")]
    Damaged(String),
    /// No random numbers.
    #[error("the system gives no random numbers: {0}")]
    Randomness(getrandom::Error),
}

impl From<StoreError> for PrivateDrawerError {
    fn from(error: StoreError) -> Self {
        Self::Drawer(error.into())
    }
}

impl From<FetchError> for PrivateDrawerError {
    fn from(error: FetchError) -> Self {
        Self::Drawer(error.into())
    }
}

/// A drawer that was opened.
#[derive(Clone, Debug)]
pub struct OpenedDrawer {
    /// How it stands now.
    pub drawer: Summary,
    /// Clips that could not be taken out, and stay sealed.
    pub left: u32,
}

/// Private drawers.
pub struct PrivateDrawers {
    history: Arc<History>,
    keeping: Arc<Keeping>,
    retention: Arc<Retention>,
    /// The keys of those that are open.
    keys: Mutex<HashMap<u32, Secret>>,
    /// Wrong passphrases, of each drawer.
    tries: tokio::sync::Mutex<HashMap<u32, Tries>>,
    /// When drawers close by themselves has changed.
    timing: Notify,
}

impl PrivateDrawers {
    /// Keeps private drawers of this history.
    pub fn new(history: Arc<History>, keeping: Arc<Keeping>, retention: Arc<Retention>) -> Self {
        let (keys, tries) = (Mutex::default(), tokio::sync::Mutex::default());
        Self { history, keeping, retention, keys, tries, timing: Notify::new() }
    }

    /// Makes a private drawer, which is open.
    ///
    /// # Errors
    /// When the name or the passphrase is none.
    pub async fn new_drawer(&self, name: &str, passphrase: &str) -> Result<Summary, PrivateDrawerError> {
        let (key, secret) = new_key(passphrase).await?;
        let _alone = self.keeping.changing.lock().await;
        let number = self.keeping.make_private_drawer(name, &written(&key)).await?;
        self.opened(number, secret, USUALLY);
        Ok(self.keeping.summary(self.keeping.find_drawer(name).await?))
    }

    /// Gives a drawer a passphrase: an ordinary one becomes private, and is open; one that is private and open gets another. All
    /// of its clips have to be here.
    ///
    /// # Errors
    /// When the passphrase is none, the drawer is closed, or some content cannot be fetched. Nothing is changed then.
    pub async fn set_passphrase(&self, name: &str, passphrase: &str) -> Result<Summary, PrivateDrawerError> {
        let drawer = self.keeping.find_open_drawer(name).await?;
        for record in self.history.store.in_drawer(drawer.number).await? {
            self.keeping.fetching.fetch_whole(&record).await?;
        }
        let known = self.keys.lock().get(&drawer.number).cloned();
        let (key, secret) = match known {
            Some(secret) => key_of(secret, passphrase).await?,
            None => new_key(passphrase).await?,
        };
        let _alone = self.keeping.changing.lock().await;
        let drawer = self.keeping.find_open_drawer(name).await?;
        if drawer.privacy.is_some() {
            self.history.store.set_drawer_key(drawer.number, &written(&key)).await?;
            self.keys.lock().insert(drawer.number, secret);
        } else {
            let number = self.made_private(&drawer, &key).await?;
            self.opened(number, secret, USUALLY);
        }
        Ok(self.keeping.summary(self.keeping.find_drawer(name).await?))
    }

    /// Makes a private drawer in the place of an ordinary one, of which the other devices know.
    async fn made_private(&self, drawer: &Drawer, key: &DrawerKey) -> Result<u32, PrivateDrawerError> {
        let store = &self.history.store;
        let mut headings = Vec::new();
        for heading in store.headings(drawer.number).await? {
            headings.push((random_id()?, heading));
        }
        let clips = store.in_drawer(drawer.number).await?.into_iter();
        let clips: Vec<(u64, Rank)> = clips.filter_map(|record| Some((record.number, record.drawer?.place))).collect();
        let new = (random_id()?, written(key));
        let stamp = self.history.stamps.next();
        let (number, change) = store.replace_by_private(drawer, (new.0, &new.1), &headings, &clips, stamp).await?;
        self.keeping.drawers_changed(change);
        Ok(number)
    }

    /// Makes a private drawer, which must be open, an ordinary one.
    ///
    /// # Errors
    /// When it is not private, or closed.
    pub async fn make_ordinary(&self, name: &str) -> Result<Summary, PrivateDrawerError> {
        let _alone = self.keeping.changing.lock().await;
        let drawer = self.keeping.find_open_drawer(name).await?;
        if drawer.privacy.is_none() {
            return Err(PrivateDrawerError::NotPrivate(drawer.name));
        }
        let change = self.history.store.make_ordinary(drawer.number, self.history.stamps.next()).await?;
        self.closed(drawer.number);
        self.keeping.drawers_changed(change);
        Ok(self.keeping.summary(self.keeping.find_drawer(name).await?))
    }

    /// Opens a private drawer for some time, at most twelve hours; one that is open stays open for so long from now on.
    ///
    /// # Errors
    /// When it is not private, or this is not its passphrase.
    pub async fn open(
        &self,
        name: &str,
        passphrase: &str,
        time: Option<Duration>,
    ) -> Result<OpenedDrawer, PrivateDrawerError> {
        let time = time.unwrap_or(USUALLY);
        if time.is_zero() || time > LONGEST {
            return Err(PrivateDrawerError::Length);
        }
        let drawer = self.keeping.find_drawer(name).await?;
        let secret = self.try_out(&drawer, passphrase).await?;
        let _alone = self.keeping.changing.lock().await;
        let drawer = self.keeping.find_drawer(&drawer.name).await?;
        let mut left = 0;
        if drawer.privacy != Some(Privacy::Open) {
            self.settle(drawer.number).await?;
            match self.take_out(drawer.number, &secret).await {
                Ok(stayed) => left = stayed,
                Err(error) => {
                    let _ = self.settle(drawer.number).await;
                    return Err(error.into());
                }
            }
        }
        self.opened(drawer.number, secret, time);
        let drawer = self.keeping.summary(self.keeping.find_drawer(&drawer.name).await?);
        Ok(OpenedDrawer { drawer, left })
    }

    /// Closes a private drawer.
    ///
    /// # Errors
    /// When it is not private, or the records do not answer; it is tried again then.
    pub async fn close(&self, name: &str) -> Result<Summary, PrivateDrawerError> {
        let _alone = self.keeping.changing.lock().await;
        let drawer = self.keeping.find_drawer(name).await?;
        if drawer.privacy.is_none() {
            return Err(PrivateDrawerError::NotPrivate(drawer.name));
        }
        self.settle(drawer.number).await?;
        Ok(self.keeping.summary(self.keeping.find_drawer(name).await?))
    }

    /// Removes a private drawer and all that is sealed in it, for good. Its passphrase is not needed: it may be forgotten.
    ///
    /// # Errors
    /// When it is not private.
    pub async fn erase(&self, name: &str) -> Result<Summary, PrivateDrawerError> {
        let _alone = self.keeping.changing.lock().await;
        let drawer = self.keeping.find_drawer(name).await?;
        if drawer.privacy.is_none() {
            return Err(PrivateDrawerError::NotPrivate(drawer.name));
        }
        self.settle(drawer.number).await?;
        let drawer = self.keeping.find_drawer(name).await?;
        let change = self.history.store.remove_drawer(drawer.number, &[], self.history.stamps.next()).await?;
        self.keeping.drawers_changed(change);
        self.retention.secure_erase();
        Ok(self.keeping.summary(drawer))
    }

    /// Closes drawers when their time is over. Sleeps until then.
    pub async fn close_when_due(&self) {
        loop {
            let next = self.keeping.closing.lock().values().min().copied();
            let Some(next) = next else {
                self.timing.notified().await;
                continue;
            };
            let left = Duration::from_millis(next.0.saturating_sub(now().0));
            tokio::select! {
                () = self.timing.notified() => {}
                () = tokio::time::sleep(left) => {
                    if let Err(error) = self.close_due(now()).await {
                        tracing::warn!(error = yadori_core::with_causes(&error), "a private drawer could not be closed; it is tried again");
                        tokio::time::sleep(PAUSE).await;
                    }
                }
            }
        }
    }

    /// Closes those of which the time is over.
    async fn close_due(&self, now: MillisSinceEpoch) -> Result<(), PrivateDrawerError> {
        let _alone = self.keeping.changing.lock().await;
        let due: Vec<u32> =
            self.keeping.closing.lock().iter().filter(|(_, until)| **until <= now).map(|(drawer, _)| *drawer).collect();
        for drawer in due {
            self.settle(drawer).await?;
        }
        Ok(())
    }

    /// Closes all that are open, or were when an earlier service ended.
    ///
    /// # Errors
    /// When one of them could not be closed; the others are.
    pub async fn close_all(&self) -> Result<(), PrivateDrawerError> {
        let _alone = self.keeping.changing.lock().await;
        let mut failed = Ok(());
        for drawer in self.history.store.private_drawers().await? {
            if drawer.privacy != Privacy::Closed
                && let Err(error) = self.settle(drawer.drawer).await
            {
                // It is tried again.
                self.keeping.closing.lock().insert(drawer.drawer, now());
                failed = Err(error);
            }
        }
        failed
    }

    /// The secret of a drawer, by its passphrase. Wrong ones slow down.
    async fn try_out(&self, drawer: &Drawer, passphrase: &str) -> Result<Secret, PrivateDrawerError> {
        let known = self.history.store.private_drawers().await?.into_iter().find(|known| known.drawer == drawer.number);
        let Some(known) = known else { return Err(PrivateDrawerError::NotPrivate(drawer.name.clone())) };
        let damaged = || PrivateDrawerError::Damaged(drawer.name.clone());
        let key: DrawerKey = serde_json::from_str(&known.key).map_err(|_| damaged())?;
        // One after the other: many at once would not be slowed down.
        let mut tries = self.tries.lock().await;
        let tries = tries.entry(drawer.number).or_default();
        tries.may(Instant::now()).map_err(PrivateDrawerError::TooSoon)?;
        let opened = stretching(passphrase, move |passphrase| key.open(passphrase)).await;
        tries.note(!matches!(opened, Err(DrawerKeyError::Wrong)), Instant::now());
        opened.map_err(|error| match error {
            DrawerKeyError::Wrong => PrivateDrawerError::Wrong(drawer.name.clone()),
            other => other.into(),
        })
    }

    /// Notes that a drawer is open.
    fn opened(&self, drawer: u32, secret: Secret, time: Duration) {
        self.keys.lock().insert(drawer, secret);
        self.keeping.closing.lock().insert(drawer, now().plus(time.as_millis() as u64));
        self.timing.notify_one();
        self.history.ledger.part_changed(Part::Drawers);
    }

    /// Notes that it is not, any more.
    fn closed(&self, drawer: u32) {
        self.keys.lock().remove(&drawer);
        self.keeping.closing.lock().remove(&drawer);
        self.timing.notify_one();
        self.history.ledger.part_changed(Part::Drawers);
    }

    /// Brings a drawer to where it is closed, from wherever it is. Nothing else is changed meanwhile that is kept.
    async fn settle(&self, drawer: u32) -> Result<(), PrivateDrawerError> {
        let store = &self.history.store;
        let known = store.private_drawers().await?.into_iter().find(|known| known.drawer == drawer);
        let Some(known) = known else {
            self.closed(drawer);
            return Ok(());
        };
        match known.privacy {
            Privacy::Closed => {
                self.closed(drawer);
                return Ok(());
            }
            // What is sealed counts.
            Privacy::Opening => store.note_out(drawer, None).await?,
            Privacy::Open => {
                let damaged = |_| PrivateDrawerError::Damaged(drawer.to_string());
                let key: DrawerKey = serde_json::from_str(&known.key).map_err(damaged)?;
                self.seal(drawer, &key).await?;
            }
            Privacy::Closing => {}
        }
        let clips = store.all_in_drawer(drawer).await?;
        self.retention.purge_all(&clips).await?;
        store.forget_headings(drawer).await?;
        store.set_privacy(drawer, Privacy::Closed).await?;
        self.closed(drawer);
        if !clips.is_empty() {
            self.retention.secure_erase();
        }
        Ok(())
    }

    /// Seals what lies in an open drawer. The clips are still there afterwards.
    async fn seal(&self, drawer: u32, key: &DrawerKey) -> Result<(), PrivateDrawerError> {
        let store = &self.history.store;
        let records = store.in_drawer(drawer).await?;
        // What is not here cannot be sealed, and is not forgotten: it leaves the drawer.
        let (elsewhere, records): (Vec<ClipRecord>, Vec<ClipRecord>) =
            records.into_iter().partition(|record| record.elsewhere);
        if !elsewhere.is_empty() {
            let given: Vec<_> = elsewhere.iter().map(|record| (record.number, Attribute::Drawer(None))).collect();
            self.keeping.set_attributes(&given).await?;
        }
        let mut next = store.begin_sealing(drawer).await?;
        let headings = store.headings(drawer).await?;
        let sealed_heading = |heading: yadori_store::Heading| SealedHeading {
            words: heading.words,
            place: heading.place.as_bytes().to_vec(),
        };
        let mut items = Vec::new();
        if !headings.is_empty() {
            items.push((Item::Headings(headings.into_iter().map(sealed_heading).collect()), Vec::new()));
        }
        for record in &records {
            items.push((sealed_clip(record), store.formats(record.number).await?));
        }
        for (mut item, formats) in items {
            let contents = self.history.whole_formats(&formats).await?;
            item.describe(&contents);
            for (piece, sealed) in (0..).zip(
                sealed::seal(&item, &contents, (drawer, next), key.public).map_err(PrivateDrawerError::Randomness)?,
            ) {
                store.put_sealed(drawer, next, piece, &sealed).await?;
            }
            next += 1;
        }
        Ok(store.end_sealing(drawer, records.len() as u32).await?)
    }

    /// Makes clips again of what is sealed. Gives how many stay sealed.
    async fn take_out(&self, drawer: u32, secret: &Secret) -> Result<u32, StoreError> {
        let store = &self.history.store;
        store.set_privacy(drawer, Privacy::Opening).await?;
        let mut left = 0;
        for number in store.sealed_items(drawer).await? {
            let pieces = store.sealed_pieces(drawer, number).await?;
            let done = match sealed::open(secret, (drawer, number), &pieces) {
                Some((item, contents)) => self.file(drawer, item, contents).await,
                None => Err(Fault::Clip("it is damaged".into())),
            };
            match done {
                Ok(()) => store.note_out(drawer, Some(number)).await?,
                Err(Fault::Store(error)) => return Err(error),
                Err(Fault::Clip(reason)) => {
                    tracing::warn!(drawer, reason, "a clip stays sealed in its private drawer");
                    left += 1;
                }
            }
        }
        store.set_privacy(drawer, Privacy::Open).await?;
        Ok(left)
    }

    async fn file(&self, drawer: u32, item: Item, contents: Vec<Bytes>) -> Result<(), Fault> {
        let store = &self.history.store;
        let place = |bytes: &[u8]| Rank::from_slice(bytes).ok_or_else(|| Fault::Clip("its place is none".into()));
        match item {
            Item::Headings(headings) => {
                for heading in headings {
                    let id = random_id().map_err(|error| error.to_string())?;
                    let stamp = self.history.stamps.next();
                    let change = store.add_heading(id, drawer, &heading.words, &place(&heading.place)?, stamp).await?;
                    self.history.ledger.changed(change);
                }
                Ok(())
            }
            Item::Clip(sealed) => {
                let SealedClip { clip, place: at, pin } = *sealed;
                let lies = (drawer, place(&at)?);
                let pin = pin.as_deref().map(place).transpose()?;
                let id = ClipId::parse(&clip.id).ok_or_else(|| "its id is not one".to_owned())?;
                match store.clip(id).await?.filter(|known| !known.tombstone) {
                    None => {
                        let formats = sealed::formats(&clip, contents);
                        let kept = Kept { pin, drawer: Some(lies) };
                        filing::file(&self.history, (&self.keeping.capture, &self.keeping), &clip, formats, kept).await
                    }
                    // It has been copied again meanwhile.
                    Some(known) => {
                        if !known.is_live() {
                            let stamp = self.history.stamps.next();
                            self.history.ledger.changed(store.restore(&[known.number], stamp).await?);
                        }
                        let mut given = vec![Attribute::Drawer(Some(lies))];
                        given.extend(pin.map(|pin| Attribute::Pin(Some(pin))));
                        given.extend(clip.title.clone().map(|title| Attribute::Title(Some(title))));
                        given.extend(filing::mark(&clip)?.map(|mark| Attribute::Mark(Some(mark))));
                        given.extend(clip.fills.then_some(Attribute::Fills(true)));
                        let given: Vec<_> = given.into_iter().map(|given| (known.number, given)).collect();
                        Ok(self.keeping.set_attributes(&given).await?)
                    }
                }
            }
        }
    }
}

fn sealed_clip(record: &ClipRecord) -> Item {
    let place = record.drawer.as_ref().map(|drawer| drawer.place.as_bytes().to_vec()).unwrap_or_default();
    let pin = record.pin.as_ref().map(|pin| pin.as_bytes().to_vec());
    Item::Clip(Box::new(SealedClip { clip: line_of(record, Vec::new()), place, pin }))
}

/// A key as it is written on record.
fn written(key: &DrawerKey) -> String {
    serde_json::to_string(key).unwrap_or_default()
}

impl From<DrawerKeyError> for PrivateDrawerError {
    fn from(error: DrawerKeyError) -> Self {
        match error {
            DrawerKeyError::Wrong => Self::Wrong(String::new()),
            DrawerKeyError::Phrase(error) => Self::Phrase(error),
            DrawerKeyError::Randomness(error) => Self::Randomness(error),
        }
    }
}

/// Does what stretches a passphrase on a thread that may take its time.
async fn stretching<T: Send + 'static>(
    passphrase: &str,
    work: impl FnOnce(&str) -> Result<T, DrawerKeyError> + Send + 'static,
) -> Result<T, DrawerKeyError> {
    let passphrase = zeroize::Zeroizing::new(passphrase.to_owned());
    tokio::task::spawn_blocking(move || work(&passphrase)).await.unwrap_or(Err(DrawerKeyError::Wrong))
}

async fn new_key(passphrase: &str) -> Result<(DrawerKey, Secret), DrawerKeyError> {
    key_of(Secret::random()?, passphrase).await
}

async fn key_of(secret: Secret, passphrase: &str) -> Result<(DrawerKey, Secret), DrawerKeyError> {
    stretching(passphrase, move |passphrase| Ok((DrawerKey::of(&secret, passphrase)?, secret))).await
}
