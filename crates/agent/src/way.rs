//! Protection of the node's own connection to its server: a change that cuts it is reverted. What a run changes of network
//! and access is noted before it is done; if no server is reached within the set time after the run, it is put back.

use crate::attic::AtticStore;
use crate::error::AgentError;
use crate::memory_store::Store;
use crate::state_dir::{Append, StateDir};
use constans_core::address::ClauseAddress;
use constans_core::compare::{as_it_was, differences};
use constans_core::digest::{Digest, DigestKey};
use constans_core::kind::Reaction;
use constans_core::run::{Inspection, RevertedChange, may_cut_the_way};
use constans_core::state::Clause;
use constans_host::{Contents, Host};
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::BTreeMap;
use std::io;
use uuid::Uuid;

/// One thing that a run did, with what puts it back.
#[derive(Debug, Serialize, Deserialize)]
enum Done {
    /// A run began to change what this state wants.
    Began { run: Uuid, state: Digest },
    /// A clause was corrected; none if nothing puts it back.
    Corrected { address: ClauseAddress, wanted: Digest, was: Option<Box<Clause>> },
    /// A reaction was carried out.
    Reacted { clause: Box<Clause>, reaction: Reaction },
}

/// The file of what is noted.
const LOG: &str = "way.log";
/// The file of what was put back.
const REMEMBERED: &str = "put-back.json";

/// What is noted of the changes since a server was reached last. Durable before each change.
pub struct ConnectionJournal {
    state_dir: StateDir,
    file: Option<Box<dyn Append>>,
    began: Option<(Uuid, Digest)>,
}

/// What was put back, as it is remembered.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Remembered {
    /// The state that cut the way.
    state: Option<Digest>,
    put_back: Vec<(ClauseAddress, RevertedChange)>,
}

/// What came of putting back.
#[derive(Debug, Default)]
pub struct RevertResult {
    /// The addresses of what was put back.
    pub done: Vec<ClauseAddress>,
    /// What could not be, and why.
    pub not_done: Vec<String>,
}

impl ConnectionJournal {
    /// Begins to note what a run of this state changes.
    pub fn of_run(state_dir: &StateDir, run: Uuid, state: &Digest) -> Self {
        Self { state_dir: state_dir.clone(), file: None, began: Some((run, state.clone())) }
    }

    /// Notes what puts a clause back, before it is corrected, if that may cut the way.
    ///
    /// # Errors
    ///
    /// Returns why it could not be noted; then it must not be corrected.
    pub fn about_to_correct(
        &mut self,
        machine: &mut dyn Host,
        clause: &Clause,
        contents: &dyn Contents,
        key: &DigestKey,
    ) -> io::Result<()> {
        if !may_cut_the_way(clause) {
            return Ok(());
        }
        let was = match machine.inspect(clause, contents, key) {
            Inspection::Seen(seen) => as_it_was(clause, &seen.found),
            _ => None,
        };
        self.note(&Done::Corrected {
            address: clause.address.clone(),
            wanted: clause.wanted.clone(),
            was: was.map(Box::new),
        })
    }

    /// Notes a reaction after such a change, so that it is carried out again after its cause was put back.
    ///
    /// # Errors
    ///
    /// Returns why it could not be noted.
    pub fn about_to_react(&mut self, clause: &Clause, reaction: Reaction) -> io::Result<()> {
        if self.file.is_none() {
            return Ok(());
        }
        self.note(&Done::Reacted { clause: Box::new(clause.clone()), reaction })
    }

    fn note(&mut self, done: &Done) -> io::Result<()> {
        if self.file.is_none() {
            self.file = Some(self.state_dir.append(LOG)?);
            if let Some((run, state)) = self.began.take() {
                self.note(&Done::Began { run, state })?;
            }
        }
        let Some(file) = &mut self.file else { return Ok(()) };
        let line = serde_json::to_string(done).map_err(io::Error::other)?;
        file.add(format!("{line}\n").as_bytes())?;
        file.sync()
    }
}

/// Returns whether changes wait for a server to be reached.
pub fn is_at_risk(state_dir: &StateDir) -> bool {
    !read(state_dir).is_empty()
}

/// A server was reached: what was changed stays.
pub fn reached(state_dir: &StateDir) {
    state_dir.remove(LOG);
}

fn read(state_dir: &StateDir) -> Vec<Done> {
    // A line that was cut off is not JSON: what it would have noted was not begun.
    state_dir
        .read_text(LOG)
        .ok()
        .flatten()
        .unwrap_or_default()
        .lines()
        .filter_map(|line| serde_json::from_str(line).ok())
        .collect()
}

