//! A clip's id: what makes two copies the same clip.
//!
//! The id is a hash of the clip's kind and canonical content and of nothing else, so the same thing
//! copied twice, or on two devices, is one clip without anyone having to compare.

use crate::kind::Kind;
use data_encoding::Encoding;
use std::fmt;
use std::sync::LazyLock;

/// Context of the key derivation (BLAKE3's `derive_key` mode); changing it changes every id.
const CONTEXT: &str = "yadori 2026-11 clip identity";

/// Characters of an id when it is written out.
pub const ID_CHARS: usize = 26;

/// Lower-case base32 without padding (RFC 4648 alphabet, in lower case).
pub(crate) static BASE32: LazyLock<Encoding> = LazyLock::new(|| {
    let mut spec = data_encoding::Specification::new();
    spec.symbols.push_str("abcdefghijklmnopqrstuvwxyz234567");
    spec.encoding().expect("the alphabet has 32 distinct characters")
});

/// The id of a clip: 128 bits of BLAKE3.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ClipId(pub [u8; 16]);

impl ClipId {
    /// The id of a clip of this kind with this canonical content: the exact UTF-8 text, the
    /// normalised URL, the URIs one on a line, or for images what [`pixels`] gives.
    pub fn of(kind: Kind, canonical: &[u8]) -> Self {
        let mut hasher = IdHasher::new(kind);
        hasher.update(canonical);
        hasher.id()
    }

    /// The id written as `text`, if it is one.
    pub fn parse(text: &str) -> Option<Self> {
        let bytes = BASE32.decode(text.to_ascii_lowercase().as_bytes()).ok()?;
        Some(Self(bytes.try_into().ok()?))
    }

    /// The id in these bytes, if there are 16 of them.
    pub fn from_slice(bytes: &[u8]) -> Option<Self> {
        Some(Self(bytes.try_into().ok()?))
    }
}

/// Computes an id from canonical content that comes in pieces.
#[derive(Clone, Debug)]
pub struct IdHasher(blake3::Hasher);

impl IdHasher {
    /// Nothing of the content yet.
    pub fn new(kind: Kind) -> Self {
        let mut hasher = blake3::Hasher::new_derive_key(CONTEXT);
        hasher.update(kind.word().as_bytes());
        hasher.update(&[0]);
        Self(hasher)
    }

    /// The next piece.
    pub fn update(&mut self, piece: &[u8]) {
        self.0.update(piece);
    }

    /// The id of all that was given.
    pub fn id(&self) -> ClipId {
        let mut id = [0; 16];
        self.0.finalize_xof().fill(&mut id);
        ClipId(id)
    }
}

impl fmt::Display for ClipId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&BASE32.encode(&self.0))
    }
}

impl fmt::Debug for ClipId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ClipId({self})")
    }
}

/// The canonical content of a picture: its size in pixels and its pixels as 8-bit RGBA, row by row,
/// so that the same picture in another encoding without loss is the same clip.
///
/// # Panics
/// If `rgba` is not `width` × `height` × 4 bytes.
pub fn pixels(width: u32, height: u32, rgba: &[u8]) -> [u8; 40] {
    assert_eq!(rgba.len() as u64, u64::from(width) * u64::from(height) * 4, "not RGBA of {width}×{height}");
    let mut canonical = [0; 40];
    canonical[..4].copy_from_slice(&width.to_le_bytes());
    canonical[4..8].copy_from_slice(&height.to_le_bytes());
    canonical[8..].copy_from_slice(blake3::hash(rgba).as_bytes());
    canonical
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn an_id_depends_on_kind_and_content_only() {
        let id = ClipId::of(Kind::Text, b"load-in 14:30");
        assert_eq!(id, ClipId::of(Kind::Text, b"load-in 14:30"));
        assert_ne!(id, ClipId::of(Kind::Link, b"load-in 14:30"));
        assert_ne!(id, ClipId::of(Kind::Text, b"load-in 14:30 "));
    }

    #[test]
    fn ids_never_change_between_versions() {
        assert_eq!(ClipId::of(Kind::Text, b"kestrel").to_string(), "qmv2ykks6n5ewvpzuubmbxbzmy");
    }

    #[test]
    fn a_picture_of_other_proportions_is_another_clip() {
        assert_ne!(pixels(2, 8, &[7; 64]), pixels(8, 2, &[7; 64]));
    }

    proptest! {
        #[test]
        fn ids_survive_being_written_out(bytes: [u8; 16]) {
            let id = ClipId(bytes);
            prop_assert_eq!(id.to_string().len(), ID_CHARS);
            prop_assert_eq!(ClipId::parse(&id.to_string()), Some(id));
            prop_assert_eq!(ClipId::parse(&id.to_string().to_uppercase()), Some(id));
        }
    }
}
