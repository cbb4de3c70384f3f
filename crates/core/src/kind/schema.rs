//! JSON Schemas of kit.toml, of baselines and of cases, made from the table of kinds: editors complete and check by them.

use super::one::Kind;
use super::property::{Property, ValueType};
use super::table::KINDS;
use crate::document::keys::{
    BASELINE_KEYS, CASE_KEYS, CASE_NODE_KEYS, CLAUSE_KEYS, EXPECT_KEYS, KIT_KEYS, PARAMETER_KEYS, schemas,
    table_schema,
};
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
            "kit": table_schema(KIT_KEYS),
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
            "baseline": table_schema(BASELINE_KEYS),
            "params": { "type": "object", "additionalProperties": table_schema(PARAMETER_KEYS) },
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
            "case": table_schema(CASE_KEYS),
            "node": table_schema(CASE_NODE_KEYS),
            "params": { "type": "object", "description": "Parameters by KIT/BASELINE.PARAM, or by PARAM if there is one baseline" },
            "expect": {
                "type": "array",
                "items": { "type": "object", "required": ["what"], "properties": schemas(EXPECT_KEYS) }
            }
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
    let every: Vec<Value> = KINDS.iter().map(of_kind).collect();
    let kinds: Vec<&str> = KINDS.iter().map(Kind::name).collect();
    json!({
        "type": "object",
        "required": ["what"],
        "properties": { "what": { "type": "string", "description": "kind:name", "pattern": format!("^({}|[a-z][a-z0-9-]*/[a-z][a-z0-9_]*):.+", kinds.join("|")) } },
        "allOf": every,
    })
}

fn of_kind(kind: &Kind) -> Value {
    let mut properties: Map<String, Value> = common(kind);
    for property in kind.properties() {
        properties.insert(property.name.to_owned(), or_rendered(of_property(property)));
    }
    json!({
        "if": { "properties": { "what": { "pattern": format!("^{}:", kind.name()) } }, "required": ["what"] },
        "then": { "description": kind.purpose(), "additionalProperties": false, "properties": properties }
    })
}

fn common(kind: &Kind) -> Map<String, Value> {
    let mut common = schemas(CLAUSE_KEYS);
    let names = format!("{}:NAME. {}. Names are {}", kind.name(), kind.purpose(), kind.naming().words());
    common["what"]["description"] = names.into();
    let reactions: Vec<&str> = kind.reactions().iter().map(|reaction| reaction.word()).collect();
    if reactions.is_empty() {
        common.remove("reaction");
    } else {
        common["reaction"]["enum"] = json!(reactions);
    }
    if !kind.can_be_gone() {
        common.remove("gone");
    }
    common
}

fn of_property(property: Property<'_>) -> Value {
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
        ValueType::Word(words) => json!({ "enum": words.iter().collect::<Vec<_>>() }),
        ValueType::Any => json!({}),
        ValueType::Text | ValueType::SysctlValue => json!({ "type": ["string", "number", "boolean"] }),
        _ => json!({ "type": "string" }),
    };
    schema["description"] = json!(format!("{} ({})", property.note, property.value.words()));
    schema
}
