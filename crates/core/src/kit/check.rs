//! The check of a kit: everything that can be said of it before anything runs.

use super::baseline::{self, Baseline, ClauseDocument, Located};
use super::codes::Code;
use super::document;
use super::files::{KitFiles, Place};
use super::finding::{Finding, Level};
use super::manifest::{self, Requirement};
use crate::digest::DigestKey;
use crate::filter::{Condition, NodeView};
use crate::kind::nearest_word;
use crate::param::{Given, Layer};
use crate::state::{Assigned, Conditions, Renderer, ResolveInput, Untouchable, resolve};
use semver::Version;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// The name of the kit that a single baseline document makes up.
pub const LOCAL_KIT: &str = "local";

/// A kit that was read.
#[derive(Debug, Clone)]
pub struct Kit {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Version,
    /// What it is for.
    pub summary: String,
    /// The kits that it requires.
    pub requires: Vec<Requirement>,
    /// Its baselines, by file name.
    pub baselines: Vec<Baseline>,
    /// Its files.
    pub files: KitFiles,
}

impl Kit {
    /// Returns the baseline of this name.
    pub fn baseline(&self, name: &str) -> Option<&Baseline> {
        self.baselines.iter().find(|baseline| baseline.name.value == name)
    }
}

/// A kit as far as it could be read, and what there is to say of it.
#[derive(Debug)]
pub struct Checked {
    /// The kit; `None` if it could not even be named.
    pub kit: Option<Kit>,
    /// All findings, errors first, then by place.
    pub findings: Vec<Finding>,
}

impl Checked {
    /// Returns whether a finding forbids going on.
    pub fn has_errors(&self) -> bool {
        self.findings.iter().any(|finding| finding.level == Level::Error)
    }
}

/// Checks a kit; `folder` is the name of the folder that it lies in.
pub fn check(files: KitFiles, folder: Option<&str>) -> Checked {
    let mut findings = Vec::new();
    let manifest = if files.get("kit.toml").is_some() {
        document::read(&files, "kit.toml", &mut findings).and_then(|node| manifest::read(&node, &mut findings))
    } else {
        let hint = match files.paths().find(|path| path.ends_with(".toml")) {
            Some(other) => format!("add kit.toml, or check the one document by itself: {other}"),
            None => "a kit is a folder with kit.toml and baselines/*.toml".to_owned(),
        };
        findings.push(Finding::error(Code::MissingFile, Place::of_file("kit.toml"), "the folder has no kit.toml").hint(hint));
        None
    };
    if let (Some(manifest), Some(folder)) = (&manifest, folder)
        && manifest.name.value != folder
    {
        findings.push(
            Finding::warning(
                Code::FolderName,
                manifest.name.place.clone(),
                format!("the kit is called `{}` and its folder `{folder}`", manifest.name.value),
            )
            .hint("call both the same"),
        );
    }
    let paths: Vec<String> = files.paths().filter(|path| path.starts_with("baselines/") && path.ends_with(".toml")).map(str::to_owned).collect();
    let baselines = read_baselines(&files, &paths, &mut findings);
    let name = manifest.as_ref().map_or_else(|| folder.unwrap_or(LOCAL_KIT).to_owned(), |manifest| manifest.name.value.clone());
    let kit = Kit {
        name,
        version: manifest.as_ref().map_or(Version::new(0, 0, 0), |manifest| manifest.version.clone()),
        summary: manifest.as_ref().map(|manifest| manifest.summary.clone()).unwrap_or_default(),
        requires: manifest.as_ref().map(|manifest| manifest.requires.clone()).unwrap_or_default(),
        baselines,
        files,
    };
    if kit.baselines.is_empty() && paths.is_empty() {
        findings
            .push(Finding::warning(Code::Empty, Place::of_file("baselines"), "the kit has no baseline").hint("put one into baselines/, a file each"));
    }
    check_files(&kit, &mut findings);
    check_whole(kit, manifest.is_some(), findings)
}

/// Checks a single baseline document; it is the kit `local`, version 0.0.0.
pub fn check_single(path: &str, contents: Vec<u8>) -> Checked {
    let files = KitFiles::new(BTreeMap::from([(path.to_owned(), contents)]));
    let mut findings = Vec::new();
    let baselines = read_baselines(&files, &[path.to_owned()], &mut findings);
    let kit = Kit { name: LOCAL_KIT.to_owned(), version: Version::new(0, 0, 0), summary: String::new(), requires: Vec::new(), baselines, files };
    check_whole(kit, true, findings)
}

