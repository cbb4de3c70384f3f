//! Packages of a simulated host, and where they come from.

use super::things::{Thing, Things};
use crate::error::HostError;
use constans_core::compare::Found;
use constans_core::kind::{Claim, VersionOrder, VersionRequirement};
use constans_core::kit::Gone;
use constans_core::run::{Correction, PackageChange};
use constans_core::state::Clause;
use std::collections::BTreeMap;

/// The packages that simulated hosts can install.
#[derive(Debug, Clone, Default)]
pub struct Repository {
    packages: BTreeMap<String, Offer>,
}

/// A package of a repository.
#[derive(Debug, Clone, Default)]
pub struct Offer {
    /// Its versions.
    pub versions: Vec<String>,
    /// The service that it brings, which runs and starts at boot after it was installed.
    pub service: Option<String>,
}

impl Repository {
    /// Offers a package.
    #[must_use]
    pub fn with(mut self, package: &str, versions: &[&str], service: Option<&str>) -> Self {
        let versions = versions.iter().map(|version| (*version).to_owned()).collect();
        self.packages.insert(package.to_owned(), Offer { versions, service: service.map(str::to_owned) });
        self
    }

    /// Returns what it offers of a package.
    pub fn offer(&self, package: &str) -> Option<&Offer> {
        self.packages.get(package)
    }

    fn newest(&self, package: &str) -> Option<&str> {
        VersionOrder::Dpkg.newest(self.offer(package)?.versions.iter().map(String::as_str))
    }
}

pub(super) fn found(thing: Option<&Thing>, clause: &Clause, repository: &Repository) -> Found {
    let Some(thing) = thing else { return Found::absent() };
    let mut found = Found { version_order: VersionOrder::Dpkg, ..Found::present() };
    if clause.text("version") == Some("newest") {
        found.candidate = repository.newest(clause.name()).map(str::to_owned);
    }
    if clause.get("version").is_some() {
        found = found.with("version", thing.text("version"));
    }
    if clause.get("hold").is_some() {
        found = found.with("hold", thing.flag("hold"));
    }
    found
}

/// Returns what changing a package would come to, if it can be changed.
pub(super) fn change(things: &Things, clause: &Clause, repository: &Repository) -> Option<PackageChange> {
    let before = things.get(clause.address.as_str()).map(|thing| thing.text("version").to_owned());
    let after = match clause.gone {
        Gone::No => Some(chosen(clause, repository).ok()?.to_owned()),
        _ => None,
    };
    (before != after).then(|| PackageChange { package: clause.name().to_owned(), before, after })
}

/// Returns the version that a clause gets.
fn chosen<'r>(clause: &Clause, repository: &'r Repository) -> Result<&'r str, HostError> {
    let name = clause.name();
    let offer = repository.offer(name);
    let missing = || HostError::new(format!("E: Unable to locate package {name}"));
    let versions = || offer.into_iter().flat_map(|offer| offer.versions.iter().map(String::as_str));
    match clause.text("version").and_then(|requirement| VersionRequirement::parse(requirement).ok()) {
        Some(requirement) => requirement.best(versions(), VersionOrder::Dpkg).ok_or_else(|| match offer {
            None => missing(),
            Some(_) => HostError::new(format!("E: no version of {name} fits")),
        }),
        None => repository.newest(name).ok_or_else(missing),
    }
}

pub(super) fn put_right(
    things: &mut Things,
    clause: &Clause,
    repository: &Repository,
    done: &mut Correction,
) -> Result<(), HostError> {
    let (name, address) = (clause.name(), clause.address.as_str());
    let offer = repository.offer(name);
    let service = offer.and_then(|offer| offer.service.as_ref()).map(|service| format!("service:{service}"));
    let before = things.get(address).map(|thing| thing.text("version").to_owned());
    if clause.gone != Gone::No {
        things.remove(address);
        service.iter().for_each(|service| drop(things.remove(service)));
        done.packages.push(PackageChange { package: name.to_owned(), before, after: None });
        return Ok(());
    }
    let version = chosen(clause, repository)?;
    let thing = things.made(address);
    thing.set("version", version);
    if let Some(hold) = clause.flag("hold") {
        thing.set("hold", hold);
    }
    if before.as_deref() != Some(version) {
        done.packages.push(PackageChange {
            package: name.to_owned(),
            before: before.clone(),
            after: Some(version.to_owned()),
        });
    }
    if let (Some(service), None) = (service, before) {
        let thing = things.made(&service);
        done.touched.extend(service.strip_prefix("service:").map(|name| Claim::Service(name.to_owned())));
        thing.set("running", true);
        thing.set("enabled", true);
    }
    Ok(())
}
