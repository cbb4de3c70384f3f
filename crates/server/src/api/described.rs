//! What is described alike of every operation: how each may be refused and by which problem types, and how names are written.

use crate::problem::{LONGEST_NAME, LONGEST_VALUE};
use crate::trust::LONGEST_REQUEST_KEY;
use serde_json::{Map, Value, json};

/// What an operation is like, as far as its refusals depend on it.
struct Shape {
    /// Whether it asks who calls.
    asks_who: bool,
    /// Whether its address or its query names something.
    names: bool,
    /// Whether it has a body.
    has_body: bool,
    /// Whether it changes something.
    changes: bool,
    /// Whether it is about signing in.
    signs_in: bool,
}

/// A status, the problem types that it comes with, and which operations answer so.
type Refusal = (&'static str, &'static str, fn(&Shape) -> bool);

const REFUSALS: [Refusal; 14] = [
    ("400", "`not_understood`: the body is not JSON, or the address is invalid", |_| true),
    ("401", "`unknown_caller`, `not_signed_in`; signing in: `wrong_password`", |shape| {
        shape.asks_who || shape.signs_in
    }),
    ("403", "`not_allowed`, `not_our_page`, `revoked`, `retired`, `link_over`, `not_by_the_door`", |_| true),
    ("404", "`missing`: there is nothing of this name", |shape| shape.names || shape.changes),
    ("408", "`too_slow`, `cut_off`: the body did not arrive completely", |shape| shape.has_body),
    (
        "409",
        "`conflict`: not possible in the present state; the hint says what to do. `unconfirmed`: the change waits for confirmation",
        |shape| shape.changes,
    ),
    ("413", "`too_large`: a limit is exceeded", |shape| shape.has_body),
    ("414", "The address is too long", |shape| shape.names),
    ("421", "`not_this_server`: unknown host name", |_| true),
    ("422", "`not_understood`, `invalid`, `filter`, `findings`: a value is invalid", |shape| {
        shape.names || shape.has_body
    }),
    ("429", "`too_often`: the hint says when to retry", |shape| shape.signs_in),
    (
        "500",
        "`stored`, `failed`, `broke_off`, `certificate`, `protected_folder`, `randomness`: a fault of the server; its log says more",
        |_| true,
    ),
    ("431", "Address and header fields are too long", |_| true),
    ("503", "`busy`, `database`, `not_passed_on`: try again after `Retry-After` seconds", |_| true),
];

/// The statuses of requests that are refused before they are read, without a body.
const UNREAD: [&str; 2] = ["414", "431"];

const TAGS: [(&str, &str); 19] = [
    ("agents", "Requests of agents, on their listener"),
    ("changes", "Changes of desired state"),
    ("freezes", "Brakes: what nodes do not correct until an hour"),
    ("rollouts", "Changes that reach their nodes in waves, begun, followed, halted, turned back"),
    ("sweeps", "Runs at once over chosen nodes, looked at first, followed, stopped, compared"),
    ("clauses", "Clauses of nodes"),
    ("compliance", "Compliance of the fleet, of any moment"),
    (
        "controls",
        "The catalogue of controls, how far the fleet meets it, its gaps, and machines that never joined",
    ),
    ("drift", "Drift over the fleet: how often, how long, how it ended, and where"),
    ("concessions", "Approved deviations: for what, where, why, by whom, until when"),
    ("evidence", "Signed files that prove compliance as of any moment to somebody without access"),
    ("overview", "The fleet as a whole"),
    ("groups", "Groups: nodes, assignments, parameters, settings"),
    ("joining", "Invitations, joining requests and admission rules"),
    ("kits", "Kits and releases"),
    ("nodes", "The nodes"),
    ("people", "Persons, their roles and tokens, and signing in"),
    ("runs", "Runs and drift"),
    ("server", "The server itself"),
];

/// How what is named in addresses and queries is written, by its name.
fn written(name: &str, is_path: bool) -> Value {
    match name {
        "after" => json!({ "maxLength": LONGEST_NAME }),
        _ if is_path => json!({ "minLength": 1, "maxLength": LONGEST_NAME }),
        _ => json!({ "maxLength": LONGEST_VALUE }),
    }
}

/// Completes the document that was made from the handlers.
pub fn complete(document: &mut Value) {
    document["info"]["license"] = json!({ "name": "Not released" });
    document["servers"] = json!([
        { "url": "https://hub.skerry.example:7444", "description": "The listener for people and programs" },
        { "url": "https://hub.skerry.example:7443", "description": "The listener for agents" },
    ]);
    if let Some(paths) = document["paths"].as_object_mut() {
        for (path, methods) in paths {
            for (method, operation) in methods.as_object_mut().into_iter().flatten() {
                complete_operation(path, method, operation);
            }
        }
    }
    let used: Vec<&str> = document["paths"]
        .as_object()
        .into_iter()
        .flat_map(Map::values)
        .filter_map(Value::as_object)
        .flat_map(Map::values)
        .filter_map(|operation| operation["tags"][0].as_str())
        .collect();
    document["tags"] = TAGS
        .iter()
        .filter(|(tag, _)| used.contains(tag))
        .map(|(name, what)| json!({ "name": name, "description": what }))
        .collect();
    say_exactly(document);
}