fn read_baselines(files: &KitFiles, paths: &[String], findings: &mut Vec<Finding>) -> Vec<Baseline> {
    let mut baselines: Vec<Baseline> = Vec::new();
    for path in paths {
        let Some(node) = document::read(files, path, findings) else { continue };
        let Some(baseline) = baseline::read(&node, files.text(path).unwrap_or_default(), findings) else { continue };
        if let Some(other) = baselines.iter().find(|other| other.name.value == baseline.name.value && !baseline.name.value.is_empty()) {
            findings.push(
                Finding::error(Code::ClaimConflict, baseline.name.place.clone(), format!("two baselines are called `{}`", baseline.name.value))
                    .related("the other one", other.name.place.clone()),
            );
        }
        baselines.push(baseline);
    }
    baselines
}

fn check_whole(kit: Kit, named: bool, mut findings: Vec<Finding>) -> Checked {
    for baseline in &kit.baselines {
        let documents_are_fine = !findings.iter().any(|finding| finding.level == Level::Error && finding.place.file == baseline.name.place.file);
        check_baseline(&kit, baseline, documents_are_fine, &mut findings);
    }
    findings.sort_by(|left, right| (left.level, &left.place, left.code).cmp(&(right.level, &right.place, right.code)));
    findings.dedup();
    Checked { kit: named.then_some(kit), findings }
}

fn check_baseline(kit: &Kit, baseline: &Baseline, documents_are_fine: bool, findings: &mut Vec<Finding>) {
    if baseline.clauses.is_empty() && documents_are_fine {
        findings.push(
            Finding::warning(Code::Empty, baseline.name.place.clone(), format!("the baseline `{}` has no clauses", baseline.name.value))
                .hint("begin each with [[clause]]"),
        );
    }
    let names: Vec<&str> = baseline.parameters.iter().map(|parameter| parameter.name.value.as_str()).collect();
    let mut used = BTreeSet::new();
    let document = kit.files.text(&baseline.name.place.file).unwrap_or_default();
    let conditions = baseline.condition.iter().chain(baseline.clauses.iter().filter_map(|clause| clause.common.condition.as_ref()));
    for condition in conditions {
        check_condition(condition, &names, document, &mut used, findings);
    }
    let given = baseline
        .parameters
        .iter()
        .filter(|parameter| parameter.default.as_ref().is_none_or(|default| parameter.accepts(&default.value).is_err()))
        .map(|parameter| (parameter.name.value.clone(), vec![Given { value: parameter.sample(), layer: Layer::CommandLine }]))
        .collect();
    if let Err(errors) = resolve_sample(kit, baseline, given) {
        // A clause that could not be read may be the one that is needed: do not blame the reference.
        findings.extend(errors.into_iter().filter(|error| documents_are_fine || error.code != Code::NothingFits));
    }
    check_unused(kit, baseline, &names, used, findings);
}

fn resolve_sample(kit: &Kit, baseline: &Baseline, given: BTreeMap<String, Vec<Given>>) -> Result<(), Vec<Finding>> {
    let input = ResolveInput {
        assigned: vec![Assigned { kit, baseline, on_drift: None, on_rollout: None, given }],
        view: &NodeView::sample(),
        key: &DigestKey::new("check"),
        conditions: Conditions::CountAsTrue,
        untouchable: &Untouchable::default(),
    };
    resolve(&input).map(|_| ())
}

fn check_condition(condition: &Located<String>, names: &[&str], document: &str, used: &mut BTreeSet<String>, findings: &mut Vec<Finding>) {
    let at = |range: std::ops::Range<usize>| condition.place.within(document, &condition.value, range);
    match Condition::parse(&condition.value, names) {
        Ok(parsed) => {
            used.extend(parsed.parameters().map(str::to_owned));
            if let Err(error) = parsed.holds(&NodeView::sample(), &sample_params(names))
                && parsed.parameters().next().is_none()
            {
                findings.push(
                    Finding::error(Code::Condition, condition.place.clone(), error.message).hint("compare something, as labels.role == \"kiosk\""),
                );
            }
        }
        Err(errors) => findings.extend(errors.into_iter().map(|error| {
            let code = if error.about_a_name { Code::ConditionName } else { Code::Condition };
            Finding::error(code, at(error.range), error.message).maybe_hint(error.hint)
        })),
    }
}

