//! A meeting: two devices that are not linked say something to each other by way of a relay, which knows of them no more than a
//! secret. What they say is a [pairing](crate::pairing) in TLS, as on a connection.

use super::{PATIENCE, RelayClient, RelayError, RelayInvitation, mailbox, written};
use crate::group::Group;
use crate::identity::Pin;
use crate::pairing::Side;
use bytes::Bytes;
use hyper::{Method, StatusCode};
use std::fmt;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream, duplex, split};

/// Lines of a meeting: each try has one of its own.
pub const LINES: u8 = 4;

/// What either side may say on a line, in messages.
pub const MESSAGES: u32 = 256;

/// Bytes of a message.
pub const LONGEST_MESSAGE: usize = 16 * 1024;

/// Longest time that a meeting is open, in seconds.
pub const LONGEST_SECONDS: u64 = 3600;

/// How long a question waits for an answer at the relay.
const WAIT: Duration = Duration::from_secs(30);

/// For how long what the other says is still carried when this side has ended.
const LINGER: Duration = Duration::from_secs(10);

/// Times that a question is asked again, when the relay does not answer.
const TIMES: u32 = 5;

/// Between these.
const PAUSE: Duration = Duration::from_millis(500);

/// Where two devices meet.
#[derive(Clone, PartialEq, Eq)]
pub struct Meeting {
    /// The relay's address.
    pub address: String,
    /// Its pin, if it is known by one.
    pub pin: Option<Pin>,
    /// What both know, and the relay keeps a hash of.
    pub secret: [u8; 16],
}

impl fmt::Debug for Meeting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Meeting").field("address", &self.address).finish_non_exhaustive()
    }
}

/// As a person passes it on: an address, and after `#` the secret and perhaps a pin, as in what a relay's owner gives.
impl fmt::Display for Meeting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/#{}", self.address, written(&self.secret))?;
        self.pin.map_or(Ok(()), |pin| write!(f, ".{}", written(&pin)))
    }
}

impl std::str::FromStr for Meeting {
    type Err = RelayError;

    fn from_str(text: &str) -> Result<Self, RelayError> {
        let RelayInvitation { address, token, pin } = text.parse()?;
        Ok(Self { address, pin, secret: token })
    }
}

impl Meeting {
    /// Whether this is meant for one, rather than for the address of a device.
    pub fn is_meant(text: &str) -> bool {
        text.contains("://")
    }

    /// Opens a new one at the relay of this group, for so many seconds.
    ///
    /// # Errors
    /// When the relay does not answer or does not know the group, or there is no chance to be had.
    pub async fn open(group: &Group, seconds: u64) -> Result<Self, RelayError> {
        let mut secret = [0; 16];
        getrandom::fill(&mut secret).map_err(|_| RelayError::Garbled("the system gives no random numbers"))?;
        let meeting = Self { address: group.address.clone(), pin: group.pin, secret };
        let body = Bytes::from(serde_json::json!({ "seconds": seconds }).to_string());
        let path = meeting.path_in(group);
        let client = RelayClient::new(&group.address, group.pin)?;
        client.ask((Method::PUT, &path), &group.access_key(), ("application/json", body), PATIENCE).await?;
        Ok(meeting)
    }

    /// Ends this meeting, which this group has opened; another that it has opened since goes on.
    ///
    /// # Errors
    /// When the relay does not answer, or does not know the group.
    pub async fn close(&self, group: &Group) -> Result<(), RelayError> {
        let client = RelayClient::new(&group.address, group.pin)?;
        client.do_with_bytes(Method::DELETE, &self.path_in(group), group, Bytes::new()).await.map(drop)
    }

    fn path_in(&self, group: &Group) -> String {
        mailbox(group, &format!("/meetings/{}", written(blake3::hash(&self.secret).as_bytes())))
    }

    /// Returns when somebody has joined on this line.
    ///
    /// # Errors
    /// When the meeting is over.
    pub async fn joined(&self, line: u8) -> Result<(), RelayError> {
        let asks = Asks { client: RelayClient::new(&self.address, self.pin)?, secret: self.secret, line };
        asks.said(Side::Joins, 0).await.map(drop)
    }

