//! The state of the connections with the person's other devices: who is connected, invited, and fetched from.
//!
//! * `fetches`: from whom content is fetched
//! * `from_relay`: content that is asked for at the relay
//! * `log_limit`: how often strangers are worth a line of the log

mod fetches;
mod from_relay;
mod log_limit;

use fetches::{Asked, Fetches};
use from_relay::FromRelay;
use log_limit::LogLimit;
use parking_lot::Mutex;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::net::{IpAddr, SocketAddr};
use thiserror::Error;
use tokio::sync::{mpsc, watch};
use yadori_core::shared::{Clip, Hash};
use yadori_core::sharing::Policy;
use yadori_core::{DeviceId, MillisSinceEpoch, Stamp};
use yadori_link::code::Code;
use yadori_link::connection::ConnectionCommand;
pub use yadori_link::failure::LinkFailure;
use yadori_link::identity::IdentityError;
use yadori_link::pairing::{TRIES, TRIES_OF_ONE};
use yadori_link::tls::TlsEndpoint;
use yadori_store::StoreError;

/// Maximum contents of clips sent by hand that the receiver may fetch. Beyond it the set is cleared, and senders send again.
const HANDED: usize = 10_000;

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
pub(crate) struct Invitation {
    pub(crate) code: Code,
    pub(crate) until: MillisSinceEpoch,
    /// Wrong codes, by where they came from.
    pub(crate) tries: BTreeMap<IpAddr, u32>,
}

impl Invitation {
    pub(crate) fn is_open(&self, now: MillisSinceEpoch) -> bool {
        self.until > now && self.tries.values().sum::<u32>() < TRIES
    }

    /// Whether a source address may still try a code: no address has all of the tries.
    pub(crate) fn is_open_to(&self, source: IpAddr, now: MillisSinceEpoch) -> bool {
        self.is_open(now) && self.tries.get(&source).is_none_or(|tries| *tries < TRIES_OF_ONE)
    }
}

/// A connection with another device.
#[derive(Clone)]
pub(crate) struct ConnectionHandle {
    pub(crate) commands: mpsc::Sender<ConnectionCommand>,
    pub(crate) made_here: bool,
    /// Which of the connections with that device it is.
    pub(crate) number: u64,
    /// Whether the other device has said hello, and there is nothing against it: their clocks and versions agree.
    pub(crate) greeted: bool,
}

/// Why there is no connection with a device, and at which address it was tried.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PeerFailure {
    /// The address, if there was one.
    pub address: Option<String>,
    /// Why.
    pub failure: LinkFailure,
}

impl From<LinkFailure> for PeerFailure {
    fn from(failure: LinkFailure) -> Self {
        Self { address: None, failure }
    }
}

impl fmt::Display for PeerFailure {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.address {
            Some(address) => write!(formatter, "{address}: {}", self.failure),
            None => self.failure.fmt(formatter),
        }
    }
}

/// What is known of another device at the moment.
#[derive(Clone, Debug, Default)]
pub(crate) struct PeerStatus {
    /// The number of the latest change in its feed, as it last said.
    pub latest: u64,
    /// By how many milliseconds its clock is ahead.
    pub clock: i64,
    /// Why there is no connection.
    pub last_error: Option<PeerFailure>,
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
    /// Whether connections with other devices are made and taken; without them there is only a relay.
    pub direct: bool,
}

/// The connections to the person's other devices.
pub struct Links {
    pub(crate) listen: SocketAddr,
    /// Whether devices of the local network are looked for.
    pub(crate) find: bool,
    /// Whether connections are made and taken.
    pub(crate) direct: bool,
    pub(crate) endpoint: Mutex<Option<TlsEndpoint>>,
    pub(crate) listening: Mutex<Option<SocketAddr>>,
    pub(crate) invitation: Mutex<Option<Invitation>>,
    pub(crate) connections: Mutex<BTreeMap<DeviceId, ConnectionHandle>>,
    pub(crate) statuses: Mutex<BTreeMap<DeviceId, PeerStatus>>,
    pub(crate) policy: Mutex<Policy>,
    pub(crate) pause: Mutex<Option<SyncPause>>,
    /// Contents that are being fetched, and from whom.
    pub(crate) fetching: Mutex<Fetches>,
    /// Contents that are wanted from the relay.
    pub(crate) from_relay: FromRelay,
    /// Contents of what was handed over by hand, and to whom: those may fetch them.
    pub(crate) handed: Mutex<BTreeSet<(DeviceId, Hash)>>,
    /// Something was fetched, or will not be.
    pub(crate) fetched: watch::Sender<u64>,
    /// What strangers do is logged so often and no more.
    pub(crate) strangers_log: LogLimit,
    /// Devices are tried to be reached at once.
    pub(crate) wake: watch::Sender<u64>,
    /// A connection was made, or has ended.
    pub(crate) connections_changed: watch::Sender<u64>,
    /// Counts whatever becomes known of another device, and every connection that ends.
    pub(crate) news: watch::Sender<u64>,
    /// The latest copy that was put on this device's clipboard, or made here.
    pub(crate) newest: Mutex<Stamp>,
    pub(crate) numbers: std::sync::atomic::AtomicU64,
    /// Serialises creating the key and starting to listen; each happens once.
    pub(crate) opening: tokio::sync::Mutex<()>,
    /// Held from reading the linked devices until they are in force, so that an older list never replaces a newer one.
    pub(crate) knowing: tokio::sync::Mutex<()>,
    /// Held while an exchange starts from the cursor of the other device.
    pub(crate) meeting: tokio::sync::Mutex<()>,
    /// Whether somebody dials already.
    pub(crate) dialing: Mutex<BTreeSet<DeviceId>>,
}

