//! Contents of files that were read before: as long as a file's metadata is the same, they are known without reading.

use crate::files::{Entry, Files, Stamp, is_fresh};
use crate::note::{whole_note, write_note};
use constans_core::digest::Digest;
use jiff::Timestamp;
use std::collections::{HashMap, HashSet};
use std::fmt::Write as _;
use std::path::Path;
use std::sync::Arc;
use std::sync::mpsc::{Receiver, channel};
use std::thread;
use std::{fs, io};

/// Fewer files are not worth further threads.
const FEWEST_FOR_THREADS: usize = 64;
const MOST_THREADS: usize = 4;
/// How much these threads step back (sched(7)).
const READERS_NICE: i32 = 5;
/// So many files are read before they are told of.
const BATCH: usize = 32;
/// So many bytes a line of the note mostly has.
const USUAL_LINE: usize = 160;

/// What is known of the contents of files.
#[derive(Debug, Default)]
pub struct SeenFiles {
    known: HashMap<Arc<str>, SeenFile>,
    is_changed: bool,
    /// What threads read meanwhile, and the paths that have not come from them yet.
    coming: Option<Receiver<Vec<Read>>>,
    awaited: HashSet<Arc<str>>,
}

/// A path that was read, and what was found if it could be.
type Read = (Arc<str>, Option<SeenFile>);

#[derive(Debug, Clone, PartialEq)]
struct SeenFile {
    stamp: Stamp,
    digest: Digest,
    read_at: Timestamp,
}

impl SeenFiles {
    /// Reads what is known from a file of the agent's own; if that is not whole, nothing is.
    pub fn read(path: &Path) -> Self {
        let text = fs::read_to_string(path).unwrap_or_default();
        let lines = whole_note(&text).unwrap_or_default();
        let mut known = HashMap::with_capacity(lines.len() / USUAL_LINE);
        known.extend(lines.lines().filter_map(|line| {
            let mut fields = line.splitn(8, ' ');
            let mut number = || fields.next()?.parse::<i64>().ok();
            let stamp = Stamp { device: number()?, inode: number()?, size: number()?, mtime_ns: number()?, ctime_ns: number()? };
            let read_at = Timestamp::from_nanosecond(number()?.into()).ok()?;
            let digest = fields.next()?.parse().ok()?;
            Some((fields.next()?.into(), SeenFile { stamp, digest, read_at }))
        }));
        Self { known, ..Self::default() }
    }

    /// Keeps what is known, if that is other than before. It need not outlast a power cut.
    ///
    /// # Errors
    ///
    /// Returns why it could not be written.
    pub fn keep(&mut self, path: &Path, now: Timestamp) -> io::Result<()> {
        while self.take_in() {}
        if !self.is_changed {
            return Ok(());
        }
        self.known.retain(|_, seen| is_fresh(seen.read_at, now));
        let mut lines = String::with_capacity(self.known.len() * USUAL_LINE);
        for (path, SeenFile { stamp, digest, read_at }) in &self.known {
            let Stamp { device, inode, size, mtime_ns, ctime_ns } = stamp;
            let read_ns = i64::try_from(read_at.as_nanosecond()).unwrap_or(0);
            let _ = writeln!(lines, "{device} {inode} {size} {mtime_ns} {ctime_ns} {read_ns} {digest} {path}");
        }
        write_note(path, &lines)?;
        self.is_changed = false;
        Ok(())
    }

    /// Has threads read ahead, in their order, the files of which nothing is known. What cannot be read is left to its own turn.
    pub fn read_ahead(&mut self, files: &Files, paths: &[&str], now: Timestamp) {
        let is_unknown = |path: &&&str| self.known.get(**path).is_none_or(|seen| !is_fresh(seen.read_at, now));
        let unknown: Vec<Arc<str>> = paths.iter().filter(is_unknown).map(|path| Arc::from(*path)).collect();
        if unknown.is_empty() {
            return;
        }
        let threads = if unknown.len() < FEWEST_FOR_THREADS { 1 } else { thread::available_parallelism().map_or(1, usize::from).min(MOST_THREADS) };
        let (sender, coming) = channel();
        for first in 0..threads {
            let mine: Vec<Arc<str>> = unknown.chunks(BATCH).skip(first).step_by(threads).flatten().cloned().collect();
            let (files, sender) = (files.clone(), sender.clone());
            thread::spawn(move || {
                // Of this thread alone (setpriority(2)): the run itself goes first, and so does what the node is there for.
                let _ = rustix::process::setpriority_process(None, READERS_NICE);
                for batch in mine.chunks(BATCH) {
                    let read = batch.iter().map(|path| (path.clone(), read_one(&files, path, now))).collect();
                    if sender.send(read).is_err() {
                        return;
                    }
                }
            });
        }
        self.awaited = unknown.into_iter().collect();
        self.coming = Some(coming);
    }

