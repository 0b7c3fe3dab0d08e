//! Whoever is not linked and wants in; and whoever is linked, and lies.

use super::own::{Own, pair};
use bytes::Bytes;
use std::sync::Arc;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio::runtime::Runtime;
use yadori_api::DeviceState;
use yadori_core::merge::{Register, State};
use yadori_core::shared::{Body, BodyFormat, Clip, Device, Item};
use yadori_core::{ClipId, Kind, MillisSinceEpoch, Stamp};
use yadori_e2e::home::Home;
use yadori_link::code::Code;
use yadori_link::connection::{self, PeerConnection};
use yadori_link::frame::{self, CHUNK, Frame, Hello, VERSIONS};
use yadori_link::identity::{Identity, Pin};
use yadori_link::pairing::{Pairing, Side};
use yadori_link::tls::{Connection, Linked, TlsEndpoint};

fn runtime() -> Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap()
}

fn stranger() -> TlsEndpoint {
    TlsEndpoint::new(Arc::new(Identity::new().unwrap()), Linked::default())
}

fn key_of(home: &Home) -> Identity {
    Identity::from_pem(&home.ask_database("SELECT value FROM yadori.settings WHERE name = 'device-key'")).unwrap()
}

/// Carries bytes both ways between a device that joins and one that invites, as a man in the middle who has a
/// certificate of his own. Tells whether he was given a proof.
async fn stand_between(listener: TcpListener, target: String) -> bool {
    let endpoint = stranger();
    let (stream, _) = listener.accept().await.unwrap();
    let mut joins = endpoint.take(stream, || true).await.unwrap();
    let mut invites = endpoint.make(TcpStream::connect(target).await.unwrap(), None).await.unwrap();
    // He reads all of it, and hands everything on as it is.
    let mut answered = false;
    for _ in 0..2 {
        let Ok(said) = connection::receive(&mut joins).await else { break };
        connection::say(&mut invites, &said).await.unwrap();
        let Ok(said) = connection::receive(&mut invites).await else { break };
        answered = said.len() == 32;
        if connection::say(&mut joins, &said).await.is_err() {
            break;
        }
    }
    answered
}

#[test]
fn a_man_in_the_middle_gets_nothing_even_from_the_right_code() {
    let (workshop, van) = (Own::new("workshop"), Own::new("van"));
    let invitation = workshop.invite();
    let runtime = runtime();
    let listener = runtime.block_on(TcpListener::bind("127.0.0.1:0")).unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let between = runtime.spawn(stand_between(listener, invitation.addresses[0].clone()));
    let (code, said) = van.service.fail(&["device", "join", &address, &invitation.code]);
    assert!(code == 1 && said.contains("not the one"), "{said}");
    assert!(!runtime.block_on(between).unwrap(), "he was given a proof");
    assert_eq!((workshop.devices().len(), van.devices().len()), (1, 1));
}

/// What somebody who joins says until the other is convinced: both messages of a pairing. Tells whether it was.
async fn pair_by(
    endpoint: &TlsEndpoint,
    address: &str,
    messages: impl FnOnce(&Pin, &[u8]) -> Vec<u8>,
    first: &[u8],
) -> bool {
    let Ok(mut connection) = endpoint.make(TcpStream::connect(address).await.unwrap(), None).await else {
        return false;
    };
    let peer: Pin = connection.peer;
    let say_all = async |connection: &mut Connection| {
        connection::say(connection, first).await.ok()?;
        let second = connection::receive(connection).await.ok()?;
        connection::say(connection, &messages(&peer, &second)).await.ok()?;
        connection::receive(connection).await.ok().map(|proof| !proof.is_empty())
    };
    say_all(&mut connection).await.unwrap_or(false)
}

