//! Catalogues in OSCAL (Open Security Controls Assessment Language, NIST, version 1): `catalog` documents in JSON.

use super::{Catalogue, Control};
use serde::Deserialize;
use std::collections::BTreeMap;

/// Groups and controls are nested this deep at most.
const MAX_DEPTH: usize = 16;

/// Why a text is no catalogue in OSCAL.
#[derive(Debug, thiserror::Error)]
pub enum OscalError {
    /// It is not JSON, or not of this form.
    #[error("it is no OSCAL catalogue in JSON: {0}")]
    NotRead(#[from] serde_json::Error),
    /// It is nested deeper than any catalogue.
    #[error("its groups and controls are nested deeper than {MAX_DEPTH}")]
    TooDeep,
}

/// A catalogue that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OscalImport {
    /// The catalogue. Groups are headings.
    pub catalogue: Catalogue,
    /// Number of controls that are left out since they are withdrawn.
    pub withdrawn: usize,
}

#[derive(Deserialize)]
struct Document {
    catalog: Catalog,
}

#[derive(Deserialize)]
struct Catalog {
    metadata: Metadata,
    #[serde(default)]
    params: Vec<Param>,
    #[serde(default)]
    groups: Vec<Node>,
    #[serde(default)]
    controls: Vec<Node>,
}

#[derive(Deserialize)]
struct Metadata {
    title: String,
    #[serde(default)]
    version: Option<String>,
}

/// A group or a control.
#[derive(Deserialize)]
struct Node {
    #[serde(default)]
    id: Option<String>,
    title: String,
    #[serde(default)]
    params: Vec<Param>,
    #[serde(default)]
    props: Vec<Prop>,
    #[serde(default)]
    parts: Vec<Part>,
    #[serde(default)]
    groups: Vec<Node>,
    #[serde(default)]
    controls: Vec<Node>,
}

#[derive(Deserialize)]
struct Param {
    id: String,
    #[serde(default)]
    label: Option<String>,
    #[serde(default)]
    values: Vec<String>,
}

#[derive(Deserialize)]
struct Prop {
    name: String,
    value: String,
}

#[derive(Deserialize)]
struct Part {
    name: String,
    #[serde(default)]
    prose: Option<String>,
    #[serde(default)]
    parts: Vec<Part>,
}

/// Reads a catalogue.
///
/// # Errors
///
/// Returns that it is none.
pub fn from_oscal(text: &str) -> Result<OscalImport, OscalError> {
    let Document { catalog } = serde_json::from_str(text)?;
    let source = [Some(catalog.metadata.title.as_str()), catalog.metadata.version.as_deref()];
    let source = source.into_iter().flatten().collect::<Vec<_>>().join(" ");
    let mut reader = Reader { source, controls: Vec::new(), withdrawn: 0, params: BTreeMap::new() };
    reader.know(catalog.params);
    for node in &catalog.groups {
        reader.read(node, None, true, 0)?;
    }
    for node in &catalog.controls {
        reader.read(node, None, false, 0)?;
    }
    Ok(OscalImport {
        catalogue: Catalogue {
            title: Some(catalog.metadata.title),
            controls: reader.controls,
            ..Catalogue::default()
        },
        withdrawn: reader.withdrawn,
    })
}

struct Reader {
    source: String,
    controls: Vec<Control>,
    withdrawn: usize,
    /// What is written for a parameter in a text.
    params: BTreeMap<String, String>,
}

impl Reader {
    fn know(&mut self, params: Vec<Param>) {
        for Param { id, label, values } in params {
            let words =
                if values.is_empty() { label.unwrap_or_else(|| id.clone()) } else { values.join(", ") };
            self.params.insert(id, format!("[{words}]"));
        }
    }

    fn read(
        &mut self,
        node: &Node,
        parent: Option<&str>,
        is_group: bool,
        depth: usize,
    ) -> Result<(), OscalError> {
        if depth > MAX_DEPTH {
            return Err(OscalError::TooDeep);
        }
        if node.props.iter().any(|prop| prop.name == "status" && prop.value == "withdrawn") {
            self.withdrawn += 1;
            return Ok(());
        }
        self.know(
            node.params
                .iter()
                .map(|param| Param {
                    id: param.id.clone(),
                    label: param.label.clone(),
                    values: param.values.clone(),
                })
                .collect(),
        );
        // A group needs no id; its controls then belong to what it belongs to.
        let own = node.id.as_deref().map(str::to_owned).or_else(|| parent.map(str::to_owned));
        if let Some(id) = &node.id {
            self.controls.push(Control {
                id: id.clone(),
                title: one_line(&node.title),
                text: self.statement(&node.parts),
                parent: parent.map(str::to_owned),
                source: Some(one_line(&self.source)),
                scope: None,
                is_heading: is_group,
            });
        }
        for group in &node.groups {
            self.read(group, own.as_deref(), true, depth + 1)?;
        }
        for control in &node.controls {
            self.read(control, own.as_deref(), false, depth + 1)?;
        }
        Ok(())
    }

