//! The description of the interface, held against the interface: requests made from it, and what is answered to them.
//!
//! Half of the requests are as the document wants them, and are understood; the others are spoiled in one place, and are
//! refused. Whatever is asked, the answer is one that the document names, and what it says has the schema that it gives.

use crate::answering::Answering;
use axum::body::{Body, to_bytes};
use axum::http::response::Parts;
use axum::http::{Request, Response, header};
use jsonschema::Validator;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use tower::ServiceExt;

/// Requests for each operation.
const TIMES: usize = 24;

/// What stands where a name or a text is wanted.
const WORDS: [&str; 14] = [
    "1",
    "2",
    "p1",
    "t1",
    ":sig",
    "99",
    "Venues",
    "workshop",
    "picker",
    "trim",
    "text/plain",
    "日本語 \u{202e}x",
    "a b&c=d/..",
    "%00",
];

/// Numbers that follow from one another as if by chance (splitmix64).
struct Chance(u64);

impl Chance {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mixed = (self.0 ^ (self.0 >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        let mixed = (mixed ^ (mixed >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        mixed ^ (mixed >> 31)
    }

    fn below(&mut self, most: usize) -> usize {
        (self.next() % most as u64) as usize
    }

    fn one_in(&mut self, many: usize) -> bool {
        self.below(many) == 0
    }

    fn of<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }
}

struct Document {
    whole: Value,
    schemas: BTreeMap<String, Validator>,
}

impl Document {
    fn new() -> Self {
        let whole: Value = serde_json::from_str(&yadorid::http::openapi_json()).unwrap();
        Self { whole, schemas: BTreeMap::new() }
    }

    fn resolve<'a>(&'a self, value: &'a Value) -> &'a Value {
        match value["$ref"].as_str() {
            Some(path) => self.whole.pointer(path.trim_start_matches('#')).expect("what is referred to"),
            None => value,
        }
    }

    /// What is wrong with a value, by a schema of the document.
    fn objection(&mut self, schema: &Value, value: &Value) -> Option<String> {
        let name = schema.to_string();
        if !self.schemas.contains_key(&name) {
            // References are to the document's own components.
            let whole = json!({ "components": { "schemas": self.whole["components"]["schemas"] }, "allOf": [schema] });
            let validator = jsonschema::draft202012::options().build(&whole).expect("a schema");
            self.schemas.insert(name.clone(), validator);
        }
        self.schemas[&name].iter_errors(value).next().map(|error| format!("{error} at {}", error.instance_path()))
    }

    /// A value of this schema.
    fn value(&self, schema: &Value, field: &str, chance: &mut Chance) -> Value {
        let schema = self.resolve(schema);
        if let Some(words) = schema["enum"].as_array() {
            return chance.of(words).clone();
        }
        if let Some(choices) = schema["oneOf"].as_array() {
            return self.value(chance.of(choices), field, chance);
        }
        let kind = match &schema["type"] {
            Value::Array(kinds) => chance.of(kinds).as_str(),
            kind => kind.as_str(),
        };
        match kind {
            Some("null") => Value::Null,
            Some("boolean") => Value::Bool(chance.one_in(2)),
            Some("integer") => {
                let (least, most) = (schema["minimum"].as_u64().unwrap_or(0), schema["maximum"].as_u64().unwrap());
                (*chance.of(&[least, least + 1, (least + 600).min(most), most])).into()
            }
            Some("string") => self.string(schema, field, chance),
            Some("array") => {
                let least = schema["minItems"].as_u64().unwrap_or(0) as usize;
                let many = least + chance.below(3);
                (0..many).map(|_| self.value(&schema["items"], field, chance)).collect()
            }
            Some("object") => {
                let mut made = serde_json::Map::new();
                let required: Vec<&str> =
                    schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).collect();
                for (field, schema) in schema["properties"].as_object().into_iter().flatten() {
                    if required.contains(&field.as_str()) || chance.one_in(3) {
                        made.insert(field.clone(), self.value(schema, field, chance));
                    }
                }
                if schema["additionalProperties"].is_object() && chance.one_in(2) {
                    made.insert("Name".into(), self.value(&schema["additionalProperties"], "", chance));
                }
                Value::Object(made)
            }
            _ => panic!("no value of {schema}"),
        }
    }

    fn string(&self, schema: &Value, field: &str, chance: &mut Chance) -> Value {
        // Nobody is reached that is not here.
        if field == "address" {
            return json!("127.0.0.1:1");
        }
        match (schema["format"].as_str(), schema["pattern"].as_str()) {
            (Some("date-time"), _) => json!("2026-11-23T18:04:11Z"),
            (_, Some(pattern)) => panic!("no request has {pattern}"),
            _ => {
                let word = *chance.of(&WORDS);
                let longest = schema["maxLength"].as_u64().unwrap_or(1_000) as usize;
                match chance.below(8) {
                    0 if schema["minLength"].is_null() => json!(""),
                    1 => json!("x".repeat(longest)),
                    _ => json!(word.chars().take(longest).collect::<String>()),
                }
            }
        }
    }
}

fn encoded(text: &str) -> String {
    text.bytes().map(|byte| format!("%{byte:02X}")).collect()
}

fn plain(value: &Value) -> String {
    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
}

/// A request for an operation.
struct Asked {
    path: String,
    headers: Vec<(String, String)>,
    mime: Option<String>,
    body: Vec<u8>,
    /// How it was spoiled, if it was.
    spoiled: Option<String>,
}

/// Spoils an object in one place.
fn spoil(document: &Document, schema: &Value, body: &mut Value, chance: &mut Chance) -> Option<String> {
    let schema = document.resolve(schema);
    let required: Vec<String> =
        schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str).map(str::to_owned).collect();
    let fields: Vec<String> = body.as_object()?.keys().cloned().collect();
    match chance.below(5) {
        0 => {
            body["no_such_field"] = json!(1);
            Some("a field that is not known".into())
        }
        1 => {
            *body = json!([body.clone()]);
            Some("a list instead of an object".into())
        }
        2 if !required.is_empty() => {
            let field = chance.of(&required);
            body.as_object_mut()?.remove(field);
            Some(format!("no {field}"))
        }
        3 if !fields.is_empty() => {
            let field = chance.of(&fields);
            body[field] = json!({ "of": ["another", "type"] });
            // A map takes what is said, but not of this type either.
            Some(format!("{field} of another type"))
        }
        _ => {
            let numbers: Vec<&String> = fields.iter().filter(|field| body[field.as_str()].is_u64()).collect();
            let field = (*numbers.get(chance.below(numbers.len().max(1)))?).clone();
            body[&field] = if chance.one_in(2) { json!(-1) } else { json!(1u64 << 60) };
            Some(format!("{field} out of range"))
        }
    }
}