fn sample_params(names: &[&str]) -> Value {
    Value::Object(names.iter().map(|name| ((*name).to_owned(), Value::from(""))).collect())
}

/// Warns of parameters that no condition, no text and no render of the baseline speaks of.
fn check_unused(kit: &Kit, baseline: &Baseline, names: &[&str], mut used: BTreeSet<String>, findings: &mut Vec<Finding>) {
    let renderer = Renderer::new(&kit.files);
    for text in baseline.clauses.iter().flat_map(|clause| texts_of(kit, clause)) {
        match renderer.parameters_of(&text) {
            Some(names) => used.extend(names),
            None => return,
        }
    }
    for parameter in
        baseline.parameters.iter().filter(|parameter| names.contains(&parameter.name.value.as_str()) && !used.contains(&parameter.name.value))
    {
        let name = &parameter.name.value;
        findings.push(
            Finding::warning(Code::UnusedParameter, parameter.name.place.clone(), format!("nothing uses the parameter `{name}`"))
                .hint(format!("use it as {{{{ params.{name} }}}}, or take it away")),
        );
    }
}

fn texts_of(kit: &Kit, clause: &ClauseDocument) -> Vec<String> {
    fn collect(value: &Value, into: &mut Vec<String>) {
        match value {
            Value::String(text) => into.push(text.clone()),
            Value::Array(items) => items.iter().for_each(|item| collect(item, into)),
            Value::Object(map) => map.values().for_each(|item| collect(item, into)),
            _ => {}
        }
    }
    let mut texts = vec![clause.what.value.clone()];
    for (name, value) in &clause.properties {
        collect(&value.value, &mut texts);
        if *name == "render"
            && let Some(source) = value.value.as_str().and_then(|file| kit.files.text(&format!("renders/{file}")))
        {
            texts.push(source.to_owned());
        }
    }
    texts
}

/// Says which files nobody reads, and which are left for a later version.
fn check_files(kit: &Kit, findings: &mut Vec<Finding>) {
    const FOLDERS: [&str; 5] = ["baselines", "copies", "renders", "kinds", "cases"];
    let named = |property: &str| -> BTreeSet<String> {
        let clauses = kit.baselines.iter().flat_map(|baseline| &baseline.clauses);
        clauses
            .flat_map(|clause| &clause.properties)
            .filter(|(name, _)| *name == property)
            .filter_map(|(_, value)| value.value.as_str().map(str::to_owned))
            .collect()
    };
    let (copies, renders) = (named("copy"), named("render"));
    // A rendered name may be any file; an include in a render may be, too.
    let rendered_names = copies.iter().chain(&renders).any(|name| name.contains("{{"));
    let includes = kit.files.below("renders").any(|path| {
        kit.files.text(&format!("renders/{path}")).is_some_and(|text| ["include", "import", "extends"].iter().any(|word| text.contains(word)))
    });
    for (folder, used, sure) in [("copies", &copies, !rendered_names), ("renders", &renders, !rendered_names && !includes)] {
        for path in kit.files.below(folder).filter(|path| sure && !used.contains(*path)) {
            findings.push(
                Finding::warning(Code::UnusedFile, Place::of_file(&format!("{folder}/{path}")), "no clause uses this file")
                    .hint("name it in a clause, or delete it"),
            );
        }
    }
    for path in kit.files.paths() {
        let Some((folder, _)) = path.split_once('/') else {
            if path.ends_with(".toml") && path != "kit.toml" {
                findings.push(
                    Finding::warning(Code::UnusedFile, Place::of_file(path), "documents are read from baselines/ only")
                        .hint(format!("move it to baselines/{path}")),
                );
            }
            continue;
        };
        if folder == "kinds" {
            findings.push(Finding::error(
                Code::NotYet,
                Place::of_file(path),
                "custom kinds belong to the language, and this version of Constans does not read them yet",
            ));
        } else if !FOLDERS.contains(&folder) && !folder.starts_with('.') {
            let hint = nearest_word(folder, FOLDERS).map_or_else(
                || format!("a kit has {}", FOLDERS.map(|folder| format!("{folder}/")).join(", ")),
                |near| format!("did you mean {near}/?"),
            );
            findings.push(Finding::warning(Code::UnusedFile, Place::of_file(path), format!("nothing is read from the folder {folder}/")).hint(hint));
        }
    }
}
