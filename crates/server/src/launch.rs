//! Starting the server: the database, the CA, and the listeners on one runtime.

use crate::certificate::{AcmeSettings, ServedCertificate};
use crate::change::for_a_time;
use crate::change::recover::Watch;
use crate::change::single;
use crate::change::worker;
use crate::checkin::check_in::ShownCheckIn;
use crate::checkin::install::fetched_packages;
use crate::database::{bring_up_to_date, pool};
use crate::door::{Door, DoorSettings, Most, OwnNames, Room};
use crate::evidence::worker as evidence_worker;
use crate::here::{Here, Nudge, known_kits};
use crate::intake::batch::Batcher;
use crate::jobs::chain_of_days::AlteredDays;
use crate::jobs::refused_requests::RefusedRequests;
use crate::jobs::run_hours::RunCounts;
use crate::jobs::waker::Waker;
use crate::jobs::{
    audit_chain, chain_of_days, day_figures, examined_states, followed_filters, node_events, partitions,
    retention, run_hours,
};
use crate::joining::judge;
use crate::launch_error::LaunchError;
use crate::metrics::{self, Metrics};
use crate::other_methods::with_other_methods;
use crate::own_machine::OwnMachine;
use crate::people::command_line::welcome_first;
use crate::problem::{BoundedAddress, caught};
use crate::request_log::RequestLog;
use crate::rollout::conduct;
use crate::settings::Settings;
use crate::store::job::JobKind;
use crate::store::run::PlainRun;
use crate::store::{recovery, uptime};
use crate::sweep;
use crate::trust::ProtectedFolder;
use crate::waking::Waking;
use crate::{api, checkin, clock, preparation};
use constans_clock::Clock;
use rocket::config::LogLevel;
use rocket::data::{Limits, ToByteUnit as _};
use rocket::shield::{Hsts, Shield};
use rocket::{Build, Config, Rocket, Route};
use sqlx::{Connection as _, PgPool};
use std::net::{Ipv4Addr, SocketAddr};
use std::sync::Arc;
use std::time::Duration;

/// This many connections a network may have whose callers showed no certificate.
const STRANGERS_OF_NETWORK: usize = 1_024;
/// How often the server records that it is reachable.
const ALIVE_EVERY: Duration = Duration::from_secs(10);

