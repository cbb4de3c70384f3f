//! Custom kinds: their own program inspects and corrects, and nothing of its output is trusted.

use super::differs;
use crate::contents::Contents;
use crate::error::HostError;
use crate::machine::{InspectionContext, Machine, NotSeen, Work, seen};
use crate::native::{Ended, Native};
use crate::secrets::Secrets;
use constans_core::compare::{Difference, Found, FoundValue};
use constans_core::digest::of_contents;
use constans_core::kind::{CustomKind, normalise};
use constans_core::kit::Gone;
use constans_core::run::{NativeStep, Seen};
use constans_core::state::Clause;
use serde::Deserialize;
use serde_json::{Map, Value, json};
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::PathBuf;
use std::time::Duration;

/// The most that a program may write, in bytes.
const MAX_OUTPUT: u64 = 1024 * 1024;

/// What a program reports of a thing.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Reply {
    #[serde(default)]
    present: bool,
    #[serde(default)]
    properties: Map<String, Value>,
    /// Why it cannot be seen on this node, if it cannot.
    unsupported: Option<String>,
}

/// What a program reports that it did.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Did {
    #[serde(default)]
    done: Vec<String>,
}

pub(super) fn inspect(
    machine: &Machine,
    clause: &Clause,
    look: &InspectionContext<'_>,
) -> Result<Seen, NotSeen> {
    let custom = declared(clause)?;
    let ended = run(machine, clause, custom, "inspect", &[], look.contents)?;
    let reply: Reply = reply(custom, &ended)?;
    // What was concealed is only compared with what is wanted: the program's own words are not kept.
    let native = vec![NativeStep { output: String::new(), ..ended.step }];
    if let Some(why) = reply.unsupported {
        return Err(NotSeen::Unsupported(why));
    }
    if !reply.present {
        return Ok(Seen { native, ..seen(Found::absent()) });
    }
    let kind = clause.kind();
    if let Some(unknown) = reply.properties.keys().find(|name| kind.property(name).is_none()) {
        return Err(NotSeen::Failed(lies(
            custom,
            &format!("it reports the property `{unknown}`, which the kind does not declare"),
        )));
    }
    let mut found = Found::present();
    for (name, wanted, _) in clause.compared() {
        let Some(property) = kind.property(name) else { continue };
        let value = match reply.properties.get(name) {
            Some(value) => match normalise(name, property.value, value) {
                Ok(normal) => FoundValue::Value(normal),
                Err(_) if clause.concealed.contains(name) => {
                    return Err(NotSeen::Failed(lies(
                        custom,
                        &format!("its value of `{name}` has the wrong type"),
                    )));
                }
                Err(refused) => return Err(NotSeen::Failed(lies(custom, &refused.message))),
            },
            None if wanted.is_null() => continue,
            None => FoundValue::Unreadable("the program of the kind gave no reason".to_owned()),
        };
        found = found.with_found(name.to_owned(), value);
    }
    Ok(Seen { native, ..seen(found) })
}

pub(super) fn correct(
    machine: &Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let custom = declared(clause)?;
    let ended = run(machine, clause, custom, "correct", differences, work.contents)?;
    let did = if ended.stdout.trim().is_empty() { Did::default() } else { reply(custom, &ended)? };
    work.done.native.push(NativeStep { output: String::new(), ..ended.step });
    for done in did.done {
        work.note(done.chars().filter(|c| !c.is_control()).take(200).collect());
    }
    Ok(())
}

fn declared(clause: &Clause) -> Result<&CustomKind, HostError> {
    clause
        .custom
        .as_deref()
        .ok_or_else(|| HostError::new(format!("no kit has the custom kind {}", clause.address.kind())))
}

fn lies(custom: &CustomKind, why: &str) -> HostError {
    HostError::new(format!("the program of the kind {} is not as it declares: {why}", custom.name))
        .remedy("fix the kit of the kind")
}

