//! What devices tell each other: clips, drawers, headings, and one another.

use crate::format::PLAIN;
use crate::merge::{Register, State};
use crate::{ClipId, DeviceId, Kind, Order, Source, Stamp};

/// No format above this size travels with the clip; larger ones are asked for by their hash.
pub const ALONG_BYTES: usize = 64 * 1024;

/// The BLAKE3 hash of the bytes of a format.
pub type Hash = [u8; 32];

/// One thing that a device tells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Item {
    /// A clip.
    Clip(Box<Clip>),
    /// A drawer.
    Drawer(Drawer),
    /// A heading in a drawer.
    Heading(Heading),
    /// A device.
    Device(Device),
}

impl Item {
    /// The latest of its stamps.
    pub fn latest(&self) -> Stamp {
        match self {
            Self::Clip(clip) => clip.state.latest(),
            Self::Drawer(drawer) => drawer.changed,
            Self::Heading(heading) => heading.changed,
            Self::Device(device) => device.latest(),
        }
    }
}

/// A clip: its state, and what it consists of, unless that is known to the other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Clip {
    /// Its id.
    pub id: ClipId,
    /// What it is.
    pub kind: Kind,
    /// Its particulars.
    pub state: State,
    /// What it consists of; none when it is gone, or when only particulars have changed.
    pub body: Option<Body>,
}

impl Clip {
    /// Whether it has the words of another clip than its id says, as far as they travel along.
    pub fn is_another_text(&self) -> bool {
        let formats = self.body.iter().flat_map(|body| &body.formats);
        let words = formats.filter(|format| format.mime == PLAIN).find_map(|format| format.data.as_ref());
        self.kind == Kind::Text && words.is_some_and(|words| ClipId::of(Kind::Text, words) != self.id)
    }
}

/// What a clip consists of, as of its latest copy.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Body {
    /// Bytes of all formats together.
    pub size: u64,
    /// Width and height in pixels, of a picture.
    pub pixels: Option<(u32, u32)>,
    /// Lines and characters, of text.
    pub extent: Option<(u64, u64)>,
    /// The beginning of its words, where the plain text does not travel along.
    pub text: Option<String>,
    /// The title of what was copied.
    pub caption: Option<String>,
    /// Where it was copied.
    pub source: Source,
    /// Its formats, in their order.
    pub formats: Vec<BodyFormat>,
}

/// A format of a clip.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BodyFormat {
    /// Its MIME type.
    pub mime: String,
    /// Its size in bytes.
    pub size: u64,
    /// The hash of its bytes.
    pub hash: Hash,
    /// Its bytes, if they travel along.
    pub data: Option<bytes::Bytes>,
}

/// A drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drawer {
    /// Its id.
    pub id: [u8; 16],
    /// Its name.
    pub name: String,
    /// Its place among the drawers.
    pub place: Order,
    /// When any of this was last changed.
    pub changed: Stamp,
    /// Whether it was removed.
    pub removed: bool,
}

impl Drawer {
    /// Whether what is told is later than what is known; of the same stamp, the greater wins.
    pub fn is_after(&self, known: &Self) -> bool {
        let rank = |drawer: &Self| (drawer.changed, drawer.removed, drawer.name.clone(), drawer.place.clone());
        rank(self) > rank(known)
    }
}

/// A heading in a drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Heading {
    /// Its id.
    pub id: [u8; 16],
    /// The id of its drawer.
    pub drawer: [u8; 16],
    /// Its place in the drawer.
    pub place: Order,
    /// What it says.
    pub words: String,
    /// When any of this was last changed.
    pub changed: Stamp,
    /// Whether it was removed.
    pub removed: bool,
}

impl Heading {
    /// Whether what is told is later than what is known; of the same stamp, the greater wins.
    pub fn is_after(&self, known: &Self) -> bool {
        let rank = |heading: &Self| (heading.changed, heading.removed, heading.words.clone(), heading.place.clone());
        rank(self) > rank(known)
    }
}

/// A device of the same person.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Device {
    /// The SHA-256 of its public key (of its SubjectPublicKeyInfo, RFC 5280): nobody else can speak for it.
    pub key: [u8; 32],
    /// What it is called.
    pub name: Register<String>,
    /// Where it can be reached, as host and port.
    pub addresses: Register<Vec<String>>,
    /// Whether it belongs to the others.
    pub linked: Register<bool>,
}

impl Device {
    /// Its id.
    pub fn id(&self) -> DeviceId {
        DeviceId::of_key(&self.key)
    }

    /// What two devices know of it, taken together.
    #[must_use]
    pub fn merge(self, other: Self) -> Self {
        Self {
            key: self.key,
            name: self.name.max(other.name),
            addresses: self.addresses.max(other.addresses),
            linked: self.linked.max(other.linked),
        }
    }

    /// The latest of its stamps.
    pub fn latest(&self) -> Stamp {
        self.name.stamp.max(self.addresses.stamp).max(self.linked.stamp)
    }
}
