//! Two devices meet for the first time: one shows a code, the other is given it.

use super::connections::why_over;
use super::{Invitation, LinkError};
use crate::clock::{latest_believed, now};
use crate::sync::DeviceSync;
use std::collections::BTreeMap;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::net::TcpStream;
use yadori_core::MillisSinceEpoch;
use yadori_core::merge::Register;
use yadori_core::shared::{Device, Item, MOST_DEVICES};
use yadori_link::code::{Code, NotACode};
use yadori_link::connection::{self, receive, receive_devices, say, say_devices};
use yadori_link::exchange::Ending;
use yadori_link::failure::LinkFailure;
use yadori_link::frame::{Bye, Hello, VERSIONS};
use yadori_link::identity::Pin;
use yadori_link::pairing::{Pairing, Side};
use yadori_link::relay::RelayError;
use yadori_link::relay::meeting::Meeting;
use yadori_link::tls::Connection;
use yadori_store::StoreError;

/// How long an invitation is open if nothing else is said: ten minutes.
const OPEN_SECONDS: u64 = 600;

/// Longest time that an invitation may be open: an hour.
const LONGEST_SECONDS: u64 = 3600;

/// What a device says in the place of its part of a pairing to one whose key it has removed.
const REMOVED: &[u8] = b"removed";

/// How long the other device may take to answer.
const CONNECTING: Duration = Duration::from_secs(10);

