//! The last contact of a node, its problems, and the one status that lists show.
//!
//! Statuses of runs are the business of [`crate::run`].

use crate::run::Status;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// Whether a node checked in when it promised.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum LastContact {
    /// It was, or its promise is not over yet.
    OnTime,
    /// It is past its promise by more than is usual.
    Late,
    /// It is past the cut-off.
    Silent,
    /// It never checked in.
    NeverReported,
}

/// After this many promised spans without a word a node is silent.
pub const DEFAULT_CUT_OFF: i32 = 3;

/// The last check-in of a node.
#[derive(Debug, Clone, Copy)]
pub struct Promise {
    /// Its time.
    pub heard_at: Timestamp,
    /// When its next check-in is due.
    pub next_at: Timestamp,
}

impl Promise {
    /// Returns the last moment at which the node is on time: the promise, and the larger of 10 % of the promised span and
    /// 60 s.
    pub fn on_time_until(&self) -> Timestamp {
        let slack = (self.span() / 10).max(SignedDuration::from_secs(60));
        self.next_at + slack
    }

    /// Returns the last moment at which the node is not silent: `cut_off` promised spans.
    pub fn silent_after(&self, cut_off: i32) -> Timestamp {
        (self.heard_at + self.span() * cut_off).max(self.on_time_until())
    }

    fn span(&self) -> SignedDuration {
        self.next_at.duration_since(self.heard_at)
    }
}

/// What is wrong about a node beside the status of its runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum NodeProblem {
    /// What is wanted of it cannot be resolved.
    StateUnusable,
    /// Two machines were seen with its identity.
    DuplicateIdentity,
    /// Its certificate ends soon, and was not renewed.
    CertificateEnds,
    /// It checks in, and does not run.
    RunsOverdue,
    /// What its agent remembered was lost.
    MemoryLost,
    /// Its agent could not be upgraded to the version that its settings name.
    AgentNotUpgraded,
    /// Its clock differs from the server's.
    ClockOff,
}

impl NodeProblem {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::StateUnusable,
        Self::DuplicateIdentity,
        Self::CertificateEnds,
        Self::RunsOverdue,
        Self::MemoryLost,
        Self::AgentNotUpgraded,
        Self::ClockOff,
    ];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::StateUnusable => "state unusable",
            Self::DuplicateIdentity => "duplicate identity",
            Self::CertificateEnds => "certificate ends",
            Self::RunsOverdue => "runs overdue",
            Self::MemoryLost => "memory lost",
            Self::AgentNotUpgraded => "agent not upgraded",
            Self::ClockOff => "clock off",
        }
    }
}

/// A certificate that ends within this many hours was not renewed as it should have been: a quarter of its life.
pub const CERTIFICATE_ENDS_WITHIN_HOURS: i64 = 45 * 24;
/// A clock that differs by more seconds is off.
pub const CLOCK_TOLERANCE_SECS: i64 = 60;

/// What is known of a node, as far as its problems depend on it.
#[derive(Debug, Clone, Copy)]
pub struct ProblemInputs {
    /// The state of its last contact.
    pub last_contact: LastContact,
    /// Whether its state cannot be resolved.
    pub is_unusable: bool,
    /// Whether two machines were seen with its identity.
    pub has_duplicate_identity: bool,
    /// Whether its memory was lost.
    pub is_memory_lost: bool,
    /// Whether the last upgrade of its agent failed.
    pub is_upgrade_failed: bool,
    /// End of the validity of its certificate.
    pub certificate_ends: Option<Timestamp>,
    /// When its next full run is overdue, [`overdue_after`] the last one.
    pub overdue_at: Option<Timestamp>,
    /// Its clock minus the server's.
    pub clock_off: SignedDuration,
}

/// Returns how long after its last full run a node's runs are overdue: three of its longest times between two runs, and a
/// minute.
pub fn overdue_after(interval: SignedDuration) -> SignedDuration {
    interval * 3 + SignedDuration::from_secs(60)
}

/// Returns the problems of a node at `now`, the most severe first. Runs are overdue only while the node checks in on time.
pub fn problems(node: &ProblemInputs, now: Timestamp) -> Vec<NodeProblem> {
    let ends_soon =
        |end: Timestamp| end.duration_since(now) < SignedDuration::from_hours(CERTIFICATE_ENDS_WITHIN_HOURS);
    let is_off = node.clock_off.abs() > SignedDuration::from_secs(CLOCK_TOLERANCE_SECS);
    let all = [
        (node.is_unusable, NodeProblem::StateUnusable),
        (node.has_duplicate_identity, NodeProblem::DuplicateIdentity),
        (node.certificate_ends.is_some_and(ends_soon), NodeProblem::CertificateEnds),
        (
            node.last_contact == LastContact::OnTime && node.overdue_at.is_some_and(|overdue| now > overdue),
            NodeProblem::RunsOverdue,
        ),
        (node.is_memory_lost, NodeProblem::MemoryLost),
        (node.is_upgrade_failed, NodeProblem::AgentNotUpgraded),
        (is_off, NodeProblem::ClockOff),
    ];
    all.into_iter().filter_map(|(is_so, problem)| is_so.then_some(problem)).collect()
}

/// The one status that a node is shown by, the most severe first as people look for it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the words are those of Status and of the vocabulary")]
pub enum NodeStatus {
    Failed,
    StateUnusable,
    DriftFound,
    Unmet,
    Silent,
    NeverReported,
    RolloutWaiting,
    DriftCorrected,
    RolledOut,
    NotAllSeen,
    InLine,
    Revoked,
    Retired,
}

