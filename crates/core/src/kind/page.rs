//! The reference of one kind, made from the table.

use super::one::Kind;
use crate::document::keys::CLAUSE_KEYS;
use serde::{Deserialize, Serialize};
use std::fmt::Write as _;

/// What there is to know of a kind.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KindPage {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: String,
    /// What one wants to achieve by it.
    pub achieves: Vec<String>,
    /// What its names look like.
    pub names: String,
    /// What a clause of it claims.
    pub claims: String,
    /// What it needs on the node.
    pub on_node: String,
    /// The reactions that it knows.
    pub reactions: Vec<String>,
    /// Whether its things can be wanted gone.
    pub can_be_gone: bool,
    /// Whether it is corrected; what is not is only looked at.
    pub correctable: bool,
    /// Properties of which a clause has one at most.
    pub either: Vec<String>,
    /// Its own properties.
    pub properties: Vec<PropertyPage>,
    /// What else a person should know of it; only custom kinds say it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub docs: String,
    /// The shortest useful clause.
    pub example: String,
}

/// What there is to know of a property.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct PropertyPage {
    /// Its name.
    pub name: String,
    /// What values it takes.
    pub takes: String,
    /// What it means.
    pub note: String,
    /// Whether a clause must have it.
    pub required: bool,
    /// What it counts as if it is left out.
    pub default: Option<String>,
    /// Whether its value is never shown.
    pub concealed: bool,
}

/// Returns what there is to know of a kind.
pub fn kind_page(kind: &Kind) -> KindPage {
    let properties = kind.properties().map(|property| PropertyPage {
        name: property.name.to_owned(),
        takes: property.value.words(),
        note: property.note.to_owned(),
        required: property.required,
        default: property.default.map(str::to_owned),
        concealed: property.concealed,
    });
    let owned = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect();
    KindPage {
        name: kind.name().to_owned(),
        purpose: kind.purpose().to_owned(),
        achieves: owned(kind.achieves()),
        names: kind.naming().words().to_owned(),
        claims: kind.claims(),
        on_node: kind.on_node().to_owned(),
        reactions: kind.reactions().iter().map(|reaction| reaction.word().to_owned()).collect(),
        can_be_gone: kind.can_be_gone(),
        correctable: kind.correctable(),
        either: owned(kind.either()),
        properties: properties.collect(),
        docs: kind.docs().to_owned(),
        example: kind.example().trim_start().to_owned(),
    }
}

/// Returns the reference of all kinds as Markdown.
pub fn kinds_as_markdown() -> String {
    let mut text = String::from(
        "# Kinds\n\nMade from the table of kinds in the code. `constans kind find \"close a port\"` finds one by what you want to achieve,\n\
         `constans kind show file` prints one of these, and `constans kind schema` the JSON Schema for your editor.\n\n",
    );
    text += "| kind | |\n|---|---|\n";
    for kind in super::KINDS.iter() {
        let _ = writeln!(text, "| [{}](#{}) | {} |", kind.name(), kind.name(), kind.purpose());
    }
    text += "\n## What every clause may say\n\n| key | takes | |\n|---|---|---|\n";
    for key in CLAUSE_KEYS {
        let _ = writeln!(text, "| `{}` | {} | {} |", key.name, key.takes.words(), key.note);
    }
    for kind in super::KINDS.iter() {
        text.push('\n');
        text += &as_markdown(&kind_page(kind));
    }
    text
}

fn as_markdown(page: &KindPage) -> String {
    let mut text = format!("## {}\n{}.\n\n", page.name, page.purpose);
    let mut line = |name: &str, value: &str| {
        let _ = writeln!(text, "- {name}: {value}");
    };
    line("for instance", &page.achieves.join("; "));
    line("names", &page.names);
    line("claims", &page.claims);
    line("needs on the node", &page.on_node);
    if !page.correctable {
        line("never corrected", "it only looks");
    }
    if !page.reactions.is_empty() {
        line(
            "reacts by",
            &page.reactions.iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", "),
        );
    }
    if page.can_be_gone {
        line("`gone`", if page.name == "package" { "`true`, or `\"with_settings\"`" } else { "`true`" });
    }
    if !page.either.is_empty() {
        line(
            "one at most",
            &page.either.iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", "),
        );
    }
    text += "\n| property | takes | |\n|---|---|---|\n";
    for property in &page.properties {
        let default =
            property.default.as_ref().map(|default| format!("; `{default}` if left out")).unwrap_or_default();
        let concealed = if property.concealed { "; never shown" } else { "" };
        let required = if property.required { "; required" } else { "" };
        let takes = property.takes.replace('|', "\\|");
        let _ = writeln!(
            text,
            "| `{}` | {takes} | {}{required}{default}{concealed} |",
            property.name,
            property.note.replace('|', "\\|")
        );
    }
    let _ = write!(text, "\n```toml\n{}```\n", page.example);
    text
}
