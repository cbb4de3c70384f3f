//! What several targets do with what they are given.

use constans_core::address::ClauseAddress;
use constans_core::digest::{DigestKey, of_contents};
use constans_core::filter::About;
use constans_core::part::{Format, read_setting, remove_setting, write_setting};
use constans_core::run::{
    Action, Memories, Mode, Run, RunEvent, RunInput, RunSettings, Selection, StoredCopy,
};
use constans_core::state::EffectiveState;
use constans_host::files::Entry;
use constans_host::simulated::{Repository, SimulatedHost};
use constans_host::{Attic, Contents, Host as _, HostError};
use jiff::Timestamp;
use serde_json::{Value, json};
use std::borrow::Cow;
use std::sync::Arc;

/// Reads, sets and removes a setting: the first line is its key, the second its value, the rest the file.
pub fn setting(text: &str, formats: &[Format]) {
    let mut parts = text.splitn(3, '\n');
    let mut part = || parts.next().unwrap_or_default();
    let (key, value, file) = (part(), part(), part());
    let key: Vec<&str> = key.split('/').collect();
    let value: Value = serde_json::from_str(value).unwrap_or_else(|_| json!(value));
    for format in formats {
        let before = read_setting(file, *format, &key);
        if let Ok(written) = write_setting(file, *format, &key, &value) {
            let wanted = format.as_read(&value).expect("it was written");
            assert_eq!(
                read_setting(&written, *format, &key),
                Ok(Some(wanted)),
                "what was written is read: {written:?}"
            );
            assert!(before.is_ok(), "what cannot be read is not changed");
        }
        if let Ok(removed) = remove_setting(file, *format, &key) {
            assert_eq!(
                read_setting(&removed, *format, &key),
                Ok(None),
                "what was removed is not there: {removed:?}"
            );
            assert!(
                !matches!(before, Ok(None)) || removed == file,
                "where nothing is to be removed nothing changes"
            );
        }
    }
}

/// Contents that are whatever their name says.
struct Any;

impl Contents for Any {
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>> {
        Some(Cow::Owned(name.as_bytes().to_vec()))
    }
}

/// An attic that keeps nothing.
struct Nowhere;

impl Attic for Nowhere {
    fn keep(
        &mut self,
        path: &str,
        contents: &mut dyn std::io::Read,
        _: &Entry,
        _: &ClauseAddress,
    ) -> Result<StoredCopy, HostError> {
        let mut bytes = Vec::new();
        contents.read_to_end(&mut bytes).map_err(|error| HostError::new(error.to_string()))?;
        Ok(StoredCopy {
            attic: 1,
            path: path.to_owned(),
            digest: of_contents(&bytes),
            bytes: bytes.len() as u64,
        })
    }
}

/// Carries out a state on a simulated host in each mode, and once more with what was remembered.
pub fn carry_out(state: &EffectiveState) {
    let key = DigestKey::new("fuzzing");
    let repository = Repository::default().with("kiosk-shell", &["3.2.0", "3.2.4"], Some("kiosk-shell"));
    let mut host = SimulatedHost::new("kiosk-auken-1", About::sample(), Arc::new(repository));
    let mut memories = Memories::default();
    let mut due = Vec::new();
    for mode in [Mode::Observe, Mode::Enforce, Mode::Enforce] {
        let now = Timestamp::UNIX_EPOCH;
        let settings = RunSettings::of(mode);
        let mut run = Run::new(RunInput {
            state,
            settings,
            memories,
            due,
            part: Selection::Whole,
            on_demand: false,
            key: &key,
        });
        let mut actions = run.begin(now);
        'run: loop {
            let mut event = None;
            for action in actions {
                match action {
                    Action::Inspect(at) => {
                        event = Some(RunEvent::Inspected(host.inspect(&state.clauses[at], &Any, &key), 0));
                    }
                    Action::Preview(ats) => {
                        event = Some(RunEvent::PackagePreview(
                            host.preview(&ats.iter().map(|at| &state.clauses[*at]).collect::<Vec<_>>()),
                            0,
                        ));
                    }
                    Action::GatherRelated(at, window) => {
                        event = Some(RunEvent::Gathered(host.related(&state.clauses[at], window), 0));
                    }
                    Action::Keep(at) => {
                        event = Some(RunEvent::Kept(host.keep(&state.clauses[at], &mut Nowhere), 0));
                    }
                    Action::Correct(at, differences) => {
                        event = Some(RunEvent::Corrected(
                            host.correct(&state.clauses[at], &differences, &Any, &mut Nowhere),
                            0,
                        ));
                    }
                    Action::React(at, reaction) => {
                        event = Some(RunEvent::Reacted(host.react(&state.clauses[at], reaction), 0));
                    }
                    Action::Finish => break 'run,
                    Action::KeepDue(_) | Action::Remember(..) => {}
                }
            }
            actions = run.on_event(event.expect("it asks for something"), now).expect("it is in order");
        }
        let finished = run.finish().expect("it came to its end");
        assert_eq!(finished.results.len(), state.clauses.len(), "each clause has a result");
        (memories, due) = (finished.memories, finished.due);
    }
}
