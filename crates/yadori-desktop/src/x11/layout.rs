//! Which codes the keyboard's keys have, by the layout that is in force.

use x11rb::connection::Connection;
use x11rb::errors::ReplyError;
use x11rb::protocol::xproto::{ConnectionExt as _, Keycode, Keysym};
use x11rb::rust_connection::RustConnection;
use yadori_core::keys::Modifiers;

/// Keys of the X keyboard (`keysymdef.h`).
pub(super) const CONTROL: Keysym = 0xffe3;
pub(super) const SHIFT: Keysym = 0xffe1;
const ALT: Keysym = 0xffe9;
const LOGO: Keysym = 0xffeb;
const NUM_LOCK: Keysym = 0xff7f;
const SCROLL_LOCK: Keysym = 0xff14;

/// The bits of a state of modifiers (X11 protocol, `KEYBUTMASK`).
const SHIFT_BIT: u16 = 1;
const LOCK_BIT: u16 = 1 << 1;
const CONTROL_BIT: u16 = 1 << 2;

/// The keyboard as it is now.
pub(super) struct Layout {
    first: Keycode,
    per_key: usize,
    symbols: Vec<Keysym>,
    /// The codes of the keys that are each of the eight modifiers.
    modifiers: Vec<Vec<Keycode>>,
}

impl Layout {
    pub fn read(connection: &RustConnection) -> Result<Self, ReplyError> {
        let setup = connection.setup();
        let (first, last) = (setup.min_keycode, setup.max_keycode);
        let mapping = connection.get_keyboard_mapping(first, last - first + 1)?;
        let modifiers = connection.get_modifier_mapping()?.reply()?;
        let mapping = mapping.reply()?;
        let each = usize::from(modifiers.keycodes_per_modifier()).max(1);
        Ok(Self {
            first,
            per_key: usize::from(mapping.keysyms_per_keycode).max(1),
            symbols: mapping.keysyms,
            modifiers: (modifiers.keycodes.chunks(each))
                .map(|codes| codes.iter().copied().filter(|code| *code != 0).collect())
                .collect(),
        })
    }

    /// The code of the key that gives this, without modifiers if there is one that does.
    pub fn code(&self, symbol: Keysym) -> Option<Keycode> {
        let keys = || self.symbols.chunks(self.per_key);
        let place = (keys().position(|symbols| symbols.first() == Some(&symbol)))
            .or_else(|| keys().position(|symbols| symbols.contains(&symbol)))?;
        u8::try_from(place).ok().map(|place| self.first + place)
    }

    /// A key that gives nothing, and how many symbols it could have.
    pub fn spare(&self) -> Option<(Keycode, usize)> {
        let place = self.symbols.chunks(self.per_key).rposition(|symbols| symbols.iter().all(|symbol| *symbol == 0))?;
        Some((self.first + u8::try_from(place).ok()?, self.per_key))
    }

    /// The codes of all keys that are modifiers.
    pub fn modifiers(&self) -> impl Iterator<Item = Keycode> {
        self.modifiers.iter().flatten().copied()
    }

    /// Whether a key is Ctrl.
    pub fn is_control(&self, code: Keycode) -> bool {
        self.modifiers.get(2).is_some_and(|codes| codes.contains(&code))
    }

    /// The bit of the modifier that the key of this symbol is.
    fn bit(&self, symbol: Keysym) -> Option<u16> {
        let code = self.code(symbol)?;
        let number = self.modifiers.iter().position(|codes| codes.contains(&code))?;
        Some(1 << number)
    }

    /// Modifiers as a state; none if the keyboard lacks one of them.
    pub fn state(&self, modifiers: Modifiers) -> Option<u16> {
        let Modifiers { control, alt, shift, logo } = modifiers;
        let mut state = if control { CONTROL_BIT } else { 0 } | if shift { SHIFT_BIT } else { 0 };
        if alt {
            state |= self.bit(ALT)?;
        }
        if logo {
            state |= self.bit(LOGO)?;
        }
        Some(state)
    }

    /// The key that is to be held for each modifier.
    pub fn held(&self, modifiers: Modifiers) -> Option<Vec<Keycode>> {
        let Modifiers { control, alt, shift, logo } = modifiers;
        let wanted = [(control, CONTROL), (alt, ALT), (shift, SHIFT), (logo, LOGO)];
        wanted.iter().filter(|(held, _)| *held).map(|(_, symbol)| self.code(*symbol)).collect()
    }

    /// All states of the locks (Caps, Num, Scroll), which make no difference.
    pub fn locks(&self) -> Vec<u16> {
        let mut states = vec![0];
        for bit in [Some(LOCK_BIT), self.bit(NUM_LOCK), self.bit(SCROLL_LOCK)].into_iter().flatten() {
            states.extend(states.clone().into_iter().map(|state| state | bit));
        }
        states.sort_unstable();
        states.dedup();
        states
    }
}
