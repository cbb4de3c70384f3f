//! Tables of expected machines.

use super::rule::{MAX_EXPECTED, read_key};
use crate::table::{TableError, read_lines};
use crate::words::{check_label, check_node_name};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

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

/// Reads a table of machines. Its columns are `name`, perhaps `fingerprint`, and each other one is that of a label; an empty cell gives
/// the machine no such label.
///
/// # Errors
///
/// Returns everything that is wrong with it, at most 20 of it.
pub fn read_table(text: &str) -> Result<Vec<ExpectedMachine>, Vec<TableError>> {
    let check_column = |column: &str| match column {
        "name" | "fingerprint" => Ok(()),
        label => check_label(label, ""),
    };
    read_lines(text, MAX_EXPECTED, check_column, read_machine, |machine: &ExpectedMachine| &machine.name)
}

fn read_machine(cells: &mut dyn Iterator<Item = (&str, &str)>) -> Result<ExpectedMachine, String> {
    let mut machine = ExpectedMachine::default();
    for (column, cell) in cells {
        match column {
            "name" => {
                check_node_name(cell).map_err(|because| format!("{cell:?}: {because}"))?;
                cell.clone_into(&mut machine.name);
            }
            _ if cell.is_empty() => {}
            "fingerprint" => machine.key = Some(read_key(cell)?),
            key => {
                check_label(key, cell)?;
                machine.labels.insert(key.to_owned(), cell.to_owned());
            }
        }
    }
    Ok(machine)
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
        insta::assert_snapshot!(errors("host,site\nkiosk-lab-1,auken\n"), @r#"line 1: no column is called `name`; the columns are "host", "site": the first line has the names of the columns, as name,site,role"#);
        insta::assert_snapshot!(errors("name,si te,name\n"), @r#"
        line 1: "si te" is no key of a label: it has letters, digits, `-`, `.`, `_` and `/`, at most 63, and begins with a letter or digit
        line 1: two columns are called "name"
        "#);
        insta::assert_snapshot!(errors("name\n"), @"line 1: no line follows the names of the columns");
        let many: String =
            (0..=MAX_EXPECTED).fold("name\n".to_owned(), |text, at| text + &format!("kiosk-{at}\n"));
        insta::assert_snapshot!(errors(&many), @"line 1: a table has at most 10000 lines; bring it in parts");
    }
}