/// Serves until the process receives a signal to stop.
///
/// # Errors
///
/// Returns why it could not be started.
pub async fn serve(settings: Settings) -> Result<(), LaunchError> {
    if let Some(path) = &settings.clock {
        clock::go_by(Clock::in_file(path).map_err(|error| LaunchError::Clock(path.clone(), error))?);
        tracing::warn!(clock = %path.display(), "the time is not the system's: a test or the demo moves it");
    }
    tokio::spawn(tell_misfits(settings.clone()));
    let mut connection = bring_up_to_date(&settings.database).await?;
    let is_in_use = recovery::is_in_use(&mut connection).await.map_err(LaunchError::Database)?;
    let ProtectedFolder { authority, key: digest_key, evidence, days, handed_out, refusals, database } =
        ProtectedFolder::open(&settings.protected, is_in_use)?;
    let (handed_out, refusals) = (Arc::new(handed_out), Arc::new(refusals));
    uptime::note_start(&mut connection, 3.0 * ALIVE_EVERY.as_secs_f64())
        .await
        .map_err(LaunchError::Database)?;
    welcome_first(
        &mut connection,
        &format!("https://{}:{}", bracketed(&settings.names[0]), settings.people.port()),
    )
    .await?;
    let watch = Arc::new(Watch::new(handed_out.clone(), refusals.clone(), database));
    watch.put_right(&mut connection).await.map_err(LaunchError::Watch)?;
    connection.close().await.map_err(LaunchError::Database)?;
    let db = pool(&settings.database, Some(watch.clone())).await?;
    partitions::make_ahead(&db).await.map_err(LaunchError::Database)?;
    clock::days_end_in(settings.zone.clone());
    tokio::spawn(partitions::keep_ahead(db.clone()));
    tokio::spawn(audit_chain::keep_chained(db.clone()));
    tokio::spawn(day_figures::keep_up_to_date(db.clone()));
    tokio::spawn(examined_states::keep_noted(db.clone()));
    let altered_days = Arc::new(AlteredDays::default());
    let kept = retention::DaysKept {
        history: settings.keep_history,
        related_records: settings.keep_related_records,
    };
    tokio::spawn(retention::keep_tidy(db.clone(), kept));
    tokio::spawn(chain_of_days::keep_chained(db.clone(), days.clone(), altered_days.clone()));
    let waker = Waker::begin(db.clone());
    tokio::spawn(sweep::keep_beginning(db.clone(), waker.clone()));
    tokio::spawn(followed_filters::keep_following(db.clone(), waker.clone()));
    tokio::spawn(stay_alive(db.clone(), watch));
    let authority = Arc::new(authority);
    let for_agents = ServedCertificate::by_our_ca("agents", authority.clone(), &settings.names)?;
    let for_people = match (&settings.people_certificate, &settings.people_key, &settings.acme) {
        (_, _, Some(directory)) => {
            let (contact, root) = (settings.acme_contact.clone(), settings.acme_root.clone());
            let acme = AcmeSettings {
                directory: directory.clone(),
                contact,
                root,
                folder: settings.protected.clone(),
            };
            ServedCertificate::by_acme("people", acme, authority.clone(), &settings.names)?
        }
        (Some(certificate), Some(key), None) => {
            ServedCertificate::from_files("people", certificate, key, &settings.names)?
        }
        _ => ServedCertificate::by_our_ca("people", authority.clone(), &settings.names)?,
    };
    let certificates = vec![for_agents.clone(), for_people.clone()];
    certificates.iter().for_each(|certificate| drop(tokio::spawn(certificate.clone().keep_fresh())));
    let metrics = Metrics::begin(certificates.clone());
    tokio::spawn(node_events::keep_noted(db.clone(), settings.keep_events, waker.clone(), metrics.clone()));
    let agent_urls = settings
        .names
        .iter()
        .map(|name| format!("https://{}:{}", bracketed(name), settings.agents.port()))
        .collect();
    tracing::info!(fingerprint = authority.fingerprint(), "the CA's fingerprint");
    tracing::info!(key = evidence.id(), "the key that signs evidence");
    let run_counts = Arc::new(RunCounts::default());
    tokio::spawn(run_hours::keep_added(db.clone(), run_counts.clone()));
    let room = Room::take();
    let of_nodes = room.of_nodes();
    let waking = Waking::begin(db.clone(), of_nodes.held(), of_nodes.behind, metrics.clone());
    let here = Arc::new(Here {
        settings: settings.clone(),
        started_at: clock::now(),
        machine: OwnMachine::find(&settings),
        title: settings.title,
        colour: settings.colour,
        authority: authority.clone(),
        evidence,
        days,
        altered_days,
        agent_urls,
        key: digest_key,
        kits: known_kits(),
        handed_out,
        refusals,
        nudge: Nudge::default(),
        run_counts: run_counts.clone(),
        waker,
        certificates,
        metrics,
        waking: waking.clone(),
    });
    worker::follow_resolver(&db).await?;
    for kind in [JobKind::Change, JobKind::Preview] {
        tokio::spawn(worker::work(db.clone(), here.clone(), kind));
    }
    tokio::spawn(worker::tidy(db.clone()));
    tokio::spawn(evidence_worker::work(db.clone(), here.clone()));
    tokio::spawn(evidence_worker::tidy(db.clone()));
    tokio::spawn(for_a_time::keep_ending(db.clone(), here.clone()));
    tokio::spawn(conduct::keep_going(db.clone(), here.clone()));
    tokio::spawn(single::resolve_pending(db.clone(), here.clone()));
    tokio::spawn(judge::judge_pending(db.clone(), here.clone()));
    let names = Arc::new(OwnNames::new(&settings.names));
    let door = |name, address, tls, waking: Option<Arc<Waking>>, room: Room| {
        let most = |in_all: usize| {
            // Those of nodes are kept from strangers.
            let strangers = if waking.is_some() { in_all / 2 } else { in_all };
            Most { in_all, strangers, strangers_of_network: STRANGERS_OF_NETWORK.min(strangers / 2) }
        };
        let (most, most_behind) = (most(room.callers), most(room.behind));
        let settings = DoorSettings {
            name,
            address,
            tls,
            http2: name == "people",
            most,
            most_behind,
            names: names.clone(),
            metrics: here.metrics.clone(),
            waking,
        };
        async move { Door::open(settings).await.map_err(|error| LaunchError::Listener(address, error)) }
    };
    let agents_door = door(
        "agents",
        settings.agents,
        for_agents.tls(Some(&authority), &["http/1.1"])?,
        Some(waking),
        of_nodes,
    )
    .await?;
    let people_door =
        door("people", settings.people, for_people.tls(None, &["h2", "http/1.1"])?, None, room.of_people())
            .await?;
    let refused = RefusedRequests::begin(db.clone());
    let behind: SocketAddr = (Ipv4Addr::LOCALHOST, 0).into();
    let agents = listener("agents", behind, &db, &here, &refused, with_other_methods(checkin::routes()))
        .manage(fetched_packages())
        .manage(Batcher::<ShownCheckIn>::begin(db.clone()))
        .manage(Batcher::<PlainRun>::begin(db.clone()));
    let people = listener("people", behind, &db, &here, &refused, with_other_methods(api::routes()))
        .mount("/", api::pages())
        .attach(api::AnswerHeaders)
        .manage(api::Changes::begin(db.clone()))
        .manage(api::LastLook::default());
    let measured = listener("metrics", settings.metrics, &db, &here, &refused, metrics::routes())
        .manage(here.metrics.clone());
    let failed = |address| move |error: rocket::Error| launch_error(address, error);
    let agents = async { agents_door.serve(agents).await.map_err(failed(settings.agents)) };
    let people = async { people_door.serve(people).await.map_err(failed(settings.people)) };
    let measured = async { measured.launch().await.map(|_| ()).map_err(failed(settings.metrics)) };
    tokio::try_join!(agents, people, measured).map(|_| ())
}

