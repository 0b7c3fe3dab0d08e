//! The engine in this process, against a database server of its own.

mod agreement;
mod announcing;
mod forgetting;
mod kept;
mod keys;
mod moving;
mod private_drawers;
mod relayed;
mod shared;
mod snapshots;
mod support;
mod trays;
mod upgrading;