impl NodeStatus {
    /// All of them.
    pub const ALL: [Self; 13] = [
        Self::Failed,
        Self::StateUnusable,
        Self::DriftFound,
        Self::Unmet,
        Self::Silent,
        Self::NeverReported,
        Self::RolloutWaiting,
        Self::DriftCorrected,
        Self::RolledOut,
        Self::NotAllSeen,
        Self::InLine,
        Self::Revoked,
        Self::Retired,
    ];

    /// Returns it in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::Failed => Status::Failed.words(),
            Self::StateUnusable => NodeProblem::StateUnusable.words(),
            Self::DriftFound => Status::DriftFound.words(),
            Self::Unmet => Status::Unmet.words(),
            Self::Silent => "silent",
            Self::NeverReported => "never reported",
            Self::RolloutWaiting => Status::RolloutWaiting.words(),
            Self::DriftCorrected => Status::DriftCorrected.words(),
            Self::RolledOut => Status::RolledOut.words(),
            Self::NotAllSeen => Status::NotAllSeen.words(),
            Self::InLine => Status::InLine.words(),
            Self::Revoked => "revoked",
            Self::Retired => "retired",
        }
    }
}

/// Returns the status of a node: refused, no usable state, never reported, silent, else the status of its last full run.
pub fn node_status(
    is_revoked: bool,
    is_unusable: bool,
    last_contact: LastContact,
    last_run: Option<Status>,
) -> NodeStatus {
    match (last_contact, last_run) {
        _ if is_revoked => NodeStatus::Revoked,
        _ if is_unusable => NodeStatus::StateUnusable,
        (LastContact::NeverReported, _) => NodeStatus::NeverReported,
        (LastContact::Silent, _) => NodeStatus::Silent,
        (_, None) => NodeStatus::NeverReported,
        (_, Some(Status::Failed)) => NodeStatus::Failed,
        (_, Some(Status::DriftFound)) => NodeStatus::DriftFound,
        (_, Some(Status::Unmet)) => NodeStatus::Unmet,
        (_, Some(Status::RolloutWaiting)) => NodeStatus::RolloutWaiting,
        (_, Some(Status::DriftCorrected)) => NodeStatus::DriftCorrected,
        (_, Some(Status::RolledOut)) => NodeStatus::RolledOut,
        (_, Some(Status::NotAllSeen)) => NodeStatus::NotAllSeen,
        (_, Some(Status::InLine)) => NodeStatus::InLine,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(secs: i64) -> Timestamp {
        Timestamp::from_second(secs).unwrap()
    }

    #[test]
    fn a_node_is_late_past_its_promise_and_silent_past_the_cut_off() {
        for (promised, on_time_until, silent_after) in
            [(900, 990, 2_700), (60, 120, 180), (10, 70, 70), (0, 60, 60)]
        {
            let promise = Promise { heard_at: at(0), next_at: at(promised) };
            assert_eq!(
                (promise.on_time_until(), promise.silent_after(DEFAULT_CUT_OFF)),
                (at(on_time_until), at(silent_after)),
                "promised {promised}"
            );
        }
    }

    #[test]
    fn troubles_are_raised_past_their_bounds_and_not_before() {
        let day = 86_400;
        let fine = ProblemInputs {
            last_contact: LastContact::OnTime,
            is_unusable: false,
            has_duplicate_identity: false,
            is_memory_lost: false,
            is_upgrade_failed: false,
            certificate_ends: Some(at(45 * day)),
            overdue_at: Some(at(-2_760) + overdue_after(SignedDuration::from_secs(900))),
            clock_off: SignedDuration::from_secs(-60),
        };
        assert_eq!(problems(&fine, at(0)), []);
        for (node, expected) in [
            (
                ProblemInputs { certificate_ends: Some(at(45 * day - 1)), ..fine },
                NodeProblem::CertificateEnds,
            ),
            (ProblemInputs { overdue_at: Some(at(-1)), ..fine }, NodeProblem::RunsOverdue),
            (ProblemInputs { clock_off: SignedDuration::from_secs(-61), ..fine }, NodeProblem::ClockOff),
            (ProblemInputs { is_memory_lost: true, ..fine }, NodeProblem::MemoryLost),
            (ProblemInputs { is_upgrade_failed: true, ..fine }, NodeProblem::AgentNotUpgraded),
            (ProblemInputs { has_duplicate_identity: true, ..fine }, NodeProblem::DuplicateIdentity),
            (ProblemInputs { is_unusable: true, ..fine }, NodeProblem::StateUnusable),
        ] {
            assert_eq!(problems(&node, at(0)), [expected]);
        }
        let silent =
            ProblemInputs { last_contact: LastContact::Silent, overdue_at: Some(at(-9_999)), ..fine };
        assert_eq!(problems(&silent, at(0)), [], "a silent node's runs are not overdue, it is silent");
    }

    #[test]
    fn a_node_has_one_sign_and_silence_hides_what_it_said_before() {
        let in_line = Some(Status::InLine);
        for (revoked, unusable, last_contact, last_run, expected) in [
            (true, true, LastContact::Silent, in_line, NodeStatus::Revoked),
            (false, true, LastContact::Silent, in_line, NodeStatus::StateUnusable),
            (false, false, LastContact::Silent, Some(Status::Failed), NodeStatus::Silent),
            (false, false, LastContact::OnTime, None, NodeStatus::NeverReported),
            (false, false, LastContact::Late, in_line, NodeStatus::InLine),
            (false, false, LastContact::OnTime, Some(Status::DriftFound), NodeStatus::DriftFound),
        ] {
            assert_eq!(node_status(revoked, unusable, last_contact, last_run), expected);
        }
    }
}
