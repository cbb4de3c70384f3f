//! Clauses as documents have them: nothing is rendered yet.

use super::Memo;
use super::baseline::{Gone, ON_DRIFT, ON_ROLLOUT, OnDrift, OnRollout, SEVERITIES, Severity};
use crate::document::Code;
use crate::document::Finding;
use crate::document::Place;
use crate::document::keys::{CLAUSE_KEYS, names};
use crate::document::{Element, ElementValue, Fields, wrong_type};
use crate::document::{Located, located, located_text, owned};
use crate::kind::{self, Kind, Reaction};
use crate::nearest::nearest_word;
use crate::template::has_markup;
use serde_json::Value;

/// One clause as written: nothing is rendered yet.
#[derive(Debug, Clone)]
pub struct ClauseDocument {
    /// Its address, perhaps to be rendered.
    pub what: Located<String>,
    /// Its kind.
    pub kind: Kind,
    /// The kind's properties, as written.
    pub properties: Vec<(String, Located<Value>)>,
    /// What it is repeated for: each name goes over all items, the last one fastest.
    pub loops: Vec<Loop>,
    /// What every clause may say, whatever its kind.
    pub common: Common,
    /// Room for what resolving computed from it.
    pub(crate) memo: Memo,
}

/// One name of a clause's `for`, with the expression that it goes over.
#[derive(Debug, Clone)]
pub struct Loop {
    /// The name.
    pub name: String,
    /// The expression, in CEL.
    pub over: Located<String>,
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
    /// Whether it must not exist; as it is written, if no template decides.
    pub gone: Gone,
    /// The template that decides whether it must not exist.
    pub gone_if: Option<Located<String>>,
    /// Whether its values are never shown.
    pub conceal: bool,
    /// Whether nothing in it is rendered.
    pub literal: bool,
    /// The backend to use instead of the chosen one.
    pub via: Option<String>,
    /// A second name to be referred to.
    pub second_name: Option<Located<String>>,
    /// What a person wants to say of it.
    pub note: Option<String>,
}

const REACTIONS: &[(&str, Reaction)] =
    &[("restart", Reaction::Restart), ("reload", Reaction::Reload), ("run", Reaction::Run)];

pub(super) fn read_clauses(
    element: &Element,
    text: &str,
    custom_kinds: &[Kind],
    findings: &mut Vec<Finding>,
) -> Vec<ClauseDocument> {
    let ElementValue::List(items) = &element.value else {
        findings.push(
            Finding::error(Code::WrongValue, element.place.clone(), "clauses are a list")
                .hint("begin each with [[clause]], in two brackets"),
        );
        return Vec::new();
    };
    items.iter().filter_map(|item| read_clause(item, text, custom_kinds, findings)).collect()
}

fn read_clause(
    element: &Element,
    text: &str,
    custom_kinds: &[Kind],
    findings: &mut Vec<Finding>,
) -> Option<ClauseDocument> {
    let mut fields = Fields::open_listed(element, "a clause", CLAUSE_KEYS, findings)?;
    let loops = fields.take("for").map(|element| read_loops(element, findings)).unwrap_or_default();
    let what = fields.text("what", findings);
    let (gone, gone_if) = fields.take("gone").map_or((Gone::No, None), |element| gone(element, findings));
    let common = Common {
        needs: located(&fields.texts("needs", findings)),
        reacts_to: located(&fields.texts("reacts_to", findings)),
        reaction: fields.word("reaction", REACTIONS, findings),
        topics: owned(&fields.texts("topics", findings)),
        severity: fields.word("severity", SEVERITIES, findings),
        satisfies: owned(&fields.texts("satisfies", findings)),
        on_drift: fields.word("on_drift", ON_DRIFT, findings),
        on_rollout: fields.word("on_rollout", ON_ROLLOUT, findings),
        grace_secs: fields.take("grace").and_then(|element| grace(element, findings)),
        condition: located_text(fields.text("where", findings)),
        gone,
        gone_if,
        conceal: fields.boolean("conceal", findings).unwrap_or(false),
        literal: fields.boolean("literal", findings).unwrap_or(false),
        via: fields.text("via", findings).map(|(text, _)| text.to_owned()),
        second_name: located_text(fields.text("as", findings)),
        note: fields.text("note", findings).map(|(text, _)| text.to_owned()),
    };
    let Some((what, what_place)) = what else {
        findings.push(
            Finding::error(Code::MissingKey, fields.place.clone(), "the clause has no `what`")
                .hint("write what = \"kind:name\", for example \"file:/etc/issue\""),
        );
        return None;
    };
    let kind = kind_of(what, what_place, text, custom_kinds, findings)?;
    let properties = read_properties(kind, fields, findings);
    let clause = ClauseDocument {
        what: Located { value: what.to_owned(), place: what_place.clone() },
        kind: kind.clone(),
        properties,
        loops,
        common,
        memo: Memo::default(),
    };
    check_shape(&clause, findings);
    Some(clause)
}

