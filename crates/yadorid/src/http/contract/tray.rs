//! The tray.

use super::Contract;
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_engine::tray::{Dealt, TrayItem, TrayView};

impl Contract for TrayItem {
    type As = api::TrayItem;

    fn contract(self, rules: &Checked) -> api::TrayItem {
        api::TrayItem { place: self.place, dealt: self.dealt, clip: self.clip.contract(rules) }
    }
}

impl Contract for TrayView {
    type As = api::Tray;

    fn contract(self, rules: &Checked) -> api::Tray {
        api::Tray { open: self.open, auto: self.auto, next: self.next, items: self.items.contract(rules) }
    }
}

impl Contract for Dealt {
    type As = api::Dealt;

    fn contract(self, rules: &Checked) -> api::Dealt {
        api::Dealt { recalled: self.recalled.contract(rules), tray: self.tray.contract(rules) }
    }
}
