//! The window: a field to search in, the list, and a line that says what happened and which keys do what.
//!
//! * `listing`: the list is asked for, shown, and kept up to date
//! * `acting`: what keys do
//! * `news`: what the service tells

mod acting;
mod listing;
mod news;

use crate::accessible;
use crate::entries::Entry;
use crate::keys::{Act, Config, KeyMap};
use crate::look::Look;
use crate::panels::Panel;
use crate::place::Place;
use crate::rows;
use crate::service::{Job, List, News, Service, gone_in_words};
use gtk4::prelude::*;
use gtk4::{
    AccessibleRole, EventControllerKey, Label, ListBox, ListBoxRow, Orientation, Picture, PolicyType, ScrolledWindow,
    SearchEntry, Stack, Window, gdk, glib, pango,
};
use std::cell::{Cell, RefCell};
use std::collections::{HashMap, VecDeque};
use std::path::PathBuf;
use std::rc::Rc;
use std::time::Duration;
use yadori_api::Way;

/// The size of the window, in pixels at the usual size of letters.
const WIDTH: i32 = 460;
const HEIGHT: i32 = 560;

/// How long the window may be without the keyboard before it is closed.
const SETTLING: Duration = Duration::from_millis(200);

/// What the window shows and knows.
#[derive(Default)]
struct State {
    /// Whether the list is of what is kept.
    kept: bool,
    /// What is wanted, and the number under which it was asked for last.
    wanted: List,
    asked: u64,
    /// The number of the list that came last, or of which it is known why it does not.
    listed: u64,
    /// The list that is shown.
    showing: List,
    shown: Vec<Entry>,
    /// Entries whose rows have still to be made.
    coming: VecDeque<Entry>,
    next: Option<String>,
    /// Whether more of the list has been asked for.
    more: bool,
    total: u64,
    /// The clips that are marked, in the order in which they were.
    marked: Vec<String>,
    /// The window to paste into.
    target: Option<String>,
    /// The step that undoes the latest delete.
    undo: Option<u64>,
    ways: Vec<Way>,
    recent: Vec<String>,
    pictures: HashMap<String, gdk::Texture>,
    /// Pictures in rows that have still to come.
    missing: HashMap<String, Picture>,
    standing: Option<String>,
    gone: Option<String>,
    /// The list has changed while nobody saw it.
    stale: bool,
}

impl State {
    /// How many entries the list has.
    fn count(&self) -> usize {
        self.shown.len() + self.coming.len()
    }
}

/// The picker.
pub struct Picker {
    window: Window,
    search: SearchEntry,
    stack: Stack,
    list: ListBox,
    scroll: ScrolledWindow,
    banner: Label,
    said: Label,
    hints: Label,
    keys: KeyMap,
    look: Look,
    place: Place,
    service: Service,
    news: async_channel::Receiver<News>,
    state: RefCell<State>,
    /// An input method is composing: keys are its own.
    composing: Cell<bool>,
    /// The window is about to be shown.
    opening: Cell<bool>,
    /// It is known who has the keyboard, and will be pasted into.
    aimed: Cell<bool>,
    /// It was in front since it was shown.
    was_active: Cell<bool>,
    /// The person has gone to the field: digits are typed there.
    writes: Cell<bool>,
    /// How the chosen clip is to be taken as soon as the list has come.
    taking: Cell<Option<Act>>,
}

impl Picker {
    /// A picker for the service of this home; hidden.
    pub fn new(home: Option<PathBuf>, config: Config) -> Rc<Self> {
        let (service, news) = Service::start(home);
        let look = Look::new(config.theme);
        let window = Window::builder()
            .title("Yadori")
            .default_width(WIDTH)
            .default_height(HEIGHT)
            .decorated(false)
            .resizable(false)
            .hide_on_close(true)
            .build();
        window.set_size_request(WIDTH, HEIGHT);
        window.add_css_class("yadori");
        let search = SearchEntry::builder().placeholder_text("Search, or press a digit").build();
        accessible::name(&search, "Search your clips");
        let list = ListBox::builder().activate_on_single_click(true).build();
        accessible::name(&list, "Clips");
        list.set_header_func(|row, _| row.set_header(rows::heading(row).as_ref()));
        // Rows are as wide as there is room, however long their texts are.
        let scroll =
            ScrolledWindow::builder().child(&list).hscrollbar_policy(PolicyType::External).vexpand(true).build();
        scroll.set_focusable(false);
        let stack = Stack::new();
        stack.add_named(&scroll, Some("list"));
        let banner = line("banner");
        banner.set_wrap(true);
        banner.set_visible(false);
        // What is said here is read out as it changes.
        let said = Label::builder().accessible_role(AccessibleRole::Status).xalign(0.0).hexpand(true).build();
        said.add_css_class("said");
        said.set_ellipsize(pango::EllipsizeMode::End);
        let hints = line("hint");
        let foot = gtk4::Box::new(Orientation::Vertical, 1);
        foot.add_css_class("foot");
        foot.append(&said);
        foot.append(&hints);
        let all = gtk4::Box::new(Orientation::Vertical, 0);
        all.add_css_class("frame");
        all.append(&search);
        all.append(&banner);
        all.append(&stack);
        all.append(&foot);
        window.set_child(Some(&all));
        let keys = KeyMap::new(&config);
        let picker = Rc::new(Self {
            window,
            search,
            stack,
            list,
            scroll,
            banner,
            said,
            hints,
            keys,
            look,
            place: Place::default(),
            service,
            news,
            state: RefCell::default(),
            composing: Cell::new(false),
            opening: Cell::new(false),
            aimed: Cell::new(false),
            was_active: Cell::new(false),
            writes: Cell::new(false),
            taking: Cell::new(None),
        });
        picker.hints.set_text(&picker.hint_line());
        picker.listen();
        picker.want_anew();
        picker
    }

