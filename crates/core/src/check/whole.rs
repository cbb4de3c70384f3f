//! A whole kit in, all findings out.

use super::baseline::{Sample, SharedConditions, check_baseline, compile};
use super::case::read_cases;
use super::files::check_files;
use crate::document;
use crate::document::Code;
use crate::document::{Finding, Level};
use crate::document::{KitFiles, Place};
use crate::kind::Kind;
use crate::kit::{self, Baseline, Kit, LOCAL_KIT, Manifest, read_kinds, require};
use crate::nearest::nearest_word;
use crate::param::SecretName;
use crate::template::Renderer;
use semver::Version;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// The most clauses that a kit may have.
pub const MAX_CLAUSES: usize = 20_000;

/// What a check knows beside the kit itself.
#[derive(Debug, Clone, Copy, Default)]
pub struct Surroundings<'a> {
    /// Other kits, which it may require; more than one release of one kit is fine.
    pub kits: &'a [Kit],
    /// Releases that there are and that were not read.
    pub releases: &'a [require::Release],
    /// Whether there are no others: what is required and not among them does not exist.
    pub complete: bool,
    /// The labels that nodes have, if they are known.
    pub labels: Option<&'a BTreeSet<String>>,
    /// The secrets that there are, if they are known.
    pub secrets: Option<&'a BTreeSet<SecretName>>,
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

/// Checks a kit; `folder` is the name of its folder.
pub fn check(files: KitFiles, folder: Option<&str>, surroundings: Surroundings<'_>) -> Checked {
    let mut findings = Vec::new();
    let manifest = read_manifest(&files, folder, &mut findings);
    let paths: Vec<String> = files
        .paths()
        .filter(|path| path.starts_with("baselines/") && path.ends_with(".toml"))
        .map(str::to_owned)
        .collect();
    let name = manifest
        .as_ref()
        .map_or_else(|| folder.unwrap_or(LOCAL_KIT).to_owned(), |manifest| manifest.name.value.clone());
    let kinds = read_kinds(&files, &name, &mut findings);
    let baselines = read_baselines(&files, &paths, &kinds, &mut findings);
    let kit = Kit {
        name,
        version: manifest.as_ref().map_or(Version::new(0, 0, 0), |manifest| manifest.version.clone()),
        summary: manifest.as_ref().map(|manifest| manifest.summary.clone()).unwrap_or_default(),
        requires: manifest.as_ref().map(|manifest| manifest.requires.clone()).unwrap_or_default(),
        baselines,
        kinds,
        renderer: Arc::new(Renderer::new(&files)),
        files,
    };
    if kit.baselines.is_empty() && paths.is_empty() {
        findings.push(
            Finding::warning(Code::Empty, Place::of_file("baselines"), "the kit has no baseline")
                .hint("put one into baselines/, a file each"),
        );
    }
    check_files(&kit, &mut findings);
    read_cases(&kit, &mut findings);
    check_whole(kit, manifest.is_some(), surroundings, findings)
}

/// Checks a single baseline document; it is the kit `local`, version 0.0.0.
pub fn check_single(path: &str, contents: Vec<u8>) -> Checked {
    let files = KitFiles::new(BTreeMap::from([(path.to_owned(), contents)]));
    let mut findings = Vec::new();
    let baselines = read_baselines(&files, &[path.to_owned()], &[], &mut findings);
    let kit = Kit {
        name: LOCAL_KIT.to_owned(),
        version: Version::new(0, 0, 0),
        summary: String::new(),
        requires: Vec::new(),
        baselines,
        kinds: Vec::new(),
        renderer: Arc::new(Renderer::new(&files)),
        files,
    };
    check_whole(kit, true, Surroundings::default(), findings)
}

