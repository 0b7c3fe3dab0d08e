//! Keys that reach us from every program: passive grabs on the root window (X11 protocol, `GrabKey`).

use super::layout::Layout;
use super::{End, X11, source};
use crate::{Event, GrabState};
use std::collections::HashSet;
use x11rb::connection::Connection;
use x11rb::errors::ReplyError;
use x11rb::protocol::xinput::{self, ConnectionExt as _, EventMask, XIEventMask};
use x11rb::protocol::xproto::{
    ConnectionExt as _, Grab, GrabMode, KEY_RELEASE_EVENT, KeyPressEvent, Keycode, ModMask, Window,
};
use x11rb::protocol::xtest::ConnectionExt as _;
use x11rb::rust_connection::RustConnection;
use yadori_core::keys::{Action, Chord};

/// All master devices (XInput 2, `XIAllMasterDevices`).
const ALL_MASTERS: u16 = 1;

/// The keys that were asked for, and those that are down.
#[derive(Default)]
pub(super) struct Grabs {
    wanted: Vec<(Action, Chord)>,
    /// The codes and modifiers of what was wanted, as the layout had them; none where it has no such key.
    planned: Vec<Option<(Keycode, u16)>>,
    grabbed: Vec<(Keycode, u16, Action)>,
    locks: Vec<u16>,
    /// Keys that have been told of and are still down: the keyboard repeats them.
    down: HashSet<Keycode>,
    /// Modifiers that were put back after a paste: when the person lets go of them, so do we.
    put_back: Vec<Keycode>,
    /// Keys that we let go of ourselves: so often that they are said to be, it was us.
    lifted: Vec<Keycode>,
    /// Whether we are told when keys are let go of.
    watching: bool,
}

impl X11 {
    /// Whether keys that are let go of are told of: XInput 2.1 does, whoever has the keyboard.
    pub(super) fn prepare_keys(connection: &RustConnection) -> bool {
        connection.xinput_xi_query_version(2, 2).ok().and_then(|asked| asked.reply().ok()).is_some()
    }

    /// Grabs these keys, and no others.
    pub(super) fn grab(&mut self, wanted: Vec<(Action, Chord)>) -> Result<Vec<(Action, GrabState)>, End> {
        let layout = Layout::read(&self.connection)?;
        let locks = layout.locks();
        let planned = plan(&layout, &wanted);
        // Nobody presses a key in between.
        self.connection.grab_server()?;
        self.connection.ungrab_key(Grab::ANY, self.root, ModMask::ANY)?;
        let mut grabbed = Vec::new();
        let mut states = Vec::with_capacity(wanted.len());
        for ((action, _), planned) in wanted.iter().zip(&planned) {
            states.push((
                *action,
                match *planned {
                    None => GrabState::NoSuchKey,
                    Some((code, held)) if self.grab_one(code, held, &locks)? => {
                        grabbed.push((code, held, *action));
                        GrabState::Grabbed
                    }
                    Some(_) => GrabState::Taken(source::manager(&self.connection, &self.atoms, self.root)),
                },
            ));
        }
        self.connection.ungrab_server()?;
        self.connection.flush()?;
        self.grabs.wanted = wanted;
        self.grabs.planned = planned;
        self.grabs.grabbed = grabbed;
        self.grabs.locks = locks;
        Ok(states)
    }

    /// Grabs one key, whatever the locks; false if another program has it with one of them.
    fn grab_one(&self, code: Keycode, held: u16, locks: &[u16]) -> Result<bool, End> {
        let (connection, root) = (&self.connection, self.root);
        let mut asked = Vec::with_capacity(locks.len());
        for lock in locks {
            let state = ModMask::from(held | lock);
            asked.push(connection.grab_key(false, root, state, code, GrabMode::ASYNC, GrabMode::ASYNC)?);
        }
        let mut free = true;
        for answer in asked {
            match answer.check() {
                Ok(()) => {}
                // Access: another client has grabbed this combination.
                Err(ReplyError::X11Error(_)) => free = false,
                Err(error) => return Err(error.into()),
            }
        }
        if !free {
            for lock in locks {
                connection.ungrab_key(code, root, ModMask::from(held | lock))?;
            }
        }
        Ok(free)
    }

