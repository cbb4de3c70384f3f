//! One clause of a document on one node: its condition inputs, its values rendered and normalized.

use super::assigned::Assigned;
use super::clause::{Clause, Origin};
use super::digested::LastDigest;
use super::made::{KnownParams, Made};
use super::resolve::{Conditions, ResolveInput};
use crate::address::ClauseAddress;
use crate::digest::{self, Digest};
use crate::document::{Code, Finding, Located, Place};
use crate::filter::{Answer, Condition, ConditionError, Items, MAX_ITEMS, NodeInputs};
use crate::kind::{self, Naming};
use crate::kit::{ClauseDocument, Gone, stays_when_gone};
use crate::param::Parameter;
use crate::template::{RenderError, Renderer, Scope, has_markup};
use foldhash::{HashMap, HashMapExt as _};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// Contents with their digest, shared by all nodes that they are wanted on.
pub(super) type Content = (Digest, Arc<[u8]>);

/// A clause that is not yet connected with the others.
#[derive(Debug, Clone)]
pub(super) struct Instantiated {
    pub clause: Clause,
    /// The contents that it refers to.
    pub contents: Vec<Content>,
    pub place: Place,
    /// The condition that excludes it here.
    pub excluded_by: Option<String>,
    /// Whether it has any condition.
    pub conditional: bool,
    pub needs: Vec<Located<String>>,
    pub reacts_to: Vec<Located<String>>,
}

pub(super) struct Instantiation<'a> {
    assigned: &'a Assigned<'a>,
    input: &'a ResolveInput<'a>,
    params: Value,
    /// By which number the parameters' values are known.
    params_number: Option<usize>,
    renderer: Arc<Renderer>,
    /// What conditions said already: most clauses share theirs.
    answered: HashMap<&'a str, Answer>,
    scope: Scope,
    origin: Origin,
    kit: Arc<str>,
}

impl<'a> Instantiation<'a> {
    pub fn new(assigned: &'a Assigned<'a>, input: &'a ResolveInput<'a>, params: &Value) -> Self {
        let scope = match input.conditions {
            Conditions::Decide => Scope::new(input.view, params),
            Conditions::CountAsTrue => Scope::guessing(input.view, params),
        };
        let kit: Arc<str> = assigned.kit.name.as_str().into();
        let origin = Origin {
            kit: kit.clone(),
            version: assigned.kit.version.clone(),
            baseline: assigned.baseline.name.value.as_str().into(),
        };
        Self {
            assigned,
            input,
            renderer: assigned.kit.renderer.clone(),
            answered: HashMap::new(),
            scope,
            params: params.clone(),
            params_number: assigned
                .baseline
                .compiled
                .memo
                .of::<KnownParams>()
                .and_then(|known| known.number(params)),
            origin,
            kit,
        }
    }

    /// Returns what was inputs of the node so far.
    pub fn inputs(&self) -> NodeInputs {
        self.scope.inputs()
    }

    /// Returns what a clause of a document comes to here: one clause, or one for each turn of its loops.
    pub fn clause(&mut self, document: &'a ClauseDocument) -> Result<Vec<Instantiated>, Vec<Finding>> {
        let (excluded_by, undecidable) = self.condition(document).map_err(|finding| vec![finding])?;
        if excluded_by.is_some() || undecidable.is_some() || self.input.conditions == Conditions::CountAsTrue
        {
            let mut drafts = self.all_turns(document, excluded_by, undecidable)?;
            for draft in &mut drafts {
                self.assigned.terms.lay_over(&mut draft.clause, document, self.assigned.baseline);
            }
            return Ok(drafts);
        }
        let known = document.memo.of::<Made>();
        let made = match known.and_then(|known| known.find(self.params_number, self.input.view)) {
            Some((made, inputs)) => {
                self.scope.note(&inputs);
                made
            }
            None => self.make(document)?,
        };
        let mut drafts = Arc::unwrap_or_clone(made);
        for draft in &mut drafts {
            self.assigned.terms.lay_over(&mut draft.clause, document, self.assigned.baseline);
        }
        Ok(drafts)
    }

