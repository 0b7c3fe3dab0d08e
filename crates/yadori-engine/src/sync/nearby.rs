//! Devices of the same local network find each other, if that is switched on: DNS-SD (RFC 6763) over multicast DNS
//! (RFC 6762).
//!
//! What is told there is nobody's secret and proves nothing: the beginning of the device's id, its whole id, and
//! where it listens, but not its name. Whoever answers at such an address must still hold the right key.

use crate::sync::DeviceSync;
use mdns_sd::{ResolvedService, ServiceDaemon, ServiceEvent, ServiceInfo};
use std::sync::Arc;
use yadori_core::DeviceId;

/// What this service is called on a local network.
const SERVICE: &str = "_yadori._tcp.local.";

/// Under which name the id is told.
const ID: &str = "id";

/// How long to wait before it is tried again, when the system did not let it.
const AGAIN: std::time::Duration = std::time::Duration::from_secs(10);

/// Addresses of one device that are tried.
const ADDRESSES: usize = 8;

/// It says good-bye to the network when it goes.
struct Present(ServiceDaemon);

impl Drop for Present {
    fn drop(&mut self) {
        let _ = self.0.shutdown();
    }
}

impl DeviceSync {
    /// Tells the local network where this device listens, and looks for the others there, if that is switched on.
    /// Ends when the task is dropped.
    pub(crate) async fn look_around(self: &Arc<Self>) {
        if !self.links.find {
            return;
        }
        let mut woken = self.links.wake.subscribe();
        loop {
            woken.mark_unchanged();
            let addresses = self.link_addresses();
            let looking = async {
                match self.look_around_from(&addresses).await {
                    Ok(()) => {}
                    Err(error) => {
                        tracing::warn!(%error, "devices of the local network cannot be found at the moment");
                        tokio::time::sleep(AGAIN).await;
                    }
                }
            };
            // Until this device is somewhere else.
            let moved = async {
                while woken.changed().await.is_ok() {
                    if self.link_addresses() != addresses {
                        return;
                    }
                }
            };
            tokio::select! {
                () = looking => {}
                () = moved => {}
            }
        }
    }

    async fn look_around_from(&self, addresses: &[String]) -> Result<(), mdns_sd::Error> {
        let (Some(endpoint), Some(listening)) = (self.links.endpoint_if_any(), self.links.listening()) else {
            // It has no others yet.
            return std::future::pending().await;
        };
        let present = Present(ServiceDaemon::new()?);
        // When the network changes, the kernel says so, and this begins anew.
        present.0.set_ip_check_interval(0)?;
        let id = endpoint.identity().id();
        let host = format!("yadori-{}.local.", id.fingerprint());
        let properties = [(ID, id.to_string())];
        let ips: Vec<std::net::IpAddr> =
            addresses.iter().filter_map(|address| Some(address.parse::<std::net::SocketAddr>().ok()?.ip())).collect();
        let told = ServiceInfo::new(SERVICE, &id.fingerprint(), &host, &ips[..], listening.port(), &properties[..])?;
        present.0.register(told)?;
        let events = present.0.browse(SERVICE)?;
        while let Ok(event) = events.recv_async().await {
            if let ServiceEvent::ServiceResolved(found) = event {
                self.note_found(id, &found).await;
            }
        }
        Ok(())
    }

    /// Notes where a device was found, if it belongs to the person.
    async fn note_found(&self, own: DeviceId, found: &ResolvedService) {
        let id = found.get_property_val_str(ID).unwrap_or_default();
        let linked = self.history.store.linked_devices().await.unwrap_or_default();
        let Some(id) = linked.iter().map(yadori_core::shared::Device::id).find(|device| device.to_string() == id)
        else {
            return;
        };
        if id == own {
            return;
        }
        let at = |ip| std::net::SocketAddr::new(ip, found.port).to_string();
        let mut addresses: Vec<String> = found.addresses.iter().map(|ip| at(ip.to_ip_addr())).collect();
        addresses.sort_unstable();
        addresses.truncate(ADDRESSES);
        let is_news = self.links.status_of(id).found != addresses;
        if is_news {
            tracing::info!(device = %id, "found a device on the local network");
            self.links.note(id, |status_of| status_of.found = addresses);
        }
        // It may be back where it was before.
        if !self.links.has_connection(id) {
            self.links.wake_up();
        }
    }
}