    /// The keyboard is another, or has another layout: the keys may have other codes. (The server says so as well whenever
    /// another of several keyboards is used.)
    pub(super) fn grab_anew(&mut self) -> Result<(), End> {
        if self.grabs.wanted.is_empty() {
            return Ok(());
        }
        let layout = Layout::read(&self.connection)?;
        if plan(&layout, &self.grabs.wanted) == self.grabs.planned && layout.locks() == self.grabs.locks {
            return Ok(());
        }
        let wanted = std::mem::take(&mut self.grabs.wanted);
        let states = self.grab(wanted)?;
        self.context.tell(Event::Grabbed(states));
        Ok(())
    }

    /// A key that we have grabbed was pressed, or is repeated.
    pub(super) fn key_pressed(&mut self, event: &KeyPressEvent) -> Result<(), End> {
        // The press has given us the whole keyboard until the key is let go of; it goes back to its owner at once.
        self.connection.ungrab_keyboard(x11rb::CURRENT_TIME)?;
        let locks = self.grabs.locks.iter().fold(0, |all, lock| all | lock);
        let held = u16::from(event.state) & 0xff & !locks;
        let pressed = self.grabs.grabbed.iter().find(|(code, state, _)| *code == event.detail && *state == held);
        let Some((code, _, action)) = pressed.copied() else { return Ok(()) };
        if self.watches_keys && !self.grabs.down.insert(code) {
            return Ok(());
        }
        self.watch()?;
        self.context.sender.tell_at_once(Event::Key(action));
        Ok(())
    }

    /// A key was let go of, by a person or by us.
    pub(super) fn key_released(&mut self, code: Keycode) -> Result<(), End> {
        if let Some(place) = self.grabs.lifted.iter().position(|other| *other == code) {
            self.grabs.lifted.swap_remove(place);
            return Ok(());
        }
        self.grabs.down.remove(&code);
        if let Some(place) = self.grabs.put_back.iter().position(|other| *other == code) {
            self.grabs.put_back.swap_remove(place);
            self.connection.xtest_fake_input(KEY_RELEASE_EVENT, code, x11rb::CURRENT_TIME, self.root, 0, 0, 0)?;
        }
        self.watch()
    }

    /// These modifiers are about to be lifted and put back, and these keys pressed in between. From here on, we are told when
    /// a person lets go of one.
    pub(super) fn lifting(&mut self, modifiers: &[Keycode], pressed: &[Keycode]) -> Result<(), End> {
        if !self.watches_keys {
            return Ok(());
        }
        self.grabs.put_back.extend(modifiers);
        self.grabs.put_back.sort_unstable();
        self.grabs.put_back.dedup();
        self.watch()?;
        if self.grabs.watching {
            self.grabs.lifted.extend(modifiers.iter().chain(pressed));
        }
        Ok(())
    }

    /// Has keys told of that are let go of, as long as one matters.
    fn watch(&mut self) -> Result<(), End> {
        let wanted = self.watches_keys && !(self.grabs.down.is_empty() && self.grabs.put_back.is_empty());
        if wanted == self.grabs.watching {
            return Ok(());
        }
        self.grabs.watching = wanted;
        select_releases(&self.connection, self.root, wanted)?;
        if wanted {
            // What was let go of before we were told is not down any more.
            let keys = self.connection.query_keymap()?.reply()?.keys;
            let is_down = |code: &Keycode| keys[usize::from(code / 8)] & (1 << (code % 8)) != 0;
            self.grabs.down.retain(is_down);
            self.grabs.put_back.retain(is_down);
            return self.watch();
        }
        self.grabs.lifted.clear();
        Ok(())
    }
}

/// The codes and modifiers of keys, as a layout has them.
fn plan(layout: &Layout, wanted: &[(Action, Chord)]) -> Vec<Option<(Keycode, u16)>> {
    wanted.iter().map(|(_, chord)| layout.code(chord.symbol()).zip(layout.state(chord.modifiers))).collect()
}

fn select_releases(connection: &RustConnection, root: Window, wanted: bool) -> Result<(), End> {
    let mask = if wanted { XIEventMask::RAW_KEY_RELEASE } else { XIEventMask::default() };
    let masks = [EventMask { deviceid: ALL_MASTERS, mask: vec![mask] }];
    xinput::xi_select_events(connection, root, &masks)?;
    connection.flush()?;
    Ok(())
}
