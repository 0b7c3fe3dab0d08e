//! Moving house: export and import.

use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

/// As what to export.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "lowercase")]
pub enum ExportForm {
    /// A zip with everything, which can be imported again.
    #[default]
    Zip,
    /// The texts, with an empty line between them.
    Text,
    /// A page that any browser shows.
    Html,
    /// A table.
    Csv,
}

/// What to export.
#[derive(Clone, Debug, Default, Serialize, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
#[serde(deny_unknown_fields)]
pub struct ExportQuery {
    /// As what.
    #[serde(default)]
    pub form: ExportForm,
    /// Only the clips that meet this query.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub q: Option<String>,
    /// Only these clips, with commas between their names.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub clips: Option<String>,
    /// Only this drawer.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub drawer: Option<String>,
}

/// A clip of an archive that was not imported.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct NotImported {
    /// The line of `clips.ndjson`, from 1.
    pub line: u64,
    /// The clip's id, as far as it could be read.
    pub id: Option<String>,
    /// Why.
    pub reason: String,
}

/// What an import did.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImportReport {
    /// Clips that were not here before.
    pub added: u64,
    /// Clips that were here already, and stay as they are.
    pub known: u64,
    /// Clips that were in the bin, and are back.
    pub restored: u64,
    /// Clips that were not imported.
    pub skipped: u64,
    /// The first of those, at most 100.
    pub reasons: Vec<NotImported>,
    /// Files in the archive that no clip uses.
    pub unused: u64,
}

/// A line of the answer to an import: how far it is, and at last what it did.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct ImportProgress {
    /// Clips that were read so far.
    pub read: u64,
    /// What was done; in the last line only.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub report: Option<ImportReport>,
    /// Why the import ended early; in the last line only. What was imported until then stays.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub error: Option<String>,
}