    /// Makes what a clause comes to on each node that says the same as this one, and on which it counts; but for the
    /// terms of the assignment.
    fn make(&mut self, document: &'a ClauseDocument) -> Result<Arc<Vec<Instantiated>>, Vec<Finding>> {
        let asked_before = self.scope.take_inputs();
        let made = self.all_turns(document, None, None);
        let inputs = self.scope.inputs();
        self.scope.note(&asked_before);
        let mut drafts = made?;
        for draft in &mut drafts {
            draft.clause.wanted = draft.clause.wanted_digest(self.input.key);
            draft.clause.last_digest = LastDigest::shared();
        }
        let (drafts, is_fixed) = (Arc::new(drafts), is_fixed(document));
        if let Some(known) = document.memo.of::<Made>().filter(|_| is_fixed || self.params_number.is_some()) {
            known.keep(self.params_number.filter(|_| !is_fixed), inputs, self.input.view, drafts.clone());
        }
        Ok(drafts)
    }

    fn all_turns(
        &mut self,
        document: &'a ClauseDocument,
        excluded_by: Option<String>,
        undecidable: Option<String>,
    ) -> Result<Vec<Instantiated>, Vec<Finding>> {
        if document.loops.is_empty() {
            return self.rendered(document, excluded_by, undecidable).map(|draft| vec![draft]);
        }
        let turns = self.turns(document).map_err(|finding| vec![finding])?;
        let base = self.scope.clone();
        let (mut drafts, mut findings) = (Vec::new(), Vec::new());
        for turn in turns {
            self.scope = base.with(document.loops.iter().map(|one| one.name.as_str()).zip(turn));
            match self.rendered(document, excluded_by.clone(), undecidable.clone()) {
                Ok(draft) => drafts.push(draft),
                Err(errors) => findings.extend(errors),
            }
        }
        self.scope = base;
        findings.dedup();
        if findings.is_empty() { Ok(drafts) } else { Err(findings) }
    }

    fn rendered(
        &self,
        document: &ClauseDocument,
        excluded_by: Option<String>,
        undecidable: Option<String>,
    ) -> Result<Instantiated, Vec<Finding>> {
        let address = self.address(document).map_err(|finding| vec![finding])?;
        let common = &document.common;
        let baseline = self.assigned.baseline;
        let second_name = common
            .second_name
            .as_ref()
            .map(|name| second_name(name, &address))
            .transpose()
            .map_err(|finding| vec![finding])?;
        let gone = self.gone(document).map_err(|finding| vec![finding])?;
        let mut clause = Clause {
            claim: document.kind.claim_of(address.name(), &BTreeMap::new()),
            also: second_name.into_iter().collect(),
            properties: BTreeMap::new(),
            concealed: BTreeSet::new(),
            gone,
            severity: common.severity.unwrap_or(baseline.severity),
            satisfies: BTreeSet::new(),
            topics: BTreeSet::new(),
            needs: Vec::new(),
            dropped_needs: Vec::new(),
            reacts_to: Vec::new(),
            reaction: common.reaction.or_else(|| {
                (document.kind.reactions() == [kind::Reaction::Run] && !common.reacts_to.is_empty())
                    .then_some(kind::Reaction::Run)
            }),
            on_drift: None,
            on_rollout: None,
            change_windows: Vec::new(),
            grace_secs: common.grace_secs,
            via: common.via.clone(),
            origins: Vec::new(),
            undecidable,
            custom: document.kind.custom().map(|custom| Arc::new(custom.for_agents())),
            wanted: digest::none(),
            last_digest: LastDigest::default(),
            address,
        };
        // A check asks what is kept and how, not for what and by whom.
        if self.input.conditions == Conditions::Decide {
            clause.satisfies = baseline.satisfies.iter().chain(&common.satisfies).cloned().collect();
            clause.topics = common.topics.iter().cloned().collect();
            clause.origins.push(self.origin.clone());
        }
        let mut contents = Vec::new();
        // What does not count here need not be renderable here: that may be why it has a condition.
        if excluded_by.is_none() && clause.undecidable.is_none() {
            contents = self.properties(document, &mut clause)?;
            clause.claim = document.kind.claim_of(clause.address.name(), &clause.properties);
        }
        let in_kit =
            |one: &Located<String>| Located { value: one.value.clone(), place: self.in_kit(&one.place) };
        Ok(Instantiated {
            place: self.in_kit(&document.what.place),
            excluded_by,
            conditional: common.condition.is_some() || baseline.condition.is_some(),
            needs: baseline.needs.iter().chain(&common.needs).map(in_kit).collect(),
            reacts_to: common.reacts_to.iter().map(in_kit).collect(),
            contents,
            clause,
        })
    }

