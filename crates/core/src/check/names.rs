//! The names that renders speak of, compared with what is in scope, and the parameters that nothing speaks of.

use crate::document::Code;
use crate::document::Finding;
use crate::document::Located;
use crate::document::Place;
use crate::filter::STABLE_FIELDS;
use crate::kit::Baseline;
use crate::kit::ClauseDocument;
use crate::kit::Kit;
use crate::nearest::nearest_word;
use crate::template::{Renderer, has_markup};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

const ROOTS: [&str; 4] = ["params", "labels", "about", "node"];

/// The names in a kit's renders; each file is read once.
pub(super) struct Names<'k> {
    renderer: Arc<Renderer>,
    of_files: BTreeMap<&'k str, Arc<BTreeSet<String>>>,
    /// Texts that were read already: many clauses have the same.
    of_texts: HashMap<String, Arc<BTreeSet<String>>>,
    /// The labels that nodes have, if that is known.
    labels: Option<&'k BTreeSet<String>>,
    /// Whether renders take in each other: then a parameter may be used where it cannot be seen.
    renders_include: bool,
}

impl<'k> Names<'k> {
    pub fn new(kit: &'k Kit, labels: Option<&'k BTreeSet<String>>) -> Self {
        let renderer = kit.renderer.clone();
        let sources = || {
            kit.files
                .below("renders")
                .filter_map(|path| Some((path, kit.files.text(&format!("renders/{path}"))?)))
        };
        let of_files = sources().map(|(path, source)| (path, Arc::new(renderer.names_in(source)))).collect();
        let renders_include = sources()
            .any(|(_, text)| ["include", "import", "extends"].iter().any(|word| text.contains(word)));
        Self { renderer, of_files, of_texts: HashMap::new(), labels, renders_include }
    }

    fn of_text(&mut self, text: &str) -> Arc<BTreeSet<String>> {
        if let Some(known) = self.of_texts.get(text) {
            return known.clone();
        }
        let names = Arc::new(self.renderer.names_in(text));
        self.of_texts.insert(text.to_owned(), names.clone());
        names
    }
}

/// Says of each name that is not in scope its place, and of each parameter that nothing uses. Returns the places of
/// what is not in scope.
pub(super) fn check_names(
    kit: &Kit,
    baseline: &Baseline,
    names: &mut Names<'_>,
    findings: &mut Vec<Finding>,
) -> Vec<Place> {
    let mut used: BTreeSet<String> =
        baseline.compiled.conditions.values().flat_map(|one| one.parameters().map(str::to_owned)).collect();
    used.extend(baseline.compiled.items.values().flat_map(|one| one.parameters().map(str::to_owned)));
    let document = kit.files.text(&baseline.name.place.file).unwrap_or_default();
    let mut misnamed = Vec::new();
    let mut takes_all = false;
    let known_labels = names.labels;
    for clause in baseline.clauses.iter().filter(|clause| !clause.common.literal) {
        let scope = InScope::of(baseline, clause);
        let mut see = |name: &str, place: &dyn Fn(&str) -> Place| {
            takes_all |= name == "params";
            used.extend(
                name.strip_prefix("params.").map(|name| name.split('.').next().unwrap_or(name).to_owned()),
            );
            if let Some(finding) = unknown_label(name, known_labels, place)
                && !findings.contains(&finding)
            {
                findings.push(finding);
            }
            if let Some((message, hint)) = scope.objection(name) {
                let place = place(name);
                misnamed.push(place.clone());
                let finding = Finding::error(Code::RenderName, place, message).hint(hint);
                if !findings.contains(&finding) {
                    findings.push(finding);
                }
            }
        };
        for text in &texts_of(clause) {
            let place = |name: &str| text.place.within(document, &text.value, position(&text.value, name));
            names.of_text(&text.value).iter().for_each(|name| see(name, &place));
        }
        if let Some((file, of_file)) = render_of(clause).and_then(|file| names.of_files.get_key_value(file)) {
            let path = format!("renders/{file}");
            let source = kit.files.text(&path).unwrap_or_default();
            let place = |name: &str| Place::new(&Arc::from(path.as_str()), source, position(source, name));
            of_file.iter().for_each(|name| see(name, &place));
        }
    }
    if !takes_all && !names.renders_include {
        warn_of_unused(baseline, &used, findings);
    }
    misnamed
}

/// Warns of a label that no node has; in a render it is empty.
fn unknown_label(
    name: &str,
    known: Option<&BTreeSet<String>>,
    place: &dyn Fn(&str) -> Place,
) -> Option<Finding> {
    let label = name.strip_prefix("labels.")?;
    let known = known.filter(|known| !known.contains(label))?;
    Some(no_such_label(label, known, place(name)))
}

