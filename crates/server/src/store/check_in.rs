//! What the last check-in of each node left, and the check-ins as spans: an unbroken row of kept promises is one row.

use super::wanted::WantedRow;
use constans_core::node_status::{DEFAULT_CUT_OFF, Promise};
use constans_wire::check_in::Held;
use jiff::Timestamp;
use jiff_sqlx::{Timestamp as SqlTimestamp, ToSqlx as _};
use sqlx::{AssertSqlSafe, PgConnection, PgExecutor};
use uuid::Uuid;

/// A check-in.
#[derive(Debug, Clone)]
pub struct NewCheckIn {
    /// The node.
    pub node: Uuid,
    /// When it arrives, and when the next one is due.
    pub promise: Promise,
    /// The node's clock minus the server's, in milliseconds.
    pub clock_off_ms: i64,
    /// The mark that is shown.
    pub shown: Option<Uuid>,
    /// The mark that is given.
    pub given: Uuid,
    /// What the node has.
    pub has: Option<Held>,
    /// The digest of what it reports about itself.
    pub attributes_digest: Vec<u8>,
}

/// What a check-in without news is answered from.
#[derive(Debug, sqlx::FromRow)]
pub struct PlainRow {
    /// The node.
    pub node: Uuid,
    /// Its name.
    pub name: String,
    /// Its newest wake; 0 before the first.
    pub wake: i64,
    /// Whether it is to do a self-test.
    pub is_asked: bool,
    /// Whether it is to take part in a sweep.
    pub is_swept: bool,
    /// What is wanted of it; without a state if it was never resolved.
    #[sqlx(flatten)]
    pub wanted: WantedRow,
}

/// Whether the check-in `new` shows that the node has its desired state `w`.
const HAS_WANTED: &str = "(new.has_counter = w.counter and new.has_epoch = w.epoch)";

/// How the node's row follows when it learned its settings, those of the placement `p`: its next full run is overdue by those that
/// it knows, and never before it could know them. What its last run found counts as long.
const LEARNED: &str =
    "overdue_secs = case when (new.has_counter = w.counter and new.has_epoch = w.epoch) then p.overdue_secs else n.overdue_secs end,
                 overdue_at = case when (new.has_counter = w.counter and new.has_epoch = w.epoch) and p.overdue_secs is distinct from n.overdue_secs
                     then new.heard_at + make_interval(secs => p.overdue_secs) else n.overdue_at end,
                 known_until = case when (new.has_counter = w.counter and new.has_epoch = w.epoch) and p.overdue_secs is distinct from n.overdue_secs and n.known_until > new.heard_at
                     then greatest(n.ran_at + make_interval(secs => p.overdue_secs), least(n.known_until, new.heard_at + make_interval(secs => p.overdue_secs)))
                     else n.known_until end";

/// How a span is lengthened by the check-in `c`.
const LENGTHENED: &str = "last_at = c.heard_at, count = count + 1, promised_at = c.promised_at, clock_off_ms = c.clock_off_ms,
             largest_gap_ms = greatest(largest_gap_ms, (extract(epoch from (c.heard_at - last_at)) * 1000)::bigint)";

