//! The one usual form of documents: keys in their usual order, one space around `=`, one empty line between tables;
//! comments stay with what they belong to.

use crate::document::keys::{
    BASELINE_KEYS, CASE_KEYS, CASE_NODE_KEYS, CLAUSE_KEYS, KIT_KEYS, Key, PARAMETER_KEYS, names,
};
use crate::kind;
use toml_edit::{Array, ArrayOfTables, Decor, DocumentMut, InlineTable, Item, Table, TomlError, Value};

/// The tables whose keys have a usual order besides clauses. No key is before another in one of them and after it in the
/// next, so that one order does for all; keys that none has follow as they are written.
const ORDERED: [&[Key]; 5] = [KIT_KEYS, BASELINE_KEYS, CASE_KEYS, PARAMETER_KEYS, CASE_NODE_KEYS];

/// Stands in an order where keys go that it does not name.
const OTHERS: &str = "";

/// Returns a document in its usual form.
///
/// # Errors
///
/// Returns why it cannot be read as TOML; then it is to be checked first.
pub fn format(text: &str) -> Result<String, TomlError> {
    let mut document: DocumentMut = text.parse()?;
    let trailing = comments(document.trailing().as_str().unwrap_or_default(), false);
    format_table(document.as_table_mut(), Some(true));
    document.set_trailing(trailing);
    let written = document.to_string();
    let trimmed = written.trim_start_matches('\n').trim_end();
    Ok(if trimmed.is_empty() { String::new() } else { format!("{trimmed}\n") })
}

/// `is_root` is none for tables below others.
fn format_table(table: &mut Table, is_root: Option<bool>) {
    if is_root.is_none() && !table.is_implicit() && !table.is_dotted() {
        let before = table.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default();
        let after = suffix_comment(table.decor());
        let prefix = comments(before, true);
        *table.decor_mut() = Decor::new(prefix, after);
    }
    let order = order_of(table);
    table.sort_values_by(|left, _, right, _| rank(&order, left.get()).cmp(&rank(&order, right.get())));
    let keys: Vec<String> = table.iter().map(|(key, _)| key.to_owned()).collect();
    for key in keys {
        let Some((mut key, item)) = table.get_key_value_mut(&key) else { continue };
        match item {
            Item::Table(inner) => format_table(inner, None),
            Item::ArrayOfTables(inner) => format_tables(inner),
            Item::Value(value) => {
                let before = comments(
                    key.leaf_decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default(),
                    false,
                );
                *key.leaf_decor_mut() = Decor::new(before, " ");
                let after = suffix_comment(value.decor());
                format_value(value);
                *value.decor_mut() = Decor::new(" ", after);
            }
            Item::None => {}
        }
    }
}

fn format_tables(tables: &mut ArrayOfTables) {
    tables.iter_mut().for_each(|table| format_table(table, None));
}

/// Returns the usual order of a table's keys: for a clause what it keeps, the kind's own properties, what every clause may
/// say.
fn order_of(table: &Table) -> Vec<&'static str> {
    let Some((kind, _)) = table.get("what").and_then(Item::as_str).and_then(|what| what.split_once(':'))
    else {
        return ORDERED.into_iter().flat_map(names).chain(["what", "note"]).collect();
    };
    let own: Vec<&str> = match kind::find(kind) {
        Some(kind) => kind.properties().map(|property| property.name).collect(),
        // The properties of a custom kind stay in their order.
        None => vec![OTHERS],
    };
    let first = ["for", "what", "as", "absent", "gone"];
    first.into_iter().chain(own).chain(names(CLAUSE_KEYS).filter(|key| !first.contains(key))).collect()
}

fn rank(order: &[&str], key: &str) -> usize {
    let place = |wanted: &str| order.iter().position(|known| *known == wanted);
    place(key).or_else(|| place(OTHERS)).unwrap_or(order.len())
}

fn format_value(value: &mut Value) {
    match value {
        Value::Array(array) => format_array(array),
        Value::InlineTable(table) => format_inline(table),
        _ => {}
    }
}

