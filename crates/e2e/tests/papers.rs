//! The generated parts of the papers, held against the code they speak of.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_core::kind::{KINDS, ValueType};
use constans_core::kit::Gone;
use constans_wire::exit::Exit;
use std::fmt::Write as _;
use std::path::PathBuf;

fn held(name: &str, text: &str) {
    let path = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../../docs/reference").join(name);
    if std::env::var_os("WRITE_PAPERS").is_some() {
        std::fs::write(&path, text).unwrap();
    }
    let written = std::fs::read_to_string(&path).unwrap_or_default();
    assert_eq!(written, text, "{} is out of date: WRITE_PAPERS=1 cargo test -p constans-e2e --test papers", path.display());
}

#[test]
fn the_table_of_exit_codes_is_current() {
    let mut text = "# Exit codes\n\nAll commands end with one of these.\n\n| code | meaning |\n|---|---|\n".to_owned();
    for (exit, meaning) in Exit::TABLE {
        let _ = writeln!(text, "| {} | {meaning} |", exit.code());
    }
    held("exit-codes.md", &text);
}

#[test]
fn the_reference_of_kinds_is_current() {
    let mut text = "# Kinds\n\nMade from the table of kinds in the code.\n".to_owned();
    for kind in KINDS {
        let _ = writeln!(text, "\n## {}\n{}.", kind.name, kind.purpose);
        if kind.can_be_gone {
            let packages = if kind.name == "package" {
                format!(", or `\"{}\"`", serde_json::to_value(Gone::WithSettings).unwrap().as_str().unwrap())
            } else {
                String::new()
            };
            let _ = writeln!(text, "It can be `gone = true`{packages}.");
        }
        if !kind.reactions.is_empty() {
            let words: Vec<String> = kind.reactions.iter().map(|reaction| format!("`{}`", reaction.word())).collect();
            let _ = writeln!(text, "It reacts by {}.", words.join(" or "));
        }
        let _ = writeln!(text, "\n| property | takes | |\n|---|---|---|");
        for property in kind.properties {
            let concealed = if property.concealed { "; never shown" } else { "" };
            let _ = writeln!(text, "| `{}` | {} | {}{concealed} |", property.name, takes(property.value), property.note);
        }
        let _ = writeln!(text, "\n```toml\n{}```", kind.example);
    }
    held("kinds.md", &text);
}

fn takes(value: ValueType) -> &'static str {
    match value {
        ValueType::Text | ValueType::Contents => "text",
        ValueType::KitPath => "path below the kit's folder for it",
        ValueType::Path => "absolute path",
        ValueType::LinkTarget => "path",
        ValueType::Boolean => "true or false",
        ValueType::Id => "whole number",
        ValueType::Permissions => "octal digits in quotes",
        ValueType::TextSet => "list of texts, order does not count",
        ValueType::Argv => "list: program and arguments",
        ValueType::Condition => "path, or list: program and arguments",
        ValueType::TextMap => "map of texts",
        ValueType::Duration => "\"30s\", \"5m\", \"2h\", \"1d\"",
        ValueType::Version => "version, pattern, range or \"newest\"",
        ValueType::PasswordHash => "crypt(5) hash",
    }
}

#[test]
fn every_example_of_a_kind_passes_the_check() {
    for kind in KINDS {
        let mut document = format!("[baseline]\nname = \"example\"\n\n{}", kind.example);
        if kind.example.contains("reacts_to") {
            document += "\n[[clause]]\nwhat = \"file:/etc/kiosk/shell.conf\"\n";
        }
        let checked = constans_core::kit::check_single("example.toml", document.into_bytes());
        assert_eq!(checked.findings, [], "{}", kind.name);
    }
}
