//! One clause of a document on one node: its condition asked, its values rendered and brought to normal form.

use super::clause::{Clause, Origin, Switch, SwitchFrom};
use super::render::{RenderError, Renderer, Scope, has_markup};
use super::resolve::{Assigned, Conditions, ResolveInput};
use crate::address::ClauseAddress;
use crate::digest::{self, Digest};
use crate::filter::{Answer, Condition};
use crate::kind;
use crate::kit::{ClauseDocument, Code, Finding, Gone, Located, Place};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// A clause that is not yet connected with the others.
pub(super) struct Draft {
    pub clause: Clause,
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
    renderer: Renderer,
    scope: Scope,
    contents: &'a mut BTreeMap<Digest, Vec<u8>>,
    origin: Origin,
}

impl<'a> Instantiation<'a> {
    pub fn new(assigned: &'a Assigned<'a>, input: &'a ResolveInput<'a>, params: &Value, contents: &'a mut BTreeMap<Digest, Vec<u8>>) -> Self {
        Self {
            assigned,
            input,
            renderer: Renderer::new(&assigned.kit.files),
            scope: Scope::new(input.view, params),
            params: params.clone(),
            contents,
            origin: Origin { kit: assigned.kit.name.clone(), version: assigned.kit.version.clone(), baseline: assigned.baseline.name.value.clone() },
        }
    }

    pub fn clause(&mut self, document: &ClauseDocument) -> Result<Draft, Vec<Finding>> {
        let address = self.address(document).map_err(|finding| vec![finding])?;
        let (excluded_by, undecidable) = self.condition(document).map_err(|finding| vec![finding])?;
        let common = &document.common;
        let baseline = self.assigned.baseline;
        let mut clause = Clause {
            claim: (document.kind.claim)(address.name()),
            also: Vec::new(),
            properties: BTreeMap::new(),
            concealed: BTreeSet::new(),
            gone: common.gone,
            severity: common.severity.unwrap_or(baseline.severity),
            satisfies: baseline.satisfies.iter().chain(&common.satisfies).cloned().collect(),
            topics: common.topics.iter().cloned().collect(),
            needs: Vec::new(),
            dropped_needs: Vec::new(),
            reacts_to: Vec::new(),
            reaction: common
                .reaction
                .or_else(|| (document.kind.reactions == [kind::Reaction::Run] && !common.reacts_to.is_empty()).then_some(kind::Reaction::Run)),
            on_drift: first_set(common.on_drift, self.assigned.on_drift, baseline.on_drift),
            on_rollout: first_set(common.on_rollout, self.assigned.on_rollout, baseline.on_rollout),
            grace_secs: common.grace_secs,
            via: common.via.clone(),
            origins: vec![self.origin.clone()],
            undecidable,
            wanted: digest::of_contents(b""),
            address,
        };
        // What does not count here need not be renderable here: that may be why it has a condition.
        if excluded_by.is_none() && clause.undecidable.is_none() {
            self.properties(document, &mut clause)?;
        }
        Ok(Draft {
            place: document.what.place.clone(),
            excluded_by,
            conditional: common.condition.is_some() || baseline.condition.is_some(),
            needs: baseline.needs.iter().chain(&common.needs).cloned().collect(),
            reacts_to: common.reacts_to.clone(),
            clause,
        })
    }

    fn address(&self, document: &ClauseDocument) -> Result<ClauseAddress, Finding> {
        let written = &document.what;
        let text = if has_markup(&written.value) && !document.common.literal {
            let value = self.renderer.value(&written.value, &self.scope).map_err(|error| self.render_finding(&error, written, None))?;
            value.as_str().map(str::to_owned).unwrap_or_else(|| value.to_string())
        } else {
            written.value.clone()
        };
        let refuse = |message: String| Finding::error(Code::NotAnAddress, written.place.clone(), message);
        let address = ClauseAddress::parse(&text).map_err(|error| refuse(error.to_string()))?;
        if address.kind() != document.kind.name {
            return Err(refuse("the kind of a clause is written, not rendered".into()));
        }
        if document.kind.named_by_path {
            let path = kind::absolute_path(address.name()).map_err(|refused| refuse(refused.message).maybe_hint(refused.hint))?;
            return ClauseAddress::parse(&format!("{}:{path}", address.kind())).map_err(|error| refuse(error.to_string()));
        }
        let plain = |c: char| c.is_alphanumeric() || "+-._@:".contains(c);
        if address.kind() != "command" && (!address.name().chars().all(plain) || address.name().starts_with('-')) {
            return Err(refuse(format!("`{}` is no name of a {}", address.name(), address.kind()))
                .hint("names have letters, digits and + - . _ @ :, and do not begin with -"));
        }
        Ok(address)
    }

    /// Returns the condition that excludes the clause, and what the node did not report.
    fn condition(&self, document: &ClauseDocument) -> Result<(Option<String>, Option<String>), Finding> {
        if self.input.conditions == Conditions::CountAsTrue {
            return Ok((None, None));
        }
        let names: Vec<&str> = self.assigned.baseline.parameters.iter().map(|parameter| parameter.name.value.as_str()).collect();
        let mut missing = BTreeSet::new();
        for condition in self.assigned.baseline.condition.iter().chain(&document.common.condition) {
            let failed = |message: String| Finding::error(Code::Condition, condition.place.clone(), message);
            let parsed = Condition::parse(&condition.value, &names).map_err(|errors| failed(errors[0].message.clone()))?;
            match parsed.holds(self.input.view, &self.params).map_err(|error| failed(error.message))? {
                Answer::Yes => {}
                Answer::No => return Ok((Some(condition.value.clone()), None)),
                Answer::Undecidable(fields) => missing.extend(fields),
            }
        }
        let undecidable = (!missing.is_empty()).then(|| format!("the node did not report {}", missing.into_iter().collect::<Vec<_>>().join(", ")));
        Ok((None, undecidable))
    }