    /// The keys that are needed most, for the foot of the window.
    fn hint_line(&self) -> String {
        let shown = [(Act::Paste, "paste"), (Act::PastePlain, "plain"), (Act::Copy, "copy"), (Act::Kept, "kept")];
        let hints = shown.iter().map(|(act, does)| format!("{} {does}", self.keys.label(*act)));
        format!("{} · ? keys", hints.collect::<Vec<_>>().join(" · "))
    }

    /// Connects the keys, the field and the list.
    fn listen(self: &Rc<Self>) {
        let keys = EventControllerKey::new();
        keys.set_propagation_phase(gtk4::PropagationPhase::Capture);
        let picker = Rc::downgrade(self);
        keys.connect_key_pressed(move |controller, key, _, held| match picker.upgrade() {
            Some(picker) => picker.pressed(controller, key, held),
            None => glib::Propagation::Proceed,
        });
        self.window.add_controller(keys);
        let picker = Rc::downgrade(self);
        self.search.connect_changed(move |_| {
            if let Some(picker) = picker.upgrade() {
                picker.typed();
            }
        });
        if let Some(text) = self.search.delegate().and_downcast::<gtk4::Text>() {
            let picker = Rc::downgrade(self);
            text.connect_preedit_changed(move |_, preedit| {
                if let Some(picker) = picker.upgrade() {
                    picker.composing.set(!preedit.is_empty());
                }
            });
        }
        let picker = Rc::downgrade(self);
        self.list.connect_row_activated(move |_, row| {
            if let Some(picker) = picker.upgrade() {
                picker.list.select_row(Some(row));
                picker.act(Act::Paste);
            }
        });
        let picker = Rc::downgrade(self);
        self.list.connect_row_selected(move |_, row| {
            if let (Some(picker), Some(row)) = (picker.upgrade(), row) {
                picker.ask_for_more(row.index());
            }
        });
        let picker = Rc::downgrade(self);
        self.scroll.connect_edge_reached(move |_, edge| {
            if let Some(picker) = picker.upgrade().filter(|_| edge == gtk4::PositionType::Bottom) {
                picker.ask_for_more(i32::MAX);
            }
        });
        let picker = Rc::downgrade(self);
        self.window.connect_is_active_notify(move |window| {
            let Some(picker) = picker.upgrade() else { return };
            if window.is_active() {
                picker.was_active.set(true);
            } else if picker.was_active.replace(false) {
                picker.left();
            }
        });
    }

    /// The window is not in front any more. Who clicks elsewhere has changed their mind; but a keyboard that is plugged in, or a
    /// key that another program takes, makes it lose the keyboard for a moment only.
    fn left(self: &Rc<Self>) {
        let picker = Rc::downgrade(self);
        glib::timeout_add_local_once(SETTLING, move || {
            if let Some(picker) = picker.upgrade().filter(|picker| !picker.window.is_active()) {
                picker.hide();
            }
        });
    }

    /// Does what the service tells, from now on.
    pub fn follow_news(self: &Rc<Self>) {
        let picker = self.clone();
        glib::MainContext::default().spawn_local(async move {
            while let Ok(news) = picker.news.recv().await {
                picker.told(news);
            }
        });
    }

    /// Shows the window, as soon as it is known where to paste.
    pub fn show(&self) {
        if self.window.is_visible() {
            self.window.present();
            return;
        }
        if !self.opening.replace(true) {
            self.prepare();
            self.aimed.set(false);
            self.service.act(Job::Open);
        }
    }

    /// Whether a list has still to come.
    fn is_waiting(&self) -> bool {
        let state = self.state.borrow();
        state.listed != state.asked
    }

