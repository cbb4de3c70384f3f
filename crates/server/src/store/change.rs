//! Changes of desired state, and the nodes that each alters.

use crate::clock::sql_now;
use constans_core::change::DocumentKey;
use jiff_sqlx::Timestamp as SqlTimestamp;
use serde_json::Value;
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
    /// The change that it takes back.
    pub goes_back: Option<i64>,
    /// The epoch.
    pub epoch: i64,
    /// `waiting`, or `handed_out` if it is for a single node.
    pub status: &'a str,
    /// The key of the request.
    pub request_key: Option<&'a str>,
}

/// Adds a change and returns its number.
pub async fn add(db: impl PgExecutor<'_>, new: &NewChange<'_>) -> sqlx::Result<i64> {
    sqlx::query_scalar(
        "insert into change (epoch, kind, what, who, because, edits, status, although_unusable, is_preview, confirmed, goes_back, drafted_at, ended_at, is_request, request_key)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, case when $7 = 'handed_out' then $12 end, $13, $14) returning no",
    )
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
    .fetch_one(db)
    .await
}

/// Returns how many changes that a person requested wait, or are previewed for one.
pub async fn open_requests(db: impl PgExecutor<'_>, who: &str) -> sqlx::Result<i64> {
    sqlx::query_scalar(
        "select count(*) from change
         where who = $1 and is_request and status in ('waiting', 'preparing', 'previewed', 'unconfirmed', 'requested')",
    )
    .bind(who)
    .fetch_one(db)
    .await
}

/// Returns the change that a person's request with this key made.
pub async fn by_request(db: impl PgExecutor<'_>, who: &str, key: &str) -> sqlx::Result<Option<i64>> {
    sqlx::query_scalar("select no from change where who = $1 and request_key = $2")
        .bind(who)
        .bind(key)
        .fetch_optional(db)
        .await
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
    /// The change that it takes back.
    pub goes_back: Option<i64>,
    /// When it was asked for.
    pub drafted_at: SqlTimestamp,
    /// When it was handed out, or ended otherwise.
    pub ended_at: Option<SqlTimestamp>,
    /// How many nodes are given something else by it and do not have it yet. Those that a later change altered are not counted.
    pub outstanding: i64,
}

const COLUMNS: &str = "c.no, c.kind, c.what, c.who, c.because, c.edits, c.status, c.although_unusable, c.is_preview, c.is_request, c.approved_by, c.confirmed, c.confirmed_by, c.base_rev, c.snapshot,
    c.impact, c.refused, c.hint, c.goes_back, c.drafted_at, c.ended_at, (select count(*) from change_node n join node_wanted w on w.node = n.node and w.change = n.change
        where n.change = c.no and n.is_new and n.taken_at is null) as outstanding
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
    sqlx::query_scalar("select status from change where no = $1").bind(no).fetch_one(db).await
}

/// Returns the changes before a number, the newest first; at most 100.
pub async fn list(db: impl PgExecutor<'_>, before: i64, node: Option<Uuid>) -> sqlx::Result<Vec<ChangeRow>> {
    let sql = format!(
        "select {COLUMNS} where c.no in (select no from change where no < $1
             and ($2::uuid is null or exists (select 1 from change_node o where o.change = no and o.node = $2)) order by no desc limit 100)
         order by c.no desc"
    );
    sqlx::query_as(AssertSqlSafe(sql)).bind(before).bind(node).fetch_all(db).await
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

