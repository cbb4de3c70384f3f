//! One baseline of a kit: its conditions, its names, and what it resolves to on a usual node.

use super::names::{Names, check_names, no_such_label};
use super::risks::check_risks;
use super::whole::Surroundings;
use crate::digest::DigestKey;
use crate::document::Code;
use crate::document::Finding;
use crate::document::Located;
use crate::document::Place;
use crate::filter::{Condition, ConditionError, Items, NodeView};
use crate::kit::Baseline;
use crate::kit::Kit;
use crate::param::{Layer, LayerValue, ParameterType, SecretName};
use crate::state::{Assigned, Conditions, ResolveInput, Resolved, resolve};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::ops::Range;
use std::sync::Arc;

/// Conditions that ask for no parameter mean the same in all baselines: each is read once a kit.
pub(super) type SharedConditions = HashMap<String, Arc<Condition>>;

/// Reads the conditions and loops of a baseline, so that each is read once, and says what is wrong with them.
pub(super) fn compile(
    baseline: &mut Baseline,
    document: &str,
    surroundings: Surroundings<'_>,
    shared: &mut SharedConditions,
    findings: &mut Vec<Finding>,
) {
    let labels = surroundings.labels;
    let names: Vec<&str> =
        baseline.parameters.iter().map(|parameter| parameter.name.value.as_str()).collect();
    let mut compiled = std::mem::take(&mut baseline.compiled);
    let conditions = baseline
        .condition
        .iter()
        .chain(baseline.clauses.iter().filter_map(|clause| clause.common.condition.as_ref()));
    for condition in conditions {
        if let Some(known) =
            compiled.conditions.get(&condition.value).or_else(|| shared.get(&condition.value)).cloned()
        {
            warn_of_labels(&known, condition, document, labels, findings);
            compiled.conditions.insert(condition.value.clone(), known);
            continue;
        }
        match Condition::parse(&condition.value, &names) {
            Ok(parsed) => {
                check_condition(&parsed, condition, findings);
                warn_of_labels(&parsed, condition, document, labels, findings);
                let parsed = Arc::new(parsed);
                if parsed.parameters().next().is_none() {
                    shared.insert(condition.value.clone(), parsed.clone());
                }
                compiled.conditions.insert(condition.value.clone(), parsed);
            }
            Err(errors) => findings.extend(say(errors, condition, document, Code::Condition)),
        }
    }
    for (clause, one) in
        baseline.clauses.iter().flat_map(|clause| clause.loops.iter().map(move |one| (clause, one)))
    {
        if compiled.items.contains_key(&one.over.value) {
            continue;
        }
        let own_names: Vec<&str> = clause.loops.iter().map(|one| one.name.as_str()).collect();
        match Items::parse(&one.over.value, &names) {
            Ok(parsed) => drop(compiled.items.insert(one.over.value.clone(), Arc::new(parsed))),
            Err(errors) => findings.extend(
                say(errors, &one.over, document, Code::Loop)
                    .map(|finding| hint_at_loops(finding, &own_names)),
            ),
        }
    }
    let secrets: BTreeSet<&str> = baseline
        .parameters
        .iter()
        .filter(|parameter| parameter.value_type == ParameterType::Secret)
        .map(|parameter| parameter.name.value.as_str())
        .collect();
    if !secrets.is_empty() {
        check_secrets(baseline, &compiled, &secrets, findings);
        check_known(baseline, surroundings.secrets, findings);
    }
    baseline.compiled = compiled;
}

fn hint_at_loops(finding: Finding, own: &[&str]) -> Finding {
    let speaks_of_own =
        own.iter().any(|name| finding.message == format!("unknown name `{name}` in a condition"));
    if speaks_of_own {
        finding.hint("the names of `for` are known in what is rendered, not in its own expressions")
    } else {
        finding
    }
}

fn say<'e>(
    errors: Vec<ConditionError>,
    written: &'e Located<String>,
    document: &'e str,
    code: Code,
) -> impl Iterator<Item = Finding> + 'e {
    let at = move |range: Range<usize>| written.place.within(document, &written.value, range);
    errors.into_iter().map(move |error| {
        let code = if error.about_a_name { Code::ConditionName } else { code };
        Finding::error(code, at(error.range), error.message).maybe_hint(error.hint)
    })
}

/// A condition without parameters comes to the same whatever is given: see that it comes to yes or no.
fn check_condition(parsed: &Condition, written: &Located<String>, findings: &mut Vec<Finding>) {
    if parsed.parameters().next().is_none()
        && let Err(error) = parsed.holds(&NodeView::sample(), &Value::Null)
    {
        findings.push(
            Finding::error(Code::Condition, written.place.clone(), error.message)
                .hint("compare something, as labels.role == \"kiosk\""),
        );
    }
}

fn warn_of_labels(
    parsed: &Condition,
    written: &Located<String>,
    document: &str,
    known: Option<&BTreeSet<String>>,
    findings: &mut Vec<Finding>,
) {
    let Some(known) = known else { return };
    for label in parsed.labels().filter(|label| !known.contains(*label)) {
        let range = written.value.find(label).map_or(0..0, |at| at..at + label.len());
        findings.push(no_such_label(label, known, written.place.within(document, &written.value, range)));
    }
}

