//! apt's sources in the format of sources.list(5), deb822 style.

use super::{Format, Written};
use crate::error::HostError;
use constans_core::compare::FoundValue;
use constans_core::state::Clause;
use serde_json::json;

pub(super) const FORMAT: Format = Format {
    needs: "/etc/apt",
    folder: "/etc/apt/sources.list.d",
    extension: "sources",
    keys: "/etc/apt/keyrings",
    read,
    write,
};

/// Returns the value of a field of a deb822(5) text.
fn field(text: &str, name: &str) -> Option<String> {
    text.lines()
        .filter_map(|line| line.split_once(':'))
        .find(|(key, _)| key.eq_ignore_ascii_case(name))
        .map(|(_, value)| value.trim().to_owned())
}

fn read(_: &str, text: &str) -> Written {
    let words = |name: &str| {
        field(text, name)
            .map(|value| value.split_whitespace().map(str::to_owned).collect::<Vec<_>>())
            .unwrap_or_default()
    };
    Written {
        is_enabled: field(text, "Enabled").is_none_or(|value| value != "no"),
        url: words("URIs").join(" "),
        suite: FoundValue::Value(json!(words("Suites").join(" "))),
        parts: FoundValue::Value(json!(words("Components"))),
        key: field(text, "Signed-By"),
    }
}

fn write(clause: &Clause, key: Option<&str>) -> Result<String, HostError> {
    let suite = clause.text("suite").unwrap_or("./");
    let mut lines = vec![
        "Types: deb".to_owned(),
        format!("URIs: {}", clause.text("url").unwrap_or_default()),
        format!("Suites: {suite}"),
    ];
    let parts = clause.list("parts");
    match (suite.ends_with('/'), parts.is_empty()) {
        (true, false) => {
            return Err(HostError::new(format!("the suite {suite} is a folder, which has no parts"))
                .remedy("remove `parts`"));
        }
        (false, true) => lines.push("Components: main".to_owned()),
        (true, true) => {}
        (false, false) => lines.push(format!("Components: {}", parts.join(" "))),
    }
    lines.extend(key.map(|key| format!("Signed-By: {key}")));
    Ok(format!("{}\n", lines.join("\n")))
}
