//! A simulated host: an operating system in memory, for thousands of nodes in one process.
//!
//! Files, packages, services and accounts behave as on a real one, as a run sees them: contents go into the attic,
//! packages bring their services, a failing package says what a package manager would. Other kinds that are only properties
//! are kept as such. What it cannot simulate it says is unsupported.

mod package;
mod things;

pub use package::{Offer, Repository};
pub use things::Thing;

use crate::contents::{Attic, Contents};
use crate::error::HostError;
use crate::files::{Entry, EntryKind, Stamp};
use crate::host::ActedOn;
use crate::host::Host;
use crate::machine::seen;
use constans_core::compare::{Difference, Found, text_diff};
use constans_core::digest::{DigestKey, of_contents};
use constans_core::filter::About;
use constans_core::kind::Reaction;
use constans_core::kit::Gone;
use constans_core::run::{
    Correction, DriftWindow, Failure, FailureAt, Inspection, NativeStep, PackagePreview, RelatedRecord,
    RelatedRecords, RestartPending, Seen, StoredCopy,
};
use constans_core::state::{Clause, EffectiveState};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use things::Things;

/// What every simulated node says of itself.
const STAND_IN: &str = "a simulated node";

/// What is installed and set on a simulated host, to be kept in a file.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Image {
    things: Things,
    failing: BTreeMap<String, String>,
}

/// An operating system in memory.
pub struct SimulatedHost {
    acted_on: ActedOn,
    about: About,
    repository: Arc<Repository>,
    things: Things,
    /// Addresses whose correction fails, with what the operating system says.
    failing: BTreeMap<String, String>,
    restarts: BTreeMap<String, u64>,
    records: Vec<RelatedRecord>,
    runs: u64,
}

impl SimulatedHost {
    /// Returns a freshly installed host of this name, whose packages come from a repository.
    pub fn new(name: &str, about: About, repository: Arc<Repository>) -> Self {
        let acted_on = ActedOn { machine: name.to_owned(), root: PathBuf::from("/") };
        Self {
            acted_on,
            about,
            repository,
            things: Things::default(),
            failing: BTreeMap::new(),
            restarts: BTreeMap::new(),
            records: Vec::new(),
            runs: 0,
        }
    }

    /// Returns what is installed and set on it.
    pub fn image(&self) -> Image {
        Image { things: self.things.clone(), failing: self.failing.clone() }
    }

    /// Installs and sets what an image holds.
    #[must_use]
    pub fn with_image(mut self, image: Image) -> Self {
        (self.things, self.failing) = (image.things, image.failing);
        self
    }

    /// Returns the thing at an address, as `file:/etc/issue`.
    pub fn thing(&self, address: &str) -> Option<&Thing> {
        self.things.get(address)
    }

    /// Changes the thing at an address behind the agent's back; one that is not there comes to be.
    pub fn change(&mut self, address: &str, change: impl FnOnce(&mut Thing)) {
        change(self.things.made(address));
    }

    /// Removes the thing at an address behind the agent's back.
    pub fn remove(&mut self, address: &str) {
        self.things.remove(address);
    }

    /// Has corrections of an address fail from now on, and says what the operating system says then; or has them succeed again.
    pub fn fail(&mut self, address: &str, says: Option<&str>) {
        match says {
            Some(says) => drop(self.failing.insert(address.to_owned(), says.to_owned())),
            None => drop(self.failing.remove(address)),
        }
    }

    /// Has the system keep a record, as that somebody signed in.
    pub fn record(&mut self, record: RelatedRecord) {
        self.records.push(record);
    }

    /// Returns how often a service was restarted or reloaded by a reaction.
    pub fn restarts(&self, service: &str) -> u64 {
        self.restarts.get(service).copied().unwrap_or(0)
    }

    /// Returns how many runs began.
    pub fn runs(&self) -> u64 {
        self.runs
    }

