//! Connections are taken, and held until they end.

use super::pairing::source_of;
use super::peer::Peer;
use super::{ConnectionHandle, LinkError};
use crate::clock::now;
use crate::history::index::Part;
use crate::links::PeerFailure;
use crate::sync::DeviceSync;
use std::collections::{BTreeMap, VecDeque};
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;
use yadori_core::DeviceId;
use yadori_core::merge::Register;
use yadori_link::connection::{self, ConnectionCommand, Ended, PeerConnection};
use yadori_link::exchange::{Ending, Exchange};
use yadori_link::failure::LinkFailure;
use yadori_link::frame::Bye;
use yadori_link::tls::{Connection, Purpose, TlsEndpoint};
use yadori_store::StoreError;

/// Maximum unauthenticated connections; beyond it, one is evicted: see [`Unauthenticated`].
const MOST_UNAUTHENTICATED: usize = 64;

/// Pause after `accept` has failed, as when file descriptors run out.
const ACCEPT_PAUSE: Duration = Duration::from_millis(500);

/// Commands that may be queued for a connection.
const QUEUE: usize = 1024;

/// Connections that are not authenticated yet, oldest first.
///
/// At the limit, the oldest connection of the source address with the most connections is evicted. So a source that holds many
/// connections, or opens a thousand a second, only crowds out itself.
#[derive(Default)]
struct Unauthenticated(VecDeque<(IpAddr, CancellationToken)>);

impl Unauthenticated {
    fn admit(&mut self, source: IpAddr) -> CancellationToken {
        self.0.retain(|(_, stranger)| !stranger.is_cancelled());
        if self.0.len() >= MOST_UNAUTHENTICATED {
            let mut of_each: BTreeMap<IpAddr, usize> = BTreeMap::new();
            self.0.iter().for_each(|(source, _)| *of_each.entry(*source).or_default() += 1);
            let fullest = of_each.into_iter().max_by_key(|(_, count)| *count).map(|(source, _)| source);
            let oldest = self.0.iter().position(|(source, _)| Some(*source) == fullest);
            if let Some((_, stranger)) = oldest.and_then(|oldest| self.0.remove(oldest)) {
                stranger.cancel();
            }
        }
        let stranger = CancellationToken::new();
        self.0.push_back((source, stranger.clone()));
        stranger
    }
}

/// The addresses of this computer with this port, those first that are easiest to type.
fn own_addresses(port: u16) -> Vec<SocketAddr> {
    let mut found: Vec<SocketAddr> = if_addrs::get_if_addrs()
        .unwrap_or_default()
        .into_iter()
        .filter(|interface| !interface.is_loopback())
        .map(|interface| SocketAddr::new(interface.ip(), port))
        .filter(|address| address.is_ipv4() || !is_link_local(address))
        .collect();
    if found.is_empty() {
        found.push(SocketAddr::from(([127, 0, 0, 1], port)));
    }
    found.sort_by_key(|address| (address.is_ipv6(), *address));
    found.truncate(8);
    found
}

impl DeviceSync {
    /// Starts listening for other devices, unless it already does. Returns the address.
    pub(super) async fn listen_for_devices(self: &Arc<Self>) -> Result<SocketAddr, LinkError> {
        let _alone = self.links.opening.lock().await;
        if let Some(address) = self.links.listening() {
            return Ok(address);
        }
        let failed = |source| LinkError::Listen { address: self.links.listen, source };
        let listener = TcpListener::bind(self.links.listen).await.map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        *self.links.listening.lock() = Some(address);
        let service = self.clone();
        self.background.tasks.spawn(async move {
            tokio::select! {
                () = service.background.ending.cancelled() => {}
                () = service.take_connections(listener) => {}
            }
        });
        tracing::info!(%address, "listening for the person's other devices");
        // There is something to be told to the network now.
        self.links.wake_up();
        Ok(address)
    }

