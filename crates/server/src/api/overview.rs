//! The fleet as a whole, and the part of it that a filter names.

use super::node::all_summaries;
use crate::here::Here;
use crate::problem::{Answer, ApiError, read_stored, unusable_filter};
use crate::store::concession::{self, NoticedRow};
use crate::store::listing::{ProblemRow, TickRow};
use crate::store::narrowing::Narrowing;
use crate::store::{event, exception, joining, listing, recovery, rollout};
use crate::thread::on_thread;
use crate::trust::{Allowed, NodeRead};
use constans_core::attention::{
    Attention, AttentionNode, ConcessionNotice, Exception, HaltedRollout, RecurringDrift, attention,
};
use constans_core::filter::{Answer as Decided, Condition, NodeView};
use constans_core::node_status::{NodeStatus, ProblemInputs, problems};
use constans_wire::node::NodeSummary;
use constans_wire::overview::{Overview, StatusCount, Tick};
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::Timestamp as SqlTimestamp;
use rocket::serde::json::Json;
use rocket::{State, get};
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use sqlx::PgPool;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// More nodes are not sent one by one.
const MAX_TICKS: usize = 2_000;
/// This many of the last events are shown.
const LATELY: i64 = 12;
/// How long a filter may take that is decided node by node.
const LONGEST_DECISION: Duration = Duration::from_secs(5);

/// The overview of the fleet, or of the nodes that match a filter: statuses, what needs attention, recent activity.
#[utoipa::path(tag = "overview", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(("filter" = Option<String>, Query, description = "CEL over labels, about and node")), responses((status = 200, body = Overview)))]
#[get("/api/overview?<filter>")]
pub async fn overview(
    filter: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Overview> {
    let (db, now) = (db.inner(), crate::clock::now());
    let Narrowed { by, undecidable } = narrowed(db, filter, now).await?;
    let total = async |by: &Narrowing| Ok(count(listing::total(db, by).await?));
    let (
        (mut statuses, attention),
        meant,
        total,
        unknown,
        recent_activity,
        (stages, joining, recovering_since),
    ) = tokio::try_join!(
        signs_and_attention(db, &by, now),
        async { if by.asks_for_now() { Ok(None) } else { total(&by).await.map(Some) } },
        async {
            if matches!(by, Narrowing::All) { Ok(None) } else { total(&Narrowing::All).await.map(Some) }
        },
        undecided(db, &by),
        async { Ok(event::recent(db, &by, LATELY).await?) },
        async {
            Ok((
                super::stage::stages(db).await?,
                usize::try_from(joining::count_waiting(db).await?).unwrap_or(0),
                recovery::since(db).await?,
            ))
        },
    )?;
    let shown = count_quiet(&mut statuses, meant);
    let ticks = if shown > MAX_TICKS { Vec::new() } else { listing::ticks(db, &by).await? };
    let mut ticks: Vec<Tick> = ticks.into_iter().map(tick).collect::<Result<_, _>>()?;
    ticks.sort_by(|left, right| (left.status, &left.name).cmp(&(right.status, &right.name)));
    Ok(Json(Overview {
        now,
        total: total.unwrap_or(shown),
        shown,
        undecidable: undecidable + unknown,
        statuses,
        ticks,
        attention,
        stages,
        recent_activity: recent_activity.into_iter().map(super::event::shown).collect::<Result<_, _>>()?,
        joining,
        recovering_since: recovering_since.map(|at| at.to_jiff()),
        server_problems: here
            .certificates
            .iter()
            .filter_map(|certificate| certificate.problem(now))
            .chain(here.altered_days.problem())
            .collect(),
    }))
}

/// The result of a filter.
pub struct Narrowed {
    /// Which nodes the list is about.
    pub by: Narrowing,
    /// How many nodes were looked at one by one and could not be decided.
    pub undecidable: usize,
}

/// Returns which nodes a filter names: the database decides if it can, else all nodes are looked at one by one. It is compiled
/// and evaluated on a thread with a large stack.
///
/// # Errors
///
/// Returns everything that is wrong with the filter.
pub async fn narrowed(db: &PgPool, filter: Option<&str>, now: Timestamp) -> Result<Narrowed, ApiError> {
    let Some(filter) = filter.map(str::trim).filter(|filter| !filter.is_empty()).map(str::to_owned) else {
        return Ok(Narrowed { by: Narrowing::All, undecidable: 0 });
    };
    let text = filter.clone();
    let plain = on_thread(move || parse(&text).map(|condition| condition.plain())).await??;
    if let Some(plain) = plain {
        return Ok(Narrowed { by: Narrowing::By(plain), undecidable: 0 });
    }
    let all = all_summaries(db, now).await?;
    on_thread(move || decide(&all, &filter, Instant::now() + LONGEST_DECISION)).await?
}

/// Returns how many nodes the database cannot decide.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn undecided(db: &PgPool, by: &Narrowing) -> Result<usize, ApiError> {
    Ok(if by.may_be_undecidable() { count(listing::undecidable(db, by).await?) } else { 0 })
}

