//! The person's devices: which there are, inviting another, joining one, removing one.

use crate::clock::now;
use crate::history::index::Part;
use crate::links::PeerFailure;
use crate::sync::DeviceSync;
use crate::sync::relay::RelayStatus;
use crate::sync::{InviteError, JoinError};
use std::fmt;
use std::net::SocketAddr;
use std::sync::Arc;
use thiserror::Error;
use yadori_core::MillisSinceEpoch;
use yadori_core::amounts::{DAY, about};
use yadori_core::merge::Register;
use yadori_core::name::is_path;
use yadori_core::preview::one_line;
use yadori_core::{DeviceId, shared};
use yadori_store::{DeviceRecord, StoreError};

/// A clock that is off by more than this is worth a word: two minutes. By more than five, nothing is exchanged.
const CLOCK_MILLIS: u64 = 2 * 60 * 1000;

/// Who is away for longer may not come back: 180 days.
const LONG_AWAY: u64 = 180 * DAY;

/// Longest name of a device, in characters.
const LONGEST_NAME: usize = 100;

/// Why nothing was done with a device.
#[derive(Debug, Error)]
pub enum DeviceError {
    /// There is none of that name.
    #[error("there is no device “{0}”")]
    None(String),
    /// There are several.
    #[error("“{0}” may be any of several devices; name it by the beginning of its id")]
    Several(String),
    /// It is this one.
    #[error("that is this device itself; to let go of the others: yadori device leave")]
    Itself,
    /// A name that is none.
    #[error("a device's name has from 1 to {LONGEST_NAME} characters, on one line, and isn't . or ..")]
    Name,
    /// Another device has it.
    #[error("another device is called “{0}” already")]
    Taken(String),
    /// It has no key yet, by which the others would know it.
    #[error("this device is called what config.toml says until it is linked")]
    Unlinked,
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// How a device stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeviceState {
    /// It is this one.
    ThisOne,
    /// There is a connection with it.
    Connected,
    /// There is none.
    Away,
}

/// What a person should know of a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum DeviceNote {
    /// The device of this name introduced it.
    Introduced(String),
    /// Its clock is ahead by so many milliseconds, or behind.
    Clock(i64),
    /// There is no connection with it.
    Failure(PeerFailure),
    /// It has not been there for half a year.
    LongAway,
}

impl fmt::Display for DeviceNote {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Introduced(by) => write!(formatter, "introduced by {by}; it was never paired with this device"),
            Self::Clock(ahead) => {
                let way = if *ahead > 0 { "ahead of" } else { "behind" };
                write!(formatter, "its clock is {} {way} this one's", about(ahead.unsigned_abs()))
            }
            Self::Failure(failure) => failure.fmt(formatter),
            Self::LongAway => {
                formatter.write_str("away for more than half a year: if it will not come back, remove it")
            }
        }
    }
}

/// A device of the person.
#[derive(Clone, Debug)]
pub struct Device {
    /// Its id, once it has a key.
    pub id: Option<DeviceId>,
    /// Its name.
    pub name: String,
    /// How it stands.
    pub state: DeviceState,
    /// When there was last a connection with it.
    pub seen_at: Option<MillisSinceEpoch>,
    /// How many changes of this device it has not yet.
    pub behind: u64,
    /// How many changes of it this device has not yet.
    pub ahead: u64,
    /// Where it can be reached.
    pub addresses: Vec<String>,
    /// The device that introduced it, if it was not paired with this one.
    pub introduced_by: Option<String>,
    /// The devices that it introduced.
    pub introduced: Vec<String>,
    /// What a person should know of it.
    pub notes: Vec<DeviceNote>,
}

/// An invitation for another device.
#[derive(Clone, Debug)]
pub struct Invitation {
    /// Where this device can be reached.
    pub addresses: Vec<String>,
    /// The code to type there.
    pub code: String,
    /// Until when it is open.
    pub until: MillisSinceEpoch,
}

/// How it stands with sharing.
#[derive(Clone, Debug)]
pub struct SyncStatus {
    /// Where other devices are listened for.
    pub listening: Option<SocketAddr>,
    /// Whether sharing is paused.
    pub paused: bool,
    /// Until when; until it is resumed if not given.
    pub paused_until: Option<MillisSinceEpoch>,
    /// The devices.
    pub devices: Vec<Device>,
    /// Clips of which some content is on another device only.
    pub elsewhere: u64,
    /// How it stands with the relay, if there is one.
    pub relay: Option<RelayStatus>,
}