    async fn take_connections(self: &Arc<Self>, listener: TcpListener) {
        let mut strangers = Unauthenticated::default();
        loop {
            let (stream, from) = match listener.accept().await {
                Ok(accepted) => accepted,
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be taken");
                    tokio::time::sleep(ACCEPT_PAUSE).await;
                    continue;
                }
            };
            let stranger = strangers.admit(source_of(from));
            let service = self.clone();
            self.background.tasks.spawn(async move {
                let is_let_in = tokio::select! {
                    () = service.background.ending.cancelled() => None,
                    () = stranger.cancelled() => {
                        if let Some(left_out) = service.links.strangers_log.admit() {
                            tracing::info!(%from, left_out, "too many strangers at once: one of them was sent away");
                        }
                        None
                    }
                    linked = service.let_in(stream, from) => linked,
                };
                stranger.cancel();
                if let Some(connection) = is_let_in {
                    tokio::select! {
                        () = service.background.ending.cancelled() => {}
                        () = service.run_connection(connection) => {}
                    }
                }
            });
        }
    }

    /// Authenticates a connection. Returns it if it is from a linked device; others are paired with if there is an open
    /// invitation.
    async fn let_in(self: &Arc<Self>, stream: TcpStream, from: SocketAddr) -> Option<Connection> {
        match self.links.endpoint_if_any()?.take(stream, || self.has_invitation(from)).await {
            Ok(connection) if connection.purpose == Purpose::Exchange => return Some(connection),
            Ok(connection) => self.invited(connection, from).await,
            Err(error) => {
                if let Some(left_out) = self.links.strangers_log.admit() {
                    tracing::info!(%from, %error, left_out, "somebody was not let in");
                }
            }
        }
        None
    }

    /// Publishes the addresses of this device to the others.
    pub(crate) async fn tell_addresses(&self) -> Result<(), StoreError> {
        let Some(mut device) = self.history.store.own_device().await? else { return Ok(()) };
        let addresses = self.link_addresses();
        if device.addresses.value != addresses {
            device.addresses = Register::new(self.history.stamps.next(), addresses);
            if let Some(change) = self.history.store.note_device(&device).await? {
                self.history.ledger.changed(change);
            }
        }
        Ok(())
    }

    /// Addresses at which other devices can reach this one.
    pub(crate) fn link_addresses(&self) -> Vec<String> {
        let Some(listening) = self.links.listening() else { return Vec::new() };
        if !listening.ip().is_unspecified() {
            return vec![listening.to_string()];
        }
        own_addresses(listening.port()).iter().map(SocketAddr::to_string).collect()
    }

    /// A listener for a browser on the person's network, at any free port; the address to be shown, and the TLS of this
    /// device.
    ///
    /// # Errors
    /// When this device cannot have a key, or listen.
    pub async fn listen_for_browser(&self) -> Result<(TcpListener, SocketAddr, TlsEndpoint), LinkError> {
        let endpoint = self.endpoint().await?;
        let wanted = SocketAddr::new(self.links.listen.ip(), 0);
        let failed = |source| LinkError::Listen { address: wanted, source };
        let listener = TcpListener::bind(wanted).await.map_err(failed)?;
        let mut address = listener.local_addr().map_err(failed)?;
        if address.ip().is_unspecified()
            && let Some(own) = own_addresses(address.port()).first()
        {
            address = *own;
        }
        Ok((listener, address, endpoint))
    }

    /// Runs the connection with a device until it ends. Of two connections with the same device, the one made by the device
    /// with the smaller id is kept.
    pub(super) async fn run_connection(self: &Arc<Self>, connection: Connection) {
        let peer = connection.peer;
        let device = DeviceId::of_key(&peer);
        if !self.shares() || !self.links.direct {
            return;
        }
        let Some(endpoint) = self.links.endpoint_if_any() else { return };
        let line = match PeerConnection::open(connection).await {
            Ok(line) => line,
            Err(error) => {
                self.links.note(device, |status_of| status_of.last_error = Some(LinkFailure::from(&error).into()));
                return;
            }
        };
        let made_here = line.made_here();
        let (commands, waiting) = mpsc::channel(QUEUE);
        let number = self.links.numbers.fetch_add(1, Ordering::Relaxed);
        {
            let mut connections = self.links.connections.lock();
            // Whoever changes either also ends the connections registered at that time; this one is among them, or not
            // registered yet.
            if !self.shares() || !endpoint.linked().contains(&peer) {
                return;
            }
            if let Some(other) = connections.get(&device) {
                let prefers_mine = endpoint.identity().id() < device;
                if other.made_here != made_here && other.made_here == prefers_mine {
                    // The other device reconnects, so this connection may be dead: probe it.
                    let _ = other.commands.try_send(ConnectionCommand::TryOut);
                    return;
                }
                let _ = other.commands.try_send(ConnectionCommand::End(Bye::Over));
            }
            connections.insert(device, ConnectionHandle { commands, made_here, number, greeted: false });
        }
        self.links.connections_changed.send_modify(|times| *times += 1);
        let ended = self.exchange((device, number), line, waiting).await;
        {
            let mut connections = self.links.connections.lock();
            if connections.get(&device).is_some_and(|held| held.number == number) {
                connections.remove(&device);
            }
        }
        self.links.news.send_modify(|times| *times += 1);
        // A connection that replaced this one does not know what this one was to fetch.
        self.links.fetching.lock().is_gone(device);
        self.links.fetched.send_modify(|times| *times += 1);
        // Another device may have what was being fetched.
        match self.history.store.wanted(self.links.policy().fetch_above).await {
            Ok(wanted) => {
                for (hash, have) in wanted {
                    self.links.fetch(hash, have, false);
                }
            }
            Err(error) => tracing::debug!(%error, "what is still to be fetched is not known"),
        }
        let why = match ended {
            Ok(ended) => self.ended(&ended).await,
            Err(error) => Some(LinkFailure::Other(error.to_string())),
        };
        let in_words = why.as_ref().map_or_else(|| "it is over".to_owned(), ToString::to_string);
        tracing::info!(%device, why = in_words, "a connection with a device has ended");
        self.links.note(device, |status_of| {
            status_of.last_error = why.map(PeerFailure::from);
            status_of.ended = Some(tokio::time::Instant::now());
        });
        self.links.connections_changed.send_modify(|times| *times += 1);
        self.history.ledger.part_changed(Part::Devices);
        self.history.ledger.status_changed();
    }

    async fn exchange(
        self: &Arc<Self>,
        (device, connection): (DeviceId, u64),
        line: PeerConnection,
        waiting: mpsc::Receiver<ConnectionCommand>,
    ) -> Result<Ended, StoreError> {
        let meeting = self.links.meeting.lock().await;
        let known = self.history.store.device(device).await?;
        let (read, acknowledged) = known.map_or((None, 0), |record| (record.read, record.acknowledged));
        self.links.note(device, |status_of| status_of.acknowledged = acknowledged);
        drop(meeting);
        let changes = self.history.ledger.changes();
        let latest = self.history.store.latest_change();
        let feed = self.history.store.feed().await?;
        let begun = Exchange::begin(&self.history.device, now(), feed, latest, read, acknowledged);
        let peer = Peer::new(self.clone(), device, connection, read);
        Ok(connection::run(line, begun, &peer, waiting, changes).await)
    }

    /// Handles the end of a connection. Returns the reason if the person should know it.
    async fn ended(&self, ended: &Ended) -> Option<LinkFailure> {
        match ended {
            Ended::Said(ending) => {
                if *ending == Ending::There(Bye::Removed)
                    // This device was removed: it lets go of the others, and keeps what it has.
                    && let Err(error) = self.let_go_of_all().await
                {
                    tracing::error!(%error, "that this device was removed could not be noted");
                }
                why_over(ending)
            }
            Ended::Broken(why) => Some(why.clone()),
            Ended::Records(why) => Some(LinkFailure::Other(why.clone())),
        }
    }

    /// Unlinks this device from all others; their links with one another are left alone.
    pub(crate) async fn let_go_of_all(&self) -> Result<(), StoreError> {
        let held: Vec<ConnectionHandle> = self.links.connections.lock().values().cloned().collect();
        for line in held {
            let _ = line.commands.try_send(ConnectionCommand::End(Bye::Over));
        }
        // A removed device is never let in again with the same key, so the key is deleted; the next link makes a new one.
        let _alone = self.links.opening.lock().await;
        self.history.store.forget_links().await?;
        *self.links.endpoint.lock() = None;
        self.own_key.give_up(&self.history.store).await?;
        self.forget_relay().await?;
        self.know_linked().await
    }
}

