//! Runs without a server: one baseline of a kit from a folder, or one document.

use crate::command_line::{RunSubject, WantedArguments};
use crate::error::AgentError;
use crate::state_dir::{DEFAULT_FOLDER, StateDir};
use constans_core::check::Checked;
use constans_core::digest::{Digest, DigestKey};
use constans_core::document::{Finding, KitFiles, Level, explain_findings};
use constans_core::filter::NodeView;
use constans_core::kit::{Baseline, Kit, require};
use constans_core::nearest::nearest_word;
use constans_core::param::{Layer, LayerValue};
use constans_core::state::{Assigned, Conditions, ResolveInput, Resolved, Untouchable, resolve};
use constans_folder::{CheckedFolder, ReadKitError, check_document, check_folder, on_large_stack};
use constans_host::{Contents, Host as _, Machine};
use constans_wire::report::Release;
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// What is wanted, resolved for this node.
pub struct Wanted {
    /// The name under which it is remembered.
    pub store: PathBuf,
    /// The releases it is made of, with the baselines of each.
    pub releases: Vec<Release>,
    /// Its generation; none without a server.
    pub generation: Option<String>,
    /// The effective state.
    pub resolved: Resolved,
    /// Its contents.
    pub contents: Arc<dyn Contents>,
}

/// The contents of a resolved state.
pub struct LocalContents(pub Arc<BTreeMap<Digest, Arc<[u8]>>>);

impl Contents for LocalContents {
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>> {
        self.0.get(name).map(|bytes| Cow::Borrowed(&**bytes))
    }
}

/// Returns the agent's own folder: the one named, or the usual one below the root.
///
/// # Errors
///
/// Returns why it cannot be opened.
pub fn state_dir(root: &Path, named: Option<&PathBuf>) -> Result<StateDir, AgentError> {
    if !root.is_dir() {
        return Err(AgentError::new(format!("the root {} is not a folder", root.display()))
            .hint("create it, or choose another one with --root"));
    }
    StateDir::open(&named.cloned().unwrap_or_else(|| root.join(DEFAULT_FOLDER)))
}

/// Reads, checks and resolves what is wanted.
///
/// # Errors
///
/// Returns everything that is wrong with it, as the check says it.
pub fn resolve_wanted(
    arguments: &WantedArguments,
    machine: &Machine,
    state_dir: &StateDir,
    key: &DigestKey,
) -> Result<Wanted, AgentError> {
    let (CheckedFolder { files, checked, beside }, folder) = read(&arguments.what)?;
    let warnings: Vec<Finding> =
        checked.findings.iter().filter(|finding| finding.level == Level::Warning).cloned().collect();
    if checked.has_errors() {
        return Err(findings_error(&checked.findings, &files, &folder));
    }
    if !warnings.is_empty() {
        eprintln!("{}", explain_findings(&warnings, &files, &folder));
    }
    let Checked { kit: Some(kit), .. } = checked else {
        return Err(AgentError::new("the kit cannot be read"));
    };
    let baseline = choose_baseline(&kit, arguments.what.baseline.as_deref())?;
    let view = NodeView {
        name: machine.acted_on.machine.clone(),
        labels: arguments.labels.iter().cloned().collect(),
        about: machine.about()?,
    };
    let beside = kit.required_among(&beside).map_err(|unmet| {
        let messages: Vec<String> = unmet.iter().map(require::Unmet::message).collect();
        AgentError::new(messages.join("; "))
            .hint("name the folders of the kits that are required: --with ../KIT")
    })?;
    let given = given(&kit, baseline, &beside, &arguments.set)?;
    let untouchable = untouchable(machine, state_dir);
    let resolved = on_large_stack(|| {
        resolve(&ResolveInput {
            assigned: vec![Assigned::plainly(&kit, baseline)],
            kits: &beside,
            given: &given,
            own: &constans_core::state::OwnProperties::new(),
            view: &view,
            key,
            conditions: Conditions::Decide,
            untouchable: &[untouchable],
        })
    });
    let resolved = resolved.map_err(|findings| {
        let findings: Vec<Finding> =
            findings.into_iter().map(|finding| finding.seen_from(&kit.name)).collect();
        findings_error(&findings, &files, &folder)
    })?;
    let releases = releases_of(&kit, baseline, &resolved);
    let contents = Arc::new(LocalContents(resolved.contents.clone()));
    Ok(Wanted {
        store: Path::new(&kit.name).join(&baseline.name.value),
        releases,
        generation: None,
        resolved,
        contents,
    })
}

/// Returns the baseline's own release first, then those that it includes from.
fn releases_of(kit: &Kit, baseline: &Baseline, resolved: &Resolved) -> Vec<Release> {
    let mut releases = vec![Release {
        release: format!("{}@{}", kit.name, kit.version),
        baselines: vec![baseline.name.value.clone()],
    }];
    for origin in resolved.state.clauses.iter().flat_map(|clause| &clause.origins) {
        let name = format!("{}@{}", origin.kit, origin.version);
        match releases.iter_mut().find(|release| release.release == name) {
            Some(release) if release.baselines.iter().any(|known| *known == *origin.baseline) => {}
            Some(release) => release.baselines.push(origin.baseline.to_string()),
            None => releases.push(Release { release: name, baselines: vec![origin.baseline.to_string()] }),
        }
    }
    releases
}

