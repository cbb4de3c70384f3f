//! The keys of kit.toml, baselines, cases and kind.toml: one list from which completions, JSON Schemas, the reference and the
//! usual order come. The readers are held against it by a test.

use serde_json::{Map, Value, json};

/// A key of a table of a document.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Its name.
    pub name: &'static str,
    /// The values that it takes.
    pub takes: Takes,
    /// What it means.
    pub note: &'static str,
    /// Whether the table must have it.
    pub is_required: bool,
}

/// The values that a key takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Takes {
    /// A text.
    Text,
    /// Lower-case letters, digits and `-`.
    Name,
    /// A list of texts.
    Texts,
    /// A list of addresses of clauses, or patterns of them.
    Addresses,
    /// `true` or `false`.
    Boolean,
    /// One of these words.
    Words(&'static [&'static str]),
    /// A number.
    Number,
    /// Any value.
    Any,
    /// A list of any values.
    Values,
    /// A table of texts.
    TextTable,
    /// Any table.
    Table,
    /// A condition in CEL.
    Condition,
    /// A duration, as `"30m"`.
    Duration,
    /// Names, each with the expression that it goes over.
    Loops,
    /// Whether the thing must not exist.
    Gone,
}

const fn key(name: &'static str, takes: Takes, note: &'static str) -> Key {
    Key { name, takes, note, is_required: false }
}

const fn required(name: &'static str, takes: Takes, note: &'static str) -> Key {
    Key { name, takes, note, is_required: true }
}

/// The severities, the lowest first.
pub const SEVERITY_WORDS: &[&str] = &["low", "medium", "high", "critical"];
const ON_DRIFT_WORDS: &[&str] = &["correct", "report"];
const ON_ROLLOUT_WORDS: &[&str] = &["apply", "wait"];
const REACTION_WORDS: &[&str] = &["restart", "reload", "run"];
const TYPE_WORDS: &[&str] = &["string", "integer", "number", "boolean", "list", "map", "secret"];
const ITEM_WORDS: &[&str] = &["string", "integer", "number", "boolean"];
const CUSTOM_TYPE_WORDS: &[&str] = &["string", "integer", "boolean", "list", "map"];

/// The keys of `[kit]` in kit.toml.
pub const KIT_KEYS: &[Key] = &[
    required("name", Takes::Name, "The kit's name, as its folder is called"),
    required("version", Takes::Text, "Its version: three numbers (SemVer)"),
    key("summary", Takes::Text, "What it is for, in one line"),
];

/// The keys of `[baseline]`.
pub const BASELINE_KEYS: &[Key] = &[
    required("name", Takes::Name, "The baseline's name"),
    key("summary", Takes::Text, "What it is for, in one line"),
    key("severity", Takes::Words(SEVERITY_WORDS), "The severity of clauses that say none"),
    key("satisfies", Takes::Texts, "Controls of your own catalogue"),
    key(
        "include",
        Takes::Texts,
        "Baselines of this kit, or KIT/BASELINE of a required one, that come before it",
    ),
    key("needs", Takes::Addresses, "What all its clauses need"),
    key("on_drift", Takes::Words(ON_DRIFT_WORDS), "What is done about drift"),
    key("on_rollout", Takes::Words(ON_ROLLOUT_WORDS), "What is done about what is newly wanted"),
    key("where", Takes::Condition, "A condition of all its clauses"),
];

/// The keys of a parameter, `[params.NAME]` of a baseline.
pub const PARAMETER_KEYS: &[Key] = &[
    required("type", Takes::Words(TYPE_WORDS), "What values it takes"),
    key("of", Takes::Words(ITEM_WORDS), "What a list or a map holds"),
    key("default", Takes::Any, "Its value where no layer gives one"),
    key("min", Takes::Number, "The smallest number"),
    key("max", Takes::Number, "The largest number"),
    key("one_of", Takes::Values, "The only values that it takes"),
    key("pattern", Takes::Text, "What a text must look like, whole: a regular expression"),
    key("note", Takes::Text, "What it means"),
];

