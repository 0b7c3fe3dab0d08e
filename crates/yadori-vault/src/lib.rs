//! The keys of what is kept.
//!
//! One *data key* of 256 random bits encrypts a home: the database gets a key that is derived from it, and so does every
//! file. The data key is on no disk. It is wrapped, once for each *protector*: something that the person has or knows.
//!
//! * [`Secret`]: bytes that are locked in memory and wiped
//! * [`Keyring`]: the file with the wraps, and what can be done with it
//! * [`phrases`]: passphrases and recovery keys, as a person types them
//! * [`seal`]: sealing with a key that both sides have
//! * [`boxes`]: sealing to a public key
//! * [`DrawerKey`]: the key of a private drawer
//! * [`Tries`]: wrong passphrases slow down
//! * [`SealedFile`]: a large file that is written once and read at any place, and gone with the program
//! * [`stream`]: sealing what is written and read in one go, with a key that is kept
//!
//! Algorithms: XChaCha20-Poly1305 (draft-irtf-cfrg-xchacha-03), X25519 (RFC 7748), Argon2id (RFC 9106), BLAKE3 to derive keys.

pub mod boxes;
mod drawer_key;
mod file;
mod keyring;
pub mod phrases;
pub mod seal;
mod secret;
pub mod stream;
mod tries;

pub use drawer_key::{DrawerKey, DrawerKeyError};
pub use file::SealedFile;
pub use keyring::{
    DataKeys, KeyId, Keyring, KeyringError, LockRules, OpenKeyringError, Protector, ProtectorKind, Stretched,
    WhileLocked,
};
pub use secret::Secret;
pub use tries::Tries;
