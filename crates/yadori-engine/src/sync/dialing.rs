//! Other devices are tried to be reached, again and again.

use crate::history::index::Part;
use crate::links::PeerFailure;
use crate::sync::DeviceSync;
use backon::{BackoffBuilder, ExponentialBuilder};
use futures_util::StreamExt;
use futures_util::stream::FuturesUnordered;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpStream;
use yadori_core::DeviceId;
use yadori_core::shared::Device;
use yadori_link::failure::LinkFailure;
use yadori_link::identity::Pin;
use yadori_link::tls::{Connection, TlsEndpoint};
use yadori_store::DeviceRecord;

/// How long an address may take to answer.
const CONNECTING: Duration = Duration::from_secs(5);

/// Of several addresses, one is tried so long after the other (RFC 8305, section 8: Connection Attempt Delay).
const STAGGER: Duration = Duration::from_millis(250);

/// Longest pause between tries. A connection that lasted longer was a good one.
pub(super) const LONGEST_PAUSE: Duration = Duration::from_secs(60);

/// Pauses between tries. Jitter, so that not all devices redial at once when a network comes back.
pub(super) const RETRY: ExponentialBuilder = ExponentialBuilder::new()
    .with_min_delay(Duration::from_millis(500))
    .with_max_delay(LONGEST_PAUSE)
    .without_max_times()
    .with_jitter();

impl DeviceSync {
    /// Keeps this device connected with all that are linked to it. Ends when the task is dropped.
    pub(crate) async fn keep_linked(self: &Arc<Self>) {
        let mut woken = self.links.wake.subscribe();
        loop {
            match self.let_in_linked().await {
                Ok(devices) => {
                    if !devices.is_empty()
                        && let Err(error) = self.listen_for_devices().await
                    {
                        tracing::warn!(error = yadori_core::with_causes(&error), "other devices cannot reach this one");
                    }
                    if let Err(error) = self.tell_addresses().await {
                        tracing::warn!(%error, "where this device can be reached could not be noted");
                    }
                    for device in devices.into_iter().filter(|_| self.links.direct) {
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

    /// Tries to reach a device until there is a connection, with pauses that grow; after it is lost, again.
    fn dial(self: &Arc<Self>, device: Device) {
        let id = device.id();
        if !self.links.dialing.lock().insert(id) {
            return;
        }
        let service = self.clone();
        self.background.tasks.spawn(async move {
            tokio::select! {
                () = service.background.ending.cancelled() => {}
                () = service.reconnect_loop(id) => {}
            }
            service.links.dialing.lock().remove(&id);
        });
    }

    /// Reconnect loop with backoff, until the device is unlinked.
    async fn reconnect_loop(self: &Arc<Self>, id: DeviceId) {
        let mut pauses = RETRY.build();
        let mut woken = self.links.wake.subscribe();
        let mut ended = self.links.connections_changed.subscribe();
        loop {
            woken.mark_unchanged();
            ended.mark_unchanged();
            let is_linked = |device: &Device| device.linked.value;
            let known = match self.history.store.device(id).await {
                Ok(Some(record)) if record.device.as_ref().is_some_and(is_linked) => Some(record),
                Ok(_) => return,
                // Try again when the database is back.
                Err(_) => None,
            };
            if let Some(record) = known
                && !self.links.has_connection(id)
                && self.shares()
            {
                match self.reach(record).await {
                    Ok(connection) => {
                        let began = tokio::time::Instant::now();
                        let before = self.links.status_of(id).progress;
                        self.run_connection(connection).await;
                        // No backoff for a connection that keeps breaking but makes progress each time.
                        if self.links.status_of(id).progress > before || began.elapsed() > LONGEST_PAUSE {
                            pauses = RETRY.build();
                        }
                    }
                    Err(why) => {
                        let mut is_news = false;
                        self.links.note(id, |status_of| {
                            is_news = status_of.last_error.as_ref() != Some(&why);
                            status_of.last_error = Some(why);
                        });
                        if is_news {
                            self.history.ledger.part_changed(Part::Devices);
                        }
                    }
                }
            }
            // Nothing to do while there is a connection, whichever side made it.
            while self.links.has_connection(id) {
                pauses = RETRY.build();
                if ended.changed().await.is_err() {
                    return;
                }
            }
            tokio::select! {
                () = tokio::time::sleep(pauses.next().unwrap_or(LONGEST_PAUSE)) => {}
                _ = woken.changed() => pauses = RETRY.build(),
            }
        }
    }

    /// Connects with a device: where it was last reached, or else wherever it says that it is, or was found.
    async fn reach(&self, record: DeviceRecord) -> Result<Connection, PeerFailure> {
        let Some(endpoint) = self.links.endpoint_if_any() else {
            return Err(LinkFailure::Other("this device has no key".into()).into());
        };
        let Some(device) = record.device else { return Err(LinkFailure::Other("it has no key".into()).into()) };
        let mut why = PeerFailure::from(LinkFailure::NoAddress);
        if let Some(address) = &record.reached {
            match reach_at(&endpoint, device.key, address, Duration::ZERO).await {
                Ok((connection, _)) => return Ok(connection),
                Err(last_error) => why = last_error,
            }
        }
        let found = self.links.status_of(device.id()).found;
        let mut addresses: Vec<&String> = Vec::new();
        for address in found.iter().chain(&device.addresses.value) {
            if Some(address) != record.reached.as_ref() && !addresses.contains(&address) {
                addresses.push(address);
            }
        }
        // Some may lead nowhere, and take their time to do so.
        let mut tries: FuturesUnordered<_> = addresses
            .into_iter()
            .zip(0..)
            .map(|(address, place)| reach_at(&endpoint, device.key, address, STAGGER * place))
            .collect();
        while let Some(tried) = tries.next().await {
            match tried {
                Ok((connection, address)) => {
                    if let Err(error) = self.history.store.note_reached(device.id(), address).await {
                        tracing::debug!(%error, "where a device was reached could not be noted");
                    }
                    return Ok(connection);
                }
                Err(last_error) => why = last_error,
            }
        }
        Err(why)
    }
}

/// Connects with the device that has this pin at one address, after so long. Gives the connection and the address.
async fn reach_at<'a>(
    endpoint: &TlsEndpoint,
    pin: Pin,
    address: &'a str,
    after: Duration,
) -> Result<(Connection, &'a str), PeerFailure> {
    tokio::time::sleep(after).await;
    let made = match tokio::time::timeout(CONNECTING, TcpStream::connect(address)).await {
        Ok(Ok(stream)) => endpoint.make(stream, Some(pin)).await,
        Ok(Err(error)) => Err(error),
        Err(_) => Err(std::io::ErrorKind::TimedOut.into()),
    };
    made.map(|connection| (connection, address))
        .map_err(|error| PeerFailure { address: Some(address.to_owned()), failure: (&error).into() })
}
