//! What a device says to a relay. `docs/relay.md` describes it.

pub mod meeting;
pub mod tls;

use crate::envelope::Place;
use crate::group::{Group, Outbox};
use crate::identity::{NAME, Pin};
use bytes::Bytes;
use data_encoding::BASE32_NOPAD;
use http_body_util::{BodyExt, Full, Limited};
use hyper::client::conn::http1::{SendRequest, handshake};
use hyper::header::{AUTHORIZATION, CONTENT_TYPE, HOST, HeaderName, RETRY_AFTER};
use hyper::{HeaderMap, Method, Request, StatusCode};
use hyper_util::rt::TokioIo;
use parking_lot::Mutex;
use rustls::pki_types::ServerName;
use serde::Deserialize;
use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use url::{Host, Url};

/// The header in which a relay says up to which arrival there is anything.
pub const LATEST: HeaderName = HeaderName::from_static("yadori-latest");

/// The header in which a relay says how far the one who asks has numbered its envelopes.
pub const OWN: HeaderName = HeaderName::from_static("yadori-own");

/// Bytes of a piece of a content: a mebibyte.
pub const PIECE: usize = 1024 * 1024;

/// The port of a relay, where its address names none.
pub const PORT: u16 = 7438;

/// How long an answer may take that nobody waits for on purpose.
const PATIENCE: Duration = Duration::from_secs(30);

/// Shortest and longest wait before the relay is asked again for what was too much at once.
const PAUSE: Duration = Duration::from_millis(500);
const LONGEST_PAUSE: Duration = Duration::from_secs(10);

/// Most bytes of an answer.
const LONGEST_ANSWER: usize = 16 * 1024 * 1024;

/// Why a relay did not do what was asked.
#[derive(Debug, Error)]
pub enum RelayError {
    /// Not an address.
    #[error("“{0}” is not the address of a relay: https://, a name or number, and perhaps a port")]
    Address(String),
    /// It does not answer.
    #[error("the relay cannot be reached: {0}")]
    Unreachable(String),
    /// It says no.
    #[error("the relay refuses: {detail}")]
    Refused {
        /// Its word for why.
        kind: String,
        /// In words.
        detail: String,
        /// The last number that is taken, where a number was.
        last: Option<u64>,
        /// How long to wait, if it says so.
        retry_after: Option<Duration>,
    },
    /// It says what makes no sense.
    #[error("the relay says something that makes no sense: {0}")]
    Garbled(&'static str),
}

impl RelayError {
    /// Whether it refuses for this reason.
    pub fn is(&self, reason: &str) -> bool {
        matches!(self, Self::Refused { kind, .. } if kind == reason)
    }

    /// Whether it may be done when it is asked again in a moment.
    pub fn may_pass(&self) -> bool {
        matches!(self, Self::Unreachable(_)) || self.is("away") || self.is("too-many")
    }
}

/// An envelope as a relay gives it.
#[derive(Clone, Debug)]
pub struct Delivered {
    /// The number of its arrival.
    pub arrival: u64,
    /// Where it is said to lie.
    pub place: Place,
    /// The envelope.
    pub envelope: Vec<u8>,
}

/// What has arrived.
#[derive(Clone, Debug)]
pub struct Arrivals {
    /// The envelopes.
    pub found: Vec<Delivered>,
    /// The number of the last arrival in the mailbox.
    pub latest: u64,
    /// The number of the last envelope that came from one's own outbox; zero if none did.
    pub own: u64,
}

/// What a mailbox holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
pub struct MailboxUsage {
    /// The number of the last arrival.
    pub latest: u64,
    /// Bytes that are used.
    pub bytes: u64,
    /// Bytes that there is room for.
    pub quota_bytes: u64,
    /// For how many days envelopes wait.
    pub days: u32,
}

#[derive(Deserialize)]
struct Refusal {
    error: String,
    detail: String,
    last: Option<u64>,
}

#[derive(Deserialize)]
struct Arrived {
    arrival: u64,
}

#[derive(Deserialize)]
struct Outboxes {
    outboxes: BTreeMap<String, u64>,
}

#[derive(Deserialize)]
struct Pieces {
    pieces: u64,
}

/// What a person types: the address of a relay, a token, and the pin of the relay's own key if it has one.
#[derive(Clone, PartialEq, Eq)]
pub struct RelayInvitation {
    /// The address.
    pub address: String,
    /// The token.
    pub token: [u8; 16],
    /// The pin.
    pub pin: Option<Pin>,
}

impl std::str::FromStr for RelayInvitation {
    type Err = RelayError;

