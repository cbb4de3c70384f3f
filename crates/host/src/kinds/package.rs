//! Packages.

use super::{differs, presence_differs, take_away};
use crate::error::HostError;
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::packages::{PackageFound, Packages, Planned};
use constans_core::compare::{Difference, Found, Presence};
use constans_core::kind::{Claim, VersionRequirement};
use constans_core::kit::Gone;
use constans_core::run::{FailureAt, PackagePreview, Seen};
use constans_core::state::Clause;
use std::collections::BTreeMap;

pub(super) fn inspect(machine: &mut Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let packages = machine.packages_of(clause);
    if let Some(why) = packages.why_not()? {
        return Err(NotSeen::Unsupported(why));
    }
    let name = clause.name();
    let version_order = packages.manager().order();
    let found = match packages.inspect(name)? {
        PackageFound::Absent => Found::absent(),
        PackageFound::HalfInstalled => Found { presence: Presence::Broken, ..Found::absent() },
        PackageFound::OnlySettings => Found { presence: Presence::Remnant, ..Found::absent() },
        PackageFound::Installed { version, held } => {
            let candidate =
                if clause.text("version") == Some("newest") { packages.candidate(name)? } else { None };
            let mut found = Found { candidate, version_order, ..Found::present() };
            if clause.get("version").is_some() {
                found = found.with("version", version);
            }
            if clause.get("hold").is_some() {
                found = found.with("hold", held);
            }
            found
        }
    };
    Ok(Seen { read_at: packages.read_before(), ..seen(found) })
}

/// Adds what changing these packages together would take along, by their package manager's own reckoning.
pub(crate) fn preview(
    packages: &mut Packages,
    clauses: &[&Clause],
    package_preview: &mut PackagePreview,
) -> Result<(), HostError> {
    let mut changes = Vec::new();
    for clause in clauses {
        let name = clause.name();
        let found = packages.inspect(name)?;
        if clause.gone != Gone::No {
            changes.push(Planned { name: name.to_owned(), version: None });
            continue;
        }
        let requirement = clause
            .text("version")
            .and_then(|requirement| VersionRequirement::parse(requirement).ok())
            .unwrap_or(VersionRequirement::Newest);
        let fits = |version: &str| {
            clause.text("version").is_none()
                || requirement.best([version], packages.manager().order()) == Some(version)
        };
        if clause.text("version") != Some("newest")
            && matches!(&found, PackageFound::Installed { version, .. } if fits(version))
        {
            // Only whether it is held differs.
            continue;
        }
        match packages.offered_now(name, &requirement, &mut package_preview.native)? {
            Ok(version) => changes.push(Planned { name: name.to_owned(), version: Some(version) }),
            Err(error) => package_preview.not_known.push(error.failure(FailureAt::Correct)),
        }
    }
    if !changes.is_empty() {
        package_preview.packages.extend(packages.preview(&changes, &mut package_preview.native)?);
    }
    Ok(())
}

pub(super) fn correct(
    machine: &mut Machine,
    clause: &Clause,
    differences: &[Difference],
    work: &mut Work<'_>,
) -> Result<(), HostError> {
    let name = clause.name();
    let accounts_before = machine.accounts.names()?;
    let packages = machine.packages_of(clause);
    let mut left = Vec::new();
    if clause.gone != Gone::No || presence_differs(differences) || differs(differences, "version") {
        if clause.flag("hold").is_some()
            && matches!(packages.inspect(name)?, PackageFound::Installed { held: true, .. })
        {
            // The clause keeps the hold, so it may lift it for its own change; it is set again below.
            let step = packages.hold(name, false)?;
            work.done.native.push(step);
        }
        let requirement =
            clause.text("version").and_then(|requirement| VersionRequirement::parse(requirement).ok());
        let changed = if clause.gone == Gone::No {
            packages.install(name, requirement.as_ref())?
        } else {
            packages.remove(name, clause.gone)?
        };
        work.done.native.extend(changed.native);
        work.done.packages = changed.packages;
        work.done.touched = changed.touched;
        left = changed.left;
    }
    if let Some(hold) = clause.flag("hold") {
        let is_held = matches!(packages.inspect(name)?, PackageFound::Installed { held: true, .. });
        if is_held != hold {
            let step = packages.hold(name, hold)?;
            work.done.native.push(step);
        }
    }
    let accounts_after = machine.accounts.names()?;
    let added = |before: &BTreeMap<u32, String>, after: &BTreeMap<u32, String>| {
        after
            .iter()
            .filter(|(id, name)| before.get(id) != Some(name))
            .map(|(_, name)| name.clone())
            .collect::<Vec<_>>()
    };
    work.done
        .touched
        .extend(added(&accounts_before.accounts, &accounts_after.accounts).into_iter().map(Claim::Account));
    work.done
        .touched
        .extend(added(&accounts_before.groups, &accounts_after.groups).into_iter().map(Claim::AccountGroup));
    left.iter().try_for_each(|path| take_away(machine, work, &clause.address, path))
}