fn parse(filter: &str) -> Result<Condition, ApiError> {
    Condition::parse_for_list(filter).map_err(|errors| unusable_filter(filter, errors))
}

fn decide(nodes: &[NodeSummary], filter: &str, until: Instant) -> Result<Narrowed, ApiError> {
    let condition = parse(filter)?;
    let (mut named, mut undecidable) = (Vec::new(), 0);
    for (at, node) in nodes.iter().enumerate() {
        if Instant::now() > until {
            return Err(ApiError::Filter {
                message: format!("the filter takes too long: {at} of {} nodes were evaluated in {} s", nodes.len(), LONGEST_DECISION.as_secs()),
                hint: "compare labels, names and statuses with `==`, `in` and `startsWith`, which the database evaluates".to_owned(),
            });
        }
        let view =
            NodeView { name: node.name.clone(), labels: node.labels.clone(), about: node.about.clone() };
        match condition.holds_now(&view, listed_fields(node)) {
            Ok(Decided::Yes) => named.push(node.id),
            Ok(Decided::No) => {}
            Ok(Decided::Undecidable(_)) => undecidable += 1,
            Err(error) => {
                return Err(ApiError::Filter {
                    message: error.message,
                    hint: "compare texts with texts and numbers with numbers".to_owned(),
                });
            }
        }
    }
    Ok(Narrowed { by: Narrowing::Only(named), undecidable })
}

/// Returns what filters of lists may ask of a node as it is now.
fn listed_fields(node: &NodeSummary) -> Value {
    json!({
        "status": node.status,
        "last_contact": node.last_contact,
        "mode": node.mode.map_or_else(|| json!(""), |mode| json!(mode)),
        "stage": node.stage.clone().unwrap_or_default(),
        "groups": node.groups,
        "releases": node.has_releases,
        "problems": node.problems,
        "open_episodes": node.open_episodes,
    })
}

fn tick(row: TickRow) -> Result<Tick, ApiError> {
    Ok(Tick { name: row.name, status: read(row.status.into())?, late: row.last_contact == "late" })
}

fn count(nodes: i64) -> usize {
    usize::try_from(nodes).unwrap_or(0)
}

/// Adds the selected nodes that are in line without problems, which the query leaves out. `meant` is the number of selected nodes; none if
/// the query counted them all. Returns the number of nodes that are not revoked.
fn count_quiet(statuses: &mut Vec<StatusCount>, meant: Option<usize>) -> usize {
    let with_exceptions: usize =
        statuses.iter().filter(|count| count.status != NodeStatus::Revoked).map(|count| count.nodes).sum();
    let quiet = meant.map_or(0, |meant| meant.saturating_sub(with_exceptions));
    match statuses.iter_mut().find(|count| count.status == NodeStatus::InLine) {
        Some(in_line) => in_line.nodes += quiet,
        None if quiet > 0 => statuses.push(StatusCount { status: NodeStatus::InLine, nodes: quiet }),
        None => {}
    }
    statuses.sort_by_key(|count| count.status);
    with_exceptions + quiet
}

