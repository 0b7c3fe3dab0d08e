//! A key together with modifiers: `Ctrl+Alt+V`.

use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// The modifiers that are held.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Modifiers {
    /// Ctrl.
    pub control: bool,
    /// Alt.
    pub alt: bool,
    /// Shift.
    pub shift: bool,
    /// The key with the system's sign (Mod4).
    pub logo: bool,
}

/// A key together with modifiers.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(into = "String", try_from = "String")]
pub struct Chord {
    /// What is held.
    pub modifiers: Modifiers,
    key: &'static Key,
}

/// Keys whose names are more than their one character: ours, that of the X keyboard (`keysymdef.h`), its number there,
/// and whether it may be used without modifiers (nobody writes with it).
#[derive(Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
struct Key {
    name: &'static str,
    xkb: &'static str,
    symbol: u32,
    bare: bool,
}

const fn key(name: &'static str, xkb: &'static str, symbol: u32, bare: bool) -> Key {
    Key { name, xkb, symbol, bare }
}

/// The keys that there are.
static KEYS: &[Key] = &[
    key("A", "a", 0x61, false),
    key("B", "b", 0x62, false),
    key("C", "c", 0x63, false),
    key("D", "d", 0x64, false),
    key("E", "e", 0x65, false),
    key("F", "f", 0x66, false),
    key("G", "g", 0x67, false),
    key("H", "h", 0x68, false),
    key("I", "i", 0x69, false),
    key("J", "j", 0x6a, false),
    key("K", "k", 0x6b, false),
    key("L", "l", 0x6c, false),
    key("M", "m", 0x6d, false),
    key("N", "n", 0x6e, false),
    key("O", "o", 0x6f, false),
    key("P", "p", 0x70, false),
    key("Q", "q", 0x71, false),
    key("R", "r", 0x72, false),
    key("S", "s", 0x73, false),
    key("T", "t", 0x74, false),
    key("U", "u", 0x75, false),
    key("V", "v", 0x76, false),
    key("W", "w", 0x77, false),
    key("X", "x", 0x78, false),
    key("Y", "y", 0x79, false),
    key("Z", "z", 0x7a, false),
    key("0", "0", 0x30, false),
    key("1", "1", 0x31, false),
    key("2", "2", 0x32, false),
    key("3", "3", 0x33, false),
    key("4", "4", 0x34, false),
    key("5", "5", 0x35, false),
    key("6", "6", 0x36, false),
    key("7", "7", 0x37, false),
    key("8", "8", 0x38, false),
    key("9", "9", 0x39, false),
    key("Space", "space", 0x20, false),
    key("Comma", "comma", 0x2c, false),
    key("Minus", "minus", 0x2d, false),
    key("Period", "period", 0x2e, false),
    key("Slash", "slash", 0x2f, false),
    key("Semicolon", "semicolon", 0x3b, false),
    key("Equal", "equal", 0x3d, false),
    key("Backslash", "backslash", 0x5c, false),
    key("Grave", "grave", 0x60, false),
    key("Enter", "Return", 0xff0d, false),
    key("Tab", "Tab", 0xff09, false),
    key("Escape", "Escape", 0xff1b, false),
    key("Backspace", "BackSpace", 0xff08, false),
    key("Insert", "Insert", 0xff63, true),
    key("Delete", "Delete", 0xffff, false),
    key("Home", "Home", 0xff50, false),
    key("End", "End", 0xff57, false),
    key("PageUp", "Prior", 0xff55, false),
    key("PageDown", "Next", 0xff56, false),
    key("Left", "Left", 0xff51, false),
    key("Up", "Up", 0xff52, false),
    key("Right", "Right", 0xff53, false),
    key("Down", "Down", 0xff54, false),
    key("Pause", "Pause", 0xff13, true),
    key("Print", "Print", 0xff61, true),
    key("Menu", "Menu", 0xff67, true),
    key("F1", "F1", 0xffbe, true),
    key("F2", "F2", 0xffbf, true),
    key("F3", "F3", 0xffc0, true),
    key("F4", "F4", 0xffc1, true),
    key("F5", "F5", 0xffc2, true),
    key("F6", "F6", 0xffc3, true),
    key("F7", "F7", 0xffc4, true),
    key("F8", "F8", 0xffc5, true),
    key("F9", "F9", 0xffc6, true),
    key("F10", "F10", 0xffc7, true),
    key("F11", "F11", 0xffc8, true),
    key("F12", "F12", 0xffc9, true),
];

/// How another program wants keys written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Syntax {
    /// `Ctrl+Alt+v`, with the names of the X keyboard: sway, and programs like it.
    Plus,
    /// `CTRL ALT, v`: Hyprland.
    Comma,
    /// `<Control><Alt>v`: GTK and GNOME.
    Angle,
    /// `C-A-v`: labwc and Openbox.
    Dash,
    /// `CTRL+ALT+v`: the shortcuts of XDG, as portals want them.
    Portal,
}

/// Why something is not a key with modifiers.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum ChordError {
    /// There is no such key.
    #[error("there is no key “{0}”; keys are letters, digits, F1 to F12, and names like Space, Insert, PageUp, Comma")]
    NoSuchKey(String),
    /// It would take a key away from everybody who writes.
    #[error("{0} alone would be missed in every program; hold Ctrl, Alt or Super with it")]
    Bare(String),
}

impl Chord {
    /// A key of [`KEYS`] that is known to be there.
    pub(super) fn new(modifiers: Modifiers, name: &str) -> Self {
        let key = KEYS.iter().find(|key| key.name.eq_ignore_ascii_case(name)).unwrap_or(&KEYS[0]);
        Self { modifiers, key }
    }

