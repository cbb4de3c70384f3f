//! Changes of desired state, and the nodes that each alters.

use super::cursor::Cursor;
use crate::clock::{now, sql_now};
use constans_core::change::DocumentKey;
use constans_core::run::RestartPending;
use constans_core::settings::AgentSettings;
use jiff::{SignedDuration, Timestamp};
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use serde_json::Value;
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use uuid::Uuid;

/// A change that is asked for.
pub struct NewChange<'a> {
    /// Its kind: `group`, `serve`, `go_back`, `join`, `reported`, `resolver`.
    pub kind: &'a str,
    /// What it does, in words.
    pub what: &'a str,
    /// Who asks for it.
    pub who: &'a str,
    /// Why, if that was given.
    pub because: Option<&'a str>,
    /// The edits of documents.
    pub edits: &'a Value,
    /// Continue although the state of some nodes cannot be resolved.
    pub although_unusable: bool,
    /// Only its impact is wanted.
    pub is_preview: bool,
    /// Another person hands it out.
    pub is_request: bool,
    /// What was confirmed.
    pub confirmed: Option<&'a Value>,
    /// The change that it reverts.
    pub goes_back: Option<i64>,
    /// The epoch.
    pub epoch: i64,
    /// `waiting`, or `handed_out` if it is for a single node.
    pub status: &'a str,
    /// The key of the request.
    pub request_key: Option<&'a str>,
    /// How it goes if it reaches its nodes in waves.
    pub rollout: Option<&'a Value>,
    /// The change whose rollout it is a part of.
    pub of_rollout: Option<i64>,
}

/// Adds a change and returns its number.
pub async fn add(db: impl PgExecutor<'_>, new: &NewChange<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/change/add.sql"))
        .bind(new.epoch)
        .bind(new.kind)
        .bind(new.what)
        .bind(new.who)
        .bind(new.because)
        .bind(new.edits)
        .bind(new.status)
        .bind(new.although_unusable)
        .bind(new.is_preview)
        .bind(new.confirmed)
        .bind(new.goes_back)
        .bind(sql_now())
        .bind(new.is_request)
        .bind(new.request_key)
        .bind(new.rollout)
        .bind(new.of_rollout)
        .fetch_one(db)
        .await
}

/// Returns how many changes that a person requested wait, or are previewed for one.
pub async fn open_requests(db: impl PgExecutor<'_>, who: &str) -> sqlx::Result<i64> {
    sqlx::query_scalar(include_str!("sql/change/open_requests.sql")).bind(who).fetch_one(db).await
}

/// Returns whether a change of nodes by this one is under way.
pub async fn is_editing_nodes(db: impl PgExecutor<'_>, who: &str) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/change/is_editing_nodes.sql")).bind(who).fetch_one(db).await
}

/// Returns the change that a person's request with this key made.
pub async fn by_request(db: impl PgExecutor<'_>, who: &str, key: &str) -> sqlx::Result<Option<i64>> {
    sqlx::query_scalar(include_str!("sql/change/by_request.sql")).bind(who).bind(key).fetch_optional(db).await
}

/// A change.
#[derive(Debug, Clone, sqlx::FromRow)]
pub struct ChangeRow {
    /// Its number.
    pub no: i64,
    /// Its kind.
    pub kind: String,
    /// What it does, in words.
    pub what: String,
    /// Who asked for it.
    pub who: String,
    /// Why.
    pub because: Option<String>,
    /// The edits of documents.
    pub edits: Value,
    /// How far it is.
    pub status: String,
    /// Whether it continues although the state of some nodes cannot be resolved.
    pub although_unusable: bool,
    /// Whether only its impact is wanted.
    pub is_preview: bool,
    /// Whether another person is to hand it out.
    pub is_request: bool,
    /// The other person who approved it.
    pub approved_by: Option<String>,
    /// What was confirmed.
    pub confirmed: Option<Value>,
    /// Who confirmed it, if that was done afterwards.
    pub confirmed_by: Option<String>,
    /// The revision that it was drafted from.
    pub base_rev: Option<i64>,
    /// The snapshot that it was drafted from.
    pub snapshot: Option<String>,
    /// Its impact, once it was prepared.
    pub impact: Option<Value>,
    /// Why it was refused.
    pub refused: Option<String>,
    /// What to do about that.
    pub hint: Option<String>,
    /// The change that it reverts.
    pub goes_back: Option<i64>,
    /// How it goes if it reaches its nodes in waves.
    pub rollout: Option<Value>,
    /// The change whose rollout it is a part of.
    pub of_rollout: Option<i64>,
    /// Whether it is, or was, a rollout.
    pub has_rollout: bool,
    /// When it was asked for.
    pub drafted_at: SqlTimestamp,
    /// When it was handed out, or ended otherwise.
    pub ended_at: Option<SqlTimestamp>,
    /// How many nodes are given something else by it and do not have it yet. Those that a later change altered are not counted.
    pub outstanding: i64,
}

