//! What the engine says, in the words of the HTTP contract, and what clients ask in those of the engine.
//!
//! Nowhere else do the two meet.

pub(super) mod clips;
mod devices;
mod figures;
mod forgetting;
mod kept;
pub(super) mod keys;
mod moving;
mod notices;
pub(super) mod rules;
mod tray;

pub(super) use clips::{kind, kind_of, mark_of, secret};
pub(super) use devices::policy_change;

use yadori_core::rules::Checked;

/// Something that the engine says, and that has a form in the HTTP contract.
pub(super) trait Contract {
    /// That form.
    type As;

    /// It in that form. The rules in force tell when a clip expires.
    fn contract(self, rules: &Checked) -> Self::As;
}

impl<T: Contract> Contract for Vec<T> {
    type As = Vec<T::As>;

    fn contract(self, rules: &Checked) -> Self::As {
        self.into_iter().map(|each| each.contract(rules)).collect()
    }
}

impl<T: Contract> Contract for Option<T> {
    type As = Option<T::As>;

    fn contract(self, rules: &Checked) -> Self::As {
        self.map(|this| this.contract(rules))
    }
}
