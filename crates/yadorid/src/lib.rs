//! Yadori's service: the engine behind an HTTP interface, and the console.
//!
//! * [`config`]: what is needed to start
//! * [`service`]: the engine and what it stands on, from start to end
//! * `database`: the private server or the given one
//! * [`http`]: the engine over HTTP, and the console
//! * `picker`: the picker's process; `signs`: the icon and notifications
//! * [`hardening`]: what the service asks of the system for itself
//!
//! Tasks that run: one files copies, one follows the change feed, one forgets what is due, one follows the state of the
//! private database, one keeps the links with other devices, and the HTTP server. The desktop has a thread of its own. An
//! unclean stop loses what had been copied but not yet announced; nothing else.

mod browsers;
pub mod config;
mod database;
mod desk;
pub mod hardening;
pub mod http;
mod log_in;
mod opened;
mod picker;
mod rekeying;
pub mod service;
mod signs;
pub mod vault;
mod watching;
