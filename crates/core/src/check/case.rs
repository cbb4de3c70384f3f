//! Cases: tests of a kit. Node and parameters in, the clauses expected out.

use crate::compare::{Difference, PRESENCE, Side, TextDiff, text_diff};
use crate::digest::DigestKey;
use crate::document::Code;
use crate::document::Finding;
use crate::document::Located;
use crate::document::keys::CASE_KEYS;
use crate::document::keys::CASE_NODE_KEYS;
use crate::document::keys::EXPECT_KEYS;
use crate::document::{self, Element, ElementValue, Fields, wrong_type};
use crate::document::{KitFiles, Place};
use crate::filter::{About, NodeView};
use crate::kind::{self};
use crate::kit::Gone;
use crate::kit::Kit;
use crate::nearest::nearest_word;
use crate::param::{Layer, LayerValue};
use crate::state::{Assigned, Clause, Conditions, ResolveInput, Resolved, resolve};
use serde::Serialize;
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// A case as it was read.
#[derive(Debug, Clone)]
pub struct Case {
    /// The document below the kit's folder.
    pub file: String,
    /// What it shows.
    pub summary: String,
    baselines: Vec<Located<String>>,
    only_these: bool,
    finding: Option<Located<String>>,
    view: NodeView,
    params: Vec<(Located<String>, Value)>,
    expected: Vec<Expected>,
}

#[derive(Debug, Clone)]
struct Expected {
    what: Located<String>,
    absent: bool,
    after: Vec<String>,
    properties: Vec<(String, Located<Value>)>,
}

/// What came of a case.
#[derive(Debug, Clone, Serialize)]
pub struct CaseResult {
    /// The document below the kit's folder.
    pub file: String,
    /// What it shows.
    pub summary: String,
    /// How many clauses came out.
    pub clauses: usize,
    /// The code of the finding that was expected instead, and came.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub refused: Option<String>,
    /// What was expected otherwise; none if all is as expected.
    pub failures: Vec<CaseFailure>,
}

/// Something that was expected otherwise.
#[derive(Debug, Clone, Serialize)]
pub struct CaseFailure {
    /// The clause, or what the case is about.
    pub about: String,
    /// Where it is expected.
    pub place: Place,
    /// One fact, where there is more to say than differences.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// What is expected (`wanted`) and what came out (`found`).
    pub differences: Vec<Difference>,
    /// How the contents that came out would have to change.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub text: Option<TextDiff>,
}

impl CaseFailure {
    fn with_message(about: impl Into<String>, place: &Place, message: impl Into<String>) -> Self {
        Self {
            about: about.into(),
            place: place.clone(),
            message: Some(message.into()),
            differences: Vec::new(),
            text: None,
        }
    }
}

/// Reads the cases of a kit; what is wrong with them is added to `findings`.
pub fn read_cases(kit: &Kit, findings: &mut Vec<Finding>) -> Vec<Case> {
    let paths: Vec<&str> =
        kit.files.paths().filter(|path| path.starts_with("cases/") && path.ends_with(".toml")).collect();
    paths.into_iter().filter_map(|path| read_case(&kit.files, path, kit, findings)).collect()
}

fn read_case(files: &KitFiles, path: &str, kit: &Kit, findings: &mut Vec<Finding>) -> Option<Case> {
    let node = document::read(files, path, findings)?;
    let mut document = Fields::open(&node, "the case", findings)?;
    let head = document.require("case", "the case", findings);
    let view = document.take("node").map(|node| read_node(node, findings)).unwrap_or_else(NodeView::sample);
    let params = document.take("params").map(|node| read_params(node, findings)).unwrap_or_default();
    let expected =
        document.take("expect").map(|node| read_expectations(node, kit, findings)).unwrap_or_default();
    document.finish("the case", findings);
    let mut head = Fields::open_listed(head?, "[case]", CASE_KEYS, findings)?;
    let summary = head.text("summary", findings).map(|(text, _)| text.to_owned()).unwrap_or_default();
    let baselines: Vec<Located<String>> = head
        .texts("baselines", findings)
        .into_iter()
        .map(|(name, place)| Located { value: name.to_owned(), place: place.clone() })
        .collect();
    let finding = head
        .text("finding", findings)
        .map(|(code, place)| Located { value: code.to_owned(), place: place.clone() });
    let only_these = head.boolean("only_these", findings).unwrap_or(false);
    head.finish("[case]", findings);
    if baselines.is_empty() {
        findings.push(
            Finding::error(Code::MissingKey, node.place.clone(), "[case] names no baseline")
                .hint("add baselines = [\"…\"]"),
        );
    }
    for named in
        baselines.iter().filter(|named| !named.value.contains('/') && kit.baseline(&named.value).is_none())
    {
        let hint =
            nearest_word(&named.value, kit.baselines.iter().map(|baseline| baseline.name.value.as_str()));
        let finding = Finding::error(
            Code::UnknownBaseline,
            named.place.clone(),
            format!("the kit has no baseline `{}`", named.value),
        );
        findings.push(finding.maybe_hint(hint.map(|near| format!("did you mean `{near}`?"))));
    }
    Some(Case { file: path.to_owned(), summary, baselines, only_these, finding, view, params, expected })
}

