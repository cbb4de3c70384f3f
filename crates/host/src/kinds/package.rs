//! Packages.

use super::{differs, presence_differs};
use crate::error::HostError;
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::packages::PackageFound;
use constans_core::compare::{Difference, Found, Presence};
use constans_core::kind::VersionWish;
use constans_core::kit::Gone;
use constans_core::run::Seen;
use constans_core::state::Clause;

pub(super) fn inspect(machine: &mut Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    if let Some(why) = machine.packages.unsupported()? {
        return Err(NotSeen::Unsupported(why));
    }
    let name = clause.name();
    let found = match machine.packages.inspect(name)? {
        PackageFound::Absent => Found::absent(),
        PackageFound::HalfInstalled => Found { presence: Presence::Broken, ..Found::absent() },
        PackageFound::OnlySettings => Found { presence: Presence::Remnant, ..Found::absent() },
        PackageFound::Installed { version, held } => {
            let candidate = if clause.text("version") == Some("newest") { machine.packages.candidate(name)? } else { None };
            let mut found = Found { candidate, ..Found::present() };
            if clause.get("version").is_some() {
                found = found.with("version", version);
            }
            if clause.get("hold").is_some() {
                found = found.with("hold", held);
            }
            found
        }
    };
    Ok(seen(found))
}

pub(super) fn correct(machine: &mut Machine, clause: &Clause, differences: &[Difference], work: &mut Work<'_>) -> Result<(), HostError> {
    let name = clause.name();
    if clause.gone != Gone::No || presence_differs(differences) || differs(differences, "version") {
        if clause.flag("hold").is_some() && matches!(machine.packages.inspect(name)?, PackageFound::Installed { held: true, .. }) {
            // The clause keeps the hold, so it may lift it for its own change; it is set again below.
            let step = machine.packages.hold(name, false)?;
            work.done.native.push(step);
        }
        let wish = clause.text("version").and_then(|wish| VersionWish::parse(wish).ok());
        let changed =
            if clause.gone == Gone::No { machine.packages.install(name, wish.as_ref())? } else { machine.packages.remove(name, clause.gone)? };
        work.done.native.extend(changed.native);
        work.done.packages = changed.packages;
        work.done.touched = changed.touched;
    }
    if let Some(hold) = clause.flag("hold") {
        let is_held = matches!(machine.packages.inspect(name)?, PackageFound::Installed { held: true, .. });
        if is_held != hold {
            let step = machine.packages.hold(name, hold)?;
            work.done.native.push(step);
        }
    }
    Ok(())
}