    fn from_str(text: &str) -> Result<Self, RelayError> {
        // Whoever reads the error may not be meant to read the token.
        let wrong = || RelayError::Address(text.split('#').next().unwrap_or_default().chars().take(80).collect());
        let (address, secrets) = text.trim().split_once('#').ok_or_else(wrong)?;
        let (token, pin) = match secrets.split_once('.') {
            Some((token, pin)) => (token, Some(read(pin).ok_or_else(wrong)?)),
            None => (secrets, None),
        };
        let address = address.trim_end_matches('/').to_owned();
        place_of(&address)?;
        Ok(Self { address, token: read(token).ok_or_else(wrong)?, pin })
    }
}

fn written(bytes: &[u8]) -> String {
    BASE32_NOPAD.encode(bytes).to_ascii_lowercase()
}

fn read<const N: usize>(text: &str) -> Option<[u8; N]> {
    BASE32_NOPAD.decode(text.to_ascii_uppercase().as_bytes()).ok()?.try_into().ok()
}

/// Where an address leads: whether by TLS, the name or number, and the port.
fn place_of(address: &str) -> Result<(bool, String, u16), RelayError> {
    let wrong = || RelayError::Address(address.chars().take(80).collect());
    let url = Url::parse(address).map_err(|_| wrong())?;
    let (host, is_here) = match url.host().ok_or_else(wrong)? {
        Host::Domain(name) => (name.to_owned(), name == "localhost"),
        Host::Ipv4(number) => (number.to_string(), number.is_loopback()),
        Host::Ipv6(number) => (number.to_string(), number.is_loopback()),
    };
    let is_bare = url.path() == "/" && url.query().is_none() && url.username().is_empty() && url.fragment().is_none();
    match url.scheme() {
        "https" if is_bare => Ok((true, host, url.port().unwrap_or(PORT))),
        // Without TLS only what does not leave this computer.
        "http" if is_bare && is_here => Ok((false, host, url.port().unwrap_or(PORT))),
        _ => Err(wrong()),
    }
}

/// A way to a relay.
pub struct RelayClient {
    host: String,
    port: u16,
    tls: Option<TlsConnector>,
    is_pinned: bool,
    /// How often it asks again when it asks for too much at once.
    patience: u32,
    /// A connection that is not in use.
    idle: Mutex<Option<SendRequest<Full<Bytes>>>>,
}

impl RelayClient {
    /// The way to the relay at this address, which has this pin or a certificate of an authority.
    ///
    /// # Errors
    /// When that is no address.
    pub fn new(address: &str, pin: Option<Pin>) -> Result<Self, RelayError> {
        let (by_tls, host, port) = place_of(address)?;
        let config = |error: std::io::Error| RelayError::Unreachable(error.to_string());
        let tls = if by_tls { Some(TlsConnector::from(Arc::new(tls::client(pin).map_err(config)?))) } else { None };
        Ok(Self { host, port, tls, is_pinned: pin.is_some(), patience: 0, idle: Mutex::default() })
    }

    /// From now on it waits, when the relay says that this mailbox asks for too much at once, and asks again.
    pub fn patient(self) -> Self {
        Self { patience: 30, ..self }
    }

