//! Drift over the fleet.

use super::change::repeated;
use super::compliance::read_moment;
use super::group::{HowAsQuery, set_group};
use super::node_own::give;
use super::overview::{Narrowed, narrowed, undecided};
use super::run::{shown_episode, whole_report};
use crate::body::JsonBody;
use crate::change::accept::{Accepting, Finding, accepting, giving};
use crate::change::documents::read_groups;
use crate::here::Here;
use crate::page::{Page, PageAnswer, PageQuery};
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::drift::{
    self, DriftDimension, EpisodeChoice, FiguresRow, FoundRow, MAX_FOUND, MAX_ROWS, NodeEpisodeRow,
};
use crate::store::narrowing::Narrowing;
use crate::store::{change, exception, group, node};
use crate::trust::{Allowed, Asker, GroupEdit, MayAskWithin, NodeRead};
use constans_core::address::ClauseAddress;
use constans_core::change::{DocumentKey, GroupEdit as NodeGroupEdit};
use constans_core::words::check_label;
use constans_wire::change::HowToChange;
use constans_wire::drift::{
    Accept, Acceptable, AcceptedAlone, Drift, DriftFigures, DriftRow, Durations, FoundAcross, FoundAlike,
    FoundOn, NodeEpisode, Recurring,
};
use constans_wire::kit::Changed;
use jiff::{SignedDuration, Timestamp};
use rocket::serde::json::Json;
use rocket::{State, get, post};
use serde_json::Value;
use sqlx::PgPool;
use std::collections::BTreeMap;
use std::collections::btree_map::Entry;
use std::slice;
use std::sync::Arc;
use uuid::Uuid;

/// How long a period is if nobody says otherwise.
const PERIOD: SignedDuration = SignedDuration::from_hours(30 * 24);

