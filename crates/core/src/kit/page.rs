//! What a kit wants, for people who do not read documents.

use super::Kit;
use super::baseline::{Baseline, Gone, OnDrift, OnRollout, Severity};
use super::clause::ClauseDocument;
use crate::document::KitFiles;
use crate::param::Parameter;
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// The longest contents that a page shows, in bytes.
const LONGEST_SHOWN: usize = 4 * 1024;

/// A whole kit as a page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KitPage {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
    /// What it is for.
    pub summary: String,
    /// The kits that it requires.
    pub requires: Vec<String>,
    /// Its baselines.
    pub baselines: Vec<BaselinePage>,
}

/// One baseline on a page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BaselinePage {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub summary: String,
    /// Its document.
    pub file: String,
    /// The controls that all its clauses satisfy.
    pub satisfies: Vec<String>,
    /// The baselines that come before it.
    pub include: Vec<String>,
    /// Whom it is for, if not for every node that it is assigned to.
    pub only_where: Option<String>,
    /// What can be set.
    pub parameters: Vec<ParameterPage>,
    /// What it wants.
    pub clauses: Vec<ClausePage>,
}

/// One parameter on a page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ParameterPage {
    /// Its name.
    pub name: String,
    /// What it means.
    pub note: String,
    /// What it is where nobody sets it; none if it must be set.
    pub default: Option<String>,
}

/// One clause on a page.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClausePage {
    /// Its address.
    pub address: String,
    /// What is wanted of it, one sentence.
    pub wanted: String,
    /// How it should be, each a name and a value.
    pub details: Vec<(String, String)>,
    /// The contents that are written or rendered, where they are a short text.
    pub contents: Option<String>,
    /// What a person wanted to say of it.
    pub note: Option<String>,
    /// Its severity.
    pub severity: Severity,
    /// The controls that it satisfies beside the baseline's.
    pub satisfies: Vec<String>,
}

/// Returns a kit as a page.
pub fn page(kit: &Kit) -> KitPage {
    KitPage {
        name: kit.name.clone(),
        version: kit.version.to_string(),
        summary: kit.summary.clone(),
        requires: kit
            .requires
            .iter()
            .map(|required| format!("{} {}", required.kit, required.releases.value))
            .collect(),
        baselines: kit.baselines.iter().map(|baseline| baseline_page(kit, baseline)).collect(),
    }
}

fn baseline_page(kit: &Kit, baseline: &Baseline) -> BaselinePage {
    BaselinePage {
        name: baseline.name.value.clone(),
        summary: baseline.summary.clone(),
        file: baseline.name.place.file.to_string(),
        satisfies: baseline.satisfies.clone(),
        include: baseline.include.iter().map(|include| include.value.clone()).collect(),
        only_where: baseline.condition.as_ref().map(|condition| condition.value.clone()),
        parameters: baseline.parameters.iter().map(parameter_page).collect(),
        clauses: baseline.clauses.iter().map(|clause| clause_page(&kit.files, baseline, clause)).collect(),
    }
}

fn parameter_page(parameter: &Parameter) -> ParameterPage {
    ParameterPage {
        name: parameter.name.value.clone(),
        note: parameter.note.clone().unwrap_or_default(),
        default: parameter.default.as_ref().map(|default| words(&default.value)),
    }
}

fn clause_page(files: &KitFiles, baseline: &Baseline, clause: &ClauseDocument) -> ClausePage {
    let common = &clause.common;
    ClausePage {
        address: clause.what.value.clone(),
        wanted: wanted(clause),
        details: details(clause),
        contents: contents(files, clause),
        note: common.note.clone(),
        severity: common.severity.unwrap_or(baseline.severity),
        satisfies: common.satisfies.clone(),
    }
}