    async fn connect(&self) -> Result<SendRequest<Full<Bytes>>, RelayError> {
        let unreachable = |error: &dyn std::fmt::Display| RelayError::Unreachable(error.to_string());
        let stream = TcpStream::connect((self.host.as_str(), self.port)).await.map_err(|error| unreachable(&error))?;
        let _ = stream.set_nodelay(true);
        let Some(tls) = &self.tls else { return start(TokioIo::new(stream)).await };
        // One that is known by its pin is asked for under no name: it has none.
        let name = if self.is_pinned { NAME.to_owned() } else { self.host.clone() };
        let name = ServerName::try_from(name).map_err(|error| unreachable(&error))?;
        start(TokioIo::new(tls.connect(name, stream).await.map_err(|error| unreachable(&error))?)).await
    }

    async fn ask(
        &self,
        asked: (Method, &str),
        key: &[u8],
        said: (&str, Bytes),
        patience: Duration,
    ) -> Result<(HeaderMap, Bytes), RelayError> {
        let mut times = 0;
        loop {
            match self.exchange(asked.clone(), key, said.clone(), patience).await {
                Err(RelayError::Refused { kind, retry_after, .. }) if kind == "too-many" && times < self.patience => {
                    times += 1;
                    tokio::time::sleep(retry_after.unwrap_or(PAUSE).clamp(PAUSE, LONGEST_PAUSE)).await;
                }
                done => return done.map(|(_, headers, body)| (headers, body)),
            }
        }
    }

    async fn ask_for(
        &self,
        asked: (Method, &str),
        key: &[u8],
        said: (&str, Bytes),
        patience: Duration,
    ) -> Result<(StatusCode, Bytes), RelayError> {
        self.exchange(asked, key, said, patience).await.map(|(status, _, body)| (status, body))
    }

    async fn exchange(
        &self,
        (method, path): (Method, &str),
        key: &[u8],
        (kind, body): (&str, Bytes),
        patience: Duration,
    ) -> Result<(StatusCode, HeaderMap, Bytes), RelayError> {
        let asking = async {
            let idle = self.idle.lock().take().filter(|idle| !idle.is_closed());
            let mut sender = match idle {
                Some(idle) => idle,
                None => self.connect().await?,
            };
            let unreachable = |error: hyper::Error| RelayError::Unreachable(error.to_string());
            sender.ready().await.map_err(unreachable)?;
            let request = Request::builder()
                .method(method)
                .uri(path)
                .header(HOST, format!("{}:{}", self.host, self.port))
                .header(AUTHORIZATION, format!("Bearer {}", written(key)))
                .header(CONTENT_TYPE, kind)
                .body(Full::new(body))
                .map_err(|_| RelayError::Garbled("the request itself"))?;
            let answer = sender.send_request(request).await.map_err(unreachable)?;
            let (parts, body) = answer.into_parts();
            let body = Limited::new(body, LONGEST_ANSWER).collect().await;
            let body = body.map_err(|error| RelayError::Unreachable(error.to_string()))?.to_bytes();
            *self.idle.lock() = Some(sender);
            if parts.status.is_success() {
                return Ok((parts.status, parts.headers, body));
            }
            Err(refused(parts.status, &parts.headers, &body))
        };
        let late = |_| RelayError::Unreachable("it takes too long".into());
        tokio::time::timeout(patience, asking).await.map_err(late)?
    }

    async fn ask_for_json<T: for<'a> Deserialize<'a>>(
        &self,
        method: Method,
        path: &str,
        key: &[u8],
        body: serde_json::Value,
    ) -> Result<T, RelayError> {
        let body = Bytes::from(body.to_string());
        let (_, answer) = self.ask((method, path), key, ("application/json", body), PATIENCE).await?;
        serde_json::from_slice(&answer).map_err(|_| RelayError::Garbled("it is not what was asked for"))
    }

    async fn do_with_bytes(
        &self,
        method: Method,
        path: &str,
        group: &Group,
        body: Bytes,
    ) -> Result<(HeaderMap, Bytes), RelayError> {
        self.ask((method, path), &group.access_key(), ("application/octet-stream", body), PATIENCE).await
    }

