//! Detecting whether a program and its children make progress: by output, CPU time and I/O (proc(5)).

use std::collections::{BTreeMap, BTreeSet};
use std::fs;

/// What a program and its descendants have used so far. Any change of it is progress.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Used {
    /// Each process with its CPU time in ticks and the bytes that it read and wrote.
    processes: BTreeMap<u32, (u64, u64)>,
}

impl Used {
    /// Returns what a process and all that descend from it have used.
    pub fn by(root: u32) -> Self {
        let mut parents: BTreeMap<u32, Vec<u32>> = BTreeMap::new();
        let mut ticks: BTreeMap<u32, u64> = BTreeMap::new();
        for entry in fs::read_dir("/proc").into_iter().flatten().flatten() {
            let Some(pid) = entry.file_name().to_str().and_then(|name| name.parse::<u32>().ok()) else {
                continue;
            };
            let Some((parent, used)) =
                fs::read_to_string(entry.path().join("stat")).ok().as_deref().and_then(parent_and_ticks)
            else {
                continue;
            };
            parents.entry(parent).or_default().push(pid);
            ticks.insert(pid, used);
        }
        let (mut processes, mut next, mut seen) = (BTreeMap::new(), vec![root], BTreeSet::new());
        while let Some(pid) = next.pop().filter(|pid| seen.insert(*pid)) {
            processes.insert(pid, (ticks.get(&pid).copied().unwrap_or(0), bytes_of(pid)));
            next.extend(parents.get(&pid).into_iter().flatten());
        }
        Self { processes }
    }
}

/// Reads parent, and CPU time with that of ended children; the program's name before them may hold anything.
fn parent_and_ticks(stat: &str) -> Option<(u32, u64)> {
    let fields: Vec<&str> = stat.rsplit_once(") ")?.1.split(' ').collect();
    let ticks = fields.get(11..15)?.iter().filter_map(|ticks| ticks.parse::<u64>().ok()).sum();
    Some((fields.get(1)?.parse().ok()?, ticks))
}

fn bytes_of(pid: u32) -> u64 {
    let io = fs::read_to_string(format!("/proc/{pid}/io")).unwrap_or_default();
    let of = |name: &str| {
        io.lines().find_map(|line| line.strip_prefix(name)?.trim().parse::<u64>().ok()).unwrap_or(0)
    };
    of("rchar:").wrapping_add(of("wchar:"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::{Command, Stdio};
    use std::thread::sleep;
    use std::time::Duration;

    #[test]
    fn a_descendant_that_works_is_progress_and_one_that_sleeps_is_none() {
        let moves = |script: &str| {
            let mut child =
                Command::new("/bin/sh").args(["-c", script]).stdout(Stdio::null()).spawn().unwrap();
            sleep(Duration::from_millis(300));
            let before = Used::by(child.id());
            sleep(Duration::from_millis(300));
            let after = Used::by(child.id());
            let _ = child.kill();
            let _ = child.wait();
            before != after
        };
        assert!(!moves("exec sleep 5"));
        // In a session of its own, as apt starts dpkg.
        assert!(moves("setsid sh -c 'i=0; while [ $i -lt 300000 ]; do i=$((i+1)); done' & wait"));
    }
}
