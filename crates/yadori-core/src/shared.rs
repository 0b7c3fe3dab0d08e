//! What devices tell each other: clips, drawers, headings, and one another.

use crate::belonging::{self, Canonical};
use crate::format::Format;
use crate::merge::{Register, State};
use crate::{ClipId, DeviceId, Kind, Rank, Source, Stamp};
use bytes::Bytes;

/// No format above this size travels with the clip; larger ones are asked for by their hash.
pub const ALONG_BYTES: usize = 64 * 1024;

/// Largest clip that is taken from another device: 1 GiB, all formats together.
pub const LARGEST_BYTES: u64 = 1 << 30;

/// Highest count of copies or recalls. Counts stop there, so that none can overflow, whatever another device says.
pub const MOST_COUNTED: u32 = 1_000_000_000;

/// Most devices that may be linked with one another, this one included.
pub const MOST_DEVICES: usize = 64;

/// Most drawers that are taken from other devices, removed ones included.
pub const MOST_DRAWERS: u64 = 2_000;

/// Most headings that are taken from other devices, removed ones included.
pub const MOST_HEADINGS: u64 = 10_000;

/// Most aliases that are taken from other devices.
pub const MOST_ALIASES: u64 = 10_000;

/// The BLAKE3 hash of the bytes of a format.
pub type Hash = [u8; 32];

/// A piece of a content that does not travel along with its clip.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ContentPiece {
    /// Of which content.
    pub hash: Hash,
    /// The byte that it begins at.
    pub at: u64,
    /// Its bytes.
    pub data: Bytes,
}

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
    /// Its attributes.
    pub state: State,
    /// What it consists of; none when it is gone, or when only attributes have changed.
    pub body: Option<Body>,
}

impl Clip {
    /// Whether what travels along is another clip than its id says. What does not travel along is checked when it
    /// comes, by whoever keeps the records; pictures are, when they are decoded.
    pub fn contradicts_its_id(&self) -> bool {
        let Some(body) = &self.body else { return false };
        let formats: Vec<Format> = body
            .formats
            .iter()
            .filter_map(|format| Some(Format::new(format.mime.clone(), format.data.clone()?)))
            .collect();
        // A format that carries the content, but does not travel along.
        let waits = |format: &BodyFormat| format.data.is_none() && belonging::carries(self.kind, &format.mime);
        if self.kind == Kind::Image || body.formats.iter().any(waits) {
            return false;
        }
        match belonging::canonical(self.kind, &formats, body.text.as_deref()) {
            Canonical::Bytes(bytes) => ClipId::of(self.kind, &bytes) != self.id,
            Canonical::None => true,
        }
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
    pub data: Option<Bytes>,
}

/// A drawer.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Drawer {
    /// Its id.
    pub id: [u8; 16],
    /// Its name.
    pub name: String,
    /// Its place among the drawers.
    pub place: Rank,
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
    pub place: Rank,
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

    /// What two devices know of it, taken together. A removal is final, whatever stamps there are: a device that comes
    /// back has another key, since it gave up the removed one.
    #[must_use]
    pub fn merge(self, other: Self) -> Self {
        let linked = match (self.is_removed(), other.is_removed()) {
            (true, false) => self.linked,
            (false, true) => other.linked,
            _ => self.linked.max(other.linked),
        };
        Self { key: self.key, name: self.name.max(other.name), addresses: self.addresses.max(other.addresses), linked }
    }

    /// Whether it was removed from the others, for good.
    pub fn is_removed(&self) -> bool {
        !self.linked.value && self.linked.stamp != Stamp::NEVER
    }

    /// The latest of its stamps.
    pub fn latest(&self) -> Stamp {
        self.name.stamp.max(self.addresses.stamp).max(self.linked.stamp)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn device(linked: (u64, bool)) -> Device {
        Device { key: [1; 32], linked: Register::new(Stamp::from_bits(linked.0), linked.1), ..Device::default() }
    }

    proptest! {
        #[test]
        fn a_removal_is_final_and_the_order_of_merging_makes_no_difference(
            a in (0u64..4, any::<bool>()), b in (0u64..4, any::<bool>()), c in (0u64..4, any::<bool>()),
        ) {
            let [a, b, c] = [a, b, c].map(device);
            let ab = a.clone().merge(b.clone());
            prop_assert_eq!(&ab, &b.clone().merge(a.clone()));
            prop_assert_eq!(ab.clone().merge(c.clone()), a.clone().merge(b.clone().merge(c)));
            prop_assert_eq!(ab.is_removed(), a.is_removed() || b.is_removed());
        }
    }
}
