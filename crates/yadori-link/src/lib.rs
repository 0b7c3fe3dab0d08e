//! One history on a person's devices, with nobody in between.
//!
//! * [`identity`]: a device's key, its certificate, and the hash by which the others know it
//! * [`code`], [`pairing`]: two devices meet for the first time, by a short code
//! * [`tls`]: connections that only linked devices can make
//! * [`frame`]: what devices say to each other, as bytes
//! * [`exchange`]: when they say it; a state machine with no sockets and no records
//! * [`connection`]: a connection over which an exchange is held, and `turns`: what is asked of the records meanwhile;
//!   [`failure`]: why there is none
//! * [`group`], [`envelope`], [`relay`]: the same through a relay that can read none of it
//!
//! `docs/protocol.md` describes all of it for whoever writes another implementation.
#![forbid(unsafe_code)]

pub mod code;
pub mod connection;
pub mod envelope;
pub mod exchange;
pub mod failure;
pub mod frame;
pub mod group;
pub mod handover;
pub mod identity;
pub mod pairing;
pub mod ranges;
pub mod relay;
mod signed;
pub mod stream;
pub mod tls;
mod turns;
