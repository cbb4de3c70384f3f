//! A TOML document that somebody wrote is made to say something else, and keeps its comments, its order and how values are written.

use std::collections::BTreeMap;
use toml_edit::{Array, ArrayOfTables, DocumentMut, Item, Table, Value};

/// Returns `old` as it says what `new` says: what is the same stays as it is written, with its comments; what is gone goes with its own.
///
/// # Errors
///
/// Returns why one of them is no TOML, or that they could not be brought together.
pub fn updated_text(old: &str, new: &str) -> Result<String, String> {
    let parsed =
        |text: &str| text.parse::<DocumentMut>().map_err(|error| error.to_string().trim_end().to_owned());
    let (mut document, wanted) = (parsed(old)?, parsed(new)?);
    update_table(document.as_table_mut(), wanted.as_table());
    number(document.as_table_mut(), &mut 0);
    let text = document.to_string();
    let says = |text: &str| toml::from_str::<toml::Table>(text).map_err(|error| error.to_string());
    if says(&text)? == says(new)? {
        Ok(text)
    } else {
        Err("the document cannot be updated as it is written".to_owned())
    }
}

fn update_table(old: &mut Table, new: &Table) {
    let gone: Vec<String> =
        old.iter().map(|(key, _)| key.to_owned()).filter(|key| !new.contains_key(key)).collect();
    gone.iter().for_each(|key| drop(old.remove(key)));
    for (key, wanted) in new {
        match old.get_mut(key) {
            None => drop(old.insert(key, wanted.clone())),
            Some(known) => update_item(known, wanted),
        }
    }
}

fn update_item(old: &mut Item, new: &Item) {
    let is_same = meaning(old) == meaning(new);
    match (&mut *old, new) {
        (Item::Table(old), Item::Table(new)) => update_table(old, new),
        (Item::ArrayOfTables(old), Item::ArrayOfTables(new)) => update_tables(old, new),
        (Item::Value(Value::Array(old)), Item::Value(Value::Array(new))) => update_array(old, new),
        _ if is_same => {}
        (Item::Value(old), Item::Value(new)) => {
            let decor = old.decor().clone();
            *old = new.clone();
            *old.decor_mut() = decor;
        }
        _ => *old = new.clone(),
    }
}

/// What an item says, however it is written.
fn meaning(item: &Item) -> Option<toml::Value> {
    let mut document = DocumentMut::new();
    document.insert("it", item.clone());
    toml::from_str::<toml::Table>(&document.to_string()).ok()?.remove("it")
}

/// What a table of a list is known by: its name, or the kit and the baseline; else its place.
fn identity(table: &Table, place: usize) -> String {
    let text = |key: &str| table.get(key).and_then(Item::as_str).map(str::to_owned);
    match (text("name"), text("kit"), text("baseline")) {
        (Some(name), ..) => format!("name {name}"),
        (None, Some(kit), baseline) => format!("of {kit} {}", baseline.unwrap_or_default()),
        _ => format!("at {place}"),
    }
}

fn update_tables(old: &mut ArrayOfTables, new: &ArrayOfTables) {
    let mut known: BTreeMap<String, Table> =
        old.iter().enumerate().map(|(place, table)| (identity(table, place), table.clone())).collect();
    old.clear();
    for (place, wanted) in new.iter().enumerate() {
        let table = known.remove(&identity(wanted, place)).map(|mut table| {
            update_table(&mut table, wanted);
            table
        });
        old.push(table.unwrap_or_else(|| wanted.clone()));
    }
}

fn update_array(old: &mut Array, new: &Array) {
    let text = |value: &Value| value.clone().decorated("", "").to_string();
    let known: Vec<Value> = old.iter().cloned().collect();
    let is_same = known.len() == new.len() && known.iter().zip(new).all(|(old, new)| text(old) == text(new));
    if is_same {
        return;
    }
    let prefix = |value: &Value| {
        value.decor().prefix().and_then(|prefix| prefix.as_str()).unwrap_or_default().to_owned()
    };
    // What stands behind a comma, up to the end of its line, is about the value before it.
    let split = |text: &str| match text.find('\n') {
        Some(end) => (text[..end].to_owned(), text[end..].to_owned()),
        None => (String::new(), text.to_owned()),
    };
    let trailing = split(old.trailing().as_str().unwrap_or_default());
    let gaps: Vec<(String, String)> = known.iter().map(|value| split(&prefix(value))).collect();
    let new_gap = gaps.iter().map(|(_, before)| before).find(|before| before.contains('\n')).map_or_else(
        || " ".to_owned(),
        |before| format!("\n{}", before.rsplit('\n').next().unwrap_or_default()),
    );
    old.clear();
    let mut behind = String::new();
    for (place, wanted) in new.iter().enumerate() {
        let same = known.iter().position(|value| text(value) == text(wanted));
        let before = match same {
            Some(at) if at > 0 || place == 0 || gaps[at].1.contains('\n') => gaps[at].1.clone(),
            None if place == 0 && !new_gap.contains('\n') => String::new(),
            _ => new_gap.clone(),
        };
        old.push_formatted(wanted.clone().decorated(format!("{behind}{before}"), ""));
        behind = match same {
            Some(at) => gaps.get(at + 1).map_or(&trailing.0, |(behind, _)| behind).clone(),
            None => String::new(),
        };
    }
    old.set_trailing(format!("{behind}{}", trailing.1));
}

