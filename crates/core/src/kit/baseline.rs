//! Baseline documents: one named list of clauses with parameters, severity and controls.

use super::codes::Code;
use super::document::{Fields, Node, NodeValue, wrong_type};
use super::files::Place;
use super::finding::Finding;
use super::manifest::name_of;
use crate::kind::{self, Kind, Reaction, nearest_word};
use crate::param::{self, Parameter};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// How much it matters.
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
    /// It is only told; the more careful.
    Tell,
}

/// What is done about what is newly wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum OnRollout {
    /// It is brought in.
    BringIn,
    /// It waits for a person; the more careful.
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

/// A value with its place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Located<T> {
    /// The value.
    pub value: T,
    /// Where it stands.
    pub place: Place,
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
}

/// One clause as written: nothing is rendered yet.
#[derive(Debug, Clone)]
pub struct ClauseDocument {
    /// Its address, perhaps to be rendered.
    pub what: Located<String>,
    /// Its kind.
    pub kind: &'static Kind,
    /// The kind's properties, as written.
    pub properties: Vec<(&'static str, Located<Value>)>,
    /// What every clause may say, whatever its kind.
    pub common: Common,
}

/// What every clause may say, whatever its kind.
#[derive(Debug, Clone)]
pub struct Common {
    /// What must be in line before it is corrected.
    pub needs: Vec<Located<String>>,
    /// What it reacts to.
    pub reacts_to: Vec<Located<String>>,
    /// How it reacts.
    pub reaction: Option<Reaction>,
    /// Words to select it by.
    pub topics: Vec<String>,
    /// Its own severity.
    pub severity: Option<Severity>,
    /// Controls beside the baseline's.
    pub satisfies: Vec<String>,
    /// Its own switch for drift.
    pub on_drift: Option<OnDrift>,
    /// Its own switch for what is newly wanted.
    pub on_rollout: Option<OnRollout>,
    /// How long its drift is left as it is, in seconds; only lengthens the node's.
    pub grace_secs: Option<u64>,
    /// Its condition.
    pub condition: Option<Located<String>>,
    /// Whether it must not exist.
    pub gone: Gone,
    /// Whether its values are never shown.
    pub conceal: bool,
    /// Whether nothing in it is rendered.
    pub literal: bool,
    /// The backend to use instead of the chosen one.
    pub via: Option<String>,
    /// What a person wants to say of it.
    pub note: Option<String>,
}

const SEVERITIES: &[(&str, Severity)] =
    &[("low", Severity::Low), ("medium", Severity::Medium), ("high", Severity::High), ("critical", Severity::Critical)];
const ON_DRIFT: &[(&str, OnDrift)] = &[("correct", OnDrift::Correct), ("tell", OnDrift::Tell)];
const ON_ROLLOUT: &[(&str, OnRollout)] = &[("bring_in", OnRollout::BringIn), ("wait", OnRollout::Wait)];
const REACTIONS: &[(&str, Reaction)] = &[("restart", Reaction::Restart), ("reload", Reaction::Reload), ("run", Reaction::Run)];

/// The properties that every clause may have.
pub const COMMON: &[&str] = &[
    "what",
    "needs",
    "reacts_to",
    "reaction",
    "topics",
    "severity",
    "satisfies",
    "on_drift",
    "on_rollout",
    "grace",
    "where",
    "gone",
    "conceal",
    "literal",
    "via",
    "note",
];

pub(super) fn read(node: &Node, text: &str, findings: &mut Vec<Finding>) -> Option<Baseline> {
    let mut document = Fields::open(node, "the document", findings)?;
    let head = document.require("baseline", "the document", findings);
    let parameters = document.take("params").map(|node| param::read_declarations(node, findings)).unwrap_or_default();
    let clauses = document.take("clause").map(|node| read_clauses(node, text, findings)).unwrap_or_default();
    document.finish("the document", findings);

    let mut head = Fields::open(head?, "[baseline]", findings)?;
    let name = head.require("name", "[baseline]", findings).and_then(|node| name_of(node, "name", findings));
    if let Some(node) = head.take("include") {
        findings.push(not_yet("include", &node.place));
    }
    let baseline = Baseline {
        summary: head.text("summary", findings).map(|(text, _)| text.to_owned()).unwrap_or_default(),
        severity: head.word("severity", SEVERITIES, findings).unwrap_or(Severity::Medium),
        satisfies: owned(&head.texts("satisfies", findings)),
        needs: located(&head.texts("needs", findings)),
        on_drift: head.word("on_drift", ON_DRIFT, findings),
        on_rollout: head.word("on_rollout", ON_ROLLOUT, findings),
        condition: head.text("where", findings).map(|(text, place)| Located { value: text.to_owned(), place: place.clone() }),
        parameters,
        clauses,
        name: name.unwrap_or_else(|| Located { value: String::new(), place: node.place.clone() }),
    };
    head.finish("[baseline]", findings);
    Some(baseline)
}

fn not_yet(key: &str, place: &Place) -> Finding {
    Finding::error(Code::NotYet, place.clone(), format!("`{key}` belongs to the language, and this version of Constans does not read it yet"))
        .hint("write it out without it for now")
}

fn read_clauses(node: &Node, text: &str, findings: &mut Vec<Finding>) -> Vec<ClauseDocument> {
    let NodeValue::List(items) = &node.value else {
        findings.push(Finding::error(Code::WrongValue, node.place.clone(), "clauses are a list").hint("begin each with [[clause]], in two brackets"));
        return Vec::new();
    };
    items.iter().filter_map(|item| read_clause(item, text, findings)).collect()
}

fn read_clause(node: &Node, text: &str, findings: &mut Vec<Finding>) -> Option<ClauseDocument> {
    let mut fields = Fields::open(node, "a clause", findings)?;
    for later in ["for", "as"] {
        if let Some(node) = fields.take(later) {
            findings.push(not_yet(later, &node.place));
        }
    }
    let what = fields.text("what", findings);
    let common = Common {
        needs: located(&fields.texts("needs", findings)),
        reacts_to: located(&fields.texts("reacts_to", findings)),
        reaction: fields.word("reaction", REACTIONS, findings),
        topics: owned(&fields.texts("topics", findings)),
        severity: fields.word("severity", SEVERITIES, findings),
        satisfies: owned(&fields.texts("satisfies", findings)),
        on_drift: fields.word("on_drift", ON_DRIFT, findings),
        on_rollout: fields.word("on_rollout", ON_ROLLOUT, findings),
        grace_secs: fields.take("grace").and_then(|node| grace(node, findings)),
        condition: fields.text("where", findings).map(|(text, place)| Located { value: text.to_owned(), place: place.clone() }),
        gone: fields.take("gone").map_or(Gone::No, |node| gone(node, findings)),
        conceal: fields.boolean("conceal", findings).unwrap_or(false),
        literal: fields.boolean("literal", findings).unwrap_or(false),
        via: fields.text("via", findings).map(|(text, _)| text.to_owned()),
        note: fields.text("note", findings).map(|(text, _)| text.to_owned()),
    };
    let Some((what, what_place)) = what else {
        findings.push(
            Finding::error(Code::MissingKey, fields.place.clone(), "the clause does not say what it keeps")
                .hint("write what = \"kind:name\", as \"file:/etc/issue\""),
        );
        return None;
    };
    let kind = kind_of(what, what_place, text, findings)?;
    let properties = read_properties(kind, fields, findings);
    let clause = ClauseDocument { what: Located { value: what.to_owned(), place: what_place.clone() }, kind, properties, common };
    check_shape(&clause, findings);
    Some(clause)
}

fn kind_of(what: &str, place: &Place, text: &str, findings: &mut Vec<Finding>) -> Option<&'static Kind> {
    let (kind, name) = match what.split_once(':') {
        Some(parts) => parts,
        None => {
            findings.push(
                Finding::error(Code::NotAnAddress, place.clone(), format!("`{what}` has no `:` between kind and name"))
                    .hint("write kind:name, as \"file:/etc/issue\""),
            );
            return None;
        }
    };
    let found = kind::find(kind);
    if found.is_none() {
        let hint = match kind::nearest(kind) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("kinds are {}", kind::KINDS.iter().map(|kind| kind.name).collect::<Vec<_>>().join(", ")),
        };
        findings.push(Finding::error(Code::UnknownKind, place.within(text, what, 0..kind.len()), format!("unknown kind `{kind}`")).hint(hint));
    } else if name.is_empty() {
        findings.push(Finding::error(Code::NotAnAddress, place.clone(), format!("`{what}` has no name")));
        return None;
    }
    found
}