impl Links {
    /// No connections yet.
    pub fn new(config: &LinkConfig) -> Self {
        Self {
            listen: config.listen,
            find: config.find,
            direct: config.direct,
            endpoint: Mutex::default(),
            listening: Mutex::default(),
            invitation: Mutex::default(),
            connections: Mutex::default(),
            statuses: Mutex::default(),
            policy: Mutex::default(),
            pause: Mutex::default(),
            fetching: Mutex::default(),
            from_relay: FromRelay::default(),
            handed: Mutex::default(),
            fetched: watch::Sender::new(0),
            strangers_log: LogLimit::default(),
            wake: watch::Sender::new(0),
            connections_changed: watch::Sender::new(0),
            news: watch::Sender::new(0),
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
        (linked as u32, self.connections.lock().values().filter(|held| held.greeted).count() as u32)
    }

    /// Whether a device is connected: there is a connection, and the two exchange what they have.
    pub fn is_connected(&self, device: DeviceId) -> bool {
        self.connections.lock().get(&device).is_some_and(|held| held.greeted)
    }

    /// Whether any other device is connected, and has said hello.
    pub(crate) fn any_is_connected(&self) -> bool {
        self.connections.lock().values().any(|held| held.greeted)
    }

    /// Whether there is a connection with a device; it may yet be refused.
    pub(crate) fn has_connection(&self, device: DeviceId) -> bool {
        self.connections.lock().contains_key(&device)
    }

    /// The device at the other end of this connection has said hello, and there is nothing against it.
    pub(crate) fn note_greeted(&self, device: DeviceId, number: u64) {
        if let Some(held) = self.connections.lock().get_mut(&device).filter(|held| held.number == number) {
            held.greeted = true;
        }
    }

    pub(crate) fn status_of(&self, device: DeviceId) -> PeerStatus {
        self.statuses.lock().get(&device).cloned().unwrap_or_default()
    }

    pub(crate) fn note(&self, device: DeviceId, change: impl FnOnce(&mut PeerStatus)) {
        change(self.statuses.lock().entry(device).or_default());
        self.news.send_modify(|times| *times += 1);
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

    pub(crate) fn was_handed(&self, device: DeviceId, hash: Hash) -> bool {
        self.handed.lock().contains(&(device, hash))
    }

    pub(crate) fn endpoint_if_any(&self) -> Option<TlsEndpoint> {
        self.endpoint.lock().clone()
    }

    /// Finds out whether the devices that are connected are still there.
    pub(crate) fn try_out_connections(&self) {
        for held in self.connections.lock().values() {
            let _ = held.commands.try_send(ConnectionCommand::TryOut);
        }
    }

    /// Devices that are away are tried to be reached at once.
    pub(crate) fn wake_up(&self) {
        self.wake.send_modify(|times| *times += 1);
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

    pub(crate) fn connected(&self) -> Vec<DeviceId> {
        self.connections.lock().keys().copied().collect()
    }

    /// Fetches content of which `have` bytes are here, if nobody is asked for it yet; `afresh` if somebody has just
    /// begun to wait for it. Tells whether there is a device that may have it.
    pub(crate) fn fetch(&self, hash: Hash, have: u64, afresh: bool) -> bool {
        let connected = self.connected();
        let asked = self.fetching.lock().ask(hash, have, &connected, afresh);
        self.ask(hash, asked) || self.from_relay.ask(hash, have, afresh)
    }

    /// A device does not have content that it was asked for: another is asked.
    pub(crate) fn fetch_elsewhere(&self, hash: Hash, device: DeviceId) {
        let connected = self.connected();
        let asked = self.fetching.lock().is_absent(hash, device, &connected);
        self.ask(hash, asked);
        self.fetched.send_modify(|times| *times += 1);
    }

    /// Asks whoever is to be asked. Tells whether somebody is asked.
    pub(crate) fn ask(&self, hash: Hash, asked: Asked) -> bool {
        let Asked::Now(device, have) = asked else { return asked == Asked::Already };
        let order = ConnectionCommand::Fetch(hash, have);
        let is_asked = self.commands(device).is_some_and(|commands| commands.try_send(order).is_ok());
        if !is_asked {
            self.fetching.lock().is_done(hash);
        }
        is_asked
    }
}
