//! The connections to the person's other devices.
//!
//! * `pairing`: two devices meet for the first time
//! * `dialing`: the others are tried to be reached
//! * `drawing`: small pictures of what they send
//! * `connections`: connections are taken, and held until they end
//! * `network`: it comes and goes
//! * `own_key`: where the key of this device is kept
//! * `nearby`: devices of the same local network find each other
//! * `peer`: what an exchange with another device does to this device's records
//! * `relay`: the same with devices that are not there
//!
//! Nothing here runs before the first invitation, or the first joining.

mod connections;
pub mod devices;
mod dialing;
mod drawing;
mod nearby;
mod network;
mod own_key;
mod pairing;
mod peer;
pub mod relay;
pub mod sharing;

pub use pairing::{InviteError, JoinError};

use crate::background::Background;
use crate::clock::now;
use crate::fetching::Fetching;
use crate::history::History;
use crate::history::index::Part;
use crate::links::{ConnectionHandle, Invitation, LinkError, Links, SyncPause};
use crate::recalling::Recalling;
use crate::retention::Retention;
use std::path::Path;
use std::sync::Arc;
use yadori_core::DeviceId;
use yadori_core::shared::Device;
use yadori_core::sharing::Policy;
use yadori_link::connection::ConnectionCommand;
use yadori_link::identity::Identity;
use yadori_link::tls::{Linked, TlsEndpoint};
use yadori_store::StoreError;

/// The setting that holds what this device shares.
const POLICY: &str = "policy";
/// Key derivation context (BLAKE3) for hashed tombstones.
const TOMBSTONES: &str = "yadori 2026-11 seals of what was deleted long ago";
/// The setting that holds a pause of sharing.
const PAUSE: &str = "sync-pause";

/// Shares the history with the person's other devices.
pub struct DeviceSync {
    pub(crate) history: Arc<History>,
    fetching: Arc<Fetching>,
    recalling: Arc<Recalling>,
    retention: Arc<Retention>,
    links: Arc<Links>,
    background: Background,
    own_key: own_key::OwnKey,
    relaying: relay::Relaying,
    /// What is shared is changed one after the other.
    choosing: tokio::sync::Mutex<()>,
    /// Pictures are drawn one after the other.
    drawing: tokio::sync::Mutex<()>,
}

impl DeviceSync {
    /// Shares this history over these connections. The key of this device is kept among the records if they are encrypted,
    /// else in `folder`.
    pub fn new(
        (history, links): (Arc<History>, Arc<Links>),
        (folder, encrypted): (&Path, bool),
        fetching: Arc<Fetching>,
        recalling: Arc<Recalling>,
        retention: Arc<Retention>,
        background: Background,
    ) -> Self {
        let own_key = own_key::OwnKey::new(folder, encrypted);
        let (relaying, choosing, drawing) = Default::default();
        Self { history, fetching, recalling, retention, links, background, own_key, relaying, choosing, drawing }
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
        self.restore_relay().await?;
        if let Some(identity) = self.own_key.stored(&self.history.store).await? {
            self.open_endpoint(identity).await?;
        }
        Ok(())
    }

    async fn open_endpoint(&self, identity: Identity) -> Result<TlsEndpoint, LinkError> {
        self.history.store.set_own_key(identity.pin(), self.history.stamps.next()).await?;
        self.history.store.hash_tombstones_with(identity.secret_for(TOMBSTONES));
        let endpoint = TlsEndpoint::new(Arc::new(identity), Linked::default());
        *self.links.endpoint.lock() = Some(endpoint.clone());
        self.know_linked().await?;
        Ok(endpoint)
    }

    /// The TLS endpoint of this device; it gets its key with the first need of one.
    pub(crate) async fn endpoint(&self) -> Result<TlsEndpoint, LinkError> {
        let _alone = self.links.opening.lock().await;
        match self.links.endpoint_if_any() {
            Some(endpoint) => Ok(endpoint),
            None => self.open_endpoint(self.own_key.make(&self.history.store).await?).await,
        }
    }

    /// Other devices are linked than before: they are let in and dialled from now on, and no others.
    pub(crate) async fn know_linked(&self) -> Result<(), StoreError> {
        self.let_in_linked().await?;
        self.links.wake_up();
        self.relay_changed();
        self.history.ledger.part_changed(Part::Devices);
        self.history.ledger.status_changed();
        Ok(())
    }

    /// Only linked devices come in from now on; those that are linked no more are told, and cut off. Gives those that are.
    async fn let_in_linked(&self) -> Result<Vec<Device>, StoreError> {
        let Some(endpoint) = self.links.endpoint_if_any() else { return Ok(Vec::new()) };
        let _alone = self.links.knowing.lock().await;
        let linked = self.history.store.linked_devices().await?;
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
        self.history.ledger.part_changed(Part::Devices);
        self.history.ledger.status_changed();
        Ok(())
    }

    pub(crate) async fn put_sync_pause(&self, pause: Option<SyncPause>) -> Result<(), StoreError> {
        let value = pause.map(|pause| serde_json::to_string(&pause).unwrap_or_default());
        self.history.store.set_setting(PAUSE, value.as_deref()).await?;
        *self.links.pause.lock() = pause;
        self.relay_changed();
        if pause.is_some() {
            self.end_lines();
        }
        self.links.wake_up();
        self.history.ledger.part_changed(Part::Devices);
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
