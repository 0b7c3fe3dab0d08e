//! Yadori's engine: the history of clips and all that is done with it, without HTTP and without a command line.
//!
//! Parts that own their state and their locks; each is given the parts that it uses, from the bottom up:
//!
//! * [`history`]: the records, the index in memory, and the clips that a name leads to
//! * [`links`]: the state of the connections with other devices
//! * [`fetching`]: content that is on another device only
//! * [`capture`]: copies become clips
//! * [`recalling`]: clips go back on the clipboard
//! * [`keeping`]: pins, drawers, titles, aliases; what a person adds and edits
//! * [`tray`]: clips line up and are dealt out
//! * [`keys`]: what keys do that reach us from every program
//! * [`retention`]: what leaves the history, and the bin
//! * [`private_drawers`]: drawers with a passphrase
//! * [`rule_book`]: the rules, and changing them
//! * [`moving`]: export and import
//! * [`sync`]: the person's other devices
//! * [`overview`]: how all of that stands
//! * [`engine`]: the parts, put together, and the work that they do by themselves
//!
//! Locks are taken in this order, and never backwards: what is changed one after the other (`Recalling::pasting`,
//! `Keys::changing`, `Keeping::changing`, `RuleBook::changing`, `DeviceSync::choosing`, `Retention::stepping`), then those of `Links` (`opening`, `knowing`, `meeting`),
//! then the tray, then the index. A synchronous lock is never held across an `await`.

pub mod availability;
pub mod background;
pub mod capture;
pub mod clock;
pub mod engine;
pub mod fetching;
pub mod history;
pub mod keeping;
pub mod keys;
pub mod links;
pub mod moving;
pub mod overview;
pub mod private_drawers;
pub mod recalling;
pub mod retention;
pub mod rule_book;
pub mod sync;
pub mod tray;

pub use engine::Engine;
