//! Which keys paste, by program.

use super::{Chord, Modifiers};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use thiserror::Error;

/// Programs that paste with other keys than Ctrl+V: a part of the name under which their windows go (WM_CLASS, app-id),
/// in small letters, and the keys. Terminals keep Ctrl+V for the programs in them.
const BUILT_IN: &[(&str, &str)] = &[
    ("term", "Ctrl+Shift+V"),
    ("konsole", "Ctrl+Shift+V"),
    ("kitty", "Ctrl+Shift+V"),
    ("alacritty", "Ctrl+Shift+V"),
    ("foot", "Ctrl+Shift+V"),
    ("tilix", "Ctrl+Shift+V"),
    ("guake", "Ctrl+Shift+V"),
    ("yakuake", "Ctrl+Shift+V"),
    ("sakura", "Ctrl+Shift+V"),
    ("rxvt", "Ctrl+Alt+V"),
    ("emacs", "Ctrl+Y"),
];

/// Most programs that a person can name.
const MOST: usize = 100;

/// Which keys paste in the programs that a person named, over those that are known.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PasteTable(BTreeMap<String, Chord>);

/// Why a program was not named.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum PasteTableError {
    /// Its name says nothing.
    #[error("name the application, as `yadori list --json` shows it as a clip's source")]
    NoName,
    /// There are too many.
    #[error("no more than {MOST} applications can have keys of their own")]
    TooMany,
}

impl PasteTable {
    /// The keys that paste in the application of this name; `terminal` if something else tells that it is one.
    pub fn keys(&self, application: Option<&str>, terminal: bool) -> Chord {
        let name = application.unwrap_or_default().to_lowercase();
        if let Some(chord) = self.0.get(&name) {
            return chord.clone();
        }
        let known = BUILT_IN.iter().find(|(part, _)| name.contains(part)).and_then(|(_, keys)| keys.parse().ok());
        let held = Modifiers { control: true, shift: terminal, ..Modifiers::default() };
        known.unwrap_or_else(|| Chord::new(held, "V"))
    }

    /// Sets the keys that paste in an application, or forgets them.
    ///
    /// # Errors
    /// When it has no name, or there are too many.
    pub fn set(&mut self, application: &str, keys: Option<Chord>) -> Result<(), PasteTableError> {
        let name = application.trim().to_lowercase();
        if name.is_empty() {
            return Err(PasteTableError::NoName);
        }
        if self.0.len() >= MOST && keys.is_some() && !self.0.contains_key(&name) {
            return Err(PasteTableError::TooMany);
        }
        match keys {
            Some(keys) => self.0.insert(name, keys),
            None => self.0.remove(&name),
        };
        Ok(())
    }

    /// The programs that a person named, and the keys.
    pub fn named(&self) -> impl Iterator<Item = (&str, &Chord)> {
        self.0.iter().map(|(name, chord)| (name.as_str(), chord))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn terminals_and_programs_that_differ_paste_their_own_way() {
        let mut table = PasteTable::default();
        let keys = |table: &PasteTable, name: Option<&str>, terminal| table.keys(name, terminal).to_string();
        assert_eq!(keys(&table, Some("Mousepad"), false), "Ctrl+V");
        assert_eq!(keys(&table, None, false), "Ctrl+V");
        assert_eq!(keys(&table, None, true), "Ctrl+Shift+V");
        assert_eq!(keys(&table, Some("org.gnome.Terminal"), false), "Ctrl+Shift+V");
        assert_eq!(keys(&table, Some("Emacs"), false), "Ctrl+Y");
        table.set(" Emacs ", "Shift+Insert".parse().ok()).unwrap();
        assert_eq!(keys(&table, Some("emacs"), false), "Shift+Insert");
        table.set("EMACS", None).unwrap();
        assert_eq!(table, PasteTable::default());
        assert_eq!(table.set(" ", None), Err(PasteTableError::NoName));
        assert!(BUILT_IN.iter().all(|(_, keys)| keys.parse::<Chord>().is_ok()));
    }
}
