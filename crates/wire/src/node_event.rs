//! What is noticed of nodes, as it is stored, and how it reads.

use constans_core::episode::ClosedAs;
use constans_core::node_status::NodeStatus;
use constans_core::sentence::Sentence;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// This many clauses are named by an event; the others are counted.
pub const MAX_NAMED: usize = 5;

/// The clauses of an event: the first of them by address, and the number of others.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct NamedClauses {
    /// The addresses of the first, at most [`MAX_NAMED`].
    pub clauses: Vec<String>,
    /// How many others there are.
    #[serde(default)]
    pub more: usize,
}

impl NamedClauses {
    /// Names the first of these clauses.
    pub fn of(addresses: impl IntoIterator<Item = String>) -> Self {
        let mut clauses: Vec<String> = addresses.into_iter().collect();
        clauses.sort_unstable();
        let more = clauses.len().saturating_sub(MAX_NAMED);
        clauses.truncate(MAX_NAMED);
        Self { clauses, more }
    }

    /// Returns whether there are none.
    pub fn is_empty(&self) -> bool {
        self.clauses.is_empty()
    }

    fn words(&self) -> String {
        let Some(first) = self.clauses.first() else { return String::new() };
        match self.clauses.len() - 1 + self.more {
            0 => first.clone(),
            1 => format!("{first} and 1 other clause"),
            others => format!("{first} and {others} other clauses"),
        }
    }
}

/// What was noticed of a node.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum NodeEvent {
    /// A run found drift that the run before it did not find.
    DriftFound {
        /// The run.
        run: Uuid,
        /// The clauses.
        #[serde(flatten)]
        clauses: NamedClauses,
    },
    /// Drift ended.
    DriftEnded {
        /// The run that noticed it.
        run: Uuid,
        /// How it ended.
        closed_as: ClosedAs,
        /// The clauses.
        #[serde(flatten)]
        clauses: NamedClauses,
    },
    /// A run failed, and the run before it did not.
    RunFailed {
        /// The run.
        run: Uuid,
        /// The clauses that failed.
        #[serde(flatten)]
        clauses: NamedClauses,
    },
    /// A run did not fail, and the run before it did.
    RunRecovered {
        /// The run.
        run: Uuid,
    },
    /// The node did not check in for longer than it may.
    Silent {
        /// Its last contact.
        last_contact: Timestamp,
    },
    /// It checked in again after it was silent.
    CheckedInAgain {
        /// Its last contact before that.
        silent_since: Timestamp,
    },
    /// Two machines check in with its identity.
    DuplicateIdentity,
    /// Its certificate ends soon, and it has not renewed it.
    CertificateEnds {
        /// When.
        ends_at: Timestamp,
    },
}

impl NodeEvent {
    /// The words of all kinds, as they are stored.
    pub const KINDS: [&str; 8] = [
        "drift_found",
        "drift_ended",
        "run_failed",
        "run_recovered",
        "silent",
        "checked_in_again",
        "duplicate_identity",
        "certificate_ends",
    ];

    /// Returns the run that noticed it, if one did.
    pub fn run(&self) -> Option<Uuid> {
        match self {
            Self::DriftFound { run, .. }
            | Self::DriftEnded { run, .. }
            | Self::RunFailed { run, .. }
            | Self::RunRecovered { run } => Some(*run),
            Self::Silent { .. }
            | Self::CheckedInAgain { .. }
            | Self::DuplicateIdentity
            | Self::CertificateEnds { .. } => None,
        }
    }

    /// Returns the status whose symbol and colour it is shown with.
    pub fn status(&self) -> Option<NodeStatus> {
        match self {
            Self::DriftFound { .. } => Some(NodeStatus::DriftFound),
            Self::DriftEnded { closed_as: ClosedAs::Corrected, .. } => Some(NodeStatus::DriftCorrected),
            Self::DriftEnded { .. } | Self::RunRecovered { .. } | Self::CheckedInAgain { .. } => {
                Some(NodeStatus::InLine)
            }
            Self::RunFailed { .. } => Some(NodeStatus::Failed),
            Self::Silent { .. } => Some(NodeStatus::Silent),
            Self::DuplicateIdentity | Self::CertificateEnds { .. } => None,
        }
    }