fn read(what: &RunSubject) -> Result<(CheckedFolder, String), AgentError> {
    let failed = |error: ReadKitError| AgentError::new(error.to_string()).hint(error.hint());
    let (read, folder) = match (&what.kit, &what.file) {
        (Some(kit), _) => {
            (check_folder(kit, &what.with), format!("{}/", kit.display().to_string().trim_end_matches('/')))
        }
        (None, Some(file)) => (check_document(file), String::new()),
        (None, None) => return Err(AgentError::new("no desired state given")),
    };
    read.map(|read| (read, folder)).map_err(failed)
}

fn findings_error(findings: &[Finding], files: &KitFiles, folder: &str) -> AgentError {
    let errors = findings.iter().filter(|finding| finding.level == Level::Error).count();
    let explained = explain_findings(findings, files, folder);
    AgentError::new(format!(
        "the document cannot be used: {errors} {} found; nothing was examined or changed\n\n{explained}",
        if errors == 1 { "error" } else { "errors" }
    ))
}

fn choose_baseline<'k>(kit: &'k Kit, named: Option<&str>) -> Result<&'k Baseline, AgentError> {
    let names: Vec<&str> = kit.baselines.iter().map(|baseline| baseline.name.value.as_str()).collect();
    match (named, kit.baselines.as_slice()) {
        (None, [only]) => Ok(only),
        (None, []) => Err(AgentError::new(format!("the kit {} has no baseline", kit.name))),
        (None, _) => Err(AgentError::new(format!("the kit {} has several baselines", kit.name))
            .hint(format!("name one with --baseline: {}", names.join(", ")))),
        (Some(name), _) => kit.baseline(name).ok_or_else(|| {
            let hint = nearest_word(name, names.iter().copied()).map_or_else(
                || format!("it has {}", names.join(", ")),
                |near| format!("did you mean `{near}`?"),
            );
            AgentError::new(format!("the kit {} has no baseline `{name}`", kit.name)).hint(hint)
        }),
    }
}

/// Reads what `--set` gives: `PARAM` of the baseline itself, or `KIT/BASELINE.PARAM` of one that it includes.
fn given(
    kit: &Kit,
    baseline: &Baseline,
    beside: &[&Kit],
    set: &[(String, String)],
) -> Result<BTreeMap<String, Vec<LayerValue>>, AgentError> {
    let mut given: BTreeMap<String, Vec<LayerValue>> = BTreeMap::new();
    for (written, text) in set {
        let (kit, baseline, name) =
            match written.split_once('/').and_then(|(kit, rest)| Some((kit, rest.split_once('.')?))) {
                Some((kit_name, (baseline_name, name))) => {
                    let kits = || std::iter::once(kit).chain(beside.iter().copied());
                    let other = kits().find(|kit| kit.name == kit_name);
                    let found = other.and_then(|kit| Some((kit, kit.baseline(baseline_name)?)));
                    let (kit, baseline) = found.ok_or_else(|| {
                        AgentError::new(format!("no given kit has the baseline {kit_name}/{baseline_name}"))
                            .hint(format!(
                                "given kits: {}",
                                kits().map(|kit| kit.name.as_str()).collect::<Vec<_>>().join(", ")
                            ))
                    })?;
                    (kit, baseline, name)
                }
                None => (kit, baseline, written.as_str()),
            };
        let declared = baseline.parameters.iter().find(|parameter| parameter.name.value == *name);
        let declared = declared.ok_or_else(|| {
            let names = baseline.parameters.iter().map(|parameter| parameter.name.value.as_str());
            let hint = match nearest_word(name, names.clone()) {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("it has {}", names.collect::<Vec<_>>().join(", ")),
            };
            AgentError::new(format!("the baseline {} has no parameter `{name}`", baseline.name.value))
                .hint(hint)
        })?;
        let value = declared.read_argument(text).map_err(|reason| {
            AgentError::new(reason).hint(format!(
                "--set {name}=… reads texts as they are, and everything else as a document does"
            ))
        })?;
        let whole = format!("{}/{}.{name}", kit.name, baseline.name.value);
        given.entry(whole).or_default().push(LayerValue::new(value, Layer::CommandLine));
    }
    Ok(given)
}

/// What no clause may touch: the agent's own folder, its program, its package and its service.
fn untouchable(machine: &Machine, state_dir: &StateDir) -> Untouchable {
    let root = &machine.acted_on.root;
    let below_root = |path: &Path| path.strip_prefix(root).ok().map(|path| format!("/{}", path.display()));
    let program = std::env::current_exe().ok().and_then(|path| path.canonicalize().ok());
    let paths = [Some(state_dir.path().to_owned()), program]
        .into_iter()
        .flatten()
        .filter_map(|path| below_root(&path))
        .collect();
    let what = "the agent itself";
    Untouchable {
        what,
        paths,
        name_starts: Vec::new(),
        names: vec!["constans-agent".to_owned(), "constans-agent.service".to_owned()],
    }
}