impl DeviceSync {
    /// This device and those that are linked with it.
    pub async fn devices(&self) -> Result<Vec<Device>, StoreError> {
        let latest = self.history.store.latest_change();
        let records = self.history.store.devices().await?;
        let shown = records.iter().filter(|record| record.own || is_linked(record));
        Ok(shown.map(|record| self.device_shown(record, &records, latest)).collect())
    }

    /// The device that is called so, or whose id begins so.
    pub async fn device_named(&self, name: &str) -> Result<Device, DeviceError> {
        let record = self.find_device(name).await?;
        Ok(self.device_shown(&record, &self.history.store.devices().await?, self.history.store.latest_change()))
    }

    fn device_shown(&self, record: &DeviceRecord, all: &[DeviceRecord], latest: u64) -> Device {
        let id = record.device.as_ref().map(shared::Device::id);
        let connected = id.is_some_and(|id| self.links.is_connected(id));
        let status_of = id.map(|id| self.links.status_of(id)).unwrap_or_default();
        let read = record.read.map_or(0, |(_, upto)| upto);
        let acknowledged = if connected { status_of.acknowledged } else { 0 };
        let mut notes = Vec::new();
        let introducer = record.introduced_by.and_then(|id| named(all, id)).filter(|_| is_linked(record));
        if let Some(introducer) = &introducer {
            notes.push(DeviceNote::Introduced(introducer.clone()));
        }
        if !record.own {
            if status_of.clock.unsigned_abs() > CLOCK_MILLIS {
                notes.push(DeviceNote::Clock(status_of.clock));
            }
            if let Some(last_error) = status_of.last_error.filter(|_| !connected) {
                notes.push(DeviceNote::Failure(last_error));
            }
            if !connected && record.seen_at.is_some_and(|seen| seen < now().minus(LONG_AWAY)) {
                notes.push(DeviceNote::LongAway);
            }
        }
        Device {
            id,
            name: record.name.clone(),
            state: match (record.own, connected) {
                (true, _) => DeviceState::ThisOne,
                (_, true) => DeviceState::Connected,
                (_, false) => DeviceState::Away,
            },
            seen_at: record.seen_at.filter(|_| !record.own),
            // What it has acknowledged last may not be on record yet.
            behind: if record.own { 0 } else { latest.saturating_sub(record.acknowledged.max(acknowledged)) },
            ahead: if record.own { 0 } else { status_of.latest.saturating_sub(read) },
            addresses: if record.own {
                self.link_addresses()
            } else {
                record.device.as_ref().map(|device| device.addresses.value.clone()).unwrap_or_default()
            },
            introduced_by: introducer,
            introduced: id.map(|id| introduced(all, id)).unwrap_or_default().into_iter().map(|one| one.name).collect(),
            notes,
        }
    }

    /// Invites another device.
    pub async fn invite_device(
        self: &Arc<Self>,
        seconds: Option<u64>,
        by_relay: bool,
    ) -> Result<Invitation, InviteError> {
        let (code, addresses, until) = self.invite(seconds, by_relay).await?;
        Ok(Invitation { addresses, code: code.to_string(), until })
    }

    /// Joins a device that has invited.
    pub async fn join_device(self: &Arc<Self>, address: &str, code: &str) -> Result<Device, JoinError> {
        let joined = self.join(address, code).await?;
        // Another device may have removed it again by now.
        let record = self.history.store.device(joined.id()).await?.ok_or(JoinError::Removed)?;
        let records = self.history.store.devices().await?;
        Ok(self.device_shown(&record, &records, self.history.store.latest_change()))
    }

    /// The device that is called so, or whose id begins so.
    pub(crate) async fn find_device(&self, name: &str) -> Result<DeviceRecord, DeviceError> {
        let wanted = name.trim().to_lowercase();
        let mut found = Vec::new();
        let records: Vec<DeviceRecord> =
            self.history.store.devices().await?.into_iter().filter(|record| record.own || is_linked(record)).collect();
        for record in &records {
            if record.name.to_lowercase() == wanted {
                found.push(record.clone());
            }
        }
        if found.is_empty() && wanted.len() >= 4 {
            let begins = |record: &&DeviceRecord| {
                record
                    .device
                    .as_ref()
                    .is_some_and(|device| device.id().to_string().starts_with(&wanted.replace('-', "")))
            };
            found.extend(records.iter().filter(begins).cloned());
        }
        match found.len() {
            0 => Err(DeviceError::None(one_line(name, 60))),
            1 => Ok(found.remove(0)),
            _ => Err(DeviceError::Several(one_line(name, 60))),
        }
    }

