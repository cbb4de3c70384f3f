//! Narrowing lists of nodes: a filter's plain parts as SQL, with their values bound.
//!
//! Such statements are not kept prepared: which way is best depends on what is asked for. What is written here is joined to `node`
//! and `node_now n`.

use crate::clock::sql_now;
use constans_core::filter::{Comparison, Field, Plain, Scalar};
use constans_core::run::Status;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::json;
use sqlx::{Postgres, QueryBuilder};
use uuid::Uuid;

/// Which nodes a list is about.
#[derive(Debug, Clone)]
pub enum Narrowing {
    /// All of them.
    All,
    /// Those of which a condition holds.
    By(Plain),
    /// Those that were found one by one.
    Only(Vec<Uuid>),
}

/// The state of a node's last contact now, by its [`Promise`](constans_core::node_status::Promise); how long the server
/// itself could not hear since then is added.
const LAST_CONTACT: &str = "(case when n.heard_at is null then 'never_reported' when {now} <= n.on_time_until then 'on_time'
             else (select case when {now} - down > n.silent_after then 'silent' when {now} - down > n.on_time_until then 'late' else 'on_time' end
                 from (select coalesce(sum(until_at - greatest(from_at, n.heard_at)), interval '0') as down from server_down where until_at > n.heard_at) d) end)";

/// The status that a node is shown by, as [`status`](constans_core::node_status::node_status) has it; for
/// statuses of runs the words are the same. The most frequent cases come first.
const STATUS: &str = "(case when n.is_refused then 'revoked' when n.is_unusable then 'state_unusable' when n.heard_at is null then 'never_reported'
             when {now} > n.silent_after and (select {now} - coalesce(sum(until_at - greatest(from_at, n.heard_at)), interval '0') > n.silent_after
                 from server_down where until_at > n.heard_at) then 'silent'
             else coalesce(n.full_status, 'never_reported') end)";

/// Begins the condition that a node's placement `p` meets another; a `)` ends it.
const PLACED: &str =
    "node.id in (select w.node from node_wanted w join placement p on p.id = w.placement where ";

/// Writes the state of a node's last contact now.
pub fn push_last_contact(query: &mut QueryBuilder<Postgres>) -> &mut QueryBuilder<Postgres> {
    push_timed(query, LAST_CONTACT)
}

/// Writes the status that a node is shown by now.
pub fn push_status(query: &mut QueryBuilder<Postgres>) -> &mut QueryBuilder<Postgres> {
    push_timed(query, STATUS)
}

/// Writes SQL, with the time bound wherever it says `{now}`.
pub fn push_timed<'q>(query: &'q mut QueryBuilder<Postgres>, sql: &str) -> &'q mut QueryBuilder<Postgres> {
    push_timed_at(query, sql, sql_now())
}

/// Writes SQL, with this time bound wherever it says `{now}`.
pub fn push_timed_at<'q>(
    query: &'q mut QueryBuilder<Postgres>,
    sql: &str,
    now: SqlTimestamp,
) -> &'q mut QueryBuilder<Postgres> {
    for (at, part) in sql.split("{now}").enumerate() {
        if at > 0 {
            query.push_bind(now).push("::timestamptz");
        }
        query.push(part);
    }
    query
}

/// The nodes that are refused; an index answers this.
pub const REFUSED: &str = "(select id from node where retired_at is null and revoked_at is not null)";

impl Narrowing {
    /// Returns whether a node may be neither in nor out, because it did not report what is asked for.
    pub fn may_be_undecidable(&self) -> bool {
        self.asks_for(|field| matches!(field, Field::AboutText(_) | Field::AboutNumber(_)))
    }

    /// Returns whether it asks for how a node is now, and not only for what is stored with it.
    pub fn asks_for_now(&self) -> bool {
        self.asks_for(|field| matches!(field, Field::Status | Field::LastContact | Field::OpenEpisodes))
    }

    fn asks_for(&self, is_meant: fn(&Field) -> bool) -> bool {
        fn asks(plain: &Plain, is_meant: fn(&Field) -> bool) -> bool {
            match plain {
                Plain::All(parts) | Plain::Any(parts) => parts.iter().any(|part| asks(part, is_meant)),
                Plain::Not(part) => asks(part, is_meant),
                Plain::Compare(field, ..) | Plain::OneOf(field, _) | Plain::StartsWith(field, _) => {
                    is_meant(field)
                }
                Plain::HasLabel(_) | Plain::InGroup(_) => false,
            }
        }
        matches!(self, Self::By(plain) if asks(plain, is_meant))
    }

    /// Writes ` and X in (the selected nodes)` for the node's id `X`, unless all are selected.
    pub fn push_among(&self, query: &mut QueryBuilder<Postgres>, id: &str) {
        if !matches!(self, Self::All) {
            query.push(format!(" and {id} in ("));
            self.push_ids(query);
            query.push(")");
        }
    }

    /// Writes the statement that selects the ids of the selected nodes.
    pub fn push_ids(&self, query: &mut QueryBuilder<Postgres>) {
        if let Self::Only(nodes) = self {
            query.push("select unnest(").push_bind(nodes.clone()).push(")");
            return;
        }
        if let Some(labels) = self.labels() {
            for (at, (label, values)) in labels.into_iter().enumerate() {
                query
                    .push(if at > 0 { " and node in (" } else { "" })
                    .push("select node from node_label where label = ")
                    .push_bind(label);
                query.push(" and value = any(").push_bind(values).push(if at > 0 { "))" } else { ")" });
            }
            return;
        }
        query.push("select node.id from node");
        self.push_beside(query);
        query.push(" where node.retired_at is null and ");
        if self.asks_for_now() {
            self.push(query);
            return;
        }
        // PostgreSQL estimates that conditions on what is stored with a node select hardly any node, as it has no statistics
        // of them; that a case selects half of them.
        query.push("case when ");
        self.push(query);
        query.push(" then true end");
    }