#[test]
fn what_was_said_in_a_pairing_is_of_no_use_afterwards() {
    let workshop = Own::new("workshop");
    let invitation = workshop.invite();
    let address = invitation.addresses[0].as_str();
    let (runtime, endpoint) = (runtime(), stranger());
    let code: Code = invitation.code.parse().unwrap();
    let own = endpoint.identity().pin();
    let inviter = key_of(&workshop.home).pin();
    let (pairing, first) = Pairing::begin(Side::Joins, &code, &own, &inviter);
    let mut proof = Vec::new();
    let convinced = runtime.block_on(pair_by(
        &endpoint,
        address,
        |_, second| {
            proof = pairing.agree(second).unwrap().proof().to_vec();
            proof.clone()
        },
        &first,
    ));
    // It broke off then, before it was linked; the code is used up all the same.
    assert!(convinced && workshop.devices().len() == 1);
    assert!(!runtime.block_on(pair_by(&endpoint, address, |_, _| proof.clone(), &first)));
    // With another invitation the same words are wrong words, and no more than a try.
    let another = workshop.invite();
    assert!(!runtime.block_on(pair_by(&endpoint, address, |_, _| proof.clone(), &first)));
    let van = Own::new("van");
    van.run(&["device", "join", address, &another.code]);
    assert_eq!(workshop.devices().len(), 2);
}

#[test]
fn nobody_gets_in_who_is_not_linked() {
    let (workshop, van) = pair();
    let address = workshop.devices()[0].addresses[0].clone();
    runtime().block_on(async {
        // A stranger with a good certificate ends in the handshake; so does one who wants to be paired uninvited.
        let stranger = stranger();
        for expected in [None, Some([0; 32])] {
            let stream = TcpStream::connect(&address).await.unwrap();
            let refused = match stranger.make(stream, expected).await {
                Ok(mut connection) => connection::receive(&mut connection).await.is_err(),
                Err(_) => true,
            };
            assert!(refused);
        }
        for garbage in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[0xff; 4096], b""] {
            let mut stream = TcpStream::connect(&address).await.unwrap();
            stream.write_all(garbage).await.unwrap();
        }
    });
    assert!(!workshop.run(&["device", "list", "--json"]).contains("PRIVATE"));
    workshop.run(&["add", "all is well"]);
    van.until_newest("all is well");
}

#[test]
fn a_device_that_was_removed_while_it_was_away_is_kept_out_and_sees_why() {
    let (workshop, van) = pair();
    let van = van.killed();
    workshop.until(|own| own.devices()[1].state == DeviceState::Away);
    workshop.run(&["device", "remove", "van", "--yes"]);
    workshop.run(&["add", "not for the van"]);
    let impostor = Impostor::of(&van, &workshop);
    assert!(impostor.runtime.block_on(impostor.open()).is_none());
    let van = Own::started(van);
    van.until(|own| own.notes_of("workshop").contains("was removed"));
    assert!(van.list().is_empty());
    // It can come back as any other.
    van.joins(&workshop);
    van.until_newest("not for the van");
}

#[test]
fn whoever_holds_on_to_many_connections_keeps_nobody_out() {
    let (workshop, van) = pair();
    let address = workshop.devices()[0].addresses[0].clone();
    let van = van.killed();
    let runtime = runtime();
    let held = runtime.block_on(async {
        workshop.invite();
        let mut held = Vec::new();
        for n in 0..400 {
            let mut stream = TcpStream::connect(&address).await.unwrap();
            // Some say nothing, some begin.
            let _ = stream.write_all(&[22, 3, 1, 2, 0][..n % 6]).await;
            held.push(stream);
        }
        held
    });
    let van = Own::started(van);
    van.until(|own| own.sees(&workshop) == DeviceState::Connected);
    workshop.run(&["add", "through the crowd"]);
    van.until_newest("through the crowd");
    drop(held);
    assert!(workshop.service.peak_memory_kib() < 200 * 1024);
}

/// Somebody who has the key of a linked device, and says what he likes.
struct Impostor {
    runtime: Runtime,
    endpoint: TlsEndpoint,
    address: String,
    target: Pin,
}

impl Impostor {
    /// In the place of the device with this home, which must not run.
    fn of(device: &Home, target: &Own) -> Self {
        let linked = Linked::default();
        let pin = key_of(&target.home).pin();
        linked.set([pin]);
        let endpoint = TlsEndpoint::new(Arc::new(key_of(device)), linked);
        Self { runtime: runtime(), endpoint, address: target.devices()[0].addresses[0].clone(), target: pin }
    }

    async fn open(&self) -> Option<PeerConnection> {
        let stream = TcpStream::connect(&self.address).await.unwrap();
        PeerConnection::open(self.endpoint.make(stream, Some(self.target)).await.ok()?).await.ok()
    }

    /// Opens an exchange as it should be.
    async fn greet(&self) -> PeerConnection {
        let mut line = self.open().await.expect("a line");
        let now = MillisSinceEpoch(jiff::Timestamp::now().as_millisecond() as u64);
        let hello = Hello { versions: VERSIONS, name: "van".into(), now, feed: [7; 8], latest: 9, read: None };
        line.say_raw(frame::encode(&Frame::Hello(hello))).await;
        line
    }

