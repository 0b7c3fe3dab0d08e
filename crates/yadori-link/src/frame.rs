//! What devices say to each other, as bytes: CBOR (RFC 8949), one value for each WebSocket message.
//!
//! Whatever is read is checked before anybody sees it: lengths, places, kinds, names.

use crate::group::Group;
use crate::identity::Pin;
use bytes::Bytes;
use serde::{Deserialize, Serialize};
use serde_bytes::{ByteArray, ByteBuf};
use thiserror::Error;
use yadori_core::alias::Alias;
use yadori_core::clock::CLOCKS_APART_MILLIS;
use yadori_core::merge::{InDrawer, Register, State};
use yadori_core::shared::{
    ALONG_BYTES, Body, BodyFormat, Clip, Device, Drawer, Hash, Heading, Item, LARGEST_BYTES, MOST_COUNTED,
};
use yadori_core::{ClipId, DeviceId, Kind, Mark, MillisSinceEpoch, Rank, Source, Stamp};

/// The newest version of what is said here, and the oldest that is still understood.
pub const VERSIONS: (u16, u16) = (2, 1);

/// From this version on a device can be told of the group's place at a relay.
pub const KNOWS_RELAYS: u16 = 2;

/// No message is larger: 4 MiB.
pub const LONGEST: usize = 4 * 1024 * 1024;

/// Most addresses of one device: as many as a device tells of itself.
const MOST_ADDRESSES: usize = 8;

/// Largest side of a picture, in pixels, and most lines and characters of a text: what is said beyond is cut.
const MOST_PIXELS: u32 = 1 << 20;

/// Most bytes of content in one message: 256 KiB.
pub const CHUNK: usize = 256 * 1024;

/// Something that one device says to the other.
#[derive(Clone, Debug, PartialEq)]
pub enum Frame {
    /// The first word of each side.
    Hello(Hello),
    /// Things that have changed: all that there is in the sender's feed up to `upto`.
    States {
        /// The number of the change in the sender's feed.
        upto: u64,
        /// What has changed.
        items: Vec<Item>,
    },
    /// Everything in the other's feed up to here is on record.
    Ack(u64),
    /// Content is wanted, from this byte on.
    Want(Hash, u64),
    /// Content: bytes from this one on.
    Chunk(Hash, u64, Bytes),
    /// This content is not here.
    Absent(Hash),
    /// A clip is handed over, whatever is shared otherwise.
    Hand {
        /// By which the answer refers to it.
        number: u32,
        /// The clip.
        clip: Box<Clip>,
        /// Whether it is to be put on the clipboard.
        recall: bool,
    },
    /// What became of what was handed over: nothing, if all is well.
    Handed(u32, Option<String>),
    /// The group's place at a relay, or that it has none, as the sender knows it.
    Relay(RelayPlace),
    /// The connection ends, and why.
    Bye(Bye),
}

/// A group's place at a relay, and when it was chosen: the later choice counts.
pub type RelayPlace = Register<Option<Group>>;

/// The first word of a device.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hello {
    /// The newest version it speaks, and the oldest it understands.
    pub versions: (u16, u16),
    /// What it is called.
    pub name: String,
    /// What its clock says.
    pub now: MillisSinceEpoch,
    /// Which feed it has: another one after its records were set up anew.
    pub feed: [u8; 8],
    /// The number of the latest change in it.
    pub latest: u64,
    /// How far it has read the other's feed, and which one that was.
    pub read: Option<([u8; 8], u64)>,
}

impl Hello {
    /// Why nothing can be exchanged with whoever says this, if the clock here says `now`. Both sides come to the same
    /// answer.
    pub fn objection(&self, now: MillisSinceEpoch) -> Option<Bye> {
        let (newest, oldest) = self.versions;
        if newest < VERSIONS.1 || oldest > VERSIONS.0 {
            return Some(Bye::Version(newest < VERSIONS.1));
        }
        (self.now.0.abs_diff(now.0) > CLOCKS_APART_MILLIS).then_some(Bye::Clock)
    }
}

/// Why a connection ends.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Bye {
    /// The versions do not meet: whether it is the one who reads this that is older.
    Version(bool),
    /// The clocks are more than [`CLOCKS_APART_MILLIS`] apart.
    Clock,
    /// The one who reads this was removed from the others.
    Removed,
    /// Something came that could not be understood.
    Garbled,
    /// There is another connection, or the service ends.
    Over,
}

