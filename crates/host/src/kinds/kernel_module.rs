//! Kernel modules: loaded now and at boot, or barred from being loaded.

use super::{put, take_away, text_of};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::native::Native;
use constans_core::compare::{Found, FoundValue};
use constans_core::run::Seen;
use constans_core::state::Clause;

const AT_BOOT: &str = "/etc/modules-load.d";
const RULES: &str = "/etc/modprobe.d";

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let name = underscored(clause.name());
    let now = loaded_now(machine, &name)?;
    let mut found = Found::present();
    if clause.get("loaded").is_some() {
        let at_boot = !who_loads(machine, &name)?.is_empty();
        let value = match &now {
            None => FoundValue::NotExaminedHere(NO_MODULES.to_owned()),
            // What is built into the kernel is there at boot, too.
            Some(Loaded::BuiltIn) => FoundValue::Value(true.into()),
            Some(Loaded::No) if at_boot => FoundValue::Value("not now, at boot".into()),
            Some(Loaded::Yes) if !at_boot => FoundValue::Value("now, not at boot".into()),
            Some(loaded) => FoundValue::Value((*loaded == Loaded::Yes).into()),
        };
        if let (FoundValue::NotExaminedHere(why), Some(_)) = (&value, clause.flag("loaded")) {
            return Err(NotSeen::Unsupported(why.clone()));
        }
        found = found.with_found("loaded", value);
    }
    if clause.get("barred").is_some() {
        let is_barred = barred_by(machine, &name)?;
        let is_loaded = now == Some(Loaded::Yes);
        found = match (is_barred, is_loaded) {
            (true, true) => found.with("barred", "from the next boot on: it is loaded now"),
            (is_barred, _) => found.with("barred", is_barred),
        };
    }
    Ok(seen(found))
}

const NO_MODULES: &str = "this kernel supports no modules, or does not list them (/proc/modules)";

#[derive(Clone, Copy, PartialEq)]
enum Loaded {
    Yes,
    No,
    BuiltIn,
}

fn underscored(name: &str) -> String {
    name.replace('-', "_")
}

/// Returns whether the running kernel has the module; none if that is unknown.
fn loaded_now(machine: &Machine, name: &str) -> Result<Option<Loaded>, HostError> {
    if machine.acted_on.is_private_root() {
        return Ok(None);
    }
    let Ok(modules) = std::fs::read_to_string("/proc/modules") else { return Ok(None) };
    if modules.lines().any(|line| line.split(' ').next() == Some(name)) {
        return Ok(Some(Loaded::Yes));
    }
    let release = rustix::system::uname().release().to_string_lossy().into_owned();
    let built_in = machine.files.read_text(&format!("/lib/modules/{release}/modules.builtin"))?;
    let is_it = |line: &str| {
        line.rsplit('/')
            .next()
            .and_then(|file| file.split('.').next())
            .is_some_and(|stem| underscored(stem) == name)
    };
    Ok(Some(if built_in.lines().any(is_it) { Loaded::BuiltIn } else { Loaded::No }))
}

/// Returns the modules that some file loads at boot or bars.
pub(super) fn names(machine: &Machine) -> Result<Vec<String>, HostError> {
    let mut names: Vec<String> = Vec::new();
    for (_, text) in texts(machine, AT_BOOT)? {
        let lines =
            text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with(['#', ';']));
        names.extend(lines.map(underscored));
    }
    for (_, text) in texts(machine, RULES)? {
        names.extend(text.lines().filter_map(|line| {
            line.trim().strip_prefix("install ")?.split_whitespace().next().map(underscored)
        }));
    }
    names.sort();
    names.dedup();
    Ok(names)
}

/// Returns the files of a folder whose name ends so, with their text.
fn texts(machine: &Machine, folder: &str) -> Result<Vec<(String, String)>, HostError> {
    let names = machine.files.list(folder)?.unwrap_or_default();
    let mut all = Vec::new();
    for name in names.into_iter().filter(|name| name.ends_with(".conf")) {
        let path = format!("{folder}/{name}");
        // Debian links /etc/modules into the folder.
        let path = machine.files.link_target(&path)?.map_or(path, |_| "/etc/modules".to_owned());
        all.push((path.clone(), machine.files.read_text(&path)?));
    }
    Ok(all)
}

