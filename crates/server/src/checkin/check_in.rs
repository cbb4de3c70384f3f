//! Check-ins.

use super::{drill, freezes, inspection, self_test, sweep};
use crate::body::NodeBody;
use crate::callers::ShownCertificate;
use crate::change::single::{Occasion, resolve_single};
use crate::here::Here;
use crate::intake::batch::{Batched, Batcher};
use crate::metrics::{Intake, IntakePath, Queue};
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::check_in::{self as stored, LastRow, NewCheckIn, PlainRow};
use crate::store::freeze::{self, InForceRow};
use crate::store::wanted::{self, WantedRow};
use crate::store::{event, fleet, follow, node, node_attribute, recovery, wake};
use crate::trust::digest_of;
use constans_core::node_status::Promise;
use constans_core::run::{AgentUpgrade, RestartPending};
use constans_wire::check_in::{CheckIn, CheckInAnswer, Generation, WantedOffer};
use constans_wire::node_event::NodeEvent;
use jiff::{SignedDuration, Timestamp};
use rocket::serde::json::Json;
use rocket::{State, post};
use serde::Serialize;
use serde_json::{Value, json};
use sqlx::PgPool;
use std::collections::HashMap;
use std::sync::Arc;
use uuid::Uuid;

/// The longest promise that is taken: a node that promises more would never be late.
const LONGEST_PROMISE_SECS: u64 = 7 * 86_400;

/// This many causes of a pending restart are kept, and this many characters of each.
const MAX_CAUSES: usize = 50;
const MAX_CAUSE_TEXT: usize = 200;

/// This many characters are kept of the version that an agent is upgraded to, and of why it was not.
const MAX_VERSION: usize = 64;
const MAX_UPGRADE_TEXT: usize = 500;

/// A check-in, with the digest of the caller's key.
pub type ShownCheckIn = (NewCheckIn, Vec<u8>);

impl Batched for ShownCheckIn {
    type Done = (PlainRow, Arc<[InForceRow]>);

    fn node(&self) -> Uuid {
        self.0.node
    }

    async fn take(db: &PgPool, all: &[Self]) -> sqlx::Result<HashMap<Uuid, Self::Done>> {
        let rows = stored::take_plain(db, all).await?;
        let in_force: Arc<[InForceRow]> =
            freeze::in_force(db, &rows.iter().map(|row| row.node).collect::<Vec<_>>()).await?.into();
        Ok(rows.into_iter().map(|row| (row.node, (row, in_force.clone()))).collect())
    }
}

/// A node is here, and promises its next check-in.
#[utoipa::path(tag = "agents", security(("node" = [])), request_body = CheckIn, responses((status = 200, body = CheckInAnswer)))]
#[post("/check-in", data = "<check_in>")]
pub async fn check_in(
    check_in: NodeBody<CheckIn>,
    shown: ShownCertificate,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
    together: &State<Batcher<ShownCheckIn>>,
) -> Answer<CheckInAnswer> {
    let (check_in, now) = (check_in.sent_by(&shown, db).await?, crate::clock::now());
    let of_itself = OfItself::from_check_in(&check_in, here)?;
    let new = new_check_in(&check_in, shown.node, of_itself.digest()?, now);
    here.metrics.waiting.get_or_create(&Queue { queue: "check_ins" }).set(together.waiting() as i64);
    let (name, wake, is_asked, wanted, in_force) =
        match together.take((new.clone(), shown.spki.clone())).await {
            Some((row, in_force)) => {
                here.metrics.check_ins.get_or_create(&Intake { path: IntakePath::Batched }).inc();
                let is_asked = Asked { to_tell: row.is_asked, sweep: row.is_swept };
                (row.name, row.wake, is_asked, Some(row.wanted), in_force)
            }
            None => {
                here.metrics.check_ins.get_or_create(&Intake { path: IntakePath::Single }).inc();
                let node = shown.caller(db).await?;
                let (wanted, wake) = take_in(db, here, &node.name, &new, &of_itself).await?;
                let is_asked = Asked { to_tell: true, sweep: true };
                let in_force = freeze::in_force(db.inner(), &[shown.node]).await?.into();
                (node.name, wake, is_asked, wanted, in_force)
            }
        };
    let recovering = wanted.as_ref().is_some_and(|row| row.recovering);
    let freezes = freezes::offer(db, &check_in, &in_force, shown.node, recovering, now).await?;
    let offered = wanted.map_or(Ok(None), offer)?;
    if let Some(offered) = &offered {
        note_handed_out(db, here, offered.generation).await?;
    }
    here.waking.checked_in(shown.node);
    let self_test = if is_asked.to_tell { self_test::offer(db, shown.node).await? } else { None };
    let inspections = if is_asked.to_tell { inspection::offers(db, shown.node).await? } else { Vec::new() };
    let is_followed = is_asked.to_tell && follow::is_followed(db.inner(), shown.node).await?;
    let drill = if is_asked.to_tell && !recovering { drill::offer(db, shown.node).await? } else { None };
    let is_swept = is_asked.sweep && !recovering;
    let sweeps = if is_swept { sweep::offers(db, shown.node, now).await? } else { Vec::new() };
    Ok(Json(CheckInAnswer {
        name,
        now,
        mark: new.given,
        wanted: offered,
        recovering,
        freezes,
        wake: Some(wake),
        self_test,
        inspections,
        is_followed,
        drill,
        sweeps,
    }))
}

