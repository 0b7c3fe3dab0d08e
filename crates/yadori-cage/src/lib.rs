//! Pictures, pages and archives are decoded in a process of their own, which may do nothing else.
//!
//! What is merely copied goes through decoders that others wrote. Should one have a hole, whoever gets through it
//! is in a process without files, network, processes or rights, that knows no key and no clip but this one, and
//! is killed when it takes too long.
//!
//! * `archive`: archives are unpacked
//! * `decoding`: what is done with a picture, within limits
//! * `confinement`: what the process gives up before it reads anything
//! * `worker`: the process
//! * `wire`: what is said between the two
//! * [`Cage`]: the service's side: keeps one worker warm, and goes on when it dies

mod archive;
mod cage;
mod confinement;
mod decoding;
mod wire;
mod worker;

pub use archive::{Archive, ArchiveError, ContentError, LONGEST_LINE, LONGEST_LIST, ReadAt};
pub use cage::{Cage, Decoded, Died};
pub use confinement::confine;
pub use decoding::{PictureError, Small};
pub use worker::work;
