//! The connections to the person's other devices.
//!
//! * `pairing`: two devices meet for the first time
//! * `dialing`: the others are tried to be reached
//! * `connections`: connections are taken, and held until they end
//! * `fetches`: from whom content is fetched
//! * `network`: it comes and goes
//! * `nearby`: devices of the same local network find each other
//! * `peer`: what an exchange with another device does to this device's records
//!
//! Nothing here runs before the first invitation, or the first joining.

mod connections;
pub mod devices;
mod dialing;
mod fetches;
mod log_limit;
mod nearby;
mod network;
mod pairing;
mod peer;
pub mod sharing;

pub use pairing::{InviteError, JoinError};

use crate::background::Background;
use crate::clock::now;
use crate::fetching::Fetching;
use crate::history::History;
use crate::recalling::Recalling;
use crate::retention::Retention;
use crate::sync::log_limit::LogLimit;
use fetches::{Asked, Fetches};
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::io::ErrorKind;
use std::net::{IpAddr, SocketAddr};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use thiserror::Error;
use tokio::sync::{mpsc, watch};
use yadori_core::shared::{Clip, Device, Hash};
use yadori_core::sharing::Policy;
use yadori_core::{DeviceId, MillisSinceEpoch, Stamp};
use yadori_link::code::Code;
use yadori_link::connection::ConnectionCommand;
use yadori_link::identity::{Identity, IdentityError};
use yadori_link::pairing::{TRIES, TRIES_OF_ONE};
use yadori_link::tls::{Linked, TlsEndpoint};
use yadori_store::StoreError;

/// Maximum contents of clips sent by hand that the receiver may fetch. Beyond it the set is cleared, and senders send again.
const HANDED: usize = 10_000;
/// The setting that holds what this device shares.
const POLICY: &str = "policy";
/// Key derivation context (BLAKE3) for hashed tombstones.
const SEALS: &str = "yadori 2026-11 seals of what was deleted long ago";
/// The setting that holds a pause of sharing.
const PAUSE: &str = "sync-pause";