fn read_loops(element: &Element, findings: &mut Vec<Finding>) -> Vec<Loop> {
    let ElementValue::Table(entries) = &element.value else {
        wrong_type(
            "for",
            "a table of names and expressions, for example { lane = \"params.lanes\" }",
            element,
            findings,
        );
        return Vec::new();
    };
    if entries.is_empty() {
        findings.push(
            Finding::error(Code::WrongValue, element.place.clone(), "`for` has no expression")
                .hint("write for = { lane = \"params.lanes\" }"),
        );
    }
    let mut loops = Vec::new();
    for (name, place, over) in entries {
        let is_name = name.starts_with(|c: char| c.is_ascii_lowercase())
            && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
        if !is_name || ["params", "labels", "about", "node"].contains(&name.as_str()) {
            let hint =
                "names have lower-case letters, digits and `_`, and are not params, labels, about or node";
            findings.push(
                Finding::error(
                    Code::WrongValue,
                    place.clone(),
                    format!("`{name}` cannot be a name of `for`"),
                )
                .hint(hint),
            );
        }
        match over.as_str() {
            Some(source) => loops.push(Loop {
                name: name.clone(),
                over: Located { value: source.to_owned(), place: over.place.clone() },
            }),
            None => wrong_type(name, "an expression in quotes, as \"params.lanes\"", over, findings),
        }
    }
    loops
}

fn kind_of<'k>(
    what: &str,
    place: &Place,
    text: &str,
    custom_kinds: &'k [Kind],
    findings: &mut Vec<Finding>,
) -> Option<&'k Kind> {
    let (kind, name) = match what.split_once(':') {
        Some(parts) => parts,
        None => {
            findings.push(
                Finding::error(
                    Code::NotAnAddress,
                    place.clone(),
                    format!("`{what}` has no `:` between kind and name"),
                )
                .hint("write kind:name, for example \"file:/etc/issue\""),
            );
            return None;
        }
    };
    let found = kind::find_among(kind, custom_kinds);
    if found.is_none() {
        let own = custom_kinds
            .iter()
            .map(|one| one.name())
            .find(|name| name.split_once('/').is_some_and(|(_, short)| short == kind));
        let near = own
            .or_else(|| kind::nearest(kind))
            .or_else(|| nearest_word(kind, custom_kinds.iter().map(|one| one.name())));
        let hint = match near {
            Some(near) => format!("did you mean `{near}`?"),
            None if kind.contains('/') => {
                "custom kinds can be used in their own kit only: include a baseline of the other kit"
                    .to_owned()
            }
            None => format!(
                "kinds are {}",
                kind::KINDS.iter().map(|kind| kind.name()).collect::<Vec<_>>().join(", ")
            ),
        };
        findings.push(
            Finding::error(
                Code::UnknownKind,
                place.within(text, what, 0..kind.len()),
                format!("unknown kind `{kind}`"),
            )
            .hint(hint),
        );
    } else if name.is_empty() {
        findings.push(Finding::error(Code::NotAnAddress, place.clone(), format!("`{what}` has no name")));
        return None;
    }
    found
}

