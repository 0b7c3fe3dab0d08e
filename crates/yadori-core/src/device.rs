//! A person's devices: what tells them apart.

use crate::identity::BASE32;
use std::fmt;

/// The id of a device: the first 128 bits of the SHA-256 of its public key, so that nobody else can have it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DeviceId(pub [u8; 16]);

impl DeviceId {
    /// The id in these bytes, if there are 16 of them.
    pub fn from_slice(bytes: &[u8]) -> Option<Self> {
        Some(Self(bytes.try_into().ok()?))
    }

    /// The id of the device with the key of this hash.
    pub fn of_key(hash: &[u8; 32]) -> Self {
        let mut id = [0; 16];
        id.copy_from_slice(&hash[..16]);
        Self(id)
    }

    /// The id written as `text`, if it is one.
    pub fn parse(text: &str) -> Option<Self> {
        let bytes = BASE32.decode(text.to_ascii_lowercase().as_bytes()).ok()?;
        Self::from_slice(&bytes)
    }

    /// The first 60 bits in three groups, for two people to compare by eye.
    pub fn fingerprint(&self) -> String {
        let whole = self.to_string();
        [&whole[..4], &whole[4..8], &whole[8..12]].join("-")
    }
}

impl fmt::Display for DeviceId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&BASE32.encode(&self.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_id_survives_being_written_out() {
        let id = DeviceId::of_key(&[7; 32]);
        assert_eq!(DeviceId::parse(&id.to_string().to_uppercase()), Some(id));
        assert_eq!(id.fingerprint().len(), 14);
        assert!(id.to_string().starts_with(&id.fingerprint()[..4]));
        assert_eq!(DeviceId::parse("workshop"), None);
    }
}
