//! A connection over which an exchange is held: WebSocket (RFC 6455) over TLS, one CBOR frame in each message.
//!
//! WebSocket, and not HTTP/2, because both sides speak when they have something to say, on one long-lived
//! connection; it brings framing, limits, keep-alive and closing, and nothing that is not needed.

use crate::exchange::{Ending, Exchange, Input, Output};
use crate::failure::LinkFailure;
use crate::frame::{self, Bye, Frame, Hello, LONGEST, RelayPlace};
use crate::identity::NAME;
use crate::stream::Stream;
use crate::tls::{Connection, HANDSHAKE};
use crate::turns::ToDo;
use bytes::Bytes;
use futures_util::{SinkExt, StreamExt};
use std::collections::{HashMap, VecDeque};
use std::io;
use std::time::Duration;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::sync::{mpsc, oneshot, watch};
use tokio::time::Instant;
use tokio_rustls::TlsStream;
use tokio_tungstenite::tungstenite::protocol::WebSocketConfig;
use tokio_tungstenite::tungstenite::{self, Message};
use tokio_tungstenite::{WebSocketStream, accept_async_with_config, client_async_with_config};
use yadori_core::shared::{Clip, ContentPiece, Hash, Item};

/// A connection on which nothing is said is tried out so often, by the device that made it.
const KEEP_ALIVE: Duration = Duration::from_secs(60);

/// How long the answer to that may take.
const ANSWER: Duration = Duration::from_secs(30);

/// How long it may take when the network has changed, so that the connection may be to nowhere.
const PROMPT_ANSWER: Duration = Duration::from_secs(5);

/// Without a sign of life for so long, the device that made the connection is gone.
const GONE: Duration = Duration::from_secs(150);

/// Messages that may wait to be written. An exchange never has so many under way, unless the other asks for more
/// than it takes.
const WAITING: usize = 64;

/// How long the last word may take.
const LAST_WORD: Duration = Duration::from_secs(2);

/// What an exchange works on: the records of this device, as far as the other is concerned.
pub trait Records: Send + Sync {
    /// Why it could not be done; the connection ends then, and is made again later.
    type Error: std::fmt::Display + Send;

    /// The other has said hello.
    fn greeted(&self, hello: &Hello) -> impl Future<Output = Result<(), Self::Error>> + Send;
    /// One batch of the feed after this number and up to that one at most, of about so many bytes, and up to which number
    /// it goes.
    fn read(
        &self,
        after: u64,
        until: u64,
        bytes: usize,
    ) -> impl Future<Output = Result<(u64, Vec<Item>), Self::Error>> + Send;
    /// Puts a batch on record, together with the cursor.
    fn apply(
        &self,
        cursor: ([u8; 8], u64),
        items: Vec<Item>,
    ) -> impl Future<Output = Result<Applied, Self::Error>> + Send;
    /// The other says that it has everything up to this number.
    fn note_acknowledged(&self, upto: u64);
    /// The same is to be on record, of the feed with this id: of several the last.
    fn acknowledged(&self, feed: [u8; 8], upto: u64) -> impl Future<Output = Result<(), Self::Error>> + Send;
    /// Content from this byte on.
    fn content(
        &self,
        hash: Hash,
        from: u64,
        most: usize,
    ) -> impl Future<Output = Result<Option<Bytes>, Self::Error>> + Send;
    /// Puts pieces of contents on record, all of them at once; gives what came of each.
    fn store(&self, pieces: Vec<ContentPiece>) -> impl Future<Output = Result<Vec<Stored>, Self::Error>> + Send;
    /// The other does not have this content.
    fn absent(&self, hash: Hash);
    /// The other knows of this place at a relay.
    fn told(&self, place: RelayPlace) -> impl Future<Output = Result<(), Self::Error>> + Send;
    /// Takes in what was handed over; tells why not, and what came of it.
    fn take_in(
        &self,
        clip: Clip,
        recall: bool,
    ) -> impl Future<Output = Result<(Option<String>, Applied), Self::Error>> + Send;
}

/// What came of putting on record what the other told.
#[derive(Clone, Debug, Default)]
pub struct Applied {
    /// Contents that are wanted, and how much of each is here.
    pub wants: Vec<(Hash, u64)>,
    /// The numbers of changes after which a clip is here just as the other told it.
    pub echoes: Vec<u64>,
}