fn read_properties(
    kind: &Kind,
    fields: Fields<'_>,
    findings: &mut Vec<Finding>,
) -> Vec<(String, Located<Value>)> {
    let mut properties = Vec::new();
    for (key, place, element) in fields.rest() {
        match kind.property(key) {
            Some(property) => {
                properties.push((
                    property.name.to_owned(),
                    Located { value: element.to_json(), place: element.place.clone() },
                ));
            }
            None => {
                let own = kind.properties().map(|property| property.name);
                if sounds_secret(key) {
                    // Its value is not shown: it may well be what it sounds like.
                    let near = own.clone().find(|name| name.contains(key)).or_else(|| nearest_word(key, own));
                    let hint = near.map_or_else(
                        || {
                            "everyone who can read the kit can read it; use a parameter of type `secret`"
                                .to_owned()
                        },
                        |near| format!("did you mean `{near}`?"),
                    );
                    findings.push(
                        Finding::error(
                            Code::Password,
                            element.place.clone(),
                            format!("a {} has no property `{key}`", kind.name()),
                        )
                        .hint(hint),
                    );
                    continue;
                }
                let hint = match nearest_word(key, own.clone().chain(names(CLAUSE_KEYS))) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("a {} has {}", kind.name(), own.collect::<Vec<_>>().join(", ")),
                };
                findings.push(
                    Finding::error(
                        Code::UnknownKey,
                        place.clone(),
                        format!("a {} has no property `{key}`", kind.name()),
                    )
                    .hint(hint),
                );
            }
        }
    }
    properties
}

/// Returns whether a key sounds as if its value were a secret.
fn sounds_secret(key: &str) -> bool {
    let key = key.to_lowercase();
    ["password", "passwd", "passphrase", "secret", "token", "api_key", "apikey"]
        .iter()
        .any(|word| key.contains(word))
}

/// What a clause may say of how a thing goes.
const HOW_IT_GOES: [&str; 2] = ["attic", "only_alone"];

