//! The audit trail: listed, and its chain recomputed.

use crate::body::Number;
use crate::list::{ListQuery, placed};
use crate::page::PageAnswer;
use crate::problem::{Answer, ApiError};
use crate::store::audit::{self, EntryRow};
use crate::store::cursor::{Cursor, PageRange};
use crate::trust::{Allowed, AuditRead};
use constans_core::audit::{AuditEntry, chained};
use constans_core::filter::AUDIT_ENTRIES;
use constans_wire::audit::{AuditVerification, ShownEntry};
use rocket::serde::json::Json;
use rocket::{State, get};
use sqlx::PgPool;

/// The entries, the newest first; or those of one person or about one subject.
#[utoipa::path(tag = "server", security(("token" = ["audit.read"]), ("session" = ["audit.read"])), params(("before" = Option<u32>, Query, description = "Only those before this number"), ListQuery), responses((status = 200, body = Vec<ShownEntry>)))]
#[get("/api/audit?<before>&<who>&<subject>&<list..>")]
pub async fn list(
    before: Number,
    who: Option<&str>,
    subject: Option<&str>,
    list: ListQuery,
    _caller: Allowed<AuditRead>,
    db: &State<PgPool>,
) -> PageAnswer<ShownEntry> {
    let before = before.0.map_or(i64::MAX, i64::from);
    let read = |range: PageRange| async move {
        let rows = audit::list(db.inner(), range.before(before), who, subject, range.rows()).await?;
        placed(rows, |row| Cursor::of_number(row.id), |row| Ok(shown(row)))
    };
    list.page(&AUDIT_ENTRIES, read).await
}

fn shown(row: EntryRow) -> ShownEntry {
    let at = row.at.to_jiff();
    let entry = AuditEntry {
        id: row.id,
        at_micros: at.as_microsecond(),
        who: row.who,
        did: row.did,
        subject: row.subject,
        detail: row.detail,
    };
    ShownEntry { entry, at, digest: row.digest }
}

/// Recomputes the chain of digests from the first entry to the last.
#[utoipa::path(tag = "server", security(("token" = ["audit.read"]), ("session" = ["audit.read"])), responses((status = 200, body = AuditVerification)))]
#[get("/api/audit/verify")]
pub async fn verify(_caller: Allowed<AuditRead>, db: &State<PgPool>) -> Answer<AuditVerification> {
    Ok(Json(verified(db).await?))
}

async fn verified(db: &PgPool) -> Result<AuditVerification, ApiError> {
    // Entries that are chained meanwhile are neither counted as links nor left out of those that wait.
    let mut snapshot = db.begin_with("begin isolation level repeatable read read only").await?;
    let (mut place, mut digest, mut broken_at) = (0, String::new(), None);
    loop {
        let links = audit::links(&mut *snapshot, place).await?;
        let Some(last) = links.last().map(|link| link.place) else { break };
        for link in links {
            let is_next = link.place == place + 1;
            place = link.place;
            let entry = match (link.at, link.who, link.did, link.subject, link.detail) {
                (Some(at), Some(who), Some(did), Some(subject), Some(detail)) => Some(AuditEntry {
                    id: link.entry,
                    at_micros: at.to_jiff().as_microsecond(),
                    who,
                    did,
                    subject,
                    detail,
                }),
                _ => None,
            };
            let reckoned = entry.map(|entry| chained(&digest, &entry));
            if !is_next || reckoned.as_ref() != Some(&link.link) {
                broken_at = broken_at.or(Some(link.entry));
            }
            digest = link.link;
        }
        place = last;
    }
    let unchained = audit::count_unchained(&mut *snapshot).await?.unsigned_abs();
    let last = Some(digest).filter(|last| !last.is_empty());
    Ok(AuditVerification { entries: place.unsigned_abs(), unchained, last, broken_at })
}
