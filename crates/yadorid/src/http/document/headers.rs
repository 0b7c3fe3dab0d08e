//! What requests and answers say in headers.

use super::{each_operation, object};
use serde_json::{Value, json};

/// A header of a request: the name of its shared parameter, its own, what it means, an example, and the operations that take it.
type Parameter = (&'static str, &'static str, &'static str, &'static str, &'static [&'static str]);

const PARAMETERS: [Parameter; 5] = [
    (
        "IfMatch",
        "If-Match",
        "Change it only if it still has this tag (RFC 9110, section 13.1.1).",
        "\"4f1c0ab2d7e95c6b8a03d1f2\"",
        &[
            "change_clip",
            "edit",
            "change_rules",
            "change_policy",
            "change_drawer",
            "remove_drawer",
            "move_in_drawer",
            "head_drawer",
            "sort_drawer",
        ],
    ),
    (
        "IfNoneMatch",
        "If-None-Match",
        "Answer with 304 and nothing else if it still has this tag (RFC 9110, section 13.1.2).",
        "\"4f1c0ab2d7e95c6b8a03d1f2\"",
        &["show", "content", "show_rules", "show_policy", "show_drawer"],
    ),
    (
        "IfRange",
        "If-Range",
        "Give the range only if the content still has this tag, and else the whole (RFC 9110, section 13.1.5).",
        "\"4f1c0ab2d7e95c6b8a03d1f2\"",
        &["content"],
    ),
    ("Range", "Range", "One range of bytes (RFC 9110, section 14.2).", "bytes=0-1023", &["content"]),
    (
        "IdempotencyKey",
        "Idempotency-Key",
        "Carry this out once, however often it is sent with this key: the answer to the first is given again. A key is good \
         for one request, and remembered until 1,000 others have come or the service ends.",
        "b7c1a2d0-3f5e-4f60-9a55-1f1d7c2e9a10",
        &["add", "new_drawer", "add_to_tray", "head_drawer"],
    ),
];

/// A header of an answer: the name of its shared form, its own, what it means, and the operations and statuses of the answers.
type Header = (&'static str, &'static str, &'static str, &'static [(&'static str, &'static [&'static str])]);

const HEADERS: [Header; 6] = [
    (
        "ETag",
        "ETag",
        "The tag of what it is now.",
        &[
            ("200", &["show", "content", "show_rules", "show_policy", "show_drawer", "change_clip", "change_rules"]),
            ("200", &["change_policy", "move_in_drawer", "head_drawer", "sort_drawer"]),
            ("206", &["content"]),
            ("304", &["show", "content", "show_rules", "show_policy", "show_drawer"]),
        ],
    ),
    ("Location", "Location", "The path of what was made.", &[("201", &["add", "new_drawer"])]),
    ("ContentRange", "Content-Range", "Which bytes these are, and of how many.", &[("206", &["content"])]),
    ("ContentDisposition", "Content-Disposition", "A name for the file.", &[("200", &["export"])]),
    ("Exported", "X-Yadori-Clips", "How many clips are exported.", &[("200", &["export"])]),
    ("LeftOut", "X-Yadori-Left-Out", "How many were left out, since they look like secrets.", &[("200", &["export"])]),
];

/// Puts them in.
pub(super) fn add(document: &mut Value) {
    let text = || json!({ "type": "string" });
    for (shared, name, about, example, _) in PARAMETERS {
        let longest = if shared == "IdempotencyKey" { 255 } else { 1_000 };
        document["components"]["parameters"][shared] = json!({
            "name": name, "in": "header", "required": false, "description": about, "example": example,
            "schema": { "type": "string", "minLength": 1, "maxLength": longest },
        });
    }
    for (shared, name, about, _) in HEADERS {
        let schema = if name.starts_with("X-") { json!({ "type": "integer", "minimum": 0 }) } else { text() };
        document["components"]["headers"][shared] = json!({ "description": about, "schema": schema });
    }
    each_operation(document, |_, _, operation| {
        let id = operation.get("operationId").and_then(Value::as_str).unwrap_or_default().to_owned();
        for (shared, .., operations) in PARAMETERS {
            if operations.contains(&id.as_str()) {
                let parameters = operation.entry("parameters").or_insert(json!([]));
                if let Some(parameters) = parameters.as_array_mut() {
                    parameters.push(json!({ "$ref": format!("#/components/parameters/{shared}") }));
                }
                if shared == "IfMatch" {
                    operation["responses"]["412"] = json!({ "$ref": "#/components/responses/NotAsSeen" });
                }
            }
        }
        for (shared, name, _, places) in HEADERS {
            for (status, operations) in places {
                let answers = object(&mut operation["responses"]);
                if operations.contains(&id.as_str())
                    && let Some(answer) = answers.get_mut(*status)
                {
                    answer["headers"][name] = json!({ "$ref": format!("#/components/headers/{shared}") });
                }
            }
        }
    });
}
