//! The list: asked for, shown, and kept up to date.

use super::Picker;
use crate::entries::{Entry, Step, kept, listed, steps};
use crate::rows;
use crate::service::{List, MOST, PAGE, Page};
use gtk4::prelude::*;
use gtk4::{ListBoxRow, gdk, glib};
use std::collections::HashSet;
use std::rc::Rc;

/// Rows that are made before the window is painted; the others follow.
const AT_ONCE: usize = 12;

/// Small pictures that stay in memory.
const PICTURES: usize = 120;

/// How many rows from the end the next ones are asked for.
const AHEAD: usize = 8;

impl Picker {
    /// Asks for a list.
    fn want(&self, list: List) {
        let number = {
            let mut state = self.state.borrow_mut();
            state.asked += 1;
            state.more = matches!(&list, List::History { cursor: Some(_), .. });
            if !state.more {
                state.wanted = list.clone();
            }
            state.asked
        };
        self.service.list(number, list);
    }

    /// Asks for what the field and the choice of list say.
    pub(super) fn want_anew(&self) {
        let query = self.search.text().trim().to_owned();
        let state = self.state.borrow();
        let query = match (state.kept, query.is_empty()) {
            (true, true) => None,
            (true, false) => Some(format!("{query} is:kept")),
            (false, _) => Some(query),
        };
        let list = match query {
            None => List::Kept,
            Some(query) => {
                // A list that has only changed is as long again as the person has made it.
                let same = matches!(&state.showing, List::History { query: known, .. } if *known == query);
                let shown = u32::try_from(state.count()).unwrap_or(MOST).min(MOST);
                List::History { query, cursor: None, limit: if same { shown.max(PAGE) } else { PAGE } }
            }
        };
        drop(state);
        self.want(list);
    }

    /// Something was typed.
    pub(super) fn typed(&self) {
        self.close_panel();
        self.want_anew();
    }

    /// Asks for the next page when the end comes near.
    pub(super) fn ask_for_more(&self, row: i32) {
        let wanted = {
            let state = self.state.borrow();
            let near = usize::try_from(row).is_ok_and(|row| row + AHEAD >= state.count());
            match (&state.wanted, &state.next) {
                (List::History { query, .. }, Some(cursor)) if near && !state.more => {
                    Some(List::History { query: query.clone(), cursor: Some(cursor.clone()), limit: PAGE })
                }
                _ => None,
            }
        };
        if let Some(list) = wanted {
            self.want(list);
        }
    }

    /// The list is asked for anew, now or when the window is shown.
    pub(super) fn refresh(&self) {
        if self.window.is_visible() && self.stack.visible_child_name().as_deref() != Some("list") {
            self.state.borrow_mut().stale = true;
            return;
        }
        self.want_anew();
    }

    /// A list has come.
    pub(super) fn listed(self: &Rc<Self>, page: Page) {
        let Page { list, clips, sections, next, total, tray } = page;
        let further = matches!(&list, List::History { cursor: Some(_), .. });
        let entries = match list {
            List::Kept => kept(sections),
            List::History { .. } => {
                let before = if further { self.state.borrow().count() } else { 0 };
                listed(clips, before, tray.as_ref())
            }
        };
        {
            let mut state = self.state.borrow_mut();
            state.next = next;
            state.total = total;
            state.more = false;
        }
        if further {
            self.state.borrow_mut().coming.extend(entries);
            self.append_later();
            return;
        }
        {
            let state = self.state.borrow();
            if state.shown.iter().chain(&state.coming).eq(&entries) {
                drop(state);
                // Another query may have the same answer.
                self.say_count();
                return;
            }
        }
        let chosen = self.chosen_index();
        let chosen_id = self.chosen().map(|entry| entry.clip.id);
        let typing = self.is_typing();
        // What a person is about to choose stays chosen when the list changes under it.
        let place = if self.window.is_visible() && !typing {
            chosen_id.and_then(|id| entries.iter().position(|entry| entry.clip.id == id)).unwrap_or(chosen)
        } else {
            0
        };
        let same = {
            let mut state = self.state.borrow_mut();
            let wanted = state.wanted.clone();
            std::mem::replace(&mut state.showing, wanted.clone()).is_of(&wanted)
        };
        // Of a list that has only changed, as many rows as there were; of another one, those that can be seen.
        let rows = if same { self.state.borrow().shown.len() } else { 0 };
        self.change_rows(entries, rows.max(place + 1).max(AT_ONCE));
        // The keyboard is in the list, unless the person types; in a list that was empty it could not be.
        let focus = self.window.is_visible() && (!typing || self.search.text().is_empty());
        self.choose(place, focus);
        self.say_count();
        if focus {
            self.keep_in_view();
        }
    }

