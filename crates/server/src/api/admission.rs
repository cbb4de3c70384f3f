//! Admission rules: listed, shown, made, ended.

use crate::body::JsonBody;
use crate::here::Here;
use crate::joining::judge::{judge_all, standing};
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError, read_stored};
use crate::store::admission::{self, LetInRow, NewRow, RuleRow};
use crate::store::cursor::PageRange;
use crate::store::{audit, joining};
use crate::thread::on_thread;
use crate::trust::{Allowed, JoinDecide, NodeRead, Permission as _, permissions_of};
use constans_core::digest::hex;
use constans_core::evidence::bytes_of_hex;
use constans_core::filter::{ADMISSION_RULES, LET_IN_MACHINES};
use constans_core::joining::{AdmissionRule, Applicant, ExpectedMachine, Placement, Standing, read_table};
use constans_core::words::{MAX_LABELS, check_label, check_reason};
use constans_wire::admission::{
    AdmissionOutcome, AdmissionRuleShown, AdmissionRuleWhole, AdmissionStatus, LetIn, NewAdmissionRule,
    WaitingMachine,
};
use jiff::SignedDuration;
use rocket::serde::json::Json;
use rocket::{State, delete, get, post};
use serde_json::{Value, json};
use sqlx::{PgConnection, PgPool};
use std::sync::Arc;
use std::time::Duration;
use uuid::Uuid;

/// A rule holds at least this long, and at most 90 days.
const SHORTEST_SECS: u64 = 60;
const LONGEST_SECS: u64 = 90 * 86_400;
/// This many rules are in force at once: a machine that asks is held against each.
const MAX_IN_FORCE: i64 = 100;
/// This many waiting machines and known nodes are returned at most, and looked through.
const MAX_LISTED: usize = 1_000;
/// Whoever makes a rule waits this long at most for those whom it lets in at once; the others follow in the background.
const JUDGED_AT_ONCE: Duration = Duration::from_secs(5);
/// A rule lets in this many at most, if it says how many.
const MOST: u32 = 100_000;

