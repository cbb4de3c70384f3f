//! The lists that are filtered and sorted by the fields of their records, and these fields.

/// A list of records of one kind.
#[derive(Debug, PartialEq, Eq)]
pub struct RecordList {
    /// By this name a filter asks for a record: `change.who`.
    pub name: &'static str,
    /// What can be asked.
    pub fields: &'static [RecordField],
}

/// A field of a record.
#[derive(Debug, PartialEq, Eq)]
pub struct RecordField {
    /// Its name in filters and orders.
    pub name: &'static str,
    /// Where it is in the record as the interface sends it, its keys joined by dots.
    pub path: &'static str,
    /// What it holds.
    pub field_type: FieldType,
}

/// What a field holds.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FieldType {
    /// A text, or a word of a closed set.
    Text,
    /// A number.
    Number,
    /// A moment as a text, `2026-10-14T05:31:00Z`, so that moments compare as they follow each other.
    Moment,
    /// Whether something is so, or is there.
    Flag,
    /// Several texts.
    Texts,
    /// Values by keys.
    Labels,
}

use FieldType::{Flag, Labels, Moment, Number, Text, Texts};

const fn field(name: &'static str, field_type: FieldType) -> RecordField {
    RecordField { name, path: name, field_type }
}

const fn field_at(name: &'static str, path: &'static str, field_type: FieldType) -> RecordField {
    RecordField { name, path, field_type }
}

/// Changes of the desired state.
pub const CHANGES: RecordList = RecordList {
    name: "change",
    fields: &[
        field("no", Number),
        field("kind", Text),
        field("what", Text),
        field("who", Text),
        field("because", Text),
        field("confirmed_by", Text),
        field("approved_by", Text),
        field("status", Text),
        field("drafted", Moment),
        field("ended", Moment),
        field("nodes", Number),
        field("outstanding", Number),
        field("takes", Number),
        field("goes_back", Number),
    ],
};

/// Requests to join, waiting and decided ones.
pub const JOINING_REQUESTS: RecordList = RecordList {
    name: "request",
    fields: &[
        field("name", Text),
        field("fingerprint", Text),
        field("address", Text),
        field("invitation", Text),
        field("invited_by", Text),
        field("labels", Labels),
        field("known_as", Text),
        field("requested_at", Moment),
        field_at("os", "about.os.name", Text),
        field_at("arch", "about.arch", Text),
        field_at("is_name_in_use", "name_used_by", Flag),
        field_at("decided_by", "decision.who", Text),
        field_at("decided_at", "decision.at", Moment),
        field_at("because", "decision.because", Text),
        field_at("rule", "decision.rule", Number),
        field_at("node", "decision.node", Text),
    ],
};

/// Invitations that can still be used.
pub const INVITATIONS: RecordList = RecordList {
    name: "invitation",
    fields: &[
        field("id", Text),
        field("labels", Labels),
        field("uses", Number),
        field("uses_left", Number),
        field("made_by", Text),
        field("made_at", Moment),
        field("expires_at", Moment),
    ],
};

/// Admission rules.
pub const ADMISSION_RULES: RecordList = RecordList {
    name: "rule",
    fields: &[
        field("no", Number),
        field("status", Text),
        field("because", Text),
        field("made_by", Text),
        field("made_at", Moment),
        field("until", Moment),
        field("let_in", Number),
        field("at_most", Number),
        field("table_rows", Number),
        field("ended_by", Text),
        field("ended_at", Moment),
        field("warnings", Texts),
    ],
};

/// Nodes that were retired.
pub const RETIRED_NODES: RecordList = RecordList {
    name: "retired",
    fields: &[
        field("name", Text),
        field("labels", Labels),
        field("fingerprint", Text),
        field("joined_at", Moment),
        field("retired_at", Moment),
        field("retired_by", Text),
        field("because", Text),
        field("change", Number),
        field("is_name_in_use", Flag),
    ],
};

