//! How the server is.

use super::agent_package::known;
use crate::here::Here;
use crate::preparation::{CheckedItem, look};
use crate::problem::Answer;
use crate::store::audit;
use crate::store::recovery;
use crate::store::server_status::{self, AgentRow, WorkRow};
use crate::trust::{Allowed, NodeRead};
use constans_wire::server_status::{AgentVersion, ServerCertificate, ServerPart, ServerStatus};
use jiff::Timestamp;
use rocket::serde::json::Json;
use rocket::{State, get};
use semver::Version;
use sqlx::PgPool;
use std::cmp::Reverse;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Mutex;

/// What was found out about the machine and PostgreSQL is kept for so long: it asks the system, and opens a connection.
const KEPT_FOR: Duration = Duration::from_secs(15);
/// A job that was queued earlier is late.
const JOB_IS_LATE: Duration = Duration::from_secs(600);

/// What was found out last about the machine and PostgreSQL.
#[derive(Default)]
pub struct LastLook(Mutex<Option<(Instant, Vec<ServerPart>)>>);

/// How the server is: its machine, PostgreSQL, what it works at, its certificates, and the agents of its nodes.
#[utoipa::path(tag = "server", security(("token" = ["node.read"]), ("session" = ["node.read"])), responses((status = 200, body = ServerStatus)))]
#[get("/api/server-status")]
pub async fn show(
    _caller: Allowed<NodeRead>,
    db: &State<PgPool>,
    here: &State<Arc<Here>>,
    last: &State<LastLook>,
) -> Answer<ServerStatus> {
    let now = crate::clock::now();
    let began = Instant::now();
    let mut connection = db.acquire().await?;
    let work = server_status::work(&mut *connection).await?;
    let answered = began.elapsed();
    let unchained = audit::count_unchained(&mut *connection).await?;
    let agents = versions(server_status::agents(&mut *connection).await?);
    let mut parts =
        vec![of_database(&work, answered), of_jobs(&work, now), of_audit(unchained), of_days(here)];
    parts.extend(last.look(here).await);
    parts.sort_by_key(|part| part.remedy.is_none());
    Ok(Json(ServerStatus {
        now,
        version: env!("CARGO_PKG_VERSION").to_owned(),
        started_at: here.started_at,
        expected_nodes: here.settings.expect,
        nodes: agents.iter().map(|version| version.nodes).sum(),
        recovering_since: recovery::since(&mut *connection).await?.map(|at| at.to_jiff()),
        parts,
        certificates: here
            .certificates
            .iter()
            .map(|certificate| ServerCertificate {
                shown_to: certificate.name.to_owned(),
                ends_at: certificate.until(),
                problem: certificate.problem(now),
            })
            .collect(),
        agents,
        packages: known(&mut connection).await?,
    }))
}

impl LastLook {
    /// Looks at the machine and PostgreSQL, unless somebody just did.
    async fn look(&self, here: &Here) -> Vec<ServerPart> {
        let mut last = self.0.lock().await;
        if let Some((_, parts)) = last.as_ref().filter(|(at, _)| at.elapsed() < KEPT_FOR) {
            return parts.clone();
        }
        let looked = look(&here.settings, false).await;
        let parts: Vec<ServerPart> = looked.into_iter().map(part).collect();
        *last = Some((Instant::now(), parts.clone()));
        parts
    }
}

fn part(CheckedItem { what, found, remedy }: CheckedItem) -> ServerPart {
    ServerPart { name: what.to_owned(), found, remedy }
}

fn of_database(work: &WorkRow, answered: Duration) -> ServerPart {
    ServerPart {
        name: "database".to_owned(),
        found: format!(
            "answers in {:.1} ms; {} MB",
            answered.as_secs_f64() * 1_000.0,
            work.database_bytes / 1_000_000
        ),
        remedy: (answered > Duration::from_secs(1))
            .then(|| "look at what PostgreSQL waits for: its disk, its memory, other programs".to_owned()),
    }
}

fn of_jobs(work: &WorkRow, now: Timestamp) -> ServerPart {
    let WorkRow { nodes_pending, jobs_open, .. } = work;
    let oldest = work.oldest_job.map(|at| at.to_jiff());
    let is_late = oldest.is_some_and(|at| now.duration_since(at).unsigned_abs() > JOB_IS_LATE);
    ServerPart {
        name: "jobs".to_owned(),
        found: format!(
            "{jobs_open} open{}; {nodes_pending} nodes to be resolved anew",
            oldest.map(|at| format!(", the first since {at:.0}")).unwrap_or_default()
        ),
        remedy: is_late.then(|| {
            "the header of every page shows what goes on; a job that does not move says why in the server's log".to_owned()
        }),
    }
}

fn of_audit(unchained: i64) -> ServerPart {
    ServerPart {
        name: "audit trail".to_owned(),
        found: if unchained == 0 {
            "every entry is chained".to_owned()
        } else {
            format!("{unchained} entries wait to be chained")
        },
        remedy: (unchained > 1_000).then(|| "the server's log says why they are not".to_owned()),
    }
}

fn of_days(here: &Here) -> ServerPart {
    let problem = here.altered_days.problem();
    ServerPart {
        name: "history".to_owned(),
        found: problem.clone().unwrap_or_else(|| "no day that was noted was altered".to_owned()),
        remedy: problem.map(|_| "constans evidence check".to_owned()),
    }
}

fn versions(rows: Vec<AgentRow>) -> Vec<AgentVersion> {
    let mut versions: Vec<AgentVersion> = rows
        .into_iter()
        .map(|row| AgentVersion { version: row.version, nodes: row.nodes.unsigned_abs() })
        .collect();
    versions.sort_by_key(|one| {
        let parsed = one.version.as_deref().and_then(|version| Version::parse(version).ok());
        (Reverse(parsed), one.version.clone())
    });
    versions
}
