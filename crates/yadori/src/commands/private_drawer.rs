//! Drawers with a passphrase of their own.

use super::drawer::path;
use super::{print_json, say};
use crate::Context;
use crate::ask::{self, confirm};
use crate::failure::Failure;
use crate::terminal::{count, safe};
use crate::zone;
use serde_json::json;
use yadori_api::{Drawer, DrawerPassphrase, NewDrawer, OpenDrawer, OpenedDrawer, PrivateDrawer, RemoveDrawer};
use yadori_client::Client;

fn new_passphrase(drawer: &str) -> Result<String, Failure> {
    ask::new_secret(&format!("New passphrase of the drawer {}", safe(drawer)))
}

/// How a private drawer stands, in words.
pub(super) fn stands(private: PrivateDrawer) -> String {
    match private.closes_at {
        Some(at) if private.open => format!("open until {}", at.to_zoned(zone::here()).strftime("%H:%M")),
        _ if private.open => "open".into(),
        _ => "private, closed".into(),
    }
}

fn tell_standing(context: &Context, drawer: &Drawer) -> Result<(), Failure> {
    if context.json {
        return print_json(drawer);
    }
    let how = drawer.private.map(stands).unwrap_or_default();
    say(&format!("The drawer {}: {}; {how}", safe(&drawer.name), count(drawer.count, "clip", "clips")))
}

/// Makes a drawer, private or not.
pub(super) fn new(context: &Context, service: &Client, name: String, private: bool) -> Result<(), Failure> {
    let passphrase = if private { Some(new_passphrase(&name)?) } else { None };
    let made: Drawer = service.post("/drawers", &NewDrawer { name, passphrase })?;
    if context.json {
        return print_json(&made);
    }
    let how = made.private.map(|private| format!("; it is {}", stands(private))).unwrap_or_default();
    say(&format!("Made the drawer {}{how}", safe(&made.name)))
}

pub(super) fn open(context: &Context, service: &Client, name: &str, minutes: u32) -> Result<(), Failure> {
    let passphrase = ask::secret(&format!("Passphrase of the drawer {}", safe(name)))?;
    let asked = OpenDrawer { passphrase, minutes: Some(minutes) };
    let opened: OpenedDrawer = service.post(&path(name, "/open"), &asked)?;
    if context.json {
        return print_json(&opened);
    }
    if opened.left > 0 {
        let left = count(opened.left.into(), "clip", "clips");
        tell!("{left} could not be taken out and stay sealed in it: damaged, or above the size limit");
    }
    tell_standing(context, &opened.drawer)
}

pub(super) fn close(context: &Context, service: &Client, name: &str) -> Result<(), Failure> {
    tell_standing(context, &service.post_with(&path(name, "/close"), &json!({}))?)
}

pub(super) fn set_passphrase(context: &Context, service: &Client, name: &str) -> Result<(), Failure> {
    let passphrase = new_passphrase(name)?;
    tell_standing(context, &service.put(&path(name, "/passphrase"), &DrawerPassphrase { passphrase })?)
}

pub(super) fn make_ordinary(context: &Context, service: &Client, name: &str) -> Result<(), Failure> {
    let ordinary: Drawer = service.delete_with(&path(name, "/passphrase"), &json!({}))?;
    if context.json {
        return print_json(&ordinary);
    }
    say(&format!("The drawer {} is an ordinary one now; linked devices get it again", safe(&ordinary.name)))
}

/// Removes a private drawer with what lies in it.
pub(super) fn erase(context: &Context, service: &Client, name: &str, yes: bool) -> Result<(), Failure> {
    let question = format!("This erases the private drawer {} and all that lies in it for good. Continue?", safe(name));
    if !confirm(&question, yes)? {
        return say("Nothing was removed.");
    }
    let asked = RemoveDrawer { into: None, for_good: true };
    let erased: Drawer = service.delete_with(&path(name, ""), &asked)?;
    if context.json {
        return print_json(&erased);
    }
    say(&format!("Erased the drawer {} with {}", safe(&erased.name), count(erased.count, "clip", "clips")))
}