fn read_node(node: &Element, findings: &mut Vec<Finding>) -> NodeView {
    let mut view = NodeView::sample();
    let Some(mut fields) = Fields::open_listed(node, "[node]", CASE_NODE_KEYS, findings) else { return view };
    if let Some((name, _)) = fields.text("name", findings) {
        name.clone_into(&mut view.name);
    }
    if let Some(labels) = fields.take("labels").and_then(|node| Fields::open(node, "labels", findings)) {
        for (key, _, value) in labels.rest() {
            match value.as_str() {
                Some(text) => drop(view.labels.insert(key.to_owned(), text.to_owned())),
                None => wrong_type(key, "a text", value, findings),
            }
        }
    }
    if let Some(about) = fields.take("about") {
        let mut values: BTreeMap<String, Value> = BTreeMap::new();
        flatten("", &about.to_json(), &mut values);
        for field in values
            .keys()
            .filter(|field| !crate::filter::STABLE_FIELDS.iter().any(|known| known.path == field.as_str()))
        {
            let hint = nearest_word(field, crate::filter::STABLE_FIELDS.iter().map(|known| known.path))
                .map(|near| format!("did you mean `{near}`?"));
            findings.push(
                Finding::error(
                    Code::UnknownKey,
                    about.place.clone(),
                    format!("`about.{field}` is not a stable field of a node"),
                )
                .maybe_hint(hint),
            );
        }
        view.about = About::new(crate::filter::STABLE_FIELDS.iter().filter_map(|field| {
            Some((
                field.path.to_owned(),
                values.get(field.path).or_else(|| view.about.get(field.path))?.clone(),
            ))
        }));
    }
    fields.finish("[node]", findings);
    view
}

fn flatten(prefix: &str, value: &Value, into: &mut BTreeMap<String, Value>) {
    match value {
        Value::Object(map) => {
            for (key, value) in map {
                let path = if prefix.is_empty() { key.clone() } else { format!("{prefix}.{key}") };
                flatten(&path, value, into);
            }
        }
        single => drop(into.insert(prefix.to_owned(), single.clone())),
    }
}

fn read_params(node: &Element, findings: &mut Vec<Finding>) -> Vec<(Located<String>, Value)> {
    let Some(fields) = Fields::open(node, "[params]", findings) else { return Vec::new() };
    let named = |(key, place, value): (&str, &Place, &Element)| {
        (Located { value: key.to_owned(), place: place.clone() }, value.to_json())
    };
    fields.rest().into_iter().map(named).collect()
}

fn read_expectations(node: &Element, kit: &Kit, findings: &mut Vec<Finding>) -> Vec<Expected> {
    let ElementValue::List(items) = &node.value else {
        wrong_type("expect", "a list of clauses, each begun with [[expect]]", node, findings);
        return Vec::new();
    };
    items.iter().filter_map(|item| read_expectation(item, kit, findings)).collect()
}

fn read_expectation(node: &Element, kit: &Kit, findings: &mut Vec<Finding>) -> Option<Expected> {
    let mut fields = Fields::open_listed(node, "an expectation", EXPECT_KEYS, findings)?;
    let Some((what, place)) = fields.text("what", findings) else {
        findings.push(
            Finding::error(Code::MissingKey, fields.place.clone(), "the expectation has no `what`")
                .hint("write what = \"kind:name\""),
        );
        return None;
    };
    let absent = fields.boolean("absent", findings).unwrap_or(false);
    let after = fields.texts("after", findings).into_iter().map(|(text, _)| text.to_owned()).collect();
    let Some(kind) = what.split_once(':').and_then(|(kind, _)| kind::find_among(kind, &kit.kinds)) else {
        let near =
            what.split(':').next().and_then(kind::nearest).map(|near| format!("did you mean `{near}`?"));
        findings.push(
            Finding::error(Code::UnknownKind, place.clone(), format!("`{what}` is of no known kind"))
                .maybe_hint(near),
        );
        return None;
    };
    let mut properties = Vec::new();
    for (key, key_place, value) in fields.rest() {
        let wanted = value.to_json();
        let normal = match kind.property(key) {
            Some(property) => kind::normalise(key, property.value, &wanted)
                .map_err(|refused| (Code::WrongValue, refused.message, refused.hint)),
            None if EXPECTED_COMMON.contains(&key) => Ok(wanted),
            None => {
                let known =
                    kind.properties().map(|property| property.name).chain(EXPECTED_COMMON.iter().copied());
                let hint = nearest_word(key, known.clone()).map_or_else(
                    || {
                        format!(
                            "of a {} one can expect {}",
                            kind.name(),
                            known.collect::<Vec<_>>().join(", ")
                        )
                    },
                    |near| format!("did you mean `{near}`?"),
                );
                Err((Code::UnknownKey, format!("a {} has no property `{key}`", kind.name()), Some(hint)))
            }
        };
        match normal {
            Ok(normal) => {
                properties.push((key.to_owned(), Located { value: normal, place: value.place.clone() }));
            }
            Err((code, message, hint)) => {
                findings.push(Finding::error(code, key_place.clone(), message).maybe_hint(hint));
            }
        }
    }
    Some(Expected {
        what: Located { value: what.to_owned(), place: place.clone() },
        absent,
        after,
        properties,
    })
}