/// Bytes that say nothing that could be understood.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
#[error("it said something that could not be understood: {0}")]
pub struct Garbled(pub &'static str);

type Id16 = ByteArray<16>;
type WireRegister<T> = (u64, T);

#[derive(Serialize, Deserialize)]
enum Wire {
    #[serde(rename = "h")]
    Hello((u16, u16), String, u64, ByteArray<8>, u64, Option<(ByteArray<8>, u64)>),
    #[serde(rename = "s")]
    States(u64, Vec<WireItem>),
    #[serde(rename = "a")]
    Ack(u64),
    #[serde(rename = "w")]
    Want(ByteArray<32>, u64),
    #[serde(rename = "c")]
    Chunk(ByteArray<32>, u64, ByteBuf),
    #[serde(rename = "n")]
    Absent(ByteArray<32>),
    #[serde(rename = "g")]
    Hand(u32, Box<WireClip>, bool),
    #[serde(rename = "t")]
    Handed(u32, Option<String>),
    #[serde(rename = "r")]
    Relay(WireRegister<Option<ByteBuf>>),
    #[serde(rename = "b")]
    Bye(u8),
}

#[derive(Serialize, Deserialize)]
enum WireItem {
    #[serde(rename = "c")]
    Clip(Box<WireClip>),
    #[serde(rename = "d")]
    Drawer(Id16, String, ByteBuf, u64, bool),
    #[serde(rename = "h")]
    Heading(Id16, Id16, ByteBuf, String, u64, bool),
    #[serde(rename = "v")]
    Device(ByteArray<32>, WireRegister<String>, WireRegister<Vec<String>>, WireRegister<bool>),
}

#[derive(Serialize, Deserialize)]
struct WireClip(Id16, u8, WireState, Option<WireBody>);

#[derive(Serialize, Deserialize)]
struct WireState(
    (u64, Id16),
    [u64; 4],
    (u32, u32, u64),
    WireRegister<Option<String>>,
    WireRegister<Option<u8>>,
    WireRegister<Option<String>>,
    WireRegister<bool>,
    WireRegister<Option<ByteBuf>>,
    WireRegister<Option<(Id16, ByteBuf)>>,
);

#[derive(Serialize, Deserialize)]
struct WireBody(
    u64,
    Option<(u32, u32)>,
    Option<(u64, u64)>,
    Option<String>,
    Option<String>,
    (Option<String>, Option<String>, Option<String>, bool),
    Vec<(String, u64, ByteArray<32>, Option<ByteBuf>)>,
);

/// Writes down what is said.
pub fn encode(frame: &Frame) -> Vec<u8> {
    let wire = match frame {
        Frame::Hello(hello) => Wire::Hello(
            hello.versions,
            hello.name.clone(),
            hello.now.0,
            ByteArray::new(hello.feed),
            hello.latest,
            hello.read.map(|(feed, upto)| (ByteArray::new(feed), upto)),
        ),
        Frame::States { upto, items } => Wire::States(*upto, items.iter().map(item).collect()),
        Frame::Ack(upto) => Wire::Ack(*upto),
        Frame::Want(hash, from) => Wire::Want(ByteArray::new(*hash), *from),
        Frame::Chunk(hash, at, data) => Wire::Chunk(ByteArray::new(*hash), *at, ByteBuf::from(data.to_vec())),
        Frame::Absent(hash) => Wire::Absent(ByteArray::new(*hash)),
        Frame::Hand { number, clip, recall } => Wire::Hand(*number, Box::new(wire_clip(clip)), *recall),
        Frame::Handed(number, trouble) => Wire::Handed(*number, trouble.clone()),
        Frame::Relay(place) => {
            let bytes = place.value.as_ref().map(|group| ByteBuf::from(group.to_bytes()));
            Wire::Relay((place.stamp.to_bits(), bytes))
        }
        Frame::Bye(bye) => Wire::Bye(match bye {
            Bye::Version(false) => 1,
            Bye::Version(true) => 2,
            Bye::Clock => 3,
            Bye::Removed => 4,
            Bye::Garbled => 5,
            Bye::Over => 6,
        }),
    };
    // Nothing that is written here can fail to be: there are no maps with strange keys, and no writer.
    minicbor_serde::to_vec(&wire).unwrap_or_default()
}

/// Reads what was said.
///
/// # Errors
/// When it is not what a device of this version says.
pub fn decode(bytes: &[u8]) -> Result<Frame, Garbled> {
    let wire: Wire = minicbor_serde::from_slice(bytes).map_err(|_| Garbled("it is not CBOR of the right form"))?;
    Ok(match wire {
        Wire::Hello(versions, name, now, feed, latest, read) => Frame::Hello(Hello {
            versions,
            name: named(name)?,
            now: MillisSinceEpoch(now),
            feed: feed.into_array(),
            latest,
            read: read.map(|(feed, upto)| (feed.into_array(), upto)),
        }),
        Wire::States(upto, items) => {
            Frame::States { upto, items: items.into_iter().map(read_item).collect::<Result<_, _>>()? }
        }
        Wire::Ack(upto) => Frame::Ack(upto),
        Wire::Want(hash, from) => Frame::Want(hash.into_array(), from),
        Wire::Chunk(hash, at, data) if data.len() <= CHUNK => {
            Frame::Chunk(hash.into_array(), at, Bytes::from(data.into_vec()))
        }
        Wire::Chunk(..) => return Err(Garbled("a piece of content is too large")),
        Wire::Absent(hash) => Frame::Absent(hash.into_array()),
        Wire::Hand(number, clip, recall) => Frame::Hand { number, clip: Box::new(read_clip(*clip)?), recall },
        Wire::Handed(number, trouble) => Frame::Handed(number, trouble.map(|text| cut(text, 500))),
        Wire::Relay((stamp, place)) => {
            let group = place.map(|bytes| Group::from_bytes(&bytes)).transpose()?;
            Frame::Relay(Register::new(Stamp::from_bits(stamp), group))
        }
        Wire::Bye(1) => Frame::Bye(Bye::Version(false)),
        Wire::Bye(2) => Frame::Bye(Bye::Version(true)),
        Wire::Bye(3) => Frame::Bye(Bye::Clock),
        Wire::Bye(4) => Frame::Bye(Bye::Removed),
        Wire::Bye(5) => Frame::Bye(Bye::Garbled),
        Wire::Bye(_) => Frame::Bye(Bye::Over),
    })
}

fn item(item: &Item) -> WireItem {
    match item {
        Item::Clip(clip) => WireItem::Clip(Box::new(wire_clip(clip))),
        Item::Drawer(drawer) => WireItem::Drawer(
            ByteArray::new(drawer.id),
            drawer.name.clone(),
            placed(&drawer.place),
            drawer.changed.to_bits(),
            drawer.removed,
        ),
        Item::Heading(heading) => WireItem::Heading(
            ByteArray::new(heading.id),
            ByteArray::new(heading.drawer),
            placed(&heading.place),
            heading.words.clone(),
            heading.changed.to_bits(),
            heading.removed,
        ),
        Item::Device(device) => WireItem::Device(
            ByteArray::new(device.key),
            (device.name.stamp.to_bits(), device.name.value.clone()),
            (device.addresses.stamp.to_bits(), device.addresses.value.clone()),
            (device.linked.stamp.to_bits(), device.linked.value),
        ),
    }
}

fn read_item(item: WireItem) -> Result<Item, Garbled> {
    Ok(match item {
        WireItem::Clip(clip) => Item::Clip(Box::new(read_clip(*clip)?)),
        WireItem::Drawer(id, name, place, changed, removed) => Item::Drawer(Drawer {
            id: id.into_array(),
            name: named(name)?,
            place: place_of(&place)?,
            changed: Stamp::from_bits(changed),
            removed,
        }),
        WireItem::Heading(id, drawer, place, words, changed, removed) => Item::Heading(Heading {
            id: id.into_array(),
            drawer: drawer.into_array(),
            place: place_of(&place)?,
            words: no_longer(words, 200)?,
            changed: Stamp::from_bits(changed),
            removed,
        }),
        WireItem::Device(key, name, addresses, linked) => {
            if addresses.1.len() > MOST_ADDRESSES || addresses.1.iter().any(|address| address.len() > 255) {
                return Err(Garbled("a device has too many addresses"));
            }
            Item::Device(Device {
                key: Pin::from(key.into_array()),
                name: Register::new(Stamp::from_bits(name.0), named(name.1)?),
                addresses: Register::new(Stamp::from_bits(addresses.0), addresses.1),
                linked: Register::new(Stamp::from_bits(linked.0), linked.1),
            })
        }
    })
}

fn wire_clip(clip: &Clip) -> WireClip {
    let state = &clip.state;
    let bytes = |text: &Option<Rank>| text.as_ref().map(placed);
    WireClip(
        ByteArray::new(clip.id.0),
        clip.kind.code(),
        WireState(
            (state.copied.to_bits(), ByteArray::new(state.origin.0)),
            [state.restored, state.deleted, state.cleared, state.purged].map(Stamp::to_bits),
            (state.copies, state.recalls, state.recalled_at.0),
            (state.title.stamp.to_bits(), state.title.value.clone()),
            (state.mark.stamp.to_bits(), state.mark.value.map(Mark::code)),
            (state.alias.stamp.to_bits(), state.alias.value.clone()),
            (state.fills.stamp.to_bits(), state.fills.value),
            (state.pin.stamp.to_bits(), bytes(&state.pin.value)),
            (
                state.drawer.stamp.to_bits(),
                state.drawer.value.as_ref().map(|lies| (ByteArray::new(lies.drawer), placed(&lies.place))),
            ),
        ),
        clip.body.as_ref().map(|body| {
            WireBody(
                body.size,
                body.pixels,
                body.extent,
                body.text.clone(),
                body.caption.clone(),
                (
                    body.source.application.clone(),
                    body.source.window.clone(),
                    body.source.page.clone(),
                    body.source.selected,
                ),
                body.formats
                    .iter()
                    .map(|format| {
                        let data = format.data.as_ref().map(|data| ByteBuf::from(data.to_vec()));
                        (format.mime.clone(), format.size, ByteArray::new(format.hash), data)
                    })
                    .collect(),
            )
        }),
    )
}

fn read_clip(clip: WireClip) -> Result<Clip, Garbled> {
    let WireClip(id, kind, state, body) = clip;
    let WireState(copied, lived, counts, title, mark, alias, fills, pin, drawer) = state;
    let register = |stamp| Stamp::from_bits(stamp);
    let state = State {
        copied: Stamp::from_bits(copied.0),
        origin: DeviceId(copied.1.into_array()),
        restored: Stamp::from_bits(lived[0]),
        deleted: Stamp::from_bits(lived[1]),
        cleared: Stamp::from_bits(lived[2]),
        purged: Stamp::from_bits(lived[3]),
        copies: counts.0.min(MOST_COUNTED),
        recalls: counts.1.min(MOST_COUNTED),
        recalled_at: MillisSinceEpoch(counts.2),
        title: Register::new(register(title.0), title.1.map(|title| no_longer(title, 1000)).transpose()?),
        // A mark of a later version is none.
        mark: Register::new(register(mark.0), mark.1.and_then(Mark::from_code)),
        alias: Register::new(
            register(alias.0),
            alias
                .1
                .map(|alias| alias.parse::<Alias>().map(|alias| alias.as_str().to_owned()))
                .transpose()
                .map_err(|_| Garbled("an alias is none"))?,
        ),
        fills: Register::new(register(fills.0), fills.1),
        pin: Register::new(register(pin.0), pin.1.map(|place| place_of(&place)).transpose()?),
        drawer: Register::new(
            register(drawer.0),
            drawer
                .1
                .map(|(drawer, place)| Ok(InDrawer { drawer: drawer.into_array(), place: place_of(&place)? }))
                .transpose()?,
        ),
    };
    let kind = Kind::from_code(kind).ok_or(Garbled("a kind is unknown"))?;
    let clip =
        Clip { id: ClipId(id.into_array()), kind, state: state.settled(), body: body.map(read_body).transpose()? };
    if clip.contradicts_its_id() { Err(Garbled("a clip is not what its id says")) } else { Ok(clip) }
}

fn read_body(body: WireBody) -> Result<Body, Garbled> {
    let WireBody(size, pixels, extent, text, caption, (application, window, page, selected), formats) = body;
    if formats.is_empty() || formats.len() > yadori_core::format::MOST {
        return Err(Garbled("a clip has no formats, or too many"));
    }
    let format = |(mime, size, hash, data): (String, u64, ByteArray<32>, Option<ByteBuf>)| {
        let data = data.map(|data| Bytes::from(data.into_vec()));
        let hash = hash.into_array();
        if let Some(data) = &data
            && (data.len() > ALONG_BYTES || data.len() as u64 != size || *blake3::hash(data).as_bytes() != hash)
        {
            return Err(Garbled("content is not what its hash says"));
        }
        Ok(BodyFormat { mime: no_longer(mime, yadori_core::own::LONGEST_NAME)?, size, hash, data })
    };
    let formats = formats.into_iter().map(format).collect::<Result<Vec<_>, _>>()?;
    let sum = formats.iter().try_fold(0u64, |sum, format| sum.checked_add(format.size));
    if size > LARGEST_BYTES || sum != Some(size) {
        return Err(Garbled("a clip is larger than anything that is exchanged, or than its formats"));
    }
    let short = |text: Option<String>, most| text.map(|text| cut(text, most));
    Ok(Body {
        size,
        pixels: pixels.map(|(width, height)| (width.min(MOST_PIXELS), height.min(MOST_PIXELS))),
        extent: extent.map(|(lines, chars)| (lines.min(size), chars.min(size))),
        text: text.filter(|text| text.len() <= 64 * 1024),
        caption: short(caption, 1000),
        source: Source {
            application: short(application, 255),
            window: short(window, 1000),
            page: short(page, 8000),
            selected,
        },
        formats,
    })
}

fn placed(place: &Rank) -> ByteBuf {
    ByteBuf::from(place.as_bytes())
}

fn place_of(bytes: &[u8]) -> Result<Rank, Garbled> {
    Rank::from_slice(bytes).filter(|_| bytes.len() <= 255).ok_or(Garbled("a place is none"))
}

fn named(name: String) -> Result<String, Garbled> {
    no_longer(name, 100)
}

fn no_longer(text: String, most: usize) -> Result<String, Garbled> {
    if text.chars().count() > most { Err(Garbled("a text is too long")) } else { Ok(text) }
}

fn cut(mut text: String, most: usize) -> String {
    if let Some((end, _)) = text.char_indices().nth(most) {
        text.truncate(end);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn clip() -> Clip {
        let data = Bytes::from_static("Lamp 7: Fresnel, gel 202 — dimmer 14, circuit B, hung on the second bar from the back wall, focus on the lantern table".as_bytes());
        let stamp = Stamp::from_bits(117_000_000_000_000_001);
        Clip {
            id: ClipId::of(Kind::Text, &data),
            kind: Kind::Text,
            state: State {
                copied: stamp,
                origin: DeviceId([3; 16]),
                copies: 1,
                title: Register::new(stamp, Some("Lamps".into())),
                pin: Register::new(stamp, Rank::from_slice(b"nm")),
                drawer: Register::new(
                    stamp,
                    Some(InDrawer { drawer: [4; 16], place: Rank::from_slice(b"c").unwrap() }),
                ),
                ..State::default()
            },
            body: Some(Body {
                size: data.len() as u64,
                extent: Some((1, data.len() as u64)),
                source: Source { application: Some("notes".into()), window: Some("Cues".into()), ..Source::default() },
                formats: vec![BodyFormat {
                    mime: "text/plain;charset=utf-8".into(),
                    size: data.len() as u64,
                    hash: *blake3::hash(&data).as_bytes(),
                    data: Some(data),
                }],
                ..Body::default()
            }),
        }
    }

    #[test]
    fn what_is_said_is_heard() {
        let items = vec![
            Item::Clip(Box::new(clip())),
            Item::Drawer(Drawer {
                id: [1; 16],
                name: "Venues".into(),
                place: Rank::from_slice(b"n").unwrap(),
                changed: Stamp::from_bits(5),
                removed: false,
            }),
            Item::Heading(Heading {
                id: [2; 16],
                drawer: [1; 16],
                place: Rank::from_slice(b"n").unwrap(),
                words: "North".into(),
                changed: Stamp::from_bits(6),
                removed: true,
            }),
            Item::Device(Device {
                key: [9; 32],
                name: Register::new(Stamp::from_bits(1), "van".into()),
                addresses: Register::new(Stamp::from_bits(2), vec!["192.0.2.7:7437".into()]),
                linked: Register::new(Stamp::from_bits(3), true),
            }),
        ];
        let hello = Hello {
            versions: VERSIONS,
            name: "workshop".into(),
            now: MillisSinceEpoch(1_790_000_000_000),
            feed: [8; 8],
            latest: 17,
            read: Some(([1; 8], 4)),
        };
        for frame in [
            Frame::Hello(hello),
            Frame::States { upto: 9, items },
            Frame::Ack(9),
            Frame::Want([5; 32], 77),
            Frame::Chunk([5; 32], 77, Bytes::from_static(b"bytes")),
            Frame::Absent([5; 32]),
            Frame::Hand { number: 3, clip: Box::new(clip()), recall: true },
            Frame::Handed(3, Some("it may not".into())),
            Frame::Bye(Bye::Version(true)),
            Frame::Bye(Bye::Removed),
        ] {
            assert_eq!(decode(&encode(&frame)).as_ref(), Ok(&frame));
        }
    }

    #[test]
    fn a_small_clip_is_small_on_the_wire() {
        let bytes = encode(&Frame::States { upto: 123_456, items: vec![Item::Clip(Box::new(clip()))] });
        assert!(bytes.len() < 400, "{} bytes", bytes.len());
    }

    #[test]
    fn content_that_is_not_what_its_hash_says_is_refused() {
        let mut lying = clip();
        lying.body.as_mut().unwrap().formats[0].hash = [0; 32];
        assert!(decode(&encode(&Frame::States { upto: 1, items: vec![Item::Clip(Box::new(lying))] })).is_err());
        let mut longer = clip();
        longer.body.as_mut().unwrap().formats[0].size += 1;
        assert!(decode(&encode(&Frame::Hand { number: 1, clip: Box::new(longer), recall: false })).is_err());
        let another = Clip { id: ClipId([7; 16]), ..clip() };
        assert!(decode(&encode(&Frame::Hand { number: 1, clip: Box::new(another), recall: false })).is_err());
        // A size beyond all bounds, with or without a format of that size; a sum that overflows.
        let told = |change: &dyn Fn(&mut Body)| {
            let mut clip = clip();
            change(clip.body.as_mut().unwrap());
            decode(&encode(&Frame::Hand { number: 1, clip: Box::new(clip), recall: false }))
        };
        assert!(told(&|_| {}).is_ok());
        assert!(told(&|body| body.size = 1 << 46).is_err());
        let format = |size| BodyFormat { mime: "image/png".into(), size, hash: [1; 32], data: None };
        assert!(
            told(&|body| {
                body.formats.push(format(1 << 46));
                body.size += 1 << 46;
            })
            .is_err()
        );
        assert!(told(&|body| body.formats.extend([format(u64::MAX), format(1)])).is_err());
        let counted = told(&|body| body.extent = Some((u64::MAX, u64::MAX)));
        let Ok(Frame::Hand { clip: counted, .. }) = counted else { panic!("{counted:?}") };
        assert!(counted.body.is_some_and(|body| body.extent == Some((body.size, body.size))));
        let mut copied = clip();
        copied.state.copies = u32::MAX;
        let Ok(Frame::Hand { clip: copied, .. }) =
            decode(&encode(&Frame::Hand { number: 1, clip: Box::new(copied), recall: false }))
        else {
            panic!("it is not read")
        };
        assert_eq!(copied.state.copies, MOST_COUNTED);
        let large = Frame::Chunk([0; 32], 0, Bytes::from(vec![0; CHUNK + 1]));
        assert!(decode(&encode(&large)).is_err());
    }

    proptest! {
        #[test]
        fn whatever_comes_is_read_or_refused(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let _ = decode(&bytes);
        }

        #[test]
        fn a_byte_gone_wrong_does_no_harm(place in 0usize..400, byte: u8, cut in 0usize..400) {
            let mut bytes = encode(&Frame::States { upto: 5, items: vec![Item::Clip(Box::new(clip()))] });
            let place = place % bytes.len();
            bytes[place] = byte;
            let _ = decode(&bytes);
            let _ = decode(&bytes[..cut.min(bytes.len())]);
        }
    }
}
