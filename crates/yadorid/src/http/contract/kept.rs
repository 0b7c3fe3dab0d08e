//! Drawers.

use super::Contract;
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_engine::keeping::drawers::{Contents, Shown, Summary};

impl Contract for Summary {
    type As = api::Drawer;

    fn contract(self, _: &Checked) -> api::Drawer {
        api::Drawer { name: self.name, count: self.clips }
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
