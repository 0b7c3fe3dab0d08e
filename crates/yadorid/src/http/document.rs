//! The OpenAPI document.
//!
//! Handlers and types say what is particular to each operation; what is so for all of them is put in here, in one place:
//! the problems that any request can meet, headers, ranges of numbers, examples, the events of the stream.
//!
//! * `problems`: the answers that are problems
//! * `headers`: what requests and answers say in headers
//! * `examples`: examples of everything, from one table of words and numbers

mod examples;
mod headers;
mod problems;

use super::asked::LARGEST_INTEGER;
use serde_json::{Map, Value, json};

const ABOUT: &str = "The history of what a person copies, on their own computer: their clips, what they keep, the rules, their \
    devices. The service is reached on loopback, with the bearer token of a file that only its owner can read; `yadori api` \
    tells where. The page to start with is `docs/http.md`.";

/// The operations, by what they are about.
const TAGS: [(&str, &str); 10] = [
    ("clips", "Finding, showing, adding, recalling and changing clips."),
    ("kept", "What a person keeps: pins, attributes, aliases, drawers."),
    ("tray", "An ordered batch of clips, dealt one after the other."),
    ("forgetting", "Deleting, clearing, undoing, and the bin."),
    ("rules", "What is captured and how long it stays, and figures."),
    ("keys", "Keys that work in every program."),
    ("devices", "The person's own devices, and what they share."),
    ("moving", "Export and import."),
    ("events", "What happens, as it happens."),
    ("service", "How the service stands, pauses, and the browsers that are let in."),
];

/// The tag of what is there in tests only.
const SIMULATED: (&str, &str) = ("simulated", "A clipboard in memory, for tests.");

/// Calls `then` with each operation: its method, its path, and itself.
pub(super) fn each_operation(document: &mut Value, mut then: impl FnMut(&str, &str, &mut Map<String, Value>)) {
    for (path, methods) in object(&mut document["paths"]) {
        for (method, operation) in object(methods) {
            then(method, path, object(operation));
        }
    }
}

/// A part of the document that is an object, and becomes one if it is not there.
fn object(value: &mut Value) -> &mut Map<String, Value> {
    if !value.is_object() {
        *value = json!({});
    }
    match value {
        Value::Object(map) => map,
        _ => unreachable!("it was made one"),
    }
}

/// Completes the document.
pub(super) fn complete(mut document: Value) -> Value {
    document["info"]["description"] = ABOUT.into();
    document["servers"] = json!([{
        "url": "http://{address}",
        "description": "The service on this computer.",
        "variables": { "address": { "default": "127.0.0.1:7436", "description": "As `run/api.json` has it." } }
    }]);
    let tags = TAGS.iter().chain([&SIMULATED]);
    document["tags"] = tags.map(|(name, about)| json!({ "name": name, "description": about })).collect();
    events(&mut document);
    carry_integers(&mut document);
    contents(&mut document);
    describe_answers(&mut document);
    problems::add(&mut document);
    headers::add(&mut document);
    examples::add(&mut document);
    // In an order of its own, whatever else in the same build wants of serde_json.
    document.sort_all_objects();
    document
}

/// The types of what is no JSON, by the operations that take or give it.
const TYPES: [(&str, &[&str]); 4] = [
    ("add", &["text/plain", "text/html", "text/uri-list", "image/png", "image/jpeg", "image/*"]),
    ("content", &["text/plain", "text/html", "text/uri-list", "image/png", "application/octet-stream", "*/*"]),
    ("paste", &["text/plain", "*/*"]),
    ("export", &["application/zip", "text/plain", "text/html", "text/csv"]),
];

