//! Connections are made, taken, held, and made again.

use super::peer::Peer;
use super::{Held, LinkError, locked};
use crate::moment::now;
use crate::service::Service;
use std::net::SocketAddr;
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::{Semaphore, mpsc};
use yadori_core::merge::Register;
use yadori_core::shared::Device;
use yadori_core::{DeviceId, Stamp};
use yadori_link::exchange::{Ending, Exchange};
use yadori_link::frame::Bye;
use yadori_link::line::{self, Ended, Line, Order};
use yadori_link::tls::{Connection, Purpose};
use yadori_store::StoreError;

/// Strangers that may be in the middle of a handshake at once.
const HANDSHAKES: usize = 16;

/// How long an address may take to answer.
const CONNECTING: Duration = Duration::from_secs(5);

/// Pauses between tries: from the first to the longest.
const PAUSES: (Duration, Duration) = (Duration::from_millis(500), Duration::from_secs(60));

/// Orders that may wait for a connection.
const WAITING: usize = 1024;

impl Service {
    /// Listens for other devices, if it does not yet. Gives the address.
    pub(super) async fn listen_for_devices(self: &Arc<Self>) -> Result<SocketAddr, LinkError> {
        if let Some(address) = self.links.listening() {
            return Ok(address);
        }
        let failed = |source| LinkError::Listen { address: self.links.listen, source };
        let listener = TcpListener::bind(self.links.listen).await.map_err(failed)?;
        let address = listener.local_addr().map_err(failed)?;
        *locked(&self.links.listening) = Some(address);
        let service = self.clone();
        self.tasks.spawn(async move {
            tokio::select! {
                () = service.ending.cancelled() => {}
                () = service.take_connections(listener) => {}
            }
        });
        tracing::info!(%address, "listening for the person's other devices");
        Ok(address)
    }

    async fn take_connections(self: &Arc<Self>, listener: TcpListener) {
        let handshakes = Arc::new(Semaphore::new(HANDSHAKES));
        loop {
            let Ok(permit) = handshakes.clone().acquire_owned().await else { return };
            let (stream, from) = match listener.accept().await {
                Ok(accepted) => accepted,
                Err(error) => {
                    tracing::warn!(%error, "a connection could not be taken");
                    tokio::time::sleep(PAUSES.0).await;
                    continue;
                }
            };
            let service = self.clone();
            self.tasks.spawn(async move {
                let taking = async {
                    let doors = service.links.doors_if_any()?;
                    let taken = doors.take(stream, || service.has_invitation()).await;
                    drop(permit);
                    match taken {
                        Ok(connection) if connection.purpose == Purpose::Pairing => {
                            service.invited(connection, from).await;
                        }
                        Ok(connection) => service.hold(connection).await,
                        Err(error) => tracing::info!(%from, %error, "somebody was not let in"),
                    }
                    Some(())
                };
                tokio::select! {
                    () = service.ending.cancelled() => {}
                    _ = taking => {}
                }
            });
        }
    }

    /// Keeps this device connected with all that are linked to it. Ends when the task is dropped.
    pub(crate) async fn keep_linked(self: &Arc<Self>) {
        let mut woken = self.links.wake.subscribe();
        loop {
            match self.linked_devices().await {
                Ok(devices) => {
                    if !devices.is_empty()
                        && let Err(error) = self.listen_for_devices().await
                    {
                        tracing::warn!(error = yadori_core::with_causes(&error), "other devices cannot reach this one");
                    }
                    if let Err(error) = self.tell_addresses().await {
                        tracing::warn!(%error, "where this device can be reached could not be noted");
                    }
                    for device in devices {
                        self.dial(device);
                    }
                }
                Err(error) => tracing::warn!(%error, "the linked devices are not known at the moment"),
            }
            if woken.changed().await.is_err() {
                return;
            }
        }
    }

    pub(crate) async fn linked_devices(&self) -> Result<Vec<Device>, StoreError> {
        let devices = self.store.devices().await?.into_iter().filter(|device| !device.own);
        Ok(devices.filter_map(|device| device.device).filter(|device| device.linked.value).collect())
    }

