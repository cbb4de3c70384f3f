//! `constans-agent status`.

use crate::asking::open_place;
use crate::repeated::repeated_place;
use constans_agent::attic::AtticStore;
use constans_agent::command_line::{Output, ReportingArguments};
use constans_agent::error::AgentError;
use constans_agent::freezes;
use constans_agent::kept_runs::KeptRuns;
use constans_agent::membership::{Dismissed, Membership};
use constans_agent::noted::{DaemonNote, StartNote};
use constans_agent::served::Served;
use constans_agent::spool::{Refusals, Spool};
use constans_agent::state_dir::Begun;
use constans_agent::state_dir::SetAside;
use constans_agent::under_way::{Progress, under_way};
use constans_core::run::{Freeze, Mode, RestartPending};
use constans_core::settings::{AgentSettings, DescribedSetting};
use constans_host::Host as _;
use constans_terminal::{count, harmless, run_line, span, style, styled, time};
use constans_wire::exit::Exit;
use constans_wire::run::RunSummary;
use jiff::Timestamp;
use serde::Serialize;
use std::fmt::Write as _;
use uuid::Uuid;

/// How an agent is.
#[derive(Serialize)]
struct Status {
    machine: String,
    node: Option<NodeStatus>,
    daemon: Option<DaemonNote>,
    is_daemon_alive: bool,
    under_way: Option<CurrentRun>,
    wanted: Option<WantedStatus>,
    last_run: Option<RunSummary>,
    restart_pending: Option<RestartPending>,
    restarted_for: Option<RestartPending>,
    spooled_reports: usize,
    refused_reports: Refusals,
    set_aside: Vec<SetAside>,
    attic_things: usize,
    attic_bytes: u64,
    settings: AgentSettings,
    freezes: Vec<Freeze>,
}

/// The run that goes on now.
#[derive(Serialize)]
struct CurrentRun {
    begun: Begun,
    progress: Option<Progress>,
}

#[derive(Serialize)]
struct NodeStatus {
    id: Uuid,
    name: String,
    servers: Vec<String>,
    certificate_ends: Timestamp,
    dismissed: Option<Dismissed>,
}

#[derive(Serialize)]
struct WantedStatus {
    releases: Vec<String>,
    digest: String,
    generation: String,
    clauses: usize,
}

/// Tells how this agent is.
pub fn status(arguments: &ReportingArguments) -> Result<Exit, AgentError> {
    let (state_dir, machine) = open_place(&arguments.place)?;
    let daemon = DaemonNote::read(&state_dir)?;
    let served = Served::read(&state_dir)?;
    let attic = AtticStore::open(&state_dir, None)?;
    let status = Status {
        machine: machine.acted_on.machine.clone(),
        node: Membership::read(&state_dir)?.map(|membership| NodeStatus {
            id: membership.node,
            name: membership.name,
            servers: membership.urls,
            certificate_ends: membership.ends_at,
            dismissed: membership.dismissed,
        }),
        is_daemon_alive: daemon.as_ref().is_some_and(DaemonNote::is_alive),
        daemon,
        under_way: under_way(&state_dir)?.map(|(begun, progress)| CurrentRun { begun, progress }),
        wanted: served.as_ref().map(|served| WantedStatus {
            releases: served.releases().into_iter().map(|release| release.release).collect(),
            digest: served.digest.to_string(),
            generation: served.generation.to_string(),
            clauses: served.state.clauses.len(),
        }),
        last_run: KeptRuns::of(&state_dir).all()?.into_iter().next(),
        restart_pending: machine.restart_pending()?,
        restarted_for: StartNote::read(&state_dir)?.restarted_for,
        spooled_reports: Spool::of(&state_dir).waiting().len(),
        refused_reports: Spool::of(&state_dir).refusals()?,
        set_aside: state_dir.all_set_aside(),
        attic_things: attic.all().len(),
        attic_bytes: attic.bytes(),
        settings: served.map(|served| served.settings).unwrap_or_default(),
        freezes: freezes::in_force(&state_dir, state_dir.now())?,
    };
    match arguments.output {
        Output::Json => println!("{}", serde_json::to_string_pretty(&status).expect("it is plain data")),
        Output::Text => {
            anstream::print!("{}", shown(&status, &repeated_place(&arguments.place), state_dir.now()));
        }
    }
    Ok(Exit::Well)
}

