//! Kits as folders on a disk, for client and agent: read within bounds, and checked on a thread with a large stack.

pub mod bounds;

use constans_core::check::{Checked, Surroundings, check, check_single};
use constans_core::document::KitFiles;
use constans_core::kit::Kit;
use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// The most files that a kit may have.
pub const MAX_FILES: usize = 20_000;
/// The largest sum of a kit's files, in bytes.
pub const MAX_BYTES: u64 = 256 * 1024 * 1024;
const LARGE_STACK_BYTES: usize = 64 * 1024 * 1024;

/// Why a kit's folder cannot be read.
#[derive(Debug, thiserror::Error)]
pub enum ReadKitError {
    /// The folder or a file in it.
    #[error("cannot read {}: {source}", path.display())]
    Io {
        /// Which.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A link could lead out of the kit.
    #[error("{} is a symbolic link, which a kit may not contain", .0.display())]
    Link(PathBuf),
    /// Neither a file nor a folder.
    #[error("{} is neither a file nor a folder", .0.display())]
    Odd(PathBuf),
    /// A file name that is not UTF-8 or has control characters.
    #[error("{} has a name that cannot be written in a document", .0.display())]
    Name(PathBuf),
    /// Too much of it.
    #[error("{} holds more than {MAX_FILES} files or {MAX_BYTES} bytes", .0.display())]
    TooLarge(PathBuf),
}

impl ReadKitError {
    /// Returns what to do.
    pub fn hint(&self) -> &'static str {
        match self {
            Self::Io { source, .. } if source.kind() == io::ErrorKind::NotFound => {
                "name the folder of kit.toml"
            }
            Self::Io { source, .. } if source.kind() == io::ErrorKind::NotADirectory => {
                "a kit is a folder; name a single document by --file"
            }
            Self::Io { .. } => "check its permissions",
            Self::Link(_) => "replace the link by the file",
            Self::Odd(_) => "remove it from the kit",
            Self::Name(_) => "give it another name",
            Self::TooLarge(_) => "is this the kit's own folder? Large files belong into packages",
        }
    }
}

/// Reads a kit's folder. Names that begin with a dot are left out.
///
/// # Errors
///
/// Returns the first thing that is not a kit's: links, odd files, too much of it.
pub fn read_kit(folder: &Path) -> Result<KitFiles, ReadKitError> {
    let mut files = BTreeMap::new();
    let mut bytes_left = MAX_BYTES;
    let mut folders = vec![(folder.to_owned(), String::new())];
    while let Some((here, prefix)) = folders.pop() {
        let failed = |source| ReadKitError::Io { path: here.clone(), source };
        for entry in fs::read_dir(&here).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            let path = entry.path();
            let name =
                entry.file_name().into_string().ok().filter(|name| !name.chars().any(char::is_control));
            let name = name.ok_or_else(|| ReadKitError::Name(path.clone()))?;
            if name.starts_with('.') {
                continue;
            }
            let failed = |source| ReadKitError::Io { path: path.clone(), source };
            let metadata = fs::symlink_metadata(&path).map_err(failed)?;
            if metadata.is_symlink() {
                return Err(ReadKitError::Link(path));
            }
            if metadata.is_dir() {
                folders.push((path, format!("{prefix}{name}/")));
                continue;
            }
            if !metadata.is_file() {
                return Err(ReadKitError::Odd(path));
            }
            bytes_left = bytes_left
                .checked_sub(metadata.len())
                .ok_or_else(|| ReadKitError::TooLarge(folder.to_owned()))?;
            if files.len() >= MAX_FILES {
                return Err(ReadKitError::TooLarge(folder.to_owned()));
            }
            files.insert(format!("{prefix}{name}"), fs::read(&path).map_err(failed)?);
        }
    }
    Ok(KitFiles::new(files))
}

/// Reads and checks a kit's folder; `beside` are folders of kits that it may require.
///
/// # Errors
///
/// Returns why a folder cannot be read; what is wrong in the kit are findings.
pub fn check_folder(folder: &Path, beside: &[PathBuf]) -> Result<CheckedFolder, ReadKitError> {
    check_folder_knowing(folder, &Known { beside, ..Known::default() })
}

/// What a check of a folder is given beside it.
#[derive(Debug, Default)]
pub struct Known<'a> {
    /// Folders of kits that it may require.
    pub beside: &'a [PathBuf],
    /// The labels that nodes have.
    pub labels: Option<&'a BTreeSet<String>>,
    /// Texts that an editor has not saved yet, by their paths below the folder.
    pub unsaved: BTreeMap<String, Vec<u8>>,
}

/// The same, knowing more.
///
/// # Errors
///
/// Returns why a folder cannot be read; what is wrong in the kit are findings.
pub fn check_folder_knowing(folder: &Path, known: &Known<'_>) -> Result<CheckedFolder, ReadKitError> {
    let files = read_kit(folder)?.with(&known.unsaved);
    let kits = read_beside(folder, &files, known.beside)?;
    let name = name_of(folder);
    let surroundings = Surroundings { kits: &kits, labels: known.labels, ..Surroundings::default() };
    let checked = on_large_stack(|| check(files.clone(), name.as_deref(), surroundings));
    Ok(CheckedFolder { files, checked, beside: kits })
}

