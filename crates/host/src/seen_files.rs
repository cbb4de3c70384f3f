//! Cache of the digests of files, valid while their metadata is unchanged.

use crate::contents::Contents;
use crate::files::{Entry, Files, Stamp, is_fresh, unread};
use crate::note::{whole_note, write_note};
use constans_core::digest::{Digest, Named};
use foldhash::{HashMap, HashMapExt as _};
use jiff::Timestamp;
use std::fs;
use std::io::{self, Read as _};
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc::{Receiver, Sender, channel};
use std::thread;

/// Fewer files are not worth further threads.
const FEWEST_FOR_THREADS: usize = 64;
const MAX_THREADS: usize = 4;
/// How much these threads step back (sched(7)).
const READERS_NICE: i32 = 5;
/// The number of files that are read before they are reported.
const BATCH: usize = 32;
/// This many bytes are read at once.
const PIECE_BYTES: usize = 16 * 1024;
/// This many bytes a line of the note mostly has.
const DEFAULT_LINE: usize = 160;

/// What is known of the contents of files.
#[derive(Debug, Default)]
pub struct SeenFiles {
    files: Vec<(Arc<str>, Known)>,
    /// The index of each path.
    positions: HashMap<Arc<str>, usize>,
    is_changed: bool,
    /// What threads read meanwhile.
    coming: Option<Receiver<Vec<Read>>>,
}

/// What is known of one file.
#[derive(Debug, Clone, PartialEq)]
enum Known {
    Nothing,
    /// A thread reads it.
    Coming,
    Seen(SeenFile),
}

#[derive(Debug, Clone, PartialEq)]
struct SeenFile {
    stamp: Stamp,
    digest: Digest,
    read_at: Timestamp,
}

/// The place of a file that was read, and what was found if it could be.
type Read = (usize, Option<SeenFile>);

impl SeenFiles {
    /// Reads what is known from a file of the agent's own; if that is not whole, nothing is.
    pub fn read(path: &Path) -> Self {
        let text = fs::read_to_string(path).unwrap_or_default();
        let lines = whole_note(&text).unwrap_or_default();
        let usual = lines.len() / DEFAULT_LINE;
        let mut seen_files = Self {
            files: Vec::with_capacity(usual),
            positions: HashMap::with_capacity(usual),
            ..Self::default()
        };
        for (path, seen) in lines.lines().filter_map(read_line) {
            seen_files.know(path, Known::Seen(seen));
        }
        seen_files
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
        let mut lines = String::with_capacity(self.files.len() * DEFAULT_LINE);
        for (path, known) in &self.files {
            match known {
                Known::Seen(seen) if is_fresh(seen.read_at, now) => write_line(&mut lines, path, seen),
                _ => {}
            }
        }
        write_note(path, &lines)?;
        self.is_changed = false;
        Ok(())
    }

    fn know(&mut self, path: &str, known: Known) -> usize {
        if let Some(&at) = self.positions.get(path) {
            self.files[at].1 = known;
            return at;
        }
        let (at, path) = (self.files.len(), Arc::from(path));
        self.positions.insert(Arc::clone(&path), at);
        self.files.push((path, known));
        at
    }

    /// Has threads read ahead, in their order, the files of which nothing is known. What cannot be read is left to its own turn.
    pub fn read_ahead<'p>(
        &mut self,
        files: &Files,
        wanted: impl Iterator<Item = Ahead<'p>>,
        contents: &Arc<dyn Contents>,
        now: Timestamp,
    ) {
        let is_known = |this: &Self, path: &str| {
            let known = this.positions.get(path).map(|&at| &this.files[at].1);
            matches!(known, Some(Known::Seen(seen)) if is_fresh(seen.read_at, now))
        };
        let mut unknown: Vec<Unread> = Vec::new();
        for Ahead { path, wanted, most } in wanted {
            if !is_known(self, path) {
                let at = self.know(path, Known::Coming);
                unknown.push(Unread { at, path: self.files[at].0.clone(), wanted: wanted.into(), most });
            }
        }
        if unknown.is_empty() {
            return;
        }
        let threads = if unknown.len() < FEWEST_FOR_THREADS {
            1
        } else {
            thread::available_parallelism().map_or(1, usize::from).min(MAX_THREADS)
        };
        let (sender, coming) = channel();
        let (unknown, next): (Arc<[Unread]>, Arc<AtomicUsize>) = (unknown.into(), Arc::default());
        for _ in 0..threads {
            let (files, contents, unknown, next, sender) =
                (files.clone(), contents.clone(), unknown.clone(), next.clone(), sender.clone());
            thread::spawn(move || read_batches(&files, &*contents, &unknown, &next, &sender, now));
        }
        self.coming = Some(coming);
    }

    /// Takes in what a thread has read, waiting for it; returns whether there was any.
    fn take_in(&mut self) -> bool {
        let Some(batch) = self.coming.as_ref().and_then(|coming| coming.recv().ok()) else {
            if self.coming.take().is_some() {
                self.files
                    .iter_mut()
                    .filter(|(_, known)| *known == Known::Coming)
                    .for_each(|(_, known)| *known = Known::Nothing);
            }
            return false;
        };
        self.is_changed = true;
        for (at, seen) in batch {
            self.files[at].1 = seen.map_or(Known::Nothing, Known::Seen);
        }
        true
    }

    /// Returns the digest of a file's contents as it is now, and when it was read if not right now.
    ///
    /// # Errors
    ///
    /// Returns why it could not be read.
    pub fn digest(
        &mut self,
        files: &Files,
        (path, most): (&str, u64),
        entry: &Entry,
        now: Timestamp,
    ) -> Result<(Digest, Option<Timestamp>), crate::HostError> {
        if entry.size > most {
            return Ok((unread(entry.size), None));
        }
        let stamp = &entry.stamp;
        if let Some(&at) = self.positions.get(path) {
            while self.files[at].1 == Known::Coming && self.take_in() {}
            match &self.files[at].1 {
                Known::Seen(seen) if seen.stamp == *stamp && stamp.vouches_for(seen.read_at, now) => {
                    return Ok((seen.digest.clone(), Some(seen.read_at)));
                }
                _ => {}
            }
        }
        self.is_changed = true;
        match files.stamped_digest(path, most, &mut [0; PIECE_BYTES], None)? {
            Some((stamp, digest)) => {
                self.know(path, Known::Seen(SeenFile { stamp, digest: digest.clone(), read_at: now }));
                Ok((digest, None))
            }
            None => Err(crate::HostError::new(format!("{path} disappeared while it was read"))),
        }
    }
}