const COLUMNS: &str = "c.no, c.kind, c.what, c.who, c.because, c.edits, c.status, c.although_unusable, c.is_preview, c.is_request, c.approved_by, c.confirmed, c.confirmed_by, c.base_rev, c.snapshot,
    c.impact, c.refused, c.hint, c.goes_back, c.rollout, c.of_rollout, exists (select 1 from rollout r where r.change = c.no) as has_rollout, c.drafted_at, c.ended_at, (select count(*) from change_node n join node_wanted w on w.node = n.node and w.change = n.change
        where n.change in (select c.no union all select of_wave.change from rollout_wave of_wave where of_wave.rollout = c.no) and n.is_new and n.taken_at is null) as outstanding
    from change c";

/// Returns a change.
pub async fn by_no(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<ChangeRow>> {
    sqlx::query_as(AssertSqlSafe(format!("select {COLUMNS} where c.no = $1")))
        .bind(no)
        .fetch_optional(db)
        .await
}

/// Returns how far a change is.
pub async fn status(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<String> {
    sqlx::query_scalar(include_str!("sql/change/status.sql")).bind(no).fetch_one(db).await
}

/// Returns the changes before a number, the newest first; at most so many.
pub async fn list(
    db: impl PgExecutor<'_>,
    before: i64,
    node: Option<Uuid>,
    most: i64,
) -> sqlx::Result<Vec<ChangeRow>> {
    let sql = format!(
        "select {COLUMNS} where c.no in (select no from change where no < $1
             and ($2::uuid is null or exists (select 1 from change_node o where o.change = no and o.node = $2)) order by no desc limit $3)
         order by c.no desc"
    );
    sqlx::query_as(AssertSqlSafe(sql)).bind(before).bind(node).bind(most).fetch_all(db).await
}

/// A node that a change gives something else.
#[derive(Debug, sqlx::FromRow)]
pub struct ChangedNodeRow {
    /// Its name.
    pub name: String,
    /// When it had it; none if it does not yet.
    pub taken_at: Option<SqlTimestamp>,
    /// When its next check-in is due.
    pub promised_at: Option<SqlTimestamp>,
    /// Whether a later change altered it since.
    pub is_later: bool,
}

impl ChangedNodeRow {
    /// Its place in the list.
    pub fn cursor(&self) -> Cursor {
        let what = if self.taken_at.is_some() { "has" } else { "lacks" };
        Cursor { at: Timestamp::UNIX_EPOCH, key: format!("{what} {}", self.name) }
    }
}

/// Returns the nodes that a change gives something else, those that do not have it first, then by name; at most `most` after one that
/// has it or not, and its name.
pub async fn nodes(
    db: impl PgExecutor<'_>,
    no: i64,
    after: Option<(bool, &str)>,
    most: i64,
) -> sqlx::Result<Vec<ChangedNodeRow>> {
    sqlx::query_as(include_str!("sql/change/nodes.sql"))
        .bind(no)
        .bind(after.map(|(has_it, _)| has_it))
        .bind(after.map(|(_, name)| name))
        .bind(most)
        .fetch_all(db)
        .await
}

/// Returns when the last of the nodes that do not have a change checks in next; none if one of them is not expected, or all have it.
pub async fn last_by(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Option<SqlTimestamp>> {
    sqlx::query_scalar(include_str!("sql/change/last_by.sql")).bind(no).fetch_one(db).await
}

/// Begins to prepare a change from the fleet as it is: what was prepared of it before is dropped.
pub async fn begin(db: &mut PgConnection, no: i64, rev: i64, epoch: i64, snapshot: &str) -> sqlx::Result<()> {
    drop_nodes(&mut *db, &[no]).await?;
    sqlx::query(include_str!("sql/change/begin.sql"))
        .bind(no)
        .bind(rev)
        .bind(epoch)
        .bind(snapshot)
        .execute(db)
        .await
        .map(|_| ())
}

/// Drops what was prepared of changes. The states that were made for them are noted for [`forget_dropped_states`].
pub async fn drop_nodes(db: impl PgExecutor<'_>, changes: &[i64]) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/change/drop_nodes.sql")).bind(changes).execute(db).await.map(|_| ())
}

/// Returns whether states of dropped changes may be deleted now: there are some, and no change is prepared or about to be
/// confirmed, which would have to be prepared again.
pub async fn has_dropped_states(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/change/has_dropped_states.sql")).fetch_one(db).await
}

/// Deletes the states of dropped changes that no node and no other change has. Returns how many. Under the exclusive lock only,
/// and the revision has to be raised: what is prepared meanwhile may assume one of them as stored.
pub async fn forget_dropped_states(db: &mut PgConnection) -> sqlx::Result<u64> {
    // A state that was made after a change was drafted can be that of changes only that were not over by then.
    let deleted = sqlx::query(include_str!("sql/change/forget_dropped_states_delete_effective_state.sql"))
        .execute(&mut *db)
        .await?
        .rows_affected();
    sqlx::query(include_str!("sql/change/forget_dropped_states_delete_dropped_state.sql"))
        .execute(&mut *db)
        .await?;
    if deleted > 0 {
        forget_unused_clauses(db).await?;
    }
    Ok(deleted)
}

/// Contents that came for a release which is not published yet stay for so long.
const UPLOADED: SignedDuration = SignedDuration::from_hours(24);

/// Deletes the clauses that no state has any more, and contents that neither a clause nor a release names.
async fn forget_unused_clauses(db: &mut PgConnection) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/change/forget_unused_clause_content.sql")).execute(&mut *db).await?;
    sqlx::query(include_str!("sql/change/forget_unused_clause.sql")).execute(&mut *db).await?;
    sqlx::query(include_str!("sql/change/forget_unused_content.sql"))
        .bind((now() - UPLOADED).to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Goes on from a later snapshot.
pub async fn set_snapshot(db: impl PgExecutor<'_>, no: i64, snapshot: &str) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/change/set_snapshot.sql"))
        .bind(no)
        .bind(snapshot)
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes the impact of a change.
pub async fn set_impact(db: impl PgExecutor<'_>, no: i64, impact: &Value) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/change/set_impact.sql")).bind(no).bind(impact).execute(db).await.map(|_| ())
}

/// Ends a change, or lets it wait for a person.
pub async fn set_status(
    db: impl PgExecutor<'_>,
    no: i64,
    status: &str,
    refused: Option<(&str, &str)>,
) -> sqlx::Result<()> {
    let (refused, hint) = refused.unzip();
    sqlx::query(include_str!("sql/change/set_status.sql"))
        .bind(no)
        .bind(status)
        .bind(refused)
        .bind(hint)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Queues a change again that waited for a person, with what was confirmed, and in waves if so much was said. Returns whether it did wait.
pub async fn confirm(
    db: impl PgExecutor<'_>,
    no: i64,
    confirmed: &Value,
    rollout: Option<&Value>,
    who: &str,
) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/change/confirm.sql"))
        .bind(no)
        .bind(confirmed)
        .bind(who)
        .bind(rollout)
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Queues a requested change again that another person approved. Returns whether it was requested, by someone else.
pub async fn approve(
    db: impl PgExecutor<'_>,
    no: i64,
    confirmed: &Value,
    rollout: Option<&Value>,
    who: &str,
) -> sqlx::Result<bool> {
    let done = sqlx::query(include_str!("sql/change/approve.sql"))
        .bind(no)
        .bind(confirmed)
        .bind(who)
        .bind(rollout)
        .execute(db)
        .await?;
    Ok(done.rows_affected() > 0)
}

/// Drops changes that waited for a person for over an hour, or all that are not done.
pub async fn drop_unfinished(db: &mut PgConnection, also_queued: bool) -> sqlx::Result<()> {
    let dropped: Vec<i64> = sqlx::query_scalar(include_str!("sql/change/drop_unfinished.sql"))
        .bind(sql_now())
        .bind(also_queued)
        .fetch_all(&mut *db)
        .await?;
    drop_nodes(db, &dropped).await
}

/// A node as a change is to leave it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewChangeNode {
    /// The node.
    pub node: Uuid,
    /// Its state.
    pub state: Option<i64>,
    /// Its groups, stage and settings.
    pub placement: i64,
    /// Where its state comes from.
    pub sources: Option<i64>,
    /// Why its state cannot be resolved.
    pub unusable: Option<String>,
    /// Its state before.
    pub before_state: Option<i64>,
    /// Its groups, stage and settings before.
    pub before_placement: Option<i64>,
    /// Whether its agent is given something else.
    pub is_new: bool,
    /// Whether anything of it differs, if only what is shown of it. Not stored: what is, is altered.
    pub is_altered: bool,
}

/// Stores how a change is to leave nodes; of `same`, that it leaves them as they are.
pub async fn set_nodes(
    db: &mut PgConnection,
    no: i64,
    all: &[NewChangeNode],
    same: &[Uuid],
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/change/set_nodes_delete_change_node.sql"))
        .bind(no)
        .bind(same)
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/change/set_nodes_insert_change_node.sql"))
        .bind(no)
        .bind(all.iter().map(|new| new.node).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.state).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.placement).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.sources).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.unusable.as_deref()).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.before_state).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.before_placement).collect::<Vec<_>>())
        .bind(all.iter().map(|new| new.is_new).collect::<Vec<_>>())
        .execute(db)
        .await
        .map(|_| ())
}

