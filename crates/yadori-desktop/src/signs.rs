//! Signs over D-Bus: an icon in the panel (StatusNotifierItem) with a menu, and notifications (the Desktop Notifications
//! Specification).
//!
//! * `icon`: the icon, drawn
//! * `sound`: a short sound

mod icon;
mod sound;

pub use sound::Sound;

use icon::Look;
use ksni::menu::{StandardItem, SubMenu};
use ksni::{Handle, MenuItem, ToolTip, TrayMethods};
use std::collections::HashMap;
use std::time::Duration;
use thiserror::Error;
use tokio::sync::mpsc;
use zbus::zvariant::Value;

/// How the service stands, at a glance.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Standing {
    /// Copies are kept.
    #[default]
    Keeping,
    /// They are not, at the person's word.
    Paused,
    /// They are not, or not at once, and the person should know.
    Trouble,
}

/// What the icon tells.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sign {
    /// How the service stands.
    pub standing: Standing,
    /// Whether copies join the tray.
    pub tray_open: bool,
    /// The same as a sentence.
    pub text: String,
    /// The latest clips: id and preview.
    pub clips: Vec<(String, String)>,
}

/// What a person wants who uses the icon.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wish {
    /// The picker.
    Picker,
    /// The console.
    Console,
    /// A pause of so many seconds.
    Pause(u64),
    /// No pause any more.
    Resume,
    /// The tray opened, or closed.
    Tray,
    /// The history locked.
    Lock,
    /// This clip on the clipboard.
    Recall(String),
}

/// Why there are no signs.
#[derive(Debug, Error)]
pub enum SignError {
    /// There is no session bus.
    #[error("there is no session bus")]
    NoBus(#[from] zbus::Error),
    /// The icon cannot be offered.
    #[error("the icon cannot be offered")]
    Icon(#[from] ksni::Error),
}

struct Icon {
    sign: Sign,
    /// It is lit, for a moment.
    lit: bool,
    wishes: mpsc::UnboundedSender<Wish>,
}

/// A text as a label of a menu, in which an underline stands before a key.
fn label(text: &str) -> String {
    text.replace('_', "__")
}

/// A text within a tooltip, which may be read as markup.
fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;")
}

fn item(label: &str, wish: Wish) -> MenuItem<Icon> {
    let activate = Box::new(move |icon: &mut Icon| drop(icon.wishes.send(wish.clone())));
    StandardItem { label: label.to_owned(), activate, ..StandardItem::default() }.into()
}

impl ksni::Tray for Icon {
    fn id(&self) -> String {
        "org.yadori.Yadori".into()
    }

    fn title(&self) -> String {
        "Yadori".into()
    }

    fn status(&self) -> ksni::Status {
        match self.sign.standing {
            Standing::Keeping | Standing::Paused => ksni::Status::Active,
            Standing::Trouble => ksni::Status::NeedsAttention,
        }
    }

    fn icon_pixmap(&self) -> Vec<ksni::Icon> {
        icon::drawn(Look::of(&self.sign, self.lit))
    }

    fn attention_icon_pixmap(&self) -> Vec<ksni::Icon> {
        self.icon_pixmap()
    }

    fn tool_tip(&self) -> ToolTip {
        ToolTip { title: "Yadori".into(), description: escaped(&self.sign.text), ..ToolTip::default() }
    }

    fn activate(&mut self, _: i32, _: i32) {
        let _ = self.wishes.send(Wish::Picker);
    }

    fn menu(&self) -> Vec<MenuItem<Self>> {
        let told = StandardItem { label: label(&self.sign.text), enabled: false, ..StandardItem::default() };
        let mut menu = vec![told.into(), MenuItem::Separator];
        for (id, preview) in &self.sign.clips {
            menu.push(item(&label(preview), Wish::Recall(id.clone())));
        }
        if !self.sign.clips.is_empty() {
            menu.push(MenuItem::Separator);
        }
        menu.push(item("Find a clip …", Wish::Picker));
        menu.push(item("Open the console", Wish::Console));
        menu.push(item(if self.sign.tray_open { "Close the tray" } else { "Open the tray" }, Wish::Tray));
        menu.push(if self.sign.standing == Standing::Paused {
            item("Resume", Wish::Resume)
        } else {
            let lengths = [("5 minutes", 300), ("15 minutes", 900), ("an hour", 3600), ("8 hours", 28_800)];
            let submenu = lengths.iter().map(|(words, seconds)| item(words, Wish::Pause(*seconds))).collect();
            SubMenu { label: "Pause for".into(), submenu, ..SubMenu::default() }.into()
        });
        menu.push(item("Lock", Wish::Lock));
        menu
    }
}

/// How long the icon is lit.
const FLASH: Duration = Duration::from_millis(300);

/// What notifications are about. Each takes the place of the one before about the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Topic {
    /// Trouble, and its end.
    Trouble,
    /// A copy that was kept. Not worth being listed among notifications that were missed.
    Copy,
}

