//! What the picker in the terminal shows, and what a key does to it.

use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use ratatui::text::Line;
use yadori_api::{Clip, Kind};

/// Rows of a page.
const LEAF: usize = 8;

/// What is to be done after a key.
#[derive(Debug, PartialEq)]
pub enum Step {
    /// Nothing but to draw.
    Stay,
    /// Another list is wanted.
    Search,
    /// A clip is to be pinned, or unpinned.
    Pin(String, bool),
    /// These were chosen.
    Done(Vec<Clip>),
    /// The person leaves.
    Leave,
}

/// What is shown and chosen.
#[derive(Default)]
pub struct State {
    query: String,
    kept: bool,
    clips: Vec<Clip>,
    chosen: usize,
    marked: Vec<Clip>,
    said: Option<String>,
    /// The clip whose picture is shown, and the picture.
    picture: Option<(String, Vec<Line<'static>>)>,
}

impl State {
    /// A list that begins with this query.
    pub fn new(query: String) -> Self {
        Self { query, ..Self::default() }
    }

    /// What is searched for.
    pub fn query(&self) -> &str {
        &self.query
    }

    /// Whether the list is of what is kept.
    pub fn kept(&self) -> bool {
        self.kept
    }

    /// The list.
    pub fn clips(&self) -> &[Clip] {
        &self.clips
    }

    /// The row that is chosen.
    pub fn chosen(&self) -> usize {
        self.chosen
    }

    /// Whether a clip is marked.
    pub fn is_marked(&self, clip: &Clip) -> bool {
        self.marked.iter().any(|marked| marked.id == clip.id)
    }

    /// How many are marked.
    pub fn marked(&self) -> usize {
        self.marked.len()
    }

    /// What is to be said, if anything.
    pub fn said(&self) -> Option<&str> {
        self.said.as_deref()
    }

    /// Says something until the next key.
    pub fn say(&mut self, what: String) {
        self.said = Some(what);
    }

    /// Shows a list. What was chosen stays so, if it is there.
    pub fn show(&mut self, clips: Vec<Clip>) {
        let before = self.clips.get(self.chosen).map(|clip| clip.id.clone());
        let same = before.and_then(|id| clips.iter().position(|clip| clip.id == id));
        self.chosen = same.filter(|_| self.query.is_empty()).unwrap_or(0);
        self.clips = clips;
    }

    /// The clip that is chosen, if it is a picture that may be seen and is not shown.
    pub fn lacks_picture(&self) -> Option<String> {
        let clip = self.clips.get(self.chosen)?;
        let shown = self.picture.as_ref().is_some_and(|(id, _)| *id == clip.id);
        (clip.kind == Kind::Image && clip.sensitive.is_none() && !shown).then(|| clip.id.clone())
    }

    /// Shows the picture of the clip that is chosen.
    pub fn show_picture(&mut self, lines: Vec<Line<'static>>) {
        self.picture = self.clips.get(self.chosen).map(|clip| (clip.id.clone(), lines));
    }

    /// The picture of the clip that is chosen, in lines; none if it has none, or none that can be shown.
    pub fn picture(&self) -> &[Line<'static>] {
        match (&self.picture, self.clips.get(self.chosen)) {
            (Some((id, lines)), Some(clip)) if *id == clip.id => lines,
            _ => &[],
        }
    }

    /// Does what a key says.
    pub fn pressed(&mut self, key: KeyEvent) -> Step {
        self.said = None;
        let control = key.modifiers.contains(KeyModifiers::CONTROL);
        let alt = key.modifiers.contains(KeyModifiers::ALT);
        let last = self.clips.len().saturating_sub(1);
        match key.code {
            KeyCode::Esc => return Step::Leave,
            KeyCode::Char('c' | 'g' | 'd') if control => return Step::Leave,
            KeyCode::Enter => return self.done(),
            KeyCode::Up => self.chosen = self.chosen.saturating_sub(1),
            KeyCode::Down => self.chosen = (self.chosen + 1).min(last),
            KeyCode::PageUp => self.chosen = self.chosen.saturating_sub(LEAF),
            KeyCode::PageDown => self.chosen = (self.chosen + LEAF).min(last),
            KeyCode::Home => self.chosen = 0,
            KeyCode::End => self.chosen = last,
            KeyCode::Tab => self.mark(),
            // What terminals send for Ctrl+Space.
            KeyCode::Char(' ') if control => self.mark(),
            KeyCode::Char('k') if control => {
                self.kept = !self.kept;
                self.chosen = 0;
                return Step::Search;
            }
            KeyCode::Char('p') if control => {
                if let Some(clip) = self.clips.get(self.chosen) {
                    return Step::Pin(clip.id.clone(), !clip.pinned);
                }
            }
            KeyCode::Char('u') if control => return self.typed(String::clear),
            KeyCode::Char('w') if control => {
                return self.typed(|query| {
                    query.truncate(query.trim_end().rfind(' ').map_or(0, |place| place + 1));
                });
            }
            KeyCode::Char(digit @ '0'..='9') if alt || (self.query.is_empty() && !control) => return self.pick(digit),
            KeyCode::Char(c) if !control && !alt => return self.typed(|query| query.push(c)),
            KeyCode::Backspace => {
                return self.typed(|query| query.truncate(query.char_indices().last().map_or(0, |(place, _)| place)));
            }
            _ => {}
        }
        Step::Stay
    }

    fn typed(&mut self, change: impl FnOnce(&mut String)) -> Step {
        change(&mut self.query);
        Step::Search
    }

