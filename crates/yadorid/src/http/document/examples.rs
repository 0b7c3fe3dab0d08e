//! Examples of everything: of each value from a table, and of what is made of values from these.

use super::{each_operation, object};
use serde_json::{Map, Value, json};

/// Fields that are called like others, and made of examples of their own.
const MADE: [(&str, &str); 18] = [
    // What a clip has besides what lists show.
    ("", "formats"),
    ("Bin", "clips"),
    ("ClipPage", "clips"),
    ("Clips", "clips"),
    ("Deleted", "clips"),
    ("Recalled", "clips"),
    ("Sent", "clips"),
    ("Undone", "clips"),
    ("Reshaped", "clip"),
    ("ClipChange", "clip"),
    ("DrawerItem", "clip"),
    ("Dealt", "recalled"),
    ("Keys", "keys"),
    ("Keys", "paste"),
    ("Rules", "kinds"),
    ("Stats", "days"),
    ("Refused", "reason"),
    ("SimulatedCopy", "formats"),
];

/// An example of a value: of this field in this type, or of this field anywhere.
fn of_field(schema: &str, field: &str) -> Option<Value> {
    if MADE.contains(&(schema, field)) {
        return None;
    }
    of_field_in(schema, field).or_else(|| of_field_anywhere(field))
}

fn of_field_in(schema: &str, field: &str) -> Option<Value> {
    Some(match (schema, field) {
        ("Tray", "next") => json!(2),
        ("Sync", "elsewhere") => json!(3),
        ("Sync", "relay") | ("Relay", "warning") => Value::Null,
        ("Relay", "address") => json!("https://relay.example.org:7438"),
        ("SetRelay", "invitation") => json!("https://relay.example.org:7438/#mfrggzdfmztwq2lknnwg23tpoa"),
        ("Relay", "warnings" | "waiting" | "behind") => json!(0),
        ("Mailbox", "quota_bytes") => json!(1_073_741_824),
        ("Mailbox", "days") => json!(30),
        ("Relay", "posted_at" | "fetched_at") => json!("2026-11-23T18:04:11Z"),
        ("Database", "answers") => json!(true),
        ("Sent", "recalled") => json!(true),
        ("DayFigures", "recalled") => json!(9),
        ("RulesVerdict", "captured") => json!(true),
        ("RulesVerdict", "reason") => json!("it would be kept as a text"),
        ("RulesVerdict" | "Clip", "sensitive") | ("Clip", "caption" | "expires_at" | "excerpt") => Value::Null,
        ("Lock", "plain_because" | "encrypting") => Value::Null,
        ("Status" | "Lock", "encrypted") => json!(true),
        ("Status" | "Lock", "protectors") => json!(["secret-service", "passphrase"]),
        ("RecoveryKey", "key") => json!("d42l-dkwo-gbpe-7wkh-7deo-5ydy-corw-byba"),
        ("Capture", "reason" | "until") | ("Room", "kind") | ("Clear", "kind" | "device" | "expected") => Value::Null,
        ("Clip", "width" | "height") => Value::Null,
        ("Clip", "lines") => json!(1),
        ("Clip", "characters" | "size") => json!(49),
        ("RulesVerdict", "refused") => Value::Null,
        ("Notice", "message") => json!("its clock is 40 seconds ahead of this one's"),
        ("Notice", "kind") => json!("clock-ahead"),
        ("Notice", "seconds") => json!(40),
        ("NotImported", "reason") => json!("its content is missing"),
        ("Problem", "detail") => json!("there is no clip 9"),
        ("Problem", "title") => json!("No such clip"),
        ("Problem", "status") => json!(404),
        ("Problem", "type") => json!("urn:yadori:problem:no-such-clip"),
        ("Problem", "asks") => json!(["Name"]),
        ("Recall" | "Expand", "answers") => json!({ "Name": "Kit" }),
        ("Recall", "into") => Value::Null,
        ("Step", "at") => json!("2026-11-23T18:04:11Z"),
        ("Reshape", "clip") => json!("1"),
        ("Share", "name") => json!("text"),
        ("Way", "name") => json!("wrap:N"),
        ("Device" | "RenameDevice", "name") | ("Send" | "Sent", "to") => json!("van"),
        ("Attributes", "mark") => json!("fern"),
        ("Attributes", "secret") => Value::Null,
        ("SimulatedCopy", "secret") => json!(false),
        ("SetKeys" | "KeyBinding" | "PasteKeys", "keys") => json!("Ctrl+Alt+V"),
        ("KeyBinding", "taken_by") => Value::Null,
        ("FileInfo", "missing") => json!(false),
        ("Source" | "KeyboardFocus", "window") => json!("Prompt book"),
        ("Source", "page") => Value::Null,
        ("Pause" | "Invite", "seconds") => json!(600),
        ("Invite", "via") => Value::Null,
        ("SweepPreview", "drastic") => json!(false),
        ("OpenedDrawer", "drawer") => {
            json!({ "name": "Venues", "count": 3, "private": { "open": true, "closes_at": "2026-11-24T18:04:11Z" } })
        }
        ("OpenedDrawer", "left") => json!(0),
        ("OpenDrawer", "minutes") => json!(5),
        ("DrawerItem", "heading") | ("Drawer", "private") => Value::Null,
        ("Device", "introduced_by") => Value::Null,
        ("Limits", "count") => json!(10_000),
        ("ConsoleSession", "id") => json!("Q7cXw1"),
        ("Device", "id") => json!("irwh57fjctpwyxv3wu6yddf3ie"),
        ("TrayItem", "dealt") => json!(false),
        _ => return None,
    })
}