fn wanted(clause: &ClauseDocument) -> String {
    let name = clause.what.value.split_once(':').map_or("", |(_, name)| name);
    let noun = clause.kind.noun();
    let flag = |name: &str| {
        clause
            .properties
            .iter()
            .find(|(property, _)| *property == name)
            .and_then(|(_, value)| value.value.as_bool())
    };
    let unless = clause
        .common
        .gone_if
        .as_ref()
        .map(|template| format!(", unless {} holds: then it must not exist", template.value))
        .unwrap_or_default();
    let many = clause
        .loops
        .iter()
        .map(|one| format!(", once for each {} in {}", one.name, one.over.value))
        .collect::<String>();
    let sentence = match (clause.kind.name(), clause.common.gone) {
        (_, Gone::Yes) if !clause.kind.correctable() => format!("Nothing may be found of the {noun} {name}"),
        (_, Gone::Yes) => format!("The {noun} {name} must not exist"),
        (_, Gone::WithSettings) => {
            format!("The {noun} {name} must not be installed, and its settings are removed")
        }
        ("package", Gone::No) => format!("The {noun} {name} is installed"),
        ("service", Gone::No) => match (flag("running"), flag("enabled")) {
            (Some(true), Some(true)) => format!("The {noun} {name} runs, and starts at boot"),
            (Some(true), _) => format!("The {noun} {name} runs"),
            (Some(false), _) => format!("The {noun} {name} is stopped"),
            (None, Some(true)) => format!("The {noun} {name} starts at boot"),
            (None, _) => format!("The {noun} {name}"),
        },
        ("command" | "probe", Gone::No) => {
            format!(
                "{}{}",
                name.chars().next().map(|c| c.to_uppercase().to_string()).unwrap_or_default(),
                name.chars().skip(1).collect::<String>()
            )
        }
        _ => format!("The {noun} {name} is there"),
    };
    format!("{sentence}{many}{unless}.")
}

fn details(clause: &ClauseDocument) -> Vec<(String, String)> {
    let common = &clause.common;
    let mut details: Vec<(String, String)> = Vec::new();
    for (name, value) in &clause.properties {
        let is_concealed =
            common.conceal || clause.kind.property(name).is_some_and(|property| property.concealed);
        let value_text = match name.as_str() {
            _ if is_concealed => "(concealed)".to_owned(),
            "text" if clause.kind.name() == "file" => continue,
            "copy" | "render" => format!(
                "{} of the kit: {}",
                if *name == "copy" { "a file" } else { "filled in from a file" },
                words(&value.value)
            ),
            "argv" | "check_with" => value.value.as_array().map_or_else(
                || words(&value.value),
                |argv| argv.iter().map(words).collect::<Vec<_>>().join(" "),
            ),
            _ => words(&value.value),
        };
        details.push((name.replace('_', " "), value_text));
    }
    let list = |texts: &[crate::document::Located<String>]| {
        texts.iter().map(|text| text.value.clone()).collect::<Vec<_>>().join(", ")
    };
    let mut add = |name: &str, value: Option<String>| {
        details.extend(value.filter(|value| !value.is_empty()).map(|value| (name.to_owned(), value)));
    };
    add("applies only where", common.condition.as_ref().map(|condition| condition.value.clone()));
    add("only after", Some(list(&common.needs)));
    let reaction = common.reaction.map_or("runs", |reaction| match reaction {
        crate::kind::Reaction::Reload => "reads its configuration again",
        crate::kind::Reaction::Restart => "is restarted",
        crate::kind::Reaction::Run => "runs",
    });
    add(&format!("{reaction} when one of these changed"), Some(list(&common.reacts_to)));
    add("drift", (common.on_drift == Some(OnDrift::Report)).then(|| "reported only".to_owned()));
    add("rollout", (common.on_rollout == Some(OnRollout::Wait)).then(|| "waits for an operator".to_owned()));
    details
}

fn contents(files: &KitFiles, clause: &ClauseDocument) -> Option<String> {
    if clause.common.conceal {
        return None;
    }
    let find = |name: &str| {
        clause
            .properties
            .iter()
            .find(|(property, _)| *property == name)
            .and_then(|(_, value)| value.value.as_str())
    };
    let text = match clause.kind.name() {
        "file" => find("text")
            .or_else(|| files.text(&format!("copies/{}", find("copy")?)))
            .or_else(|| files.text(&format!("renders/{}", find("render")?)))?,
        _ => return None,
    };
    (text.len() <= LONGEST_SHOWN).then(|| text.to_owned())
}

fn words(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        Value::Bool(true) => "yes".to_owned(),
        Value::Bool(false) => "no".to_owned(),
        Value::Array(items) if items.is_empty() => "none".to_owned(),
        Value::Array(items) => items.iter().map(words).collect::<Vec<_>>().join(", "),
        other => other.to_string(),
    }
}
