//! Devices that never meet: what they tell each other waits at a relay.
//!
//! One task keeps to the relay, for as long as the group has a place at one. It waits for envelopes and takes them in as if their
//! sender had told them on a connection, with the same cursor; and it puts this device's feed into its outbox for those of the
//! others that are not connected. What all of them have acknowledged, on a connection or in a letter, is not put there, or is removed.
//!
//! * `arrive`: how it is let in, also when the group has another key than before
//! * `post`: what this device puts there
//! * `fetch`: what it takes from there
//! * `state`: how far both have come

mod arrive;
mod fetch;
mod meeting;
mod post;
pub(super) mod state;

use crate::clock::now;
use crate::history::index::Part;
use crate::links::LinkError;
use crate::sync::DeviceSync;
use crate::sync::dialing::{LONGEST_PAUSE, RETRY};
use backon::BackoffBuilder;
use parking_lot::Mutex;
use state::RelayState;
use std::collections::BTreeSet;
use std::convert::Infallible;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};
use thiserror::Error;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use yadori_core::merge::Register;
use yadori_core::shared;
use yadori_core::{DeviceId, MillisSinceEpoch};
use yadori_link::connection::ConnectionCommand;
use yadori_link::frame::RelayPlace;
use yadori_link::group::{Group, GroupSecret};
use yadori_link::identity::{Identity, Pin};
use yadori_link::ranges::ChangeRanges;
pub use yadori_link::relay::{MailboxUsage, RelayError};
use yadori_link::relay::{RelayClient, RelayInvitation};
use yadori_link::tls::TlsEndpoint;
use yadori_store::{DeviceRecord, StoreError};

/// The setting that holds the group's place.
const PLACE: &str = "relay";
/// The setting that holds how far this device has come there.
const STATE: &str = "relay-state";

/// Why the group has no place at a relay.
#[derive(Debug, Error)]
pub enum RelaySetError {
    /// It has one.
    #[error("there is a relay already: {0}; leave it first")]
    Set(String),
    /// It has none.
    #[error("there is no relay")]
    None,
    /// The relay does not do it.
    #[error(transparent)]
    Relay(#[from] RelayError),
    /// This device cannot be linked.
    #[error(transparent)]
    Link(#[from] LinkError),
    /// No random numbers.
    #[error("the system gives no random numbers: {0}")]
    Randomness(#[from] getrandom::Error),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What keeps the relay from being used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RelayFailureKind {
    /// It does not answer.
    Unreachable,
    /// The mailbox of the devices is full.
    Full,
    /// It does not know the mailbox, or this device has missed a change of its key.
    NoMailbox,
    /// It says no for another reason.
    Refused,
    /// It lost what came after some earlier time.
    WentBack,
    /// Anything else.
    Other,
}

/// Why the relay cannot be used, or does not do what is asked.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("{message}")]
pub struct RelayFailure {
    /// What it is.
    pub kind: RelayFailureKind,
    /// In English.
    pub message: String,
}

impl From<&AtError> for RelayFailure {
    fn from(error: &AtError) -> Self {
        let kind = match error {
            AtError::Relay(RelayError::Unreachable(_)) => RelayFailureKind::Unreachable,
            AtError::Relay(error) if error.is("full") => RelayFailureKind::Full,
            AtError::Relay(error) if error.is("no-mailbox") => RelayFailureKind::NoMailbox,
            AtError::Relay(RelayError::Refused { .. }) => RelayFailureKind::Refused,
            AtError::KeyMissed => RelayFailureKind::NoMailbox,
            AtError::WentBack => RelayFailureKind::WentBack,
            AtError::Relay(_) | AtError::Store(_) | AtError::Other(_) | AtError::Left => RelayFailureKind::Other,
        };
        Self { kind, message: error.to_string() }
    }
}

/// How it stands with the relay.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RelayStatus {
    /// Its address.
    pub address: String,
    /// Whether it answers.
    pub answers: bool,
    /// Why it does not, or does not do what is asked.
    pub last_error: Option<RelayFailure>,
    /// What was wrong with an envelope, the last time that one was not believed; and how many there were since the start.
    pub last_lie: Option<String>,
    /// How many envelopes were not believed since the start.
    pub lies: u32,
    /// Envelopes of this device that wait there.
    pub waiting: u64,
    /// Up to which change this device's feed was put there, or is known to all.
    pub posted_upto: u64,
    /// How many changes are still to be put there.
    pub behind: u64,
    /// When something was last put there.
    pub posted_at: Option<MillisSinceEpoch>,
    /// When something last came from there.
    pub fetched_at: Option<MillisSinceEpoch>,
    /// What the mailbox holds, as far as it was asked.
    pub usage: Option<MailboxUsage>,
}

/// The group's place at a relay, and what is done there.
#[derive(Default)]
pub(super) struct Relaying {
    /// The place.
    place: Mutex<RelayPlace>,
    status: Mutex<RelayStatus>,
    state: tokio::sync::Mutex<RelayState>,
    /// Changes that came from there: who reads from there knows them.
    echoes: Mutex<ChangeRanges>,
    /// The place has changed, or whether anything is to be done there.
    changed: Notify,
    /// Something is to be said to the others, though nothing was done here.
    say: Notify,
}

/// What the task works with.
struct At {
    group: Group,
    endpoint: TlsEndpoint,
    client: RelayClient,
    /// This is left. What is being asked of the relay is broken off then; what is being asked of the records never is.
    left: CancellationToken,
}

impl At {
    /// What the relay answers, or something else that is waited for, unless this is left meanwhile.
    async fn unless_left<T, E: Into<AtError>>(&self, asked: impl Future<Output = Result<T, E>>) -> Result<T, AtError> {
        tokio::select! {
            biased;
            () = self.left.cancelled() => Err(AtError::Left),
            answer = asked => answer.map_err(Into::into),
        }
    }

    fn identity(&self) -> &Identity {
        self.endpoint.identity()
    }
}

/// What is said of a relay that knows less than before.
const WENT_BACK: &str = "it has gone back to an earlier time, and lost what came since";

/// Why the task begins again.
#[derive(Debug, Error)]
enum AtError {
    #[error(transparent)]
    Relay(#[from] RelayError),
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("{0}")]
    Other(String),
    #[error(
        "the relay does not know the key of this device: the others have another one since a device was removed, \
         and nothing was left here for this one, so it learns the key when it meets one of them directly; or the mailbox was erased"
    )]
    KeyMissed,
    #[error("{WENT_BACK}")]
    WentBack,
    #[error("this place was left")]
    Left,
}

