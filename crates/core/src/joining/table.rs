//! Tables of expected machines, as CSV (RFC 4180).

use super::rule::{MAX_EXPECTED, read_key};
use crate::words::{check_label, check_node_name};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// A machine that is expected to ask.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct ExpectedMachine {
    /// The name by which it asks.
    pub name: String,
    /// The SHA-256 of its public key (SPKI), in hexadecimal digits; any key if it is not known yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// Its labels.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub labels: BTreeMap<String, String>,
}

/// What is wrong at a place of a table.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("line {line}: {message}")]
pub struct TableError {
    /// The line, from 1.
    pub line: u64,
    /// What is wrong there, and what is expected.
    pub message: String,
}

/// This many errors are returned at most.
const MAX_ERRORS: usize = 20;

/// Reads a table: its first line has the names of the columns, `name`, perhaps `fingerprint`, and each other one that of a label. An
/// empty cell gives the machine no such label.
///
/// # Errors
///
/// Returns everything that is wrong with it, at most 20 of it.
pub fn read_table(text: &str) -> Result<Vec<ExpectedMachine>, Vec<TableError>> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    let header = reader.headers().map_err(|error| vec![broken(&error)])?.clone();
    let columns: Vec<&str> = header.iter().collect();
    let mut errors = wrong_columns(&columns);
    if !errors.is_empty() {
        return Err(errors);
    }
    let mut machines = Vec::new();
    let mut lines: BTreeMap<String, u64> = BTreeMap::new();
    for record in reader.records() {
        match record {
            Ok(record) => {
                let line = record.position().map_or(0, csv::Position::line);
                match read_machine(&columns, &record) {
                    Ok(machine) => {
                        if let Some(first) = lines.insert(machine.name.clone(), line) {
                            let message = format!("{} is named in line {first} already", machine.name);
                            errors.push(TableError { line, message });
                        }
                        machines.push(machine);
                    }
                    Err(message) => errors.push(TableError { line, message }),
                }
            }
            Err(error) => errors.push(broken(&error)),
        }
        if machines.len() > MAX_EXPECTED {
            errors.push(TableError {
                line: 1,
                message: format!(
                    "a table has at most {MAX_EXPECTED} machines; make a rule for each part of it"
                ),
            });
        }
        if errors.len() >= MAX_ERRORS || machines.len() > MAX_EXPECTED {
            break;
        }
    }
    if machines.is_empty() && errors.is_empty() {
        errors
            .push(TableError { line: 1, message: "no machine follows the names of the columns".to_owned() });
    }
    if errors.is_empty() { Ok(machines) } else { Err(errors) }
}

fn wrong_columns(columns: &[&str]) -> Vec<TableError> {
    let mut errors = Vec::new();
    let mut add = |message: String| errors.push(TableError { line: 1, message });
    if !columns.contains(&"name") {
        add(format!(
            "no column is called `name`; the columns are {}: the first line has the names of the columns, as name,fingerprint,site",
            columns.iter().map(|column| format!("{column:?}")).collect::<Vec<_>>().join(", ")
        ));
        return errors;
    }
    let mut seen = BTreeSet::new();
    for column in columns {
        if !seen.insert(column) {
            add(format!("two columns are called {column:?}"));
        }
        if !matches!(*column, "name" | "fingerprint")
            && let Err(because) = check_label(column, "")
        {
            add(because);
        }
    }
    errors
}

fn read_machine(columns: &[&str], record: &csv::StringRecord) -> Result<ExpectedMachine, String> {
    let mut machine = ExpectedMachine::default();
    for (column, cell) in columns.iter().zip(record) {
        match *column {
            "name" => {
                check_node_name(cell).map_err(|because| format!("{cell:?}: {because}"))?;
                cell.clone_into(&mut machine.name);
            }
            "fingerprint" if cell.is_empty() => {}
            "fingerprint" => machine.key = Some(read_key(cell)?),
            _ if cell.is_empty() => {}
            key => {
                check_label(key, cell)?;
                machine.labels.insert(key.to_owned(), cell.to_owned());
            }
        }
    }
    Ok(machine)
}

fn broken(error: &csv::Error) -> TableError {
    let line = error.position().map_or(1, csv::Position::line);
    let message = match error.kind() {
        csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
            format!("it has {len} cells, and the first line names {expected_len} columns")
        }
        csv::ErrorKind::Utf8 { .. } => "it is not UTF-8".to_owned(),
        _ => error.to_string(),
    };
    TableError { line, message }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_gives_each_machine_its_key_and_labels() {
        let key = "4C:1F:".to_owned() + &"00".repeat(30);
        let table = read_table(&format!(
            "name,fingerprint,site,\"pier/berth\"\r\nkiosk-lab-1,{key},auken,\"2, outer\"\r\nkiosk-lab-2,,brisk,\r\n"
        ))
        .unwrap();
        let labels = |pairs: &[(&str, &str)]| {
            pairs.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect()
        };
        assert_eq!(
            table,
            [
                ExpectedMachine {
                    name: "kiosk-lab-1".into(),
                    key: Some(format!("4c1f{}", "00".repeat(30))),
                    labels: labels(&[("site", "auken"), ("pier/berth", "2, outer")]),
                },
                ExpectedMachine {
                    name: "kiosk-lab-2".into(),
                    key: None,
                    labels: labels(&[("site", "brisk")]),
                },
            ]
        );
    }

    #[test]
    fn everything_wrong_is_told_with_its_line() {
        let errors = |text: &str| {
            let errors = read_table(text).unwrap_err();
            errors.iter().map(TableError::to_string).collect::<Vec<_>>().join("\n")
        };
        insta::assert_snapshot!(errors("name,site\nkiosk lab,auken\nkiosk-lab-2\nkiosk-lab-3,auken\nkiosk-lab-3,brisk\n"), @r#"
        line 2: "kiosk lab": a node's name has letters, digits, `-`, `.`, `_`, at most 253, and begins with a letter or digit
        line 3: it has 1 cells, and the first line names 2 columns
        line 5: kiosk-lab-3 is named in line 4 already
        "#);
        insta::assert_snapshot!(errors("name,fingerprint\nkiosk-lab-1,4c1f\n"), @"line 2: a fingerprint has 64 hexadecimal digits, and this has 4: constans-agent join shows it");
        insta::assert_snapshot!(errors("host,site\nkiosk-lab-1,auken\n"), @r#"line 1: no column is called `name`; the columns are "host", "site": the first line has the names of the columns, as name,fingerprint,site"#);
        insta::assert_snapshot!(errors("name,si te,name\n"), @r#"
        line 1: "si te" is no key of a label: it has letters, digits, `-`, `.`, `_` and `/`, at most 63, and begins with a letter or digit
        line 1: two columns are called "name"
        "#);
        insta::assert_snapshot!(errors("name\n"), @"line 1: no machine follows the names of the columns");
        let many: String =
            (0..=MAX_EXPECTED).fold("name\n".to_owned(), |text, at| text + &format!("kiosk-{at}\n"));
        insta::assert_snapshot!(errors(&many), @"line 1: a table has at most 10000 machines; make a rule for each part of it");
    }
}
