//! The answers that are problems: one for each status, shared by all operations.

use super::{each_operation, object};
use serde_json::{Map, Value, json};
use yadori_api::{self as api, ProblemKind};

/// A status, the name of its shared answer, and what it means.
const ANSWERS: [(u16, &str, &str); 18] = [
    (400, "BadRequest", "The request makes no sense."),
    (401, "Unauthorised", "The request carries no valid token."),
    (403, "Forbidden", "The request comes from a foreign page, or another device refuses."),
    (404, "NotFound", "There is no such thing."),
    (405, "WrongMethod", "The path is asked with another method."),
    (409, "Conflict", "It cannot be done as things are: several things are meant, or something is in the way."),
    (412, "NotAsSeen", "It was changed since the client has read it: `If-Match` names another tag."),
    (413, "TooLarge", "The request, or what it brings, is too large."),
    (414, "LongAddress", "Path and query are too long."),
    (415, "WrongType", "The body is not of a type that this takes, or it is encoded."),
    (416, "BadRange", "The range lies outside the content."),
    (421, "WrongHost", "The request is meant for another host."),
    (422, "Unprocessable", "The request is understood, but what it says cannot be taken."),
    (431, "LargeHeaders", "The headers are too many, or too large."),
    (500, "Internal", "Something went wrong in the service; its log says what."),
    (502, "OtherDevice", "Another device is wanted, and is not there."),
    (503, "DatabaseAway", "The database does not answer at the moment."),
    (507, "DiskFull", "There is no room on the disk."),
];

/// What can happen to every request.
const ALWAYS: [u16; 9] = [400, 401, 403, 405, 414, 421, 431, 500, 503];

/// What can happen besides to a request that brings something.
const WITH_BODY: [u16; 3] = [413, 415, 422];

/// What can happen besides to one that changes records.
const CHANGES: u16 = 507;

fn header(about: &str, schema: &Value) -> Value {
    json!({ "description": about, "required": true, "schema": schema })
}

/// What such an answer says in headers.
fn headers(status: u16) -> Option<(&'static str, Value)> {
    let text = json!({ "type": "string" });
    Some(match status {
        401 => ("WWW-Authenticate", header("`Bearer`.", &text)),
        405 => ("Allow", header("The methods of this path.", &text)),
        416 => ("Content-Range", header("`bytes */` and the size of the content.", &text)),
        412 => ("ETag", header("The tag of what it is now.", &text)),
        503 => {
            ("Retry-After", header("Seconds after which to try again.", &json!({ "type": "integer", "minimum": 0 })))
        }
        _ => return None,
    })
}

/// The kinds that are answered with this status.
fn kinds(status: u16) -> impl Iterator<Item = ProblemKind> {
    ProblemKind::ALL.iter().copied().filter(move |kind| kind.status() == status)
}

fn answer(status: u16, about: &str) -> Value {
    let words: Vec<String> = kinds(status).map(|kind| format!("`{}`", kind.word())).collect();
    let example = kinds(status).next().map(
        |kind| json!({ "type": kind, "title": kind.title(), "status": status, "detail": about.trim_end_matches('.') }),
    );
    let mut answer = json!({
        "description": format!("{about} Kinds: {}.", words.join(", ")),
        "content": { "application/problem+json": {
            "schema": { "$ref": "#/components/schemas/Problem" },
            "example": example,
        } }
    });
    if let Some((name, header)) = headers(status) {
        answer["headers"] = json!({ name: header });
    }
    answer
}

/// Puts them in.
pub(super) fn add(document: &mut Value) {
    let shared: Map<String, Value> =
        ANSWERS.iter().map(|(status, name, about)| ((*name).to_owned(), answer(*status, about))).collect();
    document["components"]["responses"] = Value::Object(shared);
    each_operation(document, |method, _, operation| {
        let mut statuses = ALWAYS.to_vec();
        if operation.contains_key("requestBody") {
            statuses.extend(WITH_BODY);
        }
        if method != "get" {
            statuses.push(CHANGES);
        }
        let answers = object(operation.entry("responses").or_insert(Value::Null));
        let own = answers.keys().filter_map(|status| status.parse::<u16>().ok()).filter(|status| *status >= 400);
        statuses.extend(own.collect::<Vec<_>>());
        for status in statuses {
            let Some((_, name, _)) = ANSWERS.iter().find(|(known, ..)| *known == status) else { continue };
            let particular = answers.get(&status.to_string()).and_then(|answer| answer["description"].as_str());
            let particular = particular.filter(|about| !about.is_empty() && !is_of_the_type(about)).map(str::to_owned);
            let mut shared = json!({ "$ref": format!("#/components/responses/{name}") });
            if let Some(about) = particular {
                shared["description"] = about.into();
            }
            answers.insert(status.to_string(), shared);
        }
    });
    let schemas = object(&mut document["components"]["schemas"]);
    let titles =
        ProblemKind::ALL.iter().map(|kind| format!("* `{}` ({}): {}", kind.word(), kind.status(), kind.title()));
    schemas["ProblemKind"]["description"] =
        format!("What went wrong: `urn:yadori:problem:` and a word.\n\n{}", titles.collect::<Vec<_>>().join("\n"))
            .into();
}

/// Whether a description is only that of the type of all problems.
fn is_of_the_type(about: &str) -> bool {
    let of_type = <api::Problem as utoipa::PartialSchema>::schema();
    serde_json::to_value(of_type).is_ok_and(|schema| schema["description"] == *about)
}
