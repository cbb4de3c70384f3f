//! Bounds for checking hostile kits: a second process of the same program tries the check first, with limited memory and
//! time.
//!
//! A render or a condition can be built to explode; nothing in the same process could stop it without ending that.

use constans_core::check::{Surroundings, check};
use constans_core::document::KitFiles;
use rustix::process::{Resource, Rlimit, setrlimit};
use std::collections::BTreeMap;
use std::io::{self, Read, Write};
use std::process::{Command, Stdio};

/// The most memory that a check may take, in bytes of address space, unless CONSTANS_CHECK_MEMORY is set.
pub const MAX_MEMORY: u64 = 2 * 1024 * 1024 * 1024;
/// The most processor time that a check may take, in seconds.
pub const MAX_SECONDS: u64 = 60;

/// Says what was ended, and what to do.
pub fn stopped_words() -> (String, &'static str) {
    (
        format!(
            "the check exceeded {} MiB of memory or {MAX_SECONDS} s and was stopped (C0114)",
            most_memory() >> 20
        ),
        "a render or condition grows without limit: check the baselines one by one with constans kit check FILE",
    )
}

fn most_memory() -> u64 {
    std::env::var("CONSTANS_CHECK_MEMORY").ok().and_then(|bytes| bytes.parse().ok()).unwrap_or(MAX_MEMORY)
}

/// Binds this process: beyond the bounds the operating system ends it.
///
/// # Errors
///
/// Returns why the operating system does not.
pub fn bind_this_process() -> io::Result<()> {
    let limit = |most: u64| Rlimit { current: Some(most), maximum: Some(most) };
    setrlimit(Resource::As, limit(most_memory()))?;
    setrlimit(Resource::Cpu, limit(MAX_SECONDS))?;
    // What is ended leaves no copy of its memory behind.
    setrlimit(Resource::Core, limit(0))?;
    Ok(())
}

/// Returns whether a program, which binds itself, ends by itself; its output is not shown.
///
/// # Errors
///
/// Returns why it could not be started.
pub fn ends_by_itself(program: &mut Command, input: &[u8]) -> io::Result<bool> {
    let mut started = program.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null()).spawn()?;
    if let Some(mut to) = started.stdin.take() {
        // It may have been ended before it read everything.
        let _ = to.write_all(input);
    }
    Ok(started.wait()?.success())
}

/// Writes files so that [`check_from`] can read them.
pub fn as_input<'f>(kits: impl Iterator<Item = &'f KitFiles>) -> Vec<u8> {
    let mut input = Vec::new();
    let mut part = |bytes: &[u8]| {
        input.extend_from_slice(&(bytes.len() as u64).to_le_bytes());
        input.extend_from_slice(bytes);
    };
    for files in kits {
        part(&(files.paths().count() as u64).to_le_bytes());
        for path in files.paths() {
            part(path.as_bytes());
            part(files.get(path).unwrap_or_default());
        }
    }
    input
}

/// Checks the kits of an input, the first with all others beside it; what it finds is not kept.
///
/// # Errors
///
/// Returns why the input cannot be read.
pub fn check_from(mut input: impl Read) -> io::Result<()> {
    let mut bytes = Vec::new();
    input.read_to_end(&mut bytes)?;
    let mut rest = bytes.as_slice();
    let mut kits: Vec<KitFiles> = Vec::new();
    while !rest.is_empty() {
        let count = part(&mut rest)?
            .try_into()
            .map(u64::from_le_bytes)
            .map_err(|_| io::Error::other("the input is cut"))?;
        let mut files = BTreeMap::new();
        for _ in 0..count {
            let path = String::from_utf8_lossy(part(&mut rest)?).into_owned();
            files.insert(path, part(&mut rest)?.to_vec());
        }
        kits.push(KitFiles::new(files));
    }
    crate::on_large_stack(|| {
        let mut kits = kits.into_iter();
        let first = kits.next();
        let others: Vec<_> =
            kits.filter_map(|files| check(files, None, Surroundings::default()).kit).collect();
        first.map(|files| check(files, None, Surroundings { kits: &others, ..Surroundings::default() }));
    });
    Ok(())
}

fn part<'b>(rest: &mut &'b [u8]) -> io::Result<&'b [u8]> {
    let cut = || io::Error::other("the input is cut");
    let (length, after) = rest.split_first_chunk::<8>().ok_or_else(cut)?;
    let length = usize::try_from(u64::from_le_bytes(*length)).map_err(|_| cut())?;
    let (part, after) = after.split_at_checked(length).ok_or_else(cut)?;
    *rest = after;
    Ok(part)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_survive_the_way_to_the_second_process_and_a_cut_input_is_told() {
        let files = KitFiles::new(BTreeMap::from([
            ("kit.toml".to_owned(), b"[kit]".to_vec()),
            ("copies/x".to_owned(), vec![0, 255]),
        ]));
        let input = as_input([&files, &files].into_iter());
        assert!(check_from(input.as_slice()).is_ok());
        assert!(check_from(&input[..input.len() - 1]).is_err());
    }
}