    /// Its number on the X keyboard (`keysymdef.h`): that of the small letter, for a letter.
    pub fn symbol(&self) -> u32 {
        self.key.symbol
    }

    /// Its name on the X keyboard (`keysymdef.h`).
    pub fn xkb_name(&self) -> &'static str {
        self.key.xkb
    }

    /// As another program wants it.
    pub fn written(&self, syntax: Syntax) -> String {
        let Modifiers { control, alt, shift, logo } = self.modifiers;
        let [names, between, end]: [[&str; 5]; 3] = match syntax {
            Syntax::Plus => [["Mod4", "Ctrl", "Alt", "Shift", ""], ["+"; 5], ["+"; 5]],
            Syntax::Portal => [["LOGO", "CTRL", "ALT", "SHIFT", ""], ["+"; 5], ["+"; 5]],
            Syntax::Comma => [["SUPER", "CTRL", "ALT", "SHIFT", ""], [" "; 5], [", "; 5]],
            Syntax::Dash => [["W", "C", "A", "S", ""], ["-"; 5], ["-"; 5]],
            Syntax::Angle => [["<Super>", "<Control>", "<Alt>", "<Shift>", ""], [""; 5], [""; 5]],
        };
        let held: Vec<&str> =
            [logo, control, alt, shift].iter().zip(names).filter_map(|(held, name)| held.then_some(name)).collect();
        let held = held.join(between[0]);
        format!("{held}{}{}", if held.is_empty() { "" } else { end[0] }, self.key.xkb)
    }
}

impl fmt::Display for Chord {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Modifiers { control, alt, shift, logo } = self.modifiers;
        for (held, name) in [(logo, "Super"), (control, "Ctrl"), (alt, "Alt"), (shift, "Shift")] {
            if held {
                write!(f, "{name}+")?;
            }
        }
        f.write_str(self.key.name)
    }
}

impl FromStr for Chord {
    type Err = ChordError;

    /// Reads `Ctrl+Alt+V`: modifiers in any order and case, by their common names, and then the key.
    fn from_str(text: &str) -> Result<Self, ChordError> {
        let mut modifiers = Modifiers::default();
        let mut parts: Vec<&str> = text.split('+').map(str::trim).collect();
        let name = parts.pop().unwrap_or_default();
        for part in parts {
            match part.to_ascii_lowercase().as_str() {
                "ctrl" | "control" => modifiers.control = true,
                "alt" | "mod1" | "option" => modifiers.alt = true,
                "shift" => modifiers.shift = true,
                "super" | "logo" | "win" | "meta" | "mod4" | "cmd" => modifiers.logo = true,
                _ => return Err(ChordError::NoSuchKey(part.to_owned())),
            }
        }
        let of_name = |key: &&Key| key.name.eq_ignore_ascii_case(name) || key.xkb.eq_ignore_ascii_case(name);
        let key = KEYS.iter().find(of_name).ok_or_else(|| ChordError::NoSuchKey(name.to_owned()))?;
        let chord = Self { modifiers, key };
        let Modifiers { control, alt, logo, .. } = modifiers;
        if !(control || alt || logo || key.bare) {
            return Err(ChordError::Bare(chord.to_string()));
        }
        Ok(chord)
    }
}

impl From<Chord> for String {
    fn from(chord: Chord) -> Self {
        chord.to_string()
    }
}

impl TryFrom<String> for Chord {
    type Error = ChordError;

    fn try_from(text: String) -> Result<Self, ChordError> {
        text.parse()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_are_read_as_people_write_them_and_written_one_way() {
        for (written, read) in [
            ("ctrl+alt+v", "Ctrl+Alt+V"),
            ("Alt + Control + space", "Ctrl+Alt+Space"),
            ("WIN+Prior", "Super+PageUp"),
            ("Shift+Mod4+F5", "Super+Shift+F5"),
            ("Pause", "Pause"),
            ("shift+insert", "Shift+Insert"),
        ] {
            let chord: Chord = written.parse().unwrap();
            assert_eq!(chord.to_string(), read);
            assert_eq!(chord.to_string().parse::<Chord>(), Ok(chord));
        }
    }

    #[test]
    fn what_is_no_key_or_would_be_missed_is_refused() {
        assert_eq!("Ctrl+".parse::<Chord>(), Err(ChordError::NoSuchKey(String::new())));
        assert_eq!("Ctrl+Foo".parse::<Chord>(), Err(ChordError::NoSuchKey("Foo".into())));
        assert_eq!("Hyper+V".parse::<Chord>(), Err(ChordError::NoSuchKey("Hyper".into())));
        assert_eq!("Shift+V".parse::<Chord>(), Err(ChordError::Bare("Shift+V".into())));
        assert_eq!("Enter".parse::<Chord>(), Err(ChordError::Bare("Enter".into())));
    }

    #[test]
    fn each_program_is_given_keys_as_it_wants_them() {
        let chord: Chord = "Super+Ctrl+PageUp".parse().unwrap();
        let written = |syntax| chord.written(syntax);
        assert_eq!(written(Syntax::Plus), "Mod4+Ctrl+Prior");
        assert_eq!(written(Syntax::Comma), "SUPER CTRL, Prior");
        assert_eq!(written(Syntax::Angle), "<Super><Control>Prior");
        assert_eq!(written(Syntax::Dash), "W-C-Prior");
        assert_eq!(written(Syntax::Portal), "LOGO+CTRL+Prior");
        assert_eq!("F5".parse::<Chord>().unwrap().written(Syntax::Comma), "F5");
    }
}
