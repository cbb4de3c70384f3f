//! Rules for names, labels and reasons: text that is shown in lists, pages and terminals must not deceive its readers.

/// The longest key of a label, in characters.
const LONGEST_KEY: usize = 63;
/// The longest value of a label, in characters.
const LONGEST_VALUE: usize = 128;
/// The most labels that are given at once.
pub const MAX_LABELS: usize = 64;
/// The longest reason, in characters.
const LONGEST_REASON: usize = 500;

/// Checks a label.
///
/// # Errors
///
/// Returns what is wrong with it, and how labels are written.
pub fn check_label(key: &str, value: &str) -> Result<(), String> {
    let is_key = (1..=LONGEST_KEY).contains(&key.len())
        && key.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_' | '/'))
        && key.starts_with(|c: char| c.is_ascii_alphanumeric());
    if !is_key {
        return Err(format!(
            "{key:?} is no key of a label: it has letters, digits, `-`, `.`, `_` and `/`, at most {LONGEST_KEY}, and begins with a letter or digit"
        ));
    }
    if value.chars().count() > LONGEST_VALUE || value.chars().any(is_hidden) || value.trim() != value {
        return Err(format!(
            "the label {key} has the value {value:?}: a value has at most {LONGEST_VALUE} characters, none of them hidden, and no space around it"
        ));
    }
    Ok(())
}

/// Reads a label as it is written on a command line, `KEY=VALUE`.
///
/// # Errors
///
/// Returns what is wrong with it.
pub fn read_label(text: &str) -> Result<(String, String), String> {
    let (key, value) = text.split_once('=').ok_or("write KEY=VALUE")?;
    check_label(key, value)?;
    Ok((key.to_owned(), value.to_owned()))
}

/// Checks a reason that a person gives.
///
/// # Errors
///
/// Returns what is wrong with it.
pub fn check_reason(text: &str) -> Result<(), String> {
    if text.trim().is_empty() {
        return Err("a reason is not empty".to_owned());
    }
    if text.chars().count() > LONGEST_REASON || text.chars().any(is_hidden) {
        return Err(format!(
            "a reason has at most {LONGEST_REASON} characters on one line, none of them hidden"
        ));
    }
    Ok(())
}

/// Checks the name of a person, by which one signs in and which is in the audit trail.
///
/// # Errors
///
/// Returns what is wrong with it.
pub fn check_person(name: &str) -> Result<(), String> {
    let fine = (1..=LONGEST_KEY + 1).contains(&name.len())
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '.' | '-' | '_'))
        && name.starts_with(|c: char| c.is_ascii_lowercase());
    if fine {
        Ok(())
    } else {
        Err("the name of a person has lower-case letters, digits, `.`, `-`, `_`, at most 64, and begins with a letter".to_owned())
    }
}

/// Checks the name of a node: names are hosts' names, and must not deceive those who read them.
///
/// # Errors
///
/// Returns what is wrong with it.
pub fn check_node_name(name: &str) -> Result<(), String> {
    let fine = (1..=253).contains(&name.len())
        && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_'))
        && !name.starts_with(['-', '.']);
    if fine {
        Ok(())
    } else {
        Err("a node's name has letters, digits, `-`, `.`, `_`, at most 253, and begins with a letter or digit".to_owned())
    }
}

/// Checks what a person calls something that only they name, as a token.
///
/// # Errors
///
/// Returns what is wrong with it.
pub fn check_name(name: &str) -> Result<(), String> {
    if name.is_empty()
        || name.chars().count() > LONGEST_VALUE
        || name.chars().any(is_hidden)
        || name.trim() != name
    {
        return Err(format!(
            "a name has 1 to {LONGEST_VALUE} characters on one line, none of them hidden, and no space around it"
        ));
    }
    Ok(())
}

/// Control characters, and those that change the direction of what is read (Unicode TR #36) or have no width.
pub(crate) fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c, '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{2069}' | '\u{061c}' | '\u{feff}')
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn labels_are_ordinary_words_and_hide_nothing() {
        for (key, value) in
            [("role", "kiosk"), ("constructor", "__proto__"), ("site/pier", "Auken, øst"), ("ship", "")]
        {
            assert_eq!(check_label(key, value), Ok(()), "{key}");
        }
        let long = "x".repeat(129);
        for (key, value) in [
            ("", "x"),
            ("a b", "x"),
            ("-a", "x"),
            ("röle", "x"),
            ("role", "a\u{202e}b"),
            ("role", "a\nb"),
            ("role", " a"),
            ("role", &long),
        ] {
            assert!(check_label(key, value).is_err(), "{key:?}={value:?}");
        }
        let error = check_label("role", "\u{1b}[2J").unwrap_err();
        assert!(!error.contains('\u{1b}'), "what is hidden is not printed: {error}");
    }

    #[test]
    fn names_are_seen_whole() {
        assert_eq!((check_person("tor.havik"), check_name("nightly report, Auken")), (Ok(()), Ok(())));
        for name in ["", "Tor", "1tor", "tor havik", "t\u{f6}r", &"x".repeat(65)] {
            assert!(check_person(name).is_err(), "{name:?}");
        }
        for name in ["", " a", "a\nb", "a\u{202e}b", &"x".repeat(129)] {
            assert!(check_name(name).is_err(), "{name:?}");
        }
    }

    #[test]
    fn a_reason_is_one_line() {
        assert_eq!(check_reason("Auken's pier is being rebuilt, see minutes of 2026-11-20"), Ok(()));
        for text in ["", "  ", "a\nb", &"x".repeat(501), "a\u{2066}b"] {
            assert!(check_reason(text).is_err(), "{text:?}");
        }
    }
}
