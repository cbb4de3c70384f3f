//! The machine's name, now and at boot.

use super::{now_and_at_boot, put};
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use constans_core::compare::Found;
use constans_core::run::Seen;
use constans_core::state::Clause;

const FILE: &str = "/etc/hostname";

pub(super) fn inspect(machine: &Machine, _: &Clause) -> Result<Seen, NotSeen> {
    let text = machine.files.read_text(FILE)?;
    let at_boot = text
        .lines()
        .map(str::trim)
        .find(|line| !line.is_empty() && !line.starts_with('#'))
        .unwrap_or("none")
        .to_owned();
    if machine.acted_on.is_private_root() {
        return Ok(seen(Found::present().with("name", at_boot)));
    }
    Ok(seen(Found::present().with("name", now_and_at_boot(&now(), &at_boot))))
}

fn now() -> String {
    rustix::system::uname().nodename().to_string_lossy().into_owned()
}

pub(super) fn correct(machine: &Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let name = clause.text("name").unwrap_or_default();
    if machine.files.read_text(FILE)?.trim() != name {
        put(
            machine,
            work,
            &clause.address,
            FILE,
            format!("{name}\n").as_bytes(),
            Ownership { permissions: Some(0o644), ..Ownership::default() },
        )?;
    }
    if !machine.acted_on.is_private_root() && now() != name {
        rustix::system::sethostname(name.as_bytes())
            .map_err(|error| HostError::io("set", "the host name", &error.into()))?;
        work.note(format!("set the host name to {name}"));
    }
    Ok(())
}
