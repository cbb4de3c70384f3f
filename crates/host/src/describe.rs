//! Describing what is on a node as clauses.

use crate::contents::NoContents;
use crate::error::{CannotDescribe, HostError};
use crate::files::{Entry, EntryKind};
use crate::kinds::{self, listing};
use crate::machine::{InspectionContext, Machine};
use crate::things::Thing;
use constans_core::address::ClauseAddress;
use constans_core::compare::{FoundValue, Presence};
use constans_core::digest::{DigestKey, of_contents};
use constans_core::kind::{BuiltInKind, Kind};
use constans_core::kit::WrittenClause;
use constans_core::state::Clause;
use serde_json::Value;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;
use std::time::SystemTime;

/// Up to this size contents are written into the clause, in bytes.
const MAX_TEXT: usize = 64 * 1024;

impl Machine {
    /// Tells one thing; none if it is not there.
    ///
    /// # Errors
    ///
    /// Returns why it could not be described.
    pub fn describe(&mut self, kind: &Kind, name: &str) -> Result<Option<WrittenClause>, CannotDescribe> {
        refuse_parts(kind)?;
        let needs_more = kind.properties().any(|property| property.required && property.identifies);
        let thing = if needs_more {
            listing::of(self, kind.name())?.into_iter().find(|thing| thing.name == name)
        } else {
            Some(Thing::named(name))
        };
        thing.map_or(Ok(None), |thing| self.describe_thing(kind, &thing))
    }

    /// Tells all things of a kind.
    ///
    /// # Errors
    ///
    /// Returns why they could not be described.
    pub fn describe_all(&mut self, kind: &Kind) -> Result<Vec<WrittenClause>, CannotDescribe> {
        refuse_parts(kind)?;
        if is_at_path(kind) {
            return Err(CannotDescribe::NotOfThisKind(format!(
                "a machine has too many of the kind {}: name one",
                kind.name()
            )));
        }
        let mut all = Vec::new();
        for thing in listing::of(self, kind.name())? {
            all.extend(self.describe_thing(kind, &thing)?);
        }
        Ok(all)
    }

    fn describe_thing(
        &mut self,
        kind: &Kind,
        thing: &Thing,
    ) -> Result<Option<WrittenClause>, CannotDescribe> {
        let address = ClauseAddress::parse(&format!("{}:{}", kind.name(), thing.name))
            .map_err(|error| HostError::new(error.to_string()))?;
        let clause = Clause::asking(address, kind, &thing.known);
        let mut described = WrittenClause::new(kind, &thing.name);
        if is_at_path(kind) {
            let Some(entry) = self.files.look(&thing.name)? else { return Ok(None) };
            self.remark_on_path(&thing.name, &entry, &mut described)?;
        }
        let mut seen = kinds::inspect(
            self,
            &clause,
            &InspectionContext { contents: &NoContents, key: &DigestKey::new("") },
        )?;
        match seen.found.presence {
            Presence::Present => {}
            Presence::Broken => {
                described.not_kept =
                    Some(seen.found.words.take().unwrap_or_else(|| "half of it is there".to_owned()));
            }
            Presence::Absent | Presence::Remnant => return Ok(None),
        }
        for property in kind.properties() {
            match seen.found.get(property.name) {
                _ if property.concealed => described.remarks.push(format!("{} is not shown", property.name)),
                Some(FoundValue::Value(value)) if value == "any" => {}
                Some(FoundValue::Value(value))
                    if property.default.is_some_and(|default| *value == Value::Bool(default == "true")) => {}
                Some(FoundValue::Value(Value::Bool(false))) if kind.either().contains(&property.name) => {}
                Some(FoundValue::Value(value))
                    if value.as_str().is_some_and(|text| text.starts_with("sha256:")) =>
                {
                    described.remarks.push(format!(
                        "{}: {}",
                        property.name,
                        value.as_str().unwrap_or_default()
                    ));
                }
                Some(FoundValue::Value(value)) => described.take(kind, property.name, value.clone()),
                Some(FoundValue::Unreadable(why) | FoundValue::NotExaminedHere(why)) => {
                    described.remarks.push(format!("{}: {why}", property.name));
                }
                None => {}
            }
        }
        self.take_contents(kind, &thing.name, &mut described)?;
        if let Some(path) = kinds::file_behind(self, kind, &thing.name)
            && !self.may_everybody_read(&path)
        {
            described.properties.retain(|name, _| kind.property(name).is_some_and(|known| known.identifies));
            described
                .remarks
                .push(format!("the rest is not shown, because not everybody may read {}", path.display()));
        }
        described.remarks.extend(seen.stand_in);
        described.complete(kind);
        Ok(Some(described))
    }