    fn properties(&mut self, document: &ClauseDocument, clause: &mut Clause) -> Result<(), Vec<Finding>> {
        let mut findings = Vec::new();
        for (name, written) in &document.properties {
            match self.property(document, name, written) {
                Ok(value) => drop(clause.properties.insert((*name).to_owned(), value)),
                Err(finding) => findings.push(finding),
            }
        }
        if !findings.is_empty() {
            return Err(findings);
        }
        let concealed = document.kind.properties.iter().filter(|property| property.concealed || document.common.conceal);
        clause.concealed =
            concealed.filter(|property| clause.properties.contains_key(property.name)).map(|property| property.name.to_owned()).collect();
        if clause.address.kind() == "file" {
            self.content(document, clause).map_err(|finding| vec![finding])?;
        }
        if clause.flag("shell") == Some(true) && clause.list("argv").len() != 1 {
            return Err(vec![
                Finding::error(Code::Properties, document.what.place.clone(), "with `shell`, argv is one text")
                    .hint("write argv = [\"the whole line\"]"),
            ]);
        }
        Ok(())
    }

    fn property(&self, document: &ClauseDocument, name: &'static str, written: &Located<Value>) -> Result<Value, Finding> {
        let property = document.kind.property(name).expect("reading a document refuses unknown properties");
        let value = if document.common.literal {
            written.value.clone()
        } else {
            self.renderer.deep(&written.value, &self.scope).map_err(|error| self.render_finding(&error, &as_text(written), None))?
        };
        kind::normalise(name, property.value, &value)
            .map_err(|refused| Finding::error(Code::WrongValue, written.place.clone(), refused.message).maybe_hint(refused.hint))
    }

    /// Replaces what a file's contents come from by the contents' digest.
    fn content(&mut self, document: &ClauseDocument, clause: &mut Clause) -> Result<(), Finding> {
        let files = &self.assigned.kit.files;
        let place_of =
            |name: &str| document.properties.iter().find(|(property, _)| *property == name).map_or(&document.what.place, |(_, value)| &value.place);
        let text = clause.properties.remove("text");
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
                self.renderer.file(name, &self.scope).map_err(|error| self.render_finding(&error, &written, Some(name)))?.into_bytes()
            }
            _ => return Ok(()),
        };
        if let Some(sign) = clause.properties.remove("banner") {
            bytes = with_banner(&bytes, sign.as_str().unwrap_or("#"), &self.origin);
        }
        let name = if document.common.conceal { self.input.key.digest(&bytes) } else { digest::of_contents(&bytes) };
        if document.common.conceal {
            clause.concealed.insert("content".into());
        }
        clause.properties.insert("content".into(), Value::from(name.as_str()));
        self.contents.insert(name, bytes);
        Ok(())
    }

    fn render_finding(&self, error: &RenderError, written: &Located<String>, file: Option<&str>) -> Finding {
        let files = &self.assigned.kit.files;
        let in_file = error.file.as_deref().or(file).map(|file| format!("renders/{file}")).filter(|path| files.get(path).is_some());
        let place = match in_file {
            Some(path) => {
                let text = files.text(&path).unwrap_or_default();
                let line_range = || {
                    let start: usize = text.split_inclusive('\n').take(error.line.unwrap_or(1).saturating_sub(1)).map(str::len).sum();
                    start..start + text[start..].lines().next().map_or(0, str::len)
                };
                Place::new(&Arc::from(path), text, error.range.clone().unwrap_or_else(line_range))
            }
            None => match (&error.range, files.text(&written.place.file)) {
                (Some(range), Some(document)) => written.place.within(document, &written.value, range.clone()),
                _ => written.place.clone(),
            },
        };
        Finding::error(Code::Render, place, error.message.clone()).hint("in scope are params, labels, about and node.name")
    }
}

fn as_text(written: &Located<Value>) -> Located<String> {
    Located { value: written.value.as_str().unwrap_or_default().to_owned(), place: written.place.clone() }
}

fn first_set<T>(clause: Option<T>, assignment: Option<T>, baseline: Option<T>) -> Option<Switch<T>> {
    let set = |value: Option<T>, from| value.map(|value| Switch { value, from });
    set(clause, SwitchFrom::Clause).or_else(|| set(assignment, SwitchFrom::Assignment)).or_else(|| set(baseline, SwitchFrom::Baseline))
}

fn missing_file(files: &crate::kit::KitFiles, path: &str, place: &Place) -> Finding {
    let folder = path.split('/').next().unwrap_or_default();
    let near = kind::nearest_word(path, files.paths().filter(|known| known.starts_with(folder)));
    let hint = near.map_or_else(|| format!("put the file there: {path}"), |near| format!("did you mean `{}`?", &near[folder.len() + 1..]));
    Finding::error(Code::MissingFile, place.clone(), format!("the kit has no file {path}")).hint(hint)
}

/// Puts the line that says who keeps a file before its contents, or after a first line that names an interpreter.
fn with_banner(bytes: &[u8], sign: &str, origin: &Origin) -> Vec<u8> {
    let line = format!("{sign} Kept by Constans, baseline {}/{}: changes made here are found and may be undone.\n", origin.kit, origin.baseline);
    let at = if bytes.starts_with(b"#!") { bytes.iter().position(|byte| *byte == b'\n').map_or(bytes.len(), |newline| newline + 1) } else { 0 };
    [&bytes[..at], line.as_bytes(), &bytes[at..]].concat()
}

/// Whether a thing that must not exist was asked for.
pub(super) fn is_gone(clause: &Clause) -> bool {
    clause.gone != Gone::No
}
