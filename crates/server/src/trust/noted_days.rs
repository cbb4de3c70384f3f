//! The chain of days as it was noted outside of the database: whoever rewrites the database does not rewrite it.

use super::protected::{lock, sync_folder_of};
use constans_core::evidence::DayLink;
use std::collections::BTreeMap;
use std::fs::{self, OpenOptions};
use std::io::{self, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::{Path, PathBuf};

/// A file to which days are only added, a line each: the day, its rows, the digest of its tree, the digest of the chain.
#[derive(Clone)]
pub struct NotedDays(PathBuf);

impl NotedDays {
    /// Names the file in the protected folder.
    pub fn new(folder: &Path) -> Self {
        Self(folder.join("learned-days.txt"))
    }

    /// Returns the days that were noted. A day that was noted twice, since a database was put back, is the later one.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be read.
    pub fn all(&self) -> io::Result<BTreeMap<String, DayLink>> {
        let text = match fs::read_to_string(&self.0) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(BTreeMap::new()),
            Err(error) => return Err(error),
        };
        let read = |line: &str| {
            let mut words = line.split(' ');
            let link = DayLink {
                day: words.next()?.parse().ok()?,
                rows: words.next()?.parse().ok()?,
                root: words.next()?.to_owned(),
                digest: words.next()?.to_owned(),
            };
            Some((link.day.to_string(), link))
        };
        // A line that was cut off is none; the day is noted again.
        Ok(text.lines().filter_map(read).collect())
    }

    /// Notes the days of a chain that are not noted yet. Returns those that were noted otherwise: they stay as they are.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be read or written.
    pub fn note(&self, days: &[DayLink]) -> io::Result<Vec<DayLink>> {
        let _one_at_a_time = lock(&self.0.with_extension("lock"))?;
        let noted = self.all()?;
        let lines: String = days
            .iter()
            .filter(|link| !noted.contains_key(&link.day.to_string()))
            .map(|link| format!("\n{} {} {} {}", link.day, link.rows, link.root, link.digest))
            .collect();
        if !lines.is_empty() {
            let mut file = OpenOptions::new().create(true).append(true).mode(0o600).open(&self.0)?;
            file.write_all(lines.as_bytes())?;
            file.sync_all()?;
            sync_folder_of(&self.0)?;
        }
        Ok(days
            .iter()
            .filter_map(|link| noted.get(&link.day.to_string()).filter(|noted| *noted != link))
            .cloned()
            .collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_that_was_noted_stays_and_another_digest_of_it_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let noted = NotedDays::new(folder.path());
        let first = DayLink::chained("", "2026-11-20".parse().unwrap(), 4, "aa".into());
        let second = DayLink::chained(&first.digest, "2026-11-21".parse().unwrap(), 0, "bb".into());
        assert_eq!(noted.note(std::slice::from_ref(&first)).unwrap(), []);
        assert_eq!(noted.note(&[first.clone(), second.clone()]).unwrap(), []);
        let rewritten = DayLink::chained("", first.day, 3, "aa".into());
        assert_eq!(noted.note(&[rewritten, second.clone()]).unwrap(), std::slice::from_ref(&first));
        let days: Vec<DayLink> = noted.all().unwrap().into_values().collect();
        assert_eq!(days, [first.clone(), second.clone()]);
        // A line that was cut off by a crash is noted again.
        let text = fs::read_to_string(&noted.0).unwrap();
        fs::write(&noted.0, &text[..text.len() - 70]).unwrap();
        assert_eq!(noted.note(&[first.clone(), second.clone()]).unwrap(), []);
        assert_eq!(noted.all().unwrap().into_values().collect::<Vec<_>>(), [first, second]);
    }
}
