//! What the service tells.

use super::Picker;
use super::listing::texture;
use crate::keys::Act;
use crate::panels;
use crate::service::{News, gone_in_words, standing};
use gtk4::prelude::*;
use gtk4::{gio, glib};
use std::collections::HashMap;
use std::rc::Rc;
use std::time::Duration;

/// How long the service may be gone before the person is told, wherever they look.
const NOT_COMING: Duration = Duration::from_secs(3);

/// Tells the person by a notification (Desktop Notifications Specification). It is not told where nobody shows any.
async fn notify(text: String) {
    const NAME: &str = "org.freedesktop.Notifications";
    let Ok(bus) = gio::bus_get_future(gio::BusType::Session).await else { return };
    let body = glib::markup_escape_text(&text);
    let hints = HashMap::from([("desktop-entry".to_owned(), "yadori".to_variant())]);
    let said = ("Yadori", 0u32, "", "Copies are not kept", body.as_str(), Vec::<String>::new(), hints, -1i32);
    let said = said.to_variant();
    let path = "/org/freedesktop/Notifications";
    let _ = bus.call_future(Some(NAME), path, NAME, "Notify", Some(&said), None, gio::DBusCallFlags::NONE, 2000).await;
}

/// How long a picker whose service is gone waits for it out of sight.
const GIVE_UP: Duration = Duration::from_secs(60);

impl Picker {
    /// Does what the service tells.
    pub(super) fn told(self: &Rc<Self>, news: News) {
        match news {
            News::Listed(number, page) if number == self.state.borrow().asked => {
                let why = match page {
                    Ok(page) => {
                        self.listed(page);
                        None
                    }
                    Err(why) => Some(why),
                };
                self.state.borrow_mut().listed = number;
                self.open_when_ready();
                match (why, self.taking.take()) {
                    (Some(why), _) => self.say(&why),
                    (None, Some(act)) => self.act(act),
                    (None, None) => {}
                }
            }
            News::Listed(..) => {}
            News::Status(status) => {
                self.state.borrow_mut().standing = standing(&status);
                self.show_banner();
            }
            News::Focus(window) => {
                self.state.borrow_mut().target = window;
                self.aimed.set(true);
                self.open_when_ready();
            }
            News::Recalled(recall, recalled) => {
                if recall.paste && !recalled.pasted {
                    self.come_back("It is on the clipboard, but the window did not take it: paste it there yourself");
                }
            }
            News::NotRecalled(_, problem) if problem.asks.is_empty() => {
                let mut said = problem.detail.clone();
                if let Some(first) = said.get_mut(0..1) {
                    first.make_ascii_uppercase();
                }
                self.come_back(&said);
            }
            News::NotRecalled(recall, problem) => {
                let picker = Rc::downgrade(self);
                let panel = panels::questions(&problem, move |answers| {
                    if let Some(picker) = picker.upgrade() {
                        let mut recall = recall.clone();
                        recall.answers.extend(answers);
                        recall.ask_usual = false;
                        picker.recall(*recall);
                    }
                });
                self.come_back("");
                self.open_panel(&panel);
            }
            News::Done(what) => {
                self.say(&what);
                self.refresh();
            }
            News::Deleted(step, what) => {
                self.state.borrow_mut().undo = step;
                let key = self.keys.label(Act::Undo);
                self.say(&format!("{what}. {key} brings it back"));
                self.refresh();
            }
            News::Failed(why) => self.say(&why),
            News::Whole(detail, picture) => {
                let texture = picture.and_then(|bytes| texture(&bytes));
                self.open_panel(&panels::whole(&detail, texture.as_ref()));
            }
            News::Ways(ways) => {
                self.state.borrow_mut().ways = ways;
                self.show_ways();
            }
            News::Open(address) => {
                self.hide();
                match yadori_files::opener(&address).spawn() {
                    // It is waited for, so that nothing of it is left behind.
                    Ok(mut opening) => drop(std::thread::spawn(move || opening.wait())),
                    Err(error) => self.come_back(&format!("{address} can't be opened: xdg-open {error}")),
                }
            }
            News::Picture(id, bytes) => self.pictured(id, &bytes),
            News::Changed => self.refresh(),
            News::Gone(command) => self.service_gone(command),
            News::Back => {
                self.state.borrow_mut().gone = None;
                self.show_banner();
                self.refresh();
            }
        }
    }

    fn service_gone(self: &Rc<Self>, command: String) {
        self.state.borrow_mut().gone = Some(command);
        self.show_banner();
        let picker = Rc::downgrade(self);
        glib::timeout_add_local_once(NOT_COMING, move || {
            // Whoever watches over the service would have started it again by now; and the icon went with it.
            if let Some(picker) = picker.upgrade()
                && let Some(command) = picker.state.borrow().gone.clone()
            {
                glib::MainContext::default().spawn_local(notify(gone_in_words(&command)));
            }
        });
        let picker = Rc::downgrade(self);
        glib::timeout_add_local_once(GIVE_UP, move || {
            // Nobody looks at it, and nobody is left to ask it to show itself.
            if let Some(picker) = picker.upgrade()
                && picker.state.borrow().gone.is_some()
                && !picker.window.is_visible()
            {
                std::process::exit(0);
            }
        });
    }
}