fn request(document: &Document, path: &str, operation: &Value, chance: &mut Chance) -> Asked {
    let mut asked = Asked { path: path.to_owned(), headers: Vec::new(), mime: None, body: Vec::new(), spoiled: None };
    let wants_spoiled = chance.one_in(2);
    let mut query = Vec::new();
    for parameter in operation["parameters"].as_array().into_iter().flatten() {
        let parameter = document.resolve(parameter);
        let name = parameter["name"].as_str().unwrap();
        let required = parameter["required"] == true;
        if !required && !chance.one_in(3) {
            continue;
        }
        let value = match document.value(&parameter["schema"], name, chance) {
            Value::Null => continue,
            value => plain(&value),
        };
        match parameter["in"].as_str().unwrap() {
            "path" => {
                // A path with nothing in this place is another one.
                let value = if value.is_empty() { "1".into() } else { value };
                asked.path = asked.path.replace(&format!("{{{name}}}"), &encoded(&value));
            }
            "query" => query.push(format!("{name}={}", encoded(&value))),
            "header" if value.is_ascii() && !value.is_empty() => asked.headers.push((name.to_owned(), value)),
            _ => {}
        }
    }
    if let Some(content) = operation["requestBody"]["content"].as_object() {
        let (mime, told) = content.iter().next().unwrap();
        asked.mime = Some(mime.replace("image/*", "image/png"));
        if mime == "application/json" {
            let mut body = document.value(&told["schema"], "", chance);
            if wants_spoiled {
                asked.spoiled = spoil(document, &told["schema"], &mut body, chance);
            }
            asked.body = serde_json::to_vec(&body).unwrap();
        } else {
            asked.body = chance.of(&[&b""[..], b"Gel 201", b"\xff\x00", b"PK\x05\x06"]).to_vec();
        }
    }
    let takes_query = operation["parameters"].as_array().into_iter().flatten().any(|one| one["in"] == "query");
    if wants_spoiled && asked.spoiled.is_none() && takes_query {
        query.push("no_such_parameter=1".into());
        asked.spoiled = Some("a parameter that is not known".into());
    }
    if !query.is_empty() {
        asked.path = format!("{}?{}", asked.path, query.join("&"));
    }
    asked
}