/// Returns the nodes that a change gives something else, those that do not have it first; at most 1,000.
pub async fn nodes(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<ChangedNodeRow>> {
    sqlx::query_as(
        "select node.name, c.taken_at, n.promised_at, coalesce(w.change > c.change, false) as is_later
         from change_node c join node on node.id = c.node left join node_now n on n.node = c.node left join node_wanted w on w.node = c.node
         where c.change = $1 and c.is_new order by c.taken_at is not null, node.name limit 1000",
    )
    .bind(no)
    .fetch_all(db)
    .await
}

/// Begins to prepare a change from the fleet as it is: what was prepared of it before is dropped.
pub async fn begin(db: &mut PgConnection, no: i64, rev: i64, epoch: i64, snapshot: &str) -> sqlx::Result<()> {
    drop_nodes(&mut *db, &[no]).await?;
    sqlx::query(
        "update change set status = 'preparing', base_rev = $2, epoch = $3, snapshot = $4 where no = $1",
    )
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
    sqlx::query(
        "with dropped as (delete from change_node where change = any($1) returning change, state)
         insert into dropped_state (state, since)
         select d.state, min(c.drafted_at) from dropped d join change c on c.no = d.change
             join effective_state s on s.id = d.state and s.made_at >= c.drafted_at
         group by d.state on conflict (state) do nothing",
    )
    .bind(changes)
    .execute(db)
    .await
    .map(|_| ())
}

/// Returns whether states of dropped changes may be deleted now: there are some, and no change is prepared or about to be
/// confirmed, which would have to be prepared again.
pub async fn has_dropped_states(db: impl PgExecutor<'_>) -> sqlx::Result<bool> {
    sqlx::query_scalar(
        "select exists (select 1 from dropped_state) and not exists (select 1 from job where ended_at is null)
             and not exists (select 1 from change where status in ('waiting', 'preparing', 'previewed', 'unconfirmed'))",
    )
    .fetch_one(db)
    .await
}

/// Deletes the states of dropped changes that no node and no other change has. Returns how many. Under the exclusive lock only,
/// and the revision has to be raised: what is prepared meanwhile may take one of them for stored.
pub async fn forget_dropped_states(db: &mut PgConnection) -> sqlx::Result<u64> {
    // A state that was made after a change was drafted can be that of changes only that were not over by then.
    let deleted = sqlx::query(
        "with later as materialized (select cn.state, cn.before_state from change_node cn where cn.change in
             (select no from change where ended_at is null or ended_at >= (select min(since) from dropped_state)))
         delete from effective_state s using dropped_state d where s.id = d.state
             and not exists (select 1 from node_wanted w where w.state = s.id)
             and not exists (select 1 from later where later.state = s.id)
             and not exists (select 1 from later where later.before_state = s.id)
             and not exists (select 1 from node_now n where n.full_state = s.digest)
             and not exists (select 1 from node_now n where n.has_state = s.digest)",
    )
    .execute(&mut *db)
    .await?
    .rows_affected();
    sqlx::query("delete from dropped_state").execute(db).await?;
    Ok(deleted)
}