    /// The prose of the statement, one line for each of its items, with parameters by their labels.
    fn statement(&self, parts: &[Part]) -> Option<String> {
        fn gather(parts: &[Part], lines: &mut Vec<String>, depth: usize) {
            for part in parts.iter().filter(|_| depth <= MAX_DEPTH) {
                lines.extend(part.prose.clone());
                gather(&part.parts, lines, depth + 1);
            }
        }
        let mut lines = Vec::new();
        for part in parts.iter().filter(|part| part.name == "statement" || part.name == "overview") {
            lines.extend(part.prose.clone());
            gather(&part.parts, &mut lines, 0);
        }
        let text = lines.join("\n");
        (!text.is_empty()).then(|| self.with_params(&text))
    }

    /// Writes parameters for `{{ insert: param, ID }}`.
    fn with_params(&self, text: &str) -> String {
        let mut written = String::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once("{{") {
            let Some((insert, after)) = after.split_once("}}") else { break };
            written.push_str(before);
            let id = insert.rsplit(',').next().unwrap_or("").trim();
            match self.params.get(id) {
                Some(words) => written.push_str(words),
                None => written.push_str(&format!("[{id}]")),
            }
            rest = after;
        }
        written + rest
    }
}

fn one_line(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn groups_are_headings_nested_controls_have_parents_and_withdrawn_ones_are_left_out() {
        let document = json!({ "catalog": {
            "uuid": "0f3c7e9a-51e8-4f0b-9f57-2a3c5f6a7b8c",
            "metadata": { "title": "Skerry Line controls", "last-modified": "2026-10-01T00:00:00Z", "version": "2026", "oscal-version": "1.1.3" },
            "groups": [{
                "id": "sk", "class": "family", "title": "On the quay",
                "controls": [
                    { "id": "sk-5", "title": "Logs  kept", "params": [{ "id": "sk-5_days", "label": "number of days" }, { "id": "sk-5_where", "values": ["the depot"] }],
                      "parts": [
                        { "name": "statement", "prose": "Logs are kept for {{ insert: param, sk-5_days }}:", "parts": [
                            { "name": "item", "prose": "at {{ insert: param, sk-5_where }};" }, { "name": "item", "prose": "and {{ insert: param, sk-9_x }}." }] },
                        { "name": "guidance", "prose": "Ask the auditor." }],
                      "controls": [{ "id": "sk-5.1", "title": "Read daily" }] },
                    { "id": "sk-6", "title": "Old", "props": [{ "name": "status", "value": "withdrawn" }] },
                ],
            }],
            "controls": [{ "id": "sk-12", "title": "Spare" }],
            "back-matter": {},
        }});
        let import = from_oscal(&document.to_string()).expect("a catalogue");
        assert_eq!(import.withdrawn, 1);
        let seen: Vec<(&str, &str, Option<&str>, bool)> = import
            .catalogue
            .controls
            .iter()
            .map(|one| (one.id.as_str(), one.title.as_str(), one.parent.as_deref(), one.is_heading))
            .collect();
        assert_eq!(
            seen,
            [
                ("sk", "On the quay", None, true),
                ("sk-5", "Logs kept", Some("sk"), false),
                ("sk-5.1", "Read daily", Some("sk-5"), false),
                ("sk-12", "Spare", None, false),
            ]
        );
        assert_eq!(
            import.catalogue.controls[1].text.as_deref(),
            Some("Logs are kept for [number of days]:\nat [the depot];\nand [sk-9_x].")
        );
        assert_eq!(import.catalogue.controls[1].source.as_deref(), Some("Skerry Line controls 2026"));
        assert_eq!(import.catalogue.problems(), []);
    }

    #[test]
    fn what_is_no_catalogue_is_refused() {
        for text in ["", "{}", "{\"profile\": {}}", "[1"] {
            assert!(matches!(from_oscal(text), Err(OscalError::NotRead(_))), "{text}");
        }
        let mut group = json!({ "title": "deep" });
        for _ in 0..30 {
            group = json!({ "title": "deep", "groups": [group] });
        }
        let deep = json!({ "catalog": { "metadata": { "title": "deep" }, "groups": [group] } });
        assert!(matches!(from_oscal(&deep.to_string()), Err(OscalError::TooDeep)));
    }
}