fn launch_error(address: SocketAddr, error: rocket::Error) -> LaunchError {
    match error.kind() {
        rocket::error::ErrorKind::Bind(cause) => {
            LaunchError::Listener(address, std::io::Error::new(cause.kind(), cause.to_string()))
        }
        _ => LaunchError::Rocket(address, Box::new(error)),
    }
}

/// Writes into the log what of the machine and of PostgreSQL does not fit; nothing waits for it.
async fn tell_misfits(settings: Settings) {
    for looked in preparation::look(&settings, false).await {
        if let Some(remedy) = looked.remedy {
            tracing::warn!(what = looked.what, remedy, "{}", looked.found);
        }
    }
}

/// Records repeatedly that the server is reachable, and that the database is still the one of before.
async fn stay_alive(db: PgPool, watch: Arc<Watch>) {
    loop {
        tokio::time::sleep(ALIVE_EVERY).await;
        let noted = async {
            let mut connection = db.acquire().await.map_err(std::io::Error::other)?;
            watch.look(&mut connection).await?;
            uptime::note(&mut *connection).await.map_err(std::io::Error::other)?;
            watch.note(&mut connection).await
        };
        if let Err(error) = noted.await {
            tracing::warn!(%error, "the database or the protected folder does not answer");
        }
    }
}

fn listener(
    name: &'static str,
    address: SocketAddr,
    db: &PgPool,
    here: &Arc<Here>,
    refused: &RefusedRequests,
    routes: Vec<Route>,
) -> Rocket<Build> {
    let log = RequestLog::begin(name, here.metrics.clone(), refused.clone());
    let config = Config {
        address: address.ip(),
        port: address.port(),
        // A header could be forged.
        ip_header: None,
        log_level: LogLevel::Critical,
        limits: Limits::new().limit("json", 8.mebibytes()),
        ..Config::release_default()
    };
    let shield = Shield::default().enable(Hsts::default());
    rocket::custom(config)
        .attach(shield)
        .attach(log)
        .attach(BoundedAddress)
        .manage(db.clone())
        .manage(here.clone())
        .mount("/", routes)
        .register("/", rocket::catchers![caught])
}

fn bracketed(name: &str) -> String {
    if name.contains(':') { format!("[{name}]") } else { name.to_owned() }
}