impl DeviceSync {
    /// Takes up the place that the group had.
    pub(super) async fn restore_relay(&self) -> Result<(), StoreError> {
        let setting = self.history.store.setting(PLACE).await?;
        if let Some(place) = setting.and_then(|value| state::read_place(&value)) {
            *self.relaying.place.lock() = place;
        }
        let state = self.history.store.setting(STATE).await?;
        if let Some(state) = state.and_then(|value| serde_json::from_str(&value).ok()) {
            *self.relaying.state.lock().await = state;
        }
        Ok(())
    }

    /// What is known of the group's place.
    fn place(&self) -> RelayPlace {
        self.relaying.place.lock().clone()
    }

    /// The group's place, if it has one.
    pub(super) fn group(&self) -> Option<Group> {
        self.relaying.place.lock().value.clone()
    }

    /// How it stands with the relay, as far as that is known here; nothing if there is none.
    pub(super) fn known_relay_status(&self) -> Option<RelayStatus> {
        let group = self.group()?;
        let status = self.relaying.status.lock().clone();
        let behind = self.history.ledger.changes().borrow().saturating_sub(status.posted_upto);
        Some(RelayStatus { address: group.address.clone(), behind, ..status })
    }

    /// The same, and what the relay says of the mailbox.
    pub async fn relay_status(&self) -> Option<RelayStatus> {
        let (group, mut status) = (self.group()?, self.known_relay_status()?);
        if let Ok(client) = RelayClient::new(&group.address, group.pin) {
            status.usage =
                tokio::time::timeout(Duration::from_secs(5), client.usage(&group)).await.ok().and_then(Result::ok);
        }
        Some(status)
    }

    /// Gives the group a place at a relay, and tells the devices that are connected. `invitation` is what its owner gave.
    ///
    /// # Errors
    /// When there is one already, or the relay does not open a mailbox.
    pub async fn set_relay(&self, invitation: &str) -> Result<RelayStatus, RelaySetError> {
        let invitation: RelayInvitation = invitation.parse()?;
        let _alone = self.choosing.lock().await;
        if let Some(group) = self.group() {
            return Err(RelaySetError::Set(group.address));
        }
        self.endpoint().await?;
        let mut mailbox = [0; 16];
        getrandom::fill(&mut mailbox)?;
        let group = Group {
            address: invitation.address.clone(),
            pin: invitation.pin,
            mailbox,
            epoch: 1,
            secret: GroupSecret::random()?,
            without: self.removed_pins().await?,
        };
        let client = RelayClient::new(&group.address, group.pin)?;
        client.open_mailbox(&invitation.token, &group).await?;
        self.put_place(Register::new(self.history.stamps.next(), Some(group))).await?;
        self.relay_status().await.ok_or(RelaySetError::None)
    }