    /// Whether the other ends the connection when it hears this after a good beginning.
    fn is_cut_off_for(&self, said: &[Frame]) -> bool {
        self.runtime.block_on(async {
            let mut line = self.greet().await;
            for frame in said {
                line.say_raw(frame::encode(frame)).await;
            }
            line.is_ended().await
        })
    }
}

fn told(id: ClipId, formats: Vec<BodyFormat>) -> Frame {
    let copied = Stamp::at_start_of(MillisSinceEpoch(jiff::Timestamp::now().as_millisecond() as u64));
    let body = Body { size: formats.iter().map(|format| format.size).sum(), formats, ..Body::default() };
    let state = State { copied, copies: 1, ..State::default() };
    Frame::States { upto: 9, items: vec![Item::Clip(Box::new(Clip { id, kind: Kind::Text, state, body: Some(body) }))] }
}

fn format(size: u64, hash: [u8; 32], data: Option<&'static [u8]>) -> BodyFormat {
    let mime = yadori_core::format::PLAIN.to_owned();
    BodyFormat { mime, size, hash, data: data.map(Bytes::from_static) }
}

#[test]
fn a_linked_device_that_talks_nonsense_is_cut_off() {
    let (workshop, van) = pair();
    let van = van.killed();
    let impostor = Impostor::of(&van, &workshop);
    for nonsense in [vec![0xff; 100], vec![0; 5 << 20], frame::encode(&Frame::Ack(7))] {
        let is_ended = impostor.runtime.block_on(async {
            let mut line = impostor.open().await.unwrap();
            line.say_raw(nonsense).await;
            line.is_ended().await
        });
        assert!(is_ended);
    }
    // More than can be taken in at once, without waiting for an answer; and what nobody asked for.
    let flood: Vec<Frame> = (0..300).map(|upto| Frame::States { upto, items: Vec::new() }).collect();
    let pieces: Vec<Frame> = (0..50).map(|_| Frame::Chunk([1; 32], 0, Bytes::from(vec![0; CHUNK]))).collect();
    impostor.runtime.block_on(async {
        let mut line = impostor.greet().await;
        for frame in &flood {
            line.say_raw(frame::encode(frame)).await;
        }
        // Each is put on record and acknowledged, one after the other, or it is too much: both will do.
        while let Some(said) = line.receive_raw().await {
            if frame::decode(&said) == Ok(Frame::Ack(299)) {
                break;
            }
        }
    });
    assert!(impostor.is_cut_off_for(&pieces));
    workshop.run(&["add", "all is well"]);
    assert_eq!(workshop.previews(), ["all is well"]);
    assert!(workshop.service.peak_memory_kib() < 200 * 1024);
}

#[test]
fn lies_about_content_are_found_out() {
    let (workshop, van) = pair();
    let van = van.killed();
    let impostor = Impostor::of(&van, &workshop);
    let words = b"What was copied";
    let hash = *blake3::hash(words).as_bytes();
    let id = ClipId::of(Kind::Text, words);
    let size = words.len() as u64;
    // Other bytes than their hash says, another size, another clip than its id says.
    assert!(impostor.is_cut_off_for(&[told(id, vec![format(size, [7; 32], Some(words))])]));
    assert!(impostor.is_cut_off_for(&[told(id, vec![format(size + 1, hash, Some(words))])]));
    assert!(impostor.is_cut_off_for(&[told(ClipId([9; 16]), vec![format(size, hash, Some(words))])]));
    assert!(workshop.list().is_empty());
    // Content that is asked for, and comes as something else, or as more than was said.
    let large = *blake3::hash(&[1; CHUNK]).as_bytes();
    for (size, hash, bytes) in [(CHUNK as u64, large, vec![2; CHUNK]), (70_000, [3; 32], vec![3; 70_001])] {
        let is_ended = impostor.runtime.block_on(async {
            let mut line = impostor.greet().await;
            line.say_raw(frame::encode(&told(ClipId(hash[..16].try_into().unwrap()), vec![format(size, hash, None)])))
                .await;
            while let Some(said) = line.receive_raw().await {
                if frame::decode(&said) == Ok(Frame::Want(hash, 0)) {
                    line.say_raw(frame::encode(&Frame::Chunk(hash, 0, Bytes::from(bytes.clone())))).await;
                }
            }
            true
        });
        assert!(is_ended);
    }
    // Nothing of it is there to be recalled, and the device itself goes on as before.
    assert!(workshop.list().iter().all(|clip| clip.elsewhere));
    let van = Own::started(van);
    van.run(&["add", "all is well"]);
    workshop.until_newest("all is well");
    assert!(workshop.service.run_with(&["recall", "2"], b"").status.code() == Some(1));
}