    fn in_kit(&self, place: &Place) -> Place {
        Place { kit: Some(self.kit.clone()), ..place.clone() }
    }

    /// Returns the values of the loops' names, turn by turn; the last name changes fastest.
    fn turns(&self, document: &ClauseDocument) -> Result<Vec<Vec<Value>>, Finding> {
        let names: Vec<&str> =
            self.assigned.baseline.parameters.iter().map(|parameter| parameter.name.value.as_str()).collect();
        let mut turns: Vec<Vec<Value>> = vec![Vec::new()];
        for one in &document.loops {
            let failed = |error: ConditionError| {
                Finding::error(Code::Loop, one.over.place.clone(), error.message).maybe_hint(error.hint)
            };
            let parsed = match self.assigned.baseline.compiled.items.get(&one.over.value) {
                Some(parsed) => parsed.clone(),
                None => Arc::new(
                    Items::parse(&one.over.value, &names).map_err(|mut errors| failed(errors.remove(0)))?,
                ),
            };
            self.scope.note(&parsed.inputs());
            let items = parsed.of(self.input.view, &self.params).map_err(failed)?;
            let mut items = items.map_err(|missing| {
                let message = format!("the node did not report {}, which `for` uses", missing.join(", "));
                Finding::error(Code::Loop, one.over.place.clone(), message)
            })?;
            if items.is_empty() && self.input.conditions == Conditions::CountAsTrue {
                items.push(self.sample_item(&parsed));
            }
            turns = turns
                .iter()
                .flat_map(|turn| items.iter().map(|item| [turn.clone(), vec![item.clone()]].concat()))
                .collect();
            if turns.len() > MAX_ITEMS {
                let message =
                    format!("the loops expand to {} clauses, at most {MAX_ITEMS} are allowed", turns.len());
                return Err(Finding::error(Code::Loop, one.over.place.clone(), message));
            }
        }
        Ok(turns)
    }

    /// Returns a placeholder for the items of an empty list, so that a check sees the clause.
    fn sample_item(&self, items: &Items) -> Value {
        let parameter = items
            .parameters()
            .next()
            .and_then(|name| self.assigned.baseline.parameters.iter().find(|one| one.name.value == name));
        parameter.and_then(Parameter::sample_item).unwrap_or(Value::Null)
    }

    fn address(&self, document: &ClauseDocument) -> Result<ClauseAddress, Finding> {
        let written = &document.what;
        let text = if has_markup(&written.value) && !document.common.literal {
            let value = self
                .renderer
                .value(&written.value, &self.scope)
                .map_err(|error| self.render_finding(&error, written, None))?;
            value.as_str().map(str::to_owned).unwrap_or_else(|| value.to_string())
        } else {
            written.value.clone()
        };
        let refuse = |message: String| Finding::error(Code::NotAnAddress, written.place.clone(), message);
        let address = ClauseAddress::parse(&text).map_err(|error| refuse(error.to_string()))?;
        if address.kind() != document.kind.name() {
            return Err(refuse("the kind of a clause is written, not rendered".into()));
        }
        let naming = document.kind.naming();
        if naming == Naming::Path {
            let path = kind::absolute_path(address.name())
                .map_err(|refused| refuse(refused.message).maybe_hint(refused.hint))?;
            if path == address.name() {
                return Ok(address);
            }
            return ClauseAddress::parse(&format!("{}:{path}", address.kind()))
                .map_err(|error| refuse(error.to_string()));
        }
        if !naming.fits(address.name()) {
            let message = format!("`{}` is not a valid name of a {}", address.name(), address.kind());
            return Err(refuse(message).hint(format!(
                "names of a {} are {}",
                address.kind(),
                naming.words()
            )));
        }
        Ok(address)
    }

    /// Returns whether the clause's thing must not exist here. While a template is guessed, what is written for both ways is checked as
    /// of a thing that must exist.
    fn gone(&self, document: &ClauseDocument) -> Result<Gone, Finding> {
        let Some(template) = &document.common.gone_if else { return Ok(document.common.gone) };
        let value = match self.renderer.value(&template.value, &self.scope) {
            Ok(value) => value,
            Err(error) if error.is_a_guess => return Ok(Gone::No),
            Err(error) => return Err(self.render_finding(&error, template, None)),
        };
        match Gone::of(&value) {
            Some(Gone::WithSettings) if document.kind.name() != "package" => {
                Err(Finding::error(Code::WrongValue, template.place.clone(), "only a package can be gone \"with_settings\""))
            }
            Some(_) if self.input.conditions == Conditions::CountAsTrue => Ok(Gone::No),
            Some(gone) => Ok(gone),
            None if self.scope.guessed() => Ok(Gone::No),
            None => Err(Finding::error(Code::WrongValue, template.place.clone(), format!("`gone` is true or false, and this is {value}"))
                .hint("write one expression that is a boolean, as \"{{ params.spare }}\" or \"{{ labels.site == 'auken' }}\"")),
        }
    }