/// What came of putting a piece of content on record.
#[derive(Clone, Debug, Default)]
pub struct Stored {
    /// How much is here now.
    pub have: u64,
    /// Whether that is all, or all that is wanted.
    pub whole: bool,
    /// Of each clip that is whole now, the numbers of its change before, and of this one. Of several pieces that were put on record
    /// at once, the last tells of all.
    pub moved: Vec<(u64, u64)>,
}

/// Something that this device wants of an exchange.
#[derive(Debug)]
pub enum ConnectionCommand {
    /// Hand this over, and tell what became of it.
    Hand {
        /// The clip.
        clip: Box<Clip>,
        /// Whether it is to be put on the other's clipboard.
        recall: bool,
        /// Where to tell.
        reply: oneshot::Sender<Option<String>>,
    },
    /// Fetch this content, of which so much is here.
    Fetch(Hash, u64),
    /// Tell the other of the group's place at a relay.
    Tell(Box<RelayPlace>),
    /// Find out now whether the other is still there.
    TryOut,
    /// End.
    End(Bye),
}

/// A connection, ready for an exchange.
pub struct PeerConnection {
    socket: WebSocketStream<TlsStream<Stream>>,
    made_here: bool,
}

impl PeerConnection {
    /// Makes a line of a connection.
    ///
    /// # Errors
    /// When the other does not do its part in time.
    pub async fn open(connection: Connection) -> io::Result<Self> {
        let config = WebSocketConfig::default()
            .max_message_size(Some(LONGEST))
            .max_frame_size(Some(LONGEST))
            .max_write_buffer_size(4 * LONGEST);
        let made_here = matches!(connection.stream, TlsStream::Client(_));
        let opening = async {
            if made_here {
                let address = format!("wss://{NAME}/");
                let opened = client_async_with_config(address, connection.stream, Some(config)).await;
                opened.map(|(socket, _)| socket)
            } else {
                accept_async_with_config(connection.stream, Some(config)).await
            }
            .map_err(|error| match error {
                tungstenite::Error::Io(error) => error,
                error => io::Error::other(error),
            })
        };
        let socket = tokio::time::timeout(HANDSHAKE, opening).await.map_err(|_| io::ErrorKind::TimedOut)??;
        Ok(Self { socket, made_here })
    }

    /// Says any bytes at all, instead of holding an exchange: for trying out how the other takes it.
    pub async fn say_raw(&mut self, bytes: Vec<u8>) {
        let _ = self.socket.send(Message::Binary(bytes.into())).await;
    }

    /// Receives what the other says, as bytes; nothing once it has ended the connection.
    pub async fn receive_raw(&mut self) -> Option<Vec<u8>> {
        loop {
            match self.socket.next().await?.ok()? {
                Message::Binary(bytes) => return Some(bytes.to_vec()),
                Message::Close(_) => return None,
                _ => {}
            }
        }
    }

    /// Waits until the other has ended the connection, passing over what it says. Tells whether it did in time.
    pub async fn is_ended(&mut self) -> bool {
        let ended = async { while let Some(Ok(_)) = self.socket.next().await {} };
        tokio::time::timeout(HANDSHAKE, ended).await.is_ok()
    }

    /// Whether this device made the connection.
    pub fn made_here(&self) -> bool {
        self.made_here
    }
}

/// Why a line ended.
#[derive(Debug)]
pub enum Ended {
    /// One of the two ended it.
    Said(Ending),
    /// The connection broke.
    Broken(LinkFailure),
    /// The records do not answer.
    Records(String),
}