    /// Gives a device another name, on all devices.
    pub async fn rename_device(&self, name: &str, wanted: &str) -> Result<Vec<Device>, DeviceError> {
        let record = self.find_device(name).await?;
        let wanted = wanted.trim();
        if is_path(wanted)
            || wanted.is_empty()
            || wanted.chars().count() > LONGEST_NAME
            || wanted.chars().any(char::is_control)
        {
            return Err(DeviceError::Name);
        }
        let taken = self.history.store.devices().await?.into_iter().any(|other| {
            (other.own || is_linked(&other))
                && other.device != record.device
                && other.name.to_lowercase() == wanted.to_lowercase()
        });
        if taken {
            return Err(DeviceError::Taken(wanted.to_owned()));
        }
        let Some(mut device) = record.device else { return Err(DeviceError::Unlinked) };
        device.name = Register::new(self.history.stamps.next(), wanted.to_owned());
        if let Some(change) = self.history.store.note_device(&device).await? {
            self.history.ledger.changed(change);
            self.history.ledger.part_changed(Part::Devices);
        }
        Ok(self.devices().await?)
    }

    /// Removes a device: none of the others lets it in any more; with `with_introduced`, those that it introduced, and
    /// those that they did, go as well. What they have, they keep. Gives the one that was named.
    pub async fn remove_device(&self, name: &str, with_introduced: bool) -> Result<Device, DeviceError> {
        let record = self.find_device(name).await?;
        if record.own {
            return Err(DeviceError::Itself);
        }
        let all = self.history.store.devices().await?;
        let shown = self.device_shown(&record, &all, self.history.store.latest_change());
        let Some(device) = record.device else { return Err(DeviceError::None(one_line(name, 60))) };
        let mut going = vec![device];
        let mut place = 0;
        while with_introduced && place < going.len() {
            let more = introduced(&all, going[place].id()).into_iter().filter_map(|record| record.device);
            let more: Vec<shared::Device> = more.filter(|one| going.iter().all(|known| known.key != one.key)).collect();
            going.extend(more);
            place += 1;
        }
        for mut device in going {
            device.linked = Register::new(self.history.stamps.next(), false);
            if let Some(change) = self.history.store.note_device(&device).await? {
                self.history.ledger.changed(change);
            }
        }
        self.know_linked().await?;
        if let Err(error) = self.change_relay_secret().await {
            tracing::error!(%error, "the key for the relay could not be changed");
        }
        Ok(shown)
    }

    /// This device leaves the others. All keep what they have.
    pub async fn leave_devices(&self) -> Result<Vec<Device>, DeviceError> {
        let left: Vec<Device> =
            self.devices().await?.into_iter().filter(|device| device.state != DeviceState::ThisOne).collect();
        if let Some(mut own) = self.history.store.own_device().await? {
            own.linked = Register::new(self.history.stamps.next(), false);
            if let Some(change) = self.history.store.note_device(&own).await? {
                // Those that are there hear of it before they are let go of.
                self.history.ledger.changed(change);
                let told = self.told_all(change);
                let _ = tokio::time::timeout(std::time::Duration::from_secs(2), told).await;
            }
        }
        self.let_go_of_all().await?;
        Ok(left)
    }

    /// Waits until all devices that are connected have this device's feed up to this number.
    pub(crate) async fn told_all(&self, change: u64) {
        let mut news = self.links.news.subscribe();
        while self.links.connected().into_iter().any(|device| self.links.status_of(device).acknowledged < change) {
            if news.changed().await.is_err() {
                return;
            }
        }
    }

    /// How it stands with sharing.
    pub async fn sync_status(&self) -> Result<SyncStatus, StoreError> {
        let pause = self.links.pause().filter(|pause| pause.until.is_none_or(|until| until > now()));
        Ok(SyncStatus {
            listening: self.links.listening(),
            paused: pause.is_some(),
            paused_until: pause.and_then(|pause| pause.until),
            devices: self.devices().await?,
            elsewhere: self.history.store.count_elsewhere().await?,
            relay: self.known_relay_status(),
        })
    }
}

fn is_linked(record: &DeviceRecord) -> bool {
    !record.own && record.device.as_ref().is_some_and(|device| device.linked.value)
}

fn named(all: &[DeviceRecord], id: DeviceId) -> Option<String> {
    all.iter()
        .find(|record| record.device.as_ref().is_some_and(|device| device.id() == id))
        .map(|record| record.name.clone())
}

/// The linked devices that this one introduced here.
fn introduced(all: &[DeviceRecord], by: DeviceId) -> Vec<DeviceRecord> {
    all.iter().filter(|record| is_linked(record) && record.introduced_by == Some(by)).cloned().collect()
}