    /// Returns the labels with their accepted values, if the filter has no other condition.
    fn labels(&self) -> Option<Vec<(String, Vec<String>)>> {
        fn labels(plain: &Plain) -> Option<Vec<(String, Vec<String>)>> {
            let (label, values) = match plain {
                Plain::All(parts) if !parts.is_empty() => {
                    return Some(parts.iter().map(labels).collect::<Option<Vec<_>>>()?.concat());
                }
                Plain::Compare(Field::Label(label), Comparison::Equal, Scalar::Text(text)) => {
                    (label, vec![text.clone()])
                }
                Plain::OneOf(Field::Label(label), texts) => (label, texts.clone()),
                _ => return None,
            };
            // The empty text means none.
            (!values.iter().any(String::is_empty)).then(|| vec![(label.clone(), values)])
        }
        match self {
            Self::By(plain) => labels(plain),
            Self::All | Self::Only(_) => None,
        }
    }

    /// Writes what is joined to `node` for the condition, if it needs that.
    pub fn push_beside(&self, query: &mut QueryBuilder<Postgres>) {
        if self.asks_for_now() {
            query.push(" join node_now n on n.node = node.id");
        }
    }

    /// Writes the condition.
    pub fn push(&self, query: &mut QueryBuilder<Postgres>) {
        match self {
            Self::All => drop(query.push("true")),
            Self::By(plain) => {
                query.push("(");
                push(query, plain);
                query.push(")");
            }
            Self::Only(nodes) => drop(query.push("node.id = any(").push_bind(nodes.clone()).push(")")),
        }
    }
}

fn push(query: &mut QueryBuilder<Postgres>, plain: &Plain) {
    match plain {
        Plain::Compare(field, ..) | Plain::OneOf(field, _) | Plain::StartsWith(field, _)
            if matches!(field, Field::Mode | Field::Stage) =>
        {
            query.push(PLACED);
            push_comparison(query, plain);
            query.push(")");
        }
        _ => push_comparison(query, plain),
    }
}

fn push_comparison(query: &mut QueryBuilder<Postgres>, plain: &Plain) {
    match plain {
        Plain::All(parts) => push_joined(query, parts, " and "),
        Plain::Any(parts) => push_joined(query, parts, " or "),
        Plain::Not(part) => {
            query.push("not (");
            push(query, part);
            query.push(")");
        }
        Plain::Compare(field, comparison, scalar) => {
            // Most nodes are not selected, and the stored status shows that sooner.
            if let (Field::Status, Comparison::Equal, Scalar::Text(word)) = (field, comparison, scalar)
                && Status::ALL.iter().any(|status| json!(status) == json!(word))
            {
                query.push("n.full_status = ").push_bind(word.clone()).push(" and ");
            }
            push_field(query, field);
            query.push(operator(*comparison));
            match scalar {
                Scalar::Text(text) => query.push_bind(text.clone()).push(" collate \"C\""),
                Scalar::Number(number) => query.push_bind(*number),
            };
        }
        Plain::OneOf(field, texts) => {
            push_field(query, field);
            query.push(" = any(").push_bind(texts.clone()).push(")");
        }
        Plain::StartsWith(field, start) => {
            query.push("starts_with(");
            push_field(query, field);
            query.push(" collate \"C\", ").push_bind(start.clone()).push(")");
        }
        Plain::HasLabel(label) => {
            query.push("jsonb_exists(node.labels, ").push_bind(label.clone()).push(")");
        }
        Plain::InGroup(group) => {
            query.push(PLACED).push("jsonb_exists(p.groups, ").push_bind(group.clone()).push("))");
        }
    }
}

fn push_joined(query: &mut QueryBuilder<Postgres>, parts: &[Plain], between: &str) {
    query.push("(");
    for (at, part) in parts.iter().enumerate() {
        query.push(if at > 0 { between } else { "" }).push("(");
        push(query, part);
        query.push(")");
    }
    query.push(")");
}

fn push_field(query: &mut QueryBuilder<Postgres>, field: &Field) {
    match field {
        Field::Label(label) => query.push("coalesce(node.labels ->> ").push_bind(label.clone()).push(", '')"),
        // The paths are those of the stable fields.
        Field::AboutText(path) => query.push(format!("(node.about ->> '{path}')")),
        Field::AboutNumber(path) => {
            query.push(format!("(case jsonb_typeof(node.about -> '{path}') when 'number' then (node.about ->> '{path}')::numeric end)"))
        }
        Field::Name => query.push("node.name"),
        Field::Status => push_status(query),
        Field::LastContact => push_last_contact(query),
        Field::Mode => query.push("p.mode"),
        Field::Stage => query.push("p.stage"),
        Field::OpenEpisodes => query.push("n.open_episodes"),
    };
}

fn operator(comparison: Comparison) -> &'static str {
    match comparison {
        Comparison::Equal => " = ",
        Comparison::Unequal => " <> ",
        Comparison::Less => " < ",
        Comparison::AtMost => " <= ",
        Comparison::Greater => " > ",
        Comparison::AtLeast => " >= ",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use constans_core::node_status::{LastContact, node_status};

    #[test]
    fn the_signs_of_statuses_are_called_like_them() {
        for status in Status::ALL {
            assert_eq!(json!(node_status(false, false, LastContact::OnTime, Some(status))), json!(status));
        }
    }
}