/// The newest rules, those in force first; at most 200.
#[utoipa::path(tag = "joining", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<AdmissionRuleShown>)))]
#[get("/api/admission-rules?<list..>")]
pub async fn list(
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<AdmissionRuleShown> {
    let rules = admission::list(db.inner()).await?.into_iter().map(shown).collect::<Result<_, _>>()?;
    list.page_of(&ADMISSION_RULES, rules).await
}

/// A rule with its table, and who of that did not come yet.
#[utoipa::path(tag = "joining", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = AdmissionRuleWhole)))]
#[get("/api/admission-rules/<no>")]
pub async fn show(no: u32, _caller: Allowed<NodeRead>, db: &State<PgPool>) -> Answer<AdmissionRuleWhole> {
    let db = db.inner();
    let row = admission::by_no(db, i64::from(no)).await?.ok_or_else(|| missing(no))?;
    let mut rule = shown(row)?;
    let machines = admission::machines(db, rule.no).await?.into_iter();
    let read = |body: Value| read_stored::<ExpectedMachine>(|| format!("the table of A{no}"), body);
    rule.rule.table = machines.map(read).collect::<Result<_, _>>()?;
    let expected = admission::expected(db, rule.no).await?;
    Ok(Json(AdmissionRuleWhole { rule, expected }))
}

/// The machines that a rule let in, the newest first.
#[utoipa::path(tag = "joining", security(("token" = ["node.read"]), ("session" = ["node.read"])), params(ListQuery), responses((status = 200, body = Vec<LetIn>)))]
#[get("/api/admission-rules/<no>/machines?<list..>")]
pub async fn machines(
    no: u32,
    list: ListQuery,
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
) -> PageAnswer<LetIn> {
    let db = db.inner();
    let no = admission::by_no(db, i64::from(no)).await?.ok_or_else(|| missing(no))?.no;
    let shown = |row: LetInRow| {
        let LetInRow { name, node, address, .. } = row;
        Ok(LetIn { name, node, fingerprint: hex(&row.spki_digest), address, at: row.at.to_jiff() })
    };
    let read = |range: PageRange| async move {
        placed(admission::let_in(db, &range, no).await?, LetInRow::cursor, shown)
    };
    list.page(&LET_IN_MACHINES, read).await
}

fn missing(no: u32) -> ApiError {
    ApiError::Missing { what: "admission rule", name: format!("A{no}") }
}

fn shown(row: RuleRow) -> Result<AdmissionRuleShown, ApiError> {
    let no = row.no;
    let rule: AdmissionRule = read_stored(|| format!("admission rule A{no}"), row.body)?;
    let at_most = row.at_most.map(i32::unsigned_abs);
    let let_in = row.let_in.unsigned_abs();
    let status = if row.ended_at.is_some() {
        AdmissionStatus::Ended
    } else if row.until_at.to_jiff() <= crate::clock::now() {
        AdmissionStatus::Over
    } else if at_most.is_some_and(|most| let_in >= u64::from(most)) {
        AdmissionStatus::UsedUp
    } else if !permissions_of(&row.roles).contains(&JoinDecide::NAME) {
        AdmissionStatus::Suspended
    } else {
        AdmissionStatus::InForce
    };
    // What its warnings ask of its table.
    let key = row.has_all_keys.then(String::new);
    let row_of_table = ExpectedMachine { key, ..ExpectedMachine::default() };
    let table = if row.table_rows > 0 { vec![row_of_table] } else { Vec::new() };
    let warnings = AdmissionRule { table, ..rule.clone() }.warnings(at_most);
    Ok(AdmissionRuleShown {
        no,
        rule,
        table_rows: row.table_rows.unsigned_abs(),
        at_most,
        let_in,
        placement: read_stored(|| format!("placement by the admission rule A{no}"), row.placement)?,
        because: row.because,
        made_by: row.made_by,
        made_at: row.made_at.to_jiff(),
        until: row.until_at.to_jiff(),
        status,
        ended_by: row.ended_by,
        ended_at: row.ended_at.map(|at| at.to_jiff()),
        warnings,
    })
}

/// Makes a rule: from now on machines that it fits are let in, those that wait already at once. Or returns only which those would be.
#[utoipa::path(tag = "joining", security(("token" = ["join.approve"]), ("session" = ["join.approve"])), request_body = NewAdmissionRule, responses((status = 200, body = AdmissionOutcome)))]
#[post("/api/admission-rules", data = "<wanted>")]
pub async fn make(
    wanted: JsonBody<NewAdmissionRule>,
    caller: Allowed<JoinDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<AdmissionOutcome> {
    let mut wanted = wanted.0;
    check(&wanted)?;
    if let Some(text) = wanted.table_csv.take() {
        let read = on_thread(move || read_table(&text)).await?;
        wanted.rule.table = read.map_err(|errors| {
            let all: Vec<String> = errors.iter().map(ToString::to_string).collect();
            ApiError::invalid("table_csv", all.join("\n"))
        })?;
    }
    let rule = wanted.rule.clone().checked().map_err(|wrong| {
        let field = wrong.first().map_or("rule", |(field, _)| *field);
        ApiError::invalid(field, wrong.into_iter().map(|(_, because)| because).collect::<Vec<_>>().join("\n"))
    })?;
    let mut connection = db.acquire().await?;
    super::node_own::check_placement(&mut connection, here, &wanted.placement).await?;
    check_invitation(&mut connection, &rule).await?;
    if admission::count_open(&mut *connection).await? >= MAX_IN_FORCE {
        return Err(ApiError::Conflict {
            message: format!("{MAX_IN_FORCE} admission rules are in force already"),
            hint: "end one that is not needed: constans admission list, constans admission end".to_owned(),
        });
    }
    let warnings = rule.warnings(wanted.at_most);
    let waiting = waiting_that_fit(&mut connection, &rule, wanted.at_most).await?;
    let known = known_that_fit(&mut connection, &rule).await?;
    drop(connection);
    let no = if wanted.preview { None } else { Some(add(&wanted, rule, &caller.person, db, here).await?) };
    Ok(Json(AdmissionOutcome { no, warnings, waiting, known }))
}

async fn add(
    wanted: &NewAdmissionRule,
    mut rule: AdmissionRule,
    by: &str,
    db: &PgPool,
    here: &Here,
) -> Result<i64, ApiError> {
    let table: Vec<(String, Value)> =
        std::mem::take(&mut rule.table).into_iter().map(|row| (row.name.clone(), json!(row))).collect();
    let until = crate::clock::now() + SignedDuration::from_secs(i64::try_from(wanted.for_secs).unwrap_or(0));
    let (body, placement) = (json!(rule), json!(wanted.placement));
    let row = NewRow {
        body: &body,
        placement: &placement,
        at_most: wanted.at_most.and_then(|most| i32::try_from(most).ok()),
        because: &wanted.because,
        made_by: by,
        until,
        table: &table,
    };
    let mut transaction = db.begin().await?;
    let no = admission::add(&mut transaction, &row).await?;
    let detail = json!({
        "rule": body, "table_rows": table.len(), "placement": placement, "at_most": wanted.at_most, "until": until,
        "because": wanted.because,
    });
    audit::add(&mut *transaction, by, "made an admission rule", &format!("A{no}"), &detail).await?;
    transaction.commit().await?;
    // Whoever cannot be judged now is judged within seconds.
    judge_all(db, here, Some(JUDGED_AT_ONCE)).await?;
    here.waker.wake("joining");
    Ok(no)
}

fn check(wanted: &NewAdmissionRule) -> Result<(), ApiError> {
    if !(SHORTEST_SECS..=LONGEST_SECS).contains(&wanted.for_secs) {
        return Err(ApiError::invalid("for_secs", "an admission rule holds for a minute to 90 days"));
    }
    if !(1..=MOST).contains(&wanted.at_most.unwrap_or(1)) {
        return Err(ApiError::invalid("at_most", format!("a rule lets in between 1 and {MOST} machines")));
    }
    check_reason(&wanted.because).map_err(|because| ApiError::invalid("because", because))?;
    let Placement { labels, groups, .. } = &wanted.placement;
    if !groups.is_empty() {
        let because = "a rule names no groups: give labels by which the filters of groups have its machines";
        return Err(ApiError::invalid("groups", because));
    }
    if labels.len() > MAX_LABELS {
        return Err(ApiError::invalid("labels", format!("a rule gives at most {MAX_LABELS} labels")));
    }
    labels
        .iter()
        .try_for_each(|(key, value)| check_label(key, value))
        .map_err(|because| ApiError::invalid("labels", because))
}

async fn check_invitation(db: &mut PgConnection, rule: &AdmissionRule) -> Result<(), ApiError> {
    let Some(invitation) = &rule.invitation else { return Ok(()) };
    let id = Uuid::parse_str(invitation).map_err(|_| {
        ApiError::invalid("invitation", "it is the id of an invitation: constans invitation list")
    })?;
    if crate::store::invitation::exists(db, id).await? {
        Ok(())
    } else {
        Err(ApiError::Missing { what: "invitation", name: invitation.clone() })
    }
}

/// Returns the waiting machines that a rule fits, the oldest request first.
async fn waiting_that_fit(
    db: &mut PgConnection,
    rule: &AdmissionRule,
    at_most: Option<u32>,
) -> Result<Vec<WaitingMachine>, ApiError> {
    let range = PageRange { after: None, size: MAX_LISTED as u32 };
    let mut fitting = Vec::new();
    let mut let_in = 0;
    for request in joining::waiting(&mut *db, &range).await? {
        let invitation = request.invitation.map(|id| id.to_string());
        let key = hex(&request.spki_digest);
        let applicant = Applicant { name: &request.name, key: &key, invitation: invitation.as_deref() };
        if rule.fits(applicant).is_none() {
            continue;
        }
        let is_used_up = at_most.is_some_and(|most| let_in >= most);
        let standing = Standing { is_used_up, ..standing(&mut *db, &request).await? };
        let Some(judged) = rule.judge(applicant, standing) else { continue };
        let_in += u32::from(judged.is_ok());
        let (request, name) = (request.id, request.name.clone());
        fitting.push(WaitingMachine { request, name, fingerprint: key, waits_because: judged.err() });
    }
    Ok(fitting)
}

/// Returns the nodes that a rule would let in again after their certificates ended, by name.
async fn known_that_fit(db: &mut PgConnection, rule: &AdmissionRule) -> Result<Vec<String>, ApiError> {
    if rule.invitation.is_some() {
        return Ok(Vec::new());
    }
    let is_pattern = |name: &&String| name.contains(['*', '?']);
    let patterns: Vec<String> = rule.names.iter().filter(is_pattern).map(|name| like(name)).collect();
    let whole = rule.names.iter().filter(|name| !is_pattern(name)).cloned();
    let names: Vec<String> = whole.chain(rule.table.iter().map(|row| row.name.clone())).collect();
    let keys: Vec<Vec<u8>> = rule.keys.iter().filter_map(|key| bytes_of_hex(key)).collect();
    let named = Some(&*names).filter(|_| !(names.is_empty() && patterns.is_empty()));
    let keyed = Some(&*keys).filter(|_| !rule.keys.is_empty());
    let rows = admission::known_nodes(db, named, &patterns, keyed).await?;
    let rule = rule.clone();
    on_thread(move || {
        let fits = |(name, spki): &(String, Vec<u8>)| {
            rule.fits(Applicant { name, key: &hex(spki), invitation: None }).is_some()
        };
        rows.into_iter().filter(fits).map(|(name, _)| name).take(MAX_LISTED).collect()
    })
    .await
}

/// Writes a pattern of names as `like` has them.
pub(super) fn like(pattern: &str) -> String {
    let escaped = pattern.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_");
    escaped.replace('*', "%").replace('?', "_")
}

/// Ends a rule: it lets nobody in any more. Nodes that it let in stay.
#[utoipa::path(tag = "joining", security(("token" = ["join.approve"]), ("session" = ["join.approve"])), responses((status = 200, body = bool)))]
#[delete("/api/admission-rules/<no>")]
pub async fn end(
    no: u32,
    caller: Allowed<JoinDecide>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
) -> Answer<bool> {
    let mut transaction = db.begin().await?;
    if !admission::end(&mut *transaction, i64::from(no), &caller.person).await? {
        return Err(ApiError::Missing { what: "admission rule in force", name: format!("A{no}") });
    }
    audit::add(&mut *transaction, &caller.person, "ended an admission rule", &format!("A{no}"), &json!({}))
        .await?;
    transaction.commit().await?;
    here.waker.wake("joining");
    Ok(Json(true))
}