    /// The group leaves its relay; the mailbox there is erased, if the relay answers. Tells whether it was.
    ///
    /// # Errors
    /// When there is none.
    pub async fn remove_relay(&self) -> Result<bool, RelaySetError> {
        let _alone = self.choosing.lock().await;
        let group = self.group().ok_or(RelaySetError::None)?;
        let client = RelayClient::new(&group.address, group.pin)?;
        let erased = client.erase(&group).await;
        if let Err(error) = &erased {
            tracing::warn!(%error, "the mailbox at the relay could not be erased; what lies in it expires there");
        }
        self.put_place(Register::new(self.history.stamps.next(), None)).await?;
        Ok(erased.is_ok())
    }

    /// Forgets the place for this device alone: it belongs to the others no more.
    pub(super) async fn forget_relay(&self) -> Result<(), StoreError> {
        *self.relaying.place.lock() = Register::default();
        self.history.store.set_setting(PLACE, None).await?;
        self.history.store.set_setting(STATE, None).await?;
        *self.relaying.state.lock().await = RelayState::default();
        self.relaying.changed.notify_one();
        Ok(())
    }

    /// Makes another secret, which devices that were removed are never told.
    pub(super) async fn change_relay_secret(&self) -> Result<(), RelaySetError> {
        let Some(group) = self.group() else { return Ok(()) };
        let next = group.with_new_secret(self.removed_pins().await?)?;
        self.put_place(Register::new(self.history.stamps.next(), Some(next))).await?;
        Ok(())
    }

    /// Makes another secret, if a device knows this one that was removed since it was made.
    async fn shut_out_removed(&self) -> Result<(), RelaySetError> {
        let removed = self.removed_pins().await?;
        if self.group().is_some_and(|group| !removed.is_subset(&group.without)) {
            self.change_relay_secret().await?;
        }
        Ok(())
    }

    async fn removed_pins(&self) -> Result<BTreeSet<Pin>, StoreError> {
        let all = self.history.store.devices().await?.into_iter().filter(|record| !record.own);
        let removed = all.filter_map(|record| record.device).filter(shared::Device::is_removed);
        Ok(removed.map(|device| device.key).collect())
    }

    /// Another device knows of this place: if that is the later choice, it is taken up, and told on.
    pub(super) async fn hear_of_relay(&self, heard: RelayPlace) -> Result<(), StoreError> {
        self.history.stamps.observe(heard.stamp);
        if heard <= *self.relaying.place.lock() {
            return Ok(());
        }
        self.put_place(heard).await?;
        if let Err(error) = self.shut_out_removed().await {
            tracing::error!(%error, "the key for the relay could not be changed");
        }
        Ok(())
    }

    async fn put_place(&self, place: RelayPlace) -> Result<(), StoreError> {
        // What is being asked of the relay at the old place is broken off: it may take long.
        self.relaying.changed.notify_one();
        if let Some(group) = self.group() {
            let mut state = self.relaying.state.lock().await;
            state.leave(&group);
            self.put_state(&state).await?;
        }
        self.history.store.set_setting(PLACE, Some(&state::written_place(&place))).await?;
        *self.relaying.place.lock() = place;
        *self.relaying.status.lock() = RelayStatus::default();
        for device in self.links.connected() {
            self.tell_of_relay(device).await?;
        }
        self.relaying.changed.notify_one();
        self.history.ledger.part_changed(Part::Devices);
        self.history.ledger.status_changed();
        Ok(())
    }

    /// Tells a device that is connected of the group's place, unless it was removed by somebody.
    pub(super) async fn tell_of_relay(&self, device: DeviceId) -> Result<(), StoreError> {
        let place = self.place();
        if place.stamp == yadori_core::Stamp::NEVER {
            return Ok(());
        }
        let known = self.history.store.device(device).await?.and_then(|record| record.device);
        let Some(known) = known.filter(|known| known.linked.value) else { return Ok(()) };
        if place.value.as_ref().is_some_and(|group| group.without.contains(&known.key)) {
            return Ok(());
        }
        if let Some(commands) = self.links.commands(device) {
            let _ = commands.try_send(ConnectionCommand::Tell(Box::new(place)));
        }
        Ok(())
    }