fn reply<T: for<'d> Deserialize<'d>>(custom: &CustomKind, ended: &Ended) -> Result<T, HostError> {
    serde_json::from_str(&ended.stdout)
        .map_err(|error| lies(custom, &format!("its output is not the expected JSON: {error}")))
}

/// Runs the kind's program. Everything is on its standard input, and the plain values in its environment, too, so that a
/// script need not read JSON; what is concealed is only on the input.
fn run(
    machine: &Machine,
    clause: &Clause,
    custom: &CustomKind,
    verb: &str,
    differences: &[Difference],
    contents: &dyn Contents,
) -> Result<Ended, HostError> {
    let program = program(machine, custom, contents)?;
    let is_gone = clause.gone != Gone::No;
    let question = json!({
        "form": 1,
        "verb": verb,
        "name": clause.name(),
        "root": machine.acted_on.root,
        "gone": is_gone,
        "wanted": clause.properties,
        "differences": differences.iter().map(|difference| &difference.property).collect::<Vec<_>>(),
    });
    let mut secrets = Secrets::default();
    secrets.add(clause.concealed.iter().filter_map(|name| clause.text(name)).map(str::to_owned));
    let mut native = Native::new(&program.display().to_string(), [verb])
        .input(question.to_string())
        .timeout(Duration::from_secs(custom.timeout_secs))
        .largest_output(MAX_OUTPUT)
        .conceal(secrets)
        .env("CONSTANS_ROOT", &machine.acted_on.root)
        .env("CONSTANS_NAME", clause.name())
        .env("CONSTANS_GONE", if is_gone { "yes" } else { "no" });
    for property in clause.kind().properties().filter(|property| !clause.concealed.contains(property.name)) {
        let text = match clause.get(property.name) {
            Some(Value::String(text)) => text.clone(),
            Some(Value::Null | Value::Array(_) | Value::Object(_)) | None => continue,
            Some(plain) => plain.to_string(),
        };
        let changes = if differs(differences, property.name) { "yes" } else { "no" };
        native = native
            .env(&format!("CONSTANS_WANTED_{}", property.name.to_uppercase()), text)
            .env(&format!("CONSTANS_DIFFERS_{}", property.name.to_uppercase()), changes);
    }
    let ended = native.run()?;
    if ended.is_well {
        return Ok(ended);
    }
    let message = format!(
        "the program of the kind {} failed with exit status {}",
        custom.name,
        ended.step.exit.unwrap_or(-1)
    );
    Err(HostError::new(message)
        .command(ended.step)
        .remedy("its output says why; fix the kit of the kind if it does not"))
}

/// Puts the program into the agent's own folder under its digest, where nobody else can change it.
fn program(machine: &Machine, custom: &CustomKind, contents: &dyn Contents) -> Result<PathBuf, HostError> {
    let digest = custom.program_digest.as_str();
    let folder = machine.scratch.join("programs");
    let path = folder.join(digest.replace(':', "-"));
    let shown = path.display().to_string();
    let failed = |error: std::io::Error| HostError::io("keep the program", &shown, &error);
    if std::fs::read(&path).is_ok_and(|bytes| of_contents(&bytes) == custom.program_digest) {
        return Ok(path);
    }
    let bytes = contents
        .get(digest)
        .ok_or_else(|| HostError::new(format!("the program of the kind {} is missing", custom.name)))?;
    if of_contents(&bytes) != custom.program_digest {
        return Err(HostError::new(format!(
            "the program of the kind {} differs from the published one",
            custom.name
        )));
    }
    std::fs::create_dir_all(&folder).map_err(failed)?;
    let candidate = path.with_extension("new");
    let _ = std::fs::remove_file(&candidate);
    let mut file = std::fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o700)
        .open(&candidate)
        .map_err(failed)?;
    file.write_all(&bytes).and_then(|()| file.sync_all()).map_err(failed)?;
    drop(file);
    std::fs::rename(&candidate, &path).map_err(failed)?;
    Ok(path)
}
