//! What keys do.

use super::Picker;
use crate::entries::Entry;
use crate::keys::{Act, place};
use crate::panels;
use crate::service::Job;
use gtk4::gdk::{Key, ModifierType};
use gtk4::prelude::*;
use gtk4::{EventControllerKey, glib};
use std::rc::Rc;
use yadori_api::{Kind, Recall};

/// How many rows a page has.
const LEAF: i32 = 6;

/// Ways to reshape that are remembered as used last.
const RECENT: usize = 5;

impl Picker {
    /// A key was pressed.
    pub(super) fn pressed(
        self: &Rc<Self>,
        controller: &EventControllerKey,
        key: Key,
        held: ModifierType,
    ) -> glib::Propagation {
        if self.composing.get() {
            return glib::Propagation::Proceed;
        }
        if self.stack.visible_child_name().as_deref() == Some("panel") {
            if key == Key::Escape {
                self.close_panel();
                if std::mem::take(&mut self.state.borrow_mut().stale) {
                    self.want_anew();
                }
                self.choose(self.chosen_index(), true);
                return glib::Propagation::Stop;
            }
            return glib::Propagation::Proceed;
        }
        let typing = self.is_typing();
        let plain = !held.intersects(ModifierType::CONTROL_MASK | ModifierType::ALT_MASK | ModifierType::SUPER_MASK);
        let searching = !self.search.text().is_empty();
        if let Some(place) = place(key)
            && (held.contains(ModifierType::ALT_MASK) || (plain && !searching && !(typing && self.writes.get())))
        {
            self.pick(place);
            return glib::Propagation::Stop;
        }
        let help = key == Key::question && !searching;
        if let Some(act) = self.keys.act(key, held).or_else(|| help.then_some(Act::Help)) {
            // Who types and takes at once means what they have typed, however quick they are.
            if typing && self.is_waiting() && matches!(act, Act::Paste | Act::PastePlain | Act::Copy) {
                self.taking.set(Some(act));
            } else {
                self.act(act);
            }
            return glib::Propagation::Stop;
        }
        if key == Key::Delete && !typing {
            self.act(Act::Delete);
            return glib::Propagation::Stop;
        }
        let now = i32::try_from(self.chosen_index()).unwrap_or(i32::MAX);
        let to = match key {
            Key::Escape => {
                self.hide();
                return glib::Propagation::Stop;
            }
            Key::Up if now == 0 && !typing => {
                self.writes.set(true);
                self.focus_search();
                return glib::Propagation::Stop;
            }
            Key::Up => now - 1,
            Key::Down => now + 1,
            Key::Page_Up => now - LEAF,
            Key::Page_Down => now + LEAF,
            Key::Home if !typing => 0,
            Key::End if !typing => i32::MAX,
            // What is typed goes into the field, wherever the keyboard is.
            _ if plain && !typing && key.to_unicode().is_some_and(|c| !c.is_control())
                || key == Key::BackSpace && !typing =>
            {
                self.focus_search();
                if let Some(text) = self.search.delegate() {
                    text.set_position(-1);
                    controller.forward(text.upcast_ref::<gtk4::Widget>());
                }
                return glib::Propagation::Stop;
            }
            _ => return glib::Propagation::Proceed,
        };
        self.choose(usize::try_from(to).unwrap_or(0), true);
        glib::Propagation::Stop
    }

    /// Pastes one of the ten entries that have a digit.
    fn pick(self: &Rc<Self>, place: usize) {
        let label = ["1", "2", "3", "4", "5", "6", "7", "8", "9", "0"][place.min(9)];
        let index = self.state.borrow().shown.iter().position(|entry| entry.label == label);
        if let Some(index) = index {
            self.choose(index, false);
            self.state.borrow_mut().marked.clear();
            self.act(Act::Paste);
        }
    }

    /// The clips that something is done with: those that are marked, else the chosen one.
    fn targets(&self) -> Vec<String> {
        let marked = self.state.borrow().marked.clone();
        if marked.is_empty() { self.chosen().map(|entry| entry.clip.id).into_iter().collect() } else { marked }
    }