/// The signs, as long as they are shown.
pub struct Signs {
    icon: Handle<Icon>,
    bus: zbus::Connection,
    /// The latest notification about each topic; 0 if there is none.
    latest: [u32; 2],
}

impl Signs {
    /// Shows the icon; what a person wants of it is told to `wishes`. It waits for a panel to come, if there is none.
    ///
    /// # Errors
    /// When there is no session bus.
    pub async fn show(sign: Sign, wishes: mpsc::UnboundedSender<Wish>) -> Result<Self, SignError> {
        let bus = zbus::Connection::session().await?;
        let icon = Icon { sign, lit: false, wishes }.assume_sni_available(true).spawn().await?;
        Ok(Self { icon, bus, latest: [0; 2] })
    }

    /// Changes what the icon tells.
    pub async fn update(&self, sign: Sign) {
        self.icon.update(|icon| icon.sign = sign).await;
    }

    /// Lights the icon for a moment.
    pub fn flash(&self) {
        let icon = self.icon.clone();
        tokio::spawn(async move {
            icon.update(|icon| icon.lit = true).await;
            tokio::time::sleep(FLASH).await;
            icon.update(|icon| icon.lit = false).await;
        });
    }

    /// Notifies the person, in place of the notification before it about the same topic.
    pub async fn notify(&mut self, topic: Topic, summary: &str, body: &str) {
        let is_copy = topic == Topic::Copy;
        let hints: HashMap<&str, Value<'_>> = HashMap::from([
            ("desktop-entry", Value::from("yadori")),
            ("urgency", Value::from(if is_copy { 0u8 } else { 1 })),
            ("transient", Value::from(is_copy)),
        ]);
        let latest = &mut self.latest[topic as usize];
        let actions: [&str; 0] = [];
        let said = ("Yadori", *latest, "", summary, escaped(body), &actions[..], hints, -1i32);
        let (name, path) = ("org.freedesktop.Notifications", "/org/freedesktop/Notifications");
        match self.bus.call_method(Some(name), path, Some(name), "Notify", &said).await {
            Ok(answer) => *latest = answer.body().deserialize().unwrap_or(0),
            Err(error) => tracing::debug!(%error, "nobody shows notifications"),
        }
    }

    /// Takes the icon away.
    pub async fn end(self) {
        self.icon.shutdown().await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ksni::Tray as _;

    fn labels(sign: Sign) -> Vec<String> {
        let (wishes, _) = mpsc::unbounded_channel();
        let label = |item: MenuItem<Icon>| match item {
            MenuItem::Standard(item) => item.label,
            MenuItem::SubMenu(menu) => menu.label,
            _ => "-".into(),
        };
        Icon { sign, lit: false, wishes }.menu().into_iter().map(label).collect()
    }

    #[test]
    fn the_menu_has_the_latest_clips_and_what_can_be_done() {
        let clips = vec![("k4wq".to_owned(), "load_in at 14:00".to_owned())];
        let keeping = Sign { text: "Copies are kept".into(), clips, ..Sign::default() };
        assert_eq!(
            labels(keeping),
            [
                "Copies are kept",
                "-",
                "load__in at 14:00",
                "-",
                "Find a clip …",
                "Open the console",
                "Open the tray",
                "Pause for",
                "Lock"
            ]
        );
        let paused = Sign { standing: Standing::Paused, tray_open: true, ..Sign::default() };
        assert_eq!(labels(paused)[2..], ["Find a clip …", "Open the console", "Close the tray", "Resume", "Lock"]);
    }

    #[test]
    fn what_was_copied_is_no_markup() {
        assert_eq!(escaped("<b>&"), "&lt;b&gt;&amp;");
    }
}