/// How often things drifted in a period, how long until it was detected and corrected, how it ended, and where.
#[utoipa::path(tag = "drift", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("by" = Option<String>, Query, description = "`clause`, `node`, `severity`, `baseline`, `control` or `label:KEY`: by what the rows count"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("since" = Option<String>, Query, description = "The beginning of the period; 30 days before its end if left out"),
    ("until" = Option<String>, Query, description = "The end of the period; now if left out"),
), responses((status = 200, body = Drift)))]
#[get("/api/drift?<by>&<filter>&<since>&<until>")]
pub async fn figures(
    by: Option<&str>,
    filter: Option<&str>,
    since: Option<&str>,
    until: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<Drift> {
    let now = crate::clock::now();
    let by = by.map(dimension).transpose()?;
    let (since, until) = read_period(since, until, now)?;
    let db = db.inner();
    let Narrowed { by: narrowing, undecidable } = narrowed(db, filter, now).await?;
    let undecidable = undecidable + undecided(db, &narrowing).await?;
    let choice = EpisodeChoice { narrowing: &narrowing, since, until, clause: None, is_open: None };
    let all = drift::count(db, &choice, None).await?.pop().unwrap_or_default();
    let mut rows = match &by {
        Some(by) => drift::count(db, &choice, Some(by)).await?,
        None => Vec::new(),
    };
    let has_more_rows = rows.len() > MAX_ROWS;
    rows.truncate(MAX_ROWS);
    let recurring = exception::recurring_drifts(db, &narrowing).await?.into_iter();
    Ok(Json(Drift {
        since,
        until,
        undecidable: undecidable as u64,
        all: shown(&all),
        rows: rows.into_iter().map(|row| DriftRow { figures: shown(&row), key: row.key }).collect(),
        has_more_rows,
        recurring: recurring
            .map(|(node, address, times, since)| Recurring { node, address, times, since: since.to_jiff() })
            .collect(),
    }))
}

/// The episodes of a period, open ones first, then the newest.
#[utoipa::path(tag = "drift", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
    ("since" = Option<String>, Query, description = "The beginning of the period; 30 days before its end if left out"),
    ("until" = Option<String>, Query, description = "The end of the period; now if left out"),
    ("clause" = Option<String>, Query, description = "Only of this clause, by its address"),
    ("open" = Option<bool>, Query, description = "Only open ones, or with `false` only those that ended"),
    PageQuery
), responses((status = 200, body = Vec<NodeEpisode>)))]
#[get("/api/drift/episodes?<filter>&<since>&<until>&<clause>&<open>&<page..>")]
#[expect(clippy::too_many_arguments, reason = "each is a part of the address")]
pub async fn episodes(
    filter: Option<&str>,
    since: Option<&str>,
    until: Option<&str>,
    clause: Option<&str>,
    open: Option<&str>,
    page: PageQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<NodeEpisode> {
    let now = crate::clock::now();
    let range = page.range()?;
    let (since, until) = read_period(since, until, now)?;
    let is_open = match open {
        None => None,
        Some("true") => Some(true),
        Some("false") => Some(false),
        Some(_) => return Err(ApiError::invalid("open", "it is true or false")),
    };
    let Narrowed { by: narrowing, .. } = narrowed(db, filter, now).await?;
    let choice = EpisodeChoice { narrowing: &narrowing, since, until, clause, is_open };
    let rows = drift::list(db.inner(), &choice, range.after.as_ref(), range.size).await?;
    let shown = |row: NodeEpisodeRow| -> Result<NodeEpisode, ApiError> {
        Ok(NodeEpisode { node: row.name, episode: shown_episode(row.episode)? })
    };
    Page::of_rows(rows, &range, |row| row.episode.cursor()).shown(shown)
}

/// What was found of one clause, side by side: nodes that have the same differences together.
#[utoipa::path(tag = "drift", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("clause" = String, Query, description = "The clause, by its address"),
    ("filter" = Option<String>, Query, description = "CEL over labels, about and node, as they are now"),
), responses((status = 200, body = FoundAcross)))]
#[get("/api/drift/found?<clause>&<filter>")]
pub async fn found(
    clause: Option<&str>,
    filter: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> Answer<FoundAcross> {
    let clause = clause.ok_or_else(|| ApiError::invalid("clause", "name the clause, as file:/etc/issue"))?;
    let Narrowed { by: narrowing, .. } = narrowed(db.inner(), filter, crate::clock::now()).await?;
    let mut rows = drift::found(db.inner(), &narrowing, clause).await?;
    let has_more_nodes = rows.len() > MAX_FOUND;
    rows.truncate(MAX_FOUND);
    let nodes = rows.len() as u64;
    let read = |value: Value| read_stored(|| clause.to_owned(), value);
    let mut alike: BTreeMap<(String, String), FoundAlike> = BTreeMap::new();
    for FoundRow { node, outcome, message, since, run, result } in rows {
        let differences = result.map(|mut result| result["differences"].take()).unwrap_or_default();
        let on = FoundOn { node, since: since.to_jiff(), run };
        match alike.entry((outcome.clone(), differences.to_string())) {
            Entry::Occupied(known) => known.into_mut().nodes.push(on),
            Entry::Vacant(new) => {
                let differences = if differences.is_null() {
                    Vec::new()
                } else {
                    serde_json::from_value(differences)
                        .map_err(|error| ApiError::failed("reading a run", &error))?
                };
                new.insert(FoundAlike {
                    sort: read(Value::from(outcome))?,
                    message,
                    differences,
                    nodes: vec![on],
                });
            }
        }
    }
    let mut alike: Vec<FoundAlike> = alike.into_values().collect();
    alike.sort_by_key(|one| std::cmp::Reverse(one.nodes.len()));
    Ok(Json(FoundAcross { alike, nodes, has_more_nodes }))
}

/// How what was found of a clause on a node can be accepted: by which values of parameters it would be desired, and which groups
/// can give them.
#[utoipa::path(tag = "drift", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(
    ("node" = String, Query, description = "The node, by its name"),
    ("clause" = String, Query, description = "The clause, by its address"),
), responses((status = 200, body = Acceptable)))]
#[get("/api/drift/acceptable?<node>&<clause>")]
pub async fn acceptable(
    node: Option<&str>,
    clause: Option<&str>,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Acceptable> {
    let node = node.ok_or_else(|| ApiError::invalid("node", "name the node"))?;
    let clause = clause.ok_or_else(|| ApiError::invalid("clause", "name the clause, as file:/etc/issue"))?;
    find_acceptable(db, here, node, clause).await.map(Json)
}

/// Accepts what was found of a clause on a node: a group gives the values by which it is desired, or the node alone has them, for a time or
/// without end.
#[utoipa::path(tag = "drift", security(("token" = ["group.edit"]), ("session" = ["group.edit"]), ("token" = ["change.request"]), ("session" = ["change.request"])), params(HowAsQuery), request_body = Accept, responses((status = 200, body = Changed)))]
#[post("/api/drift/accept?<how..>", data = "<accept>")]
pub async fn accept(
    accept: JsonBody<Accept>,
    how: HowAsQuery,
    caller: MayAskWithin<GroupEdit>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<Changed> {
    let asker = match &accept.group {
        Some(group) => caller.for_group(group)?,
        None => caller.for_names(db, slice::from_ref(&accept.node)).await?,
    };
    if let Some(changed) = repeated(db, here, &asker).await? {
        return Ok(Json(changed));
    }
    let Accept { node, clause, run, group, until } = accept.0;
    let Some(group) = group else {
        return accept_alone(&node, &clause, run, until, &how.into(), &asker, db, here).await;
    };
    if until.is_some() {
        let because = "a value of a group has no end: end it by a change, or accept it for this node alone";
        return Err(ApiError::invalid("until", because));
    }
    let key = DocumentKey::Group(group.clone());
    // Whoever edits the group meanwhile is not overwritten.
    let newest = change::last_of_key(db.inner(), &key).await?.map_or(0, |(no, _)| no);
    let found = find_acceptable(db, here, &node, &clause).await?;
    refuse_later_run(&found, run, &node, &clause)?;
    if let Some(why_not) = found.why_not {
        return Err(ApiError::Conflict {
            message: format!("{clause} on {node} cannot be accepted as a parameter: {why_not}"),
            hint: "ask for a concession, or publish a kit that desires it".to_owned(),
        });
    }
    let accepting = found.groups.iter().find(|known| known.name == group);
    match accepting.map(|known| &known.why_not) {
        Some(None) => {}
        Some(Some(why_not)) => {
            return Err(ApiError::invalid("group", format!("{group} cannot give the values: {why_not}")));
        }
        None => return Err(ApiError::invalid("group", format!("{node} is not in the group {group}"))),
    }
    let groups = read_groups(group::all(db.inner()).await?)?;
    let before = groups.into_iter().find(|known| known.name == group);
    let before = before.ok_or(ApiError::Missing { what: "group", name: group })?;
    let values = found.values.into_iter().map(|value| (value.parameter, value.value)).collect();
    let how = HowToChange::from(how);
    let how = HowToChange {
        unless_changed_after: how.unless_changed_after.or_else(|| u32::try_from(newest).ok()),
        ..how
    };
    set_group(&giving(&before, &values), &how, &asker, db, here).await
}

#[expect(clippy::too_many_arguments, reason = "what is accepted, by whom and how")]
async fn accept_alone(
    node: &str,
    clause: &str,
    run: Uuid,
    until: Option<Timestamp>,
    how: &HowToChange,
    asker: &Asker,
    db: &PgPool,
    here: &Here,
) -> Answer<Changed> {
    let found = find_acceptable(db, here, node, clause).await?;
    refuse_later_run(&found, run, node, clause)?;
    if let Some(why_not) = found.alone_why_not {
        return Err(ApiError::Conflict {
            message: format!("{clause} on {node} cannot be accepted for this node alone: {why_not}"),
            hint: "ask for a concession, or publish a kit that desires it".to_owned(),
        });
    }
    let address: ClauseAddress = read_stored(|| clause.to_owned(), Value::from(clause))?;
    let edit = |AcceptedAlone { property, value }| NodeGroupEdit::Property {
        clause: address.clone(),
        property,
        value: Some(value),
        until,
    };
    give(node, &found.alone.into_iter().map(edit).collect::<Vec<_>>(), how, asker, db, here).await
}

fn refuse_later_run(found: &Acceptable, run: Uuid, node: &str, clause: &str) -> Result<(), ApiError> {
    if found.run == run {
        return Ok(());
    }
    Err(ApiError::Conflict {
        message: format!("{clause} on {node} was examined again by a later run, {}", found.run),
        hint: "look at what was found now, and accept that".to_owned(),
    })
}

async fn find_acceptable(db: &PgPool, here: &Here, node: &str, clause: &str) -> Result<Acceptable, ApiError> {
    let missing = |what: &'static str, name: &str| ApiError::Missing { what, name: name.to_owned() };
    let id = node::by_name(db, node).await?.ok_or_else(|| missing("node", node))?;
    let FoundRow { run, since, .. } = drift::found(db, &Narrowing::Only(vec![id]), clause)
        .await?
        .pop()
        .ok_or_else(|| missing("clause that is not in line on this node", clause))?;
    let report = whole_report(db, id, &run.to_string()).await?;
    let result =
        report.and_then(|report| report.clauses.into_iter().find(|result| result.address.as_str() == clause));
    let differences = result.as_ref().map(|result| result.differences.clone()).unwrap_or_default();
    let text_diff = result.and_then(|result| result.text_diff);
    let accepting = if differences.is_empty() {
        let because = "what was found of it is not kept".to_owned();
        Accepting { values: Err(because.clone()), groups: Vec::new(), alone: Err(because) }
    } else {
        let finding = Finding {
            clause: clause.to_owned(),
            differences: differences.clone(),
            text_diff: text_diff.as_ref().map(|diff| diff.text.clone()),
        };
        accepting(&mut *db.acquire().await?, here, id, finding).await?
    };
    let Accepting { values, groups, alone } = accepting;
    let (values, why_not) = either(values);
    let (alone, alone_why_not) = either(alone);
    Ok(Acceptable {
        run,
        since: since.to_jiff(),
        differences,
        text_diff,
        values,
        why_not,
        groups,
        alone,
        alone_why_not,
    })
}

/// Returns the values, or why there are none.
fn either<T>(values: Result<Vec<T>, String>) -> (Vec<T>, Option<String>) {
    match values {
        Ok(values) => (values, None),
        Err(because) => (Vec::new(), Some(because)),
    }
}

fn read_period(
    since: Option<&str>,
    until: Option<&str>,
    now: Timestamp,
) -> Result<(Timestamp, Timestamp), ApiError> {
    let until = read_moment("until", until, now)?;
    let since = match since {
        Some(_) => read_moment("since", since, now)?,
        None => until - PERIOD,
    };
    if until <= since {
        return Err(ApiError::invalid(
            "until",
            format!("{until} is not after {since}, the beginning of the period"),
        ));
    }
    Ok((since, until))
}

fn dimension(written: &str) -> Result<DriftDimension, ApiError> {
    Ok(match written {
        "clause" => DriftDimension::Clause,
        "node" => DriftDimension::Node,
        "severity" => DriftDimension::Severity,
        "baseline" => DriftDimension::Baseline,
        "control" => DriftDimension::Control,
        _ => {
            let key = written.strip_prefix("label:").ok_or_else(|| {
                ApiError::invalid(
                    "by",
                    format!("`{written}` cannot be counted by: take clause, node, severity, baseline, control or label:KEY"),
                )
            })?;
            check_label(key, "").map_err(|because| ApiError::invalid("by", because))?;
            DriftDimension::Label(key.to_owned())
        }
    })
}

fn shown(row: &FiguresRow) -> DriftFigures {
    DriftFigures {
        episodes: row.episodes.unsigned_abs(),
        nodes: row.nodes.unsigned_abs(),
        open: row.open.unsigned_abs(),
        only_reported: row.only_reported.unsigned_abs(),
        drills: row.drills.unsigned_abs(),
        detected: row.detected.unsigned_abs(),
        corrected: row.corrected.unsigned_abs(),
        by_hand: row.by_hand.unsigned_abs(),
        by_rollout: row.by_rollout.unsigned_abs(),
        no_longer: row.no_longer.unsigned_abs(),
        detected_within: Durations {
            median_secs: row.within_median,
            p95_secs: row.within_p95,
            mean_secs: row.within_mean,
        },
        corrected_after: Durations {
            median_secs: row.after_median,
            p95_secs: row.after_p95,
            mean_secs: row.after_mean,
        },
    }
}