async fn signs_and_attention(
    db: &PgPool,
    by: &Narrowing,
    now: Timestamp,
) -> Result<(Vec<StatusCount>, Vec<Attention>), ApiError> {
    let statuses_and_problems = async {
        let statuses = listing::statuses(db, by).await?;
        let with_problems = listing::with_problems(
            db,
            by,
            statuses.iter().flat_map(|row| &row.with_problems).copied().collect(),
        )
        .await?;
        Ok((statuses, with_problems))
    };
    let ((statuses, with_problems), exceptions, recurring, concessions, rollouts) = tokio::try_join!(
        statuses_and_problems,
        exception::all(db, by),
        exception::recurring_drifts(db, by),
        concession::noticed(db),
        rollout::open(db)
    )
    .map_err(ApiError::from)?;
    let statuses = statuses
        .into_iter()
        .map(|row| Ok(StatusCount { status: read(row.status.into())?, nodes: count(row.nodes) }))
        .collect::<Result<_, ApiError>>()?;
    let nodes: Vec<AttentionNode> =
        with_problems.into_iter().map(|row| attention_node(row, now)).collect::<Result<_, _>>()?;
    let exceptions: Vec<Exception> = exceptions
        .into_iter()
        .map(|row| {
            let (node, address, message, since) = (row.node, row.address, row.message, row.since.to_jiff());
            Ok(Exception { node, address, sort: read(row.outcome.into())?, message, since })
        })
        .collect::<Result<_, ApiError>>()?;
    let drift = |(node, address, times, since): (String, String, i64, SqlTimestamp)| RecurringDrift {
        node,
        address,
        times,
        since: since.to_jiff(),
    };
    let recurring: Vec<RecurringDrift> = recurring.into_iter().map(drift).collect();
    // They are of the fleet: a filter of nodes leaves them out.
    let is_of_all = matches!(by, Narrowing::All);
    let concessions: Vec<ConcessionNotice> =
        concessions.into_iter().filter(|_| is_of_all).map(concession_notice).collect();
    let halted = rollouts.into_iter().filter(|_| is_of_all).filter_map(|row| {
        let (because, since) = row.halted_because.zip(row.halted_at)?;
        Some(HaltedRollout { no: row.no, what: row.what, because, since: since.to_jiff() })
    });
    let halted: Vec<HaltedRollout> = halted.collect();
    Ok((statuses, attention(&nodes, &exceptions, &recurring, &concessions, &halted, now)))
}

fn concession_notice(row: NoticedRow) -> ConcessionNotice {
    ConcessionNotice {
        no: row.no,
        clauses: row.clauses,
        nodes: row.nodes.unsigned_abs(),
        asked_by: row.asked_by,
        until: row.until_at.to_jiff(),
        is_asked: row.is_asked,
    }
}

fn attention_node(row: ProblemRow, now: Timestamp) -> Result<AttentionNode, ApiError> {
    let last_contact = read(row.last_contact.into())?;
    let facts = ProblemInputs {
        last_contact,
        is_unusable: row.unusable.is_some(),
        has_duplicate_identity: row.has_duplicate_identity,
        is_memory_lost: row.is_memory_lost,
        is_upgrade_failed: row.is_upgrade_failed,
        certificate_ends: row.ends_at.map(|at| at.to_jiff()),
        overdue_at: row.overdue_at.map(|at| at.to_jiff()),
        clock_off: SignedDuration::from_millis(row.clock_off_ms),
    };
    Ok(AttentionNode {
        name: row.name,
        status: read(row.status.into())?,
        last_contact,
        last_heard: row.heard_at.map(|at| at.to_jiff()),
        promised: row.promised_at.map(|at| at.to_jiff()),
        problems: problems(&facts, now),
        unusable: row.unusable,
        wanted_since: row.since.map(|at| at.to_jiff()),
    })
}

fn read<T: DeserializeOwned>(value: Value) -> Result<T, ApiError> {
    read_stored(|| "row of the fleet".to_owned(), value)
}