/// A device that was removed says to one that has not heard of it that it belongs to the others, at a time to come.
#[test]
fn a_removal_is_final_whatever_the_removed_device_says() {
    let (workshop, van) = pair();
    let desk = Own::new("desk");
    desk.joins(&workshop);
    desk.until(|own| own.devices().len() == 3);
    let van = van.killed();
    let key = key_of(&van).pin();
    // The desk is away while the workshop removes the van.
    let desk = desk.killed();
    workshop.run(&["device", "remove", "van", "--yes"]);
    let desk = Own::started(desk);
    // (It may have heard of the removal by now, or not.)
    let impostor = Impostor::of(&van, &desk);
    let ahead = Stamp::at_start_of(MillisSinceEpoch(jiff::Timestamp::now().as_millisecond() as u64 + 14 * 60_000));
    let itself = Device { key, linked: Register::new(ahead, true), ..Device::default() };
    impostor.runtime.block_on(async {
        if let Some(mut line) = impostor.open().await {
            let now = MillisSinceEpoch(jiff::Timestamp::now().as_millisecond() as u64);
            let hello = Hello { versions: VERSIONS, name: "van".into(), now, feed: [7; 8], latest: 9, read: None };
            line.say_raw(frame::encode(&Frame::Hello(hello))).await;
            line.say_raw(frame::encode(&Frame::States { upto: 9, items: vec![Item::Device(itself)] })).await;
            while line.receive_raw().await.is_some() {}
        }
    });
    for own in [&workshop, &desk] {
        own.until(|own| own.devices().len() == 2);
    }
    assert!(impostor.runtime.block_on(impostor.open()).is_none());
    // It is let in again by an invitation only, with a key of its own that nobody has removed.
    let van = Own::started(van);
    van.joins(&workshop);
    desk.until(|own| own.devices().len() == 3);
    assert_ne!(key_of(&van.home).pin(), key);
}

#[test]
fn who_introduced_whom_is_said_and_goes_along() {
    let (workshop, van) = pair();
    let tablet = Own::new("tablet");
    tablet.joins(&van);
    workshop.until(|own| own.devices().len() == 3);
    assert!(workshop.notes_of("tablet").contains("introduced by van"), "{}", workshop.notes_of("tablet"));
    assert!(van.notes_of("tablet").is_empty());
    let said = workshop.run(&["device", "remove", "van", "--with-introduced", "--yes"]);
    assert!(said.contains("tablet"), "{said}");
    assert_eq!(workshop.devices().len(), 1);
    workshop.run(&["add", "for nobody else"]);
    tablet.until(|own| own.sees(&workshop) == DeviceState::Away);
    assert!(tablet.list().is_empty());
}

#[test]
fn two_thousand_invented_devices_are_not_believed() {
    let (workshop, van) = pair();
    let van = van.killed();
    let impostor = Impostor::of(&van, &workshop);
    let now = Stamp::at_start_of(MillisSinceEpoch(jiff::Timestamp::now().as_millisecond() as u64));
    let device = |number: u32| {
        let mut key = [1; 32];
        key[..4].copy_from_slice(&number.to_le_bytes());
        Item::Device(Device {
            key,
            name: Register::new(now, format!("invented {number}")),
            addresses: Register::new(now, vec!["192.0.2.1:7437".into()]),
            linked: Register::new(now, true),
        })
    };
    impostor.runtime.block_on(async {
        let mut line = impostor.greet().await;
        line.say_raw(frame::encode(&Frame::States { upto: 9, items: (0..2000).map(device).collect() })).await;
        while let Some(said) = line.receive_raw().await {
            if frame::decode(&said) == Ok(Frame::Ack(9)) {
                break;
            }
        }
    });
    assert!(workshop.devices().len() <= 64, "{}", workshop.devices().len());
    workshop.run(&["add", "all is well"]);
}