/// Why this device cannot be linked with others.
#[derive(Debug, Error)]
pub enum LinkError {
    /// The key cannot be read or written.
    #[error("the device's key at {path} cannot be used: {source}")]
    Key {
        /// Where it is.
        path: String,
        /// Why.
        source: std::io::Error,
    },
    /// It is damaged, or none can be made.
    #[error(transparent)]
    Identity(#[from] IdentityError),
    /// Nothing can be listened at.
    #[error("cannot listen for other devices at {address}: {source}")]
    Listen {
        /// The address.
        address: SocketAddr,
        /// Why.
        source: std::io::Error,
    },
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// A pause of sharing.
#[derive(Clone, Copy, Debug, Serialize, Deserialize)]
pub struct SyncPause {
    /// Until when; until it is resumed, if not given.
    pub until: Option<MillisSinceEpoch>,
}

/// An invitation that is open.
struct Invitation {
    code: Code,
    until: MillisSinceEpoch,
    /// Wrong codes, by where they came from.
    tries: BTreeMap<IpAddr, u32>,
}

impl Invitation {
    fn is_open(&self, now: MillisSinceEpoch) -> bool {
        self.until > now && self.tries.values().sum::<u32>() < TRIES
    }

    /// Whether a source address may still try a code: no address has all of the tries.
    fn is_open_to(&self, source: IpAddr, now: MillisSinceEpoch) -> bool {
        self.is_open(now) && self.tries.get(&source).is_none_or(|tries| *tries < TRIES_OF_ONE)
    }
}

/// A connection with another device.
#[derive(Clone)]
struct ConnectionHandle {
    commands: mpsc::Sender<ConnectionCommand>,
    made_here: bool,
    /// Which of the connections with that device it is.
    number: u64,
}

/// What is known of another device at the moment.
#[derive(Clone, Debug, Default)]
pub(crate) struct PeerStatus {
    /// The number of the latest change in its feed, as it last said.
    pub latest: u64,
    /// By how many milliseconds its clock is ahead.
    pub clock: i64,
    /// Why there is no connection.
    pub last_error: Option<String>,
    /// When the last connection with it ended.
    pub ended: Option<tokio::time::Instant>,
    /// Where it was found on the local network.
    pub found: Vec<String>,
    /// How far it has this device's feed, as it last said.
    pub acknowledged: u64,
    /// How often something has come from it, or has reached it.
    pub progress: u64,
}

/// How other devices are listened for.
#[derive(Clone, Copy, Debug)]
pub struct LinkConfig {
    /// Where.
    pub listen: SocketAddr,
    /// Whether devices of the local network are looked for.
    pub find: bool,
}

/// The connections to the person's other devices.
pub struct Links {
    folder: PathBuf,
    listen: SocketAddr,
    /// Whether devices of the local network are looked for.
    find: bool,
    endpoint: Mutex<Option<TlsEndpoint>>,
    listening: Mutex<Option<SocketAddr>>,
    invitation: Mutex<Option<Invitation>>,
    connections: Mutex<BTreeMap<DeviceId, ConnectionHandle>>,
    statuses: Mutex<BTreeMap<DeviceId, PeerStatus>>,
    policy: Mutex<Policy>,
    pause: Mutex<Option<SyncPause>>,
    /// Contents that are being fetched, and from whom.
    fetching: Mutex<Fetches>,
    /// Contents of what was handed over by hand, and to whom: those may fetch them.
    handed: Mutex<BTreeSet<(DeviceId, Hash)>>,
    /// Something was fetched, or will not be.
    fetched: watch::Sender<u64>,
    /// What strangers do is logged so often and no more.
    pub(crate) strangers_log: LogLimit,
    /// Devices are tried to be reached at once.
    wake: watch::Sender<u64>,
    /// A connection was made, or has ended.
    pub(crate) connections_changed: watch::Sender<u64>,
    /// The latest copy that was put on this device's clipboard, or made here.
    newest: Mutex<Stamp>,
    numbers: std::sync::atomic::AtomicU64,
    /// Serialises creating the key and starting to listen; each happens once.
    opening: tokio::sync::Mutex<()>,
    /// Held from reading the linked devices until they are in force, so that an older list never replaces a newer one.
    knowing: tokio::sync::Mutex<()>,
    /// Held while an exchange starts from the cursor of the other device.
    meeting: tokio::sync::Mutex<()>,
    /// Whether somebody dials already.
    dialing: Mutex<BTreeSet<DeviceId>>,
}

impl Links {
    /// No connections yet. The key is kept in `folder`.
    pub fn new(folder: &Path, config: &LinkConfig) -> Self {
        Self {
            folder: folder.to_owned(),
            listen: config.listen,
            find: config.find,
            endpoint: Mutex::default(),
            listening: Mutex::default(),
            invitation: Mutex::default(),
            connections: Mutex::default(),
            statuses: Mutex::default(),
            policy: Mutex::default(),
            pause: Mutex::default(),
            fetching: Mutex::default(),
            handed: Mutex::default(),
            fetched: watch::Sender::new(0),
            strangers_log: LogLimit::default(),
            wake: watch::Sender::new(0),
            connections_changed: watch::Sender::new(0),
            newest: Mutex::default(),
            numbers: std::sync::atomic::AtomicU64::default(),
            opening: tokio::sync::Mutex::default(),
            knowing: tokio::sync::Mutex::default(),
            meeting: tokio::sync::Mutex::default(),
            dialing: Mutex::default(),
        }
    }

    /// What this device shares.
    pub fn policy(&self) -> Policy {
        self.policy.lock().clone()
    }

    /// Whether sharing is paused.
    pub fn pause(&self) -> Option<SyncPause> {
        *self.pause.lock()
    }

    /// Where links are listened for.
    pub fn listening(&self) -> Option<SocketAddr> {
        *self.listening.lock()
    }

    /// How many devices are linked, and how many of them are connected.
    pub fn numbers(&self) -> (u32, u32) {
        let linked = self.endpoint_if_any().map_or(0, |endpoint| endpoint.linked().count());
        (linked as u32, self.connections.lock().len() as u32)
    }

    /// Whether there is a connection with a device.
    pub fn is_connected(&self, device: DeviceId) -> bool {
        self.connections.lock().contains_key(&device)
    }

    pub(crate) fn status_of(&self, device: DeviceId) -> PeerStatus {
        self.statuses.lock().get(&device).cloned().unwrap_or_default()
    }

    fn note(&self, device: DeviceId, change: impl FnOnce(&mut PeerStatus)) {
        change(self.statuses.lock().entry(device).or_default());
    }

    /// The way to the connection with a device, if there is one.
    pub(crate) fn commands(&self, device: DeviceId) -> Option<mpsc::Sender<ConnectionCommand>> {
        self.connections.lock().get(&device).map(|held| held.commands.clone())
    }

    /// Notes that a device may fetch the content of this clip, which is handed over to it by hand.
    pub(crate) fn note_handed(&self, device: DeviceId, clip: &Clip) {
        let mut handed = self.handed.lock();
        if handed.len() >= HANDED {
            handed.clear();
        }
        let contents = clip.body.iter().flat_map(|body| &body.formats).filter(|format| format.data.is_none());
        handed.extend(contents.map(|format| (device, format.hash)));
    }

    fn was_handed(&self, device: DeviceId, hash: Hash) -> bool {
        self.handed.lock().contains(&(device, hash))
    }

    fn endpoint_if_any(&self) -> Option<TlsEndpoint> {
        self.endpoint.lock().clone()
    }

    /// Finds out whether the devices that are connected are still there.
    fn try_out_connections(&self) {
        for held in self.connections.lock().values() {
            let _ = held.commands.try_send(ConnectionCommand::TryOut);
        }
    }

    /// Devices that are away are tried to be reached at once.
    pub(crate) fn wake_up(&self) {
        self.wake.send_modify(|times| *times += 1);
    }

    fn key_path(&self) -> PathBuf {
        self.folder.join("device.pem")
    }

    /// The key of this device is of no use any more: the next link gets another.
    fn give_up_key(&self) {
        *self.endpoint.lock() = None;
        if let Err(error) = std::fs::remove_file(self.key_path())
            && error.kind() != ErrorKind::NotFound
        {
            tracing::warn!(%error, "the key that was given up could not be removed");
        }
    }

    /// The key of this device, if it has one.
    fn stored_key(&self) -> Result<Option<Identity>, LinkError> {
        let path = self.key_path();
        match std::fs::read_to_string(&path) {
            Ok(pem) => Ok(Some(Identity::from_pem(&pem)?)),
            Err(error) if error.kind() == ErrorKind::NotFound => Ok(None),
            Err(source) => Err(LinkError::Key { path: path.display().to_string(), source }),
        }
    }

    fn new_key(&self) -> Result<Identity, LinkError> {
        let identity = Identity::new()?;
        let path = self.key_path();
        yadori_files::write_private(&path, identity.to_pem().as_bytes())
            .map_err(|source| LinkError::Key { path: path.display().to_string(), source })?;
        Ok(identity)
    }
}

/// Shares the history with the person's other devices.
pub struct DeviceSync {
    pub(crate) history: Arc<History>,
    fetching: Arc<Fetching>,
    recalling: Arc<Recalling>,
    retention: Arc<Retention>,
    links: Arc<Links>,
    background: Background,
    /// What is shared is changed one after the other.
    choosing: tokio::sync::Mutex<()>,
}

impl DeviceSync {
    /// Shares this history over these connections.
    pub fn new(
        (history, links): (Arc<History>, Arc<Links>),
        fetching: Arc<Fetching>,
        recalling: Arc<Recalling>,
        retention: Arc<Retention>,
        background: Background,
    ) -> Self {
        Self { history, fetching, recalling, retention, links, background, choosing: tokio::sync::Mutex::default() }
    }
}

impl DeviceSync {
    /// Takes up what this device shares, and its links, if it has any.
    pub(crate) async fn restore_links(&self) -> Result<(), LinkError> {
        if let Some(policy) =
            self.history.store.setting(POLICY).await?.and_then(|value| serde_json::from_str(&value).ok())
        {
            *self.links.policy.lock() = policy;
        }
        if let Some(pause) =
            self.history.store.setting(PAUSE).await?.and_then(|value| serde_json::from_str(&value).ok())
        {
            *self.links.pause.lock() = Some(pause);
        }
        self.links.note_newest(self.history.stamps.latest());
        if let Some(identity) = self.links.stored_key()? {
            self.open_endpoint(identity).await?;
        }
        Ok(())
    }

    async fn open_endpoint(&self, identity: Identity) -> Result<TlsEndpoint, LinkError> {
        self.history.store.set_own_key(identity.pin(), self.history.stamps.next()).await?;
        self.history.store.seal_with(identity.secret_for(SEALS));
        let endpoint = TlsEndpoint::new(Arc::new(identity), Linked::default());
        *self.links.endpoint.lock() = Some(endpoint.clone());
        self.know_linked().await?;
        Ok(endpoint)
    }

    /// The doors of this device; it gets its key with the first need of one.
    async fn endpoint(&self) -> Result<TlsEndpoint, LinkError> {
        let _alone = self.links.opening.lock().await;
        match self.links.endpoint_if_any() {
            Some(endpoint) => Ok(endpoint),
            None => self.open_endpoint(self.links.new_key()?).await,
        }
    }

    /// Other devices are linked than before: they are let in and dialled from now on, and no others.
    pub(crate) async fn know_linked(&self) -> Result<(), StoreError> {
        self.let_in_linked().await?;
        self.links.wake_up();
        self.history.ledger.status_changed();
        Ok(())
    }

    /// The devices that are linked with this one.
    async fn linked_devices(&self) -> Result<Vec<Device>, StoreError> {
        let devices = self.history.store.devices().await?.into_iter().filter(|device| !device.own);
        Ok(devices.filter_map(|device| device.device).filter(|device| device.linked.value).collect())
    }

    /// Only linked devices come in from now on; those that are linked no more are told, and cut off. Gives those that are.
    async fn let_in_linked(&self) -> Result<Vec<Device>, StoreError> {
        let Some(endpoint) = self.links.endpoint_if_any() else { return Ok(Vec::new()) };
        let _alone = self.links.knowing.lock().await;
        let linked = self.linked_devices().await?;
        endpoint.linked().set(linked.iter().map(|device| device.key));
        let gone: Vec<DeviceId> = {
            let connections = self.links.connections.lock();
            connections.keys().copied().filter(|held| linked.iter().all(|device| device.id() != *held)).collect()
        };
        for device in gone {
            if let Some(commands) = self.links.commands(device) {
                let _ = commands.try_send(ConnectionCommand::End(yadori_link::frame::Bye::Removed));
            }
        }
        Ok(linked)
    }

    /// Whether sharing goes on; ends a pause that is over.
    pub(crate) fn shares(&self) -> bool {
        let mut pause = self.links.pause.lock();
        if pause.is_some_and(|pause| pause.until.is_some_and(|until| until <= now())) {
            *pause = None;
        }
        pause.is_none()
    }
}

impl Links {
    /// Notes that something was copied here, or put on this clipboard by the person: what others have copied
    /// before does not take its place.
    pub(crate) fn note_newest(&self, stamp: Stamp) {
        let mut newest = self.newest.lock();
        *newest = newest.max(stamp);
    }

    /// Tells whenever something was fetched, or will not be.
    pub(crate) fn fetches(&self) -> watch::Receiver<u64> {
        self.fetched.subscribe()
    }

    /// The devices that are connected. As long as the guard is held, no other begins to exchange anything.
    pub(crate) async fn meet(&self) -> (Vec<DeviceId>, tokio::sync::MutexGuard<'_, ()>) {
        let guard = self.meeting.lock().await;
        (self.connected(), guard)
    }

    fn connected(&self) -> Vec<DeviceId> {
        self.connections.lock().keys().copied().collect()
    }

    /// Fetches content of which `have` bytes are here, if nobody is asked for it yet; `afresh` if somebody has just
    /// begun to wait for it. Tells whether there is a device that may have it.
    pub(crate) fn fetch(&self, hash: Hash, have: u64, afresh: bool) -> bool {
        let connected = self.connected();
        let asked = self.fetching.lock().ask(hash, have, &connected, afresh);
        self.ask(hash, asked)
    }

    /// A device does not have content that it was asked for: another is asked.
    fn fetch_elsewhere(&self, hash: Hash, device: DeviceId) {
        let connected = self.connected();
        let asked = self.fetching.lock().is_absent(hash, device, &connected);
        self.ask(hash, asked);
        self.fetched.send_modify(|times| *times += 1);
    }

    /// Asks whoever is to be asked. Tells whether somebody is asked.
    fn ask(&self, hash: Hash, asked: Asked) -> bool {
        let Asked::Now(device, have) = asked else { return asked == Asked::Already };
        let order = ConnectionCommand::Fetch(hash, have);
        let is_asked = self.commands(device).is_some_and(|commands| commands.try_send(order).is_ok());
        if !is_asked {
            self.fetching.lock().is_done(hash);
        }
        is_asked
    }
}

impl DeviceSync {
    /// Another policy is in force: everything is told again to who is let have it.
    pub(crate) async fn put_policy(&self, policy: &Policy) -> Result<(), StoreError> {
        let value = serde_json::to_string(policy).unwrap_or_default();
        let before = self.links.policy();
        let only_here = Policy {
            follow: policy.follow,
            may_be_put_on_clipboard: policy.may_be_put_on_clipboard,
            fetch_above: policy.fetch_above,
            ..before.clone()
        };
        let is_for_all = only_here != *policy;
        // First, so that nothing is told or taken in by the old one that is not told or taken in again.
        *self.links.policy.lock() = policy.clone();
        let put = if is_for_all {
            self.history.store.share_anew(POLICY, &value).await
        } else {
            self.history.store.set_setting(POLICY, Some(&value)).await
        };
        if let Err(error) = put {
            *self.links.policy.lock() = before;
            return Err(error);
        }
        if is_for_all {
            self.end_lines();
        }
        self.history.ledger.status_changed();
        Ok(())
    }

    pub(crate) async fn put_sync_pause(&self, pause: Option<SyncPause>) -> Result<(), StoreError> {
        let value = pause.map(|pause| serde_json::to_string(&pause).unwrap_or_default());
        self.history.store.set_setting(PAUSE, value.as_deref()).await?;
        *self.links.pause.lock() = pause;
        if pause.is_some() {
            self.end_lines();
        }
        self.links.wake_up();
        self.history.ledger.status_changed();
        Ok(())
    }

    /// Ends all connections; they are made again if they may be.
    fn end_lines(&self) {
        for held in self.links.connections.lock().values() {
            let _ = held.commands.try_send(ConnectionCommand::End(yadori_link::frame::Bye::Over));
        }
        self.links.wake_up();
    }
}
