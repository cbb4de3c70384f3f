//! Baseline documents: one named list of clauses with parameters, severity and controls.

use super::Memo;
use super::clause::{ClauseDocument, read_clauses};
use super::manifest::name_of;
use crate::document::Finding;
use crate::document::keys::BASELINE_KEYS;
use crate::document::{Element, Fields};
use crate::document::{Located, located, located_text, owned};
use crate::filter::{Condition, Items};
use crate::kind::Kind;
use crate::param::{self, Parameter};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashMap;
use std::sync::Arc;

/// Its severity.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the words say it")]
pub enum Severity {
    Low,
    Medium,
    High,
    Critical,
}

/// What is done about drift.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum OnDrift {
    /// It is corrected.
    Correct,
    /// It is only reported; the more careful one.
    Report,
}

/// What is done about what is newly wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum OnRollout {
    /// It is applied.
    Apply,
    /// It waits for an operator; the more careful.
    Wait,
}

/// Whether the thing must not exist.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Gone {
    /// It must exist.
    No,
    /// It must not.
    Yes,
    /// Neither it nor its settings; for packages.
    WithSettings,
}

impl Gone {
    /// Returns what a written or rendered value says; none if it is none of these.
    pub fn of(value: &Value) -> Option<Self> {
        match value {
            Value::Bool(true) => Some(Self::Yes),
            Value::Bool(false) => Some(Self::No),
            Value::String(word) if word == "with_settings" => Some(Self::WithSettings),
            _ => None,
        }
    }
}

/// One baseline as written.
#[derive(Debug, Clone)]
pub struct Baseline {
    /// Its name.
    pub name: Located<String>,
    /// What it is for.
    pub summary: String,
    /// The severity of clauses that say none.
    pub severity: Severity,
    /// The controls that its clauses satisfy.
    pub satisfies: Vec<String>,
    /// Baselines of this kit (`login`) or of a required one (`quay-base/login`) that come before it.
    pub include: Vec<Located<String>>,
    /// Its parameters.
    pub parameters: Vec<Parameter>,
    /// What all its clauses need.
    pub needs: Vec<Located<String>>,
    /// Its switch for drift.
    pub on_drift: Option<OnDrift>,
    /// Its switch for what is newly wanted.
    pub on_rollout: Option<OnRollout>,
    /// The condition of all its clauses.
    pub condition: Option<Located<String>>,
    /// Its clauses.
    pub clauses: Vec<ClauseDocument>,
    /// Its conditions and loops as far as they could be read, by their text.
    pub(crate) compiled: Compiled,
}

/// Conditions and loops that were read, by their text; each is read once.
#[derive(Debug, Clone, Default)]
pub(crate) struct Compiled {
    pub conditions: HashMap<String, Arc<Condition>>,
    pub items: HashMap<String, Arc<Items>>,
    /// Room for what resolving learnt of its parameters.
    pub(crate) memo: Memo,
}

pub(super) const SEVERITIES: &[(&str, Severity)] = &[
    ("low", Severity::Low),
    ("medium", Severity::Medium),
    ("high", Severity::High),
    ("critical", Severity::Critical),
];
pub(super) const ON_DRIFT: &[(&str, OnDrift)] = &[("correct", OnDrift::Correct), ("report", OnDrift::Report)];
pub(super) const ON_ROLLOUT: &[(&str, OnRollout)] = &[("apply", OnRollout::Apply), ("wait", OnRollout::Wait)];

pub(crate) fn read(
    element: &Element,
    text: &str,
    custom_kinds: &[Kind],
    findings: &mut Vec<Finding>,
) -> Option<Baseline> {
    let mut document = Fields::open(element, "the document", findings)?;
    let head = document.require("baseline", "the document", findings);
    let parameters = document
        .take("params")
        .map(|element| param::read_declarations(element, findings))
        .unwrap_or_default();
    let clauses = document
        .take("clause")
        .map(|element| read_clauses(element, text, custom_kinds, findings))
        .unwrap_or_default();
    document.finish("the document", findings);

    let mut head = Fields::open_listed(head?, "[baseline]", BASELINE_KEYS, findings)?;
    let name =
        head.require("name", "[baseline]", findings).and_then(|element| name_of(element, "name", findings));
    let baseline = Baseline {
        summary: head.text("summary", findings).map(|(text, _)| text.to_owned()).unwrap_or_default(),
        severity: head.word("severity", SEVERITIES, findings).unwrap_or(Severity::Medium),
        satisfies: owned(&head.texts("satisfies", findings)),
        include: located(&head.texts("include", findings)),
        needs: located(&head.texts("needs", findings)),
        on_drift: head.word("on_drift", ON_DRIFT, findings),
        on_rollout: head.word("on_rollout", ON_ROLLOUT, findings),
        condition: located_text(head.text("where", findings)),
        parameters,
        clauses,
        compiled: Compiled::default(),
        name: name.unwrap_or_else(|| Located { value: String::new(), place: element.place.clone() }),
    };
    head.finish("[baseline]", findings);
    Some(baseline)
}
