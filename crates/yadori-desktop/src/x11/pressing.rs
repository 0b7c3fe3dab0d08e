//! Pressing the keys that paste (XTEST), in the window that they are meant for.

use super::layout::Layout;
use super::{End, X11, source};
use crate::keyboard::GIVING;
use crate::{Focus, Paste, PasteError, WindowId};
use std::collections::VecDeque;
use std::path::Path;
use std::time::Instant;
use tokio::sync::oneshot;
use x11rb::connection::Connection;
use x11rb::errors::ReplyError;
use x11rb::protocol::xproto::{
    ChangeWindowAttributesAux, ClientMessageEvent, ConnectionExt as _, EventMask, InputFocus, KEY_PRESS_EVENT,
    KEY_RELEASE_EVENT, Keycode, Window,
};
use x11rb::protocol::xtest::ConnectionExt as _;
use yadori_core::keys::Chord;

/// A paste that waits until its window has the keyboard.
pub(super) struct Pressing {
    paste: Paste,
    reply: oneshot::Sender<Result<(), PasteError>>,
    /// From when on it is given up; none before the window has been asked to take the keyboard.
    deadline: Option<Instant>,
}

/// The window that a program's manager knows, and the very one that has the keyboard, as one number.
fn id((outermost, focus): (Window, Window)) -> WindowId {
    WindowId(u64::from(outermost) << 32 | u64::from(focus))
}

fn windows(WindowId(id): WindowId) -> (Window, Window) {
    ((id >> 32) as Window, id as Window)
}

/// Whether a process serves a pseudo-terminal itself (`/dev/ptmx`, see pty(7)).
fn serves_terminal(process: u32) -> bool {
    let is_terminal = |path: &Path| matches!(path.to_str(), Some("/dev/ptmx" | "/dev/pts/ptmx"));
    let opened = std::fs::read_dir(format!("/proc/{process}/fd")).into_iter().flatten().flatten();
    opened.filter_map(|file| std::fs::read_link(file.path()).ok()).any(|path| is_terminal(&path))
}

impl X11 {
    /// The window that has the keyboard.
    pub(super) fn focus(&self) -> Option<Focus> {
        let focused = source::focused(&self.connection, &self.atoms, self.root)?;
        Some(Focus { window: id(focused), source: source::source(&self.connection, &self.atoms, focused.0) })
    }

    /// Pastes as soon as its window has the keyboard, and those before it are done.
    pub(super) fn paste(&mut self, paste: Paste, reply: oneshot::Sender<Result<(), PasteError>>) -> Result<(), End> {
        self.pressing.push_back(Pressing { paste, reply, deadline: None });
        self.press_on()
    }

    /// From when on the paste that waits is given up.
    pub(super) fn pressing_deadline(pressing: &VecDeque<Pressing>) -> Option<Instant> {
        pressing.front()?.deadline
    }

    /// Pastes what can be pasted now.
    pub(super) fn press_on(&mut self) -> Result<(), End> {
        while let Some(mut next) = self.pressing.pop_front() {
            let outcome = match next.paste.into {
                None => Ok(()),
                Some(window) => match self.bring_back(window, &mut next)? {
                    Some(outcome) => outcome,
                    None => {
                        self.pressing.push_front(next);
                        return Ok(());
                    }
                },
            };
            let outcome = match outcome {
                Ok(()) => self.press(&next.paste)?,
                Err(error) => Err(error),
            };
            let _ = next.reply.send(outcome);
        }
        Ok(())
    }

    /// Gives the keyboard back to a window. None as long as it has not taken it.
    fn bring_back(&mut self, window: WindowId, next: &mut Pressing) -> Result<Option<Result<(), PasteError>>, End> {
        let (outermost, focus) = windows(window);
        if self.connection.get_window_attributes(outermost)?.reply().is_err() {
            return Ok(Some(Err(PasteError::Gone)));
        }
        let now = self.connection.get_input_focus()?.reply()?.focus;
        if now == focus || (now > 1 && source::ancestors(&self.connection, now).any(|window| window == outermost)) {
            if next.deadline.is_some() {
                self.watch_window(outermost, false)?;
            }
            return Ok(Some(Ok(())));
        }
        match next.deadline {
            Some(deadline) if deadline <= Instant::now() => {
                self.watch_window(outermost, false)?;
                return Ok(Some(Err(PasteError::NoFocus)));
            }
            Some(_) => return Ok(None),
            None => next.deadline = Some(Instant::now() + GIVING),
        }
        self.watch_window(outermost, true)?;
        if source::manager(&self.connection, &self.atoms, self.root).is_some() {
            // Asked for by the person, as by a pager (EWMH, source indication 2).
            let asked = [2, x11rb::CURRENT_TIME, x11rb::NONE, 0, 0];
            let message = ClientMessageEvent::new(32, outermost, self.atoms._NET_ACTIVE_WINDOW, asked);
            let mask = EventMask::SUBSTRUCTURE_REDIRECT | EventMask::SUBSTRUCTURE_NOTIFY;
            self.connection.send_event(false, self.root, mask, message)?;
        } else {
            for window in [focus, outermost] {
                let given = self.connection.set_input_focus(InputFocus::PARENT, window, x11rb::CURRENT_TIME)?;
                if given.check().is_ok() {
                    break;
                }
            }
        }
        self.connection.flush()?;
        // It may have it already.
        let now = self.connection.get_input_focus()?.reply()?.focus;
        let has = now == focus || source::ancestors(&self.connection, now).any(|window| window == outermost);
        if has {
            self.watch_window(outermost, false)?;
        }
        Ok(has.then_some(Ok(())))
    }

