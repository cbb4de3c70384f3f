//! JSON Schemas of kit.toml, of baselines and of cases, made from the table of kinds: editors complete and check by them.

use super::property::{Kind, Property, ValueType};
use super::table::KINDS;
use serde_json::{Map, Value, json};

const DRAFT: &str = "https://json-schema.org/draft/2020-12/schema";

/// Returns the schema of kit.toml.
pub fn manifest_schema() -> Value {
    json!({
        "$schema": DRAFT,
        "title": "kit.toml",
        "type": "object",
        "required": ["kit"],
        "additionalProperties": false,
        "properties": {
            "kit": {
                "type": "object",
                "required": ["name", "version"],
                "additionalProperties": false,
                "properties": {
                    "name": name("The kit's name, as its folder is called"),
                    "version": text("Its version: three numbers (SemVer)"),
                    "summary": text("What it is for, in one line"),
                }
            },
            "requires": { "type": "object", "description": "Kits that it requires, with the releases that will do (SemVer)", "additionalProperties": { "type": "string" } },
        }
    })
}

/// Returns the schema of a baseline document.
pub fn baseline_schema() -> Value {
    json!({
        "$schema": DRAFT,
        "title": "A baseline",
        "type": "object",
        "required": ["baseline"],
        "additionalProperties": false,
        "properties": {
            "baseline": {
                "type": "object",
                "required": ["name"],
                "additionalProperties": false,
                "properties": {
                    "name": name("The baseline's name"),
                    "summary": text("What it is for, in one line"),
                    "severity": severity(),
                    "satisfies": texts("Controls of your own catalogue"),
                    "include": texts("Baselines of this kit, or KIT/BASELINE of a required one, that come before it"),
                    "needs": texts("What all its clauses need: addresses or patterns of them"),
                    "on_drift": on_drift(),
                    "on_rollout": on_rollout(),
                    "where": text("A condition of all its clauses, in CEL"),
                }
            },
            "params": { "type": "object", "additionalProperties": parameter() },
            "clause": { "type": "array", "items": clause() },
        }
    })
}

/// Returns the schema of a case.
pub fn case_schema() -> Value {
    json!({
        "$schema": DRAFT,
        "title": "A case",
        "type": "object",
        "required": ["case"],
        "additionalProperties": false,
        "properties": {
            "case": {
                "type": "object",
                "required": ["baselines"],
                "additionalProperties": false,
                "properties": {
                    "summary": text("What it shows"),
                    "baselines": texts("The baselines that the node is given, in order"),
                    "only_these": { "type": "boolean", "description": "Whether no further clauses may come out" },
                    "finding": text("The code of the finding that must come out instead of clauses"),
                }
            },
            "node": {
                "type": "object",
                "additionalProperties": false,
                "properties": {
                    "name": text("The node's name"),
                    "labels": { "type": "object", "additionalProperties": { "type": "string" } },
                    "about": { "type": "object", "description": "What the node found out about itself; a usual node's where nothing is said" },
                }
            },
            "params": { "type": "object", "description": "Parameters by KIT/BASELINE.PARAM, or by PARAM if there is one baseline" },
            "expect": {
                "type": "array",
                "items": {
                    "type": "object",
                    "required": ["what"],
                    "properties": {
                        "what": text("The clause that must come out"),
                        "absent": { "type": "boolean", "description": "It must not come out" },
                        "after": texts("Clauses that it must come after"),
                    }
                }
            }
        }
    })
}

fn text(description: &str) -> Value {
    json!({ "type": "string", "description": description })
}

fn name(description: &str) -> Value {
    json!({ "type": "string", "description": description, "pattern": "^[a-z][a-z0-9-]{0,63}$" })
}

fn texts(description: &str) -> Value {
    json!({ "type": "array", "description": description, "items": { "type": "string" } })
}

fn word(description: &str, words: &[&str]) -> Value {
    json!({ "enum": words, "description": description })
}

fn severity() -> Value {
    word("How much it matters", &["low", "medium", "high", "critical"])
}

fn on_drift() -> Value {
    word("What is done about drift", &["correct", "report"])
}

fn on_rollout() -> Value {
    word("What is done about what is newly wanted", &["apply", "wait"])
}

fn parameter() -> Value {
    json!({
        "type": "object",
        "required": ["type"],
        "additionalProperties": false,
        "properties": {
            "type": word("What values it takes", &["string", "integer", "number", "boolean", "list", "map", "secret"]),
            "of": word("What a list or a map holds", &["string", "integer", "number", "boolean"]),
            "default": { "description": "Its value where no layer gives one" },
            "min": { "type": "number", "description": "The smallest number" },
            "max": { "type": "number", "description": "The largest number" },
            "one_of": { "type": "array", "description": "The only values that it takes" },
            "pattern": text("What a text must look like, whole: a regular expression"),
            "note": text("What it means"),
        }
    })
}

