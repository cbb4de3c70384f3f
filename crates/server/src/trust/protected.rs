//! The protected folder: the CA, the key of what is concealed, the key that signs evidence, and what must outlive a database that is put back to an
//! earlier day. It is backed up apart from the database.

use super::authority::Authority;
use super::evidence_keys::{EVIDENCE_KEY, EvidenceKeyError, EvidenceKeys};
use super::handed_out::{HandedOut, LastDatabase};
use super::noted_days::NotedDays;
use super::refusals::Refusals;
use super::secret::Secret;
use constans_core::digest::DigestKey;
use std::fs::{self, DirBuilder, File, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

const DIGEST_KEY: &str = "digest.key";
const CA_CERTIFICATE: &str = "ca.pem";
/// It is made last: where it is, all others are.
const CA_KEY: &str = "ca.key";
const LOCK: &str = "lock";

/// Why the protected folder cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ProtectedError {
    /// A file of it.
    #[error("cannot use {}", path.display())]
    File {
        /// Which.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// Others may read it.
    #[error("{} may be used by others than the server's account: its mode is {mode:04o}", path.display())]
    Mode {
        /// The file or the folder.
        path: PathBuf,
        /// Its mode.
        mode: u32,
    },
    /// A key is missing, although nodes and people rely on it.
    #[error("{} is {}, and the database is in use already", path.display(), if *is_there { "empty" } else { "missing" })]
    Lost {
        /// Which.
        path: PathBuf,
        /// Whether there is such a file.
        is_there: bool,
    },
    /// A key or certificate.
    #[error("the CA in {} cannot be used", path.display())]
    Certificate {
        /// Its path.
        path: PathBuf,
        /// Why.
        source: rcgen::Error,
    },
    /// The key that signs evidence.
    #[error(transparent)]
    Evidence(#[from] EvidenceKeyError),
}

impl ProtectedError {
    /// Returns what to do.
    pub fn hint(&self) -> &'static str {
        match self {
            Self::File { .. } => "the folder --protected belongs to the server's account, with mode 0700",
            Self::Mode { .. } => {
                "take the rights of group and others away: chmod 700 the folder, chmod 600 its files"
            }
            Self::Lost { .. } | Self::Certificate { .. } | Self::Evidence(_) => {
                "put the protected folder back from its backup: nodes trust the CA in it and no other. For a new fleet, name an empty database and an empty folder"
            }
        }
    }
}

/// The protected folder, opened.
pub struct ProtectedFolder {
    /// The CA.
    pub authority: Authority,
    /// The key under which what is concealed is named.
    pub key: DigestKey,
    /// The key that signs evidence.
    pub evidence: EvidenceKeys,
    /// The chain of days.
    pub days: NotedDays,
    /// The newest generation that was handed out.
    pub handed_out: HandedOut,
    /// Who was refused.
    pub refusals: Refusals,
    /// The database as it was last used.
    pub database: LastDatabase,
}

impl ProtectedFolder {
    /// Opens the folder. A new one is made for a database that nobody uses yet; one whose making was cut off is made again.
    ///
    /// # Errors
    ///
    /// Returns what is missing, may be read by others, or cannot be used.
    pub fn open(folder: &Path, is_database_in_use: bool) -> Result<Self, ProtectedError> {
        let at = |source| ProtectedError::File { path: folder.to_owned(), source };
        if is_database_in_use && !folder.exists() {
            return Err(ProtectedError::Lost { path: folder.to_owned(), is_there: false });
        }
        DirBuilder::new().recursive(true).mode(0o700).create(folder).map_err(at)?;
        only_ours(folder)?;
        let _one_at_a_time = lock(&folder.join(LOCK)).map_err(at)?;
        let is_whole = length(&folder.join(CA_KEY))?.is_some();
        if !is_whole && !is_database_in_use {
            make(folder)?;
        }
        let parts = [DIGEST_KEY, CA_CERTIFICATE, CA_KEY, EVIDENCE_KEY].map(|name| folder.join(name));
        for part in &parts {
            if length(part)?.is_none_or(|bytes| bytes == 0) {
                return Err(ProtectedError::Lost { path: part.clone(), is_there: part.exists() });
            }
        }
        for entry in fs::read_dir(folder).map_err(at)? {
            only_ours(&entry.map_err(at)?.path())?;
        }
        let [digest_key, certificate, ca_key, _] = parts;
        let read = |path: &Path| {
            fs::read_to_string(path).map_err(|source| ProtectedError::File { path: path.to_owned(), source })
        };
        let authority = Authority::new(read(&certificate)?, &read(&ca_key)?);
        Ok(Self {
            authority: authority
                .map_err(|source| ProtectedError::Certificate { path: folder.to_owned(), source })?,
            key: DigestKey::new(read(&digest_key)?.into_bytes()),
            evidence: EvidenceKeys::open(folder)?,
            days: NotedDays::new(folder),
            handed_out: HandedOut::open(folder).map_err(at)?,
            refusals: Refusals::new(folder),
            database: LastDatabase::new(folder),
        })
    }
}

fn make(folder: &Path) -> Result<(), ProtectedError> {
    let failed = |source| ProtectedError::Certificate { path: folder.to_owned(), source };
    let put = |name: &str, bytes: &[u8]| {
        let path = folder.join(name);
        put_whole(&path, bytes).map_err(|source| ProtectedError::File { path, source })
    };
    let secret =
        Secret::make().map_err(|source| ProtectedError::File { path: folder.join(DIGEST_KEY), source })?;
    let (certificate, key) = Authority::make().map_err(failed)?;
    EvidenceKeys::make(folder)?;
    put(DIGEST_KEY, secret.text().as_bytes())?;
    put(CA_CERTIFICATE, certificate.as_bytes())?;
    put(CA_KEY, key.as_bytes())
}

fn length(path: &Path) -> Result<Option<u64>, ProtectedError> {
    match fs::metadata(path) {
        Ok(metadata) => Ok(Some(metadata.len())),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(source) => Err(ProtectedError::File { path: path.to_owned(), source }),
    }
}

fn only_ours(path: &Path) -> Result<(), ProtectedError> {
    let metadata =
        fs::metadata(path).map_err(|source| ProtectedError::File { path: path.to_owned(), source })?;
    let mode = metadata.permissions().mode() & 0o7777;
    if mode & 0o077 == 0 { Ok(()) } else { Err(ProtectedError::Mode { path: path.to_owned(), mode }) }
}

/// Takes a lock that ends with the file that is returned.
pub(super) fn lock(path: &Path) -> io::Result<File> {
    let lock = OpenOptions::new().create(true).append(true).mode(0o600).open(path)?;
    lock.lock()?;
    Ok(lock)
}

/// Writes a file that others may not read durably, whole or not at all. Concurrent writers hold a
/// lock.
///
/// # Errors
///
/// Returns why it cannot be written.
pub fn put_whole(path: &Path, bytes: &[u8]) -> io::Result<()> {
    let new = path.with_added_extension("new");
    let mut file = OpenOptions::new().create(true).truncate(true).write(true).mode(0o600).open(&new)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    fs::rename(&new, path)?;
    sync_folder_of(path)
}

/// Makes durable that a file is there.
pub(super) fn sync_folder_of(path: &Path) -> io::Result<()> {
    File::open(path.parent().unwrap_or(Path::new("/")))?.sync_all()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn set_mode(path: &Path, mode: u32) {
        fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
    }

    #[test]
    fn a_lost_or_empty_key_stops_a_server_whose_database_is_in_use() {
        let above = tempfile::tempdir().unwrap();
        let folder = above.path().join("protected");
        assert!(matches!(
            ProtectedFolder::open(&folder, true),
            Err(ProtectedError::Lost { is_there: false, .. })
        ));
        assert!(!folder.exists(), "nothing is made in place of what was lost");
        let first = ProtectedFolder::open(&folder, false).unwrap().authority.fingerprint().to_owned();
        assert_eq!(ProtectedFolder::open(&folder, true).unwrap().authority.fingerprint(), first);
        for name in [DIGEST_KEY, CA_CERTIFICATE, CA_KEY, EVIDENCE_KEY] {
            let kept = fs::read(folder.join(name)).unwrap();
            fs::write(folder.join(name), "").unwrap();
            let error = ProtectedFolder::open(&folder, true).err().unwrap();
            assert!(
                error.to_string().ends_with(&format!("{name} is empty, and the database is in use already")),
                "{error}"
            );
            fs::remove_file(folder.join(name)).unwrap();
            let error = ProtectedFolder::open(&folder, true).err().unwrap();
            assert!(error.to_string().contains(&format!("{name} is missing")), "{error}");
            put_whole(&folder.join(name), &kept).unwrap();
        }
        assert_eq!(ProtectedFolder::open(&folder, true).unwrap().authority.fingerprint(), first);
    }

    #[test]
    fn a_making_that_was_cut_off_is_done_anew() {
        let above = tempfile::tempdir().unwrap();
        let folder = above.path().join("protected");
        ProtectedFolder::open(&folder, false).unwrap();
        fs::remove_file(folder.join(CA_KEY)).unwrap();
        fs::write(folder.join("ca.pem"), "cut o").unwrap();
        let made = ProtectedFolder::open(&folder, false).unwrap().authority.fingerprint().to_owned();
        assert_eq!(ProtectedFolder::open(&folder, true).unwrap().authority.fingerprint(), made);
    }

    #[test]
    fn what_others_may_read_is_named() {
        let above = tempfile::tempdir().unwrap();
        let folder = above.path().join("protected");
        ProtectedFolder::open(&folder, false).unwrap();
        for path in [folder.clone(), folder.join(DIGEST_KEY)] {
            let right = fs::metadata(&path).unwrap().permissions().mode();
            set_mode(&path, 0o755);
            let error = ProtectedFolder::open(&folder, true).err().unwrap();
            assert!(
                error.to_string().starts_with(&format!("{} may be used by others", path.display()))
                    && error.to_string().ends_with("0755"),
                "{error}"
            );
            set_mode(&path, right);
        }
    }
}