    /// Writes contents into the clause if they are text, small, and for everybody to read.
    fn take_contents(&self, kind: &Kind, name: &str, described: &mut WrittenClause) -> Result<(), HostError> {
        let (path, property) = match BuiltInKind::of(kind.name()) {
            Some(BuiltInKind::File) => (name.to_owned(), "text"),
            Some(BuiltInKind::TrustAnchor) => {
                (kinds::certificate_path(self, name).unwrap_or_default(), "pem")
            }
            _ => return Ok(()),
        };
        let Some(bytes) = self.files.read(&path)? else { return Ok(()) };
        if !self.may_everybody_read(&self.files.outside(&path)) {
            // A digest of something short tells what it is.
            described.remarks.push(format!("contents: {} bytes", bytes.len()));
            described.remarks.push("the contents are not shown, because not everybody may read them: put them into copies/ of the kit".to_owned());
            return Ok(());
        }
        described.remarks.push(format!("contents: {} bytes, {}", bytes.len(), of_contents(&bytes).as_str()));
        let text = String::from_utf8(bytes).ok().filter(|text| text.len() <= MAX_TEXT);
        match text {
            None => described
                .remarks
                .push("the contents are not a short text: put them into copies/ of the kit".to_owned()),
            Some(text) => described.take(kind, property, Value::from(text)),
        }
        Ok(())
    }

    /// Returns whether everybody on the machine may read a file, by its own permissions and those of the folders on the way to it.
    fn may_everybody_read(&self, path: &Path) -> bool {
        let real = |path: &Path| path.canonicalize().ok();
        let (Some(file), Some(root)) = (real(path), real(&self.files.outside("/"))) else { return false };
        let permits = |path: &Path, bits: u32| {
            path.symlink_metadata().is_ok_and(|entry| entry.permissions().mode() & bits == bits)
        };
        let mut folders =
            file.ancestors().skip(1).take_while(|folder| folder.starts_with(&root) && *folder != root);
        permits(&file, 0o004) && folders.all(|folder| permits(folder, 0o001))
    }

    fn remark_on_path(
        &self,
        path: &str,
        entry: &Entry,
        described: &mut WrittenClause,
    ) -> Result<(), HostError> {
        let times = self.files.outside(path).symlink_metadata().ok();
        let mut say = |what: &str, time: Option<SystemTime>| {
            let at = time.and_then(|time| jiff::Timestamp::try_from(time).ok());
            described.remarks.extend(at.map(|at| format!("{what} {}", at.strftime("%Y-%m-%d %H:%M:%S UTC"))));
        };
        say("created", times.as_ref().and_then(|times| times.created().ok()));
        say("last modified", times.as_ref().and_then(|times| times.modified().ok()));
        let owner = self.package_manager().owner_of(path)?;
        described.remarks.push(owner.map_or_else(
            || "no package owns it".to_owned(),
            |package| format!("the package {package} owns it"),
        ));
        if entry.what == EntryKind::Other {
            described.not_kept = Some(format!("it is {}", entry.what.words()));
        }
        Ok(())
    }
}

/// Returns whether the things of a kind are called by their paths, and are too many to be listed.
fn is_at_path(kind: &Kind) -> bool {
    matches!(
        BuiltInKind::of(kind.name()),
        Some(BuiltInKind::File | BuiltInKind::Directory | BuiltInKind::Link)
    )
}

/// Refuses the kinds whose things are only there because a clause says so.
fn refuse_parts(kind: &Kind) -> Result<(), CannotDescribe> {
    let instead = match BuiltInKind::of(kind.name()) {
        Some(BuiltInKind::Line | BuiltInKind::Setting) => "it is a part of a file: look at the file",
        Some(BuiltInKind::Tree) => "look at the directory and the files in it",
        Some(BuiltInKind::Command | BuiltInKind::Probe) => {
            "what a program does is only known to the clause that names it"
        }
        _ => return Ok(()),
    };
    Err(CannotDescribe::NotOfThisKind(format!("a {} cannot be looked up: {instead}", kind.name())))
}
