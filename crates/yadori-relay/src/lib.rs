//! A relay: it keeps sealed envelopes until the other devices of a group fetch them, and can read none.
//!
//! A node has no state of its own: all of it is in MariaDB, and a client may go on with another node in the middle of anything.
//!
//! * [`records`]: tokens, mailboxes, envelopes and contents, in the database
//! * [`http`]: the interface that devices use
//! * [`live`]: who waits for what is new in which mailbox
//! * [`rates`]: how much one mailbox may ask for
//! * [`metrics`]: what the owner sees of it
//! * [`node`]: a node, from its start to its end
//! * [`names`]: how numbers and keys are written
//!
//! `docs/relay.md` says what a relay sees, and describes the interface for whoever writes another.

pub mod backup;
pub mod http;
pub mod live;
pub mod metrics;
pub mod names;
pub mod node;
pub mod rates;
pub mod records;