    /// The first line on which nobody has joined yet.
    ///
    /// # Errors
    /// When the meeting is over, or all its lines are taken.
    pub async fn free_line(&self) -> Result<u8, RelayError> {
        for line in 0..LINES {
            let asks = Asks { client: RelayClient::new(&self.address, self.pin)?, secret: self.secret, line };
            if asks.look(Side::Joins, 0, Duration::ZERO).await?.is_none() {
                return Ok(line);
            }
        }
        // A meeting without a free line is as good as none.
        let detail = "all the tries of this invitation were used".into();
        Err(RelayError::Refused { kind: "no-meeting".into(), detail, last: None, retry_after: None })
    }

    /// A line, of which this device is one side. It ends when it is dropped, or the meeting is over.
    ///
    /// # Errors
    /// When there is no such address.
    pub fn line(&self, line: u8, side: Side) -> Result<DuplexStream, RelayError> {
        let asks = || Ok(Asks { client: RelayClient::new(&self.address, self.pin)?, secret: self.secret, line });
        let (here, there) = duplex(4 * LONGEST_MESSAGE);
        tokio::spawn(carry(there, asks()?, asks()?, side));
        Ok(here)
    }
}

/// Carries a line until both have ended it.
async fn carry(there: DuplexStream, out: Asks, into: Asks, side: Side) {
    let other = if side == Side::Joins { Side::Invites } else { Side::Joins };
    let (mut from, mut to) = split(there);
    let says = async {
        for number in 0..MESSAGES {
            let mut message = vec![0; LONGEST_MESSAGE];
            let length = from.read(&mut message).await.unwrap_or(0);
            message.truncate(length);
            // An empty one is the end.
            if out.say(side, number, message.into()).await.is_err() || length == 0 {
                return;
            }
        }
    };
    let hears = async {
        for number in 0..MESSAGES {
            match into.said(other, number).await {
                Ok(message) if !message.is_empty() => {
                    if to.write_all(&message).await.is_err() || to.flush().await.is_err() {
                        return;
                    }
                }
                _ => break,
            }
        }
        let _ = to.shutdown().await;
    };
    tokio::pin!(says, hears);
    tokio::select! {
        () = &mut says => {
            let _ = tokio::time::timeout(LINGER, hears).await;
        }
        () = &mut hears => {
            let _ = tokio::time::timeout(LINGER, says).await;
        }
    }
}

/// What is asked of the relay, on one line.
struct Asks {
    client: RelayClient,
    secret: [u8; 16],
    line: u8,
}

impl Asks {
    fn path(&self, side: Side, number: u32, query: &str) -> String {
        let side = u8::from(side == Side::Joins);
        format!("/v1/meeting/{}/{side}/{number}{query}", self.line)
    }

    async fn say(&self, side: Side, number: u32, message: Bytes) -> Result<(), RelayError> {
        let path = self.path(side, number, "");
        let mut times = 0;
        loop {
            let body = ("application/octet-stream", message.clone());
            match self.client.ask((Method::PUT, &path), &self.secret, body, PATIENCE).await {
                Err(error) if error.may_pass() && times < TIMES => times += 1,
                done => return done.map(drop),
            }
            tokio::time::sleep(PAUSE).await;
        }
    }

    /// What is said there, as soon as it is.
    async fn said(&self, side: Side, number: u32) -> Result<Bytes, RelayError> {
        let mut times = 0;
        loop {
            match self.look(side, number, WAIT).await {
                Ok(Some(message)) => return Ok(message),
                Ok(None) => times = 0,
                Err(error) if error.may_pass() && times < TIMES => {
                    times += 1;
                    tokio::time::sleep(PAUSE).await;
                }
                Err(error) => return Err(error),
            }
        }
    }

    async fn look(&self, side: Side, number: u32, wait: Duration) -> Result<Option<Bytes>, RelayError> {
        let path = self.path(side, number, &format!("?wait={}", wait.as_secs()));
        let body = ("application/octet-stream", Bytes::new());
        let (status, message) = self.client.ask_for((Method::GET, &path), &self.secret, body, wait + PATIENCE).await?;
        Ok((status != StatusCode::NO_CONTENT).then_some(message))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_meeting_is_passed_on_as_text() {
        let address = "https://relay.example.org:7438".to_owned();
        for pin in [None, Some([7; 32])] {
            let meeting = Meeting { address: address.clone(), pin, secret: [3; 16] };
            assert_eq!(meeting.to_string().parse::<Meeting>().unwrap(), meeting);
            assert!(Meeting::is_meant(&meeting.to_string()) && !format!("{meeting:?}").contains(&written(&[3; 16])));
        }
        assert!(!Meeting::is_meant("192.0.2.7:7437"));
        assert!("https://relay.example.org/#short".parse::<Meeting>().is_err());
    }
}