/// Takes in those of these check-ins, each with the digest of the caller's key, that are without news: the node is not
/// refused, comes as promised, shows a mark that is good, and reports the same about itself as before. Nothing is written of the
/// others, and they are not returned. No node may be among them twice.
pub async fn take_plain(
    db: impl PgExecutor<'_>,
    all: &[(NewCheckIn, Vec<u8>)],
) -> sqlx::Result<Vec<PlainRow>> {
    let has =
        |read: fn(&Held) -> i64| all.iter().map(|(new, _)| new.has.as_ref().map(read)).collect::<Vec<_>>();
    let at = |read: fn(&Promise) -> Timestamp| {
        all.iter().map(|(new, _)| read(&new.promise).to_sqlx()).collect::<Vec<_>>()
    };
    let sql = format!(
        "with new as (
             select * from unnest($1::uuid[], $2::bytea[], $3::uuid[], $4::uuid[], $5::bigint[], $6::bigint[], $7::text[], $8::timestamptz[],
                     $9::timestamptz[], $10::timestamptz[], $11::timestamptz[], $12::bigint[], $13::bytea[])
                 as new (node, spki, shown, given, has_epoch, has_counter, has_state, heard_at, promised_at, on_time_until, silent_after, clock_off_ms, attributes_digest)
         ), c as (
             update node_now n set mark_before = new.shown, mark = new.given, has_epoch = new.has_epoch, has_counter = new.has_counter,
                 has_state = new.has_state, heard_at = new.heard_at, promised_at = new.promised_at, on_time_until = new.on_time_until,
                 silent_after = new.silent_after, clock_off_ms = new.clock_off_ms, {LEARNED}
             from new join node on node.id = new.node join node_key on node_key.node = new.node and node_key.spki_digest = new.spki
                 left join node_wanted w on w.node = new.node left join placement p on p.id = w.placement
             where n.node = new.node and not node.input_pending and node.revoked_at is null and node.retired_at is null and node_key.revoked_at is null
                 and (n.mark = new.shown or n.mark_before = new.shown) and n.duplicate_identity_since is null and n.on_time_until >= new.heard_at and n.attributes_digest = new.attributes_digest
             returning n.node, n.heard_span, node.name, new.heard_at, new.promised_at, new.clock_off_ms, w.state, w.epoch, w.counter, p.settings,
                 case when {HAS_WANTED} then w.change end as change
         ), t as (
             update change_node t set taken_at = c.heard_at from c where t.change = c.change and t.node = c.node and t.taken_at is null
         ), a as (
             update wake_node set answered_at = (select max(heard_at) from c) where answered_at is null and node = any(array(select node from c))
         ), h as (
             update heard set {LENGTHENED} from c where heard.id = c.heard_span
         )
         select c.node, c.name, s.digest as state, coalesce(c.epoch, 0) as epoch, coalesce(c.counter, 0) as counter, coalesce(c.settings, '{{}}') as settings,
             exists (select 1 from recovery where ended_at is null) as recovering, coalesce(k.wake, 0) as wake,
             exists (select 1 from self_test x where x.node = c.node and x.reported_at is null and x.ends_at > c.heard_at)
                 or exists (select 1 from inspection x where x.node = c.node and x.told_at is null and x.ends_at > c.heard_at)
                 or exists (select 1 from followed x where x.node = c.node and x.until_at > c.heard_at)
                 or exists (select 1 from drill x where x.node = c.node and x.told is null and x.offered_until > c.heard_at and x.over_at is null) as is_asked,
             exists (select 1 from sweep_node x join sweep s on s.no = x.sweep where x.node = c.node and x.done_at is null and x.refused is null
                 and s.begins_at <= c.heard_at and s.ends_at > c.heard_at and s.stopped_at is null) as is_swept
         from c left join effective_state s on s.id = c.state left join node_wake k on k.node = c.node"
    );
    sqlx::query_as(AssertSqlSafe(sql))
        .bind(all.iter().map(|(new, _)| new.node).collect::<Vec<_>>())
        .bind(all.iter().map(|(_, spki)| spki.as_slice()).collect::<Vec<_>>())
        .bind(all.iter().map(|(new, _)| new.shown).collect::<Vec<_>>())
        .bind(all.iter().map(|(new, _)| new.given).collect::<Vec<_>>())
        .bind(has(|has| has.generation.epoch))
        .bind(has(|has| has.generation.counter))
        .bind(all.iter().map(|(new, _)| new.has.as_ref().map(|has| has.digest.as_str())).collect::<Vec<_>>())
        .bind(at(|promise| promise.heard_at))
        .bind(at(|promise| promise.next_at))
        .bind(at(Promise::on_time_until))
        .bind(at(|promise| promise.silent_after(DEFAULT_CUT_OFF)))
        .bind(all.iter().map(|(new, _)| new.clock_off_ms).collect::<Vec<_>>())
        .bind(all.iter().map(|(new, _)| new.attributes_digest.as_slice()).collect::<Vec<_>>())
        .fetch_all(db)
        .await
}

/// The last check-in of a node.
#[derive(Debug, sqlx::FromRow)]
pub struct LastRow {
    /// The mark that was given.
    pub mark: Option<Uuid>,
    /// The mark that was shown for it.
    pub mark_before: Option<Uuid>,
    /// Whether two machines were seen with this identity.
    pub has_duplicate_identity: bool,
    /// The span of check-ins that it lengthened; none before the first.
    pub heard_span: Option<i64>,
    /// Until when the node is on time.
    pub on_time_until: Option<SqlTimestamp>,
    /// The digest of the attributes that the node reported last.
    pub attributes_digest: Option<Vec<u8>>,
}