/// The keys of every clause, whatever its kind.
pub const CLAUSE_KEYS: &[Key] = &[
    required("what", Takes::Text, "The address, kind:name. The name may be rendered, the kind not"),
    key("as", Takes::Text, "A second name to be referred to, where the system's own name varies"),
    key(
        "for",
        Takes::Loops,
        "Repeats the clause for each item of a list or a map; several names go over each other",
    ),
    key("needs", Takes::Addresses, "Handled after those, and corrected only if those are in line"),
    key("reacts_to", Takes::Addresses, "Reacts when one of those was corrected; implies order"),
    key("reaction", Takes::Words(REACTION_WORDS), "How it reacts, as its kind knows it"),
    key("topics", Takes::Texts, "Words to select a part of a run by"),
    key("severity", Takes::Words(SEVERITY_WORDS), "How much it matters; the baseline's if left out"),
    key("satisfies", Takes::Texts, "Controls, added to the baseline's"),
    key("on_drift", Takes::Words(ON_DRIFT_WORDS), "What is done about drift"),
    key("on_rollout", Takes::Words(ON_ROLLOUT_WORDS), "What is done about what is newly wanted"),
    key("grace", Takes::Duration, "How long its drift is left as it is; only lengthens the node's"),
    key("where", Takes::Condition, "It counts only on nodes for which this holds"),
    key(
        "gone",
        Takes::Gone,
        "It must not exist; with a template it has the properties of what must, and they count then",
    ),
    key("conceal", Takes::Boolean, "Its values are never shown, stored in reports or compared as text"),
    key("literal", Takes::Boolean, "Nothing in it is rendered"),
    key("via", Takes::Text, "The backend to use instead of the one that the node has"),
    key("note", Takes::Text, "What a person wants to say of it"),
];

/// The keys of `[case]`.
pub const CASE_KEYS: &[Key] = &[
    key("summary", Takes::Text, "What it shows"),
    required("baselines", Takes::Texts, "The baselines that the node is given, in order"),
    key("only_these", Takes::Boolean, "Whether no further clauses may come out"),
    key("finding", Takes::Text, "The code of the finding that must come out instead of clauses"),
];

/// The keys of `[node]` in a case.
pub const CASE_NODE_KEYS: &[Key] = &[
    key("name", Takes::Text, "The node's name"),
    key("labels", Takes::TextTable, "Its labels"),
    key("about", Takes::Table, "What the node reports about itself; defaults where nothing is said"),
];

/// The keys of `[[expect]]` in a case, beside properties of the clause.
pub const EXPECT_KEYS: &[Key] = &[
    required("what", Takes::Text, "The clause that must come out"),
    key("absent", Takes::Boolean, "It must not come out"),
    key("after", Takes::Texts, "Clauses that it must come after"),
];

/// The keys of `[kind]` in kind.toml.
pub const KIND_KEYS: &[Key] = &[
    key("summary", Takes::Text, "What it is for, in one line"),
    required("program", Takes::Text, "The program in the kind's folder that examines and corrects"),
    key("claim", Takes::Texts, "The properties that tell one thing from another"),
    key("can_be_gone", Takes::Boolean, "Whether its things can be wanted gone"),
    key("correctable", Takes::Boolean, "Whether its program corrects, or only examines"),
    key("timeout", Takes::Duration, "How long its program may take"),
    key("docs", Takes::Text, "What a person should know of it"),
    key("example", Takes::Text, "The shortest useful clause"),
];