/// What the fields are called says what they are about, nearly everywhere.
fn of_field_anywhere(field: &str) -> Option<Value> {
    Some(match field {
        "id" => json!("agozp2qsjk5j3vbwk4kkhqzmsu"),
        "clips" => json!(["1"]),
        "preview" | "text" => json!("Cue 7: LX 7 snap to shadow screen, 100 %, no fade"),
        "before" => json!("Gel  201 "),
        "after" => json!("gel 201"),
        "title" => json!("Cue 7"),
        "alias" => json!("sig"),
        "drawer" | "name" | "keep_as" => json!("Venues"),
        "heading" | "words" => json!("Act two"),
        "application" | "last_application" => json!("Writer"),
        "applications_left_out" | "ignored_applications" => json!(["Vault"]),
        "ignored_patterns" => json!(["^ticket-[0-9]+$"]),
        "device" => json!("workshop"),
        "fingerprint" => json!("irwh-57fj"),
        "addresses" => json!(["192.0.2.7:7437"]),
        "address" | "listening" => json!("192.0.2.7:7437"),
        "code" => json!("4093-7716"),
        "url" => json!("http://127.0.0.1:7436/enter?key=…"),
        "browser" => json!("Firefox on Linux"),
        "home" => json!("/home/kit/.local/share/yadori"),
        "version" => json!("0.1.0"),
        "uri" => json!("file:///home/kit/plot.pdf"),
        "path" => json!("/home/kit/plot.pdf"),
        "mime" => json!("text/plain"),
        "day" => json!("2026-11-23"),
        "copied_at" | "created_at" | "started_at" | "since" | "last_at" | "seen_at" | "recalled_at" | "used_at" => {
            json!("2026-11-23T18:04:11Z")
        }
        "until" | "undo_until" | "expires_at" | "closes_at" => json!("2026-11-24T18:04:11Z"),
        "paused_until" | "failure" | "failed" | "held_because" | "error" => Value::Null,
        "feedback" => json!(["notification"]),
        "detail" => json!("there is no clip 9"),
        "message" => json!("it is larger than 32 MiB"),
        "reason" => json!("too-large"),
        "rule" => json!("older than 90 days"),
        "formula" => json!("7 seconds for each recall, less 2 for finding it"),
        "sentences" | "retention_sentences" => json!(["It keeps the newest 10,000 clips."]),
        "capture_sentences" => json!(["It captures texts, links, pictures and files."]),
        "notes" | "unknown" | "introduced" => json!([]),
        "filled" => json!([":sig"]),
        "formats" => json!(["text/plain"]),
        "action" => json!("picker"),
        "default" | "assigned" => json!("Ctrl+Alt+Space"),
        "description" => json!("Open the picker"),
        "ways" | "reshape" => json!(["trim", "lower"]),
        "does" => json!("break lines after N characters"),
        "join" => json!("\n"),
        "what" => json!("delete"),
        "how" => json!("deleted"),
        "next" => json!("b2xkZXI6MTA3"),
        "parameters" => json!({ "most": "1000" }),
        "usual" => json!({ "Name": "Kit" }),
        "position" | "place" | "at" | "instead_of" | "line" | "restarts" => json!(1),
        "status" => json!(404),
        "age_seconds" => json!(7_776_000),
        "older_than_seconds" => json!(86_400),
        "newer_than_seconds" | "forgotten_after_seconds" => Value::Null,
        "sensitive_seconds" => json!(600),
        "idle_seconds" => json!(900),
        "passphrase" => json!("lanterns on the pier"),
        "current" => json!("the one before it"),
        "seconds" => json!(490),
        "bytes" | "bytes_on_disk" | "size" | "here" | "limit" => json!(1_048_576),
        "largest" | "size_limit" | "fetch_above" => json!(33_554_432),
        "repeat_millis" => json!(500),
        "width" | "height" | "lines" | "characters" => json!(64),
        "pid" => json!(4_212),
        "change" | "step" => json!(107),
        "clip_limit" | "total" | "count" | "staying" | "left" => json!(420),
        "start" => json!(0),
        "end" => json!(3),
        "copies" | "recalls" | "switches" | "linked" | "connected" | "kept" | "added" | "known" | "read"
        | "captured" => {
            json!(2)
        }
        "ahead" | "behind" | "cleared" | "swept" | "recalled" | "held" | "in_bin" | "within_a_day" | "missing"
        | "skipped" | "restored" | "unused" | "waiting" => json!(0),
        _ => return None,
    })
}