/// Goes on from a later snapshot.
pub async fn set_snapshot(db: impl PgExecutor<'_>, no: i64, snapshot: &str) -> sqlx::Result<()> {
    sqlx::query("update change set snapshot = $2 where no = $1")
        .bind(no)
        .bind(snapshot)
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes the impact of a change.
pub async fn set_impact(db: impl PgExecutor<'_>, no: i64, impact: &Value) -> sqlx::Result<()> {
    sqlx::query("update change set impact = $2 where no = $1")
        .bind(no)
        .bind(impact)
        .execute(db)
        .await
        .map(|_| ())
}

/// Ends a change, or lets it wait for a person.
pub async fn set_status(
    db: impl PgExecutor<'_>,
    no: i64,
    status: &str,
    refused: Option<(&str, &str)>,
) -> sqlx::Result<()> {
    let (refused, hint) = refused.unzip();
    sqlx::query("update change set status = $2, refused = $3, hint = $4, ended_at = $5 where no = $1")
        .bind(no)
        .bind(status)
        .bind(refused)
        .bind(hint)
        .bind(sql_now())
        .execute(db)
        .await
        .map(|_| ())
}

/// Queues a change again that waited for a person, with what was confirmed. Returns whether it did wait.
pub async fn confirm(db: impl PgExecutor<'_>, no: i64, confirmed: &Value, who: &str) -> sqlx::Result<bool> {
    let done = sqlx::query(
        "update change set status = 'waiting', is_preview = false, confirmed = $2, confirmed_by = $3, ended_at = null
         where no = $1 and status in ('unconfirmed', 'previewed')",
    )
    .bind(no)
    .bind(confirmed)
    .bind(who)
    .execute(db)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Queues a requested change again that another person approved. Returns whether it was requested, by somebody else.
pub async fn approve(db: impl PgExecutor<'_>, no: i64, confirmed: &Value, who: &str) -> sqlx::Result<bool> {
    let done = sqlx::query(
        "update change set status = 'waiting', is_preview = false, confirmed = $2, approved_by = $3, ended_at = null
         where no = $1 and status = 'requested' and who <> $3",
    )
    .bind(no)
    .bind(confirmed)
    .bind(who)
    .execute(db)
    .await?;
    Ok(done.rows_affected() > 0)
}

/// Drops changes that waited for a person for over an hour, or all that are not done.
pub async fn drop_unfinished(db: &mut PgConnection, also_queued: bool) -> sqlx::Result<()> {
    let dropped: Vec<i64> = sqlx::query_scalar(
        "update change set status = 'dropped', ended_at = $1
         where status in ('unconfirmed', 'previewed') and ended_at < $1::timestamptz - interval '1 hour' or $2 and status in ('waiting', 'preparing', 'unconfirmed', 'previewed', 'requested')
         returning no",
    )
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
}

/// Stores how a change is to leave nodes; of `same`, that it leaves them as they are.
pub async fn set_nodes(
    db: &mut PgConnection,
    no: i64,
    all: &[NewChangeNode],
    same: &[Uuid],
) -> sqlx::Result<()> {
    sqlx::query("delete from change_node where change = $1 and node = any($2)")
        .bind(no)
        .bind(same)
        .execute(&mut *db)
        .await?;
    sqlx::query(
        "insert into change_node (change, node, state, placement, sources, unusable, before_state, before_placement, is_new)
         select $1, * from unnest($2::uuid[], $3::bigint[], $4::bigint[], $5::bigint[], $6::text[], $7::bigint[], $8::bigint[], $9::boolean[])
         on conflict (change, node) do update set state = excluded.state, placement = excluded.placement, sources = excluded.sources,
             unusable = excluded.unusable, before_state = excluded.before_state, before_placement = excluded.before_placement, is_new = excluded.is_new",
    )
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
    let updated = sqlx::query(
        "update node_wanted w set state = c.state, placement = c.placement, sources = c.sources, unusable = c.unusable, change = c.change,
             epoch = case when c.is_new then $2 else w.epoch end,
             counter = case when c.is_new then nextval('generation_counter') else w.counter end,
             state_since = case when c.state is distinct from w.state then $3 else w.state_since end,
             settings_since = case when c.is_new and c.placement is distinct from w.placement then $3 else w.settings_since end
         from change_node c join node on node.id = c.node where c.change = $1 and w.node = c.node and node.retired_at is null",
    )
    .bind(no)
    .bind(epoch)
    .bind(now)
    .execute(&mut *db)
    .await?
    .rows_affected();
    // The lock is held: where all of them were updated, none is looked for that was not.
    sqlx::query(
        "insert into node_wanted (node, state, placement, sources, unusable, change, epoch, counter, state_since, settings_since)
         select c.node, c.state, c.placement, c.sources, c.unusable, c.change, $2, nextval('generation_counter'), case when c.state is not null then $3::timestamptz end, $3
         from change_node c join node on node.id = c.node
         where c.change = $1 and (select count(*) from change_node where change = $1) > $4
             and node.retired_at is null and not exists (select 1 from node_wanted w where w.node = c.node)",
    )
    .bind(no)
    .bind(epoch)
    .bind(now)
    .bind(i64::try_from(updated).unwrap_or(0))
    .execute(&mut *db)
    .await?;
    sqlx::query(
        "update node_now n set is_unusable = c.unusable is not null
         from change_node c where c.change = $1 and n.node = c.node and n.is_unusable <> (c.unusable is not null)
             and (exists (select 1 from node_now where is_unusable) or exists (select 1 from change_node where change = $1 and unusable is not null))",
    )
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
    sqlx::query(
        "update change set status = 'handed_out', ended_at = $2, impact = $4, first_counter = $3 + 1,
             last_counter = (select last_value from generation_counter) where no = $1",
    )
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
    sqlx::query_as(
        "select t.before_state, t.state, coalesce(b.clauses, '{}') as before, coalesce(a.clauses, '{}') as after, t.nodes, t.names
         from (select coalesce(before_state, 0) as before_state, coalesce(state, 0) as state, count(*) as nodes, (array_agg(node.name order by node.name))[1:3] as names
               from change_node c join node on node.id = c.node and node.retired_at is null
               where change = $1 and state is distinct from before_state and (coalesce(before_state, 0), coalesce(state, 0)) > ($2, $3)
               group by 1, 2 order by 1, 2 limit 1000) t
             left join effective_state b on b.id = t.before_state left join effective_state a on a.id = t.state
         order by t.before_state, t.state",
    )
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
    sqlx::query_as(
        "select count(*) as nodes, count(*) filter (where p.settings_digest is distinct from b.settings_digest) as settings,
             count(*) filter (where node.joined_at > (select drafted_at from change where no = $1)) as joined
         from change_node c join node on node.id = c.node and node.retired_at is null
             join placement p on p.id = c.placement left join placement b on b.id = c.before_placement
         where c.change = $1 and c.is_new",
    )
    .bind(no)
    .fetch_one(db)
    .await
}

/// Returns the nodes whose next state cannot be resolved, although the present one could, with the reason; by name.
pub async fn unusable(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<(String, String)>> {
    sqlx::query_as(
        "select node.name, c.unusable from change_node c join node on node.id = c.node and node.retired_at is null
             left join node_wanted w on w.node = c.node
         where c.change = $1 and c.unusable is not null and w.unusable is null order by node.name limit 100000",
    )
    .bind(no)
    .fetch_all(db)
    .await
}

/// Returns the baselines that are assigned to the nodes of a change and that their stage does not serve; at most 100.
pub async fn not_served(db: impl PgExecutor<'_>, no: i64) -> sqlx::Result<Vec<String>> {
    sqlx::query_scalar(
        "select distinct jsonb_array_elements_text(s.body -> 'not_served') as baseline
         from (select distinct sources from change_node where change = $1) c join state_sources s on s.id = c.sources order by baseline limit 100",
    )
    .bind(no)
    .fetch_all(db)
    .await
}

/// Returns clauses by id: a digest of all but their origins, their address, and the addresses on whose correction each restarts.
pub async fn clauses(
    db: impl PgExecutor<'_>,
    ids: &[i64],
) -> sqlx::Result<Vec<(i64, String, String, Vec<String>)>> {
    sqlx::query_as(
        "select id, md5((body::jsonb - 'origins')::text), body ->> 'address', case when body ->> 'reaction' = 'restart'
             then coalesce((select array_agg(on_what) from json_array_elements_text(body -> 'reacts_to') as on_what), '{}') else '{}' end
         from clause where id = any($1)",
    )
    .bind(ids)
    .fetch_all(db)
    .await
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
    sqlx::query_scalar(
        "select exists (select 1 from change where kind = $1 and status in ('waiting', 'preparing'))",
    )
    .bind(kind)
    .fetch_one(db)
    .await
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

/// Returns the change that altered a node last.
pub async fn last_of_node(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<Option<ChangedByRow>> {
    sqlx::query_as("select c.no, c.what, c.who, c.because, c.ended_at from node_wanted w join change c on c.no = w.change where w.node = $1 and c.ended_at is not null")
        .bind(node)
        .fetch_optional(db)
        .await
}