#[test]
fn a_clip_that_says_it_is_enormous_is_refused_and_leaves_nothing() {
    let (workshop, van) = pair();
    let van = van.killed();
    let impostor = Impostor::of(&van, &workshop);
    let now = Stamp::at_start_of(MillisSinceEpoch(jiff::Timestamp::now().as_millisecond() as u64));
    let of = |size: u64, promised: u64, copies: u32| {
        let format = BodyFormat { mime: "image/png".into(), size: promised, hash: [5; 32], data: None };
        let body = Body { size, formats: vec![format], ..Body::default() };
        let pin = Register::new(now, yadori_core::Rank::from_slice(b"n"));
        let state = State { copied: now, copies, pin, ..State::default() };
        let clip = Clip { id: ClipId([6; 16]), kind: Kind::Image, state, body: Some(body) };
        Frame::States { upto: 9, items: vec![Item::Clip(Box::new(clip))] }
    };
    for enormous in [of(1 << 46, 1 << 46, 1), of(100, 1 << 46, 1), of(u64::MAX, u64::MAX, 1)] {
        assert!(impostor.is_cut_off_for(&[enormous]));
    }
    assert!(workshop.list().is_empty());
    // Within the bounds, but without a byte: it is listed and cannot be shown, and the counts stop where they may.
    impostor.runtime.block_on(async {
        let mut line = impostor.greet().await;
        line.say_raw(frame::encode(&of(1 << 30, 1 << 30, u32::MAX))).await;
        workshop.until(|own| own.list().len() == 1);
    });
    assert!([404, 502].contains(&workshop.service.get("/clips/1/thumbnail").status));
    workshop.run(&["stats"]);
    assert!(workshop.service.peak_memory_kib() < 200 * 1024);
}

#[test]
fn content_that_is_another_clips_never_takes_the_place_of_what_is_here() {
    let (workshop, van) = pair();
    let account = format!("Account 00-17, at the end of a long letter{}", " of the theatre".repeat(6000));
    assert!(workshop.service.run_with(&["add", "--pin", "-"], account.as_bytes()).status.success());
    van.until(|own| own.list().len() == 1 && !own.list()[0].elsewhere);
    let van = van.killed();
    let impostor = Impostor::of(&van, &workshop);
    let lie = Bytes::from(vec![b'x'; 4 * CHUNK / 3]);
    let hash = *blake3::hash(&lie).as_bytes();
    let bring = |id: ClipId| {
        impostor.runtime.block_on(async {
            let mut line = impostor.greet().await;
            line.say_raw(frame::encode(&told(id, vec![format(lie.len() as u64, hash, None)]))).await;
            // Whatever is asked for is given, until it is cut off or has nothing to say.
            while let Ok(Some(said)) = tokio::time::timeout(std::time::Duration::from_secs(2), line.receive_raw()).await
            {
                if let Ok(Frame::Want(wanted, from)) = frame::decode(&said) {
                    assert_eq!(wanted, hash);
                    let from = from as usize;
                    let piece = lie.slice(from..(from + CHUNK).min(lie.len()));
                    line.say_raw(frame::encode(&Frame::Chunk(hash, from as u64, piece))).await;
                }
            }
        });
    };
    // Of a clip that is here, and of one that is not; the lie itself is known by then, under its own hash.
    bring(ClipId::of(Kind::Text, account.as_bytes()));
    assert_eq!(workshop.run(&["show", "p1", "--raw"]), account);
    bring(ClipId([3; 16]));
    assert!(workshop.run(&["add", &String::from_utf8_lossy(&lie[..1000])]).contains("Added"));
    bring(ClipId::of(Kind::Text, account.as_bytes()));
    assert_eq!(workshop.run(&["show", "p1", "--raw"]), account);
    assert!(workshop.list().iter().all(|clip| clip.id != ClipId([3; 16]).to_string()), "{:?}", workshop.previews());
}