    /// Opens the mailbox of a group by a token.
    ///
    /// # Errors
    /// When the relay does not answer, or the token opens none.
    pub async fn open_mailbox(&self, token: &[u8; 16], group: &Group) -> Result<MailboxUsage, RelayError> {
        let access = written(blake3::hash(&group.access_key()).as_bytes());
        let body = serde_json::json!({ "mailbox": written(&group.mailbox), "access": access });
        self.ask_for_json(Method::POST, "/v1/mailboxes", token, body).await
    }

    /// What the mailbox of a group holds.
    ///
    /// # Errors
    /// When the relay does not answer, or there is no such mailbox with the group's key.
    pub async fn usage(&self, group: &Group) -> Result<MailboxUsage, RelayError> {
        let path = mailbox(group, "");
        let (_, answer) = self.do_with_bytes(Method::GET, &path, group, Bytes::new()).await?;
        serde_json::from_slice(&answer).map_err(|_| RelayError::Garbled("it is not what was asked for"))
    }

    /// How far each outbox of the mailbox was numbered, whether or not its envelopes are still there.
    ///
    /// # Errors
    /// As [`Self::usage`].
    pub async fn outboxes(&self, group: &Group) -> Result<BTreeMap<Outbox, u64>, RelayError> {
        let (_, answer) = self.do_with_bytes(Method::GET, &mailbox(group, "/outboxes"), group, Bytes::new()).await?;
        let known: Result<Outboxes, _> = serde_json::from_slice(&answer);
        let known = known.map_err(|_| RelayError::Garbled("it does not say which outboxes there are"))?.outboxes;
        let known = known.into_iter().map(|(outbox, number)| Some((read(&outbox)?, number)));
        known.collect::<Option<_>>().ok_or(RelayError::Garbled("it names an outbox that is none"))
    }

    /// Gives the mailbox the key of the group's new secret, and leaves that secret there for some of the devices that have only the
    /// old one: for each its outbox under the old secret, and a handover.
    ///
    /// # Errors
    /// As [`Self::usage`]; `full` when there is no room for the handovers, and nothing was changed.
    pub async fn change_access(
        &self,
        old: &Group,
        new: &Group,
        handovers: &[(Outbox, Vec<u8>)],
    ) -> Result<(), RelayError> {
        let access = written(blake3::hash(&new.access_key()).as_bytes());
        let handover = |(outbox, sealed): &(Outbox, Vec<u8>)| (written(outbox), written(sealed));
        let handovers: BTreeMap<String, String> = handovers.iter().map(handover).collect();
        let body = Bytes::from(serde_json::json!({ "access": access, "handovers": handovers }).to_string());
        let path = mailbox(old, "/access");
        self.ask((Method::PUT, &path), &old.access_key(), ("application/json", body), PATIENCE).await.map(drop)
    }

    /// What was left for the device with this outbox when the mailbox got another key than that of this secret.
    ///
    /// # Errors
    /// When the relay does not answer, or nothing was left (`no-mailbox`).
    pub async fn handover(&self, old: &Group, own: &Outbox) -> Result<Bytes, RelayError> {
        let path = mailbox(old, &format!("/handovers/{}", written(own)));
        self.do_with_bytes(Method::GET, &path, old, Bytes::new()).await.map(|(_, sealed)| sealed)
    }

    /// Erases the mailbox of a group.
    ///
    /// # Errors
    /// As [`Self::usage`].
    pub async fn erase(&self, group: &Group) -> Result<(), RelayError> {
        self.do_with_bytes(Method::DELETE, &mailbox(group, ""), group, Bytes::new()).await.map(drop)
    }

    /// Puts an envelope into an outbox. Gives the number of its arrival.
    ///
    /// # Errors
    /// When the relay does not answer, is full, or had one of this or a later number (`number-taken`).
    pub async fn put_envelope(&self, group: &Group, place: Place, envelope: Vec<u8>) -> Result<u64, RelayError> {
        let path = in_outbox(group, place);
        let (_, answer) = self.do_with_bytes(Method::PUT, &path, group, envelope.into()).await?;
        let arrived: Result<Arrived, _> = serde_json::from_slice(&answer);
        arrived.map(|arrived| arrived.arrival).map_err(|_| RelayError::Garbled("it does not say when it arrived"))
    }

