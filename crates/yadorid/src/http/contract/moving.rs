//! Import.

use super::Contract;
use yadori_api as api;
use yadori_core::rules::Checked;
use yadori_engine::moving::import::{NotImported, Progress, Report};

impl Contract for NotImported {
    type As = api::NotImported;

    fn contract(self, _: &Checked) -> api::NotImported {
        api::NotImported { line: self.line, id: self.id, reason: self.reason }
    }
}

impl Contract for Report {
    type As = api::ImportReport;

    fn contract(self, rules: &Checked) -> api::ImportReport {
        api::ImportReport {
            added: self.added,
            known: self.known,
            restored: self.restored,
            skipped: self.skipped,
            reasons: self.reasons.contract(rules),
            unused: self.unused,
        }
    }
}

impl Contract for Progress {
    type As = api::ImportProgress;

    fn contract(self, rules: &Checked) -> api::ImportProgress {
        api::ImportProgress {
            read: self.read,
            report: self.report.contract(rules),
            error: self.error.map(|error| error.to_string()),
        }
    }
}
