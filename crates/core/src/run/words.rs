//! What a run says of one clause, in words: the client, the agent and the console show the same sentences.

use super::cause::{Cause, DriftWindow, Newness};
use super::result::{
    Blocker, ClauseResult, Decision, FailureAt, Leave, MissedReaction, Outcome, PackageChange,
    ReactionResult, ReactionState,
};
use super::status::{Status, status_of_clause};
use crate::address::ClauseAddress;
use crate::sentence::{Sentence, span_words};
use crate::state::SwitchFrom;
use serde::{Deserialize, Serialize};

/// The result of a clause in words.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClauseWords {
    /// The status whose symbol and colour it is shown with.
    pub status: Status,
    /// Whether it is in line and nothing about it needs attention.
    pub is_quiet: bool,
    /// The outcome, or what an enforcing run would do.
    pub headline: Sentence,
    /// Why it was different.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cause: Option<Sentence>,
    /// What was replaced and where the old copy is, packages that changed, and reactions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<Sentence>,
    /// What the system had on record of the time in which it drifted: related, and no proof.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub related: Vec<Sentence>,
    /// What needs attention beside the outcome.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub warnings: Vec<Sentence>,
    /// What was left out of the comparison, and why.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub details: Vec<Sentence>,
}

impl ClauseResult {
    /// Returns the result in words.
    pub fn words(&self) -> ClauseWords {
        ClauseWords {
            status: self.status(),
            is_quiet: self.is_quiet(),
            headline: self.headline(),
            cause: self.cause_words(),
            notes: self.notes(),
            related: self.related.as_ref().map(|related| related.words()).unwrap_or_default(),
            warnings: self.missed.iter().map(MissedReaction::words).collect(),
            details: self.details(),
        }
    }

    /// Returns the status that this clause by itself would give its run.
    pub fn status(&self) -> Status {
        status_of_clause(self)
    }

    /// Returns whether the clause is in line and nothing about it needs attention.
    pub fn is_quiet(&self) -> bool {
        let reaction_is_quiet =
            self.reaction.as_ref().is_none_or(|reaction| reaction.state == ReactionState::NotNeeded);
        matches!(self.outcome, Outcome::InLine | Outcome::Idle) && reaction_is_quiet && self.missed.is_empty()
    }

    fn headline(&self) -> Sentence {
        let due = self.would.as_ref().unwrap_or(&self.decision);
        match (self.outcome, due) {
            (Outcome::InLine, _) => match &self.changed_by {
                Some(by) => Sentence::new(format!("in line, changed by {by} in this run")),
                None if self.already_there => Sentence::new("in line, and already was at the first look"),
                None => Sentence::new("in line"),
            },
            (Outcome::Idle, _) if self.reaction.is_none() => {
                Sentence::new("reacts only; nothing triggered it")
            }
            (Outcome::Unsupported, _) => {
                let why = self.unsupported.as_deref().unwrap_or("no backend on this node");
                Sentence::new(format!("not examined: {why}"))
            }
            (Outcome::Failed, _) => Sentence::new(format!(
                "failed while {}",
                self.failed_at().map_or("running", FailureAt::doing)
            )),
            (Outcome::Blocked, Decision::Blocked { by }) => Sentence::new(format!("blocked: {}", by.words())),
            (Outcome::OutOfLine, Decision::Correct) => Sentence::new("would be corrected"),
            (Outcome::OutOfLine, Decision::Leave { why }) => {
                Sentence::new("not corrected: ").then(why.words())
            }
            (outcome, _) => Sentence::new(outcome.words()),
        }
    }

    fn cause_words(&self) -> Option<Sentence> {
        let drift = self.drift_window.map(|window| {
            let secs = window.to.duration_since(window.from).as_secs();
            let sentence = Sentence::new("the node ").then(window.words());
            if secs < 1 { sentence } else { sentence.text(format!(" (within {})", span_words(secs))) }
        });
        let newness = match self.newness {
            Some(Newness::NewHere) => Sentence::new("desired here for the first time"),
            Some(Newness::HereBefore { until }) => Sentence::new("desired here again, as until ").time(until),
            Some(Newness::Changed) => Sentence::new("the desired state changed"),
            None => Sentence::default(),
        };
        Some(match self.cause? {
            Cause::Drift => match self.drill {
                Some(no) => Sentence::new(format!("drill D{no}: broken on purpose; ")).then(drift?),
                None => Sentence::new("drift: ").then(drift?),
            },
            Cause::Rollout if self.also_drifted => {
                Sentence::new("rollout: ").then(newness).text("; and drift: ").then(drift?)
            }
            Cause::Rollout => Sentence::new("rollout: ").then(newness),
            Cause::TargetMoved => Sentence::new(match &self.changed_by {
                Some(by) => format!("target changed: {by} changed it in this run"),
                None => "target changed: the node is unchanged, but no longer matches the desired state"
                    .to_owned(),
            }),
        })
    }