    /// Removes the envelopes of an outbox up to this one.
    ///
    /// # Errors
    /// As [`Self::usage`].
    pub async fn remove_envelopes(&self, group: &Group, upto: Place) -> Result<(), RelayError> {
        self.do_with_bytes(Method::DELETE, &in_outbox(group, upto), group, Bytes::new()).await.map(drop)
    }

    /// The envelopes that arrived after this number, but for those of one's own outbox; waits for so long until there is one.
    ///
    /// # Errors
    /// As [`Self::usage`].
    pub async fn envelopes(
        &self,
        group: &Group,
        after: u64,
        own: &Outbox,
        wait: Duration,
    ) -> Result<Arrivals, RelayError> {
        let query = format!("/envelopes?after={after}&wait={}&but={}", wait.as_secs(), written(own));
        let path = mailbox(group, &query);
        let body = ("application/octet-stream", Bytes::new());
        let (headers, answer) = self.ask((Method::GET, &path), &group.access_key(), body, wait + PATIENCE).await?;
        let number = |name: HeaderName| {
            let number = headers.get(name).and_then(|number| number.to_str().ok()?.parse().ok());
            number.ok_or(RelayError::Garbled("it does not say what there is"))
        };
        Ok(Arrivals { found: delivered(&answer)?, latest: number(LATEST)?, own: number(OWN)? })
    }

    /// How many pieces of a content are at the relay.
    ///
    /// # Errors
    /// As [`Self::usage`].
    pub async fn pieces(&self, group: &Group, hash: &[u8; 32]) -> Result<u64, RelayError> {
        let path = content(group, hash, "");
        let (_, answer) = self.do_with_bytes(Method::GET, &path, group, Bytes::new()).await?;
        let pieces: Result<Pieces, _> = serde_json::from_slice(&answer);
        pieces.map(|pieces| pieces.pieces).map_err(|_| RelayError::Garbled("it does not say how many there are"))
    }

    /// Puts a piece of a content down: that which begins at its byte `piece` times [`PIECE`].
    ///
    /// # Errors
    /// When the relay does not answer, or is full.
    pub async fn put_piece(
        &self,
        group: &Group,
        hash: &[u8; 32],
        piece: u32,
        sealed: Vec<u8>,
    ) -> Result<(), RelayError> {
        let path = content(group, hash, &format!("/{piece}"));
        self.do_with_bytes(Method::PUT, &path, group, sealed.into()).await.map(drop)
    }