/// Reads files as a kit, as far as they can be read.
pub fn read_files(files: BTreeMap<String, Vec<u8>>) -> Option<Kit> {
    on_large_stack(|| check(KitFiles::new(files), None, Surroundings::default()).kit)
}

/// A kit that was read from its folder.
#[derive(Debug)]
pub struct CheckedFolder {
    /// Its files.
    pub files: KitFiles,
    /// The result of the check.
    pub checked: Checked,
    /// The other kits that were at hand.
    pub beside: Vec<Kit>,
}

fn name_of(folder: &Path) -> Option<String> {
    folder
        .canonicalize()
        .ok()
        .and_then(|path| path.file_name().map(|name| name.to_string_lossy().into_owned()))
}

/// Reads the kits that are named, and those that are beside the kit's folder and are required by it or by one of them.
fn read_beside(folder: &Path, files: &KitFiles, named: &[PathBuf]) -> Result<Vec<Kit>, ReadKitError> {
    let read = |folder: &Path| -> Result<Option<Kit>, ReadKitError> {
        let (files, name) = (read_kit(folder)?, name_of(folder));
        Ok(on_large_stack(|| check(files, name.as_deref(), Surroundings::default()).kit))
    };
    let mut kits = Vec::new();
    for folder in named {
        kits.extend(read(folder)?);
    }
    let parent = folder.canonicalize().ok().and_then(|path| path.parent().map(Path::to_owned));
    let own =
        on_large_stack(|| check(KitFiles::new(only_manifest(files)), None, Surroundings::default()).kit);
    let required_by = |kit: &Kit| kit.requires.iter().map(|one| one.kit.clone()).collect::<Vec<_>>();
    let mut open: Vec<String> = own.iter().chain(&kits).flat_map(required_by).collect();
    while let Some(name) = open.pop() {
        let lies_beside = parent
            .as_ref()
            .map(|parent| parent.join(&name))
            .filter(|folder| folder.join("kit.toml").is_file());
        let (Some(folder), false) = (lies_beside, kits.iter().any(|kit| kit.name == name)) else { continue };
        if let Some(kit) = read(&folder)?.filter(|kit| kit.name == name) {
            open.extend(required_by(&kit));
            kits.push(kit);
        }
    }
    Ok(kits)
}

fn only_manifest(files: &KitFiles) -> BTreeMap<String, Vec<u8>> {
    files.get("kit.toml").map(|bytes| ("kit.toml".to_owned(), bytes.to_vec())).into_iter().collect()
}

/// Reads and checks a single baseline document.
///
/// # Errors
///
/// Returns why the file cannot be read; what is wrong in it are findings.
pub fn check_document(path: &Path) -> Result<CheckedFolder, ReadKitError> {
    let failed = |source| ReadKitError::Io { path: path.to_owned(), source };
    if fs::metadata(path).map_err(failed)?.len() > MAX_BYTES {
        return Err(ReadKitError::TooLarge(path.to_owned()));
    }
    let contents = fs::read(path).map_err(failed)?;
    let name = path.display().to_string();
    let files = KitFiles::new(BTreeMap::from([(name.clone(), contents.clone())]));
    Ok(CheckedFolder { files, checked: on_large_stack(|| check_single(&name, contents)), beside: Vec::new() })
}

/// Does something on a thread with a large stack, as checking and resolving need it.
///
/// # Panics
///
/// Panics if the thread cannot be started, or with what `work` panics with.
pub fn on_large_stack<T: Send>(work: impl FnOnce() -> T + Send) -> T {
    std::thread::scope(|scope| {
        let thread = std::thread::Builder::new()
            .stack_size(LARGE_STACK_BYTES)
            .spawn_scoped(scope, work)
            .expect("a thread can be started");
        thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_in_a_kit_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir(folder.path().join("copies")).unwrap();
        std::os::unix::fs::symlink("/etc/shadow", folder.path().join("copies/x")).unwrap();
        assert!(matches!(read_kit(folder.path()), Err(ReadKitError::Link(_))));
    }

    #[test]
    fn files_are_known_by_their_paths_below_the_folder_and_hidden_ones_are_left_out() {
        let folder = tempfile::tempdir().unwrap();
        fs::create_dir_all(folder.path().join("baselines")).unwrap();
        fs::write(folder.path().join("kit.toml"), "").unwrap();
        fs::write(folder.path().join(".notes"), "").unwrap();
        fs::write(folder.path().join("baselines/a.toml"), "").unwrap();
        assert_eq!(
            read_kit(folder.path()).unwrap().paths().collect::<Vec<_>>(),
            ["baselines/a.toml", "kit.toml"]
        );
    }
}
