//! The end-to-end tests: real parts, driven as their users drive them.
//!
//! * `clipboard`: one contract for every clipboard
//! * `x11`: what only an X server has, and programs that misbehave on it
//! * `wayland`: what only a compositor has, and programs that misbehave on it
//! * `programs`: a real browser on both
//! * `records`: the database, private and given
//! * `survival`: what is left after a kill, a crash, a full disk
//! * `client`: the command line
//! * `keeping`, `tray`, `forgetting`, `moving`: what a person does with their history
//! * `linking`: one history on several devices
//! * `guides`: the walk-throughs of the guide
//! * `interface`: HTTP, and who is let in
//! * `console`: the pages, in a browser
//! * `demo`: the demonstration
//! * `desk`: what the tests of `x11` and `wayland` share

mod browser;
mod client;
mod clipboard;
mod console;
mod demo;
mod desk;
mod forgetting;
mod guides;
mod interface;
mod keeping;
mod linking;
mod moving;
mod programs;
mod records;
mod survival;
mod tray;
mod wayland;
mod x11;