    /// A piece of a content, sealed; nothing if it is not there.
    ///
    /// # Errors
    /// As [`Self::usage`].
    pub async fn piece(&self, group: &Group, hash: &[u8; 32], piece: u32) -> Result<Option<Bytes>, RelayError> {
        let path = content(group, hash, &format!("/{piece}"));
        match self.do_with_bytes(Method::GET, &path, group, Bytes::new()).await {
            Ok((_, sealed)) => Ok(Some(sealed)),
            Err(error) if error.is("no-content") => Ok(None),
            Err(error) => Err(error),
        }
    }
}

async fn start<S>(stream: S) -> Result<SendRequest<Full<Bytes>>, RelayError>
where
    S: hyper::rt::Read + hyper::rt::Write + Send + Unpin + 'static,
{
    let (sender, connection) = handshake(stream).await.map_err(|error| RelayError::Unreachable(error.to_string()))?;
    tokio::spawn(async move {
        let _ = connection.await;
    });
    Ok(sender)
}

fn mailbox(group: &Group, rest: &str) -> String {
    format!("/v1/mailboxes/{}{rest}", written(&group.mailbox))
}

fn in_outbox(group: &Group, place: Place) -> String {
    mailbox(group, &format!("/outboxes/{}/envelopes/{}", written(&place.outbox), place.number))
}

fn content(group: &Group, hash: &[u8; 32], rest: &str) -> String {
    mailbox(group, &format!("/contents/{}{rest}", written(&group.name_of_content(hash))))
}

fn refused(status: StatusCode, headers: &HeaderMap, body: &[u8]) -> RelayError {
    let seconds = headers.get(RETRY_AFTER).and_then(|value| value.to_str().ok()?.parse().ok());
    let retry_after = seconds.map(Duration::from_secs);
    match serde_json::from_slice::<Refusal>(body) {
        Ok(Refusal { error, detail, last }) => {
            // It is a stranger's word: no more of it than a person would read.
            let cut = |text: String, most| text.chars().filter(|c| !c.is_control()).take(most).collect();
            RelayError::Refused { kind: cut(error, 40), detail: cut(detail, 300), last, retry_after }
        }
        Err(_) => {
            let detail = format!("it answers {status}, as something would that is not a relay");
            RelayError::Refused { kind: "unknown".into(), detail, last: None, retry_after }
        }
    }
}

/// Reads envelopes as a relay gives them, one after the other.
///
/// # Errors
/// When one breaks off.
pub fn delivered(mut bytes: &[u8]) -> Result<Vec<Delivered>, RelayError> {
    let short = RelayError::Garbled("an envelope breaks off");
    let mut all = Vec::new();
    while !bytes.is_empty() {
        let Some((head, rest)) = bytes.split_first_chunk::<36>() else { return Err(short) };
        let number = |at: usize| u64::from_le_bytes(std::array::from_fn(|byte| head[at + byte]));
        let length = u32::from_le_bytes(std::array::from_fn(|byte| head[32 + byte])) as usize;
        let Some((envelope, rest)) = rest.split_at_checked(length) else { return Err(short) };
        let outbox = std::array::from_fn(|byte| head[8 + byte]);
        all.push(Delivered {
            arrival: number(0),
            place: Place { outbox, number: number(24) },
            envelope: envelope.to_vec(),
        });
        bytes = rest;
    }
    Ok(all)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_invitation_is_read_as_the_relay_prints_it() {
        let pin = written(&[3; 32]);
        let text = format!(" https://relay.example.org/#{}.{pin}\n", written(&[9; 16]));
        let read: RelayInvitation = text.parse().unwrap();
        assert!(
            read == RelayInvitation { address: "https://relay.example.org".into(), token: [9; 16], pin: Some([3; 32]) }
        );
        let public: RelayInvitation = format!("https://192.0.2.7:8443#{}", written(&[9; 16])).parse().unwrap();
        assert!(public.pin.is_none() && public.address == "https://192.0.2.7:8443");
        let token = written(&[9; 16]);
        for wrong in [
            "https://relay.example.org".to_owned(),
            format!("relay.example.org#{token}"),
            format!("http://relay.example.org#{token}"),
            format!("https://relay.example.org/path#{token}"),
            format!("https://a:b@relay.example.org#{token}"),
            format!("https://relay.example.org#{token}.abc"),
            "https://relay.example.org#abc".to_owned(),
            String::new(),
        ] {
            let error = wrong.parse::<RelayInvitation>().err().expect("to be refused").to_string();
            assert!(!error.contains(&token), "{error}");
        }
        assert!(place_of("http://127.0.0.1:80").is_ok() && place_of("http://[::1]").is_ok());
    }

    #[test]
    fn envelopes_are_read_whole() {
        let mut bytes = 5u64.to_le_bytes().to_vec();
        bytes.extend([2; 16]);
        bytes.extend(9u64.to_le_bytes());
        bytes.extend(3u32.to_le_bytes());
        bytes.extend(b"abc");
        let twice = [&bytes[..], &bytes].concat();
        let read = delivered(&twice).unwrap();
        assert_eq!(read.len(), 2);
        assert_eq!(
            (read[1].arrival, read[1].place, &read[1].envelope[..]),
            (5, Place { outbox: [2; 16], number: 9 }, &b"abc"[..])
        );
        for cut in 1..bytes.len() {
            assert!(delivered(&bytes[..cut]).is_err(), "{cut}");
        }
    }
}