    /// The devices with which this one is linked.
    async fn linked_records(&self) -> Result<Vec<DeviceRecord>, StoreError> {
        let all = self.history.store.devices().await?.into_iter();
        let is_linked = |record: &DeviceRecord| record.device.as_ref().is_some_and(|device| device.linked.value);
        Ok(all.filter(|record| !record.own && is_linked(record)).collect())
    }

    /// The pins of these.
    async fn linked_pins(&self) -> Result<Vec<Pin>, StoreError> {
        Ok(self.linked_records().await?.into_iter().filter_map(|record| Some(record.device?.key)).collect())
    }

    /// Sends and fetches by way of the relay, whenever there is one. Goes on for ever.
    pub(crate) async fn keep_relay(self: &Arc<Self>) {
        let mut pauses = RETRY.build();
        loop {
            let Some(at) = self.at_relay() else {
                let changed = self.relaying.changed.notified();
                if self.group().is_some() {
                    // A pause that is over is noticed, too.
                    let _ = tokio::time::timeout(LONGEST_PAUSE, changed).await;
                } else {
                    changed.await;
                }
                continue;
            };
            let began = Instant::now();
            let is_left = AtomicBool::new(false);
            let leaving = async {
                self.relaying.changed.notified().await;
                is_left.store(true, Ordering::Relaxed);
                at.left.cancel();
                std::future::pending::<()>().await;
            };
            let error = tokio::select! {
                () = leaving => continue,
                error = self.work_at(&at) => error,
            };
            // What went wrong at a place that was just left says nothing of the next one.
            if matches!(error, AtError::Left) || is_left.into_inner() {
                continue;
            }
            tracing::info!(%error, "the relay cannot be used at the moment");
            self.note_relay(|status| {
                status.answers = false;
                status.last_error = Some((&error).into());
            });
            // One that answers, and fails again at once, is not asked without end.
            if began.elapsed() > LONGEST_PAUSE {
                pauses = RETRY.build();
            }
            let pause = pauses.next().unwrap_or(LONGEST_PAUSE);
            let _ = tokio::time::timeout(pause, self.relaying.changed.notified()).await;
        }
    }

    fn at_relay(&self) -> Option<At> {
        let group = self.group().filter(|_| self.shares())?;
        let endpoint = self.links.endpoint_if_any()?;
        let client = RelayClient::new(&group.address, group.pin).ok()?.patient();
        Some(At { group, endpoint, client, left: CancellationToken::new() })
    }

    /// The place or the pause has changed.
    pub(super) fn relay_changed(&self) {
        self.relaying.changed.notify_one();
    }

    fn note_relay(&self, change: impl FnOnce(&mut RelayStatus)) {
        let is_new = {
            let mut status = self.relaying.status.lock();
            let before = status.clone();
            change(&mut status);
            *status != before
        };
        if is_new {
            self.history.ledger.part_changed(Part::Devices);
        }
    }

    /// Works at a place until that fails, or it is left.
    async fn work_at(self: &Arc<Self>, at: &At) -> AtError {
        let numbers = match self.arrive(at).await {
            Ok(numbers) => numbers,
            Err(error) => return error,
        };
        // When one of them fails, the others end where they wait for something.
        let first = Mutex::new(None);
        let ends = |failed: Result<Infallible, AtError>| {
            let Err(error) = failed;
            first.lock().get_or_insert(error);
            at.left.cancel();
        };
        tokio::join!(
            async {
                ends(self.fetch_all(at, &numbers).await);
            },
            async {
                ends(self.post_all(at).await);
            },
            async {
                ends(self.fetch_wanted(at).await);
            },
        );
        self.links.from_relay.is_there(false);
        self.links.fetched.send_modify(|times| *times += 1);
        first.into_inner().unwrap_or(AtError::Left)
    }

    async fn put_state(&self, state: &RelayState) -> Result<(), StoreError> {
        let value = serde_json::to_string(state).unwrap_or_default();
        self.history.store.set_setting(STATE, Some(&value)).await
    }

    /// What was said last is from now.
    fn note_posted(&self, waiting: u64) {
        self.note_relay(|status| {
            status.waiting = waiting;
            status.posted_at = Some(now());
        });
    }
}