/// Returns what is not to be applied again, as long as this state is wanted.
///
/// # Errors
///
/// Returns why it cannot be read.
pub fn put_back(
    state_dir: &StateDir,
    state: &Digest,
) -> Result<BTreeMap<ClauseAddress, RevertedChange>, AgentError> {
    let remembered: Remembered = state_dir.read_json(REMEMBERED)?.unwrap_or_default();
    if remembered.state.as_ref() == Some(state) {
        return Ok(remembered.put_back.into_iter().collect());
    }
    if remembered.state.is_some() {
        state_dir.remove(REMEMBERED);
    }
    Ok(BTreeMap::new())
}

/// The old contents that a run put into the attic.
struct OldContents(BTreeMap<String, Vec<u8>>);

impl Contents for OldContents {
    fn get(&self, name: &str) -> Option<Cow<'_, [u8]>> {
        self.0.get(name).map(|bytes| Cow::Borrowed(bytes.as_slice()))
    }
}

/// Puts back what was changed since a server was reached last, the latest first, and has what reacted to it react again.
/// What is put back counts as never applied: the next run does not count it as drift.
///
/// # Errors
///
/// Returns why the agent's own folder could not be read or written.
pub fn put_all_back(
    state_dir: &StateDir,
    machine: &mut dyn Host,
    key: &DigestKey,
    store: &std::path::Path,
) -> Result<RevertResult, AgentError> {
    let done = read(state_dir);
    let began = done.iter().find_map(|one| match one {
        Done::Began { run, state } => Some((*run, state.clone())),
        _ => None,
    });
    let Some((run, state)) = began else { return Ok(RevertResult::default()) };
    let mut attic = AtticStore::open(state_dir, None)?;
    let (old, by_path) = old_contents(&attic, run)?;
    let mut now = RevertResult::default();
    let mut remembered = Remembered { state: Some(state), put_back: Vec::new() };
    for one in done.iter().rev() {
        let Done::Corrected { address, wanted, was } = one else { continue };
        remembered
            .put_back
            .push((address.clone(), RevertedChange { wanted: wanted.clone(), at: state_dir.now() }));
        let Some(was) = was else {
            now.not_done.push(format!("{address}: its previous state is unknown"));
            continue;
        };
        match put_one_back(machine, &with_old_contents(was, &by_path), &old, &mut attic, key) {
            Ok(()) => now.done.push(address.clone()),
            Err(why) => now.not_done.push(format!("{address}: {why}")),
        }
    }
    for one in &done {
        if let Done::Reacted { clause, reaction } = one
            && let Err(failure) = machine.react(clause, *reaction)
        {
            now.not_done.push(format!("{} {}: {}", reaction.word(), clause.address, failure.message));
        }
    }
    let mut store = Store::of(state_dir, store);
    let mut memories = store.memories()?;
    memories.retain(|(address, _)| !remembered.put_back.iter().any(|(put_back, _)| put_back == address));
    store.keep_memories(&memories)?;
    state_dir.write_json(REMEMBERED, &remembered)?;
    reached(state_dir);
    Ok(now)
}

fn put_one_back(
    machine: &mut dyn Host,
    was: &Clause,
    old: &OldContents,
    attic: &mut AtticStore,
    key: &DigestKey,
) -> Result<(), String> {
    let unlike = |machine: &mut dyn Host| match machine.inspect(was, old, key) {
        Inspection::Seen(seen) => Ok(differences(was, &seen.found, seen.content_bytes)),
        Inspection::Failed(failure) => Err(failure.message),
        Inspection::Unsupported(why) => Err(why),
    };
    let different = unlike(machine)?;
    if different.is_empty() {
        return Ok(());
    }
    if let Some(failure) = machine.correct(was, &different, old, attic).failure {
        return Err(failure.message);
    }
    match unlike(machine)?.first() {
        Some(still) => Err(format!("{} is still {}", still.property, still.found.words())),
        None => Ok(()),
    }
}

/// Returns what the run put into the attic: contents by digest, and the digest of what first stood at each path.
fn old_contents(
    attic: &AtticStore,
    run: Uuid,
) -> Result<(OldContents, BTreeMap<String, Digest>), AgentError> {
    let mut contents = BTreeMap::new();
    let mut by_path = BTreeMap::new();
    for kept in attic.all().iter().filter(|kept| kept.run == Some(run)) {
        contents.insert(kept.digest.as_str().to_owned(), attic.contents(kept)?);
        by_path.entry(kept.path.clone()).or_insert_with(|| kept.digest.clone());
    }
    Ok((OldContents(contents), by_path))
}

/// Has a file's clause want the contents that stood there: what was concealed, or is to come back, is only in the attic.
fn with_old_contents(was: &Clause, by_path: &BTreeMap<String, Digest>) -> Clause {
    let mut was = was.clone();
    if was.address.kind() == "file"
        && let Some(digest) = by_path.get(was.name())
    {
        was.properties.insert("content".to_owned(), digest.as_str().into());
    }
    was
}