    /// The others are told where this device can be reached.
    pub(crate) async fn tell_addresses(&self) -> Result<(), StoreError> {
        let Some(own) = self.store.devices().await?.into_iter().find(|device| device.own) else { return Ok(()) };
        let Some(mut device) = own.device else { return Ok(()) };
        let addresses = self.link_addresses();
        if device.addresses.value != addresses {
            device.addresses = Register::new(self.stamps.next(), addresses);
            if let Some(change) = self.store.note_device(&device).await? {
                self.ledger.changed(change);
            }
        }
        Ok(())
    }

    /// Where other devices can reach this one.
    pub(crate) fn link_addresses(&self) -> Vec<String> {
        let Some(listening) = self.links.listening() else { return Vec::new() };
        if !listening.ip().is_unspecified() {
            return vec![listening.to_string()];
        }
        let mut found: Vec<SocketAddr> = if_addrs::get_if_addrs()
            .unwrap_or_default()
            .into_iter()
            .filter(|interface| !interface.is_loopback())
            .map(|interface| SocketAddr::new(interface.ip(), listening.port()))
            .filter(|address| address.is_ipv4() || !is_link_local(address))
            .collect();
        if found.is_empty() {
            found.push(SocketAddr::from(([127, 0, 0, 1], listening.port())));
        }
        // Addresses of IPv4 are easier to type.
        found.sort_by_key(|address| (address.is_ipv6(), *address));
        found.truncate(8);
        found.iter().map(SocketAddr::to_string).collect()
    }

    /// Tries to reach a device until there is a connection, with pauses that grow; after it is lost, again.
    fn dial(self: &Arc<Self>, device: Device) {
        let id = device.id();
        if !locked(&self.links.dialing).insert(id) {
            return;
        }
        let service = self.clone();
        self.tasks.spawn(async move {
            tokio::select! {
                () = service.ending.cancelled() => {}
                () = service.dial_on(id) => {}
            }
            locked(&service.links.dialing).remove(&id);
        });
    }

    async fn dial_on(self: &Arc<Self>, id: DeviceId) {
        let mut pause = PAUSES.0;
        let mut woken = self.links.wake.subscribe();
        let mut ended = self.links.ended.subscribe();
        loop {
            woken.mark_unchanged();
            ended.mark_unchanged();
            let known = match self.linked_devices().await {
                Ok(devices) => devices.into_iter().find(|device| device.id() == id),
                Err(_) => None,
            };
            let Some(device) = known else { return };
            if !self.links.is_connected(id) && self.shares() {
                match self.reach(&device).await {
                    Ok(connection) => {
                        let began = tokio::time::Instant::now();
                        self.hold(connection).await;
                        if began.elapsed() > PAUSES.1 {
                            pause = PAUSES.0;
                        }
                    }
                    Err(why) => self.links.note(id, |standing| standing.trouble = Some(why)),
                }
            }
            // Not all at the same moment, when a network comes back.
            // As long as there is a connection, there is nothing to be done.
            while self.links.is_connected(id) {
                if ended.changed().await.is_err() {
                    return;
                }
            }
            let mut random = [0];
            let _ = getrandom::fill(&mut random);
            let jitter = f64::from(random[0]) / 512.0 + 0.75;
            tokio::select! {
                () = tokio::time::sleep(pause.mul_f64(jitter)) => pause = (pause * 2).min(PAUSES.1),
                _ = woken.changed() => pause = PAUSES.0,
            }
        }
    }

    async fn reach(&self, device: &Device) -> Result<Connection, String> {
        let Some(doors) = self.links.doors_if_any() else { return Err("this device has no key".into()) };
        let mut why = "it has told no address".to_owned();
        for address in &device.addresses.value {
            let connecting = tokio::time::timeout(CONNECTING, TcpStream::connect(address));
            let made = match connecting.await {
                Ok(Ok(stream)) => doors.make(stream, Some(device.key)).await,
                Ok(Err(error)) => Err(error),
                Err(_) => Err(std::io::ErrorKind::TimedOut.into()),
            };
            match made {
                Ok(connection) => return Ok(connection),
                Err(error) => why = format!("{address}: {error}"),
            }
        }
        Err(why)
    }