    fn look(
        &self,
        clause: &Clause,
        contents: &dyn Contents,
        key: &DigestKey,
    ) -> Result<Option<Seen>, HostError> {
        let thing = self.things.get(clause.address.as_str());
        Ok(Some(match clause.address.kind() {
            "file" => look_at_file(thing, clause, contents, key)?,
            "package" => seen(package::found(thing, clause, &self.repository)),
            "service" => {
                let flag = |property: &str| json!(thing.is_some_and(|thing| thing.flag(property)));
                let wanted =
                    ["running", "enabled"].into_iter().filter(|property| clause.get(property).is_some());
                seen(wanted.fold(Found::present(), |found, property| found.with(property, flag(property))))
            }
            kind if things::is_only_properties(kind) => seen(match thing {
                None => Found::absent(),
                Some(thing) => clause.compared().iter().fold(Found::present(), |found, (property, ..)| {
                    found.with(
                        (*property).to_owned(),
                        thing.properties.get(*property).cloned().unwrap_or(Value::Null),
                    )
                }),
            }),
            _ => return Ok(None),
        }))
    }

    fn put_right(
        &mut self,
        clause: &Clause,
        contents: &dyn Contents,
        attic: &mut dyn Attic,
        done: &mut Correction,
    ) -> Result<(), HostError> {
        let address = clause.address.as_str();
        if let Some(says) = self.failing.get(address) {
            let step = NativeStep {
                what: format!("correct {address} (simulated)"),
                exit: Some(100),
                output: says.clone(),
            };
            return Err(HostError::new(says.lines().next().unwrap_or("it failed")).command(step));
        }
        done.native.push(NativeStep {
            what: format!("correct {address} (simulated)"),
            exit: Some(0),
            output: String::new(),
        });
        if let ("file", Some(thing)) = (clause.address.kind(), self.things.get(address))
            && clause.flag("attic") != Some(false)
        {
            done.kept.push(attic.keep(
                clause.name(),
                &mut thing.contents.as_slice(),
                &entry_of(thing),
                &clause.address,
            )?);
        }
        if clause.address.kind() == "package" {
            return package::put_right(&mut self.things, clause, &self.repository, done);
        }
        if clause.gone != Gone::No {
            self.things.remove(address);
            return Ok(());
        }
        if clause.address.kind() == "service" && self.things.get(address).is_none() {
            return Err(HostError::new(format!("Unit {}.service not found.", clause.name())));
        }
        let content = match clause.text("content").filter(|_| clause.address.kind() == "file") {
            Some(name) => Some(
                contents
                    .get(name)
                    .ok_or_else(|| HostError::new(format!("the contents {name} are missing yet")))?,
            ),
            None => None,
        };
        let thing = self.things.made(address);
        if let Some(content) = content {
            thing.contents = content.into_owned();
        }
        thing.properties.extend(
            clause
                .compared()
                .into_iter()
                .map(|(property, value, _)| (property.to_owned(), value.into_owned())),
        );
        Ok(())
    }
}

impl Host for SimulatedHost {
    fn acted_on(&self) -> &ActedOn {
        &self.acted_on
    }

    fn about(&self) -> Result<About, HostError> {
        Ok(self.about.clone())
    }

    fn machine_name(&self) -> Option<String> {
        None
    }

    fn restart_pending(&self) -> Result<Option<RestartPending>, HostError> {
        Ok(None)
    }

    fn prepare(&mut self, _state: &EffectiveState, _left_behind: BTreeSet<String>) {}

    fn begin_run(&mut self, _touched: &[&Clause], _contents: &Arc<dyn Contents>) {
        self.runs += 1;
    }

    fn end_run(&mut self) {}

    fn tidy(&mut self) {}

    fn inspect(&mut self, clause: &Clause, contents: &dyn Contents, key: &DigestKey) -> Inspection {
        match self.look(clause, contents, key) {
            Ok(Some(seen)) => {
                Inspection::Seen(Box::new(Seen { stand_in: Some(STAND_IN.to_owned()), ..seen }))
            }
            Ok(None) => Inspection::Unsupported(format!("a simulated node has no {}", clause.address.kind())),
            Err(error) => Inspection::Failed(error.failure(FailureAt::Inspect)),
        }
    }