    /// Returns the condition that excludes the clause, and what the node did not report.
    fn condition(
        &mut self,
        document: &'a ClauseDocument,
    ) -> Result<(Option<String>, Option<String>), Finding> {
        if self.input.conditions == Conditions::CountAsTrue {
            return Ok((None, None));
        }
        let mut missing = BTreeSet::new();
        for condition in self.assigned.baseline.condition.iter().chain(&document.common.condition) {
            let answer = match self.answered.get(condition.value.as_str()) {
                Some(answer) => answer.clone(),
                None => self.ask(condition)?,
            };
            match &answer {
                Answer::Yes => {}
                Answer::No => return Ok((Some(condition.value.clone()), None)),
                Answer::Undecidable(fields) => missing.extend(fields.iter().cloned()),
            }
            self.answered.insert(&condition.value, answer);
        }
        let undecidable = (!missing.is_empty()).then(|| {
            format!("the node did not report {}", missing.into_iter().collect::<Vec<_>>().join(", "))
        });
        Ok((None, undecidable))
    }

    fn ask(&self, condition: &Located<String>) -> Result<Answer, Finding> {
        let failed = |message: String| Finding::error(Code::Condition, condition.place.clone(), message);
        let baseline = self.assigned.baseline;
        let parsed = match baseline.compiled.conditions.get(&condition.value) {
            Some(parsed) => parsed.clone(),
            None => {
                let names: Vec<&str> =
                    baseline.parameters.iter().map(|parameter| parameter.name.value.as_str()).collect();
                Arc::new(
                    Condition::parse(&condition.value, &names)
                        .map_err(|errors| failed(errors[0].message.clone()))?,
                )
            }
        };
        self.scope.note(&parsed.inputs());
        parsed.holds(self.input.view, &self.params).map_err(|error| failed(error.message))
    }

    /// Sets the clause's properties and returns the contents that they refer to.
    fn properties(
        &self,
        document: &ClauseDocument,
        clause: &mut Clause,
    ) -> Result<Vec<Content>, Vec<Finding>> {
        let mut findings = Vec::new();
        let is_made_gone = document.common.gone_if.is_some() && clause.gone != Gone::No;
        for (name, written) in document
            .properties
            .iter()
            .filter(|(name, _)| !is_made_gone || stays_when_gone(&document.kind, name))
        {
            match self.property(document, name, written) {
                Ok(Some(value)) => drop(clause.properties.insert(name.clone(), value)),
                Ok(None) => {}
                Err(finding) => findings.push(finding),
            }
        }
        if !findings.is_empty() {
            return Err(findings);
        }
        let concealed =
            document.kind.properties().filter(|property| property.concealed || document.common.conceal);
        clause.concealed = concealed
            .filter(|property| clause.properties.contains_key(property.name))
            .map(|property| property.name.to_owned())
            .collect();
        let contents = match clause.address.kind() {
            "file" | "trust_anchor" | "tree" | "package_source" if is_made_gone => Vec::new(),
            "file" | "trust_anchor" => {
                self.content(document, clause).map_err(|finding| vec![finding])?.into_iter().collect()
            }
            "tree" | "package_source" => self.copies(document, clause).map_err(|finding| vec![finding])?,
            _ => self.program(clause).into_iter().collect(),
        };
        if clause.flag("shell") == Some(true) && clause.list("argv").len() != 1 {
            return Err(vec![
                Finding::error(
                    Code::Properties,
                    document.what.place.clone(),
                    "with `shell`, argv is one text",
                )
                .hint("write argv = [\"the whole line\"]"),
            ]);
        }
        Ok(contents)
    }

