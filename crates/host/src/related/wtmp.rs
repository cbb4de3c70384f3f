//! The list of sign-ins that the C library keeps (wtmp(5), `struct utmp` of glibc in its form of 384 bytes).

use super::ends_of;
use crate::error::HostError;
use crate::files::Files;
use constans_core::run::{RelatedKind, RelatedRecord};
use jiff::Timestamp;
use std::collections::HashMap;

/// Where it is kept.
pub const FILE: &str = "/var/log/wtmp";
const ENTRY: usize = 384;

const BOOT_TIME: i16 = 2;
const USER_PROCESS: i16 = 7;
const DEAD_PROCESS: i16 = 8;

/// Returns the sign-ins in it with their ends; none if there is no such file.
pub fn records(files: &Files) -> Result<Vec<RelatedRecord>, HostError> {
    let ends = ends_of(files, FILE)?;
    if let Some(end) = ends.iter().find(|end| end.len() % ENTRY != 0) {
        return Err(HostError::new(format!(
            "its {} bytes are no whole number of entries of {ENTRY} bytes",
            end.len()
        )));
    }
    Ok(read(&ends.concat()))
}

fn read(bytes: &[u8]) -> Vec<RelatedRecord> {
    let mut records: Vec<RelatedRecord> = Vec::new();
    // By line, as `pts/0`: the place of the sign-in that lasts there.
    let mut open: HashMap<String, usize> = HashMap::new();
    for entry in bytes.chunks_exact(ENTRY) {
        let Some(at) = at(entry) else { continue };
        let line = text(&entry[8..40]);
        match i16::from_ne_bytes([entry[0], entry[1]]) {
            BOOT_TIME => open.drain().for_each(|(_, place)| records[place].until = Some(at)),
            USER_PROCESS => {
                let (account, from) = (text(&entry[44..76]), text(&entry[76..332]));
                let from = if from.is_empty() { String::new() } else { format!(" from {from}") };
                // Whoever was there before has left without a word.
                if let Some(place) = open.insert(line.clone(), records.len()) {
                    records[place].until = Some(at);
                }
                records.push(RelatedRecord {
                    at,
                    until: None,
                    kind: RelatedKind::SignIn,
                    account: Some(account),
                    text: format!("on {line}{from}"),
                    source: FILE.to_owned(),
                });
            }
            DEAD_PROCESS => {
                if let Some(place) = open.remove(&line) {
                    records[place].until = Some(at);
                }
            }
            _ => {}
        }
    }
    records
}

fn at(entry: &[u8]) -> Option<Timestamp> {
    let number = |at: usize| Some(i32::from_ne_bytes(entry.get(at..at + 4)?.try_into().ok()?));
    // Seconds without a sign reach until 2106.
    Timestamp::new(i64::from(number(340)?.cast_unsigned()), number(344)?.clamp(0, 999_999) * 1_000).ok()
}

fn text(bytes: &[u8]) -> String {
    let end = bytes.iter().position(|byte| *byte == 0).unwrap_or(bytes.len());
    String::from_utf8_lossy(&bytes[..end]).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(sort: i16, line: &str, account: &str, host: &str, secs: u32) -> Vec<u8> {
        let mut entry = vec![0; ENTRY];
        entry[..2].copy_from_slice(&sort.to_ne_bytes());
        for (at, text) in [(8, line), (44, account), (76, host)] {
            entry[at..at + text.len()].copy_from_slice(text.as_bytes());
        }
        entry[340..344].copy_from_slice(&secs.to_ne_bytes());
        entry
    }

    #[test]
    fn sign_ins_end_with_their_process_a_restart_or_the_next_one_on_the_line() {
        let bytes = [
            entry(BOOT_TIME, "~", "reboot", "6.1", 1_795_600_000),
            entry(USER_PROCESS, "pts/0", "ops", "192.0.2.7", 1_795_600_010),
            entry(USER_PROCESS, "tty1", "tor", "", 1_795_600_020),
            entry(DEAD_PROCESS, "pts/0", "", "", 1_795_600_030),
            entry(USER_PROCESS, "pts/0", "pia", "2001:db8::7", 1_795_600_040),
            entry(USER_PROCESS, "pts/0", "ilse", "192.0.2.8", 1_795_600_050),
            entry(BOOT_TIME, "~", "reboot", "6.1", 1_795_600_060),
            entry(USER_PROCESS, "pts/1", "ops", "192.0.2.7", 1_795_600_070),
            entry(DEAD_PROCESS, "pts/9", "", "", 1_795_600_080),
        ]
        .concat();
        let words: Vec<String> = read(&bytes).iter().map(|record| record.words().write_dated()).collect();
        insta::assert_snapshot!(words.join("\n"), @"
        2026-11-25 09:46:50 UTC to 2026-11-25 09:47:10 UTC · signed in ops: on pts/0 from 192.0.2.7 (/var/log/wtmp)
        2026-11-25 09:47:00 UTC to 2026-11-25 09:47:40 UTC · signed in tor: on tty1 (/var/log/wtmp)
        2026-11-25 09:47:20 UTC to 2026-11-25 09:47:30 UTC · signed in pia: on pts/0 from 2001:db8::7 (/var/log/wtmp)
        2026-11-25 09:47:30 UTC to 2026-11-25 09:47:40 UTC · signed in ilse: on pts/0 from 192.0.2.8 (/var/log/wtmp)
        2026-11-25 09:47:50 UTC, and not ended · signed in ops: on pts/1 from 192.0.2.7 (/var/log/wtmp)
        ");
    }

    #[test]
    fn any_bytes_are_read_without_a_crash() {
        read(&[255; ENTRY * 3]);
        read(&[7; ENTRY + 100]);
    }
}