/// An example of a value with this schema.
fn example(schemas: &Value, schema: &Value, place: (&str, &str)) -> Value {
    if let Some(example) = of_field(place.0, place.1) {
        return example;
    }
    if let Some(name) = schema["$ref"].as_str().and_then(|path| path.strip_prefix("#/components/schemas/")) {
        return example_of(schemas, name, &schemas[name]);
    }
    // Of what may be null, what is not.
    if let Some(choices) = schema["oneOf"].as_array().and_then(|all| all.iter().find(|one| one["type"] != "null")) {
        return example(schemas, choices, ("", ""));
    }
    let types = schema["type"].as_array().and_then(|all| all.iter().find(|one| *one != "null"));
    match types.or(Some(&schema["type"])).and_then(Value::as_str) {
        Some("array") => json!([example(schemas, &schema["items"], ("", ""))]),
        Some("boolean") => json!(false),
        _ => example_of(schemas, "", schema),
    }
}

/// An example of a type.
fn example_of(schemas: &Value, name: &str, schema: &Value) -> Value {
    if let Some(words) = schema["enum"].as_array() {
        return words[0].clone();
    }
    let mut made = Map::new();
    for part in schema["allOf"].as_array().into_iter().flatten() {
        if let Value::Object(part) = example(schemas, part, ("", "")) {
            made.extend(part);
        }
    }
    for (field, schema) in schema["properties"].as_object().into_iter().flatten() {
        made.insert(field.clone(), example(schemas, schema, (name, field)));
    }
    Value::Object(made)
}

/// What a request would say that is meant: not everything that it can say, but what makes sense together.
fn of_request(name: &str) -> Option<Value> {
    Some(match name {
        "Recall" => json!({ "clips": ["1"], "plain": true }),
        "Clear" => json!({ "kind": "image", "older_than_seconds": 86_400 }),
        "Delete" => json!({ "clips": ["3", "4"] }),
        "Undo" => json!({}),
        "Attributes" => json!({ "title": "Cue 7", "mark": "fern" }),
        "DrawerChange" | "NewDrawer" => json!({ "name": "Venues" }),
        "NewHeading" => json!({ "words": "Act two", "at": 1 }),
        "Pin" | "Put" => json!({ "clips": ["1"], "at": 1 }),
        "RulesChange" => json!({ "limits": { "count": 10_000, "age_seconds": 7_776_000, "bytes": 1_073_741_824 } }),
        "PolicyChange" => json!({ "leaves": "kept-only", "kinds_left_out": ["image"] }),
        "CloseTray" => json!({ "keep_as": "Venues" }),
        "Pour" => json!({ "join": "\n", "plain": true }),
        "Expand" => json!({ "text": "Regards\n:sig" }),
        "SimulatedCopy" => json!({ "formats": [{ "mime": "text/plain", "text": "Gel 201" }] }),
        _ => return None,
    })
}

/// Examples of parameters, by their names.
fn of_parameter(name: &str) -> Value {
    match name {
        "q" => json!("gel kind:text"),
        "name" => json!("1"),
        "id" => json!("Q7cXw1"),
        "limit" => json!(50),
        "skip" => json!(0),
        "days" => json!(14),
        "zone" => json!("Europe/Berlin"),
        "cursor" => json!("b2xkZXI6MTA3"),
        "format" => json!("text/plain"),
        "window" => json!("Prompt book"),
        "form" => json!("zip"),
        "mark" => json!("fern"),
        "clips" => json!("1,2,3"),
        "after" => json!(0),
        "copies" => json!(2),
        "Last-Event-ID" => json!(107),
        "action" => json!("picker"),
        "application" => json!("Writer"),
        "kind" => json!("secret-service"),
        "into" => json!("Venues"),
        "pin" | "fill" | "at_once" | "introduced" | "for_good" => json!(false),
        other => of_field_anywhere(other).unwrap_or(json!("Venues")),
    }
}

/// Puts them in.
pub(super) fn add(document: &mut Value) {
    let schemas = document["components"]["schemas"].clone();
    let of_json = |content: &mut Value, is_request: bool| {
        let Some(json) = content.get_mut("application/json") else { return };
        let name = json["schema"]["$ref"].as_str().and_then(|path| path.strip_prefix("#/components/schemas/"));
        let meant = name.filter(|_| is_request).and_then(of_request);
        let made = match (meant, json["schema"]["type"].as_str()) {
            (Some(meant), _) => meant,
            (None, Some("array")) => json!([example(&schemas, &json["schema"]["items"], ("", ""))]),
            _ => example(&schemas, &json["schema"], ("", "")),
        };
        json["example"] = made;
    };
    each_operation(document, |_, _, operation| {
        for parameter in operation.get_mut("parameters").and_then(Value::as_array_mut).into_iter().flatten() {
            if parameter["$ref"].is_null() && parameter["example"].is_null() {
                let made = of_parameter(parameter["name"].as_str().unwrap_or_default());
                parameter["example"] = made;
            }
        }
        if let Some(body) = operation.get_mut("requestBody") {
            of_json(&mut body["content"], true);
        }
        for (_, answer) in object(&mut operation["responses"]) {
            if answer["$ref"].is_null() && answer["content"].is_object() {
                of_json(&mut answer["content"], false);
            }
        }
    });
}