/// Any value may be rendered: then it is a text with `{{ … }}`.
fn or_rendered(mut schema: Value) -> Value {
    if schema.get("type") == Some(&json!("string")) {
        return schema;
    }
    let description = schema.as_object_mut().and_then(|schema| schema.remove("description"));
    json!({ "description": description, "anyOf": [schema, { "type": "string", "pattern": r"\{\{" }] })
}

fn clause() -> Value {
    let every: Vec<Value> = KINDS.iter().map(|kind| of_kind(kind)).collect();
    let kinds: Vec<&str> = KINDS.iter().map(|kind| kind.name).collect();
    json!({
        "type": "object",
        "required": ["what"],
        "properties": { "what": { "type": "string", "description": "kind:name", "pattern": format!("^({}|[a-z][a-z0-9-]*/[a-z][a-z0-9_]*):.+", kinds.join("|")) } },
        "allOf": every,
    })
}

fn of_kind(kind: &Kind) -> Value {
    let mut properties: Map<String, Value> = common(kind);
    for property in kind.properties {
        properties.insert(property.name.to_owned(), or_rendered(of_property(property)));
    }
    json!({
        "if": { "properties": { "what": { "pattern": format!("^{}:", kind.name) } }, "required": ["what"] },
        "then": { "description": kind.purpose, "additionalProperties": false, "properties": properties }
    })
}

fn common(kind: &Kind) -> Map<String, Value> {
    let reactions: Vec<&str> = kind.reactions.iter().map(|reaction| reaction.word()).collect();
    let common = json!({
        "what": { "type": "string", "description": format!("{}:NAME. {}. Names are {}", kind.name, kind.purpose, kind.naming.words()) },
        "as": text("A second name to be referred to, as kind:name"),
        "for": { "type": "object", "description": "Repeats the clause: a name, and a CEL expression for the list or map that it goes over", "additionalProperties": { "type": "string" } },
        "needs": texts("What must be in line before it is corrected: addresses or patterns of them"),
        "reacts_to": texts("It reacts when one of these was corrected: addresses or patterns of them"),
        "reaction": { "enum": reactions, "description": "How it reacts" },
        "topics": texts("Words to select a part of a run by"),
        "severity": severity(),
        "satisfies": texts("Controls beside the baseline's"),
        "on_drift": on_drift(),
        "on_rollout": on_rollout(),
        "grace": text("How long its drift is left as it is, as \"30m\""),
        "where": text("A condition in CEL over labels, about, params and node.name"),
        "gone": { "anyOf": [{ "enum": [true, false, "with_settings"] }, { "type": "string", "pattern": "\\{\\{" }], "description": "Whether it must not exist" },
        "conceal": { "type": "boolean", "description": "Whether its values are never shown" },
        "literal": { "type": "boolean", "description": "Whether nothing in it is rendered" },
        "via": text("The backend to use, as \"apt\""),
        "note": text("What a person wants to say of it"),
    });
    let Value::Object(mut common) = common else { return Map::new() };
    if reactions.is_empty() {
        common.remove("reaction");
    }
    if !kind.can_be_gone {
        common.remove("gone");
    }
    common
}

fn of_property(property: &Property) -> Value {
    let mut schema = match property.value {
        ValueType::Boolean => json!({ "type": "boolean" }),
        ValueType::Id => json!({ "type": "integer", "minimum": 0, "maximum": 4_294_967_294_u64 }),
        ValueType::Port => json!({ "type": "integer", "minimum": 1, "maximum": 65_535 }),
        ValueType::Mebibytes => json!({ "type": "integer", "minimum": 1, "maximum": 1_024 }),
        ValueType::Permissions => json!({ "type": "string", "pattern": "^[0-7]{3,4}$|\\{\\{" }),
        ValueType::TextSet | ValueType::TextList | ValueType::Argv => {
            json!({ "type": "array", "items": { "type": ["string", "number", "boolean"] } })
        }
        ValueType::Condition => json!({ "type": ["string", "array"] }),
        ValueType::TextMap => json!({ "type": "object" }),
        ValueType::Expectation => {
            json!({ "type": "object", "properties": { "exit": { "type": "integer" }, "stdout": { "type": "string" } }, "additionalProperties": false })
        }
        ValueType::Word(words) => json!({ "enum": words }),
        ValueType::Any => json!({}),
        ValueType::Text | ValueType::SysctlValue => json!({ "type": ["string", "number", "boolean"] }),
        _ => json!({ "type": "string" }),
    };
    schema["description"] = json!(format!("{} ({})", property.note, property.value.words()));
    schema
}
