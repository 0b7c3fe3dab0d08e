//! Deleting, clearing, undoing, and the bin.

use super::Contract;
use yadori_api as api;
use yadori_core::clip::Gone;
use yadori_core::retention::BIN_MILLIS;
use yadori_core::rules::Checked;
use yadori_engine::clock::timestamp;
use yadori_engine::history::listing::Listed;
use yadori_engine::retention::bin::{Bin, Binned};
use yadori_engine::retention::delete::{Cleared, Deleted};
use yadori_engine::retention::undo::Undone;
use yadori_store::{OperationKind, UndoableOperation};

/// Until when a step can be undone.
fn until(step: &UndoableOperation) -> jiff::Timestamp {
    timestamp(step.at.plus(BIN_MILLIS))
}

fn what(how: OperationKind) -> String {
    match how {
        OperationKind::Delete => "delete",
        OperationKind::Clear => "clear",
        OperationKind::Edit => "edit",
    }
    .into()
}

impl Contract for Deleted {
    type As = api::Deleted;

    fn contract(self, rules: &Checked) -> api::Deleted {
        api::Deleted {
            clips: self.clips.contract(rules),
            step: self.step.as_ref().map(|step| step.number),
            undo_until: self.step.as_ref().map(until),
        }
    }
}

impl Contract for Cleared {
    type As = api::Cleared;

    fn contract(self, _: &Checked) -> api::Cleared {
        api::Cleared {
            count: self.clips,
            bytes: self.bytes,
            kept: self.kept,
            left: self.left,
            step: self.step.as_ref().map(|step| step.number),
            undo_until: self.step.as_ref().map(until),
        }
    }
}

impl Contract for Undone {
    type As = api::Undone;

    fn contract(self, rules: &Checked) -> api::Undone {
        api::Undone {
            step: self.step.number,
            what: what(self.step.how),
            count: u64::from(self.step.total),
            clips: self.clips.contract(rules),
        }
    }
}

impl Contract for (UndoableOperation, Option<Listed>) {
    type As = api::Step;

    fn contract(self, rules: &Checked) -> api::Step {
        let (step, example) = self;
        api::Step {
            step: step.number,
            at: timestamp(step.at),
            what: what(step.how),
            count: u64::from(step.total),
            example: example.contract(rules),
            undone: step.undone,
            until: until(&step),
        }
    }
}

impl Contract for Binned {
    type As = api::Binned;

    fn contract(self, rules: &Checked) -> api::Binned {
        let how = match self.how {
            Gone::Deleted => "deleted",
            Gone::Cleared => "cleared",
            Gone::Swept => "swept",
        };
        let clip = Listed { record: self.record.into(), position: None }.contract(rules);
        api::Binned {
            clip: api::Clip { expires_at: None, ..clip },
            how: how.into(),
            since: timestamp(self.since),
            until: timestamp(self.since.plus(BIN_MILLIS)),
        }
    }
}

impl Contract for Bin {
    type As = api::Bin;

    fn contract(self, rules: &Checked) -> api::Bin {
        api::Bin { clips: self.clips.contract(rules), total: self.total, bytes: self.bytes }
    }
}