    /// Chooses one of the first ten; 0 is the tenth.
    fn pick(&mut self, digit: char) -> Step {
        let place = (digit as usize - '0' as usize + 9) % 10;
        match self.clips.get(place) {
            Some(clip) => Step::Done(vec![clip.clone()]),
            None => Step::Stay,
        }
    }

    fn mark(&mut self) {
        let Some(clip) = self.clips.get(self.chosen).cloned() else { return };
        match self.marked.iter().position(|marked| marked.id == clip.id) {
            Some(place) => drop(self.marked.remove(place)),
            None => self.marked.push(clip),
        }
        self.chosen = (self.chosen + 1).min(self.clips.len().saturating_sub(1));
    }

    fn done(&mut self) -> Step {
        if !self.marked.is_empty() {
            return Step::Done(std::mem::take(&mut self.marked));
        }
        self.clips.get(self.chosen).cloned().map_or(Step::Stay, |clip| Step::Done(vec![clip]))
    }
}

#[cfg(test)]
pub mod tests {
    use super::*;

    /// A clip of this text, found at these places.
    pub fn clip(id: &str, preview: &str, marks: &[(u32, u32)]) -> Clip {
        let marks: Vec<_> = marks.iter().map(|(start, end)| serde_json::json!({"start": start, "end": end})).collect();
        serde_json::from_value(serde_json::json!({
            "id": id, "position": 1, "kind": "text", "preview": preview, "title": null, "caption": null,
            "pinned": false, "mark": null, "fills": false, "drawer": null, "alias": null, "marks": marks,
            "sensitive": null, "copied_at": "2026-11-27T10:42:00Z", "recalled_at": null, "expires_at": null,
            "copies": 1, "recalls": 0, "size": 5, "width": null, "height": null, "lines": 1, "characters": 5,
            "source": {"application": null, "window": null, "page": null}, "device": "van", "shared": false,
            "elsewhere": false
        }))
        .unwrap()
    }

    fn shown(texts: &[&str]) -> State {
        let mut state = State::default();
        state.show(texts.iter().map(|text| clip(text, text, &[])).collect());
        state
    }

    fn press(state: &mut State, code: KeyCode, modifiers: KeyModifiers) -> Step {
        state.pressed(KeyEvent::new(code, modifiers))
    }

    fn chosen(step: Step) -> Vec<String> {
        match step {
            Step::Done(clips) => clips.into_iter().map(|clip| clip.id).collect(),
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn digits_pick_until_something_is_typed_and_with_alt_always() {
        let none = KeyModifiers::NONE;
        let mut state = shown(&["a", "b", "c", "d", "e", "f", "g", "h", "i", "j"]);
        assert_eq!(chosen(press(&mut state, KeyCode::Char('2'), none)), ["b"]);
        assert_eq!(chosen(press(&mut state, KeyCode::Char('0'), none)), ["j"]);
        assert_eq!(press(&mut state, KeyCode::Char('x'), none), Step::Search);
        assert_eq!(press(&mut state, KeyCode::Char('2'), none), Step::Search);
        assert_eq!(state.query(), "x2");
        assert_eq!(chosen(press(&mut state, KeyCode::Char('3'), KeyModifiers::ALT)), ["c"]);
        assert_eq!(press(&mut shown(&["a"]), KeyCode::Char('5'), none), Step::Stay, "there is no fifth");
    }

    #[test]
    fn arrows_choose_and_marked_clips_are_taken_in_their_order() {
        let none = KeyModifiers::NONE;
        let mut state = shown(&["a", "b", "c"]);
        press(&mut state, KeyCode::End, none);
        press(&mut state, KeyCode::Down, none);
        assert_eq!(state.chosen(), 2);
        press(&mut state, KeyCode::Tab, none);
        press(&mut state, KeyCode::Home, none);
        press(&mut state, KeyCode::Tab, none);
        assert_eq!((state.marked(), state.chosen()), (2, 1));
        // A search does not lose what is marked.
        press(&mut state, KeyCode::Char('x'), none);
        state.show(Vec::new());
        assert_eq!(chosen(press(&mut state, KeyCode::Enter, none)), ["c", "a"]);
        assert_eq!(press(&mut state, KeyCode::Enter, none), Step::Stay, "there is nothing to take");
    }

    #[test]
    fn what_is_typed_is_edited_and_left() {
        let (none, control) = (KeyModifiers::NONE, KeyModifiers::CONTROL);
        let mut state = State::new("lamp seven".into());
        press(&mut state, KeyCode::Char('w'), control);
        assert_eq!(state.query(), "lamp ");
        press(&mut state, KeyCode::Backspace, none);
        press(&mut state, KeyCode::Char('舞'), none);
        assert_eq!(state.query(), "lamp舞");
        assert_eq!(press(&mut state, KeyCode::Char('u'), control), Step::Search);
        assert_eq!(state.query(), "");
        assert_eq!(press(&mut state, KeyCode::Char('k'), control), Step::Search);
        assert!(state.kept());
        assert_eq!(press(&mut state, KeyCode::Esc, none), Step::Leave);
        assert_eq!(press(&mut state, KeyCode::Char('c'), control), Step::Leave);
    }

    #[test]
    fn a_list_that_changes_keeps_what_is_chosen() {
        let mut state = shown(&["a", "b", "c"]);
        press(&mut state, KeyCode::Down, KeyModifiers::NONE);
        state.show(["new", "a", "b", "c"].map(|text| clip(text, text, &[])).to_vec());
        assert_eq!(state.clips()[state.chosen()].id, "b");
        assert_eq!(press(&mut state, KeyCode::Char('p'), KeyModifiers::CONTROL), Step::Pin("b".into(), true));
    }
}
