//! The time that a program goes by: the system's, or one that another program moves.
//!
//! Tests, the crowd and the demo's past need hours to pass in seconds, in several processes alike. A moved clock is written in a
//! file of eight bytes that each of them reads whenever it asks for the time: nanoseconds since 1970, little-endian.

use jiff::{SignedDuration, Timestamp};
use std::fs::{File, OpenOptions};
use std::io;
use std::os::unix::fs::FileExt as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// A clock. It is cheap to clone; clones show the same time.
#[derive(Debug, Clone, Default)]
pub struct Clock {
    moved: Option<Arc<File>>,
    wrong_by: SignedDuration,
}

impl Clock {
    /// Returns the system's clock.
    pub fn system() -> Self {
        Self::default()
    }

    /// Reads the clock from a file, as [`MovedClock`] writes it.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be read, or that it holds no time.
    pub fn in_file(path: &Path) -> io::Result<Self> {
        let file = File::open(path)?;
        read(&file)?;
        Ok(Self { moved: Some(Arc::new(file)), wrong_by: SignedDuration::ZERO })
    }

    /// Returns a clock that is ahead of this one by so much, or behind it.
    #[must_use]
    pub fn wrong_by(&self, difference: SignedDuration) -> Self {
        Self { moved: self.moved.clone(), wrong_by: difference }
    }

    /// Returns the time.
    pub fn now(&self) -> Timestamp {
        let right = self.moved.as_ref().and_then(|file| read(file).ok()).unwrap_or_else(Timestamp::now);
        right.checked_add(self.wrong_by).unwrap_or(right)
    }

    /// Returns whether another program moves it.
    pub fn is_moved(&self) -> bool {
        self.moved.is_some()
    }
}

fn read(file: &File) -> io::Result<Timestamp> {
    let mut bytes = [0; 8];
    file.read_exact_at(&mut bytes, 0)?;
    Timestamp::from_nanosecond(i64::from_le_bytes(bytes).into()).map_err(io::Error::other)
}

/// A clock that this program moves, and others read.
#[derive(Debug)]
pub struct MovedClock {
    file: File,
    path: PathBuf,
}

impl MovedClock {
    /// Sets up a clock in a file.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be written.
    pub fn create(path: &Path, at: Timestamp) -> io::Result<Self> {
        let file = OpenOptions::new().create(true).truncate(true).read(true).write(true).open(path)?;
        let clock = Self { file, path: path.to_owned() };
        clock.set(at)?;
        Ok(clock)
    }

    /// Sets the time, to the nanosecond, for everybody who reads this clock.
    ///
    /// # Errors
    ///
    /// Returns why the file cannot be written, or that the time is outside of 1677 to 2262.
    pub fn set(&self, at: Timestamp) -> io::Result<()> {
        let nanoseconds = i64::try_from(at.as_nanosecond()).map_err(io::Error::other)?;
        self.file.write_all_at(&nanoseconds.to_le_bytes(), 0)
    }

    /// Returns the clock to read.
    ///
    /// # Errors
    ///
    /// Returns why its file cannot be read.
    pub fn clock(&self) -> io::Result<Clock> {
        Clock::in_file(&self.path)
    }

    /// Returns its path.
    pub fn path(&self) -> &Path {
        &self.path
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moved_clock_is_read_as_it_was_set_and_stands_still_in_between() {
        let folder = tempfile::tempdir().unwrap();
        let day = Timestamp::from_nanosecond(1_700_000_000_123_456_789).unwrap();
        let moved = MovedClock::create(&folder.path().join("clock"), day).unwrap();
        let (clock, late) =
            (moved.clock().unwrap(), moved.clock().unwrap().wrong_by(SignedDuration::from_hours(-3)));
        assert_eq!((clock.now(), clock.now()), (day, day));
        moved.set(day + SignedDuration::from_hours(5)).unwrap();
        assert_eq!(
            (clock.now(), late.now()),
            (day + SignedDuration::from_hours(5), day + SignedDuration::from_hours(2))
        );
        assert!(clock.is_moved() && !Clock::system().is_moved());
    }

    #[test]
    fn a_file_without_a_time_is_no_clock() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("clock");
        assert_eq!(Clock::in_file(&path).unwrap_err().kind(), io::ErrorKind::NotFound);
        std::fs::write(&path, b"noon").unwrap();
        assert_eq!(Clock::in_file(&path).unwrap_err().kind(), io::ErrorKind::UnexpectedEof);
    }
}