/// What can be expected of every clause beside its kind's properties.
const EXPECTED_COMMON: &[&str] =
    &["gone", "severity", "on_drift", "on_rollout", "topics", "satisfies", "needs", "reacts_to", "reaction"];

/// Tries a case; `others` are the kits that the kit requires, one release of each.
pub fn run_case(kit: &Kit, others: &[&Kit], case: &Case) -> CaseResult {
    let mut failures = Vec::new();
    let mut clauses = 0;
    match resolve_case(kit, others, case) {
        Err(failure) => failures.push(failure),
        Ok(Err(findings)) => failures.extend(against_findings(case, &findings)),
        Ok(Ok(resolved)) => {
            clauses = resolved.state.clauses.len();
            if let Some(code) = &case.finding {
                failures.push(CaseFailure::with_message(
                    &code.value,
                    &code.place,
                    format!("{} was expected, but the result is {clauses} clauses came out", code.value),
                ));
            }
            failures.extend(case.expected.iter().filter_map(|expected| against(expected, &resolved)));
            failures.extend(unexpected(case, &resolved));
        }
    }
    let refused = case.finding.as_ref().filter(|_| failures.is_empty()).map(|code| code.value.clone());
    CaseResult { file: case.file.clone(), summary: case.summary.clone(), clauses, refused, failures }
}

type CaseResolution = Result<Resolved, Vec<Finding>>;

fn resolve_case(kit: &Kit, others: &[&Kit], case: &Case) -> Result<CaseResolution, CaseFailure> {
    let mut assigned = Vec::new();
    for named in &case.baselines {
        let (kit_name, baseline) = named.value.split_once('/').unwrap_or((&kit.name, &named.value));
        let found = std::iter::once(kit).chain(others.iter().copied()).find(|kit| kit.name == kit_name);
        let found = found.and_then(|kit| Some((kit, kit.baseline(baseline)?)));
        let (kit, baseline) = found.ok_or_else(|| {
            CaseFailure::with_message(
                &named.value,
                &named.place,
                format!("there is no baseline `{}`", named.value),
            )
        })?;
        assigned.push(Assigned::plainly(kit, baseline));
    }
    let mut given: BTreeMap<String, Vec<LayerValue>> = BTreeMap::new();
    for (name, value) in &case.params {
        let whole = match (name.value.contains('/'), case.baselines.as_slice()) {
            (true, _) => name.value.clone(),
            (false, [only]) if only.value.contains('/') => format!("{}.{}", only.value, name.value),
            (false, [only]) => format!("{}/{}.{}", kit.name, only.value, name.value),
            (false, _) => {
                let message = "the case has several baselines: name the parameter as KIT/BASELINE.PARAM";
                return Err(CaseFailure::with_message(&name.value, &name.place, message));
            }
        };
        given.entry(whole).or_default().push(LayerValue::new(value.clone(), Layer::Case));
    }
    Ok(resolve(&ResolveInput {
        assigned,
        kits: others,
        given: &given,
        own: &crate::state::OwnProperties::new(),
        view: &case.view,
        key: &DigestKey::new("case"),
        conditions: Conditions::Decide,
        untouchable: &[],
    }))
}

fn against_findings(case: &Case, findings: &[Finding]) -> Vec<CaseFailure> {
    if let Some(code) = &case.finding
        && findings.iter().any(|finding| finding.code.to_string() == code.value)
    {
        return Vec::new();
    }
    findings
        .iter()
        .map(|finding| {
            CaseFailure::with_message(finding.code.to_string(), &finding.place, finding.message.clone())
        })
        .collect()
}

