//! The machine's time zone.

use super::put;
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::nearest::nearest_word;
use constans_core::run::Seen;
use constans_core::state::Clause;

const LINK: &str = "/etc/localtime";
const NAME: &str = "/etc/timezone";
const ZONES: &str = "/usr/share/zoneinfo";

pub(super) fn inspect(machine: &Machine, _: &Clause) -> Result<Seen, NotSeen> {
    let target = machine.files.link_target(LINK)?;
    let zone = target.as_deref().and_then(|target| Some(target.split_once("zoneinfo/")?.1.to_owned()));
    // Debian keeps the name beside the link; programs that read it should find the same.
    let named = machine.files.read(NAME)?.map(|text| String::from_utf8_lossy(&text).trim().to_owned());
    Ok(seen(match (zone, named) {
        (None, _) if machine.files.look(LINK)?.is_some() => {
            Found::present().with("zone", format!("{LINK} is no link to a zone"))
        }
        (None, _) => Found::present().with("zone", format!("none: there is no {LINK}")),
        (Some(zone), Some(named)) if named != zone => {
            Found::present().with("zone", format!("{zone}, but {named} in {NAME}"))
        }
        (Some(zone), _) => Found::present().with("zone", zone),
    }))
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let zone = clause.text("zone").unwrap_or_default();
    if machine.files.look(&format!("{ZONES}/{zone}"))?.is_none() {
        return Err(no_such_zone(machine, zone)?);
    }
    let target = format!("{ZONES}/{zone}");
    if let Some(entry) = machine.files.look(LINK)?.filter(|entry| entry.what == crate::files::EntryKind::File)
    {
        work.keep(&machine.files, LINK, &entry, &clause.address)?;
    }
    machine.files.make_link(LINK, &target)?;
    work.note(format!("make the link {LINK} to {target}"));
    if machine.files.look(NAME)?.is_some() {
        put(machine, work, &clause.address, NAME, format!("{zone}\n").as_bytes(), Ownership::default())?;
    }
    Ok(())
}

fn no_such_zone(machine: &Machine, zone: &str) -> Result<HostError, HostError> {
    let (folder, _) = zone.rsplit_once('/').unwrap_or(("", zone));
    let names = machine.files.list(format!("{ZONES}/{folder}").trim_end_matches('/'))?;
    let error = HostError::new(format!("there is no time zone {zone} here"));
    let Some(names) = names else {
        return Ok(error.remedy("check that the package tzdata is installed, and the spelling of the zone"));
    };
    let known: Vec<String> = names
        .iter()
        .map(|name| if folder.is_empty() { name.clone() } else { format!("{folder}/{name}") })
        .collect();
    Ok(match nearest_word(zone, known.iter().map(String::as_str)) {
        Some(near) => error.remedy(format!("did you mean {near}?")),
        None => error.remedy(format!("{ZONES} lists them")),
    })
}
