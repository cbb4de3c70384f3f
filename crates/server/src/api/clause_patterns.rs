//! Clauses that are named by their addresses or by patterns of them, as freezes and concessions do.

use crate::problem::ApiError;
use std::collections::BTreeSet;

/// This many clauses are named at once, each of this length at most.
const MAX_CLAUSES: usize = 100;
const LONGEST_CLAUSE: usize = 300;

/// Checks the addresses and patterns of `what`, as in `a freeze`.
///
/// # Errors
///
/// Returns what is expected instead.
pub fn check_clauses(what: &str, clauses: &BTreeSet<String>) -> Result<(), ApiError> {
    let is_clause = |text: &String| {
        text.split_once(':').is_some_and(|(kind, name)| !kind.is_empty() && !name.is_empty())
            && text.len() <= LONGEST_CLAUSE
            && !text.chars().any(char::is_control)
    };
    if clauses.len() <= MAX_CLAUSES && clauses.iter().all(is_clause) {
        return Ok(());
    }
    let form = format!(
        "{what} names at most {MAX_CLAUSES} clauses, each as kind:name or as a pattern of that, for example file:/etc/ssh/*"
    );
    Err(ApiError::invalid("clauses", form))
}

/// Returns a pattern as SQL's `like` has it, with `\` before literal characters.
pub fn as_like(pattern: &str) -> String {
    let each = |c: char| match c {
        '*' => "%".to_owned(),
        '?' => "_".to_owned(),
        '%' | '_' | '\\' => format!("\\{c}"),
        other => other.to_string(),
    };
    pattern.chars().map(each).collect()
}

#[cfg(test)]
mod tests {
    use super::as_like;

    #[test]
    fn patterns_of_clauses_are_those_of_like_with_what_that_takes_otherwise_escaped() {
        assert_eq!(as_like("file:/etc/ssh/*"), "file:/etc/ssh/%");
        assert_eq!(as_like("file:/etc/a_b%?\\"), "file:/etc/a\\_b\\%_\\\\");
    }
}
