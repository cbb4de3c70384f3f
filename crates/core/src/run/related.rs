//! What the system had on record of the time in which a drift happened: related, and no proof of who did it.

use super::cause::DriftWindow;
use crate::sentence::Sentence;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// The most records of one drift; the nearest to its detection stay.
pub const MAX_RELATED: usize = 20;

/// The records of the time in which a drift happened, gathered by the agent when it first found it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RelatedRecords {
    /// The time that was searched: the drift happened in it.
    pub window: DriftWindow,
    /// What was found, by time; at most [`MAX_RELATED`].
    pub records: Vec<RelatedRecord>,
    /// How many more there were.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub left_out: u64,
    /// What could not be searched.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub not_searched: Vec<NotSearched>,
}

/// One record.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct RelatedRecord {
    /// When it was.
    pub at: Timestamp,
    /// Until when, for a sign-in that ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub until: Option<Timestamp>,
    /// What it is a record of.
    pub kind: RelatedKind,
    /// The account that it names.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// What it says, in words.
    pub text: String,
    /// Where it stands on the node: a file, or the journal.
    pub source: String,
}

/// What something is a record of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum RelatedKind {
    /// The times and the owner of the file that drifted.
    File,
    /// Somebody was signed in.
    SignIn,
    /// A command that was run by sudo.
    Sudo,
    /// A record of the kernel's audit that names the path.
    Audit,
    /// Packages came, went or changed version.
    Packages,
}

impl RelatedKind {
    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::SignIn => "signed in",
            Self::Sudo => "sudo",
            Self::Audit => "audit",
            Self::Packages => "packages",
        }
    }
}

/// Something that could not be searched for records.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct NotSearched {
    /// What it is.
    pub source: String,
    /// Why it could not be searched.
    pub why: String,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_zero(count: &u64) -> bool {
    *count == 0
}

impl RelatedRecords {
    /// Chooses the records of this window from all that were found: what happened in it, and who was signed in at any time of it.
    pub fn of(window: DriftWindow, found: Vec<RelatedRecord>, not_searched: Vec<NotSearched>) -> Self {
        // Some logs have no parts of a second.
        let from = Timestamp::from_second(window.from.as_second()).unwrap_or(window.from);
        let is_within = |record: &RelatedRecord| {
            let until = match record.kind {
                // A sign-in without an end lasts still.
                RelatedKind::SignIn => record.until.unwrap_or(window.to),
                _ => record.at,
            };
            record.at <= window.to && from <= until
        };
        let mut records: Vec<RelatedRecord> = found
            .into_iter()
            .filter(|record| record.kind == RelatedKind::File || is_within(record))
            .collect();
        records.sort_unstable();
        records.dedup();
        let left_out = records.len().saturating_sub(MAX_RELATED);
        // What the file itself says is never left out.
        let mut dropped = 0;
        records.retain(|record| {
            let stays = record.kind == RelatedKind::File || dropped == left_out;
            dropped += usize::from(!stays);
            stays
        });
        Self { window, records, left_out: left_out as u64, not_searched }
    }

    /// Returns them in words, one sentence each.
    pub fn words(&self) -> Vec<Sentence> {
        let left_out = (self.left_out > 0)
            .then(|| Sentence::new(format!("{} earlier records of this time were left out", self.left_out)));
        let not_searched = self
            .not_searched
            .iter()
            .map(|one| Sentence::new(format!("{} could not be searched: {}", one.source, one.why)));
        let nothing = self
            .records
            .is_empty()
            .then(|| Sentence::new("no record of ").then(self.window_words()).text(" was found on the node"));
        nothing
            .into_iter()
            .chain(self.records.iter().map(RelatedRecord::words))
            .chain(left_out)
            .chain(not_searched)
            .collect()
    }

    fn window_words(&self) -> Sentence {
        Sentence::new("the time from ").time(self.window.from).text(" to ").time(self.window.to)
    }
}