/// What is no JSON is bytes; a text is in UTF-8.
fn contents(document: &mut Value) {
    each_operation(document, |_, _, operation| {
        let id = operation.get("operationId").and_then(Value::as_str).unwrap_or_default().to_owned();
        let types = TYPES.iter().find(|(known, _)| *known == id).map(|(_, types)| *types);
        let mut body = operation.remove("requestBody");
        let answers = object(&mut operation["responses"]).values_mut();
        let all = answers.chain(body.as_mut()).filter_map(|told| told.get_mut("content"));
        for content in all.filter_map(Value::as_object_mut) {
            if content.remove("*/*").is_some() {
                content.extend(types.unwrap_or_default().iter().map(|mime| ((*mime).to_owned(), json!({}))));
            }
            for (mime, told) in content {
                if !mime.ends_with("json") && mime != "text/event-stream" {
                    told["schema"] = json!({ "type": "string", "format": "binary" });
                }
            }
        }
        operation.extend(body.map(|body| ("requestBody".to_owned(), body)));
    });
}

/// Numbers within what JSON can carry.
fn carry_integers(value: &mut Value) {
    match value {
        Value::Object(map) => {
            let largest = match map.get("format").and_then(Value::as_str) {
                Some("int64") => Some(LARGEST_INTEGER),
                Some("int32") => Some(i32::MAX as u64),
                _ => None,
            };
            if let Some(largest) = largest {
                map.entry("maximum").or_insert(largest.into());
            }
            map.values_mut().for_each(carry_integers);
        }
        Value::Array(list) => list.iter_mut().for_each(carry_integers),
        _ => {}
    }
}

/// The schema that this refers to, or itself.
fn resolved<'a>(schemas: &'a Value, schema: &'a Value) -> &'a Value {
    let name = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/components/schemas/"));
    name.map_or(schema, |name| &schemas[name])
}

/// An answer is what its content is, unless it is described otherwise; and a body that is read must be there.
fn describe_answers(document: &mut Value) {
    let schemas = document["components"]["schemas"].clone();
    each_operation(document, |_, _, operation| {
        if let Some(body) = operation.get_mut("requestBody") {
            body["required"] = true.into();
            if body["description"].is_null() {
                let schema = &body["content"]["application/json"]["schema"];
                body["description"] = resolved(&schemas, schema)["description"].clone();
            }
        }
        for (_, answer) in object(&mut operation["responses"]) {
            if !answer["description"].as_str().unwrap_or_default().is_empty() {
                continue;
            }
            let schema = &answer["content"]["application/json"]["schema"];
            let told = resolved(&schemas, schema)["description"].as_str().map(str::to_owned);
            answer["description"] = told.unwrap_or_else(|| "All of them.".into()).into();
        }
    });
}

/// OpenAPI 3.1 has no way to give the schemas of events, so they stand in an extension of the stream's answer.
fn events(document: &mut Value) {
    let schemas = object(&mut document["components"]["schemas"]);
    schemas.insert(
        "EventReady".into(),
        json!({
            "type": "object", "description": "The stream goes on from here.", "required": ["change"],
            "properties": { "change": { "type": "integer", "format": "int64", "minimum": 0, "description": "The number of the latest change." } }
        }),
    );
    schemas.insert(
        "EventSignal".into(),
        json!({ "type": "object", "description": "Nothing but the event's name.", "additionalProperties": false }),
    );
    let of = |name: &str| json!({ "$ref": format!("#/components/schemas/{name}") });
    let answer = &mut document["paths"][format!("{}/events", yadori_api::BASE)]["get"]["responses"]["200"];
    answer["content"]["text/event-stream"] = json!({
        "schema": {
            "type": "string", "contentMediaType": "text/event-stream",
            "contentSchema": { "oneOf": [of("EventReady"), of("ClipChange"), of("PartChange"), of("EventSignal")] },
            "description": "Server-sent events, as the HTML standard has them. The data of each is JSON."
        },
        "example": "event: ready\nid: 107\ndata: {\"change\":107}\n\n",
        "x-events": { "ready": of("EventReady"), "clip": of("ClipChange"), "status": of("EventSignal"), "part": of("PartChange"), "reload": of("EventSignal") }
    });
}
