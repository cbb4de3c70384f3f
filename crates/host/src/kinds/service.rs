//! Services.

use super::differs;
use crate::error::HostError;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::{Difference, Found, FoundValue};
use constans_core::run::Seen;
use constans_core::state::Clause;

pub(super) fn inspect(machine: &mut Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let services = machine.services_of(clause)?;
    let (service, stand_in) = (services.inspect(clause.name())?, services.stand_in());
    let mut found = Found::present();
    if clause.get("running").is_some() {
        found = found.with("running", service.running);
    }
    if clause.get("enabled").is_some() {
        found = found.with_found(
            "enabled",
            service
                .enabled
                .map_or_else(FoundValue::NotExaminedHere, |enabled| FoundValue::Value(enabled.into())),
        );
    }
    Ok(Seen { native: service.native, stand_in, running_since: service.since, ..seen(found) })
}

pub(super) fn correct(
    machine: &mut Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    // Enabled before it runs: if the second fails, the next boot still comes out right.
    if let Some(enabled) = clause.flag("enabled").filter(|_| differs(differences, "enabled")) {
        work.done.native.push(machine.services_of(clause)?.set_enabled(clause.name(), enabled)?);
    }
    if let Some(running) = clause.flag("running").filter(|_| differs(differences, "running")) {
        work.done.native.push(machine.services_of(clause)?.set_running(clause.name(), running)?);
    }
    Ok(())
}