impl RelatedRecord {
    /// Returns it in words.
    pub fn words(&self) -> Sentence {
        let sentence = Sentence::default().time(self.at);
        let sentence = match (self.kind, self.until) {
            (RelatedKind::SignIn, Some(until)) => sentence.text(" to ").time(until),
            (RelatedKind::SignIn, None) => sentence.text(", and not ended"),
            _ => sentence,
        };
        let account = self.account.as_ref().map(|account| format!(" {account}")).unwrap_or_default();
        sentence.text(format!(" · {}{account}: {} ({})", self.kind.words(), self.text, self.source))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(minute: i64) -> Timestamp {
        Timestamp::from_second(1_795_600_000 + 60 * minute).unwrap()
    }

    fn record(kind: RelatedKind, from: i64, until: Option<i64>) -> RelatedRecord {
        RelatedRecord {
            at: at(from),
            until: until.map(at),
            kind,
            account: Some("ops".into()),
            text: "from 192.0.2.7".into(),
            source: "the journal".into(),
        }
    }

    fn chosen(found: Vec<RelatedRecord>) -> Vec<i64> {
        let window = DriftWindow { from: at(10), to: at(20) };
        let related = RelatedRecords::of(window, found, Vec::new());
        related.records.iter().map(|record| at(0).duration_until(record.at).as_mins()).collect()
    }

    #[test]
    fn who_was_signed_in_at_any_time_of_the_window_is_related() {
        let sign_in = |from, until| record(RelatedKind::SignIn, from, until);
        let all = vec![
            sign_in(1, Some(9)),
            sign_in(2, Some(10)),
            sign_in(3, None),
            sign_in(12, Some(14)),
            sign_in(20, Some(40)),
            sign_in(21, None),
        ];
        assert_eq!(chosen(all), [2, 3, 12, 20]);
    }

    #[test]
    fn what_happened_outside_of_the_window_is_not_but_the_file_always_says_its_times() {
        let all = vec![
            record(RelatedKind::Sudo, 9, None),
            record(RelatedKind::Sudo, 11, None),
            record(RelatedKind::Packages, 21, None),
            record(RelatedKind::File, 2, None),
        ];
        assert_eq!(chosen(all), [2, 11]);
    }

    #[test]
    fn a_log_without_parts_of_a_second_has_what_happened_in_the_second_of_the_beginning() {
        let window = DriftWindow { from: at(10) + jiff::SignedDuration::from_millis(69), to: at(20) };
        let related = RelatedRecords::of(window, vec![record(RelatedKind::Packages, 10, None)], Vec::new());
        assert_eq!(related.records.len(), 1);
    }

    #[test]
    fn the_nearest_to_the_detection_stay_and_what_is_left_out_is_counted() {
        let mut all: Vec<_> = (0..30).map(|_| record(RelatedKind::Sudo, 10, None)).collect();
        for (second, one) in all.iter_mut().enumerate() {
            one.at += jiff::SignedDuration::from_secs(second as i64);
        }
        all.push(record(RelatedKind::File, 1, None));
        let window = DriftWindow { from: at(10), to: at(20) };
        let related = RelatedRecords::of(window, all, Vec::new());
        assert_eq!((related.records.len(), related.left_out), (MAX_RELATED, 11));
        assert_eq!(related.records[0].kind, RelatedKind::File);
        assert_eq!(related.records[19].at, at(10) + jiff::SignedDuration::from_secs(29));
    }

    #[test]
    fn they_say_when_who_what_and_where_it_stands() {
        let window = DriftWindow { from: at(10), to: at(20) };
        let not_searched =
            vec![NotSearched { source: "the audit log".into(), why: "Permission denied".into() }];
        let found = vec![record(RelatedKind::SignIn, 12, Some(14)), record(RelatedKind::SignIn, 15, None)];
        let related = RelatedRecords::of(window, found, not_searched);
        let words: Vec<String> = related.words().iter().map(Sentence::write_dated).collect();
        insta::assert_snapshot!(words.join("\n"), @"
        2026-11-25 09:58:40 UTC to 2026-11-25 10:00:40 UTC · signed in ops: from 192.0.2.7 (the journal)
        2026-11-25 10:01:40 UTC, and not ended · signed in ops: from 192.0.2.7 (the journal)
        the audit log could not be searched: Permission denied
        ");
        let none = RelatedRecords::of(window, Vec::new(), Vec::new());
        insta::assert_snapshot!(none.words()[0].write_dated(), @"no record of the time from 2026-11-25 09:56:40 UTC to 2026-11-25 10:06:40 UTC was found on the node");
    }
}
