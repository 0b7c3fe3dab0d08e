//! Keys, and the window that has the keyboard.

use yadori_api as api;
use yadori_desktop::{Focus, GrabState};
use yadori_engine::keys::{Binding, Keys};

/// All keys.
pub fn keys(keys: &Keys) -> api::Keys {
    let paste = keys.paste_keys().into_iter();
    api::Keys {
        keys: keys.bindings().into_iter().map(binding).collect(),
        paste: paste.map(|(application, keys)| api::PasteKeys { application, keys: keys.to_string() }).collect(),
        failed: keys.failed(),
    }
}

fn binding(Binding { action, chord, state }: Binding) -> api::KeyBinding {
    let mut assigned = None;
    let (state, taken_by) = match state {
        None => (None, None),
        Some(GrabState::Assigned(keys)) => {
            assigned = Some(keys).filter(|keys| !keys.is_empty());
            (Some(api::KeyState::Grabbed), None)
        }
        Some(GrabState::Unassigned) => (Some(api::KeyState::Unassigned), None),
        Some(GrabState::Grabbed) => (Some(api::KeyState::Grabbed), None),
        Some(GrabState::Taken(by)) => (Some(api::KeyState::Taken), by),
        Some(GrabState::NoSuchKey) => (Some(api::KeyState::NoSuchKey), None),
        Some(GrabState::Unsupported) => (Some(api::KeyState::Unsupported), None),
    };
    api::KeyBinding {
        action: action.word(),
        description: action.description(),
        keys: chord.map(|chord| chord.to_string()),
        default: action.default_chord().to_string(),
        state,
        taken_by,
        assigned,
    }
}

/// The window that has the keyboard.
pub fn focus(focus: Option<Focus>) -> api::KeyboardFocus {
    let Some(Focus { window, source }) = focus else { return api::KeyboardFocus::default() };
    api::KeyboardFocus { window: Some(window.to_string()), application: source.application, title: source.window }
}
