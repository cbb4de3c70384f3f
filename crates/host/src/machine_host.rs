//! The real implementation of the host: dispatches each request to its kind.

use crate::contents::{Attic, Contents, NoContents};
use crate::error::{CannotDescribe, HostError};
use crate::host::{ActedOn, Host};
use crate::kinds;
use crate::machine::{InspectionContext, Machine, NotSeen, Work};
use crate::related::{MachineRecords, RecordsRead};
use crate::seen_files::{Ahead, SeenFiles};
use crate::stalls::Stalls;
use constans_core::compare::Difference;
use constans_core::digest::DigestKey;
use constans_core::filter::About;
use constans_core::kind::{BuiltInKind, Kind, Reaction};
use constans_core::kit::{Gone, WrittenClause};
use constans_core::machine::machine_name;
use constans_core::run::{
    Correction, DriftWindow, Failure, FailureAt, Inspection, NativeStep, PackagePreview, RelatedRecords,
    RestartPending, StoredCopy,
};
use constans_core::state::{Clause, EffectiveState};
use jiff::Timestamp;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::Duration;

/// What is known of files, in the folder for what need not last.
const SEEN_FILES: &str = "seen-files";

/// A machine-id has 32 digits, machine-id(5).
const MAX_MACHINE_ID: u64 = 64;

impl Host for Machine {
    fn acted_on(&self) -> &ActedOn {
        &self.acted_on
    }

    fn about(&self) -> Result<About, HostError> {
        crate::about::find_out(&self.files, self.acted_on.is_private_root())
    }

    fn machine_name(&self) -> Option<String> {
        let id = self.files.read_at_most("/etc/machine-id", MAX_MACHINE_ID).ok()??;
        machine_name(&String::from_utf8_lossy(&id))
    }

    fn restart_pending(&self) -> Result<Option<RestartPending>, HostError> {
        crate::restart::pending(&self.files, self.acted_on.is_private_root())
    }