/// Returns the last check-in of a node. How the node is now is locked until the transaction ends.
pub async fn last(db: impl PgExecutor<'_>, node: Uuid) -> sqlx::Result<LastRow> {
    sqlx::query_as(include_str!("sql/check_in/last.sql")).bind(node).fetch_one(db).await
}

/// Notes a check-in: it lengthens `span`, or begins another if there is none to lengthen.
///
/// The mark that was shown stays good beside the one that is given: the answer may be lost. The one given before, if it was
/// not shown, does not: a later caller with it is another machine than the one that was here now.
pub async fn note(
    db: &mut PgConnection,
    new: &NewCheckIn,
    span: Option<i64>,
    has_duplicate_identity: bool,
) -> sqlx::Result<()> {
    let (heard_at, promised_at) = (new.promise.heard_at.to_sqlx(), new.promise.next_at.to_sqlx());
    let lengthen = format!(
        "update heard set {LENGTHENED} from (select $2::timestamptz as heard_at, $3::timestamptz as promised_at, $4::bigint as clock_off_ms) c
         where id = $1 returning id"
    );
    let begin = "insert into heard (node, first_at, last_at, count, largest_gap_ms, promised_at, clock_off_ms) values ($1, $2, $2, 1, 0, $3, $4) returning id";
    let span: i64 = match span {
        Some(span) => sqlx::query_scalar(AssertSqlSafe(lengthen)).bind(span),
        None => sqlx::query_scalar(begin).bind(new.node),
    }
    .bind(heard_at)
    .bind(promised_at)
    .bind(new.clock_off_ms)
    .fetch_one(&mut *db)
    .await?;
    sqlx::query(include_str!("sql/check_in/note.sql"))
        .bind(new.node)
        .bind(new.given)
        .bind(has_duplicate_identity)
        .bind(new.has.as_ref().map(|has| has.generation.epoch))
        .bind(new.has.as_ref().map(|has| has.generation.counter))
        .bind(new.has.as_ref().map(|has| has.digest.as_str()))
        .bind(new.shown)
        .bind(span)
        .bind(heard_at)
        .bind(promised_at)
        .bind(new.promise.on_time_until().to_sqlx())
        .bind(new.promise.silent_after(DEFAULT_CUT_OFF).to_sqlx())
        .bind(new.clock_off_ms)
        .bind(&new.attributes_digest)
        .execute(&mut *db)
        .await?;
    learn(db, new).await
}

/// Notes that a node has its desired state, if the check-in shows that.
async fn learn(db: &mut PgConnection, new: &NewCheckIn) -> sqlx::Result<()> {
    let sql = format!(
        "with new as (select $1::uuid as node, $2::bigint as has_epoch, $3::bigint as has_counter, $4::timestamptz as heard_at), c as (
             update node_now n set {LEARNED} from new join node_wanted w on w.node = new.node left join placement p on p.id = w.placement
             where n.node = new.node and {HAS_WANTED} returning n.node, w.change
         )
         update change_node t set taken_at = $4 from c where t.change = c.change and t.node = c.node and t.taken_at is null"
    );
    sqlx::query(AssertSqlSafe(sql))
        .bind(new.node)
        .bind(new.has.as_ref().map(|has| has.generation.epoch))
        .bind(new.has.as_ref().map(|has| has.generation.counter))
        .bind(new.promise.heard_at.to_sqlx())
        .execute(db)
        .await
        .map(|_| ())
}

/// Notes a person's decision: the machine that checks in next is the node. Returns whether there was anything to decide.
pub async fn resolve_duplicate(db: &mut PgConnection, node: Uuid) -> sqlx::Result<bool> {
    let has_duplicate_identity: Option<bool> =
        sqlx::query_scalar(include_str!("sql/check_in/resolve_duplicate.sql"))
            .bind(node)
            .fetch_optional(&mut *db)
            .await?;
    if has_duplicate_identity.is_some() {
        forget(db, node).await?;
    }
    Ok(has_duplicate_identity.is_some())
}

/// Forgets the marks of a node that comes back on a new machine, what it has, and the digest of its attributes; not when it was
/// heard.
pub async fn forget(db: &mut PgConnection, node: Uuid) -> sqlx::Result<()> {
    sqlx::query(include_str!("sql/check_in/forget.sql")).bind(node).execute(db).await.map(|_| ())
}
