//! JSON (RFC 8259) laid out or packed. Only white space between tokens changes: numbers keep their digits, members
//! their order, strings their escapes.

use super::ReshapeError;
use serde::de::IgnoredAny;

/// One member or element on a line, two spaces for each level.
pub fn laid_out(text: &str) -> Result<String, ReshapeError> {
    check(text)?;
    let mut result = String::with_capacity(text.len() * 2);
    let mut depth = 0;
    let tokens: Vec<&str> = tokens(text).collect();
    for (place, token) in tokens.iter().enumerate() {
        let next = tokens.get(place + 1).copied().unwrap_or_default();
        match *token {
            "{" | "[" => {
                result.push_str(token);
                if next != "}" && next != "]" {
                    depth += 1;
                    line(&mut result, depth);
                }
            }
            "}" | "]" => result.push_str(token),
            "," => {
                result.push(',');
                line(&mut result, depth);
            }
            ":" => result.push_str(": "),
            other => result.push_str(other),
        }
        if matches!(next, "}" | "]") && !matches!(*token, "{" | "[") {
            depth -= 1;
            line(&mut result, depth);
        }
    }
    Ok(result)
}

/// No white space between tokens.
pub fn packed(text: &str) -> Result<String, ReshapeError> {
    check(text)?;
    Ok(tokens(text).collect())
}

fn line(result: &mut String, depth: usize) {
    result.push('\n');
    (0..depth).for_each(|_| result.push_str("  "));
}

fn check(text: &str) -> Result<(), ReshapeError> {
    serde_json::from_str::<IgnoredAny>(text).map(drop).map_err(|error| ReshapeError::NotJson(error.to_string()))
}

/// The tokens of a text that is JSON.
fn tokens(text: &str) -> impl Iterator<Item = &str> {
    let mut rest = text;
    std::iter::from_fn(move || {
        rest = rest.trim_start_matches([' ', '\t', '\n', '\r']);
        let first = rest.chars().next()?;
        let end = match first {
            '{' | '}' | '[' | ']' | ',' | ':' => 1,
            '"' => {
                let mut escaped = false;
                let closing = rest[1..].find(|c| {
                    let closes = c == '"' && !escaped;
                    escaped = c == '\\' && !escaped;
                    closes
                });
                closing.map_or(rest.len(), |closing| closing + 2)
            }
            _ => rest.find(|c: char| " \t\n\r{}[],:\"".contains(c)).unwrap_or(rest.len()),
        };
        let (token, after) = rest.split_at(end);
        rest = after;
        Some(token)
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn nothing_but_white_space_changes() {
        let text = r#" {"b": 1.50e3, "a":[ ], "a":[1, {"x\"y": null}], "e":{}} "#;
        assert_eq!(packed(text).unwrap(), r#"{"b":1.50e3,"a":[],"a":[1,{"x\"y":null}],"e":{}}"#);
        let laid = "{\n  \"b\": 1.50e3,\n  \"a\": [],\n  \"a\": [\n    1,\n    {\n      \"x\\\"y\": null\n    }\n  ],\n  \"e\": {}\n}";
        assert_eq!(laid_out(text).unwrap(), laid);
        assert!(laid_out("{a:1}").is_err());
        assert!(laid_out(&"[".repeat(10_000)).is_err());
    }

    proptest! {
        #[test]
        fn packing_undoes_laying_out(numbers in prop::collection::vec(any::<i32>(), 0..6), word in "[a-z\\\\\" {}:,]{0,8}") {
            let text = serde_json::json!({ "n": numbers, &word: [word.clone(), null_of(&word)] }).to_string();
            prop_assert_eq!(packed(&laid_out(&text).unwrap()).unwrap(), text);
        }
    }

    fn null_of(_: &str) -> serde_json::Value {
        serde_json::Value::Null
    }
}
