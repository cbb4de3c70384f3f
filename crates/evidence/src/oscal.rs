//! OSCAL (Open Security Controls Assessment Language, NIST, version 1.1): assessment results with the plan that they are of.
//!
//! Each control has one finding, `satisfied` or `not-satisfied`, with an observation that counts; each clause on a node that is not
//! compliant has an observation of its own.

use crate::error::EvidenceError;
use crate::facts::{Facts, NodeFact};
use crate::json::Items;
use constans_core::evidence::{ClauseCountsAs, ClauseRow, ControlSummary};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::fs::File;
use std::io::{BufWriter, Write as _};
use uuid::Uuid;

const VERSION: &str = "1.1.2";
/// The name of the file with the plan.
pub const PLAN: &str = "assessment-plan.json";
/// The name of the file with the results.
pub const RESULTS: &str = "assessment-results.json";
/// The namespace of the ids of all that evidence names (RFC 9562, version 5): the same thing has the same id in the same evidence.
const NAMESPACE: Uuid = Uuid::from_u128(0x8f1c_52d7_3ab0_4c6e_9d11_60f3_7be2_a4c9);
/// A namespace for names and values of our own, as OSCAL demands.
const OWN: &str = "urn:constans:evidence";

/// The assessment results that are being written.
pub struct Assessment {
    scope: String,
    observations: Items,
    inventory: Items,
    of_control: BTreeMap<String, Vec<Uuid>>,
}

impl Assessment {
    /// Begins them; `scope` tells this evidence from all others.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be written.
    pub fn begin(scope: String) -> Result<Self, EvidenceError> {
        let (observations, inventory) = (Items::begin()?, Items::begin()?);
        Ok(Self { scope, observations, inventory, of_control: BTreeMap::new() })
    }

    fn id(&self, of: &str) -> Uuid {
        Uuid::new_v5(&NAMESPACE, format!("{}\n{of}", self.scope).as_bytes())
    }