/// The desired state of a node must not hang on a secret's value: it would show by what is wanted.
fn check_secrets(
    baseline: &Baseline,
    compiled: &crate::kit::Compiled,
    secrets: &BTreeSet<&str>,
    findings: &mut Vec<Finding>,
) {
    let mut refuse = |key: &str, name: &str, written: &Located<String>| {
        findings.push(
            Finding::error(
                Code::SecretDecides,
                written.place.clone(),
                format!("`{key}` asks for the secret `{name}`"),
            )
            .hint("a secret is rendered into what it is for, and decides nothing"),
        );
    };
    let conditions = baseline
        .condition
        .iter()
        .chain(baseline.clauses.iter().filter_map(|clause| clause.common.condition.as_ref()));
    for condition in conditions {
        let used =
            compiled.conditions.get(&condition.value).into_iter().flat_map(|parsed| parsed.parameters());
        used.filter(|name| secrets.contains(name)).for_each(|name| refuse("where", name, condition));
    }
    for one in baseline.clauses.iter().flat_map(|clause| &clause.loops) {
        let used = compiled.items.get(&one.over.value).into_iter().flat_map(|parsed| parsed.parameters());
        used.filter(|name| secrets.contains(name)).for_each(|name| refuse("for", name, &one.over));
    }
}

/// A default that names a secret must name one that there is.
fn check_known(baseline: &Baseline, known: Option<&BTreeSet<SecretName>>, findings: &mut Vec<Finding>) {
    let Some(known) = known else { return };
    for parameter in
        baseline.parameters.iter().filter(|parameter| parameter.value_type == ParameterType::Secret)
    {
        let Some(default) = &parameter.default else { continue };
        if let Some(name) =
            default.value.as_str().and_then(SecretName::parse).filter(|name| !known.contains(name))
        {
            findings.push(
                Finding::error(
                    Code::UnknownSecret,
                    default.place.clone(),
                    format!("the server has no secret `{name}`"),
                )
                .hint("give it to the server first, or remove the default"),
            );
        }
    }
}

/// A placeholder for a node and its parameters while nothing is known of them.
pub(super) struct Sample<'k> {
    kits: Vec<&'k Kit>,
    view: NodeView,
    key: DigestKey,
    given: BTreeMap<String, Vec<LayerValue>>,
    names: Names<'k>,
}

impl<'k> Sample<'k> {
    pub fn new(kit: &'k Kit, others: &[&'k Kit], labels: Option<&'k BTreeSet<String>>) -> Self {
        let mut given = BTreeMap::new();
        for kit in std::iter::once(kit).chain(others.iter().copied()) {
            for baseline in &kit.baselines {
                for parameter in &baseline.parameters {
                    if parameter
                        .default
                        .as_ref()
                        .is_none_or(|default| parameter.accepts(&default.value).is_err())
                    {
                        let name = format!("{}/{}.{}", kit.name, baseline.name.value, parameter.name.value);
                        given.insert(name, vec![LayerValue::new(parameter.sample(), Layer::Case)]);
                    }
                }
            }
        }
        Self {
            kits: others.to_vec(),
            view: NodeView::sample(),
            key: DigestKey::new("check"),
            given,
            names: Names::new(kit, labels),
        }
    }

    fn resolve(&self, kit: &Kit, baseline: &Baseline) -> Result<Resolved, Vec<Finding>> {
        resolve(&ResolveInput {
            assigned: vec![Assigned::plainly(kit, baseline)],
            kits: &self.kits,
            given: &self.given,
            own: &crate::state::OwnProperties::new(),
            view: &self.view,
            key: &self.key,
            conditions: Conditions::CountAsTrue,
            untouchable: &[],
        })
    }
}

/// Resolves a baseline as a check does: all conditions count as true, and what has no value gets a usual one.
///
/// # Errors
///
/// Returns what keeps it from being resolved.
pub fn resolve_sample(kit: &Kit, baseline: &Baseline, others: &[&Kit]) -> Result<Resolved, Vec<Finding>> {
    Sample::new(kit, others, None).resolve(kit, baseline)
}

pub(super) fn check_baseline(
    kit: &Kit,
    baseline: &Baseline,
    sample: &mut Sample<'_>,
    documents_are_fine: bool,
    findings: &mut Vec<Finding>,
) {
    if baseline.clauses.is_empty() && baseline.include.is_empty() && documents_are_fine {
        findings.push(
            Finding::warning(
                Code::Empty,
                baseline.name.place.clone(),
                format!("the baseline `{}` has no clauses", baseline.name.value),
            )
            .hint("begin each with [[clause]]"),
        );
    }
    let misnamed = check_names(kit, baseline, &mut sample.names, findings);
    match sample.resolve(kit, baseline) {
        Ok(resolved) => check_risks(kit, baseline, &resolved, findings),
        Err(errors) => {
            // A clause that could not be read may be the one that is needed: do not blame the reference. A name that is
            // not known was said already.
            let same_line = |place: &Place, error: &Finding| {
                place.file == error.place.file && place.line == error.place.line
            };
            let known_findings = findings.len();
            for error in errors {
                let is_known = match error.code {
                    Code::NothingFits => !documents_are_fine,
                    Code::Render => misnamed.iter().any(|place| same_line(place, &error)),
                    Code::Condition | Code::Loop => {
                        findings[..known_findings].iter().any(|known| same_line(&known.place, &error))
                    }
                    _ => false,
                };
                if !is_known {
                    findings.push(error);
                }
            }
        }
    }
}
