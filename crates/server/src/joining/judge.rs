//! Waiting requests are held against the admission rules that are in force: at once, and again whenever a rule is made.

use super::admit::{Admission, admit, becomes};
use crate::change::documents::read_documents;
use crate::change::resolver::Resolver;
use crate::here::Here;
use crate::problem::{ApiError, read_stored};
use crate::store::admission::{self, CandidateRow};
use crate::store::joining::{self, RequestRow};
use crate::store::{fleet, node, person};
use crate::trust::{JoinDecide, Permission as _, permissions_of};
use constans_core::digest::hex;
use constans_core::joining::{AdmissionRule, Applicant, Placement, Standing, WaitsBecause};
use constans_wire::join::ApproveRequest;
use serde_json::json;
use sqlx::{PgConnection, PgPool};
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// How often it is looked for requests that were not judged when they came.
const EVERY: Duration = Duration::from_secs(2);

/// Judges requests that wait since nobody could when they came, or since a rule was made.
pub async fn judge_pending(db: PgPool, here: Arc<Here>) {
    loop {
        tokio::time::sleep(EVERY).await;
        if let Err(error) = judge_all(&db, &here, None).await {
            tracing::warn!(%error, "joining requests are not held against the admission rules yet");
        }
    }
}

/// Judges all requests that were not yet; ends early if someone hands out, or after a time.
///
/// # Errors
///
/// Returns why that could not be done.
pub async fn judge_all(db: &PgPool, here: &Here, most: Option<Duration>) -> Result<(), ApiError> {
    let began = Instant::now();
    loop {
        let pending = admission::to_judge(db).await?;
        if pending.is_empty() {
            return Ok(());
        }
        for request in pending {
            let is_late = most.is_some_and(|most| began.elapsed() > most);
            if is_late || judge(db, here, request).await? == Judged::Later {
                return Ok(());
            }
        }
    }
}

/// What became of a request.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Judged {
    /// A rule let it in.
    LetIn,
    /// It waits for a person.
    Waits,
    /// Someone hands out: to be tried again.
    Later,
}

/// Holds a request against the rules.
///
/// # Errors
///
/// Returns why that could not be done.
pub async fn judge(db: &PgPool, here: &Here, id: Uuid) -> Result<Judged, ApiError> {
    let mut transaction = db.begin().await?;
    if !fleet::try_share(&mut *transaction).await? {
        return Ok(Judged::Later);
    }
    let request = joining::by_id(&mut *transaction, id).await?.filter(|request| request.decision.is_none());
    let Some(request) = request else { return Ok(Judged::Waits) };
    let mut waits = None;
    for candidate in admission::candidates(&mut *transaction, &request.name).await? {
        match verdict(&mut transaction, &request, &candidate).await? {
            Some(Ok(placement)) => {
                let by = Admission {
                    by: &candidate.made_by,
                    rule: Some(candidate.no),
                    placement: &placement,
                    is_preview: false,
                };
                let how = ApproveRequest { id, ..ApproveRequest::default() };
                if let Ok(becomes) = becomes(&mut transaction, &request, &how, &mut BTreeSet::new()).await? {
                    let documents = read_documents(&mut transaction).await?;
                    let mut resolver = Resolver::new(&mut transaction, here, documents, None).await?;
                    admit(&mut transaction, here, &mut resolver, &request, &becomes, &by).await?;
                    transaction.commit().await?;
                    here.waker.wake("joining");
                    return Ok(Judged::LetIn);
                }
            }
            Some(Err(because)) => waits = waits.or(Some((candidate.no, because))),
            None => {}
        }
    }
    let because = waits.map(|(rule, because)| (rule, json!(because)));
    let because = because.as_ref().map(|(rule, because)| (*rule, because.as_str().unwrap_or_default()));
    admission::set_judged(&mut *transaction, id, because).await?;
    transaction.commit().await?;
    Ok(Judged::Waits)
}

/// Returns how a rule places a machine that it lets in, or why that waits although it fits; none if it does not fit.
async fn verdict(
    db: &mut PgConnection,
    request: &RequestRow,
    candidate: &CandidateRow,
) -> Result<Option<Result<Placement, WaitsBecause>>, ApiError> {
    let no = candidate.no;
    let mut rule: AdmissionRule = read_stored(|| format!("admission rule A{no}"), candidate.body.clone())?;
    if candidate.has_table {
        let Some(machine) = candidate.machine.clone() else { return Ok(None) };
        rule.table = vec![read_stored(|| format!("{} in the table of A{no}", request.name), machine)?];
    }
    if !may_approve(&mut *db, &candidate.made_by).await? {
        return Ok(None);
    }
    let is_used_up = candidate.at_most.is_some_and(|most| candidate.let_in >= i64::from(most));
    let standing = Standing { is_used_up, ..standing(db, request).await? };
    let invitation = request.invitation.map(|id| id.to_string());
    let key = hex(&request.spki_digest);
    let applicant = Applicant { name: &request.name, key: &key, invitation: invitation.as_deref() };
    let Some(judged) = rule.judge(applicant, standing) else { return Ok(None) };
    let placement: Placement =
        read_stored(|| format!("placement by the admission rule A{no}"), candidate.placement.clone())?;
    Ok(Some(judged.map(|labels| placed(placement, labels))))
}

/// The labels of its table are over those of the rule.
fn placed(mut placement: Placement, labels: BTreeMap<String, String>) -> Placement {
    placement.labels.extend(labels);
    placement
}

/// Returns whether a person may approve requests now: rules of those who may no longer let nobody in.
async fn may_approve(db: &mut PgConnection, person: &str) -> Result<bool, ApiError> {
    let roles = person::roles(db, person).await?.unwrap_or_default();
    Ok(permissions_of(&roles).contains(&JoinDecide::NAME))
}

/// Returns what is known of the machine of a request.
///
/// # Errors
///
/// Returns why the database does not answer.
pub async fn standing(db: &mut PgConnection, request: &RequestRow) -> Result<Standing, ApiError> {
    let in_use = node::names_in_use(&mut *db, std::slice::from_ref(&request.name)).await?;
    Ok(Standing {
        was_refused: admission::was_refused(&mut *db, &request.spki_digest, &request.name).await?,
        is_revoked: request.revoked_at.is_some(),
        is_name_in_use: request.known_node.is_none() && !in_use.is_empty(),
        is_used_up: false,
    })
}
