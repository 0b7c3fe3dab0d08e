//! Drawers.

use super::Contract;
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_engine::clock::timestamp;
use yadori_engine::keeping::drawers::{Contents, Shown, Summary};
use yadori_engine::private_drawers::OpenedDrawer;

impl Contract for Summary {
    type As = api::Drawer;

    fn contract(self, _: &Checked) -> api::Drawer {
        let private = self
            .private
            .map(|private| api::PrivateDrawer { open: private.open, closes_at: private.closes_at.map(timestamp) });
        api::Drawer { name: self.name, count: self.clips, private }
    }
}

impl Contract for Contents {
    type As = api::DrawerContents;

    fn contract(self, rules: &Checked) -> api::DrawerContents {
        let item = |(place, shown)| match shown {
            Shown::Clip(clip) => api::DrawerItem { place, clip: Some(clip.contract(rules)), heading: None },
            Shown::Heading(words) => api::DrawerItem { place, clip: None, heading: Some(words) },
        };
        api::DrawerContents { name: self.name, items: (1..).zip(self.items).map(item).collect() }
    }
}

impl Contract for OpenedDrawer {
    type As = api::OpenedDrawer;

    fn contract(self, rules: &Checked) -> api::OpenedDrawer {
        api::OpenedDrawer { drawer: self.drawer.contract(rules), left: self.left }
    }
}