    /// Shows the window if it is to be shown and everything is known: a key that is pressed at once must find its clip.
    fn open_when_ready(&self) {
        if self.aimed.get() && !self.is_waiting() && self.opening.replace(false) {
            self.open();
        }
    }

    /// The list as it is at every opening: the newest clips, nothing searched for.
    fn prepare(&self) {
        self.close_panel();
        let stale = {
            let mut state = self.state.borrow_mut();
            state.undo = None;
            state.marked.clear();
            std::mem::take(&mut state.stale) || std::mem::take(&mut state.kept)
        };
        if !self.search.text().is_empty() {
            // Which asks for the list, too.
            self.search.set_text("");
        } else if stale {
            self.want_anew();
        }
    }

    fn open(&self) {
        self.was_active.set(false);
        self.writes.set(false);
        self.place.before(&self.window);
        self.window.present();
        self.place.put(&self.window);
        self.choose(0, true);
        self.say_count();
    }

    fn display(&self) -> gdk::Display {
        gtk4::prelude::WidgetExt::display(&self.window)
    }

    /// Hides the window.
    pub fn hide(&self) {
        self.taking.set(None);
        self.was_active.set(false);
        self.window.set_visible(false);
        self.place.give_keyboard_back(&self.display());
        // What gets the keyboard at the next opening gets it anew, and is read out.
        gtk4::prelude::GtkWindowExt::set_focus(&self.window, None::<&gtk4::Widget>);
    }

    fn is_typing(&self) -> bool {
        gtk4::prelude::GtkWindowExt::focus(&self.window).is_some_and(|focus| focus.is_ancestor(&self.search))
    }

    fn chosen_index(&self) -> usize {
        self.list.selected_row().and_then(|row| usize::try_from(row.index()).ok()).unwrap_or(0)
    }

    fn chosen(&self) -> Option<Entry> {
        self.state.borrow().shown.get(self.chosen_index()).cloned()
    }

    /// Chooses a row; with `focus`, it gets the keyboard, and is read out.
    fn choose(&self, index: usize, focus: bool) {
        let last = self.state.borrow().shown.len().checked_sub(1);
        let Some(index) = last.map(|last| index.min(last)) else {
            if focus {
                self.focus_search();
            }
            return;
        };
        let row = i32::try_from(index).ok().and_then(|index| self.list.row_at_index(index));
        self.list.select_row(row.as_ref());
        if let Some(row) = row {
            if focus {
                row.grab_focus();
            } else {
                self.bring_into_view(&row);
            }
        }
    }

    /// Scrolls until a row can be seen.
    fn bring_into_view(&self, row: &ListBoxRow) {
        let adjustment = self.scroll.vadjustment();
        if let Some((_, top)) = row.translate_coordinates(&self.list, 0.0, 0.0) {
            adjustment.clamp_page(top, top + f64::from(row.height()));
        }
    }

    fn focus_search(&self) {
        if let Some(text) = self.search.delegate().and_downcast::<gtk4::Text>() {
            text.grab_focus_without_selecting();
        }
    }

    fn open_panel(&self, panel: &Panel) {
        if let Some(old) = self.stack.child_by_name("panel") {
            self.stack.remove(&old);
        }
        self.stack.add_named(&panel.content, Some("panel"));
        self.stack.set_visible_child_name("panel");
        panel.focus.grab_focus();
        self.hints.set_text("Escape goes back");
    }

    fn close_panel(&self) {
        self.stack.set_visible_child_name("list");
        if let Some(old) = self.stack.child_by_name("panel") {
            self.stack.remove(&old);
        }
        self.hints.set_text(&self.hint_line());
    }

    /// Shows the window again, since something has to be said that the person must know.
    fn come_back(&self, said: &str) {
        self.place.before(&self.window);
        self.window.present();
        self.place.put(&self.window);
        self.choose(self.chosen_index(), true);
        self.say(said);
    }

    fn show_banner(&self) {
        let state = self.state.borrow();
        let text = match &state.gone {
            Some(command) => Some(gone_in_words(command)),
            None => state.standing.clone(),
        };
        let shown = text.is_some();
        let text = text.unwrap_or_default();
        self.banner.set_visible(shown);
        accessible::present(&self.banner);
        accessible::name(&self.banner, &text);
        self.banner.set_text(&text);
    }

    fn say(&self, what: &str) {
        self.said.set_visible(!what.is_empty());
        accessible::present(&self.said);
        self.said.set_text(what);
        // By which screen readers hear of it.
        accessible::name(&self.said, what);
    }
}

fn line(class: &str) -> Label {
    let label = Label::builder().xalign(0.0).build();
    label.add_css_class(class);
    label.set_ellipsize(pango::EllipsizeMode::End);
    label
}