/// Says what does not go together in a clause, as far as that can be seen before anything is rendered.
fn check_shape(clause: &ClauseDocument, findings: &mut Vec<Finding>) {
    let has = |name: &str| clause.properties.iter().any(|(property, _)| *property == name);
    let mut say = |code, message: String, hint: &str| {
        findings.push(Finding::error(code, clause.what.place.clone(), message).hint(hint));
    };
    let kind = &clause.kind;
    let is_gone = clause.common.gone != Gone::No;
    if let (Some(template), true) = (&clause.common.gone_if, clause.common.literal) {
        let hint = "write gone = true, or leave out `literal`";
        findings.push(
            Finding::error(
                Code::WrongValue,
                template.place.clone(),
                "`literal` turns the template of `gone` off",
            )
            .hint(hint),
        );
        return;
    }
    if is_gone || clause.common.gone_if.is_some() {
        if !kind.can_be_gone() {
            let hint = if kind.name() == "service" {
                "a service is kept stopped by running = false, enabled = false"
            } else {
                "leave the clause out"
            };
            say(Code::CannotBeGone, format!("a {} cannot be `gone`", kind.name()), hint);
        } else if let Some((property, _)) =
            clause.properties.iter().find(|(property, _)| is_gone && !stays_when_gone(kind, property))
        {
            say(
                Code::Properties,
                format!("a clause with `gone` has no `{property}`"),
                "remove the property, or `gone`",
            );
        }
        if clause.common.gone == Gone::WithSettings && kind.name() != "package" {
            say(Code::WrongValue, "only a package can be gone \"with_settings\"".into(), "write gone = true");
        }
    }
    let given: Vec<&str> = kind.either().iter().copied().filter(|name| has(name)).collect();
    if given.len() > 1 {
        say(
            Code::Properties,
            format!("`{}` and `{}` exclude each other", given[0], given[1]),
            &format!("keep one of {}", kind.either().join(", ")),
        );
    }
    if given.is_empty() && kind.needs_either() && !is_gone {
        say(
            Code::Properties,
            format!("the {} has none of {}", kind.noun(), kind.either().join(", ")),
            "add one of them",
        );
    }
    for property in kind.properties().filter(|property| property.required && !has(property.name)) {
        let stands_in = property.name == "text" && is_gone && has("match");
        if (!is_gone || property.identifies) && !stands_in {
            let hint = format!("add {} = … ({})", property.name, property.value.words());
            say(Code::Properties, format!("the {} has no `{}`", kind.noun(), property.name), &hint);
        }
    }
    if has("banner") && given.is_empty() {
        say(Code::Properties, "a `banner` needs contents".into(), "add text, copy or render");
    }
    if kind.name() == "command" && !has("in_line_when") && clause.common.reacts_to.is_empty() {
        let hint = "add in_line_when (a path, or a program that exits 0), or reacts_to";
        say(Code::Properties, "the command has neither `in_line_when` nor `reacts_to`".into(), hint);
    }
    match clause.common.reaction {
        Some(reaction) if !kind.reactions().contains(&reaction) => {
            let known: Vec<&str> = kind.reactions().iter().map(|reaction| reaction.word()).collect();
            let hint = if known.is_empty() {
                format!("a {} has no reactions", kind.name())
            } else {
                format!("a {} knows {}", kind.name(), known.join(", "))
            };
            say(Code::Reaction, format!("a {} cannot `{}`", kind.name(), reaction.word()), &hint);
        }
        Some(_) if clause.common.reacts_to.is_empty() => {
            say(Code::Reaction, "nothing triggers this `reaction`".into(), "add reacts_to = [\"…\"]");
        }
        None if !clause.common.reacts_to.is_empty() && !kind.reactions().contains(&Reaction::Run) => {
            say(
                Code::Reaction,
                "`reacts_to` has no `reaction`".into(),
                "add reaction = \"restart\" or \"reload\" to the service that reacts",
            );
        }
        _ => {}
    }
    for (property, value) in &clause.properties {
        if *property == "attic" && value.value == Value::Bool(false) {
            findings.push(
                Finding::warning(
                    Code::AtticOff,
                    value.place.clone(),
                    format!("contents that {} replaces will not be kept", clause.what.value),
                )
                .hint("leave `attic` out unless the contents must not be stored"),
            );
        }
    }
}

/// Whether a property still counts of what must not exist.
pub fn stays_when_gone(kind: &Kind, property: &str) -> bool {
    HOW_IT_GOES.contains(&property) || identifies(kind, property)
}

fn identifies(kind: &Kind, property: &str) -> bool {
    kind.property(property).is_some_and(|property| property.identifies)
}

fn grace(element: &Element, findings: &mut Vec<Finding>) -> Option<u64> {
    let secs = element.as_str().and_then(kind::duration_secs);
    if secs.is_none() {
        wrong_type("grace", "a duration in quotes, as \"30m\" or \"2h\"", element, findings);
    }
    secs
}

fn gone(element: &Element, findings: &mut Vec<Finding>) -> (Gone, Option<Located<String>>) {
    match &element.value {
        ElementValue::Plain(Value::String(text)) if has_markup(text) => {
            (Gone::No, Some(Located { value: text.clone(), place: element.place.clone() }))
        }
        ElementValue::Plain(value) if Gone::of(value).is_some() => {
            (Gone::of(value).unwrap_or(Gone::No), None)
        }
        _ => {
            wrong_type(
                "gone",
                "`true`, a template as \"{{ params.spare }}\", or \"with_settings\" for a package",
                element,
                findings,
            );
            (Gone::No, None)
        }
    }
}
