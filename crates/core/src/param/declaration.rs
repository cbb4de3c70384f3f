//! What a baseline says of its parameters.

use crate::document::keys::PARAMETER_KEYS;
use crate::document::{Code, Element, ElementValue, Finding, Located, Place};
use crate::document::{Fields, wrong_type};
use crate::nearest::nearest_word;
use regex::{Regex, RegexBuilder};
use serde_json::{Value, json};

/// The largest compiled pattern, in bytes.
const MAX_PATTERN: usize = 256 * 1024;

/// A declared parameter.
#[derive(Debug, Clone)]
pub struct Parameter {
    /// Its name, with its place.
    pub name: Located<String>,
    /// What values it takes.
    pub value_type: ParameterType,
    /// Its default.
    pub default: Option<Located<Value>>,
    /// What it asks of values; of the items of a list or a map.
    pub limits: Limits,
    /// What it means.
    pub note: Option<String>,
}

/// What a parameter asks of its values beyond their type.
#[derive(Debug, Clone, Default)]
pub struct Limits {
    /// The smallest number.
    pub min: Option<f64>,
    /// The largest number.
    pub max: Option<f64>,
    /// The only values that it takes, if they are listed.
    pub one_of: Vec<Value>,
    /// What a text must look like, whole: a regular expression.
    pub pattern: Option<Pattern>,
}

/// A regular expression that a whole text must fit.
#[derive(Debug, Clone)]
pub struct Pattern {
    pub(super) source: String,
    pub(super) whole: Regex,
}

/// The type of a parameter.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the words say it")]
pub enum ParameterType {
    String,
    Integer,
    Number,
    Boolean,
    List(Option<ItemType>),
    Map(Option<ItemType>),
    Secret,
}

/// The type of the items of a list or a map.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
#[expect(missing_docs, reason = "the words say it")]
pub enum ItemType {
    String,
    Integer,
    Number,
    Boolean,
}

impl Parameter {
    /// Returns the declaration as a document has it, for comparing.
    pub(crate) fn written(&self) -> Value {
        let limits = &self.limits;
        let mut written = json!({ "type": format!("{:?}", self.value_type).to_lowercase() });
        let mut set = |name: &str, value: Option<Value>| {
            if let Some(value) = value {
                written[name] = value;
            }
        };
        set("default", self.default.as_ref().map(|default| default.value.clone()));
        set("min", limits.min.map(Value::from));
        set("max", limits.max.map(Value::from));
        set("one_of", (!limits.one_of.is_empty()).then(|| json!(limits.one_of)));
        set("pattern", limits.pattern.as_ref().map(|pattern| json!(pattern.source)));
        set("note", self.note.as_ref().map(|note| json!(note)));
        written
    }
}

/// A secret by name and version, `ops-password@3`: never its value.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct SecretName {
    /// Its name.
    pub name: String,
    /// Its version, from 1.
    pub version: u32,
}

impl SecretName {
    /// Reads `name@version`; `None` if the text is something else.
    pub fn parse(text: &str) -> Option<Self> {
        let (name, version) = text.split_once('@')?;
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        let version = version.parse().ok().filter(|version| *version > 0)?;
        let is_name =
            name.starts_with(|c: char| c.is_ascii_lowercase()) && name.len() <= 64 && name.chars().all(plain);
        is_name.then(|| Self { name: name.to_owned(), version })
    }
}

impl std::fmt::Display for SecretName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}@{}", self.name, self.version)
    }
}

/// Reads the `[params]` of a baseline.
pub(crate) fn read_declarations(element: &Element, findings: &mut Vec<Finding>) -> Vec<Parameter> {
    let ElementValue::Table(entries) = &element.value else {
        wrong_type("params", "a table of parameters", element, findings);
        return Vec::new();
    };
    entries
        .iter()
        .filter_map(|(name, place, element)| read_declaration(name, place, element, findings))
        .collect()
}

fn read_declaration(
    name: &str,
    place: &Place,
    element: &Element,
    findings: &mut Vec<Finding>,
) -> Option<Parameter> {
    let what = format!("[params.{name}]");
    let mut fields = Fields::open_listed(element, &what, PARAMETER_KEYS, findings)?;
    if !name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
        || !name.starts_with(|c: char| c.is_ascii_lowercase())
    {
        findings.push(
            Finding::error(
                Code::WrongValue,
                place.clone(),
                format!("`{name}` is not a valid parameter name"),
            )
            .hint("names have lower-case letters, digits and `_`, and begin with a letter"),
        );
    }
    let items = fields.text("of", findings).and_then(|(word, place)| read_item_type(word, place, findings));
    let value_type = read_type(&mut fields, items, &what, findings);
    let limits = read_limits(&mut fields, value_type, findings);
    let default = fields
        .take("default")
        .map(|element| Located { value: element.to_json(), place: element.place.clone() });
    let note = fields.text("note", findings).map(|(text, _)| text.to_owned());
    fields.finish(&what, findings);
    let parameter = Parameter {
        name: Located { value: name.to_owned(), place: place.clone() },
        value_type: value_type?,
        default,
        limits,
        note,
    };
    if let Some(default) = &parameter.default
        && let Err(reason) = parameter.accepts(&default.value)
    {
        findings.push(Finding::error(Code::ParameterValue, default.place.clone(), reason));
    }
    Some(parameter)
}

fn read_item_type(word: &str, place: &Place, findings: &mut Vec<Finding>) -> Option<ItemType> {
    let known = [
        ("string", ItemType::String),
        ("integer", ItemType::Integer),
        ("number", ItemType::Number),
        ("boolean", ItemType::Boolean),
    ];
    let found = known.iter().find(|(name, _)| *name == word).map(|(_, item)| *item);
    if found.is_none() {
        findings.push(unknown_type(word, place, &known.map(|(name, _)| name)));
    }
    found
}