/// A file that is to be read ahead.
pub struct Ahead<'p> {
    /// Its path.
    pub path: &'p str,
    /// The name of the contents that are wanted of it.
    pub wanted: &'p str,
    /// It is only read if it has at most this many bytes.
    pub most: u64,
}

/// A file that is to be read, and its place.
struct Unread {
    at: usize,
    path: Arc<str>,
    wanted: Box<str>,
    most: u64,
}

/// Larger contents are not held in memory to be compared.
const MAX_COMPARED: u64 = 1024 * 1024;

/// Reads the batches that no other thread has begun, and reports each.
fn read_batches(
    files: &Files,
    contents: &dyn Contents,
    unknown: &[Unread],
    next: &AtomicUsize,
    sender: &Sender<Vec<Read>>,
    now: Timestamp,
) {
    // Of this thread alone (setpriority(2)): the run itself goes first, and so does what the node is there for.
    let _ = rustix::process::setpriority_process(None, READERS_NICE);
    let mut piece = vec![0; PIECE_BYTES];
    let mut read = |Unread { at, path, wanted, most }: &Unread| {
        let kept = contents.open(wanted).filter(|(_, size)| *size <= MAX_COMPARED);
        let expected = kept.and_then(|(mut kept, size)| {
            let mut bytes = Vec::with_capacity(size as usize);
            kept.read_to_end(&mut bytes).ok().map(|_| bytes)
        });
        let expected = expected.as_deref().map(|contents| Named { name: wanted, contents });
        let found = files.stamped_digest(path, *most, &mut piece, expected).ok().flatten();
        (*at, found.map(|(stamp, digest)| SeenFile { stamp, digest, read_at: now }))
    };
    while let Some(batch) = unknown.chunks(BATCH).nth(next.fetch_add(1, Ordering::Relaxed)) {
        if sender.send(batch.iter().map(&mut read).collect()).is_err() {
            return;
        }
    }
}

fn read_line(line: &str) -> Option<(&str, SeenFile)> {
    let mut fields = line.splitn(8, ' ');
    let mut number = || fields.next()?.parse::<i64>().ok();
    let stamp = Stamp {
        device: number()?,
        inode: number()?,
        size: number()?,
        mtime_ns: number()?,
        ctime_ns: number()?,
    };
    let read_at = Timestamp::from_nanosecond(number()?.into()).ok()?;
    let digest = fields.next()?.parse().ok()?;
    Some((fields.next()?, SeenFile { stamp, digest, read_at }))
}

fn write_line(to: &mut String, path: &str, SeenFile { stamp, digest, read_at }: &SeenFile) {
    let Stamp { device, inode, size, mtime_ns, ctime_ns } = stamp;
    let read_ns = i64::try_from(read_at.as_nanosecond()).unwrap_or(0);
    let mut digits = itoa::Buffer::new();
    for number in [*device, *inode, *size, *mtime_ns, *ctime_ns, read_ns] {
        to.push_str(digits.format(number));
        to.push(' ');
    }
    to.extend([digest.as_str(), " ", path, "\n"]);
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::contents::NoContents;
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
        seen.digest(&root.files, ("/issue", u64::MAX), &entry, now).unwrap()
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
        assert_eq!(
            look(&root, &mut seen, then).1,
            None,
            "a reading in the future says nothing: the clock was set back"
        );

        // Same size, and its mtime put back: only the ctime shows the change.
        let modified = fs::metadata(root.folder.path().join("issue")).unwrap().modified().unwrap();
        fs::write(root.folder.path().join("issue"), "SKERRY LINE\n").unwrap();
        fs::File::options()
            .write(true)
            .open(root.folder.path().join("issue"))
            .unwrap()
            .set_modified(modified)
            .unwrap();
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
        let (name, contents) = (of_contents(b"Skerry Line\n"), Arc::new(NoContents) as Arc<dyn Contents>);
        let wanted = ["/issue", "/not-there"].into_iter().map(|path| Ahead {
            path,
            wanted: name.as_str(),
            most: u64::MAX,
        });
        seen.read_ahead(&root.files, wanted, &contents, then);
        seen.keep(&note, then).unwrap();
        let mut again = SeenFiles::read(&note);
        assert_eq!(again.files.as_slice(), &seen.files[..1]);
        assert_eq!(look(&root, &mut again, then), (of_contents(b"Skerry Line\n"), Some(then)));
        let text = fs::read_to_string(&note).unwrap();
        fs::write(&note, &text[..text.len() - 3]).unwrap();
        assert!(SeenFiles::read(&note).files.is_empty());
    }
}
