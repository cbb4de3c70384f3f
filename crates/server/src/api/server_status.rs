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
        let parts = together(looked.into_iter().map(part));
        *last = Some((Instant::now(), parts.clone()));
        parts
    }
}

/// Joins what is well of one thing; what is not stays by itself.
fn together(parts: impl Iterator<Item = ServerPart>) -> Vec<ServerPart> {
    let mut all: Vec<ServerPart> = Vec::new();
    for part in parts {
        let known = all.iter_mut().find(|known| known.name == part.name && known.remedy.is_none());
        match known {
            Some(known) if part.remedy.is_none() => known.found = format!("{}; {}", known.found, part.found),
            _ => all.push(part),
        }
    }
    all
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_well_of_one_thing_is_one_line_and_what_is_not_its_own() {
        let part = |found: &str, remedy: Option<&str>| ServerPart {
            name: "postgresql".to_owned(),
            found: found.to_owned(),
            remedy: remedy.map(str::to_owned),
        };
        let all = together(
            [part("version 15", None), part("fsync is off", Some("set it to on")), part("UTF8", None)]
                .into_iter(),
        );
        assert_eq!(all, [part("version 15; UTF8", None), part("fsync is off", Some("set it to on"))]);
    }

    #[test]
    fn agents_are_listed_by_version_the_newest_first_and_those_that_never_came_last() {
        let row = |version: Option<&str>| AgentRow { version: version.map(str::to_owned), nodes: 1 };
        let listed: Vec<Option<String>> = versions(vec![row(None), row(Some("0.9.0")), row(Some("0.10.0"))])
            .into_iter()
            .map(|one| one.version)
            .collect();
        assert_eq!(listed, [Some("0.10.0".to_owned()), Some("0.9.0".to_owned()), None]);
    }
}