/// Has tables written in the order in which they are.
fn number(table: &mut Table, next: &mut isize) {
    table.set_position(Some(*next));
    *next += 1;
    for (_, item) in table.iter_mut() {
        match item {
            Item::Table(table) => number(table, next),
            Item::ArrayOfTables(tables) => tables.iter_mut().for_each(|table| number(table, next)),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const OLD: &str = r#"# The fleet of Skerry Line; reviewed by Ilse Maren.

[[stages]]
name = "harbour" # what is tried first
serves = [
  "quay-base@1.4.0", # with the new banner
  "kiosk-floor@1.0.0",
]

# The kiosks: festival until the 30th.
[[groups]]
name = "kiosks"
priority = 0x0a # ten
filter = "labels.role == 'kiosk'"

# Asked for by the tenants.
[[groups.assignments]]
kit = "quay-base"
baseline = "login"

[[groups.assignments]]
kit = "kiosk-floor"
baseline = "kiosk-lockdown"

[groups.settings]
mode = "observe" # until the festival is over

# Everybody.
[[groups]]
name = "everyone"
"#;

    /// What the server would export of it, with something otherwise.
    fn exported(mode: &str, serves: &str, assignments: &str) -> String {
        format!(
            "[[stages]]\nname = \"harbour\"\nserves = {serves}\n\n[[stages]]\nname = \"open-water\"\n\n[[groups]]\nname = \"kiosks\"\npriority = 10\nfilter = \"labels.role == 'kiosk'\"\n{assignments}\n[groups.settings]\nmode = \"{mode}\"\n\n[[groups]]\nname = \"everyone\"\n"
        )
    }

    const BOTH: &str = "[[groups.assignments]]\nkit = \"quay-base\"\nbaseline = \"login\"\n[[groups.assignments]]\nkit = \"kiosk-floor\"\nbaseline = \"kiosk-lockdown\"\n";

    #[test]
    fn what_is_the_same_stays_as_it_is_written() {
        let new = exported("observe", "[\"quay-base@1.4.0\", \"kiosk-floor@1.0.0\"]", BOTH)
            .replace("[[stages]]\nname = \"open-water\"\n\n", "");
        assert_eq!(updated_text(OLD, &new).unwrap(), OLD);
    }

    #[test]
    fn what_is_otherwise_is_put_in_and_comments_stay() {
        let more = "[[groups.assignments]]\nkit = \"kiosk-floor\"\nbaseline = \"kiosk-lockdown\"\non_drift = \"report\"\n[[groups.assignments]]\nkit = \"gate-reader\"\nbaseline = \"reader\"\n";
        let new = exported("enforce", "[\"quay-base@1.4.0\", \"kiosk-floor@1.1.0\"]", more);
        let text = updated_text(OLD, &new).unwrap();
        for kept in [
            "# The fleet of Skerry Line; reviewed by Ilse Maren.",
            "name = \"harbour\" # what is tried first",
            "  \"quay-base@1.4.0\", # with the new banner\n  \"kiosk-floor@1.1.0\",\n]",
            "# The kiosks: festival until the 30th.\n[[groups]]\nname = \"kiosks\"\npriority = 0x0a # ten",
            "mode = \"enforce\" # until the festival is over",
            "baseline = \"kiosk-lockdown\"\non_drift = \"report\"",
            "kit = \"gate-reader\"",
            "# Everybody.\n[[groups]]\nname = \"everyone\"",
        ] {
            assert!(text.contains(kept), "`{kept}` is not in:\n{text}");
        }
        // The comment of what is gone goes with it.
        assert!(!text.contains("Asked for by the tenants") && !text.contains("login"), "{text}");
        let harbour = text.find("\"harbour\"").unwrap();
        assert!(
            harbour < text.find("open-water").unwrap() && text.find("open-water") < text.find("kiosks"),
            "{text}"
        );
    }

    #[test]
    fn what_is_no_toml_is_told() {
        assert!(updated_text("name = ", "").unwrap_err().contains("TOML parse error"));
    }
}