fn against(expected: &Expected, resolved: &Resolved) -> Option<CaseFailure> {
    let address = &expected.what.value;
    let is_it = |clause: &Clause| {
        clause.address.as_str() == address || clause.also.iter().any(|name| name.as_str() == address)
    };
    let position = resolved.state.clauses.iter().position(is_it);
    let presence = |wanted: &str, found: &str| Difference {
        property: PRESENCE.to_owned(),
        wanted: Side::value(wanted),
        found: Side::value(found),
    };
    let fail = |differences: Vec<Difference>, message: Option<String>, text: Option<TextDiff>| CaseFailure {
        about: address.clone(),
        place: expected.what.place.clone(),
        message,
        differences,
        text,
    };
    let Some(at) = position else {
        if expected.absent {
            return None;
        }
        let near = nearest_word(address, resolved.state.clauses.iter().map(|clause| clause.address.as_str()));
        let excluded = resolved.excluded.iter().find(|excluded| excluded.address.as_str() == address);
        let message = match (excluded, near) {
            (Some(excluded), _) => {
                Some(format!("its condition does not hold for this node: {}", excluded.condition))
            }
            (None, Some(near)) => Some(format!("did you mean `{near}`?")),
            _ => None,
        };
        return Some(fail(vec![presence("a clause", "none")], message, None));
    };
    let clause = &resolved.state.clauses[at];
    if expected.absent {
        return Some(fail(vec![presence("none", "a clause")], None, None));
    }
    let mut differences: Vec<Difference> = Vec::new();
    let mut text = None;
    for (name, wanted) in &expected.properties {
        if matches!(name.as_str(), "text" | "pem") && clause.get(name).is_none() {
            let bytes = contents_of(clause, resolved);
            let wanted = wanted.value.as_str().unwrap_or_default();
            if bytes != Some(wanted.as_bytes()) {
                text = text_diff(bytes.unwrap_or_default(), wanted.as_bytes(), true).ok();
                let size = |bytes: &[u8]| Side::value(format!("{} bytes", bytes.len()));
                differences.push(Difference {
                    property: name.clone(),
                    wanted: size(wanted.as_bytes()),
                    found: bytes.map_or(Side::Absent, size),
                });
            }
            continue;
        }
        let found = value_of(clause, name);
        if found.as_ref() != Some(&wanted.value) {
            let shown = |value: Option<Value>| match value {
                Some(_) if clause.concealed.contains(name) => Side::Concealed,
                Some(value) => Side::value(value),
                None => Side::Absent,
            };
            differences.push(Difference {
                property: name.clone(),
                wanted: shown(Some(wanted.value.clone())),
                found: shown(found),
            });
        }
    }
    for earlier in &expected.after {
        let comes_at = resolved.state.clauses.iter().position(|clause| clause.address.as_str() == earlier);
        if comes_at.is_none_or(|earlier_at| earlier_at > at) {
            let found =
                comes_at.map_or_else(|| "not among the clauses".to_owned(), |_| "before it".to_owned());
            differences.push(Difference {
                property: "after".into(),
                wanted: Side::value(earlier.clone()),
                found: Side::value(found),
            });
        }
    }
    (!differences.is_empty()).then(|| fail(differences, None, text))
}

fn contents_of<'r>(clause: &Clause, resolved: &'r Resolved) -> Option<&'r [u8]> {
    let name = clause.text("content")?;
    resolved.contents.iter().find(|(digest, _)| digest.as_str() == name).map(|(_, bytes)| &**bytes)
}

/// Returns what came out under a name that can be expected.
fn value_of(clause: &Clause, name: &str) -> Option<Value> {
    match name {
        "gone" => Some(match clause.gone {
            Gone::No => json!(false),
            Gone::Yes => json!(true),
            Gone::WithSettings => json!("with_settings"),
        }),
        "severity" => Some(json!(clause.severity)),
        "on_drift" => clause.on_drift.as_ref().map(|switch| json!(switch.value)),
        "on_rollout" => clause.on_rollout.as_ref().map(|switch| json!(switch.value)),
        "topics" => Some(json!(clause.topics)),
        "satisfies" => Some(json!(clause.satisfies)),
        "needs" => Some(json!(clause.needs)),
        "reacts_to" => Some(json!(clause.reacts_to)),
        "reaction" => clause.reaction.map(|reaction| json!(reaction)),
        property => clause.get(property).cloned(),
    }
}

fn unexpected(case: &Case, resolved: &Resolved) -> Vec<CaseFailure> {
    if !case.only_these {
        return Vec::new();
    }
    let is_expected =
        |clause: &Clause| case.expected.iter().any(|expected| expected.what.value == clause.address.as_str());
    let further =
        resolved.state.clauses.iter().zip(&resolved.places).filter(|(clause, _)| !is_expected(clause));
    further
        .map(|(clause, place)| CaseFailure::with_message(clause.address.as_str(), place, "unexpected clause"))
        .collect()
}