    /// Holds the connection with a device until it ends. Of two with the same device, the one stays that was made
    /// by the device with the smaller id.
    async fn hold(self: &Arc<Self>, connection: Connection) {
        let device = DeviceId::of_key(&connection.peer);
        if !self.shares() {
            return;
        }
        let Some(doors) = self.links.doors_if_any() else { return };
        let line = match Line::open(connection).await {
            Ok(line) => line,
            Err(error) => {
                self.links.note(device, |standing| standing.trouble = Some(error.to_string()));
                return;
            }
        };
        let made_here = line.made_here();
        let (orders, waiting) = mpsc::channel(WAITING);
        let number = self.links.numbers.fetch_add(1, Ordering::Relaxed);
        {
            let mut lines = locked(&self.links.lines);
            if let Some(other) = lines.get(&device) {
                let prefers_mine = doors.identity().id() < device;
                if other.made_here != made_here && other.made_here == prefers_mine {
                    return;
                }
                let _ = other.orders.try_send(Order::End(Bye::Over));
            }
            lines.insert(device, Held { orders, made_here, number });
        }
        let ended = self.exchange(device, line, waiting).await;
        {
            let mut lines = locked(&self.links.lines);
            if lines.get(&device).is_some_and(|held| held.number == number) {
                lines.remove(&device);
                locked(&self.links.fetching).retain(|_, from| *from != device);
            }
        }
        self.links.fetched.send_modify(|times| *times += 1);
        // What it was fetching, another may have.
        match self.store.wanted(self.links.policy().fetch_above).await {
            Ok(wanted) => {
                wanted.into_iter().for_each(|(hash, have)| self.links.fetch_from_another(hash, have, device));
            }
            Err(error) => tracing::debug!(%error, "what is still to be fetched is not known"),
        }
        let why = match ended {
            Ok(ended) => self.ended(&ended).await,
            Err(error) => Some(error.to_string()),
        };
        tracing::info!(%device, why = why.as_deref().unwrap_or("it is over"), "a connection with a device has ended");
        self.links.note(device, |standing| standing.trouble = why);
        self.links.ended.send_modify(|times| *times += 1);
        self.ledger.status_changed();
    }

    async fn exchange(
        self: &Arc<Self>,
        device: DeviceId,
        line: Line,
        waiting: mpsc::Receiver<Order>,
    ) -> Result<Ended, StoreError> {
        let read = self.store.devices().await?.into_iter();
        let read = read.filter(|record| record.device.as_ref().is_some_and(|known| known.id() == device));
        let read = read.filter_map(|record| record.read).next();
        let changes = self.ledger.changes();
        let latest = self.store.latest_change().await?;
        let begun = Exchange::begin(&self.device, now(), self.store.feed().await?, latest, read);
        let peer = Peer { service: self.clone(), device };
        tracing::info!(%device, "connected with a device");
        Ok(line::hold(line, begun, &peer, waiting, changes).await)
    }

    /// What the end of a connection means; why there is none now, if a person should know.
    async fn ended(&self, ended: &Ended) -> Option<String> {
        match ended {
            Ended::Said(Ending::Here(Bye::Version(true)) | Ending::There(Bye::Version(false))) => {
                Some("its version of Yadori is too old for this one: please update it".into())
            }
            Ended::Said(Ending::Here(Bye::Version(false)) | Ending::There(Bye::Version(true))) => {
                Some("this version of Yadori is too old for it: please update this one".into())
            }
            Ended::Said(Ending::Here(Bye::Clock) | Ending::There(Bye::Clock)) => {
                Some("the clocks of the two devices are more than a day apart: please set the one that is wrong".into())
            }
            Ended::Said(Ending::There(Bye::Removed)) => {
                // This device was removed: it lets go of the others, and keeps what it has.
                if let Err(error) = self.let_go_of_all().await {
                    tracing::error!(%error, "that this device was removed could not be noted");
                }
                Some("it has removed this device".into())
            }
            Ended::Said(Ending::Here(Bye::Garbled)) => Some("it said something that could not be understood".into()),
            Ended::Said(Ending::There(Bye::Garbled)) => Some("it did not understand what this device said".into()),
            Ended::Said(_) => None,
            Ended::Broken(why) | Ended::Records(why) => Some(why.clone()),
        }
    }

    /// This device belongs to the others no more.
    pub(crate) async fn let_go_of_all(&self) -> Result<(), StoreError> {
        let stamp: Stamp = self.stamps.next();
        for mut device in self.linked_devices().await? {
            device.linked = Register::new(stamp, false);
            self.store.note_device(&device).await?;
        }
        self.know_linked().await
    }
}

fn is_link_local(address: &SocketAddr) -> bool {
    matches!(address, SocketAddr::V6(address) if address.ip().segments()[0] & 0xffc0 == 0xfe80)
}