fn complete_operation(path: &str, method: &str, operation: &mut Value) {
    let words: Vec<&str> = path.split(['/', '{', '}', '.', '-']).filter(|word| !word.is_empty()).collect();
    operation["operationId"] = format!("{method}_{}", words.join("_")).into();
    if operation["description"].as_str().is_none_or(str::is_empty) {
        operation["description"] = operation["summary"].clone();
    }
    for parameter in operation.get_mut("parameters").and_then(Value::as_array_mut).into_iter().flatten() {
        let rules = written(parameter["name"].as_str().unwrap_or_default(), parameter["in"] == "path");
        let is_plain = parameter["schema"]["type"] == "string" && parameter["schema"]["format"].is_null();
        if let (true, Some(schema), Value::Object(rules)) =
            (is_plain, parameter["schema"].as_object_mut(), rules)
        {
            schema.extend(rules);
        }
    }
    let makes_a_change = operation["responses"]["200"]["content"]["application/json"]["schema"]["$ref"]
        .as_str()
        .is_some_and(|schema| schema.ends_with("/Changed"));
    // Who confirms or approves a change names it: that is repeated without harm.
    if makes_a_change && !path.ends_with("/confirm") && !path.ends_with("/approve") {
        let key = json!({
            "name": "Idempotency-Key", "in": "header", "required": false,
            "description": "A key that the caller chooses: the same request repeated with it makes no second change and has the same answer",
            "schema": { "type": "string", "minLength": 1, "maxLength": LONGEST_REQUEST_KEY, "pattern": "^[!-~]+$" },
        });
        match operation["parameters"].as_array_mut() {
            Some(parameters) => parameters.push(key),
            None => operation["parameters"] = json!([key]),
        }
    }
    let shape = Shape {
        asks_who: operation["security"]
            .as_array()
            .is_some_and(|ways| ways.iter().any(|way| way.as_object().is_some_and(|way| !way.is_empty()))),
        names: operation["parameters"].as_array().is_some_and(|parameters| !parameters.is_empty()),
        has_body: operation["requestBody"].is_object(),
        changes: method != "get",
        signs_in: path.starts_with("/api/sign-in") || path.starts_with("/api/welcome"),
    };
    let takes = |name: &str| {
        let parameters = operation["parameters"].as_array();
        parameters.is_some_and(|parameters| parameters.iter().any(|parameter| parameter["name"] == name))
    };
    let is_paged_list = takes("after")
        && takes("size")
        && operation["responses"]["200"]["content"]["application/json"]["schema"]["type"] == "array";
    if is_paged_list {
        operation["responses"]["200"]["headers"]["Link"] = json!({
            "description": "The address of the next page with `rel=\"next\"` (RFC 8288); not sent with the last page",
            "schema": { "type": "string" },
        });
    }
    let Some(responses) = operation.get_mut("responses").and_then(Value::as_object_mut) else { return };
    for response in responses.values_mut() {
        // A text or a number is sent as JSON too, but for what probes ask.
        let plain =
            response.get_mut("content").and_then(Value::as_object_mut).filter(|_| path.starts_with("/api"));
        if let Some((content, text)) =
            plain.and_then(|content| content.remove("text/plain").map(|text| (content, text)))
        {
            content.insert("application/json".to_owned(), text);
        }
        if response["description"].as_str().is_none_or(str::is_empty) {
            response["description"] = "As asked".into();
        }
    }
    for (status, kinds, _) in REFUSALS.iter().filter(|(_, _, answers_so)| answers_so(&shape)) {
        let content =
            json!({ "application/problem+json": { "schema": { "$ref": "#/components/schemas/Problem" } } });
        let answer = if UNREAD.contains(status) {
            json!({ "description": kinds })
        } else {
            json!({ "description": kinds, "content": content })
        };
        responses.entry(*status).or_insert(answer);
    }
}

/// Says of pairs and numbers exactly what is read, in words that older readers of schemas know too: a pair is an array of two.
fn say_exactly(value: &mut Value) {
    match value {
        Value::Object(fields) => {
            if let (Some(Value::Array(items)), Some(Value::Bool(false))) =
                (fields.get("prefixItems"), fields.get("items"))
            {
                let count = items.len();
                let mut kinds = items.clone();
                kinds.dedup();
                let any = match kinds.as_slice() {
                    [only] => {
                        let only = only.clone();
                        fields.remove("prefixItems");
                        only
                    }
                    _ => json!({ "anyOf": kinds }),
                };
                fields.insert("items".to_owned(), any);
                fields.insert("minItems".to_owned(), count.into());
                fields.insert("maxItems".to_owned(), count.into());
            }
            // Numbers without a sign are larger than the formats that there are words for.
            let largest = match fields
                .get("format")
                .and_then(Value::as_str)
                .filter(|_| fields.get("minimum") == Some(&json!(0)))
            {
                Some("int64") => Some(u64::MAX),
                Some("int32") => Some(u64::from(u32::MAX)),
                _ => None,
            };
            if let Some(largest) = largest {
                fields.remove("format");
                fields.insert("maximum".to_owned(), largest.into());
            }
            fields.values_mut().for_each(say_exactly);
        }
        Value::Array(items) => items.iter_mut().for_each(say_exactly),
        _ => {}
    }
}