/// Published releases of kits.
pub const RELEASES: RecordList = RecordList {
    name: "release",
    fields: &[
        field("kit", Text),
        field("version", Text),
        field("digest", Text),
        field("summary", Text),
        field("published_by", Text),
        field("published_at", Moment),
        field("requires", Texts),
        field("served_in", Texts),
        field_at("is_withdrawn", "withdrawn.at", Flag),
        field_at("withdrawn_by", "withdrawn.by", Text),
    ],
};

/// Persons.
pub const PEOPLE: RecordList = RecordList {
    name: "person",
    fields: &[
        field("name", Text),
        field("roles", Texts),
        field("made_at", Moment),
        field("has_password", Flag),
        field("sessions", Number),
        field("tokens", Number),
        field("last_at", Moment),
    ],
};

/// Tokens.
pub const TOKENS: RecordList = RecordList {
    name: "token",
    fields: &[
        field("person", Text),
        field("name", Text),
        field("made_for", Text),
        field("made_at", Moment),
        field("ends_at", Moment),
        field("last_at", Moment),
    ],
};

/// Entries of the audit trail.
pub const AUDIT_ENTRIES: RecordList = RecordList {
    name: "entry",
    fields: &[
        field_at("id", "entry.id", Number),
        field("at", Moment),
        field_at("who", "entry.who", Text),
        field_at("did", "entry.did", Text),
        field_at("subject", "entry.subject", Text),
        field("digest", Text),
    ],
};

/// Freezes.
pub const FREEZES: RecordList = RecordList {
    name: "freeze",
    fields: &[
        field("no", Number),
        field("who", Text),
        field("because", Text),
        field("set", Moment),
        field("until", Moment),
        field("ended", Moment),
        field("ended_by", Text),
        field("is_for_all", Flag),
        field("nodes", Texts),
        field("clauses", Texts),
        field("of", Number),
        field("held_by", Number),
    ],
};

/// Concessions.
pub const CONCESSIONS: RecordList = RecordList {
    name: "concession",
    fields: &[
        field("no", Number),
        field("status", Text),
        field("clauses", Texts),
        field("filter", Text),
        field("nodes", Texts),
        field_at("asked_by", "asked.who", Text),
        field_at("asked_at", "asked.at", Moment),
        field_at("because", "asked.because", Text),
        field("until", Moment),
        field_at("decided_by", "decided.who", Text),
        field_at("decided_at", "decided.at", Moment),
        field_at("ended_by", "ended.who", Text),
        field_at("covered_nodes", "coverage.nodes", Number),
        field_at("covered_clauses", "coverage.clauses", Number),
        field_at("noncompliant", "coverage.noncompliant", Number),
    ],
};

/// Evidence that was asked for.
pub const EVIDENCE: RecordList = RecordList {
    name: "evidence",
    fields: &[
        field("no", Number),
        field("status", Text),
        field("because", Text),
        field("asked_by", Text),
        field("asked", Moment),
        field("ended", Moment),
        field("kept_until", Moment),
        field("rows", Number),
        field("bytes", Number),
        field("sha256", Text),
        field("key", Text),
    ],
};

/// Groups.
pub const GROUPS: RecordList = RecordList {
    name: "group",
    fields: &[
        field_at("name", "group.name", Text),
        field_at("priority", "group.priority", Number),
        field_at("stage", "group.stage", Text),
        field_at("filter", "group.filter", Text),
        field_at("named", "group.nodes", Texts),
        field_at("second_person", "group.second_person", Flag),
        field("nodes", Number),
    ],
};

/// Nodes that a change gives something else.
pub const CHANGED_NODES: RecordList = RecordList {
    name: "changed",
    fields: &[
        field("name", Text),
        field("has_since", Moment),
        field("next_check_in", Moment),
        field("is_later", Flag),
    ],
};