/// Holds an exchange to its end.
pub async fn run<R: Records>(
    connection: PeerConnection,
    (mut exchange, first): (Exchange, Output),
    records: &R,
    mut commands: mpsc::Receiver<ConnectionCommand>,
    mut changes: watch::Receiver<u64>,
) -> Ended {
    let PeerConnection { socket, made_here } = connection;
    let (mut writer, mut reader) = socket.split();
    // What is said waits here, so that neither side stops listening while the other does not listen.
    let (say, mut to_say) = mpsc::channel::<Message>(WAITING);
    let writing = tokio::spawn(async move {
        while let Some(message) = to_say.recv().await {
            if writer.send(message).await.is_err() {
                return;
            }
        }
        let _ = writer.close().await;
    });
    let mut handed = Handed::default();
    let mut outputs = VecDeque::from([first]);
    let mut liveness = Liveness { made_here, heard: Instant::now(), answer_by: None };
    let mut to_do = ToDo::of(records);
    let ended = 'held: loop {
        while let Some(output) = outputs.pop_front() {
            if let Err(ended) = carry_out(output, &mut to_do, &say, (records, &mut handed)) {
                break 'held ended;
            }
        }
        let hears = !to_do.is_full();
        let next = tokio::select! {
            done = to_do.next() => done,
            message = reader.next(), if hears => liveness.received(message),
            command = commands.recv() => match command {
                Some(ConnectionCommand::Hand { clip, recall, reply }) => {
                    Ok(Some(Input::Hand { number: handed.wait_for(reply), clip, recall }))
                }
                Some(ConnectionCommand::Fetch(hash, have)) => Ok(Some(Input::Wanted(hash, have))),
                Some(ConnectionCommand::Tell(place)) => Ok(Some(Input::Tell(*place))),
                Some(ConnectionCommand::TryOut) => liveness.try_out(&say, PROMPT_ANSWER),
                Some(ConnectionCommand::End(bye)) => Ok(Some(Input::End(bye))),
                None => Ok(Some(Input::End(Bye::Over))),
            },
            changed = changes.changed() => match changed {
                Ok(()) => Ok(Some(Input::Changed(*changes.borrow_and_update()))),
                Err(_) => Ok(Some(Input::End(Bye::Over))),
            },
            () = tokio::time::sleep_until(liveness.until()), if hears => liveness.is_quiet(&say),
        };
        match next {
            Ok(None) => {}
            Ok(Some(input)) => outputs.extend(exchange.step(input)),
            Err(ended) => break ended,
        }
    };
    if !matches!(ended, Ended::Records(_)) {
        // What the other has told is not told again.
        to_do.finish().await;
    }
    drop(say);
    // What was said last is still written.
    let abort = writing.abort_handle();
    if tokio::time::timeout(LAST_WORD, writing).await.is_err() {
        abort.abort();
    }
    ended
}

/// Those who wait for what became of what they handed over.
#[derive(Default)]
struct Handed {
    number: u32,
    replies: HashMap<u32, oneshot::Sender<Option<String>>>,
}

impl Handed {
    /// Gives the number under which the answer comes.
    fn wait_for(&mut self, reply: oneshot::Sender<Option<String>>) -> u32 {
        self.number = self.number.wrapping_add(1);
        self.replies.insert(self.number, reply);
        self.number
    }
}

/// Whether the other is still there.
struct Liveness {
    made_here: bool,
    /// When something was last heard of it.
    heard: Instant,
    /// By when an answer must be there, if one was asked for.
    answer_by: Option<Instant>,
}

impl Liveness {
    /// Takes what has come, which is a sign of life.
    fn received(&mut self, message: Option<tungstenite::Result<Message>>) -> Result<Option<Input>, Ended> {
        let message = match message {
            Some(Ok(Message::Close(_))) | None => return Err(Ended::Broken(LinkFailure::Broke)),
            Some(Ok(message)) => message,
            Some(Err(tungstenite::Error::Io(error))) => return Err(Ended::Broken((&error).into())),
            Some(Err(error)) => return Err(Ended::Broken(LinkFailure::Other(error.to_string()))),
        };
        (self.heard, self.answer_by) = (Instant::now(), None);
        Ok(match message {
            Message::Ping(_) | Message::Pong(_) => None,
            Message::Binary(bytes) => match frame::decode(&bytes) {
                Ok(frame) => Some(Input::Received(frame)),
                Err(error) => {
                    tracing::warn!(%error, "a device said something strange");
                    Some(Input::End(Bye::Garbled))
                }
            },
            _ => Some(Input::End(Bye::Garbled)),
        })
    }

    /// Until when nothing need be heard.
    fn until(&self) -> Instant {
        self.answer_by.unwrap_or(self.heard + if self.made_here { KEEP_ALIVE } else { GONE })
    }

    /// Asks for a sign of life within `patience`. If one was asked for already, perhaps with more time, no other is.
    fn try_out(&mut self, say: &mpsc::Sender<Message>, patience: Duration) -> Result<Option<Input>, Ended> {
        let by = Instant::now() + patience;
        if let Some(asked) = self.answer_by {
            self.answer_by = Some(asked.min(by));
            return Ok(None);
        }
        if say.try_send(Message::Ping(Bytes::new())).is_err() {
            return Err(Ended::Broken(LinkFailure::Broke));
        }
        self.answer_by = Some(by);
        Ok(None)
    }

