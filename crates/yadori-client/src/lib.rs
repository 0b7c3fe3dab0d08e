//! A client of Yadori's HTTP interface, for programs that wait for their answers.
//!
//! * [`Client`]: finding the service and asking it
//! * [`ClientError`]: why it did not answer, or said no
//! * [`Events`]: what changes, as it happens
//! * [`fetch`]: content that is on another device, fetched while somebody watches

mod client;
mod error;
mod events;
mod fetch;

pub use client::{Client, in_path, places};
pub use error::ClientError;
pub use events::{Event, Events};
pub use fetch::{fetch, is_elsewhere};
