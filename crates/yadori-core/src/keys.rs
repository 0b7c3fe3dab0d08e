//! The keys by which a person reaches Yadori from any program, and what they do.
//!
//! * `chord`: a key together with modifiers, written and read
//! * `paste`: which keys paste, by program
//! * `positions`: what a position means while keys are pressed one after the other

mod chord;
mod paste;
mod positions;

pub use chord::{Chord, ChordError, Modifiers, Syntax};
pub use paste::{PasteTable, PasteTableError};
pub use positions::{LISTED, PositionRun, RUN};

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What a key does.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Action {
    /// Opens the picker.
    Picker,
    /// Pastes the clip at this position, 1 to 9.
    Paste(u8),
    /// Pastes the next clip of the tray.
    TrayNext,
    /// Opens the tray, or closes it.
    Tray,
    /// Pastes as plain text what is on the clipboard.
    PastePlain,
    /// Pins the newest clip, or unpins it.
    Pin,
    /// Pauses capture for a quarter of an hour, or resumes it.
    Pause,
    /// Locks the history.
    Lock,
}

impl Action {
    /// All of them, in the order in which they are listed.
    pub const ALL: [Self; 16] = [
        Self::Picker,
        Self::Paste(1),
        Self::Paste(2),
        Self::Paste(3),
        Self::Paste(4),
        Self::Paste(5),
        Self::Paste(6),
        Self::Paste(7),
        Self::Paste(8),
        Self::Paste(9),
        Self::PastePlain,
        Self::TrayNext,
        Self::Tray,
        Self::Pin,
        Self::Pause,
        Self::Lock,
    ];

    /// The word for it.
    pub fn word(self) -> String {
        match self {
            Self::Picker => "picker".into(),
            Self::Paste(position) => format!("paste-{position}"),
            Self::TrayNext => "tray-next".into(),
            Self::Tray => "tray".into(),
            Self::PastePlain => "paste-plain".into(),
            Self::Pin => "pin".into(),
            Self::Pause => "pause".into(),
            Self::Lock => "lock".into(),
        }
    }

    /// The action of this word.
    pub fn of_word(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|action| action.word() == word)
    }

    /// What it does, for a person.
    pub fn description(self) -> String {
        match self {
            Self::Picker => "open the picker".into(),
            Self::Paste(position) => format!("paste the clip at position {position}"),
            Self::TrayNext => "paste the next clip of the tray".into(),
            Self::Tray => "open or close the tray".into(),
            Self::PastePlain => "paste as plain text what is on the clipboard".into(),
            Self::Pin => "pin the newest clip, or unpin it".into(),
            Self::Pause => "pause for 15 minutes, or resume".into(),
            Self::Lock => "lock the history".into(),
        }
    }

    /// The keys for it unless a person sets others: Ctrl+Alt and something, which no common desktop takes for itself.
    pub fn default_chord(self) -> Chord {
        let key = match self {
            Self::Picker => "Space".into(),
            Self::Paste(position) => position.to_string(),
            Self::TrayNext => "N".into(),
            Self::Tray => "Y".into(),
            Self::PastePlain => "V".into(),
            Self::Pin => "P".into(),
            Self::Pause => "0".into(),
            // Not L, by which several desktops lock the screen.
            Self::Lock => "K".into(),
        };
        Chord::new(Modifiers { control: true, alt: true, ..Modifiers::default() }, &key)
    }
}

/// What a person has set: other keys for actions, or none, and how programs paste.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KeySettings {
    /// Keys by the word of their action; none where it has no keys.
    #[serde(default)]
    keys: BTreeMap<String, Option<Chord>>,
    /// Which keys paste, by application.
    #[serde(default)]
    pub paste: PasteTable,
}

/// Why keys were not set.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0} already {what}; remove them there first, or choose others", what = does(*.1))]
pub struct KeysTaken(pub Chord, pub Action);

fn does(action: Action) -> String {
    let description = action.description();
    let (verb, rest) = description.split_once(' ').unwrap_or((&description, ""));
    format!("{verb}{} {rest}", if verb.ends_with('s') { "es" } else { "s" })
}

impl KeySettings {
    /// The keys of an action.
    pub fn chord(&self, action: Action) -> Option<Chord> {
        match self.keys.get(&action.word()) {
            Some(set) => set.clone(),
            None => Some(action.default_chord()),
        }
    }

    /// Whether the keys of an action are those that it has by default.
    pub fn is_default(&self, action: Action) -> bool {
        self.chord(action) == Some(action.default_chord())
    }

    /// Sets the keys of an action, or takes them away.
    ///
    /// # Errors
    /// When another action has them.
    pub fn set(&mut self, action: Action, chord: Option<Chord>) -> Result<(), KeysTaken> {
        if let Some(chord) = &chord
            && let Some(other) =
                Action::ALL.into_iter().find(|other| *other != action && self.chord(*other).as_ref() == Some(chord))
        {
            return Err(KeysTaken(chord.clone(), other));
        }
        self.keys.insert(action.word(), chord);
        if self.is_default(action) {
            self.keys.remove(&action.word());
        }
        Ok(())
    }

    /// Gives all actions their default keys.
    pub fn reset(&mut self) {
        self.keys.clear();
    }

    /// All keys and what they do.
    pub fn chords(&self) -> Vec<(Action, Chord)> {
        Action::ALL.into_iter().filter_map(|action| Some((action, self.chord(action)?))).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_action_has_a_word_and_keys_of_its_own() {
        let settings = KeySettings::default();
        for action in Action::ALL {
            assert_eq!(Action::of_word(&action.word()), Some(action));
            let same = settings.chords().into_iter().filter(|(_, chord)| *chord == action.default_chord()).count();
            assert_eq!(same, 1, "{action:?}");
        }
        assert_eq!(Action::of_word("paste-0"), None);
    }

    #[test]
    fn keys_that_another_action_has_are_refused_and_its_name_is_said() {
        let mut settings = KeySettings::default();
        let taken = settings.set(Action::Pin, Action::Paste(3).default_chord().into()).unwrap_err();
        assert_eq!(
            taken.to_string(),
            "Ctrl+Alt+3 already pastes the clip at position 3; remove them there first, or choose others"
        );
        settings.set(Action::Paste(3), None).unwrap();
        settings.set(Action::Pin, Some(Action::Paste(3).default_chord())).unwrap();
        assert_eq!(settings.chord(Action::Pin).unwrap().to_string(), "Ctrl+Alt+3");
        assert_eq!(settings.chord(Action::Paste(3)), None);
        let written = serde_json::to_string(&settings).unwrap();
        assert_eq!(serde_json::from_str::<KeySettings>(&written).unwrap(), settings);
        settings.reset();
        assert_eq!(settings, KeySettings::default());
    }

    #[test]
    fn what_is_set_back_by_hand_counts_as_default() {
        let mut settings = KeySettings::default();
        settings.set(Action::Pause, None).unwrap();
        settings.set(Action::Pause, Some(Action::Pause.default_chord())).unwrap();
        assert_eq!(settings, KeySettings::default());
    }
}
