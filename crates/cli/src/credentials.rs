//! Which servers a person signed in to, kept in a file that only that person can read.

use crate::error::ClientError;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::{DirBuilderExt as _, OpenOptionsExt as _, PermissionsExt as _};
use std::path::{Path, PathBuf};

/// The servers, the one that was signed in to last at the end.
#[derive(Default, Serialize, Deserialize)]
pub struct Credentials {
    servers: Vec<Known>,
}

/// A server that a person signed in to.
#[derive(Clone, Serialize, Deserialize)]
pub struct Known {
    /// Its address for people.
    pub url: String,
    /// The fingerprint of its CA.
    pub ca: String,
    /// The person.
    pub person: String,
    /// The token.
    pub token: String,
    /// End of its validity.
    pub expires_at: Timestamp,
}

impl Credentials {
    /// Reads the file; without one nobody signed in.
    pub fn read() -> Result<Self, ClientError> {
        let path = path()?;
        let failed = |error: &dyn std::fmt::Display| {
            ClientError::new(
                format!("{} cannot be read: {error}", path.display()),
                "delete it; constans sign-in URL creates a new one",
            )
        };
        match fs::metadata(&path) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(error) => return Err(failed(&error)),
            Ok(metadata) if metadata.permissions().mode() & 0o077 != 0 => {
                return Err(ClientError::new(
                    format!("other accounts can read {}", path.display()),
                    format!("chmod 600 {}; sign in again if it may have been read", path.display()),
                ));
            }
            Ok(_) => {}
        }
        let text = fs::read(&path).map_err(|error| failed(&error))?;
        serde_json::from_slice(&text).map_err(|error| failed(&error))
    }

    /// Returns a server by its address, or the one that was signed in to last.
    pub fn find(self, url: Option<&str>) -> Result<Known, ClientError> {
        let url = url.map(|url| url.trim_end_matches('/'));
        let known = self.servers.into_iter().rev().find(|known| url.is_none_or(|url| known.url == url));
        let known = known.ok_or_else(|| {
            let at = url.unwrap_or("URL");
            ClientError::new(
                if url.is_some() {
                    format!("not signed in to {at}")
                } else {
                    "not signed in to a server".to_owned()
                },
                format!("constans sign-in {at}"),
            )
        })?;
        if known.expires_at <= Timestamp::now() {
            return Err(ClientError::new(
                format!(
                    "{} signed in to {} until {}",
                    known.person,
                    known.url,
                    constans_terminal::time(known.expires_at)
                ),
                format!("constans sign-in {}", known.url),
            ));
        }
        Ok(known)
    }

    /// Keeps a server, as the last one.
    pub fn keep(mut self, known: Known) -> Result<PathBuf, ClientError> {
        self.servers.retain(|other| other.url != known.url);
        self.servers.push(known);
        self.write()
    }

    /// Forgets a server.
    pub fn forget(mut self, url: &str) -> Result<PathBuf, ClientError> {
        self.servers.retain(|other| other.url != url);
        self.write()
    }

    fn write(&self) -> Result<PathBuf, ClientError> {
        let path = path()?;
        let write = || -> io::Result<()> {
            if let Some(folder) = path.parent() {
                fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
            }
            // Never readable by others, not even for a moment.
            let new = path.with_extension("new");
            let _ = fs::remove_file(&new);
            let mut file = OpenOptions::new().create_new(true).write(true).mode(0o600).open(&new)?;
            file.write_all(&serde_json::to_vec_pretty(self)?)?;
            file.sync_all()?;
            fs::rename(&new, &path)
        };
        write().map_err(|error| {
            ClientError::new(
                format!("{} cannot be written: {error}", path.display()),
                "CONSTANS_CREDENTIALS names another file",
            )
        })?;
        Ok(path)
    }
}

fn path() -> Result<PathBuf, ClientError> {
    let of = |name: &str| std::env::var_os(name).filter(|value| !value.is_empty());
    let folder =
        || of("XDG_CONFIG_HOME").map(PathBuf::from).or_else(|| Some(Path::new(&of("HOME")?).join(".config")));
    of("CONSTANS_CREDENTIALS")
        .map(PathBuf::from)
        .or_else(|| Some(folder()?.join("constans/credentials.json")))
        .ok_or_else(|| {
            ClientError::new("no place for credentials", "set HOME, or name a file in CONSTANS_CREDENTIALS")
        })
}

/// The ids of keys that sign evidence, of the servers that this person got evidence from, kept beside the credentials.
pub struct KnownKeys(PathBuf);

impl KnownKeys {
    /// Names the file.
    pub fn here() -> Result<Self, ClientError> {
        Ok(Self(path()?.with_file_name("evidence-keys.txt")))
    }

    /// Returns the ids; none if no evidence was got yet.
    pub fn ids(&self) -> Result<Vec<String>, ClientError> {
        match fs::read_to_string(&self.0) {
            Ok(text) => Ok(text
                .lines()
                .filter_map(|line| line.split_whitespace().next())
                .map(str::to_owned)
                .collect()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
            Err(error) => Err(self.failed(&error)),
        }
    }

    /// Keeps an id that a server showed over an authenticated connection.
    pub fn keep(&self, id: &str, server: &str) -> Result<(), ClientError> {
        if self.ids()?.iter().any(|known| known == id) {
            return Ok(());
        }
        let write = || -> io::Result<()> {
            if let Some(folder) = self.0.parent() {
                fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
            }
            let mut file = OpenOptions::new().create(true).append(true).mode(0o600).open(&self.0)?;
            writeln!(file, "{id} {server}")
        };
        write().map_err(|error| self.failed(&error))
    }

    fn failed(&self, error: &io::Error) -> ClientError {
        ClientError::new(
            format!("{} cannot be used: {error}", self.0.display()),
            "constans evidence verify FILE --key ID needs it not",
        )
    }
}