    /// Scrolls to what is chosen as soon as the rows have their places.
    fn keep_in_view(self: &Rc<Self>) {
        self.after_frame(|picker| {
            if let Some(row) = picker.list.selected_row() {
                picker.bring_into_view(&row);
            }
        });
    }

    /// Does something once the next frame has been painted; at once if the window cannot be seen.
    fn after_frame(self: &Rc<Self>, what: impl Fn(&Rc<Self>) + Clone + 'static) {
        if !self.window.is_visible() {
            return what(self);
        }
        let picker = Rc::downgrade(self);
        self.list.add_tick_callback(move |_, _| {
            // A tick comes before the layout of its frame, and what is done when idle after it.
            let (picker, what) = (picker.clone(), what.clone());
            glib::idle_add_local_once(move || {
                if let Some(picker) = picker.upgrade() {
                    what(&picker);
                }
            });
            glib::ControlFlow::Break
        });
    }

    /// Changes the rows to those of these entries: as many at once, the others when the window has been painted. What has
    /// not changed is left alone, and so is where a person has scrolled to.
    fn change_rows(self: &Rc<Self>, mut entries: Vec<Entry>, at_once: usize) {
        let later = entries.split_off(entries.len().min(at_once));
        let shown = std::mem::take(&mut self.state.borrow_mut().shown);
        let mut index = 0;
        let mut wanted = entries.iter();
        for step in steps(&shown, &entries) {
            if step == Step::Remove {
                if let Some(row) = self.list.row_at_index(index) {
                    self.list.remove(&row);
                }
                continue;
            }
            if let (Step::Insert, Some(entry)) = (step, wanted.as_slice().first()) {
                self.list.insert(&self.make_row(entry), index);
            }
            wanted.next();
            index += 1;
        }
        let mut state = self.state.borrow_mut();
        state.shown = entries;
        state.coming = later.into();
        let missing: HashSet<String> = state.shown.iter().map(|entry| entry.clip.id.clone()).collect();
        state.missing.retain(|id, _| missing.contains(id));
        drop(state);
        self.append_later();
    }

    fn append_later(self: &Rc<Self>) {
        if !self.state.borrow().coming.is_empty() {
            self.after_frame(Self::append_some);
        }
    }

    fn append_some(self: &Rc<Self>) {
        for _ in 0..AT_ONCE {
            let Some(entry) = self.state.borrow_mut().coming.pop_front() else { return };
            let row = self.make_row(&entry);
            self.state.borrow_mut().shown.push(entry);
            self.list.append(&row);
        }
        self.append_later();
    }

    /// An entry as a row; its picture is asked for if it has still to come.
    pub(super) fn make_row(&self, entry: &Entry) -> ListBoxRow {
        let mut state = self.state.borrow_mut();
        let marked = state.marked.contains(&entry.clip.id);
        let texture = state.pictures.get(&entry.clip.id).cloned();
        let (row, missing) = rows::row(entry, texture.as_ref(), marked, self.look.colours());
        if let Some(picture) = missing {
            self.service.picture(&entry.clip.id);
            state.missing.insert(entry.clip.id.clone(), picture);
        }
        row
    }

    /// The small picture of a clip has come.
    pub(super) fn pictured(&self, id: String, bytes: &[u8]) {
        let Some(texture) = texture(bytes) else { return };
        let mut state = self.state.borrow_mut();
        if let Some(picture) = state.missing.remove(&id) {
            picture.set_paintable(Some(&texture));
        }
        if state.pictures.len() >= PICTURES {
            state.pictures.clear();
        }
        state.pictures.insert(id, texture);
    }

    /// Says how much there is.
    pub(super) fn say_count(&self) {
        let state = self.state.borrow();
        let (shown, total) = (state.count(), state.total);
        let more = if state.next.is_some() { " or more" } else { "" };
        let text = match &state.wanted {
            List::Kept if shown == 0 => "Nothing is kept yet: pin a clip, or put it into a drawer".to_owned(),
            List::Kept => format!("{shown} kept"),
            List::History { query, .. } if query.is_empty() && total == 0 => "Nothing has been copied yet".to_owned(),
            List::History { query, .. } if query.is_empty() => match total {
                1 => "1 clip".to_owned(),
                total => format!("{total} clips"),
            },
            List::History { .. } if shown == 0 => format!("No match in {total} clips"),
            List::History { .. } => format!("{shown}{more} of {total} clips match"),
        };
        drop(state);
        self.say(&text);
    }
}

pub(super) fn texture(bytes: &[u8]) -> Option<gdk::Texture> {
    gdk::Texture::from_bytes(&glib::Bytes::from(bytes)).ok()
}