#[test]
fn content_that_the_others_are_not_told_of_is_not_handed_out_by_its_hash() {
    let (workshop, van) = pair();
    let markup = format!("<p>4111 1111 1111 1111{}</p>", " ".repeat(40_000));
    let markup_hash = *blake3::hash(markup.as_bytes()).as_bytes();
    assert!(workshop.service.run_with(&["add", "--type", "text/html", "-"], markup.as_bytes()).status.success());
    workshop.run(&["sync", "policy", "--leaves", "by-hand"]);
    let letter = "For nobody but me. ".repeat(9000);
    assert!(workshop.service.run_with(&["add", "-"], letter.as_bytes()).status.success());
    let van = van.killed();
    workshop.until(|own| own.devices()[1].state == DeviceState::Away);
    let impostor = Impostor::of(&van, &workshop);
    for hash in [markup_hash, *blake3::hash(letter.as_bytes()).as_bytes()] {
        let answer = impostor.runtime.block_on(async {
            let mut line = impostor.greet().await;
            line.say_raw(frame::encode(&Frame::Want(hash, 0))).await;
            loop {
                if let Ok(answer @ (Frame::Absent(_) | Frame::Chunk(..))) =
                    frame::decode(&line.receive_raw().await.expect("an answer"))
                {
                    return answer;
                }
            }
        });
        assert_eq!(answer, Frame::Absent(hash));
    }
}

#[test]
fn garbage_does_not_use_up_an_invitation_and_one_stranger_cannot() {
    let workshop = Own::new("workshop");
    let invitation = workshop.invite();
    let address = invitation.addresses[0].as_str();
    let (runtime, endpoint) = (runtime(), stranger());
    for _ in 0..8 {
        assert!(!runtime.block_on(pair_by(&endpoint, address, |_, _| Vec::new(), b"garbage")));
    }
    // Whole tries with a wrong code, from another address of this machine.
    let wrong: Code = "aaaa-aaaa".parse().unwrap();
    let inviter = key_of(&workshop.home).pin();
    let tried = (0..8).filter(|_| {
        let (pairing, first) = Pairing::begin(Side::Joins, &wrong, &endpoint.identity().pin(), &inviter);
        runtime.block_on(async {
            let socket = tokio::net::TcpSocket::new_v4().unwrap();
            socket.bind("127.0.0.9:0".parse().unwrap()).unwrap();
            let stream = socket.connect(address.parse().unwrap()).await.unwrap();
            let Ok(mut connection) = endpoint.make(stream, None).await else { return false };
            connection::say(&mut connection, &first).await.unwrap();
            let Ok(second) = connection::receive(&mut connection).await else { return false };
            let proof = pairing.agree(&second).unwrap().proof();
            connection::say(&mut connection, &proof).await.unwrap();
            matches!(connection::receive(&mut connection).await, Ok(answer) if answer.is_empty())
        })
    });
    assert_eq!(tried.count(), 3, "so many tries from one address");
    let van = Own::new("van");
    van.run(&["device", "join", address, &invitation.code]);
    assert_eq!(workshop.devices().len(), 2);
}

#[test]
fn what_a_connection_was_asked_for_is_asked_of_the_one_that_takes_its_place() {
    let (workshop, van) = pair();
    let van = van.killed();
    let impostor = Impostor::of(&van, &workshop);
    // Too large to be fetched before somebody wants it.
    let bytes = Bytes::from(vec![b'y'; 8 * CHUNK]);
    let hash = *blake3::hash(&bytes).as_bytes();
    let large = told(ClipId::of(Kind::Text, &bytes), vec![format(bytes.len() as u64, hash, None)]);
    let shown = std::thread::scope(|scope| {
        let mut first = impostor.runtime.block_on(impostor.greet());
        impostor.runtime.block_on(first.say_raw(frame::encode(&large)));
        workshop.until(|own| own.list().len() == 1);
        let shown = scope.spawn(|| workshop.run(&["show", "1", "--raw"]));
        let wanted = async |line: &mut PeerConnection| loop {
            let said = line.receive_raw().await.expect("the line holds");
            if let Ok(Frame::Want(wanted, from)) = frame::decode(&said) {
                assert_eq!(wanted, hash);
                return from as usize;
            }
        };
        impostor.runtime.block_on(async {
            // It never answers: the device has made another connection meanwhile.
            assert_eq!(wanted(&mut first).await, 0);
            let mut second = impostor.greet().await;
            let mut here = 0;
            while here < bytes.len() {
                here = wanted(&mut second).await;
                let piece = bytes.slice(here..(here + CHUNK).min(bytes.len()));
                here += piece.len();
                second.say_raw(frame::encode(&Frame::Chunk(hash, here as u64 - piece.len() as u64, piece))).await;
            }
        });
        shown.join().unwrap()
    });
    assert_eq!(shown.as_bytes(), bytes);
}
