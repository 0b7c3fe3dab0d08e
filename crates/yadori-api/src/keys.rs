//! Keys that reach the service from every program, and the window that has the keyboard.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// Whether keys reach the service.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum KeyState {
    /// They do.
    Grabbed,
    /// Another program has them.
    Taken,
    /// The keyboard has no such key.
    NoSuchKey,
    /// The desktop, which assigns keys itself, has assigned none: perhaps the person did not agree when it asked.
    Unassigned,
    /// The desktop gives keys to no program; they are set in its own configuration.
    Unsupported,
}

/// An action and its keys.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyBinding {
    /// The action's name: `picker`, `paste-1` to `paste-9`, `paste-plain`, `tray-next`, `tray`, `pin`, `pause`.
    pub action: String,
    /// What it does.
    pub description: String,
    /// Its keys, such as `Ctrl+Alt+V`; none if it has none.
    pub keys: Option<String>,
    /// The keys that it has by default.
    pub default: String,
    /// Whether they reach the service; none while there is no desktop.
    pub state: Option<KeyState>,
    /// Who may have them, if another program does: the window manager.
    pub taken_by: Option<String>,
    /// The keys that are to be pressed, in the desktop's words, where the desktop assigns them itself.
    #[serde(default)]
    pub assigned: Option<String>,
}

/// The keys that paste in one application.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct PasteKeys {
    /// The application.
    pub application: String,
    /// The keys.
    pub keys: String,
}

/// All keys.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Keys {
    /// The actions and their keys.
    pub keys: Vec<KeyBinding>,
    /// Applications for which a person has set the keys that paste there.
    pub paste: Vec<PasteKeys>,
    /// Why the key that was pressed last did not do what it says, if it did not.
    pub failed: Option<String>,
}

/// Keys to be set.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct SetKeys {
    /// The keys, such as `Ctrl+Alt+V`; without them, there are none any more.
    #[serde(default)]
    pub keys: Option<String>,
}

/// An action to be done.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct PressKeys {
    /// Its name.
    pub action: String,
}

/// The window that has the keyboard.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct KeyboardFocus {
    /// The window, to be named when something is to be pasted into it; none if none has the keyboard, or the desktop does
    /// not tell.
    pub window: Option<String>,
    /// Its application.
    pub application: Option<String>,
    /// Its title.
    pub title: Option<String>,
}