/// The keys of `[properties.NAME]` in kind.toml.
pub const KIND_PROPERTY_KEYS: &[Key] = &[
    required("type", Takes::Words(CUSTOM_TYPE_WORDS), "What values it takes"),
    key("one_of", Takes::Texts, "The words that it takes"),
    key("required", Takes::Boolean, "Whether a clause that is not gone must have it"),
    key("concealed", Takes::Boolean, "Whether its value is never shown"),
    key("manner", Takes::Boolean, "Whether it only says how to get there, and is not compared"),
    key("note", Takes::Text, "What it means"),
];

/// Returns the names of keys.
pub fn names<'k>(keys: &'static [Key]) -> impl Iterator<Item = &'k str> + Clone {
    keys.iter().map(|key| key.name)
}

/// Returns the keys of the table under a header, as `params.idle`; none of a table that this version does not know.
pub fn of_header(header: &str) -> &'static [Key] {
    match header {
        "kit" => KIT_KEYS,
        "baseline" => BASELINE_KEYS,
        "clause" => CLAUSE_KEYS,
        "case" => CASE_KEYS,
        "node" => CASE_NODE_KEYS,
        "expect" => EXPECT_KEYS,
        "kind" => KIND_KEYS,
        header if header.starts_with("params.") => PARAMETER_KEYS,
        header if header.starts_with("properties.") => KIND_PROPERTY_KEYS,
        _ => &[],
    }
}

impl Takes {
    /// Returns the values in words.
    pub fn words(self) -> String {
        match self {
            Self::Text => "text".to_owned(),
            Self::Name => "lower-case letters, digits and -".to_owned(),
            Self::Texts => "list of texts".to_owned(),
            Self::Addresses => "list of addresses or patterns".to_owned(),
            Self::Boolean => "true or false".to_owned(),
            Self::Words(words) => words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", "),
            Self::Number => "number".to_owned(),
            Self::Any => "any value".to_owned(),
            Self::Values => "list of values".to_owned(),
            Self::TextTable => "table of texts".to_owned(),
            Self::Table => "table".to_owned(),
            Self::Condition => "condition in CEL".to_owned(),
            Self::Duration => "duration".to_owned(),
            Self::Loops => "map of a name and an expression".to_owned(),
            Self::Gone => "true, false, or a template of one, as \"{{ params.spare }}\"; for a package also \"with_settings\"".to_owned(),
        }
    }

    /// Returns the JSON Schema of the values.
    pub fn schema(self) -> Value {
        match self {
            Self::Text | Self::Condition | Self::Duration => json!({ "type": "string" }),
            Self::Name => json!({ "type": "string", "pattern": "^[a-z][a-z0-9-]{0,63}$" }),
            Self::Texts | Self::Addresses => json!({ "type": "array", "items": { "type": "string" } }),
            Self::Boolean => json!({ "type": "boolean" }),
            Self::Words(words) => json!({ "enum": words }),
            Self::Number => json!({ "type": "number" }),
            Self::Any => json!({}),
            Self::Values => json!({ "type": "array" }),
            Self::TextTable | Self::Loops => {
                json!({ "type": "object", "additionalProperties": { "type": "string" } })
            }
            Self::Table => json!({ "type": "object" }),
            Self::Gone => {
                json!({ "anyOf": [{ "enum": [true, false, "with_settings"] }, { "type": "string", "pattern": "\\{\\{" }] })
            }
        }
    }
}

/// Returns the JSON Schemas of keys, by name.
pub fn schemas(keys: &[Key]) -> Map<String, Value> {
    let schema = |key: &Key| {
        let mut schema = key.takes.schema();
        schema["description"] = key.note.into();
        (key.name.to_owned(), schema)
    };
    keys.iter().map(schema).collect()
}

/// Returns the JSON Schema of a table that has these keys and no other.
pub fn table_schema(keys: &[Key]) -> Value {
    let required: Vec<&str> = keys.iter().filter(|key| key.is_required).map(|key| key.name).collect();
    let mut schema = json!({ "type": "object", "additionalProperties": false, "properties": schemas(keys) });
    if !required.is_empty() {
        schema["required"] = json!(required);
    }
    schema
}