/// Runs of a node; runs that found the same are one entry.
pub const RUNS: RecordList = RecordList {
    name: "run",
    fields: &[
        field("run", Text),
        field("began", Moment),
        field("last", Moment),
        field("learned", Moment),
        field("count", Number),
        field("mode", Text),
        field("status", Text),
        field("state", Text),
        field("partial", Flag),
        field("did_not_end", Flag),
        field("missing", Number),
    ],
};

/// Machines that an admission rule let in.
pub const LET_IN_MACHINES: RecordList = RecordList {
    name: "machine",
    fields: &[
        field("name", Text),
        field("node", Text),
        field("fingerprint", Text),
        field("address", Text),
        field("at", Moment),
    ],
};

/// Sweeps.
pub const SWEEPS: RecordList = RecordList {
    name: "sweep",
    fields: &[
        field("no", Number),
        field("what", Text),
        field_at("mode", "order.mode", Text),
        field("which", Text),
        field("who", Text),
        field("because", Text),
        field("asked_at", Moment),
        field("ends_at", Moment),
        field("status", Text),
        field_at("stopped_by", "stopped.who", Text),
        field("after", Number),
        field_at("nodes", "counts.nodes", Number),
        field_at("done", "counts.done", Number),
        field_at("failed", "counts.failed", Number),
        field_at("refused", "counts.refused", Number),
        field_at("not_reached", "counts.not_reached", Number),
        field_at("in_line", "counts.in_line", Number),
    ],
};

/// Nodes of a sweep.
pub const SWEPT_NODES: RecordList = RecordList {
    name: "swept",
    fields: &[
        field("name", Text),
        field("state", Text),
        field("status", Text),
        field("is_in_line", Flag),
        field("reached", Number),
        field("of", Number),
        field("would", Number),
        field_at("corrected", "counts.corrected", Number),
        field_at("failed", "counts.failed", Number),
        field_at("left", "counts.out_of_line", Number),
        field("took_ms", Number),
        field("next_check_in", Moment),
    ],
};

/// Rollouts.
pub const ROLLOUTS: RecordList = RecordList {
    name: "rollout",
    fields: &[
        field("no", Number),
        field("what", Text),
        field("who", Text),
        field("because", Text),
        field("approved_by", Text),
        field("status", Text),
        field("began_at", Moment),
        field("reached", Number),
        field_at("halted_because", "halted.because", Text),
        field_at("halted_by", "halted.who", Text),
        field_at("halted_at", "halted.at", Moment),
        field("ended_at", Moment),
        field("ended_by", Text),
    ],
};

/// Nodes of a rollout.
pub const ROLLOUT_NODES: RecordList = RecordList {
    name: "in_rollout",
    fields: &[
        field("name", Text),
        field("wave", Number),
        field("state", Text),
        field("status", Text),
        field("heard_at", Moment),
        field("next_check_in", Moment),
    ],
};

/// Nodes that were asked to check in at once.
pub const WOKEN_NODES: RecordList = RecordList {
    name: "woken",
    fields: &[
        field("name", Text),
        field("woken", Text),
        field("answered_ms", Number),
        field("heard_at", Moment),
        field("next_check_in", Moment),
        field("is_up_to_date", Flag),
    ],
};

/// All of these lists.
pub const RECORD_LISTS: [&RecordList; 21] = [
    &CHANGES,
    &JOINING_REQUESTS,
    &INVITATIONS,
    &ADMISSION_RULES,
    &RETIRED_NODES,
    &RELEASES,
    &PEOPLE,
    &TOKENS,
    &AUDIT_ENTRIES,
    &FREEZES,
    &CONCESSIONS,
    &EVIDENCE,
    &GROUPS,
    &CHANGED_NODES,
    &RUNS,
    &LET_IN_MACHINES,
    &SWEEPS,
    &SWEPT_NODES,
    &ROLLOUTS,
    &ROLLOUT_NODES,
    &WOKEN_NODES,
];