    /// Has us told when a window gets the keyboard, or is gone.
    fn watch_window(&self, window: Window, wanted: bool) -> Result<(), End> {
        let mask = if wanted { EventMask::FOCUS_CHANGE | EventMask::STRUCTURE_NOTIFY } else { EventMask::NO_EVENT };
        self.connection.change_window_attributes(window, &ChangeWindowAttributesAux::new().event_mask(mask))?;
        Ok(())
    }

    /// Presses the keys that paste in the window that has the keyboard.
    fn press(&mut self, paste: &Paste) -> Result<Result<(), PasteError>, End> {
        let window = source::focused(&self.connection, &self.atoms, self.root).map(|(outermost, _)| outermost);
        let application = window.and_then(|window| source::source(&self.connection, &self.atoms, window).application);
        let process = window.and_then(|window| source::process(&self.connection, &self.atoms, window));
        let chord = paste.table.keys(application.as_deref(), process.is_some_and(serves_terminal));
        let mut layout = Layout::read(&self.connection)?;
        if layout.code(chord.symbol()).is_none() && self.add_key(&layout, &chord)? {
            layout = Layout::read(&self.connection)?;
        }
        let Some((key, held)) = layout.code(chord.symbol()).zip(layout.held(chord.modifiers)) else {
            return Ok(Err(PasteError::NoKeys("the keyboard has no such keys".into(), chord)));
        };
        self.press_keys(&layout, key, &held)?;
        Ok(Ok(()))
    }

    /// A layout without the key gets it, in a place where it has none.
    fn add_key(&self, layout: &Layout, chord: &Chord) -> Result<bool, End> {
        let Some((spare, symbols)) = layout.spare() else { return Ok(false) };
        let mut given = vec![0; symbols];
        given[0] = chord.symbol();
        if let Some(shifted) = given.get_mut(1)
            && let Some(small) = char::from_u32(chord.symbol()).filter(char::is_ascii_lowercase)
        {
            *shifted = u32::from(small.to_ascii_uppercase());
        }
        let per_key = u8::try_from(symbols).unwrap_or(u8::MAX);
        let changed = self.connection.change_keyboard_mapping(1, spare, per_key, &given)?;
        Ok(changed.check().is_ok())
    }

    /// Presses and releases keys. Modifiers that the person still holds would make them others: they are lifted, and put
    /// back afterwards.
    fn press_keys(&mut self, layout: &Layout, key: Keycode, held: &[Keycode]) -> Result<(), End> {
        let down = self.connection.query_keymap()?.reply()?.keys;
        let is_down = |code: &Keycode| down[usize::from(code / 8)] & (1 << (code % 8)) != 0;
        let mut lifted: Vec<Keycode> = layout.modifiers().filter(is_down).collect();
        lifted.sort_unstable();
        lifted.dedup();
        // Ctrl last: Alt, pressed and let go of by itself, opens menus.
        lifted.sort_by_key(|code| layout.is_control(*code));
        let pressed: Vec<Keycode> = held.iter().copied().chain([key]).collect();
        self.lifting(&lifted, &pressed)?;
        let press = |kind: u8, code: Keycode| -> Result<(), ReplyError> {
            self.connection.xtest_fake_input(kind, code, x11rb::CURRENT_TIME, self.root, 0, 0, 0)?;
            Ok(())
        };
        for code in &lifted {
            press(KEY_RELEASE_EVENT, *code)?;
        }
        for code in &pressed {
            press(KEY_PRESS_EVENT, *code)?;
        }
        for code in pressed.iter().rev() {
            press(KEY_RELEASE_EVENT, *code)?;
        }
        for code in &lifted {
            press(KEY_PRESS_EVENT, *code)?;
        }
        self.connection.get_input_focus()?.reply()?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_that_serves_a_terminal_is_known_by_that() {
        let mut sleeping = std::process::Command::new("sleep");
        let mut other = sleeping.arg("60").spawn().unwrap();
        assert!(!serves_terminal(other.id()));
        other.kill().unwrap();
        other.wait().unwrap();
        let _terminal = std::fs::File::open("/dev/ptmx").unwrap();
        assert!(serves_terminal(std::process::id()));
    }

    #[test]
    fn a_window_is_named_with_the_one_inside_it_that_has_the_keyboard() {
        let both = (0x0120_0003, 0x0120_0007);
        assert_eq!(windows(id(both)), both);
        assert_eq!(id(both).to_string().parse(), Ok(id(both)));
    }
}