fn who_loads(machine: &Machine, name: &str) -> Result<Vec<String>, HostError> {
    let names_it = |text: &str| text.lines().any(|line| underscored(line.trim()) == name);
    Ok(texts(machine, AT_BOOT)?
        .into_iter()
        .filter(|(_, text)| names_it(text))
        .map(|(path, _)| path)
        .collect())
}

/// A module is barred by an `install` rule that fails: `blacklist` alone still lets it be loaded by its name.
fn barred_by(machine: &Machine, name: &str) -> Result<bool, HostError> {
    let bars = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().collect();
        matches!(words[..], ["install", module, program, ..] if underscored(module) == name && program.ends_with("/false"))
    };
    Ok(texts(machine, RULES)?.iter().any(|(_, text)| text.lines().any(bars)))
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let name = underscored(clause.name());
    let own_at_boot = format!("{AT_BOOT}/constans-{name}.conf");
    let own_rule = format!("{RULES}/constans-{name}.conf");
    let readable = Ownership { permissions: Some(0o644), ..Ownership::default() };
    match (clause.flag("loaded"), clause.flag("barred")) {
        (Some(true), _) => {
            if who_loads(machine, &name)?.is_empty() {
                machine.files.make_way(&own_at_boot)?;
                put(machine, work, &clause.address, &own_at_boot, format!("{name}\n").as_bytes(), readable)?;
            }
            modprobe(machine, work, &[&name], Loaded::Yes, &name)
        }
        (Some(false), _) => {
            take_away(machine, work, &clause.address, &own_at_boot)?;
            refuse_others(&who_loads(machine, &name)?, "loads it at boot")?;
            modprobe(machine, work, &["--remove", &name], Loaded::No, &name)
        }
        (_, Some(true)) => {
            let text = format!(
                "# Managed by Constans, {}.\ninstall {name} /bin/false\nblacklist {name}\n",
                clause.address
            );
            machine.files.make_way(&own_rule)?;
            put(machine, work, &clause.address, &own_rule, text.as_bytes(), readable)?;
            modprobe(machine, work, &["--remove", &name], Loaded::No, &name)
        }
        _ => {
            take_away(machine, work, &clause.address, &own_rule)?;
            let others: Vec<String> = texts(machine, RULES)?
                .into_iter()
                .filter(|(_, text)| text.contains(&name))
                .map(|(path, _)| path)
                .collect();
            if barred_by(machine, &name)? { refuse_others(&others, "bars it") } else { Ok(()) }
        }
    }
}

fn refuse_others(paths: &[String], what: &str) -> Result<(), HostError> {
    let Some(path) = paths.first() else { return Ok(()) };
    Err(HostError::new(format!("{path} {what}, and is not managed by Constans"))
        .remedy("remove the line with a `line` clause, or by hand"))
}

/// Loads or unloads the module unless it is loaded or unloaded already, or this kernel takes none.
fn modprobe(
    machine: &Machine,
    work: &mut Work<'_>,
    arguments: &[&str],
    wanted: Loaded,
    name: &str,
) -> Result<(), HostError> {
    match loaded_now(machine, name)? {
        None | Some(Loaded::BuiltIn) => return Ok(()),
        Some(loaded) if loaded == wanted => return Ok(()),
        Some(_) => {}
    }
    if text_of(machine, "/proc/sys/kernel/modules_disabled")?.is_some_and(|text| text.trim() == "1") {
        return Err(HostError::new(
            "the kernel lets no modules be loaded or removed until the next boot (kernel.modules_disabled is 1)",
        ));
    }
    let ended = Native::new("modprobe", arguments).must().map_err(|error| {
        let output = error.command.as_ref().map(|step| step.output.to_lowercase()).unwrap_or_default();
        match output {
            output if output.contains("in use") => error.remedy("something uses the module (see lsmod); it is not loaded from the next boot on"),
            output if output.contains("not found") => {
                error.remedy("this kernel has no such module: check the spelling, and whether its extra modules are installed")
            }
            _ => error,
        }
    })?;
    work.done.native.push(ended.step);
    Ok(())
}
