//! Yadori's service: what it does with clips, and how the parts are wired.
//!
//! * [`config`]: what is needed to start
//! * [`service`]: the parts, put together, and their life from start to end
//! * `database`: the private server or the given one
//! * `ledger`: the history in memory, which follows the change feed and announces each change
//! * `links`: the connections to the person's other devices
//! * `journal`: how capture stands
//! * `log_limit`: how often strangers are worth a line of the log
//! * `picture`: decoding and small pictures
//! * `use_cases`: what a person or a program can ask for, one file each
//! * `http`: the same over HTTP, and the console
//! * [`hardening`]: what the service asks of the system for itself
//!
//! Tasks that run: one files copies, one follows the change feed, one forgets what is due, one follows
//! the state of the private database, one keeps the links with other devices, and the HTTP server. The desktop has a thread of its own. An
//! unclean stop loses what had been copied but not yet announced; nothing else.

mod archive;
pub mod config;
mod database;
pub mod hardening;
pub mod http;
mod journal;
mod ledger;
mod links;
mod log_limit;
mod moment;
mod picture;
pub mod service;
mod use_cases;