    /// Says it in a sentence that follows the name of the node.
    pub fn words(&self) -> Sentence {
        match self {
            Self::DriftFound { clauses, .. } => Sentence::new(format!("drift found: {}", clauses.words())),
            Self::DriftEnded { closed_as, clauses, .. } => {
                let how = match closed_as {
                    ClosedAs::Corrected => "drift corrected",
                    ClosedAs::ByHand => "drift ended by hand",
                    ClosedAs::ByRollout => "drift ended by a rollout",
                    ClosedAs::NotWanted => "drift ended, the clause is no longer desired",
                    ClosedAs::Retired => "drift ended, the node was retired",
                };
                Sentence::new(format!("{how}: {}", clauses.words()))
            }
            Self::RunFailed { clauses, .. } if clauses.is_empty() => Sentence::new("run failed"),
            Self::RunFailed { clauses, .. } => Sentence::new(format!("run failed: {}", clauses.words())),
            Self::RunRecovered { .. } => Sentence::new("run no longer fails"),
            Self::Silent { last_contact } => Sentence::new("silent, last contact ").ago(*last_contact),
            Self::CheckedInAgain { silent_since } => {
                Sentence::new("checked in again, silent since ").time(*silent_since)
            }
            Self::DuplicateIdentity => Sentence::new("duplicate identity: two machines check in with it"),
            Self::CertificateEnds { ends_at } => Sentence::new("certificate ends ").time(*ends_at),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn clauses(count: usize) -> NamedClauses {
        NamedClauses::of((0..count).rev().map(|at| format!("file:/etc/kiosk/{at:02}")))
    }

    #[test]
    fn an_event_names_few_clauses_and_counts_the_others() {
        assert_eq!(clauses(1).words(), "file:/etc/kiosk/00");
        assert_eq!(clauses(2).words(), "file:/etc/kiosk/00 and 1 other clause");
        let many = clauses(12);
        assert_eq!((many.clauses.len(), many.more), (MAX_NAMED, 7));
        assert_eq!(many.words(), "file:/etc/kiosk/00 and 11 other clauses");
    }

    #[test]
    fn each_kind_is_stored_by_a_word_of_the_list_and_reads_as_a_sentence() {
        let (run, at) = (Uuid::nil(), Timestamp::UNIX_EPOCH);
        let all = [
            (NodeEvent::DriftFound { run, clauses: clauses(1) }, "drift found: file:/etc/kiosk/00"),
            (
                NodeEvent::DriftEnded { run, closed_as: ClosedAs::Corrected, clauses: clauses(3) },
                "drift corrected: file:/etc/kiosk/00 and 2 other clauses",
            ),
            (NodeEvent::RunFailed { run, clauses: clauses(0) }, "run failed"),
            (NodeEvent::RunRecovered { run }, "run no longer fails"),
            (NodeEvent::Silent { last_contact: at }, "silent, last contact 1970-01-01 00:00:00 UTC"),
            (
                NodeEvent::CheckedInAgain { silent_since: at },
                "checked in again, silent since 1970-01-01 00:00:00 UTC",
            ),
            (NodeEvent::DuplicateIdentity, "duplicate identity: two machines check in with it"),
            (NodeEvent::CertificateEnds { ends_at: at }, "certificate ends 1970-01-01 00:00:00 UTC"),
        ];
        for ((event, words), kind) in all.iter().zip(NodeEvent::KINDS) {
            assert_eq!(json!(event)["kind"], kind);
            assert_eq!(event.words().write_dated(), *words);
            assert_eq!(&serde_json::from_value::<NodeEvent>(json!(event)).unwrap(), event);
        }
    }
}
