//! Pressing the keys that paste (`virtual-keyboard-unstable-v1`), in the window that they are meant for.

use super::State;
use crate::keyboard::GIVING;
use crate::{Focus, Paste, PasteError, WindowId};
use rustix::fs::{MemfdFlags, memfd_create};
use std::io::Write;
use std::os::fd::AsFd;
use std::time::Instant;
use tokio::sync::oneshot;
use wayland_client::protocol::wl_keyboard::{KeyState, KeymapFormat};
use wayland_client::{Connection, Dispatch, QueueHandle, delegate_noop};
use wayland_protocols_misc::zwp_virtual_keyboard_v1::client::{
    zwp_virtual_keyboard_manager_v1::ZwpVirtualKeyboardManagerV1, zwp_virtual_keyboard_v1::ZwpVirtualKeyboardV1,
};
use yadori_core::keys::{Chord, Modifiers, PasteTable};

/// The name of the global.
pub(super) const MANAGER: &str = "zwp_virtual_keyboard_manager_v1";

/// The one key of our keyboard (8 less than in the keymap, as evdev counts).
const KEY: u32 = 1;

/// A paste that waits until its window has the keyboard.
pub(super) struct Pressing {
    paste: Paste,
    reply: oneshot::Sender<Result<(), PasteError>>,
    pub deadline: Instant,
    asked: bool,
}

/// A keyboard with one key (`xkb_keymap`, XKB text format 1), which a layout cannot lack.
fn keymap(name: &str) -> String {
    let shifted = if name.len() == 1 { name.to_ascii_uppercase() } else { name.to_owned() };
    format!(
        "xkb_keymap {{
            xkb_keycodes \"yadori\" {{ minimum = 8; maximum = 255; <K1> = {}; }};
            xkb_types \"yadori\" {{ include \"complete\" }};
            xkb_compatibility \"yadori\" {{ include \"complete\" }};
            xkb_symbols \"yadori\" {{ key <K1> {{ [ {name}, {shifted} ] }}; }};
        }};\0",
        KEY + 8
    )
}

/// Modifiers as XKB has them: Shift, Lock, Control, Mod1 (Alt), …, Mod4 (the logo), from the lowest bit on.
fn mask(Modifiers { control, alt, shift, logo }: Modifiers) -> u32 {
    u32::from(shift) | u32::from(control) << 2 | u32::from(alt) << 3 | u32::from(logo) << 6
}

impl State {
    /// The window that has the keyboard.
    pub(super) fn focus(&self) -> Option<Focus> {
        let (number, _) = self.windows.active()?;
        Some(Focus { window: WindowId(number), source: self.windows.source() })
    }

    /// Pastes as soon as its window has the keyboard.
    pub(super) fn paste(&mut self, paste: Paste, reply: oneshot::Sender<Result<(), PasteError>>) {
        let deadline = Instant::now() + GIVING;
        self.pressing.push_back(Pressing { paste, reply, deadline, asked: false });
    }

    /// Pastes what can be pasted now.
    pub(super) fn press_on(&mut self, now: Instant) {
        while let Some(mut next) = self.pressing.pop_front() {
            let active = self.windows.active().map(|(number, _)| number);
            let outcome = match next.paste.into {
                None => Ok(()),
                Some(WindowId(window)) if active == Some(window) => Ok(()),
                Some(WindowId(window)) => match self.windows.handle(window) {
                    None => Err(PasteError::Gone),
                    Some(_) if next.deadline <= now => Err(PasteError::NoFocus),
                    Some(handle) => {
                        if !std::mem::replace(&mut next.asked, true)
                            && let Some(seat) = self.seats.values().next()
                        {
                            handle.activate(&seat.seat);
                        }
                        self.pressing.push_front(next);
                        return;
                    }
                },
            };
            let outcome = outcome.and_then(|()| self.press(&next.paste));
            let _ = next.reply.send(outcome);
        }
    }

    /// Has a keyboard of our own from the beginning on: programs need a moment to learn of one, and miss what is pressed before.
    pub(super) fn plug_in(&mut self) {
        if self.keyboard.is_none()
            && let Some(manager) = &self.keyboards
            && let Some(seat) = self.seats.values().next()
        {
            let keyboard = manager.create_virtual_keyboard(&seat.seat, &self.handle, ());
            let keyboard = Keyboard { keyboard, has: None };
            self.keyboard = keyboard.with(PasteTable::default().keys(None, false).xkb_name());
        }
    }

    /// Presses the keys that paste in the window that has the keyboard.
    fn press(&mut self, paste: &Paste) -> Result<(), PasteError> {
        let chord = paste.table.keys(self.windows.source().application.as_deref(), false);
        let no_keys = |why: &str, chord: Chord| Err(PasteError::NoKeys(why.to_owned(), chord));
        let Some(keyboard) = self.keyboard.take() else {
            return no_keys("the compositor lets no program press keys", chord);
        };
        let Some(keyboard) = keyboard.with(chord.xkb_name()) else {
            return no_keys("the system gives no memory", chord);
        };
        let time = self.began.elapsed().as_millis() as u32;
        keyboard.keyboard.modifiers(mask(chord.modifiers), 0, 0, 0);
        keyboard.keyboard.key(time, KEY, KeyState::Pressed.into());
        keyboard.keyboard.key(time, KEY, KeyState::Released.into());
        keyboard.keyboard.modifiers(0, 0, 0, 0);
        self.keyboard = Some(keyboard);
        Ok(())
    }
}

/// A keyboard of our own.
pub(super) struct Keyboard {
    keyboard: ZwpVirtualKeyboardV1,
    /// The key that it has.
    has: Option<&'static str>,
}

impl Keyboard {
    /// It, with this key; none when the system gives no memory.
    fn with(mut self, key: &'static str) -> Option<Self> {
        if self.has != Some(key) {
            let text = keymap(key);
            let mut file = std::fs::File::from(memfd_create("yadori-keymap", MemfdFlags::CLOEXEC).ok()?);
            file.write_all(text.as_bytes()).ok()?;
            self.keyboard.keymap(KeymapFormat::XkbV1.into(), file.as_fd(), text.len() as u32);
            self.has = Some(key);
        }
        Some(self)
    }
}

delegate_noop!(State: ZwpVirtualKeyboardManagerV1);

impl Dispatch<ZwpVirtualKeyboardV1, ()> for State {
    fn event(
        _: &mut Self,
        _: &ZwpVirtualKeyboardV1,
        _: wayland_protocols_misc::zwp_virtual_keyboard_v1::client::zwp_virtual_keyboard_v1::Event,
        (): &(),
        _: &Connection,
        _: &QueueHandle<Self>,
    ) {
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_keyboard_has_the_key_and_the_modifiers_of_xkb() {
        let chord: Chord = "Super+Ctrl+Alt+Shift+V".parse().unwrap();
        assert!(keymap(chord.xkb_name()).contains("key <K1> { [ v, V ] };"));
        assert_eq!(mask(chord.modifiers), 0b100_1101);
        assert!(keymap("Insert").contains("[ Insert, Insert ]"));
    }
}
