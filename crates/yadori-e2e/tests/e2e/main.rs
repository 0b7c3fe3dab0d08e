//! The end-to-end tests: real parts, driven as their users drive them.
//!
//! * `clipboard`: one contract for every clipboard
//! * `x11`: what only an X server has, and programs that misbehave on it
//! * `wayland`: what only a compositor has, and programs that misbehave on it
//! * `programs`: a real browser on both
//! * `picker`: the window at a key press; `picking`: the picker in the terminal
//! * `shortcuts`: keys that work in every program, and pasting; `portal`: such keys from a desktop's portal
//! * `signs`: the icon and notifications
//! * `database`: the database that the service starts or is given
//! * `locking`: encryption at rest, what opens it, and the lock
//! * `survival`: what is left after a kill, a crash, a full disk
//! * `client`: the command line
//! * `keeping`, `tray`, `forgetting`, `moving`: what a person does with their history
//! * `linking`: one history on several devices
//! * `clocks`: devices whose clocks are off
//! * `strangers`: whoever is not linked, and whoever is and lies
//! * `roads`: what lies between devices, and what befalls one of them: slow, cut, full, killed
//! * `networks`: devices in networks of their own
//! * `relaying`: devices that never meet, by way of a relay
//! * `agreement`: random work on three devices, until they agree
//! * `guides`: the walk-throughs of the guide
//! * `interface`: HTTP, and who is let in; `generated`: a client that is made of its description
//! * `console`: the pages, in a browser
//! * `demo`: the demonstration; `package`: the Debian package
//! * `desk`: what the tests of `x11` and `wayland` share; `own`: what those of `linking` and `roads` do

mod agreement;
mod browser;
mod client;
mod clipboard;
mod clocks;
mod console;
mod database;
mod demo;
mod desk;
mod forgetting;
mod generated;
mod guides;
mod interface;
mod keeping;
mod keyring;
mod linking;
mod locking;
mod moving;
mod networks;
mod own;
mod package;
mod picker;
mod picking;
mod portal;
mod programs;
mod relaying;
mod roads;
mod shortcuts;
mod signs;
mod strangers;
mod survival;
mod tray;
mod wayland;
mod x11;