fn read_manifest(files: &KitFiles, folder: Option<&str>, findings: &mut Vec<Finding>) -> Option<Manifest> {
    if files.get("kit.toml").is_none() {
        let hint = match files.paths().find(|path| path.ends_with(".toml")) {
            Some(other) => format!("add kit.toml, or check the one document by itself: {other}"),
            None => "a kit is a folder with kit.toml and baselines/*.toml; `constans kit new NAME` makes one"
                .to_owned(),
        };
        findings.push(
            Finding::error(Code::MissingFile, Place::of_file("kit.toml"), "the folder has no kit.toml")
                .hint(hint),
        );
        return None;
    }
    let manifest =
        document::read(files, "kit.toml", findings).and_then(|node| kit::read_manifest(&node, findings))?;
    if let Some(folder) = folder.filter(|folder| manifest.name.value != *folder) {
        let message = format!("the kit is called `{}` and its folder `{folder}`", manifest.name.value);
        findings.push(
            Finding::warning(Code::FolderName, manifest.name.place.clone(), message)
                .hint("call both the same"),
        );
    }
    Some(manifest)
}

fn read_baselines(
    files: &KitFiles,
    paths: &[String],
    custom_kinds: &[Kind],
    findings: &mut Vec<Finding>,
) -> Vec<Baseline> {
    let mut baselines: Vec<Baseline> = Vec::new();
    for path in paths {
        let Some(node) = document::read(files, path, findings) else { continue };
        let Some(baseline) =
            kit::read_baseline(&node, files.text(path).unwrap_or_default(), custom_kinds, findings)
        else {
            continue;
        };
        if let Some(other) = baselines
            .iter()
            .find(|other| other.name.value == baseline.name.value && !baseline.name.value.is_empty())
        {
            findings.push(
                Finding::error(
                    Code::SameName,
                    baseline.name.place.clone(),
                    format!("two baselines are called `{}`", baseline.name.value),
                )
                .related("the other one", other.name.place.clone())
                .hint("give each its own name"),
            );
        }
        baselines.push(baseline);
    }
    baselines
}

fn check_whole(
    mut kit: Kit,
    named: bool,
    surroundings: Surroundings<'_>,
    mut findings: Vec<Finding>,
) -> Checked {
    let others = required_kits(&kit, surroundings, &mut findings);
    let mut shared = SharedConditions::new();
    for baseline in &mut kit.baselines {
        let document = kit.files.text(&baseline.name.place.file).unwrap_or_default();
        compile(baseline, document, surroundings, &mut shared, &mut findings);
    }
    let in_error: BTreeSet<_> = findings
        .iter()
        .filter(|finding| finding.level == Level::Error)
        .map(|finding| finding.place.file.clone())
        .collect();
    let clauses: usize = kit.baselines.iter().map(|baseline| baseline.clauses.len()).sum();
    if clauses > MAX_CLAUSES {
        let message = format!("the kit has {clauses} clauses, at most {MAX_CLAUSES} are checked");
        findings.push(
            Finding::error(Code::TooLarge, Place::of_file("kit.toml"), message)
                .hint("split it into several kits"),
        );
        return Checked { kit: named.then_some(kit), findings };
    }
    let mut sample = Sample::new(&kit, &others, surroundings.labels);
    for baseline in &kit.baselines {
        let documents_are_fine = !in_error.contains(&baseline.name.place.file)
            && (baseline.include.is_empty() || in_error.is_empty());
        check_baseline(&kit, baseline, &mut sample, documents_are_fine, &mut findings);
    }
    let mut findings: Vec<Finding> =
        findings.into_iter().map(|finding| finding.seen_from(&kit.name)).collect();
    blame_the_others(&kit, &mut findings);
    findings.sort_by(|left, right| {
        (left.level, &left.place, left.code).cmp(&(right.level, &right.place, right.code))
    });
    findings.dedup();
    leave_out_consequences(&mut findings);
    Checked { kit: named.then_some(kit), findings }
}