fn shown(status: &Status, place: &str, now: Timestamp) -> String {
    let mut text = String::new();
    let mut row = |word: &str, value: &str| {
        let _ = writeln!(text, "{word:<10}{value}");
    };
    match &status.node {
        Some(node) => {
            row("node", &format!("{}, {}", styled(style::STRONG, &node.name), node.id));
            if let Some(Dismissed { is_retired, at }) = &node.dismissed {
                let (word, as_what) =
                    if *is_retired { ("retired", "a new node") } else { ("revoked", "this node again") };
                let value =
                    format!("the server refused it {} ago; it receives no desired state", ago(*at, now));
                row(word, &styled(style::ATTENTION, value));
                row(
                    "",
                    &format!(
                        "with an invitation it asks to be {as_what}: constans-agent join --invitation FILE"
                    ),
                );
            }
            row(
                "server",
                &format!("{}, certificate until {}", node.servers.join(" "), time(node.certificate_ends)),
            );
        }
        None => row("node", &format!("{} belongs to no fleet", styled(style::STRONG, &status.machine))),
    }
    for value in daemon_words(status, now) {
        row("daemon", &value);
    }
    if let Some(under_way) = &status.under_way {
        row("run", &styled(style::STRONG, under_way.words(now)));
    }
    match &status.wanted {
        Some(WantedStatus { releases, digest, generation, clauses }) => {
            let (releases, clauses) = (releases.join(" "), count(*clauses, "clause", "clauses"));
            row("desired", &format!("{releases}, {clauses}, generation {generation}, {}", short(digest)));
        }
        None => row("desired", "no answer from a server yet"),
    }
    row(
        "last run",
        &status
            .last_run
            .as_ref()
            .map_or("none yet".to_owned(), |run| format!("{} ago: {}", ago(run.last, now), run_line(run))),
    );
    for freeze in &status.freezes {
        row("frozen", &styled(style::ATTENTION, harmless(&freeze.words())));
    }
    if let Some(pending) = &status.restart_pending {
        let due = status
            .daemon
            .as_ref()
            .and_then(|daemon| daemon.restart.as_ref())
            .map(|restart| format!("; {}", restart.due))
            .unwrap_or_default();
        let value = format!("pending since {}: {}{due}", time(pending.since), pending.because.join(", "));
        row("restart", &styled(style::ATTENTION, value));
    }
    if status.spooled_reports > 0 {
        row(
            "spool",
            &styled(
                style::ATTENTION,
                format!("{} for the server", count(status.spooled_reports, "report waits", "reports wait")),
            ),
        );
    }
    if let Refusals { count: refused, last: Some(last) } = &status.refused_reports {
        let refused = count(
            usize::try_from(*refused).unwrap_or(usize::MAX),
            "report was refused by the server",
            "reports were refused by the server",
        );
        let value = format!(
            "{refused}; the last one, of the run that began {}: {}",
            time(last.began),
            harmless(&last.because)
        );
        row("refused", &styled(style::ATTENTION, value));
    }
    for SetAside { name, at, because } in &status.set_aside {
        row(
            "set aside",
            &styled(style::ATTENTION, format!("{name} at {}: {}", time(*at), harmless(because))),
        );
    }
    #[expect(clippy::cast_precision_loss, reason = "it is rounded for people")]
    let mib = status.attic_bytes as f64 / 1_048_576.0;
    row(
        "attic",
        &format!(
            "{}, {mib:.1} of {} MiB",
            count(status.attic_things, "entry", "entries"),
            status.settings.attic_mib
        ),
    );
    text.push_str("\nsettings and their sources\n");
    let described = status.settings.described();
    let width = described.iter().map(|described| described.value.chars().count()).max().unwrap_or(0);
    for DescribedSetting { word, value, from } in described {
        let _ = writeln!(text, "  {word:<13}  {value:<width$}  {}", styled(style::MUTED, from));
    }
    let next = match (&status.node, status.is_daemon_alive) {
        (None, _) => "constans-agent join --invitation FILE".to_owned(),
        (Some(_), false) => "systemctl start constans-agent, or constans-agent daemon".to_owned(),
        (Some(_), true) => format!("constans-agent runs{place} lists its runs"),
    };
    let _ = writeln!(text, "\n{} {next}", styled(style::STRONG, "Next:"));
    text
}

fn daemon_words(status: &Status, now: Timestamp) -> Vec<String> {
    let Some(daemon) = &status.daemon else { return vec!["not started on this machine".to_owned()] };
    if !status.is_daemon_alive {
        let last = daemon
            .contact
            .as_ref()
            .map(|contact| format!("; last contact with a server {} ago", ago(contact.at, now)))
            .unwrap_or_default();
        return vec![styled(
            style::ATTENTION,
            format!("not running (was process {} since {}){last}", daemon.pid, time(daemon.since)),
        )];
    }
    let contact = match (&daemon.contact, daemon.unanswered) {
        (Some(contact), 0) => format!("{} answered {} ago", contact.url, ago(contact.at, now)),
        (Some(contact), tries) => styled(
            style::ATTENTION,
            format!("no server answered {}; {} did {} ago", times(tries), contact.url, ago(contact.at, now)),
        ),
        (None, 0) => "has not contacted a server yet".to_owned(),
        (None, tries) => {
            styled(style::ATTENTION, format!("no server answered {}, nor any before", times(tries)))
        }
    };
    let run_for = daemon.next_run_for.as_ref().map(|what| format!(" for {what}")).unwrap_or_default();
    vec![
        format!("process {} since {}", daemon.pid, time(daemon.since)),
        contact,
        format!(
            "checks in {}, runs {}{run_for}",
            ahead(daemon.next_check_in, now),
            ahead(daemon.next_run, now)
        ),
    ]
}

impl CurrentRun {
    fn words(&self, now: Timestamp) -> String {
        let mode = if self.begun.mode == Mode::Enforce { "enforce" } else { "observe" };
        let began = format!(
            "in progress since {}, {mode}, started by {}",
            ago(self.begun.began, now),
            self.begun.started_by.words()
        );
        match &self.progress {
            Some(Progress { reached, of, doing, address: Some(address), since, .. }) => {
                format!(
                    "{began}: {reached} of {of}, {doing} {} for {}",
                    harmless(address.as_str()),
                    ago(*since, now)
                )
            }
            _ => format!("{began}: beginning"),
        }
    }
}

fn times(tries: u32) -> String {
    if tries == 1 { "once".to_owned() } else { format!("{tries} times in a row") }
}

fn ago(at: Timestamp, now: Timestamp) -> String {
    span(now.duration_since(at).as_secs().max(0))
}

fn ahead(at: Timestamp, now: Timestamp) -> String {
    let secs = at.duration_since(now).as_secs();
    if secs <= 0 { "now".to_owned() } else { format!("in {}", span(secs)) }
}

fn short(digest: &str) -> &str {
    &digest[..digest.len().min(15)]
}