    /// Its packages take nothing along.
    fn preview(&mut self, clauses: &[&Clause]) -> PackagePreview {
        let packages = clauses
            .iter()
            .filter_map(|clause| package::change(&self.things, clause, &self.repository))
            .collect();
        PackagePreview { packages, ..PackagePreview::default() }
    }

    fn related(&mut self, _clause: &Clause, window: DriftWindow) -> RelatedRecords {
        RelatedRecords::of(window, self.records.clone(), Vec::new())
    }

    fn keep(&mut self, clause: &Clause, attic: &mut dyn Attic) -> Result<Vec<StoredCopy>, Failure> {
        let Some(thing) =
            self.things.get(clause.address.as_str()).filter(|_| clause.address.kind() == "file")
        else {
            return Ok(Vec::new());
        };
        let kept =
            attic.keep(clause.name(), &mut thing.contents.as_slice(), &entry_of(thing), &clause.address);
        kept.map(|kept| vec![kept]).map_err(|error| error.failure(FailureAt::Correct))
    }

    fn correct(
        &mut self,
        clause: &Clause,
        _differences: &[Difference],
        contents: &dyn Contents,
        attic: &mut dyn Attic,
    ) -> Correction {
        let mut done = Correction::default();
        done.failure = self
            .put_right(clause, contents, attic, &mut done)
            .err()
            .map(|error| error.failure(FailureAt::Correct));
        done
    }

    fn react(&mut self, clause: &Clause, reaction: Reaction) -> Result<Vec<NativeStep>, Failure> {
        *self.restarts.entry(clause.name().to_owned()).or_default() += 1;
        Ok(vec![NativeStep {
            what: format!("{} {} (simulated)", reaction.word(), clause.address),
            exit: Some(0),
            output: String::new(),
        }])
    }
}

fn look_at_file(
    thing: Option<&Thing>,
    clause: &Clause,
    contents: &dyn Contents,
    key: &DigestKey,
) -> Result<Seen, HostError> {
    let wanted = match clause.text("content") {
        Some(name) => Some((
            name,
            contents
                .get(name)
                .ok_or_else(|| HostError::new(format!("the contents {name} are missing yet")))?,
        )),
        None => None,
    };
    let content_bytes = wanted.as_ref().map(|(_, bytes)| bytes.len() as u64);
    let is_concealed = clause.concealed.contains("content");
    let diff = |found: &[u8]| {
        wanted.as_ref().filter(|_| !is_concealed).map(|(_, wanted)| text_diff(found, wanted, true))
    };
    let Some(thing) = thing else {
        return Ok(Seen { content_bytes, text_diff: diff(b""), ..seen(Found::absent()) });
    };
    let mut found = Found { size: Some(thing.contents.len() as u64), ..Found::present() };
    for property in
        ["owner", "group", "permissions"].into_iter().filter(|property| clause.get(property).is_some())
    {
        found = found.with(property, thing.properties.get(property).cloned().unwrap_or(Value::Null));
    }
    let Some((name, wanted_bytes)) = &wanted else { return Ok(seen(found)) };
    if **wanted_bytes == *thing.contents {
        return Ok(Seen { content_bytes, ..seen(found.with("content", *name)) });
    }
    let digest = if is_concealed { key.digest(&thing.contents) } else { of_contents(&thing.contents) };
    Ok(Seen {
        content_bytes,
        text_diff: diff(&thing.contents),
        ..seen(found.with("content", digest.as_str()))
    })
}

fn entry_of(thing: &Thing) -> Entry {
    let permissions = thing
        .properties
        .get("permissions")
        .and_then(Value::as_str)
        .and_then(|digits| u32::from_str_radix(digits, 8).ok());
    Entry {
        what: EntryKind::File,
        uid: 0,
        gid: 0,
        permissions: permissions.unwrap_or(0o644),
        size: thing.contents.len() as u64,
        names: 1,
        stamp: Stamp::default(),
    }
}

#[cfg(test)]
mod tests;