/// Lists are written on one line, unless they were written over several.
fn format_array(array: &mut Array) {
    let has_lines = |decor: &Decor| {
        [decor.prefix(), decor.suffix()]
            .into_iter()
            .flatten()
            .any(|text| text.as_str().is_some_and(|text| text.contains('\n')))
    };
    let trailing = array.trailing().as_str().unwrap_or_default().to_owned();
    let over_lines = trailing.contains('\n') || array.iter().any(|value| has_lines(value.decor()));
    let kept = |text: &str| -> String {
        text.lines()
            .map(str::trim)
            .filter(|line| line.starts_with('#'))
            .map(|line| format!("\n    {line}"))
            .collect()
    };
    let last = array.len().saturating_sub(1);
    let mut behind_last = String::new();
    for (at, value) in array.iter_mut().enumerate() {
        format_value(value);
        let text = |raw: Option<&toml_edit::RawString>| {
            raw.and_then(|text| text.as_str()).unwrap_or_default().to_owned()
        };
        let (before, after) = (text(value.decor().prefix()), text(value.decor().suffix()));
        let decor = if over_lines {
            // A comment between a value and its comma would swallow the comma.
            let above = if at == last { kept(&before) } else { kept(&before) + &kept(&after) };
            if at == last {
                behind_last = kept(&after);
            }
            Decor::new(format!("{above}\n    "), "")
        } else {
            Decor::new(if at == 0 { "" } else { " " }, "")
        };
        *value.decor_mut() = decor;
    }
    array.set_trailing_comma(over_lines && !array.is_empty());
    array.set_trailing(if over_lines {
        format!("{behind_last}{}\n", kept(&trailing))
    } else {
        String::new()
    });
}

fn format_inline(table: &mut InlineTable) {
    let last = table.len().saturating_sub(1);
    for (at, (mut key, value)) in table.iter_mut().enumerate() {
        *key.leaf_decor_mut() = Decor::new(" ", " ");
        format_value(value);
        *value.decor_mut() = Decor::new(" ", if at == last { " " } else { "" });
    }
}

/// Returns the comments before something, each on its line; `apart` puts one empty line before them.
fn comments(before: &str, apart: bool) -> String {
    let mut kept = String::new();
    let mut lines: Vec<&str> = before.lines().map(str::trim_end).collect();
    while lines.first().is_some_and(|line| line.trim().is_empty()) {
        lines.remove(0);
    }
    let mut gap = false;
    for line in lines {
        if line.trim().is_empty() {
            gap = true;
            continue;
        }
        if gap {
            kept.push('\n');
            gap = false;
        }
        kept += line.trim_start();
        kept.push('\n');
    }
    if gap && !kept.is_empty() && !apart {
        kept.push('\n');
    }
    if apart { format!("\n{kept}") } else { kept }
}

fn suffix_comment(decor: &Decor) -> String {
    let after = decor.suffix().and_then(|suffix| suffix.as_str()).unwrap_or_default().trim();
    if after.is_empty() { String::new() } else { format!("  {after}") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const UNTIDY: &str = "# Skerry Line\n[baseline]\nsummary=\"x\"   # why\nname = \"shell\"\n\n\n\n[params.lanes]\ndefault=[\"A\",  \"B\"]\ntype = \"list\"\n\n# the shell\n[[clause]]\nneeds = [\n  # first\n  \"package:a\",\n  \"package:b\" ]\npermissions = \"0644\"\n# what it reads\nrender   = \"x.jinja\"\nwhat = \"file:/etc/x\"\nfor = {lane=\"params.lanes\"}\n[[clause]]\nwhat = \"package:a\"\n# the end\n";

    #[test]
    fn documents_have_one_form_and_keep_their_comments() {
        insta::assert_snapshot!(format(UNTIDY).unwrap(), @r#"
        # Skerry Line
        [baseline]
        name = "shell"
        summary = "x"  # why

        [params.lanes]
        type = "list"
        default = ["A", "B"]

        # the shell
        [[clause]]
        for = { lane = "params.lanes" }
        what = "file:/etc/x"
        # what it reads
        render = "x.jinja"
        permissions = "0644"
        needs = [
            # first
            "package:a",
            "package:b",
        ]

        [[clause]]
        what = "package:a"
        # the end
        "#);
    }

    fn line() -> impl Strategy<Value = String> {
        prop_oneof![
            Just("[[clause]]\n".to_owned()),
            Just("# a comment\n".to_owned()),
            Just("\n".to_owned()),
            Just("  ".to_owned()),
            "[a-d]{1,3} ?= ?(1|true|\"x y\"|\\[1, 2\\]|\\[\n1,\n# c\n2]|\\[ # a\n1 # b\n, # c\n2 # d,\n # e\n]|\\{a=1,b = 2\\}|'''\n  t\n''')( # c)?\n",
            "\\[[a-d]{2}\\]\n",
        ]
    }

    fn comments_in(text: &str) -> usize {
        text.matches('#').count()
    }

    proptest! {
        #[test]
        fn formatting_changes_no_value_loses_no_comment_and_is_done_once(lines in prop::collection::vec(line(), 0..12)) {
            let text = lines.concat();
            if let Ok(formatted) = format(&text) {
                let value = |text: &str| toml::from_str::<toml::Table>(text).map(|table| serde_json::to_value(table).unwrap_or_default());
                prop_assert_eq!(value(&text).ok(), value(&formatted).ok(), "{}", formatted);
                prop_assert_eq!(comments_in(&text), comments_in(&formatted), "{}\n--\n{}", text, formatted);
                prop_assert_eq!(format(&formatted).ok(), Some(formatted.clone()), "{}", text);
            }
        }
    }
}