    fn notes(&self) -> Vec<Sentence> {
        let is_left = matches!(self.decision, Decision::Leave { .. });
        let packages = self.packages.iter().map(|change| {
            let (before, after) = (change.before.as_deref(), change.after.as_deref());
            Sentence::new(format!(
                "package {}: {} → {}",
                change.package,
                before.unwrap_or("not installed"),
                after.unwrap_or("removed")
            ))
        });
        let copies = self.kept.iter().map(|copy| {
            let (path, number) = (&copy.path, copy.attic);
            Sentence::new(if is_left {
                format!("a copy of {path} as it is now is number {number} in the attic of the node")
            } else {
                format!(
                    "the replaced contents of {path} are number {number} in the attic of the node: constans-agent attic put-back {number}"
                )
            })
        });
        packages.chain(copies).chain(self.reaction.as_ref().map(ReactionResult::words)).collect()
    }

    fn details(&self) -> Vec<Sentence> {
        let left_out = self
            .not_examined
            .iter()
            .map(|left_out| format!("{} is not examined here: {}", left_out.property, left_out.why));
        let needs = self
            .dropped_needs
            .iter()
            .map(|need| format!("the need {need} is not part of the desired state of this node"));
        let read = self.read_at.map(|read_at| {
            Sentence::new("read at ").time(read_at).text(": the metadata of its files is the same since")
        });
        left_out.chain(needs).chain(self.stand_in.clone()).map(Sentence::new).chain(read).collect()
    }
}

impl DriftWindow {
    /// Returns in words when the change happened: *changed between A and B*, or at one second.
    pub fn words(&self) -> Sentence {
        if self.from.as_second() == self.to.as_second() {
            return Sentence::new("changed at ").time(self.to);
        }
        Sentence::new("changed between ").time(self.from).text(" and ").time(self.to)
    }
}

impl Leave {
    /// Returns the reason as a word: that of its serialised form.
    pub fn word(&self) -> &'static str {
        match self {
            Self::Freeze { .. } => "freeze",
            Self::Observing => "observing",
            Self::OnDrift { .. } => "on_drift",
            Self::OnRollout { .. } => "on_rollout",
            Self::Grace { .. } => "grace",
            Self::Window { .. } => "window",
            Self::CutTheWay { .. } => "cut_the_way",
            Self::NotAlone { .. } => "not_alone",
            Self::ChangedSinceObserved => "changed_since_observed",
            Self::OnlyAPerson => "only_a_person",
        }
    }

    /// Returns the reason in words.
    pub fn words(&self) -> Sentence {
        let switch = |from: &SwitchFrom, switch: &str| {
            let from = match from {
                SwitchFrom::Clause => "clause",
                SwitchFrom::Assignment => "assignment",
                SwitchFrom::Baseline => "baseline",
                SwitchFrom::Group => "group",
            };
            Sentence::new(format!("the {from} says {switch}"))
        };
        match self {
            Self::Freeze { no, until, because } => {
                Sentence::new(format!("frozen by F{no} until ")).time(*until).text(format!(" ({because})"))
            }
            Self::Observing => Sentence::new("mode is observe"),
            Self::OnDrift { from } => switch(from, "on_drift = \"report\""),
            Self::OnRollout { from } => switch(from, "on_rollout = \"wait\""),
            Self::Grace { until } => {
                Sentence::new("the grace lasts until ").time(*until).text("; then it is corrected")
            }
            Self::Window { opens, is_of_assignment } => {
                let of = if *is_of_assignment { " of the assignment" } else { "" };
                Sentence::new(format!("outside the change window{of}, which opens at "))
                    .time(*opens)
                    .text("; then it is corrected")
            }
            Self::NotAlone { packages } => {
                let changes: Vec<String> = packages.iter().map(PackageChange::words).collect();
                Sentence::new(format!(
                    "the clause says only_alone = true, but the change includes {}",
                    changes.join(", ")
                ))
            }
            Self::CutTheWay { at } => {
                Sentence::new("applying it cut the connection to the server, so it was reverted at ")
                    .time(*at)
                    .text("; it is retried when the desired state changes")
            }
            Self::ChangedSinceObserved => {
                Sentence::new("changed since it was observed; only what the observing run found is corrected")
            }
            Self::OnlyAPerson => Sentence::new("needs a person"),
        }
    }
}

impl Blocker {
    /// Returns in words which need is not met.
    pub fn words(&self) -> String {
        let why = match self.outcome {
            Outcome::Failed => "failed",
            Outcome::Unsupported => "is unsupported",
            _ => "is not in line",
        };
        if self.need == self.first {
            format!("it needs {}, which {why}", self.need)
        } else {
            format!("it needs {}, which is blocked by {}, which {why}", self.need, self.first)
        }
    }
}

impl MissedReaction {
    /// Returns in words what the service may not have loaded, and what to do.
    pub fn words(&self) -> Sentence {
        Sentence::new(format!("{} was changed at ", self.cause))
            .time(self.changed_at)
            .text(", but no reaction of this service to it was declared; the service has run since ")
            .time(self.running_since)
            .text(": restart it by hand if it has to load the change")
    }
}