/// On a line that is no TOML nothing else is found: what was read of it is a guess.
fn leave_out_consequences(findings: &mut Vec<Finding>) {
    let is_syntax = |finding: &Finding| finding.code == Code::Syntax && finding.level == Level::Error;
    let lines: BTreeSet<_> = findings
        .iter()
        .filter(|finding| is_syntax(finding))
        .map(|finding| (finding.place.file.clone(), finding.place.line))
        .collect();
    findings.retain(|finding| {
        is_syntax(finding) || !lines.contains(&(finding.place.file.clone(), finding.place.line))
    });
}

/// Returns the releases that the kit's requirements come to, and says which cannot be met.
fn required_kits<'s>(kit: &Kit, surroundings: Surroundings<'s>, findings: &mut Vec<Finding>) -> Vec<&'s Kit> {
    let pool: Vec<require::Release> =
        surroundings.kits.iter().map(Kit::as_release).chain(surroundings.releases.iter().cloned()).collect();
    let at_hand = |name: &str| pool.iter().any(|release| release.kit == name);
    let mut solvable = kit.as_release();
    for required in &kit.requires {
        let place = required.releases.place.clone();
        if required.kit == kit.name {
            findings.push(
                Finding::error(Code::Unsolvable, place, "the kit requires itself").hint("remove the line"),
            );
        } else if at_hand(&required.kit) {
            continue;
        } else if surroundings.complete {
            let known: BTreeSet<&str> = pool.iter().map(|release| release.kit.as_str()).collect();
            let hint = nearest_word(&required.kit, known).map_or_else(
                || format!("publish {} first, or publish it together with --with", required.kit),
                |near| format!("did you mean `{near}`?"),
            );
            findings.push(
                Finding::error(
                    Code::Unsolvable,
                    place,
                    format!("no release of `{}` is published", required.kit),
                )
                .hint(hint),
            );
        } else {
            findings.push(
                Finding::warning(
                    Code::NotAtHand,
                    place,
                    format!(
                        "`{}` is not available: baselines included from it were not checked",
                        required.kit
                    ),
                )
                .hint(format!("name its folder: --with ../{}", required.kit)),
            );
        }
        solvable.requires.remove(&required.kit);
    }
    match require::solve(&[solvable], &pool) {
        Ok(solved) => solved
            .iter()
            .filter_map(|(name, version)| {
                surroundings.kits.iter().find(|kit| kit.name == *name && kit.version == *version)
            })
            .filter(|other| other.name != kit.name)
            .collect(),
        Err(unmet) => {
            let place_of = |unmet: &require::Unmet| {
                let own = kit
                    .requires
                    .iter()
                    .find(|required| unmet.path.first().is_some_and(|first| *first == required.kit));
                own.map_or_else(|| Place::of_file("kit.toml"), |required| required.releases.place.clone())
            };
            findings.extend(unmet.iter().map(|unmet| {
                Finding::error(Code::Unsolvable, place_of(unmet), unmet.message()).hint(unmet.hint())
            }));
            Vec::new()
        }
    }
}

/// Replaces findings about another kit by one finding at the requirement of it.
fn blame_the_others(kit: &Kit, findings: &mut Vec<Finding>) {
    let is_elsewhere = |finding: &Finding| {
        finding.place.kit.is_some() && finding.related.iter().all(|(_, place)| place.kit.is_some())
    };
    let (elsewhere, mut own): (Vec<Finding>, Vec<Finding>) = findings.drain(..).partition(is_elsewhere);
    for required in &kit.requires {
        let of_it = |finding: &&Finding| {
            finding.level == Level::Error && finding.place.kit.as_deref() == Some(required.kit.as_str())
        };
        if let Some(first) = elsewhere.iter().find(of_it) {
            let message =
                format!("`{}` has errors of its own: {} ({})", required.kit, first.message, first.place);
            own.push(
                Finding::error(Code::RequiredNotWell, required.releases.place.clone(), message)
                    .hint(format!("fix it first: constans kit check {}", required.kit)),
            );
        }
    }
    *findings = own;
}