    /// Adds a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn node(&mut self, node: &NodeFact) -> Result<(), EvidenceError> {
        let props = [Some(prop("asset-id", &node.node)), Some(own_prop("node-id", &node.node_id))];
        let remarks = node.left_out.as_ref().map(|because| format!("Not counted: {because}"));
        let mut item = json!({
            "uuid": self.id(&node.node_id),
            "description": format!("Node {}", node.node),
            "props": props.into_iter().flatten().collect::<Vec<_>>(),
        });
        if let Some(remarks) = remarks {
            item["remarks"] = remarks.into();
        }
        self.inventory.add(&item)
    }

    /// Adds a clause on a node: one that is compliant is only counted.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn clause(&mut self, row: &ClauseRow) -> Result<(), EvidenceError> {
        for control in &row.controls {
            self.of_control.entry(control.clone()).or_default();
        }
        if row.result == ClauseCountsAs::Compliant {
            return Ok(());
        }
        let id = self.id(&format!("{} {}", row.node_id, row.address));
        let actual = row.found.as_ref().and_then(|found| found.actual.as_deref()).unwrap_or("not known");
        let mut props = vec![own_prop("result", row.result.word()), prop_of_severity(&row.severity)];
        if let Some(found) = &row.found {
            props.push(own_prop("cause", &found.cause));
        }
        let mut observation = json!({
            "uuid": id,
            "title": format!("{} on {}: {}", row.address, row.node, row.result.word()),
            "description": format!("Desired: {}. Actual: {actual}.", or_dash(&row.desired)),
            "props": props,
            "methods": ["TEST"],
            "types": ["finding"],
            "subjects": [{ "subject-uuid": self.id(&row.node_id), "type": "inventory-item" }],
            "collected": row.examined.as_ref().map(|examined| examined.until).or(row.found.as_ref().map(|found| found.since)),
        });
        if observation["collected"].is_null() {
            // It was never examined: what was observed is that, at the moment that evidence is of.
            observation["collected"] = self.scope.rsplit(' ').next().unwrap_or_default().into();
        }
        if let Some(no) = row.conceded_by {
            observation["remarks"] = format!("Covered by concession D{no}.").into();
        }
        self.observations.add(&observation)?;
        for control in &row.controls {
            self.of_control.entry(control.clone()).or_default().push(id);
        }
        Ok(())
    }

    /// Ends them; returns the plan and the results.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be written.
    pub fn end(mut self, facts: &Facts) -> Result<(File, File), EvidenceError> {
        let plan = self.plan(facts);
        let mut findings = Vec::new();
        for control in &facts.figures.by_control {
            if control.counted.clauses.all() == 0 && control.gaps == 0 {
                continue;
            }
            let counted = self.id(&format!("counts of {}", control.id));
            self.observations.add(&json!({
                "uuid": counted,
                "title": format!("{}: all nodes", control.id),
                "description": counts(control),
                "methods": ["TEST"],
                "types": ["control-objective"],
                "collected": facts.question.as_of,
            }))?;
            let related =
                std::iter::once(&counted).chain(self.of_control.get(&control.id).into_iter().flatten());
            findings.push(json!({
                "uuid": self.id(&format!("finding of {}", control.id)),
                "title": control.title.clone().unwrap_or_else(|| control.id.clone()),
                "description": counts(control),
                "target": {
                    "type": "objective-id",
                    "target-id": token(&control.id),
                    "status": if is_satisfied(control) { json!({ "state": "satisfied", "reason": "pass" }) } else { json!({ "state": "not-satisfied", "reason": "fail" }) },
                },
                "related-observations": related.map(|id| json!({ "observation-uuid": id })).collect::<Vec<_>>(),
            }));
        }
        let results = self.results(facts, &findings)?;
        Ok((plan?, results))
    }

    fn metadata(facts: &Facts, title: &str) -> Value {
        json!({
            "title": title,
            "last-modified": facts.made,
            "version": facts.name(),
            "oscal-version": VERSION,
            "remarks": format!("Made by {} ({}) for {}.", facts.server, facts.made_by, facts.asked_by),
        })
    }

    fn reviewed(facts: &Facts) -> Value {
        let ids: BTreeSet<String> =
            facts.figures.by_control.iter().map(|control| token(&control.id)).collect();
        let selection = if ids.is_empty() {
            json!({ "description": "No clause satisfies a control, and the catalogue has none." })
        } else {
            json!({ "include-controls": ids.iter().map(|id| json!({ "control-id": id })).collect::<Vec<_>>() })
        };
        json!({ "control-selections": [selection] })
    }

    fn plan(&self, facts: &Facts) -> Result<File, EvidenceError> {
        let system = self.id("the system");
        let nodes = facts
            .question
            .filter
            .as_ref()
            .map_or_else(|| "all nodes".to_owned(), |filter| format!("nodes where {filter}"));
        let plan = json!({ "assessment-plan": {
            "uuid": self.id("plan"),
            "metadata": Self::metadata(facts, "Continuous assessment of configuration"),
            "import-ssp": { "href": format!("#{system}") },
            "reviewed-controls": Self::reviewed(facts),
            "assessment-subjects": [{ "type": "inventory-item", "description": nodes, "include-all": {} }],
            "back-matter": { "resources": [{
                "uuid": system,
                "title": "The desired state of the nodes",
                "description": "No system security plan is imported: what the nodes should be is in the releases and changes that the results name.",
            }] },
        } });
        let mut file = BufWriter::new(tempfile::tempfile()?);
        serde_json::to_writer_pretty(&mut file, &plan)?;
        Ok(file.into_inner().map_err(|error| error.into_error())?)
    }

    fn results(self, facts: &Facts, findings: &[Value]) -> Result<File, EvidenceError> {
        let mut file = BufWriter::new(tempfile::tempfile()?);
        let pair = |value: &Value| serde_json::to_string_pretty(value);
        let question = &facts.question;
        let description = format!(
            "As of {}, as far as was known at {}. {} of {} clauses on nodes are compliant.",
            question.as_of,
            question.as_known_at,
            facts.figures.counted.clauses.compliant,
            facts.figures.counted.clauses.all()
        );
        write!(
            file,
            "{{ \"assessment-results\": {{\n\"uuid\": {},\n\"metadata\": {},\n\"import-ap\": {{ \"href\": \"{PLAN}\" }},\n\"results\": [{{\n\"uuid\": {},\n\"title\": {},\n\"description\": {},\n\"start\": {},\n\"end\": {},\n\"reviewed-controls\": {}",
            pair(&json!(self.id("results")))?,
            pair(&Self::metadata(facts, "Results of continuous assessment of configuration"))?,
            pair(&json!(self.id("result")))?,
            pair(&json!(format!("Evidence {}", facts.name())))?,
            pair(&json!(description))?,
            pair(&json!(question.since.unwrap_or(question.as_of)))?,
            pair(&json!(question.as_of))?,
            pair(&Self::reviewed(facts))?,
        )?;
        if !self.inventory.is_empty() {
            file.write_all(b",\n\"local-definitions\": { ")?;
            self.inventory.write("inventory-items", &mut file)?;
            file.write_all(b" }")?;
        }
        if !self.observations.is_empty() {
            file.write_all(b",\n")?;
            self.observations.write("observations", &mut file)?;
        }
        if !findings.is_empty() {
            write!(file, ",\n\"findings\": {}", pair(&json!(findings))?)?;
        }
        file.write_all(b"\n}] } }\n")?;
        Ok(file.into_inner().map_err(|error| error.into_error())?)
    }
}

/// A control is satisfied if every clause for it is compliant on every node that it applies to.
fn is_satisfied(control: &ControlSummary) -> bool {
    control.gaps == 0 && control.counted.clauses.compliant == control.counted.clauses.all()
}

fn counts(control: &ControlSummary) -> String {
    let clauses = &control.counted.clauses;
    format!(
        "{} of {} clauses on {} nodes are compliant, {} not, {} by concession, {} unexamined, {} unknown; {} nodes that it applies to have no clause for it.",
        clauses.compliant,
        clauses.all(),
        control.counted.nodes.all(),
        clauses.noncompliant,
        clauses.conceded,
        clauses.unexamined,
        clauses.unknown,
        control.gaps
    )
}

fn prop(name: &str, value: &str) -> Value {
    json!({ "name": name, "value": value })
}

fn own_prop(name: &str, value: &str) -> Value {
    json!({ "name": name, "ns": OWN, "value": value })
}

fn prop_of_severity(severity: &str) -> Value {
    own_prop("severity", severity)
}

/// OSCAL has no empty texts.
fn or_dash(text: &str) -> &str {
    if text.is_empty() { "–" } else { text }
}

/// Returns an id as OSCAL may name it: it begins with a letter or `_`.
fn token(id: &str) -> String {
    let text: String =
        id.chars().map(|c| if c.is_alphanumeric() || ".-_".contains(c) { c } else { '_' }).collect();
    if text.starts_with(|c: char| c.is_alphabetic() || c == '_') { text } else { format!("_{text}") }
}