    /// Does what a key says.
    pub(super) fn act(self: &Rc<Self>, act: Act) {
        match act {
            Act::Help => return self.open_panel(&panels::help(&self.keys)),
            Act::Kept => return self.switch(),
            Act::Console => return self.service.act(Job::Console),
            Act::Undo => {
                let step = self.state.borrow_mut().undo.take();
                return match step {
                    Some(step) => self.service.act(Job::Undo(step)),
                    None => self.say("Nothing was deleted here"),
                };
            }
            _ => {}
        }
        let Some(entry) = self.chosen() else { return self.say("There is no clip here") };
        let clips = self.targets();
        match act {
            Act::Paste | Act::PastePlain | Act::Copy => {
                let (paste, plain) = (act != Act::Copy, act == Act::PastePlain);
                self.recall(Recall { clips, paste, plain, ask_usual: true, ..Recall::default() });
            }
            Act::Mark => self.mark(&entry),
            Act::Pin => self.service.act(Job::Pin(entry.clip.id, !entry.clip.pinned)),
            Act::Delete => {
                self.state.borrow_mut().marked.clear();
                self.service.act(Job::Delete(clips));
            }
            Act::Tray => self.service.act(Job::Tray(clips)),
            Act::Unfold => self.service.act(Job::Unfold(Box::new(entry.clip))),
            Act::Reshape if self.state.borrow().ways.is_empty() => self.service.act(Job::Ways),
            Act::Reshape => self.show_ways(),
            Act::Link if entry.clip.kind == Kind::Link => self.service.act(Job::Link(entry.clip.id)),
            Act::Link => self.say("This is no link"),
            Act::Help | Act::Kept | Act::Console | Act::Undo => {}
        }
    }

    /// Puts clips on the clipboard, or pastes them into the window that had the keyboard.
    pub(super) fn recall(&self, recall: Recall) {
        let target = self.state.borrow().target.clone();
        let into = target.filter(|_| recall.paste);
        self.hide();
        // The window must be gone before keys are pressed elsewhere.
        self.display().sync();
        self.service.act(Job::Recall(Box::new(Recall { into, ..recall })));
    }

    fn mark(&self, entry: &Entry) {
        let id = entry.clip.id.clone();
        let count = {
            let mut state = self.state.borrow_mut();
            match state.marked.iter().position(|other| *other == id) {
                Some(place) => drop(state.marked.remove(place)),
                None => state.marked.push(id.clone()),
            }
            state.marked.len()
        };
        let index = self.chosen_index();
        let row = self.make_row(entry);
        if let Ok(place) = i32::try_from(index)
            && let Some(old) = self.list.row_at_index(place)
        {
            self.list.remove(&old);
            self.list.insert(&row, place);
        }
        self.choose(index + 1, true);
        self.say(&match count {
            0 => "None is marked".to_owned(),
            1 => "1 clip is marked; Enter pastes it".to_owned(),
            count => format!("{count} clips are marked; Enter pastes them joined"),
        });
    }

    /// Switches between the history and what is kept.
    fn switch(&self) {
        {
            let mut state = self.state.borrow_mut();
            state.kept = !state.kept;
        }
        self.want_anew();
        self.choose(0, true);
    }

    pub(super) fn show_ways(self: &Rc<Self>) {
        let Some(entry) = self.chosen() else { return };
        if entry.clip.kind == Kind::Image {
            return self.say("A picture has no text to reshape");
        }
        let clips = self.targets();
        let (ways, recent) = {
            let state = self.state.borrow();
            (state.ways.clone(), state.recent.clone())
        };
        let picker = Rc::downgrade(self);
        let panel = panels::ways(&ways, &recent, move |way| {
            let Some(picker) = picker.upgrade() else { return };
            {
                let mut state = picker.state.borrow_mut();
                state.recent.retain(|other| other != way);
                state.recent.insert(0, way.to_owned());
                state.recent.truncate(RECENT);
            }
            let reshape = vec![way.to_owned()];
            picker.recall(Recall { clips: clips.clone(), paste: true, reshape, ..Recall::default() });
        });
        self.open_panel(&panel);
    }
}