/// What a node may be asked for beside what is wanted of it.
struct Asked {
    /// For a self-test, to tell what is there, or what comes out of its runs, or for a drill.
    to_tell: bool,
    sweep: bool,
}

fn new_check_in(check_in: &CheckIn, node: Uuid, digest: Vec<u8>, now: Timestamp) -> NewCheckIn {
    let next_secs = i64::try_from(check_in.next_in_secs.min(LONGEST_PROMISE_SECS)).unwrap_or(0);
    NewCheckIn {
        node,
        promise: Promise { heard_at: now, next_at: now + SignedDuration::from_secs(next_secs) },
        clock_off_ms: i64::try_from(check_in.now.duration_since(now).as_millis()).unwrap_or(i64::MAX),
        shown: check_in.mark,
        given: Uuid::now_v7(),
        has: check_in.has.clone(),
        attributes_digest: digest,
    }
}

/// What a node reports about itself, as node attributes.
#[derive(Serialize)]
struct OfItself {
    agent: Value,
    about: Value,
    restart_pending: Value,
    upgrade: Value,
    freezes: Value,
    hosts_server: bool,
}

impl OfItself {
    fn from_check_in(check_in: &CheckIn, here: &Here) -> Result<Self, ApiError> {
        let about = serde_json::to_value(check_in.about.only_stable())
            .map_err(|error| ApiError::failed("writing JSON", &error))?;
        let restart_pending = json!(check_in.restart_pending.as_ref().map(bounded));
        Ok(Self {
            agent: json!(check_in.agent),
            about,
            restart_pending,
            upgrade: json!(check_in.upgrade.as_ref().map(bounded_upgrade)),
            freezes: json!(check_in.freezes.as_ref().map(freezes::bounded)),
            hosts_server: here.machine.name.is_some() && check_in.machine == here.machine.name,
        })
    }

    fn digest(&self) -> Result<Vec<u8>, ApiError> {
        serde_json::to_vec(self)
            .map(|bytes| digest_of(&bytes))
            .map_err(|error| ApiError::failed("writing JSON", &error))
    }
}

