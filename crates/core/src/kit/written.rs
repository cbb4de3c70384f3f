//! A thing as it was found, written as the clause that would keep it so.

use crate::kind::{Kind, normalise};
use crate::template::has_markup;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};

/// The clause that would keep a thing as it is.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct WrittenClause {
    /// Its address.
    pub what: String,
    /// The properties that it would have.
    #[cfg_attr(feature = "schema", schema(value_type = std::collections::BTreeMap<String, Value>))]
    pub properties: Map<String, Value>,
    /// What else is known of the thing, a line each.
    pub remarks: Vec<String>,
    /// Why the thing cannot be kept as it is, if it cannot; the clause is then written as a comment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub not_kept: Option<String>,
}

impl WrittenClause {
    /// Begins with a name of a kind.
    pub fn new(kind: &Kind, name: &str) -> Self {
        Self {
            what: format!("{}:{name}", kind.name()),
            properties: Map::new(),
            remarks: Vec::new(),
            not_kept: None,
        }
    }

    /// Takes a property as it was found. One that a document cannot express becomes a remark.
    pub fn take(&mut self, kind: &Kind, name: &str, value: Value) {
        let Some(property) = kind.property(name) else { return };
        if normalise(name, property.value, &value).is_ok_and(|normal| normal == value) {
            self.properties.insert(name.to_owned(), value);
        } else {
            self.remarks
                .push(format!("{name}: {}", value.as_str().map_or_else(|| value.to_string(), str::to_owned)));
        }
    }

    /// Says that the thing cannot be kept unless it has all that its kind asks for.
    pub fn complete(&mut self, kind: &Kind) {
        let has = |name: &str| self.properties.contains_key(name);
        let missing: Vec<&str> = kind
            .properties()
            .filter(|property| property.required && !has(property.name))
            .map(|property| property.name)
            .collect();
        if !missing.is_empty() {
            self.not_kept.get_or_insert_with(|| {
                format!("its {} cannot be expressed in a document", missing.join(", "))
            });
        } else if kind.needs_either() && !kind.either().iter().any(|name| has(name)) {
            self.not_kept.get_or_insert_with(|| format!("it has none of {}", kind.either().join(", ")));
        }
    }

    /// Writes it as TOML.
    pub fn toml(&self) -> String {
        let mut text: String =
            self.remarks.iter().map(|remark| format!("# {}\n", remark.replace(['\n', '\r'], " "))).collect();
        let mut clause = format!("[[clause]]\nwhat = {}\n", scalar(&Value::from(self.what.as_str())));
        if has_markup(&self.what) || self.properties.values().any(holds_markup) {
            clause.push_str("literal = true\n");
        }
        for (name, value) in &self.properties {
            clause.push_str(&format!("{name} = {}\n", scalar(value)));
        }
        match &self.not_kept {
            None => text.push_str(&clause),
            Some(why) => {
                text.push_str(&format!("# It cannot be written as a clause: {why}.\n"));
                text.extend(clause.lines().flat_map(|line| ["# ", line, "\n"]));
            }
        }
        text
    }
}

fn holds_markup(value: &Value) -> bool {
    match value {
        Value::String(text) => has_markup(text),
        Value::Array(items) => items.iter().any(holds_markup),
        Value::Object(map) => map.values().any(holds_markup),
        _ => false,
    }
}

/// Writes a value as TOML. Texts of several lines are written on several lines where nothing of them is lost.
fn scalar(value: &Value) -> String {
    match value {
        Value::String(text)
            if text.contains('\n')
                && !text.contains("'''")
                && !text.ends_with('\'')
                && text.chars().all(|c| c == '\n' || c == '\t' || !c.is_control()) =>
        {
            format!("'''\n{text}'''")
        }
        Value::String(text) => toml_edit::Value::from(text.as_str()).to_string(),
        Value::Array(items) => format!("[{}]", items.iter().map(scalar).collect::<Vec<_>>().join(", ")),
        Value::Object(map) => {
            let entries: Vec<String> = map
                .iter()
                .map(|(name, value)| format!("{} = {}", scalar(&Value::from(name.as_str())), scalar(value)))
                .collect();
            format!("{{ {} }}", entries.join(", "))
        }
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::check_single;
    use crate::kind::find;
    use serde_json::json;

    #[test]
    fn what_is_written_is_read_again_with_the_same_values() {
        let kind = find("file").unwrap();
        for text in [
            "one\ntwo\n",
            "\n\nempty first",
            "it's '''three'''\n",
            "{{ not rendered }}\n",
            "tab\there\u{1}\n",
            "'\n'",
            "",
        ] {
            let mut clause = WrittenClause::new(kind, "/etc/a b");
            clause.take(kind, "text", json!(text));
            clause.take(kind, "permissions", json!("0640"));
            let document = format!("[baseline]\nname = \"x\"\n\n{}", clause.toml());
            let checked = check_single("x.toml", document.clone().into_bytes());
            let kit = checked.kit.unwrap_or_else(|| panic!("{document}\n{:?}", checked.findings));
            let written =
                kit.baselines[0].clauses[0].properties.iter().find(|(name, _)| *name == "text").unwrap();
            assert_eq!(written.1.value, json!(text), "{document}");
        }
    }

    #[test]
    fn what_no_document_could_say_is_a_remark_and_the_clause_a_comment() {
        let kind = find("kernel_setting").unwrap();
        let mut clause = WrittenClause::new(find("mount").unwrap(), "/srv");
        clause.take(find("mount").unwrap(), "device", json!("tmpfs"));
        clause.complete(find("mount").unwrap());
        insta::assert_snapshot!(clause.toml(), @r#"
        # It cannot be written as a clause: its fs cannot be expressed in a document.
        # [[clause]]
        # what = "mount:/srv"
        # device = "tmpfs"
        "#);
        let mut clause = WrittenClause::new(kind, "kernel.x");
        clause.take(kind, "value", json!(["no text"]));
        assert_eq!(clause.remarks, ["value: [\"no text\"]"]);
    }
}