/// Why an exchange is over, as a person may read it; nothing if that is no news.
pub(super) fn why_over(ending: &Ending) -> Option<LinkFailure> {
    match ending {
        Ending::Here(Bye::Version(true)) | Ending::There(Bye::Version(false)) => Some(LinkFailure::TooOldThere),
        Ending::Here(Bye::Version(false)) | Ending::There(Bye::Version(true)) => Some(LinkFailure::TooOldHere),
        Ending::Here(Bye::Clock) | Ending::There(Bye::Clock) => Some(LinkFailure::ClocksApart),
        Ending::There(Bye::Removed) => Some(LinkFailure::Removed),
        Ending::Here(Bye::Garbled) => Some(LinkFailure::NotUnderstood("it said something that makes no sense here")),
        Ending::There(Bye::Garbled) => Some(LinkFailure::NotUnderstood("what this one said makes no sense there")),
        Ending::Here(Bye::Removed | Bye::Over) | Ending::There(Bye::Over) => None,
    }
}

fn is_link_local(address: &SocketAddr) -> bool {
    matches!(address, SocketAddr::V6(address) if address.ip().segments()[0] & 0xffc0 == 0xfe80)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_crowd_from_one_place_crowds_out_only_itself() {
        let mut strangers = Unauthenticated::default();
        let (crowd, one): (IpAddr, IpAddr) = ([192, 0, 2, 66].into(), [192, 0, 2, 7].into());
        let own = strangers.admit(one);
        let first = strangers.admit(crowd);
        for _ in 0..10 * MOST_UNAUTHENTICATED {
            strangers.admit(crowd);
        }
        assert!(!own.is_cancelled() && first.is_cancelled());
        assert_eq!(strangers.0.len(), MOST_UNAUTHENTICATED);
        let another = strangers.admit(one);
        assert!(!own.is_cancelled() && !another.is_cancelled());
    }
}