/// Takes in a check-in that may bring news, and returns the desired state of the node and its newest wake.
async fn take_in(
    db: &PgPool,
    here: &Here,
    name: &str,
    new: &NewCheckIn,
    of_itself: &OfItself,
) -> Result<(Option<WantedRow>, i64), ApiError> {
    let node = new.node;
    let mut transaction = db.begin().await?;
    wanted::lock_node(&mut *transaction, node).await?;
    let last = stored::last(&mut *transaction, node).await?;
    let span = last
        .heard_span
        .filter(|_| last.on_time_until.is_some_and(|until| until.to_jiff() >= new.promise.heard_at));
    let has_duplicate = shows_two_machines(&last, new.shown);
    stored::note(&mut transaction, new, span, has_duplicate).await?;
    if has_duplicate && !last.has_duplicate_identity {
        event::add_of_node(&mut *transaction, node, &[NodeEvent::DuplicateIdentity]).await?;
    }
    if last.attributes_digest.as_ref() != Some(&new.attributes_digest) {
        node_attribute::set(&mut transaction, node, "agent", &of_itself.agent).await?;
        node_attribute::set(&mut transaction, node, "restart_pending", &of_itself.restart_pending).await?;
        node_attribute::set(&mut transaction, node, "agent_upgrade", &of_itself.upgrade).await?;
        node_attribute::set(&mut transaction, node, "freezes", &of_itself.freezes).await?;
        let is_moved = node::set_hosts_server(&mut *transaction, new.node, of_itself.hosts_server).await?;
        if node_attribute::set(&mut transaction, node, "about", &of_itself.about).await? || is_moved {
            // What the node is may decide what it should be. While something is handed out that is found out a little later.
            if fleet::try_share(&mut *transaction).await? {
                let occasion = Occasion {
                    kind: "reported",
                    what: &format!("{name} reported something else about itself"),
                    who: name,
                };
                resolve_single(&mut transaction, here, node, &occasion).await?;
            } else {
                wanted::set_pending(&mut *transaction, node).await?;
            }
        }
    }
    let wake = wake::answer(&mut transaction, node, new.promise.heard_at).await?;
    let wanted = wanted::of(&mut *transaction, node).await?;
    transaction.commit().await?;
    if span.is_none() {
        // It was away or new; who keeps its promises changes no page.
        here.waker.wake("nodes");
    }
    Ok((wanted, wake))
}

/// Who shows neither the mark that was given last nor the one that was shown for it is another machine, or an old image.
fn shows_two_machines(last: &LastRow, shown: Option<Uuid>) -> bool {
    let is_known = shown == last.mark || shown == last.mark_before;
    let was_any_shown = last.mark_before.is_some() || shown.is_some();
    last.has_duplicate_identity || (last.mark.is_some() && was_any_shown && !is_known)
}

/// Returns what a node reports of the upgrade of its agent, as much of it as people read.
fn bounded_upgrade(AgentUpgrade { to, state, why }: &AgentUpgrade) -> AgentUpgrade {
    let short = |text: &String, most| text.chars().take(most).collect();
    AgentUpgrade {
        to: short(to, MAX_VERSION),
        state: *state,
        why: why.as_ref().map(|why| short(why, MAX_UPGRADE_TEXT)),
    }
}

/// Returns what a node reports of a pending restart, as much of it as people read.
fn bounded(pending: &RestartPending) -> RestartPending {
    let because =
        pending.because.iter().take(MAX_CAUSES).map(|cause| cause.chars().take(MAX_CAUSE_TEXT).collect());
    RestartPending { since: pending.since, because: because.collect() }
}

/// Notes durably that a generation is handed out. What was made together with it is noted with it: after a change for all
/// nodes that is one writing, not one a node.
async fn note_handed_out(db: &PgPool, here: &Arc<Here>, generation: Generation) -> Result<(), ApiError> {
    if here.handed_out.has(generation) {
        return Ok(());
    }
    let newest = Generation { epoch: generation.epoch, counter: recovery::newest_counter(db).await? };
    let here = here.clone();
    let noted = tokio::task::spawn_blocking(move || here.handed_out.note(newest.max(generation))).await;
    noted
        .map_err(|error| ApiError::BrokeOff("noting what was handed out", error))?
        .map_err(ApiError::Protected)
}

/// A node that never had a usable state is offered none, and while the server recovers nobody is.
fn offer(row: WantedRow) -> Result<Option<WantedOffer>, ApiError> {
    let Some(state) = row.state.filter(|_| !row.recovering) else { return Ok(None) };
    let settings = read_stored(|| "settings of a node".to_owned(), row.settings)?;
    let digest =
        state.parse().map_err(|_| ApiError::stored("state of a node", &format!("{state} is no digest")))?;
    Ok(Some(WantedOffer {
        digest,
        generation: Generation { epoch: row.epoch, counter: row.counter },
        settings,
    }))
}