    /// Nothing was heard for too long.
    fn is_quiet(&mut self, say: &mpsc::Sender<Message>) -> Result<Option<Input>, Ended> {
        if self.answer_by.is_some() || !self.made_here {
            return Err(Ended::Broken(LinkFailure::NoAnswer));
        }
        self.try_out(say, ANSWER)
    }
}

/// Does what the exchange asks for at once, or when its turn comes.
fn carry_out<R: Records>(
    output: Output,
    to_do: &mut ToDo<'_, R>,
    say: &mpsc::Sender<Message>,
    (records, handed): (&R, &mut Handed),
) -> Result<(), Ended> {
    match output {
        Output::Send(frame) => {
            let message = Message::Binary(frame::encode(&frame).into());
            if say.try_send(message).is_err() {
                return Err(Ended::Broken(LinkFailure::Broke));
            }
        }
        Output::Absent(hash) => records.absent(hash),
        Output::Handed(number, refusal) => {
            if let Some(reply) = handed.replies.remove(&number) {
                let _ = reply.send(refusal);
            }
        }
        Output::Over(ending) => return Err(Ended::Said(ending)),
        of_records => {
            if let Output::Acknowledged(_, upto) = of_records {
                records.note_acknowledged(upto);
            }
            to_do.add(of_records);
        }
    }
    Ok(())
}

/// Longest message of a pairing.
const LONGEST_OF_PAIRING: u32 = 64 * 1024;

/// Says something in a pairing: its length in four bytes, the first one the greatest, and its bytes.
///
/// # Errors
/// When the connection breaks.
pub async fn say(connection: &mut Connection, message: &[u8]) -> io::Result<()> {
    let stream = &mut connection.stream;
    stream.write_u32(message.len() as u32).await?;
    stream.write_all(message).await?;
    stream.flush().await
}

/// Receives what the other says in a pairing.
///
/// # Errors
/// When the connection breaks, nothing comes in time, or too much.
pub async fn receive(connection: &mut Connection) -> io::Result<Vec<u8>> {
    let stream = &mut connection.stream;
    let receiving = async {
        let length = stream.read_u32().await?;
        if length > LONGEST_OF_PAIRING {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "it says too much at once"));
        }
        let mut message = vec![0; length as usize];
        stream.read_exact(&mut message).await?;
        Ok(message)
    };
    tokio::time::timeout(HANDSHAKE, receiving).await.map_err(|_| io::ErrorKind::TimedOut)?
}

/// Says the first word at the end of a pairing, and receives that of the other.
///
/// # Errors
/// When the connection breaks, or the other says something else.
pub async fn greet(connection: &mut Connection, hello: Hello) -> io::Result<Hello> {
    say(connection, &frame::encode(&Frame::Hello(hello))).await?;
    match frame::decode(&receive(connection).await?) {
        Ok(Frame::Hello(hello)) => Ok(hello),
        _ => Err(io::Error::new(io::ErrorKind::InvalidData, "it does not say hello")),
    }
}

/// Tells what is known of devices, at the end of a pairing.
///
/// # Errors
/// When the connection breaks.
pub async fn say_devices(connection: &mut Connection, devices: Vec<Item>) -> io::Result<()> {
    say(connection, &frame::encode(&Frame::States { upto: 0, items: devices })).await
}

/// Receives what the other knows of devices, at the end of a pairing.
///
/// # Errors
/// When it says something else.
pub async fn receive_devices(connection: &mut Connection) -> io::Result<Vec<yadori_core::shared::Device>> {
    let message = receive(connection).await?;
    match frame::decode(&message) {
        Ok(Frame::States { items, .. }) => Ok(items
            .into_iter()
            .filter_map(|item| match item {
                Item::Device(device) => Some(device),
                _ => None,
            })
            .collect()),
        _ => Err(io::Error::new(io::ErrorKind::InvalidData, "it says something else than which devices there are")),
    }
}

/// Tells the group's place at a relay, at the end of a pairing by way of it.
///
/// # Errors
/// When the connection breaks.
pub async fn say_place(connection: &mut Connection, place: RelayPlace) -> io::Result<()> {
    say(connection, &frame::encode(&Frame::Relay(place))).await
}

/// Receives the group's place at a relay, at the end of a pairing by way of it.
///
/// # Errors
/// When it says something else.
pub async fn receive_place(connection: &mut Connection) -> io::Result<RelayPlace> {
    match frame::decode(&receive(connection).await?) {
        Ok(Frame::Relay(place)) => Ok(place),
        _ => Err(io::Error::new(io::ErrorKind::InvalidData, "it says something else than where the relay is")),
    }
}