async fn send(service: &Answering, method: &str, asked: &Asked) -> Response<Body> {
    let mut request = Request::builder().method(method.to_uppercase().as_str()).uri(&asked.path);
    request =
        request.header(header::HOST, "127.0.0.1:7436").header("authorization", format!("Bearer {}", service.token));
    for (name, value) in &asked.headers {
        request = request.header(name, value);
    }
    if let Some(mime) = &asked.mime {
        request = request.header(header::CONTENT_TYPE, mime);
    }
    service.router.clone().oneshot(request.body(Body::from(asked.body.clone())).unwrap()).await.unwrap()
}

/// Some of everything.
async fn fill(service: &Answering) {
    let json = Some("application/json".to_owned());
    let text = Some("text/plain".to_owned());
    let steps = [
        ("/clips?title=Cue", &text, "Gel 201"),
        ("/clips?alias=sig", &text, "Kit, stage manager"),
        ("/clips?pin=true", &text, "https://props.example/lamps"),
        ("/clips", &text, "{\"a\": 1}"),
        ("/drawers", &json, r#"{"name": "Venues"}"#),
        ("/drawers/Venues/put", &json, r#"{"clips": ["1"]}"#),
        ("/drawers/Venues/headings", &json, r#"{"words": "Act two"}"#),
        ("/tray/add", &json, r#"{"clips": ["1", "2"]}"#),
        ("/resume", &None, ""),
        ("/rules/reset", &json, r#"{"confirmed": true}"#),
    ];
    for (path, mime, body) in steps {
        let path = format!("{}{path}", yadori_api::BASE);
        let asked = Asked { path, headers: Vec::new(), mime: mime.clone(), body: body.into(), spoiled: None };
        send(service, "POST", &asked).await;
    }
}

/// What of an answer is not as the document says, or should not be.
async fn fault(
    document: &mut Document,
    operation: &Value,
    is_spoiled: bool,
    parts: Parts,
    body: Body,
) -> Option<String> {
    let status = parts.status.as_u16();
    let answer = &operation["responses"][status.to_string()];
    if answer.is_null() {
        return Some(format!("{status} is not in the document"));
    }
    let mime = parts.headers.get(header::CONTENT_TYPE).map(|mime| mime.to_str().unwrap().to_owned());
    let essence = mime.as_deref().map(|mime| mime.split(';').next().unwrap());
    if essence == Some("text/event-stream") {
        return None;
    }
    let body = to_bytes(body, 64 << 20).await.unwrap();
    let told = String::from_utf8_lossy(&body).into_owned();
    if status == 500 {
        return Some(told);
    }
    if is_spoiled && !(400..500).contains(&status) {
        return Some(format!("it was taken: {status} {told}"));
    }
    if !is_spoiled && told.contains("problem:bad-fields") {
        return Some(told);
    }
    let content = document.resolve(answer)["content"].clone();
    let named = essence.and_then(|mime| content.get(mime).or_else(|| content.get("*/*")));
    if named.is_none() && !(body.is_empty() && content.is_null()) {
        return Some(format!("{status} is answered as {mime:?}"));
    }
    // Content that is JSON is whatever it is, and of several lines each is one.
    let schema = named.map(|told| told["schema"].clone()).filter(|schema| schema["format"] != "binary")?;
    if !essence?.ends_with("json") || essence == Some("application/x-ndjson") {
        return None;
    }
    let value: Value = serde_json::from_slice(&body).unwrap();
    document.objection(&schema, &value).map(|objection| format!("{objection} in {value}"))
}

/// Asks for every second operation, from the first or the second one on: each half takes a processor of its own.
async fn ask_for_half(from: usize) {
    let service = Answering::new().await;
    let mut document = Document::new();
    let seed = std::env::var("SEED").ok().and_then(|seed| seed.parse().ok()).unwrap_or(1);
    let times = std::env::var("TIMES").ok().and_then(|times| times.parse().ok()).unwrap_or(TIMES);
    let paths = document.whole["paths"].as_object().unwrap().clone();
    let mut chance = Chance(seed);
    let mut answered: BTreeMap<u16, u32> = BTreeMap::new();
    let mut faults = Vec::new();
    let operations = paths.iter().flat_map(|(path, methods)| {
        methods.as_object().unwrap().iter().map(move |(method, operation)| (path, method, operation))
    });
    for (path, method, operation) in operations.skip(from).step_by(2) {
        fill(&service).await;
        for _ in 0..times {
            let asked = request(&document, path, operation, &mut chance);
            let told = format!(
                "{} {} {:?} {} ({:?})",
                method.to_uppercase(),
                asked.path,
                asked.headers,
                String::from_utf8_lossy(&asked.body),
                asked.spoiled
            );
            let (parts, body) = send(&service, method, &asked).await.into_parts();
            let status = parts.status.as_u16();
            *answered.entry(status).or_default() += 1;
            if let Some(fault) = fault(&mut document, operation, asked.spoiled.is_some(), parts, body).await {
                faults.push(format!("{told}: {fault}"));
            }
        }
    }
    assert!(faults.is_empty(), "{} faults:\n{}", faults.len(), faults[..faults.len().min(40)].join("\n"));
    let of = |range: std::ops::Range<u16>| answered.range(range).map(|(_, count)| count).sum::<u32>();
    // It would prove little if hardly anything was done.
    assert!(of(200..300) > of(400..500) / 4, "{answered:?}");
}

#[tokio::test]
async fn what_is_asked_by_the_document_is_answered_by_the_document() {
    ask_for_half(0).await;
}

#[tokio::test]
async fn what_else_is_asked_by_the_document_is_answered_by_the_document() {
    ask_for_half(1).await;
}

#[test]
fn examples_are_what_the_schemas_say() {
    let mut document = Document::new();
    let whole = document.whole.clone();
    let mut seen = 0;
    for methods in whole["paths"].as_object().unwrap().values() {
        for operation in methods.as_object().unwrap().values() {
            let id = &operation["operationId"];
            for part in ["summary", "description"] {
                assert!(operation[part].as_str().is_some_and(|words| words.len() > 3), "{id} has no {part}");
            }
            for parameter in operation["parameters"].as_array().into_iter().flatten() {
                let parameter = document.resolve(parameter).clone();
                let objection = document.objection(&parameter["schema"], &parameter["example"]);
                assert_eq!(objection, None, "{id}: {}", parameter["name"]);
                assert!(parameter["description"].is_string(), "{id}: {}", parameter["name"]);
            }
            let answers = operation["responses"].as_object().unwrap().values();
            for told in answers.chain([&operation["requestBody"]]) {
                let json = &document.resolve(told)["content"]["application/json"].clone();
                if json.is_null() {
                    continue;
                }
                seen += 1;
                assert!(!json["example"].is_null(), "{id}");
                assert_eq!(document.objection(&json["schema"], &json["example"]), None, "{id}");
            }
        }
    }
    assert!(seen > 100, "{seen}");
    for (name, schema) in whole["components"]["schemas"].as_object().unwrap() {
        assert!(schema["description"].is_string(), "{name}");
        for (field, schema) in schema["properties"].as_object().into_iter().flatten() {
            // What may be null is described beside that.
            let told = schema["oneOf"].as_array().into_iter().flatten().chain([schema]);
            assert!(told.into_iter().any(|schema| schema["description"].is_string()), "{name}.{field}");
        }
    }
}

#[tokio::test]
async fn examples_of_requests_are_understood() {
    let service = Answering::new().await;
    let document = Document::new();
    for (path, methods) in document.whole["paths"].as_object().unwrap() {
        for (method, operation) in methods.as_object().unwrap() {
            let json = &operation["requestBody"]["content"]["application/json"];
            // They would try to reach what is nowhere, or change what is not the test's.
            if json.is_null() || path.ends_with("/join") || path.ends_with("/log-in") {
                continue;
            }
            fill(&service).await;
            let mut asked = Asked {
                path: path
                    .replace("{name}", "1")
                    .replace("{drawer}", "Venues")
                    .replace("{action}", "picker")
                    .replace("{kind}", "key-file"),
                headers: Vec::new(),
                mime: Some("application/json".into()),
                body: json["example"].to_string().into_bytes(),
                spoiled: None,
            };
            asked.path = asked.path.replace("{application}", "Writer");
            let answer = send(&service, method, &asked).await;
            let status = answer.status().as_u16();
            let body = to_bytes(answer.into_body(), 1 << 20).await.unwrap();
            let told = String::from_utf8_lossy(&body).into_owned();
            // What it names may not be there, or in the way; but it is understood.
            assert!(
                matches!(status, 200..300 | 404 | 409 | 502),
                "{method} {path} {}: {status} {told}",
                json["example"]
            );
        }
    }
}
