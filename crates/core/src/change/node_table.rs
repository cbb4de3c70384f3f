//! Labels and names of many nodes, as a table that a person brings.

use super::{DocumentEdit, DocumentKey, NodeDocument};
use crate::table::{TableError, read_lines};
use crate::words::{check_label, check_node_name};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// This many nodes a table has at most.
pub const MAX_TABLE_NODES: usize = 10_000;
/// The column of next names.
const RENAME_TO: &str = "rename_to";
/// What a cell says to take a label away.
const NONE: &str = "-";

/// What a line of the table does to a node.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NodeLine {
    /// The node's name.
    pub name: String,
    /// Its next name, if it gets one.
    pub rename_to: Option<String>,
    /// Labels that it gets, with their values; none takes a label away.
    pub labels: BTreeMap<String, Option<String>>,
}

/// Reads a table of nodes. Its columns are `name`, perhaps `rename_to`, and each other one is that of a label: an empty cell leaves the
/// label as it is, `-` takes it away.
///
/// # Errors
///
/// Returns everything that is wrong with it, at most 20 of it.
pub fn read_node_table(text: &str) -> Result<Vec<NodeLine>, Vec<TableError>> {
    let check_column = |column: &str| match column {
        "name" | RENAME_TO => Ok(()),
        label => check_label(label, ""),
    };
    read_lines(text, MAX_TABLE_NODES, check_column, read_node, |line: &NodeLine| &line.name)
}

fn read_node(cells: &mut dyn Iterator<Item = (&str, &str)>) -> Result<NodeLine, String> {
    let mut line = NodeLine::default();
    for (column, cell) in cells {
        match column {
            "name" => {
                check_node_name(cell).map_err(|because| format!("{cell:?}: {because}"))?;
                cell.clone_into(&mut line.name);
            }
            _ if cell.is_empty() => {}
            RENAME_TO => {
                check_node_name(cell).map_err(|because| format!("{cell:?}: {because}"))?;
                line.rename_to = Some(cell.to_owned());
            }
            label if cell == NONE => drop(line.labels.insert(label.to_owned(), None)),
            label => {
                check_label(label, cell)?;
                line.labels.insert(label.to_owned(), Some(cell.to_owned()));
            }
        }
    }
    Ok(line)
}

/// Returns the edits that a table makes of nodes, given by id, and of the groups that name them; nothing of nodes that are so already.
pub fn edit_by_table(
    documents: &BTreeMap<DocumentKey, Value>,
    nodes: &BTreeMap<String, NodeDocument>,
    lines: &[NodeLine],
) -> Vec<DocumentEdit> {
    let by_name: BTreeMap<&str, &NodeLine> = lines.iter().map(|line| (line.name.as_str(), line)).collect();
    let mut edits = Vec::new();
    for (id, node) in nodes {
        let Some(line) = by_name.get(node.name.as_str()) else { continue };
        let mut after = node.clone();
        if let Some(name) = &line.rename_to {
            after.name.clone_from(name);
        }
        for (label, value) in &line.labels {
            match value {
                Some(value) => drop(after.labels.insert(label.clone(), value.clone())),
                None => drop(after.labels.remove(label)),
            }
        }
        if after != *node {
            let key = DocumentKey::Node(id.clone());
            edits.push(DocumentEdit { key, before: Some(json!(node)), after: Some(json!(after)) });
        }
    }
    edits.extend(documents.iter().filter_map(|(key, body)| follow(key, body, &by_name)));
    edits
}

/// Returns the edit by which a group that names renamed nodes names them as they are called next.
fn follow(key: &DocumentKey, body: &Value, lines: &BTreeMap<&str, &NodeLine>) -> Option<DocumentEdit> {
    let DocumentKey::Group(_) = key else { return None };
    let next = |name: &str| lines.get(name).and_then(|line| line.rename_to.clone());
    let named: Vec<&str> = body["nodes"].as_array()?.iter().filter_map(Value::as_str).collect();
    named.iter().any(|name| next(name).is_some()).then(|| {
        let mut after = body.clone();
        let names: std::collections::BTreeSet<String> =
            named.iter().map(|name| next(name).unwrap_or_else(|| (*name).to_owned())).collect();
        after["nodes"] = json!(names);
        DocumentEdit { key: key.clone(), before: Some(body.clone()), after: Some(after) }
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::group::NodeOwn;

    #[test]
    fn a_table_renames_and_labels_each_node_by_its_line_and_groups_follow() {
        let lines =
            read_node_table("name,rename_to,site,spare\nkiosk-lab-1,kiosk-auken-7,auken,-\nkiosk-lab-2,,,\nkiosk-lab-3,,brisk,\n").unwrap();
        let node = |name: &str| NodeDocument {
            name: name.into(),
            labels: BTreeMap::from([("site".into(), "brisk".into()), ("spare".into(), "yes".into())]),
            own: NodeOwn::default(),
        };
        let nodes =
            BTreeMap::from([1, 2, 3].map(|at| (format!("id-{at}"), node(&format!("kiosk-lab-{at}")))));
        let group = json!({ "name": "lab", "nodes": ["kiosk-lab-1", "kiosk-lab-2"] });
        let documents = BTreeMap::from([(DocumentKey::Group("lab".into()), group)]);
        let edits = edit_by_table(&documents, &nodes, &lines);
        let after: Vec<&Value> = edits.iter().map(|edit| edit.after.as_ref().unwrap()).collect();
        assert_eq!(
            after,
            [
                &json!({ "name": "kiosk-auken-7", "labels": { "site": "auken" } }),
                &json!({ "name": "lab", "nodes": ["kiosk-auken-7", "kiosk-lab-2"] }),
            ],
            "the second line leaves all as it is, and the third one says what is so already"
        );
    }

    #[test]
    fn what_is_wrong_in_a_table_of_nodes_is_told_with_its_line() {
        let errors = read_node_table("name,rename_to,si te\nkiosk-lab-1,a,b\n").unwrap_err();
        assert!(errors[0].to_string().contains("line 1: \"si te\" is no key of a label"), "{errors:?}");
        let errors = read_node_table("name,rename_to\nkiosk-lab-1,kiosk lab\nkiosk-lab-1,x\n").unwrap_err();
        assert_eq!(
            errors.iter().map(|error| error.line).collect::<Vec<_>>(),
            [2],
            "a line that cannot be read names nothing: {errors:?}"
        );
    }
}