/// Why nobody could be invited.
#[derive(Debug, Error)]
pub enum InviteError {
    /// No time at all, or too much.
    #[error("an invitation is open from ten seconds to an hour")]
    Length,
    /// The system gives no random numbers.
    #[error("the system gives no random numbers")]
    Randomness,
    /// There is no relay by way of which to invite.
    #[error("there is no relay by way of which to meet")]
    NoRelay,
    /// The relay does not do it.
    #[error(transparent)]
    Relay(#[from] RelayError),
    /// Something else.
    #[error(transparent)]
    Link(#[from] LinkError),
}

/// Why this device could not join another.
#[derive(Debug, Error)]
pub enum JoinError {
    /// The code is none.
    #[error(transparent)]
    Code(#[from] NotACode),
    /// Nobody answers there.
    #[error("{address} cannot be reached: {}", LinkFailure::from(source))]
    Unreachable {
        /// The address.
        address: String,
        /// Why.
        source: io::Error,
    },
    /// It answers, but takes no invitations now.
    #[error("no invitation is open at {0}")]
    NotInvited(String),
    /// The code is wrong.
    #[error("the code is not the one that the other device shows")]
    WrongCode,
    /// This device was removed there, and is linked with others still.
    #[error("the other device has removed this one (yadori device leave, and then join it again)")]
    Removed,
    /// The same, as it is told by the device with this key.
    #[error("the other device has removed this one")]
    RemovedBy(Pin),
    /// There are as many devices as can be linked.
    #[error("{MOST_DEVICES} devices are linked already, and more cannot be: remove one that is not used any more")]
    TooMany,
    /// Their clocks or their versions are too far apart.
    #[error("{}", why_over(.0).map_or_else(|| "it is over".to_owned(), |why| why.to_string()))]
    Unlike(Ending),
    /// It is this very device.
    #[error("that is this device itself")]
    Itself,
    /// The relay by way of which they meet does not do it.
    #[error(transparent)]
    Relay(#[from] RelayError),
    /// They meet by way of one relay, and this device's group is at another.
    #[error("this device has another relay, {0} (yadori relay remove)")]
    OtherRelay(String),
    /// The connection broke.
    #[error("the other device did not go on: {}", LinkFailure::from(.0))]
    Broken(io::Error),
    /// Something else.
    #[error(transparent)]
    Link(#[from] LinkError),
    /// The records do not answer.
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl DeviceSync {
    /// Invites another device, which is met by way of the relay if that is asked for. Gives the code, where this device can be
    /// reached, and until when.
    pub async fn invite(
        self: &Arc<Self>,
        seconds: Option<u64>,
        by_relay: bool,
    ) -> Result<(Code, Vec<String>, MillisSinceEpoch), InviteError> {
        let seconds = seconds.unwrap_or(OPEN_SECONDS);
        if !(10..=LONGEST_SECONDS).contains(&seconds) {
            return Err(InviteError::Length);
        }
        let mut random = [0; 5];
        getrandom::fill(&mut random).map_err(|_| InviteError::Randomness)?;
        let code = Code::new(random);
        self.endpoint().await?;
        // Where they meet at the relay, nobody needs to come here.
        if !by_relay {
            self.listen_for_devices().await?;
        }
        let meeting = match self.group() {
            Some(group) if by_relay => Some(Meeting::open(&group, seconds).await?),
            None if by_relay => return Err(InviteError::NoRelay),
            _ => None,
        };
        let until = now().plus(seconds * 1000);
        *self.links.invitation.lock() = Some(Invitation { code: code.clone(), until, tries: BTreeMap::new() });
        if let Some(meeting) = meeting {
            let address = meeting.to_string();
            self.wait_at(meeting, code.clone());
            return Ok((code, vec![address], until));
        }
        self.tell_addresses().await.map_err(LinkError::from)?;
        Ok((code, self.link_addresses(), until))
    }

    /// Whether an invitation is open to somebody from there.
    pub(super) fn has_invitation(&self, from: SocketAddr) -> bool {
        let invitation = self.links.invitation.lock();
        invitation.as_ref().is_some_and(|invitation| invitation.is_open_to(source_of(from), now()))
    }

    /// The code of the invitation that is open to somebody from there.
    pub(super) fn open_code(&self, from: SocketAddr) -> Option<Code> {
        let open = self.links.invitation.lock();
        let invitation = open.as_ref().filter(|invitation| invitation.is_open_to(source_of(from), now()))?;
        Some(invitation.code.clone())
    }

    /// Checks a proof, which is one try. Tells whether it was right, and the invitation still open: of many that try at
    /// once, none has more tries than there are.
    fn try_code(&self, code: &Code, from: SocketAddr, is_right: impl FnOnce() -> bool) -> bool {
        let mut open = self.links.invitation.lock();
        let source = source_of(from);
        let still_open =
            |invitation: &&mut Invitation| invitation.code == *code && invitation.is_open_to(source, now());
        let Some(invitation) = open.as_mut().filter(still_open) else { return false };
        if is_right() {
            *open = None;
            return true;
        }
        *invitation.tries.entry(source).or_default() += 1;
        false
    }

    /// Somebody answers the invitation.
    pub(super) async fn invited(self: &Arc<Self>, connection: Connection, from: SocketAddr) {
        match self.meet(connection, from).await {
            Ok(device) => {
                tracing::info!(%from, device = device.name.value, "a device was linked");
                self.links.wake_up();
            }
            Err(error) => {
                if let Some(left_out) = self.links.strangers_log.admit() {
                    tracing::warn!(%from, %error, left_out, "somebody tried to be linked");
                }
            }
        }
    }

    async fn meet(self: &Arc<Self>, connection: Connection, from: SocketAddr) -> Result<Device, JoinError> {
        self.meet_on(connection, from).await.map(|(device, _)| device)
    }

    /// The same; gives the connection back.
    pub(super) async fn meet_on(
        self: &Arc<Self>,
        mut connection: Connection,
        from: SocketAddr,
    ) -> Result<(Device, Connection), JoinError> {
        let endpoint = self.endpoint().await?;
        let broken = JoinError::Broken;
        let first = receive(&mut connection).await.map_err(broken)?;
        if self.was_removed(&connection.peer).await? {
            let _ = say(&mut connection, REMOVED).await;
            return Err(JoinError::Removed);
        }
        let code = self.open_code(from);
        // Without an invitation the same is done with a code that nobody has.
        let code = match code {
            Some(code) => code,
            None => {
                let mut random = [0; 5];
                getrandom::fill(&mut random).map_err(|_| JoinError::WrongCode)?;
                Code::new(random)
            }
        };
        let (pairing, second) = Pairing::begin(Side::Invites, &code, &connection.peer, &endpoint.identity().pin());
        // What is no message of a pairing tells nothing of the code, and is no try; nor is breaking off before the proof.
        let agreed = pairing.agree(&first).map_err(|_| JoinError::WrongCode)?;
        say(&mut connection, &second).await.map_err(broken)?;
        let proof = receive(&mut connection).await.map_err(broken)?;
        if !self.try_code(&code, from, || agreed.check(&proof).is_ok()) {
            let _ = say(&mut connection, &[]).await;
            return Err(JoinError::WrongCode);
        }
        say(&mut connection, &agreed.proof()).await.map_err(broken)?;
        self.greet(&mut connection).await?;
        let told = receive_devices(&mut connection).await.map_err(broken)?;
        let device = self.link_with(&connection, told, None).await?;
        say_devices(&mut connection, self.introduction().await?).await.map_err(broken)?;
        Ok((device, connection))
    }

    /// Whether the device with this key was removed: the key is of no use any more.
    async fn was_removed(&self, key: &Pin) -> Result<bool, StoreError> {
        let known = self.history.store.device(yadori_core::DeviceId::of_key(key)).await?;
        Ok(known.and_then(|record| record.device).is_some_and(|known| known.is_removed()))
    }

    /// Joins the device at `address`, which shows `code`. Gives what is known of it.
    pub async fn join(self: &Arc<Self>, address: &str, code: &str) -> Result<Device, JoinError> {
        match self.join_once(address, code).await {
            // The other has proved its key. If this device is linked with it, or with nobody, the key that was removed is
            // of no use to anybody: another is made, and nothing is lost.
            Err(JoinError::RemovedBy(key)) => {
                let linked = self.history.store.linked_devices().await?;
                if !linked.is_empty() && linked.iter().all(|device| device.key != key) {
                    return Err(JoinError::Removed);
                }
                self.let_go_of_all().await?;
                self.join_once(address, code).await
            }
            done => done,
        }
    }

    async fn join_once(self: &Arc<Self>, address: &str, code: &str) -> Result<Device, JoinError> {
        let code: Code = code.parse()?;
        if Meeting::is_meant(address) {
            return self.join_by_relay(&address.parse()?, &code).await;
        }
        let address = match address.trim() {
            // A port that is not said is the usual one.
            address if address.parse::<std::net::Ipv4Addr>().is_ok() || !address.contains(':') => {
                format!("{address}:7437")
            }
            address => address.to_owned(),
        };
        let endpoint = self.endpoint().await?;
        if let Err(error) = self.listen_for_devices().await {
            tracing::warn!(error = yadori_core::with_causes(&error), "other devices cannot reach this one");
        }
        self.tell_addresses().await?;
        let unreachable = |source| JoinError::Unreachable { address: address.clone(), source };
        let stream = tokio::time::timeout(CONNECTING, TcpStream::connect(&address))
            .await
            .map_err(|_| unreachable(io::ErrorKind::TimedOut.into()))?
            .map_err(unreachable)?;
        let not_invited = |_| JoinError::NotInvited(address.clone());
        let connection = endpoint.make(stream, None).await.map_err(not_invited)?;
        let (device, _) = self.join_on(connection, &code, &address, Some(&address)).await?;
        self.links.wake_up();
        Ok(device)
    }

    /// Joins the device at the other end, which is at `address` for whoever reads it, and was `reached` there. Gives what is known
    /// of it, and the connection back.
    pub(super) async fn join_on(
        self: &Arc<Self>,
        mut connection: Connection,
        code: &Code,
        address: &str,
        reached: Option<&str>,
    ) -> Result<(Device, Connection), JoinError> {
        let not_invited = |_| JoinError::NotInvited(address.to_owned());
        let (own, other) = (self.endpoint().await?.identity().pin(), connection.peer);
        if own == other {
            return Err(JoinError::Itself);
        }
        let (pairing, first) = Pairing::begin(Side::Joins, code, &own, &other);
        say(&mut connection, &first).await.map_err(not_invited)?;
        let second = receive(&mut connection).await.map_err(not_invited)?;
        if second == REMOVED {
            return Err(JoinError::RemovedBy(other));
        }
        let agreed = pairing.agree(&second).map_err(|_| JoinError::WrongCode)?;
        say(&mut connection, &agreed.proof()).await.map_err(JoinError::Broken)?;
        let proof = receive(&mut connection).await.map_err(JoinError::Broken)?;
        agreed.check(&proof).map_err(|_| JoinError::WrongCode)?;
        self.greet(&mut connection).await?;
        say_devices(&mut connection, self.introduction().await?).await.map_err(JoinError::Broken)?;
        let told = receive_devices(&mut connection).await.map_err(JoinError::Broken)?;
        let device = self.link_with(&connection, told, reached).await?;
        Ok((device, connection))
    }

    /// Both say hello, and find out whether they can exchange anything at all.
    async fn greet(&self, connection: &mut Connection) -> Result<(), JoinError> {
        let (feed, latest) = (self.history.store.feed().await?, self.history.store.latest_change());
        let own = Hello { versions: VERSIONS, name: self.history.device.clone(), now: now(), feed, latest, read: None };
        let other = connection::greet(connection, own).await.map_err(JoinError::Broken)?;
        match other.objection(now()) {
            Some(objection) => Err(JoinError::Unlike(Ending::Here(objection))),
            None => Ok(self.repair_clock().await?),
        }
    }

    /// What this device tells of itself when it meets another.
    async fn introduction(&self) -> Result<Vec<Item>, StoreError> {
        Ok(self.history.store.own_device().await?.map(Item::Device).into_iter().collect())
    }

    /// Puts on record that the device at the other end belongs to the person, and where it was reached, if it was:
    /// whatever it says of itself, there it is tried first.
    async fn link_with(
        &self,
        connection: &Connection,
        told: Vec<Device>,
        reached: Option<&str>,
    ) -> Result<Device, JoinError> {
        let introduced = told.into_iter().find(|device| device.key == connection.peer);
        let mut device = introduced.unwrap_or_else(|| Device { key: connection.peer, ..Device::default() });
        if device.latest() > latest_believed() {
            return Err(JoinError::Unlike(Ending::Here(Bye::Clock)));
        }
        self.history.stamps.observe(device.latest());
        let stamp = self.history.stamps.next();
        device.linked = Register::new(stamp, true);
        let others = self.history.store.linked_devices().await?;
        if others.iter().filter(|other| other.key != device.key).count() + 2 > MOST_DEVICES {
            return Err(JoinError::TooMany);
        }
        if device.name.value.trim().is_empty() {
            device.name = Register::new(stamp, "another device".into());
        }
        // To the others, this device says of itself that it belongs to them.
        if let Some(mut own) = self.history.store.own_device().await? {
            own.linked = Register::new(stamp, true);
            self.history.store.note_device(&own).await?;
        }
        if let Some(change) = self.history.store.note_device(&device).await? {
            self.history.ledger.changed(change);
        }
        if let Some(address) = reached {
            self.history.store.note_reached(device.id(), address).await?;
        }
        // From here on it is dialled.
        self.know_linked().await?;
        Ok(device)
    }
}

/// Whom an address is taken for: in IPv6, everybody has a whole network of addresses (a /64, RFC 4291, section 2.5.4).
pub(super) fn source_of(from: SocketAddr) -> IpAddr {
    match from.ip().to_canonical() {
        IpAddr::V6(address) => {
            let network = u128::from(address) >> 64 << 64;
            IpAddr::V6(network.into())
        }
        address => address,
    }
}