    /// Returns a property's value in normal form; none if a check can only guess at it.
    fn property(
        &self,
        document: &ClauseDocument,
        name: &str,
        written: &Located<Value>,
    ) -> Result<Option<Value>, Finding> {
        let property = document.kind.property(name).expect("reading a document refuses unknown properties");
        let value = if document.common.literal {
            written.value.clone()
        } else {
            match self.renderer.deep(&written.value, &self.scope) {
                Ok(value) => value,
                Err(error) if error.is_a_guess => return Ok(None),
                Err(error) => return Err(self.render_finding(&error, &as_text(written), None)),
            }
        };
        let normal = kind::normalise(name, property.value, &value);
        if normal.is_err() && self.scope.guessed() {
            return Ok(None);
        }
        let code =
            if property.value == kind::ValueType::PasswordHash { Code::Password } else { Code::WrongValue };
        normal.map(Some).map_err(|refused| {
            Finding::error(code, written.place.clone(), refused.message).maybe_hint(refused.hint)
        })
    }

    /// Replaces what a file's contents come from by the contents' digest.
    fn content(&self, document: &ClauseDocument, clause: &mut Clause) -> Result<Option<Content>, Finding> {
        let files = &self.assigned.kit.files;
        let place_of = |name: &str| {
            document
                .properties
                .iter()
                .find(|(property, _)| *property == name)
                .map_or(&document.what.place, |(_, value)| &value.place)
        };
        let text = clause.properties.remove("text").or_else(|| clause.properties.remove("pem"));
        let copy = clause.properties.remove("copy");
        let render = clause.properties.remove("render");
        let mut bytes = match (text, copy, render) {
            (Some(text), _, _) => text.as_str().unwrap_or_default().as_bytes().to_vec(),
            (_, Some(copy), _) => {
                let path = format!("copies/{}", copy.as_str().unwrap_or_default());
                files.get(&path).ok_or_else(|| missing_file(files, &path, place_of("copy")))?.to_vec()
            }
            (_, _, Some(render)) => {
                let name = render.as_str().unwrap_or_default();
                if files.get(&format!("renders/{name}")).is_none() {
                    return Err(missing_file(files, &format!("renders/{name}"), place_of("render")));
                }
                let written = Located { value: name.to_owned(), place: place_of("render").clone() };
                match self.renderer.file(name, &self.scope) {
                    Ok(text) => text.into_bytes(),
                    Err(error) if error.is_a_guess => return Ok(None),
                    Err(error) => return Err(self.render_finding(&error, &written, Some(name))),
                }
            }
            _ => return Ok(None),
        };
        if let Some(sign) = clause.properties.remove("banner") {
            bytes = with_banner(&bytes, sign.as_str().unwrap_or("#"), &self.origin);
        }
        let name = match self.input.conditions {
            // A check only asks whether contents are alike.
            Conditions::CountAsTrue => digest::for_comparing(&bytes),
            Conditions::Decide if document.common.conceal => self.input.key.digest(&bytes),
            Conditions::Decide => digest::of_contents(&bytes),
        };
        if document.common.conceal {
            clause.concealed.insert("content".into());
        }
        clause.properties.insert("content".into(), Value::from(name.as_str()));
        Ok(Some((name, bytes.into())))
    }

    /// Replaces the copies that a tree or a repository's key is made of by their digests.
    fn copies(&self, document: &ClauseDocument, clause: &mut Clause) -> Result<Vec<Content>, Finding> {
        let files = &self.assigned.kit.files;
        let mut contents = Vec::new();
        for (name, written) in
            document.properties.iter().filter(|(name, _)| matches!(name.as_str(), "copy" | "signed_by"))
        {
            let Some(path) = clause.text(name).map(|path| format!("copies/{path}")) else { continue };
            let mut found: BTreeMap<String, Value> = BTreeMap::new();
            let below = files.below(&path).map(|inner| (inner.to_owned(), format!("{path}/{inner}")));
            let single =
                files.get(&path).map(|_| (String::new(), path.clone())).filter(|_| *name == "signed_by");
            for (inner, path) in below.filter(|_| *name == "copy").chain(single) {
                let bytes = files.get(&path).unwrap_or_default();
                let digest = digest::of_contents(bytes);
                found.insert(inner, Value::from(digest.as_str()));
                contents.push((digest, bytes.into()));
            }
            if found.is_empty() {
                return Err(missing_file(files, &path, &written.place));
            }
            let value = found.get("").cloned().unwrap_or_else(|| Value::Object(found.into_iter().collect()));
            clause.properties.insert(name.clone(), value);
        }
        Ok(contents)
    }