    /// Takes in what a thread has read, waiting for it; returns whether there was any.
    fn take_in(&mut self) -> bool {
        let Some(batch) = self.coming.as_ref().and_then(|coming| coming.recv().ok()) else {
            self.awaited.clear();
            self.coming = None;
            return false;
        };
        self.is_changed = true;
        for (path, seen) in batch {
            self.awaited.remove(&path);
            self.known.extend(seen.map(|seen| (path, seen)));
        }
        true
    }

    /// Returns the digest of a file's contents as it stands there now, and when it was read if not right now.
    ///
    /// # Errors
    ///
    /// Returns why it could not be read.
    pub fn digest(&mut self, files: &Files, path: &str, entry: &Entry, now: Timestamp) -> Result<(Digest, Option<Timestamp>), crate::HostError> {
        while self.awaited.contains(path) && self.take_in() {}
        let stamp = &entry.stamp;
        if let Some(seen) = self.known.get(path).filter(|seen| seen.stamp == *stamp && stamp.vouches_for(seen.read_at, now)) {
            return Ok((seen.digest.clone(), Some(seen.read_at)));
        }
        self.is_changed = true;
        match files.stamped_digest(path)? {
            Some((stamp, digest)) => {
                self.known.insert(path.into(), SeenFile { stamp, digest: digest.clone(), read_at: now });
                Ok((digest, None))
            }
            None => Err(crate::HostError::new(format!("{path} went away while it was looked at"))),
        }
    }
}

fn read_one(files: &Files, path: &str, now: Timestamp) -> Option<SeenFile> {
    let (stamp, digest) = files.stamped_digest(path).ok().flatten()?;
    Some(SeenFile { stamp, digest, read_at: now })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::files::READ_AGAIN_AFTER;
    use constans_core::digest::of_contents;
    use jiff::SignedDuration;

    const LONG_AGO: SignedDuration = SignedDuration::from_hours(2);

    struct Root {
        folder: tempfile::TempDir,
        files: Files,
    }

    fn root() -> Root {
        let folder = tempfile::tempdir().unwrap();
        let files = Files::below(folder.path());
        fs::write(folder.path().join("issue"), "Skerry Line\n").unwrap();
        Root { folder, files }
    }

    fn look(root: &Root, seen: &mut SeenFiles, now: Timestamp) -> (Digest, Option<Timestamp>) {
        let entry = root.files.look("/issue").unwrap().unwrap();
        seen.digest(&root.files, "/issue", &entry, now).unwrap()
    }

    #[test]
    fn a_file_is_known_by_its_metadata_until_they_change_or_a_day_is_over() {
        let (root, mut seen) = (root(), SeenFiles::default());
        // Looked at two hours from now: its ctime is older than that.
        let then = Timestamp::now() + LONG_AGO;
        let (digest, read_at) = look(&root, &mut seen, then);
        assert_eq!((digest, read_at), (of_contents(b"Skerry Line\n"), None));
        assert_eq!(look(&root, &mut seen, then + LONG_AGO).1, Some(then));
        assert_eq!(look(&root, &mut seen, then + READ_AGAIN_AFTER).1, None, "after a day it is read again");
        assert_eq!(look(&root, &mut seen, then).1, None, "a reading in the future says nothing: the clock was set back");

        // Same size, and its mtime put back: only the ctime tells.
        let modified = fs::metadata(root.folder.path().join("issue")).unwrap().modified().unwrap();
        fs::write(root.folder.path().join("issue"), "SKERRY LINE\n").unwrap();
        fs::File::options().write(true).open(root.folder.path().join("issue")).unwrap().set_modified(modified).unwrap();
        assert_eq!(look(&root, &mut seen, then + LONG_AGO), (of_contents(b"SKERRY LINE\n"), None));
    }

    #[test]
    fn what_was_changed_in_the_moment_of_the_reading_is_read_again() {
        let (root, mut seen) = (root(), SeenFiles::default());
        let now = Timestamp::now();
        look(&root, &mut seen, now);
        assert_eq!(look(&root, &mut seen, now).1, None);
    }

    #[test]
    fn what_is_known_outlasts_the_process_and_a_torn_note_is_nothing() {
        let (root, mut seen) = (root(), SeenFiles::default());
        let (note, then) = (root.folder.path().join("note"), Timestamp::now() + LONG_AGO);
        seen.read_ahead(&root.files, &["/issue", "/not-there"], then);
        seen.keep(&note, then).unwrap();
        let mut again = SeenFiles::read(&note);
        assert_eq!((&again.known, again.known.len()), (&seen.known, 1));
        assert_eq!(look(&root, &mut again, then), (of_contents(b"Skerry Line\n"), Some(then)));
        let text = fs::read_to_string(&note).unwrap();
        fs::write(&note, &text[..text.len() - 3]).unwrap();
        assert!(SeenFiles::read(&note).known.is_empty());
    }
}