/// Gives nodes what a change prepared for them. Their counters rise. A retired node is given nothing.
pub async fn hand_out(db: &mut PgConnection, no: i64, epoch: i64) -> sqlx::Result<()> {
    let now = sql_now();
    let updated = sqlx::query(include_str!("sql/change/hand_out_update_node_wanted.sql"))
        .bind(no)
        .bind(epoch)
        .bind(now)
        .execute(&mut *db)
        .await?
        .rows_affected();
    // The lock is held: where all of them were updated, none is looked for that was not.
    sqlx::query(include_str!("sql/change/hand_out_insert_node_wanted.sql"))
        .bind(no)
        .bind(epoch)
        .bind(now)
        .bind(i64::try_from(updated).unwrap_or(0))
        .execute(&mut *db)
        .await?;
    sqlx::query(include_str!("sql/change/hand_out_update_node_now.sql"))
        .bind(no)
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes that a change was handed out, with the counters before and after.
pub async fn set_handed_out(
    db: impl PgExecutor<'_>,
    no: i64,
    before: i64,
    impact: &Value,
) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/change/set_handed_out.sql"))
        .bind(no)
        .bind(sql_now())
        .bind(before)
        .bind(impact)
        .execute(db)
        .await
        .map(|_| ())
}

/// Nodes that a change takes from one state to another.
#[derive(Debug, sqlx::FromRow)]
pub struct TransitionRow {
    /// The id of the state before; 0 for none.
    pub before_state: i64,
    /// The id of the state after; 0 for none.
    pub state: i64,
    /// The clauses before.
    pub before: Vec<i64>,
    /// The clauses after.
    pub after: Vec<i64>,
    /// How many nodes.
    pub nodes: i64,
    /// Some of them.
    pub names: Vec<String>,
}

