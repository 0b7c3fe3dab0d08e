//! The harness of the end-to-end tests and of the benchmarks: real parts, started for one test and
//! ended with it.
//!
//! * [`process`]: children that never outlive their test
//! * [`home`]: a home folder with a database that is set up already
//! * [`service`]: the service, its client, its HTTP interface and its events
//! * [`display`]: an X server of its own; [`compositor`]: a Wayland compositor of its own;
//!   [`standin`]: one that speaks the newer protocol
//! * [`bus`]: a session bus of its own
//! * [`program`], [`wayland_program`]: a program that copies and pastes on it, honestly or not
//! * [`window`]: a window of an X11 program; [`keys`]: a keyboard for such windows; [`pad`]: one in which a person types and pastes
//! * [`measuring`]: programs that do so again and again, for the benchmarks
//! * [`faulty_proxy`]: a road between two devices, slow or cut; [`network`]: networks of their own
//! * [`relay`]: a relay as its owner runs it; [`cluster`]: a database of three servers, before which relays stand
//! * [`sample`]: the sample history

pub mod bus;
pub mod cluster;
pub mod compositor;
pub mod display;
pub mod faulty_proxy;
pub mod home;
pub mod keys;
pub mod measuring;
pub mod missing;
pub mod network;
pub mod pad;
pub mod process;
pub mod program;
pub mod relay;
pub mod sample;
pub mod service;
pub mod standin;
pub mod waiting;
pub mod wayland_program;
pub mod window;

use std::time::Duration;

/// How long a test waits for something that must happen. Long, since machines are shared; never slept through.
pub const PATIENCE: Duration = Duration::from_secs(30);