impl ReactionResult {
    /// Returns in words the result of the reaction.
    pub fn words(&self) -> Sentence {
        let state = match self.state {
            ReactionState::Done => "done",
            ReactionState::NotNeeded => "no longer needed",
            ReactionState::Would => "would be done",
            ReactionState::Due => "due since ",
            ReactionState::Failed => "failed, still due since ",
        };
        let causes: Vec<&str> = self.causes.iter().map(ClauseAddress::as_str).collect();
        let sentence = Sentence::new(format!("{}: {state}", self.reaction.word()));
        let sentence = match self.state {
            ReactionState::Due | ReactionState::Failed => sentence.time(self.since),
            _ => sentence,
        };
        sentence.text(format!(", triggered by {}", causes.join(", ")))
    }
}

impl PackageChange {
    /// Returns in words what happens to the package, as `kiosk-tools 1.0 is removed`.
    pub fn words(&self) -> String {
        match (&self.before, &self.after) {
            (Some(before), Some(after)) => format!("{} {before} becomes {after}", self.package),
            (Some(before), None) => format!("{} {before} is removed", self.package),
            (None, Some(after)) => format!("{} {after} is installed", self.package),
            (None, None) => self.package.clone(),
        }
    }
}

impl Outcome {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::InLine,
        Self::Corrected,
        Self::OutOfLine,
        Self::Blocked,
        Self::Failed,
        Self::Unsupported,
        Self::Idle,
    ];

    /// Returns the outcome in words.
    pub fn words(self) -> &'static str {
        match self {
            Self::InLine => "in line",
            Self::Corrected => "corrected",
            Self::OutOfLine => "out of line",
            Self::Blocked => "blocked",
            Self::Failed => "failed",
            Self::Unsupported => "not examined",
            Self::Idle => "reacts only",
        }
    }
}

impl FailureAt {
    /// Returns what was being done, as `correcting`.
    pub fn doing(self) -> &'static str {
        match self {
            Self::Inspect => "inspecting",
            Self::Correct => "correcting",
            Self::Verify => "verifying",
            Self::React => "reacting",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::{Value, json};

    fn words(more: &Value) -> ClauseWords {
        let mut result = json!({
            "address": "file:/etc/issue", "severity": "low", "origins": [], "wanted": "w1:00", "verdict": null,
            "decision": { "due": "nothing" }, "outcome": "in_line", "took_us": 1,
        });
        result.as_object_mut().unwrap().extend(more.as_object().unwrap().clone());
        serde_json::from_value::<ClauseResult>(result).unwrap().words()
    }

    #[test]
    fn a_headline_says_the_outcome_or_what_enforcing_would_do() {
        let leave = |why: Value| json!({ "due": "leave", "why": why });
        for (more, headline) in [
            (json!({}), "in line"),
            (json!({ "already_there": true }), "in line, and already was at the first look"),
            (
                json!({ "outcome": "out_of_line", "decision": leave(json!({ "reason": "observing" })), "would": { "due": "correct" } }),
                "would be corrected",
            ),
            (
                json!({ "outcome": "out_of_line", "decision": leave(json!({ "reason": "on_drift", "from": "clause" })) }),
                "not corrected: the clause says on_drift = \"report\"",
            ),
            (
                json!({ "outcome": "out_of_line", "decision": leave(json!({ "reason": "freeze", "no": 7, "until": "2026-11-23T07:42:00Z", "because": "boarding" })) }),
                "not corrected: frozen by F7 until 2026-11-23 07:42:00 UTC (boarding)",
            ),
            (
                json!({ "outcome": "blocked", "decision": { "due": "blocked", "by": { "need": "package:a", "first": "package:b", "outcome": "failed" } } }),
                "blocked: it needs package:a, which is blocked by package:b, which failed",
            ),
            (
                json!({ "outcome": "failed", "failure": { "at": "correct", "message": "no space" } }),
                "failed while correcting",
            ),
            (
                json!({ "outcome": "unsupported", "unsupported": "no systemd here" }),
                "not examined: no systemd here",
            ),
        ] {
            assert_eq!(words(&more).headline.write_dated(), headline, "{more}");
        }
    }

    #[test]
    fn a_cause_says_when_or_what_is_new() {
        let cause = |more: Value| words(&more).cause.map(|cause| cause.write_dated()).unwrap_or_default();
        let window = json!({ "from": "2026-11-23T01:40:00Z", "to": "2026-11-23T02:10:00Z" });
        assert_eq!(
            cause(json!({ "cause": "drift", "drift_window": window })),
            "drift: the node changed between 2026-11-23 01:40:00 UTC and 2026-11-23 02:10:00 UTC (within 30 min)"
        );
        let at_once = json!({ "from": "2026-11-23T01:40:00Z", "to": "2026-11-23T01:40:00Z" });
        assert_eq!(
            cause(json!({ "cause": "drift", "drift_window": at_once })),
            "drift: the node changed at 2026-11-23 01:40:00 UTC"
        );
        assert_eq!(
            cause(json!({ "cause": "rollout", "newness": { "newness": "new_here" } })),
            "rollout: desired here for the first time"
        );
    }
}