fn read_properties(kind: &'static Kind, fields: Fields<'_>, findings: &mut Vec<Finding>) -> Vec<(&'static str, Located<Value>)> {
    let mut properties = Vec::new();
    for (key, place, node) in fields.rest() {
        match kind.property(key) {
            Some(property) => properties.push((property.name, Located { value: node.to_json(), place: node.place.clone() })),
            None => {
                let own = kind.properties.iter().map(|property| property.name);
                let hint = match nearest_word(key, own.clone().chain(COMMON.iter().copied())) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("a {} has {}", kind.name, own.collect::<Vec<_>>().join(", ")),
                };
                findings.push(Finding::error(Code::UnknownKey, place.clone(), format!("a {} has no property `{key}`", kind.name)).hint(hint));
            }
        }
    }
    properties
}

/// Says what does not go together in a clause, as far as that can be seen before anything is rendered.
fn check_shape(clause: &ClauseDocument, findings: &mut Vec<Finding>) {
    let has = |name: &str| clause.properties.iter().any(|(property, _)| *property == name);
    let mut say = |code, message: String, hint: &str| findings.push(Finding::error(code, clause.what.place.clone(), message).hint(hint));
    let kind = clause.kind;
    if clause.common.gone != Gone::No {
        if !kind.can_be_gone {
            say(
                Code::CannotBeGone,
                format!("a {} cannot be `gone`", kind.name),
                "a service is kept stopped by running = false, enabled = false; a command is left out",
            );
        } else if let Some((property, _)) = clause.properties.iter().find(|(property, _)| *property != "attic") {
            say(Code::Properties, format!("what is `gone` has no `{property}`"), "take the property away, or `gone`");
        }
        if clause.common.gone == Gone::WithSettings && kind.name != "package" {
            say(Code::WrongValue, "only a package can be gone \"with_settings\"".into(), "write gone = true");
        }
    }
    let sources: Vec<&str> = ["text", "copy", "render"].into_iter().filter(|source| has(source)).collect();
    if sources.len() > 1 {
        say(Code::Properties, format!("the contents come from `{}` and from `{}`", sources[0], sources[1]), "keep one of text, copy, render");
    }
    if has("banner") && sources.is_empty() {
        say(Code::Properties, "a `banner` needs contents".into(), "add text, copy or render");
    }
    if kind.name == "link" && clause.common.gone == Gone::No && !has("target") {
        say(Code::Properties, "the link has no `target`".into(), "add target = \"…\"");
    }
    if kind.name == "command" {
        if !has("argv") {
            say(Code::Properties, "the command has no `argv`".into(), "add argv = [\"program\", \"argument\"]");
        }
        if !has("in_line_when") && clause.common.reacts_to.is_empty() {
            say(
                Code::Properties,
                "nothing says when the command is to run".into(),
                "add in_line_when (a path, or a program that exits 0), or reacts_to",
            );
        }
    }
    match clause.common.reaction {
        Some(reaction) if !kind.reactions.contains(&reaction) => {
            let known: Vec<&str> = kind.reactions.iter().map(|reaction| reaction.word()).collect();
            let hint =
                if known.is_empty() { format!("a {} has no reactions", kind.name) } else { format!("a {} knows {}", kind.name, known.join(", ")) };
            say(Code::Reaction, format!("a {} cannot `{}`", kind.name, reaction.word()), &hint);
        }
        Some(_) if clause.common.reacts_to.is_empty() => say(Code::Reaction, "nothing sets off this `reaction`".into(), "add reacts_to = [\"…\"]"),
        None if !clause.common.reacts_to.is_empty() && !kind.reactions.contains(&Reaction::Run) => {
            say(Code::Reaction, "`reacts_to` does not say what to do".into(), "add reaction = \"restart\" or \"reload\" to the service that reacts");
        }
        _ => {}
    }
    for (property, value) in &clause.properties {
        if *property == "attic" && value.value == Value::Bool(false) {
            findings.push(
                Finding::warning(Code::AtticOff, value.place.clone(), format!("what {} replaces will not be kept", clause.what.value))
                    .hint("leave `attic` out unless the contents must not be stored"),
            );
        }
    }
}

fn grace(node: &Node, findings: &mut Vec<Finding>) -> Option<u64> {
    let secs = node.as_str().and_then(kind::duration_secs);
    if secs.is_none() {
        wrong_type("grace", "a duration in quotes, as \"30m\" or \"2h\"", node, findings);
    }
    secs
}

fn gone(node: &Node, findings: &mut Vec<Finding>) -> Gone {
    match &node.value {
        NodeValue::Plain(Value::Bool(true)) => Gone::Yes,
        NodeValue::Plain(Value::Bool(false)) => Gone::No,
        NodeValue::Plain(Value::String(word)) if word == "with_settings" => Gone::WithSettings,
        _ => {
            wrong_type("gone", "`true`, or \"with_settings\" for a package", node, findings);
            Gone::No
        }
    }
}

fn located(texts: &[(&str, &Place)]) -> Vec<Located<String>> {
    texts.iter().map(|(text, place)| Located { value: (*text).to_owned(), place: (*place).clone() }).collect()
}

fn owned(texts: &[(&str, &Place)]) -> Vec<String> {
    texts.iter().map(|(text, _)| (*text).to_owned()).collect()
}
