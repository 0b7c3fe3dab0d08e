//! Which keys do what in the picker's window. A person changes them in `picker.toml`.

use gtk4::gdk::{Key, ModifierType};
use serde::Deserialize;
use std::collections::BTreeMap;
use std::path::Path;

/// What can be done with a key in the picker.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Act {
    Paste,
    PastePlain,
    Copy,
    Mark,
    Kept,
    Pin,
    Delete,
    Undo,
    Tray,
    Reshape,
    Unfold,
    Link,
    Console,
    Help,
}

impl Act {
    pub const ALL: [Self; 14] = [
        Self::Paste,
        Self::PastePlain,
        Self::Copy,
        Self::Mark,
        Self::Kept,
        Self::Pin,
        Self::Delete,
        Self::Undo,
        Self::Tray,
        Self::Reshape,
        Self::Unfold,
        Self::Link,
        Self::Console,
        Self::Help,
    ];

    /// Its name in `picker.toml`.
    pub fn word(self) -> &'static str {
        self.told().0
    }

    /// What it does.
    pub fn description(self) -> &'static str {
        self.told().1
    }

    /// Its name, what it does, and its keys unless others are set, as GTK writes them.
    fn told(self) -> (&'static str, &'static str, &'static str) {
        match self {
            Self::Paste => ("paste", "paste it where you were", "Return"),
            Self::PastePlain => ("paste-plain", "paste it as plain text", "<Shift>Return"),
            Self::Copy => ("copy", "only put it on the clipboard", "<Control>Return"),
            Self::Mark => ("mark", "mark it: marked clips are pasted joined", "<Control>space"),
            Self::Kept => ("kept", "switch between the history and what you keep", "<Control>k"),
            Self::Pin => ("pin", "pin or unpin it", "<Control>p"),
            Self::Delete => ("delete", "delete it", "<Control>Delete"),
            Self::Undo => ("undo", "undo the latest delete", "<Control>z"),
            Self::Tray => ("tray", "add it to the tray", "<Control>t"),
            Self::Reshape => ("reshape", "paste it reshaped", "<Control>r"),
            Self::Unfold => ("unfold", "show the whole of it", "<Control>u"),
            Self::Link => ("link", "open the link", "<Control>o"),
            Self::Console => ("console", "open the console", "<Control>b"),
            Self::Help => ("help", "list the keys", "F1"),
        }
    }
}

/// The theme that is wanted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Theme {
    /// That of the system.
    #[default]
    Auto,
    Paper,
    Night,
}

/// What a person has set for the picker.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Config {
    pub theme: Theme,
    keys: BTreeMap<String, String>,
}

impl Config {
    /// Reads the file, if there is one.
    ///
    /// # Errors
    /// What is wrong with it, and where.
    pub fn read(path: &Path) -> Result<Self, String> {
        let text = match std::fs::read_to_string(path) {
            Ok(text) => text,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(error) => return Err(format!("{} cannot be read: {error}", path.display())),
        };
        Self::parse(&text).map_err(|error| format!("{}: {error}", path.display()))
    }

    fn parse(text: &str) -> Result<Self, String> {
        let config: Self = toml::from_str(text).map_err(|error| error.to_string())?;
        if let Some(unknown) = config.keys.keys().find(|name| Act::ALL.iter().all(|act| act.word() != *name)) {
            let all = Act::ALL.map(Act::word).join(", ");
            return Err(format!("there is no action “{unknown}” in the picker; there are: {all}"));
        }
        Ok(config)
    }
}

/// The keys in force.
pub struct KeyMap(Vec<(Act, Key, ModifierType)>);

/// The modifiers that make a difference.
const DIFFERENCE: ModifierType = ModifierType::SHIFT_MASK
    .union(ModifierType::CONTROL_MASK)
    .union(ModifierType::ALT_MASK)
    .union(ModifierType::SUPER_MASK);

/// The key of the number pad counts as the one beside the letters.
fn same(key: Key) -> Key {
    match key {
        Key::KP_Enter | Key::ISO_Enter => Key::Return,
        Key::KP_Delete => Key::Delete,
        Key::KP_Space => Key::space,
        key => key.to_lower(),
    }
}

impl KeyMap {
    /// The keys, with what a person has set. GTK must have been started.
    pub fn new(config: &Config) -> Self {
        let read = |act: Act| {
            let set = config.keys.get(act.word());
            // What GTK cannot read is passed over: the picker must open all the same.
            let set = set.and_then(gtk4::accelerator_parse).or_else(|| gtk4::accelerator_parse(act.told().2));
            set.map(|(key, held)| (act, same(key), held & DIFFERENCE))
        };
        Self(Act::ALL.into_iter().filter_map(read).collect())
    }

    /// What a key does.
    pub fn act(&self, key: Key, held: ModifierType) -> Option<Act> {
        let (key, held) = (same(key), held & DIFFERENCE);
        self.0.iter().find(|(_, other, state)| *other == key && *state == held).map(|(act, ..)| *act)
    }

    /// The keys of an action, for reading.
    pub fn label(&self, act: Act) -> String {
        let keys = self.0.iter().find(|(other, ..)| *other == act);
        let label = keys.map(|(_, key, held)| gtk4::accelerator_get_label(*key, *held).to_string());
        // As it is written on most keyboards.
        label.unwrap_or_default().replace("Return", "Enter")
    }
}

/// The digit that a key stands for: its place among the first ten, 0 being the tenth.
pub fn place(key: Key) -> Option<usize> {
    let digit = key.to_unicode()?.to_digit(10)? as usize;
    Some(if digit == 0 { 9 } else { digit - 1 })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_understood_is_said_by_name() {
        assert_eq!(Config::parse("theme = \"night\"\n[keys]\npin = \"<Alt>p\"").unwrap().theme, Theme::Night);
        assert!(Config::parse("[keys]\nfold = \"F2\"").unwrap_err().contains("no action “fold”"));
        assert!(Config::parse("colour = 1").is_err());
    }

    #[test]
    fn a_digit_is_a_place_and_zero_the_tenth() {
        assert_eq!((place(Key::_1), place(Key::_9), place(Key::_0)), (Some(0), Some(8), Some(9)));
        assert_eq!((place(Key::KP_3), place(Key::a)), (Some(2), None));
    }
}
