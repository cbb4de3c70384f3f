//! Tables that people bring as CSV (RFC 4180): a line with the names of the columns, then a line for each thing.

use std::collections::BTreeSet;

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

/// Reads a table. `check_column` says what is wrong with the name of a column; `read` makes something of the cells of a line, each with
/// its column. No two lines may have one name, which `name_of` returns; there is one line at least, and at most `most`.
///
/// # Errors
///
/// Returns everything that is wrong with it, at most 20 of it.
pub fn read_lines<T>(
    text: &str,
    most: usize,
    check_column: impl Fn(&str) -> Result<(), String>,
    read: impl Fn(&mut dyn Iterator<Item = (&str, &str)>) -> Result<T, String>,
    name_of: impl Fn(&T) -> &str,
) -> Result<Vec<T>, Vec<TableError>> {
    let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
    let header = reader.headers().map_err(|error| vec![broken(&error)])?.clone();
    let columns: Vec<&str> = header.iter().collect();
    let mut errors = wrong_columns(&columns, check_column);
    if !errors.is_empty() {
        return Err(errors);
    }
    let mut all: Vec<T> = Vec::new();
    let mut lines = std::collections::BTreeMap::new();
    for record in reader.records() {
        match record {
            Ok(record) => {
                let line = record.position().map_or(0, csv::Position::line);
                match read(&mut columns.iter().copied().zip(&record)) {
                    Ok(one) => {
                        if let Some(first) = lines.insert(name_of(&one).to_owned(), line) {
                            let message = format!("{} is named in line {first} already", name_of(&one));
                            errors.push(TableError { line, message });
                        }
                        all.push(one);
                    }
                    Err(message) => errors.push(TableError { line, message }),
                }
            }
            Err(error) => errors.push(broken(&error)),
        }
        if all.len() > most {
            errors.push(TableError {
                line: 1,
                message: format!("a table has at most {most} lines; bring it in parts"),
            });
        }
        if errors.len() >= MAX_ERRORS || all.len() > most {
            break;
        }
    }
    if all.is_empty() && errors.is_empty() {
        errors.push(TableError { line: 1, message: "no line follows the names of the columns".to_owned() });
    }
    if errors.is_empty() { Ok(all) } else { Err(errors) }
}

fn wrong_columns(columns: &[&str], check: impl Fn(&str) -> Result<(), String>) -> Vec<TableError> {
    let mut errors = Vec::new();
    let mut add = |message: String| errors.push(TableError { line: 1, message });
    if !columns.contains(&"name") {
        add(format!(
            "no column is called `name`; the columns are {}: the first line has the names of the columns, as name,site,role",
            columns.iter().map(|column| format!("{column:?}")).collect::<Vec<_>>().join(", ")
        ));
        return errors;
    }
    let mut seen = BTreeSet::new();
    for column in columns {
        if !seen.insert(column) {
            add(format!("two columns are called {column:?}"));
        }
        if let Err(because) = check(column) {
            add(because);
        }
    }
    errors
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