const TYPES: [&str; 7] = ["string", "integer", "number", "boolean", "list", "map", "secret"];

fn read_type(
    fields: &mut Fields<'_>,
    items: Option<ItemType>,
    what: &str,
    findings: &mut Vec<Finding>,
) -> Option<ParameterType> {
    let Some((word, place)) = fields.text("type", findings) else {
        findings.push(
            Finding::error(Code::MissingKey, fields.place.clone(), format!("{what} has no `type`"))
                .hint(format!("types are {}", TYPES.join(", "))),
        );
        return None;
    };
    let value_type = match word {
        "string" => ParameterType::String,
        "integer" => ParameterType::Integer,
        "number" => ParameterType::Number,
        "boolean" => ParameterType::Boolean,
        "list" => ParameterType::List(items),
        "map" => ParameterType::Map(items),
        "secret" => ParameterType::Secret,
        other => {
            findings.push(unknown_type(other, place, &TYPES));
            return None;
        }
    };
    if items.is_some() && !matches!(value_type, ParameterType::List(_) | ParameterType::Map(_)) {
        findings.push(
            Finding::error(
                Code::WrongValue,
                place.clone(),
                format!("`of` says what a list or a map holds, and `{word}` is neither"),
            )
            .hint("remove `of`, or write type = \"list\""),
        );
    }
    Some(value_type)
}

fn unknown_type(word: &str, place: &Place, known: &[&str]) -> Finding {
    let hint = nearest_word(word, known.iter().copied())
        .map_or_else(|| format!("types are {}", known.join(", ")), |near| format!("did you mean `{near}`?"));
    Finding::error(Code::WrongValue, place.clone(), format!("unknown type `{word}`")).hint(hint)
}

fn read_limits(
    fields: &mut Fields<'_>,
    value_type: Option<ParameterType>,
    findings: &mut Vec<Finding>,
) -> Limits {
    let bounded = value_type.and_then(ParameterType::of_values);
    let mut number = |key: &'static str, findings: &mut Vec<Finding>| {
        let element = fields.take(key)?;
        let number = element.to_json().as_f64();
        if number.is_none() {
            wrong_type(key, "a number", element, findings);
        } else if value_type.is_some() && !matches!(bounded, Some(ItemType::Integer | ItemType::Number)) {
            findings.push(does_not_apply(key, "numbers", &element.place));
        }
        number
    };
    let (min, max) = (number("min", findings), number("max", findings));
    if let (Some(least), Some(most)) = (min, max)
        && least > most
    {
        findings.push(
            Finding::error(
                Code::WrongValue,
                fields.place.clone(),
                format!("`min` {least} is greater than `max` {most}"),
            )
            .hint("write the smaller one as `min`"),
        );
    }
    let one_of =
        fields.take("one_of").and_then(|element| one_of(element, bounded, findings)).unwrap_or_default();
    let pattern = fields.text("pattern", findings).and_then(|(source, place)| {
        if value_type.is_some() && bounded != Some(ItemType::String) {
            findings.push(does_not_apply("pattern", "texts", place));
        }
        pattern(source, place, findings)
    });
    Limits { min, max, one_of, pattern }
}

fn does_not_apply(key: &str, to: &str, place: &Place) -> Finding {
    Finding::error(
        Code::WrongValue,
        place.clone(),
        format!("`{key}` is asked of {to}, and this parameter takes none"),
    )
    .hint(format!("remove `{key}`, or fix `type` and `of`"))
}

fn one_of(element: &Element, items: Option<ItemType>, findings: &mut Vec<Finding>) -> Option<Vec<Value>> {
    let ElementValue::List(listed) = &element.value else {
        wrong_type("one_of", "a list of values", element, findings);
        return None;
    };
    if listed.is_empty() {
        findings.push(
            Finding::error(Code::WrongValue, element.place.clone(), "`one_of` lists no value")
                .hint("list the allowed values, or remove it"),
        );
    }
    for item in listed {
        if items.is_some_and(|items| !items.takes(&item.to_json())) {
            findings.push(Finding::error(
                Code::WrongValue,
                item.place.clone(),
                "the value does not have the type of the parameter",
            ));
        }
    }
    Some(listed.iter().map(Element::to_json).collect())
}

fn pattern(source: &str, place: &Place, findings: &mut Vec<Finding>) -> Option<Pattern> {
    match RegexBuilder::new(&format!("^(?:{source})$")).size_limit(MAX_PATTERN).build() {
        Ok(whole) => Some(Pattern { source: source.to_owned(), whole }),
        Err(error) => {
            let reason = match error {
                regex::Error::CompiledTooBig(_) => "it is too large".to_owned(),
                other => other
                    .to_string()
                    .lines()
                    .last()
                    .unwrap_or_default()
                    .trim_start_matches("error: ")
                    .to_owned(),
            };
            findings.push(
                Finding::error(
                    Code::WrongValue,
                    place.clone(),
                    format!("`pattern` cannot be read as a regular expression: {reason}"),
                )
                .hint("it must fit the whole text; write a backslash twice, or the pattern in single quotes"),
            );
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_secret_is_named_with_its_version() {
        assert_eq!(
            SecretName::parse("ops-password@3").map(|name| name.to_string()),
            Some("ops-password@3".into())
        );
        for text in ["ops-password", "ops-password@0", "@1", "Ops@1", "ops@x"] {
            assert_eq!(SecretName::parse(text), None, "{text}");
        }
    }
}