/// Returns from which states to which a change takes nodes, after a pair of them; at most 1,000 pairs.
pub async fn transitions(
    db: impl PgExecutor<'_>,
    no: i64,
    after: (i64, i64),
) -> sqlx::Result<Vec<TransitionRow>> {
    sqlx::query_as(include_str!("sql/change/transitions.sql"))
        .bind(no)
        .bind(after.0)
        .bind(after.1)
        .fetch_all(db)
        .await
}

/// How many nodes a change affects.
#[derive(Debug, sqlx::FromRow)]
pub struct AffectedRow {
    /// In all.
    pub nodes: i64,
    /// Those that get other settings.
    pub settings: i64,
    /// Those that joined after it was drafted.
    pub joined: i64,
}

/// Returns how many nodes a change affects.
pub async fn affected(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<AffectedRow> {
    sqlx::query_as(include_str!("sql/change/affected.sql")).bind(no).fetch_one(db).await
}

/// Returns the nodes whose next state cannot be resolved, although the present one could, with the reason; by name.
pub async fn unusable(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<(String, String)>> {
    sqlx::query_as(include_str!("sql/change/unusable.sql")).bind(no).fetch_all(db).await
}

/// Returns whether a change alters a node that belonged to none of these groups before.
pub async fn is_outside_of_groups(db: impl PgExecutor<'_>, no: i64, groups: &[String]) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/change/is_outside_of_groups.sql"))
        .bind(no)
        .bind(groups)
        .fetch_one(db)
        .await
}

/// Nodes of a change with another state that are to have the same settings.
#[derive(Debug, sqlx::FromRow)]
pub struct ChangedRow {
    /// The settings.
    pub settings: Json<AgentSettings>,
    /// How many nodes.
    pub nodes: i64,
    /// When the last of those checks in whose promise is ahead.
    pub last_at: Option<SqlTimestamp>,
    /// How many did not keep their promise, or gave none.
    pub not_expected: i64,
}

/// Returns the settings that nodes with another state are to have, with those nodes.
pub async fn settings_of_changed(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<ChangedRow>> {
    sqlx::query_as(include_str!("sql/change/settings_of_changed.sql"))
        .bind(no)
        .bind(sql_now())
        .fetch_all(db)
        .await
}

/// Returns nodes with a pending restart whose settings let them restart from a change on, with those settings; by name, at most 200.
pub async fn let_restart(
    db: impl PgExecutor<'_>,
    no: i64,
) -> sqlx::Result<Vec<(String, Json<RestartPending>, Json<AgentSettings>)>> {
    sqlx::query_as(include_str!("sql/change/let_restart.sql")).bind(no).fetch_all(db).await
}

/// Returns the baselines that are assigned to the nodes of a change and that their stage does not serve; at most 100.
pub async fn not_served(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(include_str!("sql/change/not_served.sql")).bind(no).fetch_all(db).await
}

/// Returns clauses by id: a digest of all but their origins, their address, and the addresses on whose correction each restarts.
pub async fn clauses(
    db: impl PgExecutor<'_>,
    ids: &[i64],
) -> sqlx::Result<Vec<(i64, String, String, Vec<String>)>> {
    sqlx::query_as(include_str!("sql/change/clauses.sql")).bind(ids).fetch_all(db).await
}

/// Returns the change that edited a document last, and who asked for it.
pub async fn last_of_key(db: impl PgExecutor<'_>, key: &DocumentKey) -> sqlx::Result<Option<(i64, String)>> {
    let edited = match key {
        DocumentKey::Stages | DocumentKey::Node(_) => {
            "(select max(no) from change where status = 'handed_out' and edits <> '[]' and edits @> jsonb_build_array(jsonb_build_object('key', $1)) and $2 = '')"
        }
        DocumentKey::Group(_) => "(select max(change) from node_group where name = $1 and $2 is not null)",
        DocumentKey::Served { .. } => "(select max(change) from served where stage = $1 and kit = $2)",
    };
    let named = key.to_string();
    let (first, second) = match key {
        DocumentKey::Stages | DocumentKey::Node(_) => (named.as_str(), ""),
        DocumentKey::Group(name) => (name.as_str(), ""),
        DocumentKey::Served { stage, kit } => (stage.as_str(), kit.as_str()),
    };
    sqlx::query_as(AssertSqlSafe(format!("select no, who from change where no = {edited}")))
        .bind(first)
        .bind(second)
        .fetch_optional(db)
        .await
}

/// Returns whether a change of a kind is queued or prepared.
pub async fn is_open(db: impl PgExecutor<'_>, kind: &str) -> sqlx::Result<bool> {
    sqlx::query_scalar(include_str!("sql/change/is_open.sql")).bind(kind).fetch_one(db).await
}

/// The change that altered a node last.
#[derive(Debug, sqlx::FromRow)]
pub struct ChangedByRow {
    /// Its number.
    pub no: i64,
    /// What it does, in words.
    pub what: String,
    /// Who asked for it.
    pub who: String,
    /// Why.
    pub because: Option<String>,
    /// When it was handed out.
    pub ended_at: SqlTimestamp,
}

/// Returns the change that said until when a node, by the key of its document, has a setting by itself.
pub async fn set_until_of_node(
    db: impl PgExecutor<'_>,
    node: &str,
    setting: &str,
) -> sqlx::Result<Option<ChangedByRow>> {
    sqlx::query_as(include_str!("sql/change/set_until_of_node.sql"))
        .bind(node)
        .bind(setting)
        .fetch_optional(db)
        .await
}

/// Returns the change that altered a node last.
pub async fn last_of_node(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<ChangedByRow>> {
    sqlx::query_as(include_str!("sql/change/last_of_node.sql")).bind(node).fetch_optional(db).await
}
