//! The keys of what is kept, and whether it is open.
//!
//! * `files`: the key file, and what is around it
//! * `secret_service`: the secret that the desktop session keeps
//!
//! The [`Vault`] knows the keyring and how to open it; the life of what it opens is in [`crate::service`], which follows
//! what is wanted here: see [`Vault::wanted`].

mod files;
mod secret_service;

pub use files::VaultError;

use parking_lot::Mutex;
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::{Notify, mpsc, watch};
use yadori_api as api;
use yadori_files::Places;
use yadori_vault::{
    DataKeys, KeyId, Keyring, LockRules, OpenKeyringError, ProtectorKind, Secret, Stretched, Tries, WhileLocked,
};

/// How it stands.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum State {
    /// It is being opened.
    Opening,
    /// The history can be used.
    Open,
    /// It is being locked.
    Locking,
    /// It is locked.
    Locked,
    /// It is being encrypted for the first time, and how far that is, from 0 to 1.
    Encrypting(f32),
}

/// What somebody wants of the vault.
#[derive(Debug)]
pub enum Wanted {
    /// To lock it.
    Lock,
    /// To open it with these keys.
    Open(DataKeys),
}

/// Why a change was not made.
#[derive(Debug, Error)]
pub enum ChangeLockError {
    /// The keyring refuses.
    #[error(transparent)]
    Keyring(#[from] OpenKeyringError),
    /// The files refuse.
    #[error(transparent)]
    Files(#[from] VaultError),
    /// There were wrong ones before.
    #[error("there were several wrong ones; the next one is taken in {} s", .0.as_secs() + 1)]
    TooSoon(Duration),
    /// Nothing is encrypted here.
    #[error("{0}")]
    NotOurs(&'static str),
    /// The passphrase that is set must be given.
    #[error("a passphrase is set; give it (or the recovery key) as well")]
    CurrentNeeded,
    /// It could be unlocked by anybody.
    #[error("there is no passphrase to unlock it with")]
    NoPassphrase,
    /// It is locked.
    #[error("the history is locked")]
    Locked,
    /// There is no room for another database beside this one.
    #[error(transparent)]
    NoRoom(#[from] yadori_database::ServerError),
    /// The secret service refuses.
    #[error("the secret service cannot be used: {0}")]
    SecretService(String),
}

/// What is kept, and how it is protected.
pub struct Vault {
    places: Places,
    /// None if what is kept is not ours to encrypt.
    keyring: Mutex<Option<Keyring>>,
    /// While it is open.
    keys: Mutex<Option<DataKeys>>,
    state: watch::Sender<State>,
    wanted: mpsc::UnboundedSender<Wanted>,
    rekey_wanted: Notify,
    /// How far everything is encrypted with a new key, from 0 to 1, while it is.
    rekeying: watch::Sender<Option<f32>>,
    tries: tokio::sync::Mutex<Tries>,
    /// Why it could not be opened the last time.
    failure: watch::Sender<Option<String>>,
    /// Why nothing is encrypted, if it is not.
    plain: Option<&'static str>,
    /// When somebody last used the service. Nobody is woken by it.
    used: Mutex<Instant>,
    /// The generation of the keyring.
    generation: watch::Sender<u64>,
    /// The latest generation that the history has seen, if the keyring is an older one.
    older_than: Mutex<Option<u64>>,
}

/// Why nothing is encrypted.
pub const OUTSIDE: &str =
    "the records are in a database of your own (database_url); encryption is that server's matter";
/// The same by the person's own word.
pub const TURNED_OFF: &str = "encryption is turned off in config.toml (encrypt = false)";

impl Vault {
    /// The vault of these places, and what is wanted of it from now on. It is open if something opens it without a person.
    ///
    /// # Errors
    /// When its files cannot be used.
    pub async fn find(
        places: &Places,
        plain: Option<&'static str>,
    ) -> Result<(Self, mpsc::UnboundedReceiver<Wanted>), VaultError> {
        let (sender, wanted) = mpsc::unbounded_channel();
        let vault = |keyring: Option<Keyring>, keys, plain| Self {
            places: places.clone(),
            generation: watch::Sender::new(keyring.as_ref().map_or(0, |keyring| keyring.generation)),
            older_than: Mutex::new(None),
            keyring: Mutex::new(keyring),
            keys: Mutex::new(keys),
            state: watch::Sender::new(State::Opening),
            wanted: sender,
            rekey_wanted: Notify::new(),
            rekeying: watch::Sender::new(None),
            tries: <_>::default(),
            failure: watch::Sender::new(None),
            plain,
            used: Mutex::new(Instant::now()),
        };
        // Keys of a private database say nothing of one that is given.
        if plain == Some(OUTSIDE) {
            return Ok((vault(None, None, plain), wanted));
        }
        let stored = files::read(places)?;
        // What was encrypted once stays so.
        let Some(keyring) = stored else {
            if let Some(plain) = plain {
                return Ok((vault(None, None, Some(plain)), wanted));
            }
            files::check_that_nothing_is_encrypted(places)?;
            let keys = DataKeys { current: Secret::random()?, next: None };
            let mut keyring = Keyring::new(&keys.current)?;
            match secret_service::set_if_it_runs(&keyring.home()).await {
                Ok(secret) => keyring.set(ProtectorKind::SecretService, &secret, &keys)?,
                Err(reason) => {
                    tracing::info!(%reason, "no secret service keeps the key; it is kept in a file");
                    keyring.set(ProtectorKind::KeyFile, &files::new_key_file(places)?, &keys)?;
                }
            }
            files::write(places, &mut keyring, &keys.current)?;
            return Ok((vault(Some(keyring), Some(keys), None), wanted));
        };
        let keys = open_without_a_person(places, &keyring).await?;
        Ok((vault(Some(keyring), keys, None), wanted))
    }

    /// The one folder that everything is in, if it is not in the user's own.
    pub fn home(&self) -> Option<&std::path::Path> {
        self.places.home.as_deref()
    }

    /// What opens the database, while it is open.
    pub fn keys(&self) -> Option<DataKeys> {
        self.keys.lock().clone()
    }

    /// Whether something is encrypted at all.
    pub fn is_encrypted(&self) -> bool {
        self.plain.is_none()
    }

    /// Forgets the keys.
    pub fn forget(&self) {
        *self.keys.lock() = None;
    }

    /// Takes the keys that opened it.
    pub fn take(&self, keys: DataKeys) {
        *self.keys.lock() = Some(keys);
    }

    /// Wraps another data key, which is to follow. Gives it.
    ///
    /// # Errors
    /// When it is locked, or the disk refuses.
    pub fn begin_rekeying(&self) -> Result<Secret, ChangeLockError> {
        let next = Secret::random().map_err(OpenKeyringError::from)?;
        self.change(|keyring, _| keyring.begin(&next))?;
        *self.keys.lock() = self.keys().map(|keys| DataKeys { next: Some(next.clone()), ..keys });
        Ok(next)
    }

    /// The database is encrypted with the key of this id, and so is the vault from now on.
    ///
    /// # Errors
    /// When the disk refuses, or it is neither of its keys.
    pub fn settle(&self, id: &str) -> Result<(), VaultError> {
        let Some(keys) = self.keys() else { return Ok(()) };
        let mut keyring = self.keyring.lock();
        let Some(keyring) = keyring.as_mut() else { return Ok(()) };
        let Some(next) = keys.next else { return Ok(()) };
        let current = if KeyId::of(&next).to_string() == id {
            keyring.finish(Some(&next));
            next
        } else {
            keyring.finish(None);
            keys.current
        };
        self.keep_age(keyring);
        files::write(&self.places, keyring, &current)?;
        self.generation.send_replace(keyring.generation);
        *self.keys.lock() = Some(DataKeys { current, next: None });
        Ok(())
    }

    /// The generation of the keyring, as it grows. None if nothing is encrypted.
    pub fn generations(&self) -> Option<watch::Receiver<u64>> {
        self.is_encrypted().then(|| self.generation.subscribe())
    }

    /// Compares the keyring with the latest one that the history has seen: somebody may have brought back an older one, by
    /// which something opens the history that was removed since.
    pub fn compare_with(&self, seen: u64) {
        let is_older = *self.generation.borrow() < seen;
        if is_older {
            tracing::warn!(
                "keys.json is an older one than the history has seen: what was removed since may open it again"
            );
        }
        *self.older_than.lock() = is_older.then_some(seen);
    }

    /// An older keyring stays an older one, whatever else is changed in it: writing it counts on by one.
    fn keep_age(&self, keyring: &mut Keyring) {
        if self.older_than.lock().is_some_and(|seen| keyring.generation < seen) {
            keyring.generation = keyring.generation.saturating_sub(1);
        }
    }

    /// Whether the keyring is an older one than the history has seen.
    pub fn is_older(&self) -> bool {
        self.older_than.lock().is_some()
    }

    /// How it stands, from now on.
    pub fn follow(&self) -> watch::Receiver<State> {
        self.state.subscribe()
    }

    /// Says how it stands.
    pub fn stands(&self, state: State) {
        self.state.send_replace(state);
    }

    /// Says why it could not be opened.
    pub fn failed(&self, reason: Option<String>) {
        self.failure.send_replace(reason);
    }

    /// Somebody has used the service.
    pub fn note_use(&self) {
        *self.used.lock() = Instant::now();
    }

    /// When it locks itself.
    pub fn rules(&self) -> LockRules {
        self.keyring.lock().as_ref().map(|keyring| keyring.lock).unwrap_or_default()
    }

    /// The key to which copies are sealed while it is locked, if that is wanted.
    pub fn inbox(&self) -> Option<[u8; 32]> {
        let keyring = self.keyring.lock();
        keyring.as_ref().filter(|keyring| keyring.lock.while_locked == WhileLocked::Seal).map(|keyring| keyring.inbox)
    }

    /// Done when nobody has used the service for as long as the rules allow.
    pub async fn idle(&self) {
        let mut rules = self.generation.subscribe();
        loop {
            rules.mark_unchanged();
            let idle = Duration::from_secs(self.rules().idle_seconds);
            let left = idle.checked_sub(self.used.lock().elapsed());
            match (idle.is_zero(), left) {
                (false, None) if self.has(ProtectorKind::Passphrase) => return,
                (false, Some(left)) => {
                    let _ = tokio::time::timeout(left + Duration::from_millis(1), rules.changed()).await;
                }
                _ => {
                    let _ = rules.changed().await;
                }
            }
        }
    }

    fn has(&self, kind: ProtectorKind) -> bool {
        self.keyring.lock().as_ref().is_some_and(|keyring| keyring.has(kind))
    }

    /// How it stands, for a client.
    pub fn standing(&self) -> api::Lock {
        let keyring = self.keyring.lock();
        let rules = keyring.as_ref().map(|keyring| keyring.lock).unwrap_or_default();
        let kinds = keyring.iter().flat_map(|keyring| &keyring.protectors).map(|protector| protector.kind);
        let (state, encrypting) = match *self.state.borrow() {
            State::Open => (api::LockState::Open, *self.rekeying.borrow()),
            State::Locked => (api::LockState::Locked, None),
            State::Opening | State::Locking => (api::LockState::Changing, None),
            State::Encrypting(part) => (api::LockState::Changing, Some(part)),
        };
        api::Lock {
            state,
            encrypted: self.plain.is_none(),
            plain_because: self.plain.map(str::to_owned),
            protectors: kinds.map(protector).collect(),
            encrypting,
            failure: self.failure.borrow().clone(),
            older_keys: self.is_older(),
            idle_seconds: rules.idle_seconds,
            with_screen: rules.with_screen,
            with_sleep: rules.with_sleep,
            empty_clipboard: rules.empty_clipboard,
            while_locked: match rules.while_locked {
                WhileLocked::Drop => api::WhileLocked::Drop,
                WhileLocked::Seal => api::WhileLocked::Seal,
            },
        }
    }

    fn change(
        &self,
        change: impl FnOnce(&mut Keyring, &DataKeys) -> Result<(), OpenKeyringError>,
    ) -> Result<(), ChangeLockError> {
        let mut stored = self.keyring.lock();
        let Some(keyring) = stored.as_mut() else {
            return Err(ChangeLockError::NotOurs(self.plain.unwrap_or(TURNED_OFF)));
        };
        let Some(keys) = self.keys() else { return Err(ChangeLockError::Locked) };
        let mut changed = keyring.clone();
        change(&mut changed, &keys)?;
        self.keep_age(&mut changed);
        files::write(&self.places, &mut changed, &keys.current)?;
        self.generation.send_replace(changed.generation);
        *keyring = changed;
        Ok(())
    }

    /// Changes when it locks itself.
    ///
    /// # Errors
    /// When it is locked, nothing could unlock it, or the disk refuses.
    pub fn change_rules(&self, change: &api::LockChange) -> Result<(), ChangeLockError> {
        let locks = change.idle_seconds.is_some_and(|seconds| seconds > 0)
            || change.with_screen == Some(true)
            || change.with_sleep == Some(true);
        if locks && self.is_encrypted() && !self.has(ProtectorKind::Passphrase) {
            return Err(ChangeLockError::NoPassphrase);
        }
        self.change(|keyring, _| {
            let rules = &mut keyring.lock;
            rules.idle_seconds = change.idle_seconds.unwrap_or(rules.idle_seconds);
            rules.with_screen = change.with_screen.unwrap_or(rules.with_screen);
            rules.with_sleep = change.with_sleep.unwrap_or(rules.with_sleep);
            rules.empty_clipboard = change.empty_clipboard.unwrap_or(rules.empty_clipboard);
            rules.while_locked = match change.while_locked {
                Some(api::WhileLocked::Seal) => WhileLocked::Seal,
                Some(api::WhileLocked::Drop) => WhileLocked::Drop,
                None => rules.while_locked,
            };
            Ok(())
        })?;
        self.note_use();
        Ok(())
    }

    /// Sets a passphrase. One that was set, or the recovery key, must be given. A key file goes: it would open the history
    /// without the passphrase.
    ///
    /// # Errors
    /// When it is too short, the current one is missing or wrong, or the disk refuses.
    pub async fn set_passphrase(&self, passphrase: &str, current: Option<&str>) -> Result<(), ChangeLockError> {
        self.check_current(current).await?;
        let passphrase = zeroize::Zeroizing::new(passphrase.to_owned());
        let stretched = tokio::task::spawn_blocking(move || Stretched::new(&passphrase)).await;
        let stretched = stretched.unwrap_or(Err(OpenKeyringError::Wrong))?;
        let (mut goes, older_than) = (false, *self.older_than.lock());
        self.change(|keyring, keys| {
            // The person sees to what opens the history.
            keyring.rise_above(older_than.unwrap_or(0));
            keyring.set_passphrase(&stretched, keys)?;
            goes = keyring.has(ProtectorKind::KeyFile);
            if goes { keyring.remove(ProtectorKind::KeyFile) } else { Ok(()) }
        })?;
        if goes {
            files::remove_key_file(&self.places);
        }
        *self.older_than.lock() = None;
        Ok(())
    }

    /// Makes a new recovery key in place of the last one. Gives it: it is told once.
    ///
    /// # Errors
    /// As for a passphrase.
    pub async fn new_recovery_key(&self, current: Option<&str>) -> Result<zeroize::Zeroizing<String>, ChangeLockError> {
        self.check_current(current).await?;
        let key = yadori_vault::phrases::new_recovery_key().map_err(OpenKeyringError::from)?;
        let secret = yadori_vault::phrases::recovery_secret(&key).ok_or(OpenKeyringError::Wrong)?;
        self.change(|keyring, keys| keyring.set(ProtectorKind::Recovery, &secret, keys))?;
        Ok(key)
    }

    /// Adds a protector that opens the history by itself.
    ///
    /// # Errors
    /// When there is no secret service, or the disk refuses.
    pub async fn add(&self, kind: api::Protector, current: Option<&str>) -> Result<(), ChangeLockError> {
        self.check_current(current).await?;
        match kind {
            api::Protector::KeyFile => {
                let secret = files::new_key_file(&self.places)?;
                self.change(|keyring, keys| keyring.set(ProtectorKind::KeyFile, &secret, keys))
            }
            api::Protector::SecretService => {
                let home = self.keyring.lock().as_ref().map(Keyring::home);
                let Some(home) = home else { return self.change(|_, _| Ok(())) };
                let secret = secret_service::set(&home).await.map_err(ChangeLockError::SecretService)?;
                self.change(|keyring, keys| keyring.set(ProtectorKind::SecretService, &secret, keys))
            }
            api::Protector::Passphrase | api::Protector::Recovery => {
                Err(ChangeLockError::NotOurs("a passphrase and a recovery key have commands of their own"))
            }
        }
    }

    /// Removes a protector.
    ///
    /// # Errors
    /// When it is the last one, the passphrase is missing or wrong, or the disk refuses.
    pub async fn remove(&self, kind: api::Protector, current: Option<&str>) -> Result<(), ChangeLockError> {
        self.check_current(current).await?;
        let kind = kind_of(kind);
        let home = self.keyring.lock().as_ref().map(Keyring::home);
        self.change(|keyring, _| {
            keyring.remove(kind)?;
            if kind == ProtectorKind::Passphrase {
                // Nobody could unlock it.
                keyring.lock = LockRules { while_locked: keyring.lock.while_locked, ..LockRules::default() };
            }
            Ok(())
        })?;
        match (kind, home) {
            (ProtectorKind::KeyFile, _) => files::remove_key_file(&self.places),
            (ProtectorKind::SecretService, Some(home)) => secret_service::remove(&home).await,
            _ => {}
        }
        Ok(())
    }

    async fn check_current(&self, current: Option<&str>) -> Result<(), ChangeLockError> {
        if !self.has(ProtectorKind::Passphrase) {
            return Ok(());
        }
        self.try_out(current.ok_or(ChangeLockError::CurrentNeeded)?).await.map(drop)
    }

    /// What was typed opens it, or not; wrong ones slow down.
    async fn try_out(&self, typed: &str) -> Result<DataKeys, ChangeLockError> {
        // One after the other: many at once would not be slowed down.
        let mut tries = self.tries.lock().await;
        tries.may(Instant::now()).map_err(ChangeLockError::TooSoon)?;
        let Some(keyring) = self.keyring.lock().clone() else {
            return Err(ChangeLockError::NotOurs(self.plain.unwrap_or(TURNED_OFF)));
        };
        let typed = zeroize::Zeroizing::new(typed.to_owned());
        let opened = tokio::task::spawn_blocking(move || keyring.open_typed(&typed)).await;
        let opened = opened.unwrap_or(Err(OpenKeyringError::Wrong));
        tries.note(!matches!(opened, Err(OpenKeyringError::Wrong)), Instant::now());
        Ok(opened?)
    }

    /// Whether it can be locked.
    ///
    /// # Errors
    /// When nothing could unlock it again.
    pub fn may_lock(&self) -> Result<(), ChangeLockError> {
        match self.plain {
            Some(plain) => Err(ChangeLockError::NotOurs(plain)),
            None if self.has(ProtectorKind::Passphrase) => Ok(()),
            None => Err(ChangeLockError::NoPassphrase),
        }
    }

    /// Has it locked; see [`Vault::is_locked`].
    ///
    /// # Errors
    /// When nothing could unlock it again.
    pub fn lock(&self) -> Result<(), ChangeLockError> {
        self.may_lock()?;
        let _ = self.wanted.send(Wanted::Lock);
        Ok(())
    }

    /// Done when it is locked.
    pub async fn is_locked(&self) {
        let _ = self.follow().wait_for(|state| *state == State::Locked).await;
    }

    /// Opens it with what was typed. Done when the history can be used.
    ///
    /// # Errors
    /// When it is wrong, or the history cannot be opened: then with the reason.
    pub async fn unlock(&self, typed: &str) -> Result<Result<(), String>, ChangeLockError> {
        if *self.state.borrow() == State::Open {
            return Ok(Ok(()));
        }
        let keys = self.try_out(typed).await?;
        // What went wrong before is not what goes wrong now.
        self.failed(None);
        let mut failure = self.failure.subscribe();
        let mut state = self.follow();
        let _ = self.wanted.send(Wanted::Open(keys));
        tokio::select! {
            _ = state.wait_for(|state| *state == State::Open) => Ok(Ok(())),
            failed = failure.wait_for(Option::is_some) => {
                Ok(Err(failed.ok().and_then(|reason| reason.clone()).unwrap_or_default()))
            }
        }
    }

    /// Has everything encrypted with a new key, unless it is already. Done when that has begun.
    ///
    /// # Errors
    /// When it is locked or not encrypted, or there is no room for another database beside this one.
    pub fn rekey(&self) -> Result<(), ChangeLockError> {
        self.change(|_, _| Ok(()))?;
        yadori_database::check_room_beside(&self.places.data.join("database"))?;
        if self.rekeying.send_replace(Some(0.0)).is_none() {
            self.failed(None);
            self.rekey_wanted.notify_one();
        }
        Ok(())
    }

    /// Done when everything is to be encrypted with a new key.
    pub async fn rekey_wanted(&self) {
        self.rekey_wanted.notified().await;
    }

    /// Says how far everything is encrypted with a new key, from 0 to 1; none when that is over.
    pub fn rekeys(&self, part: Option<f32>) {
        self.rekeying.send_replace(part);
    }
}

/// Opens it by the key file, or by the secret service.
async fn open_without_a_person(places: &Places, keyring: &Keyring) -> Result<Option<DataKeys>, VaultError> {
    let wrong = |error| VaultError::Keyring { path: places.keyring().display().to_string(), source: error };
    if keyring.has(ProtectorKind::KeyFile) {
        match files::read_key_file(places) {
            Ok(secret) => return keyring.open(ProtectorKind::KeyFile, &secret).map(Some).map_err(wrong),
            Err(error) if keyring.protectors.len() == 1 => return Err(error),
            Err(error) => tracing::warn!(%error, "the key file does not open the history"),
        }
    }
    if keyring.has(ProtectorKind::SecretService) {
        match secret_service::get(&keyring.home()).await {
            Ok(secret) => match keyring.open(ProtectorKind::SecretService, &secret) {
                Ok(keys) => return Ok(Some(keys)),
                Err(error) => tracing::warn!(%error, "what the secret service keeps does not open the history"),
            },
            Err(reason) => tracing::warn!(%reason, "the secret service does not open the history"),
        }
    }
    Ok(None)
}

fn protector(kind: ProtectorKind) -> api::Protector {
    match kind {
        ProtectorKind::KeyFile => api::Protector::KeyFile,
        ProtectorKind::SecretService => api::Protector::SecretService,
        ProtectorKind::Passphrase => api::Protector::Passphrase,
        ProtectorKind::Recovery => api::Protector::Recovery,
    }
}

fn kind_of(kind: api::Protector) -> ProtectorKind {
    match kind {
        api::Protector::KeyFile => ProtectorKind::KeyFile,
        api::Protector::SecretService => ProtectorKind::SecretService,
        api::Protector::Passphrase => ProtectorKind::Passphrase,
        api::Protector::Recovery => ProtectorKind::Recovery,
    }
}