    /// Returns the program of a custom kind.
    fn program(&self, clause: &Clause) -> Option<Content> {
        let custom = clause.custom.as_ref()?;
        let folder = custom.name.rsplit('/').next().unwrap_or_default();
        let bytes =
            self.assigned.kit.files.get(&format!("kinds/{folder}/{}", custom.program)).unwrap_or_default();
        Some((custom.program_digest.clone(), bytes.into()))
    }

    fn render_finding(&self, error: &RenderError, written: &Located<String>, file: Option<&str>) -> Finding {
        let files = &self.assigned.kit.files;
        let in_file = error
            .file
            .as_deref()
            .or(file)
            .map(|file| format!("renders/{file}"))
            .filter(|path| files.get(path).is_some());
        let place = match in_file {
            Some(path) => {
                let text = files.text(&path).unwrap_or_default();
                let line_range = || {
                    let start: usize = text
                        .split_inclusive('\n')
                        .take(error.line.unwrap_or(1).saturating_sub(1))
                        .map(str::len)
                        .sum();
                    start..start + text[start..].lines().next().map_or(0, str::len)
                };
                Place::new(&Arc::from(path), text, error.range.clone().unwrap_or_else(line_range))
            }
            None => match (&error.range, files.text(&written.place.file)) {
                (Some(range), Some(document)) => {
                    written.place.within(document, &written.value, range.clone())
                }
                _ => written.place.clone(),
            },
        };
        Finding::error(Code::Render, place, error.message.clone())
            .hint("in scope are params, labels, about and node.name, and in a loop its names")
    }
}

/// Returns whether a clause is the same on every node on which it counts.
fn is_fixed(document: &ClauseDocument) -> bool {
    let mut properties = document.properties.iter();
    let has_a_render = properties.clone().any(|(name, _)| *name == "render");
    document.loops.is_empty()
        && !has_a_render
        && document.common.gone_if.is_none()
        && (document.common.literal
            || !(has_markup(&document.what.value)
                || properties.any(|(_, written)| mentions_markup(&written.value))))
}

fn mentions_markup(value: &Value) -> bool {
    match value {
        Value::String(text) => has_markup(text),
        Value::Array(items) => items.iter().any(mentions_markup),
        Value::Object(entries) => {
            entries.iter().any(|(name, value)| has_markup(name) || mentions_markup(value))
        }
        Value::Null | Value::Bool(_) | Value::Number(_) => false,
    }
}

/// Reads a second name: an address of the clause's own kind.
fn second_name(written: &Located<String>, own: &ClauseAddress) -> Result<ClauseAddress, Finding> {
    let refuse = |message: String| {
        Finding::error(Code::NotAnAddress, written.place.clone(), message)
            .hint(format!("write as = \"{}:name\"", own.kind()))
    };
    let name = ClauseAddress::parse(&written.value).map_err(|error| refuse(error.to_string()))?;
    if name.kind() != own.kind() || crate::address::is_pattern(name.as_str()) {
        return Err(refuse(format!("`as` gives a {} a second name, and `{name}` is none", own.kind())));
    }
    Ok(name)
}

fn as_text(written: &Located<Value>) -> Located<String> {
    Located { value: written.value.as_str().unwrap_or_default().to_owned(), place: written.place.clone() }
}

fn missing_file(files: &crate::document::KitFiles, path: &str, place: &Place) -> Finding {
    let folder = path.split('/').next().unwrap_or_default();
    let near = crate::nearest::nearest_word(path, files.paths().filter(|known| known.starts_with(folder)));
    let hint = near.map_or_else(
        || format!("put the file there: {path}"),
        |near| format!("did you mean `{}`?", &near[folder.len() + 1..]),
    );
    Finding::error(Code::MissingFile, place.clone(), format!("the kit has no file {path}")).hint(hint)
}

/// Puts the line that says who keeps a file before its contents, or after a first line that names an interpreter.
fn with_banner(bytes: &[u8], sign: &str, origin: &Origin) -> Vec<u8> {
    let line = format!(
        "{sign} Managed by Constans, baseline {}/{}: manual changes are detected and may be undone.\n",
        origin.kit, origin.baseline
    );
    let at = if bytes.starts_with(b"#!") {
        bytes.iter().position(|byte| *byte == b'\n').map_or(bytes.len(), |newline| newline + 1)
    } else {
        0
    };
    [&bytes[..at], line.as_bytes(), &bytes[at..]].concat()
}

/// Whether a thing that must not exist was inputs for.
pub(super) fn is_gone(clause: &Clause) -> bool {
    clause.gone != Gone::No
}