    fn prepare(&mut self, state: &EffectiveState, left_behind: BTreeSet<String>) {
        self.left_behind = left_behind;
        let of_kind = |kind: &'static str| {
            state
                .clauses
                .iter()
                .filter(move |clause| clause.address.kind() == kind && clause.gone == Gone::No)
        };
        self.packet_rules = of_kind("packet_rule").map(|clause| clause.name().to_owned()).collect();
        let refresh = of_kind("package_source").filter_map(|clause| clause.get("refresh")?.as_u64()).min();
        for packages in [&mut self.apt, &mut self.rpm] {
            packages.refresh_after(refresh.map(Duration::from_secs));
        }
    }

    fn tell_stalls(&mut self, stalls: Stalls) {
        self.apt.tell_stalls(stalls.clone());
        self.rpm.tell_stalls(stalls);
    }

    fn forget_readings(&mut self) {
        // What cannot be removed is known by its metadata again, and the report says so.
        let _ = std::fs::remove_file(self.scratch.join(SEEN_FILES));
        for packages in [&mut self.apt, &mut self.rpm] {
            packages.forget_reading();
        }
    }

    /// Files that are not known by their metadata are read ahead, and compared with the wanted contents.
    fn begin_run(&mut self, touched: &[&Clause], contents: &Arc<dyn Contents>) {
        self.run_began = Timestamp::now();
        self.about_to_change();
        self.records_read = RecordsRead::default();
        self.seen_files = SeenFiles::read(&self.scratch.join(SEEN_FILES));
        let wanted = touched.iter().filter_map(|clause| {
            Some(Ahead {
                path: clause.name(),
                wanted: kinds::compared_by_digest(clause)?,
                most: kinds::most_bytes(clause),
            })
        });
        self.seen_files.read_ahead(&self.files, wanted, contents, self.run_began);
    }

    /// What became known of files is kept for the next run, if it can be.
    fn end_run(&mut self) {
        let _ = self.seen_files.keep(&self.scratch.join(SEEN_FILES), self.run_began);
        self.seen_files = SeenFiles::default();
    }

    fn tidy(&mut self) {
        self.files.tidy();
    }

    fn inspect(&mut self, clause: &Clause, contents: &dyn Contents, key: &DigestKey) -> Inspection {
        let seen = match &clause.via {
            Some(via) if !backends(BuiltInKind::of(clause.address.kind())).contains(&via.as_str()) => {
                Err(NotSeen::Unsupported(format!("a {} has no backend `{via}` here", clause.address.kind())))
            }
            _ => kinds::inspect(self, clause, &InspectionContext { contents, key }),
        };
        match seen {
            Ok(seen) => Inspection::Seen(Box::new(seen)),
            Err(NotSeen::Unsupported(why)) => Inspection::Unsupported(why),
            Err(NotSeen::Failed(error)) => Inspection::Failed(error.failure(FailureAt::Inspect)),
        }
    }

    fn describe_things(
        &mut self,
        kind: &Kind,
        name: Option<&str>,
    ) -> Result<Vec<WrittenClause>, CannotDescribe> {
        match name {
            Some(name) => self.describe(kind, name).map(|thing| thing.into_iter().collect()),
            None => self.describe_all(kind),
        }
    }

    fn preview(&mut self, clauses: &[&Clause]) -> PackagePreview {
        let mut package_preview = PackagePreview::default();
        let mut of_managers: BTreeMap<&'static str, Vec<&Clause>> = BTreeMap::new();
        for clause in clauses {
            of_managers.entry(self.packages_of(clause).manager().name()).or_default().push(clause);
        }
        for clauses in of_managers.into_values() {
            if let Err(error) =
                kinds::preview_packages(self.packages_of(clauses[0]), &clauses, &mut package_preview)
            {
                package_preview.failure = Some(error.failure(FailureAt::Correct));
            }
        }
        package_preview
    }

    fn related(&mut self, clause: &Clause, window: DriftWindow) -> RelatedRecords {
        let mut read = std::mem::take(&mut self.records_read);
        let names = |uid: u32, gid: u32| {
            let known = self.names().ok();
            let account = known.and_then(|names| names.accounts.get(&uid).cloned());
            let group = known.and_then(|names| names.groups.get(&gid).cloned());
            (account.unwrap_or_else(|| uid.to_string()), group.unwrap_or_else(|| gid.to_string()))
        };
        let machine = MachineRecords {
            files: &self.files,
            names: &names,
            is_whole_machine: !self.acted_on.is_private_root(),
            has_rpm: self.is_of_rpm,
        };
        let related = read.related(&machine, clause, window);
        self.records_read = read;
        related
    }

    fn keep(&mut self, clause: &Clause, attic: &mut dyn Attic) -> Result<Vec<StoredCopy>, Failure> {
        let mut work = Work { contents: &NoContents, attic, done: Correction::default() };
        kinds::keep(self, clause, &mut work).map_err(|error| error.failure(FailureAt::Correct))?;
        Ok(work.done.kept)
    }

    fn correct(
        &mut self,
        clause: &Clause,
        differences: &[Difference],
        contents: &dyn Contents,
        attic: &mut dyn Attic,
    ) -> Correction {
        self.about_to_change();
        let mut work = Work { contents, attic, done: Correction::default() };
        let result = kinds::correct(self, clause, differences, &mut work);
        let mut done = work.done;
        done.failure = result.err().map(|error| error.failure(FailureAt::Correct));
        done
    }

    fn react(&mut self, clause: &Clause, reaction: Reaction) -> Result<Vec<NativeStep>, Failure> {
        self.about_to_change();
        let step = match reaction {
            Reaction::Run => kinds::run_command(self, clause),
            Reaction::Restart | Reaction::Reload => self.services_of(clause).and_then(|services| {
                services.react(clause.name(), reaction, clause.flag("running") == Some(true))
            }),
        };
        step.map(|step| vec![step]).map_err(|error| error.failure(FailureAt::React))
    }
}

/// Returns the backends that `via` may name.
fn backends(kind: Option<BuiltInKind>) -> &'static [&'static str] {
    match kind {
        Some(BuiltInKind::Package | BuiltInKind::PackageSource) => &["apt", "rpm"],
        Some(BuiltInKind::Service) => &["systemd", "runit"],
        _ => &[],
    }
}