/// Returns the warning that no node has a label.
pub(super) fn no_such_label(label: &str, known: &BTreeSet<String>, place: Place) -> Finding {
    let hint = nearest_word(label, known.iter().map(String::as_str)).map_or_else(
        || format!("nodes have the labels {}", known.iter().cloned().collect::<Vec<_>>().join(", ")),
        |near| format!("did you mean `labels.{near}`?"),
    );
    Finding::warning(Code::UnknownLabel, place, format!("no node has the label `{label}`")).hint(hint)
}

/// What the texts of one clause may speak of.
struct InScope<'b> {
    parameters: Vec<&'b str>,
    loops: Vec<&'b str>,
}

impl<'b> InScope<'b> {
    fn of(baseline: &'b Baseline, clause: &'b ClauseDocument) -> Self {
        Self {
            parameters: baseline.parameters.iter().map(|parameter| parameter.name.value.as_str()).collect(),
            loops: clause.loops.iter().map(|one| one.name.as_str()).collect(),
        }
    }

    /// Returns what is wrong with a name, and what to do.
    fn objection(&self, name: &str) -> Option<(String, String)> {
        let (root, rest) = name.split_once('.').unwrap_or((name, ""));
        let first = rest.split('.').next().unwrap_or_default();
        match root {
            _ if self.loops.contains(&root) => None,
            "labels" => None,
            "params" if rest.is_empty() || self.parameters.contains(&first) => None,
            "params" => {
                let hint = match nearest_word(first, self.parameters.iter().copied()) {
                    Some(near) => format!("did you mean `params.{near}`?"),
                    None if self.parameters.is_empty() => format!("declare it: [params.{first}]"),
                    None => format!("it declares {}", self.parameters.join(", ")),
                };
                Some((format!("the baseline declares no parameter `{first}`"), hint))
            }
            "about"
                if rest.is_empty()
                    || STABLE_FIELDS
                        .iter()
                        .any(|field| field.path == rest || field.path.split('.').next() == Some(rest)) =>
            {
                None
            }
            "about" => {
                let known = STABLE_FIELDS.iter().map(|field| field.path);
                let hint = nearest_word(rest, known.clone()).map_or_else(
                    || {
                        format!(
                            "stable fields are {}",
                            known.map(|path| format!("about.{path}")).collect::<Vec<_>>().join(", ")
                        )
                    },
                    |near| format!("did you mean `about.{near}`?"),
                );
                Some((format!("`about.{rest}` is not a stable field of a node"), hint))
            }
            "node" if rest.is_empty() || rest == "name" => None,
            "node" => {
                Some((format!("`node.{rest}` is not known"), "the node is known by node.name".to_owned()))
            }
            _ => {
                let near = nearest_word(root, ROOTS.iter().copied().chain(self.loops.iter().copied()));
                let hint = near.map_or_else(
                    || "in scope are params, labels, about and node.name, and in a loop its names".to_owned(),
                    |near| format!("did you mean `{near}`?"),
                );
                Some((format!("unknown name `{root}` in a render"), hint))
            }
        }
    }
}

/// Returns where a name is in a text: as a word, not as a part of one.
fn position(source: &str, name: &str) -> std::ops::Range<usize> {
    let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
    let found = source.match_indices(name).map(|(at, _)| at).find(|at| {
        let before = source[..*at].chars().next_back().is_some_and(is_word);
        let after = source[at + name.len()..].chars().next().is_some_and(|c| c.is_alphanumeric() || c == '_');
        !before && !after
    });
    found.map_or(0..source.len(), |at| at..at + name.len())
}

fn render_of(clause: &ClauseDocument) -> Option<&str> {
    clause.properties.iter().find(|(name, _)| *name == "render").and_then(|(_, value)| value.value.as_str())
}

/// Returns all texts of a clause that are rendered.
fn texts_of(clause: &ClauseDocument) -> Vec<Located<String>> {
    fn collect(value: &Value, place: &Place, into: &mut Vec<Located<String>>) {
        match value {
            Value::String(text) if has_markup(text) => {
                into.push(Located { value: text.clone(), place: place.clone() });
            }
            Value::Array(items) => items.iter().for_each(|item| collect(item, place, into)),
            Value::Object(map) => map.values().for_each(|item| collect(item, place, into)),
            _ => {}
        }
    }
    let mut texts = Vec::new();
    if has_markup(&clause.what.value) {
        texts.push(clause.what.clone());
    }
    texts.extend(clause.common.gone_if.clone());
    clause.properties.iter().for_each(|(_, value)| collect(&value.value, &value.place, &mut texts));
    texts
}

fn warn_of_unused(baseline: &Baseline, used: &BTreeSet<String>, findings: &mut Vec<Finding>) {
    for parameter in baseline.parameters.iter().filter(|parameter| !used.contains(&parameter.name.value)) {
        let name = &parameter.name.value;
        findings.push(
            Finding::warning(
                Code::UnusedParameter,
                parameter.name.place.clone(),
                format!("nothing uses the parameter `{name}`"),
            )
            .hint(format!("use it as {{{{ params.{name} }}}}, or remove it")),
        );
    }
}
