//! `constans-agent status`.

use crate::asking::open_place;
use crate::repeated::repeated_place;
use constans_agent::attic::AtticStore;
use constans_agent::command_line::{Output, ReportingArguments};
use constans_agent::error::AgentError;
use constans_agent::freezes;
use constans_agent::joining::Joining;
use constans_agent::kept_runs::KeptRuns;
use constans_agent::membership::{Dismissed, Membership};
use constans_agent::noted::{DaemonNote, StartNote};
use constans_agent::served::Served;
use constans_agent::spool::{Refusals, Spool};
use constans_agent::state_dir::Begun;
use constans_agent::state_dir::SetAside;
use constans_agent::under_way::{Progress, under_way};
use constans_agent::upgrade;
use constans_core::run::{AgentUpgrade, Freeze, Mode, RestartPending, UpgradeState};
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
    joining: Option<JoiningStatus>,
    daemon: Option<DaemonNote>,
    is_daemon_alive: bool,
    under_way: Option<CurrentRun>,
    wanted: Option<WantedStatus>,
    last_run: Option<RunSummary>,
    restart_pending: Option<RestartPending>,
    agent_upgrade: Option<AgentUpgrade>,
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

/// The request to join that nobody has decided on.
#[derive(Serialize)]
struct JoiningStatus {
    name: String,
    fingerprint: String,
    since: Timestamp,
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
    let status =
        Status {
            machine: machine.acted_on.machine.clone(),
            node: Membership::read(&state_dir)?.map(|membership| NodeStatus {
                id: membership.node,
                name: membership.name,
                servers: membership.urls,
                certificate_ends: membership.ends_at,
                dismissed: membership.dismissed,
            }),
            joining: Joining::read(&state_dir)?
                .map(|Joining { name, fingerprint, since, .. }| JoiningStatus { name, fingerprint, since }),
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
            agent_upgrade: upgrade::reported(&state_dir)?,
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
                        "with an invitation it asks to be {as_what}: constans-agent join --invitation-file FILE"
                    ),
                );
            }
            row(
                "server",
                &format!("{}, certificate until {}", node.servers.join(" "), time(node.certificate_ends)),
            );
        }
        None => match &status.joining {
            None => row("node", &format!("{} belongs to no fleet", styled(style::STRONG, &status.machine))),
            Some(JoiningStatus { name, fingerprint, since }) => {
                row(
                    "node",
                    &styled(style::ATTENTION, format!("waits for approval as {name} since {}", time(*since))),
                );
                row("key", fingerprint);
            }
        },
    }
    if status.joining.is_none() {
        daemon_words(status, now).iter().for_each(|value| row("daemon", value));
    }
    if let Some(under_way) = &status.under_way {
        row("run", &styled(style::STRONG, under_way.words(now)));
    }
    match &status.wanted {
        Some(WantedStatus { releases, digest, generation, clauses }) => {
            let (releases, clauses) = (releases.join(" "), count(*clauses, "clause", "clauses"));
            row("desired", &format!("{releases}, {clauses}, generation {generation}, {}", short(digest)));
        }
        None if status.node.is_none() => row("desired", "no server sets a desired state"),
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
    if let Some(upgrade) = status.agent_upgrade.as_ref().filter(|upgrade| upgrade.state != UpgradeState::Done)
    {
        row("upgrade", &styled(style::ATTENTION, harmless(&upgrade.words())));
        if upgrade.state == UpgradeState::Failed {
            row("", "have it tried again: constans-agent retry-upgrade");
        }
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
        let _ = writeln!(text, "  {word:<15}  {value:<width$}  {}", styled(style::MUTED, from));
    }
    let next = match (&status.node, status.is_daemon_alive) {
        (None, _) => match &status.joining {
            None => "constans-agent join, which asks for the invitation".to_owned(),
            Some(joining) => {
                format!("an operator compares the key and approves: constans join approve {}", joining.name)
            }
        },
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
            format!(
                "no server answered {}; the last answer was from {} {} ago",
                times(tries),
                contact.url,
                ago(contact.at, now)
            ),
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
        match (&daemon.not_wakeable, &daemon.contact, daemon.unanswered) {
            (Some(why), ..) => format!("the server cannot have it check in at once: {why}"),
            (None, Some(_), 0) => "the server can have it check in at once".to_owned(),
            (None, ..) => "the server cannot have it check in at once: none has answered".to_owned(),
        },
    ]
}

impl CurrentRun {
    fn words(&self, now: Timestamp) -> String {
        let mode = if self.begun.mode == Mode::Enforce { "enforce" } else { "observe" };
        let began = format!(
            "in progress for {}, {mode}, started by {}",
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

#[cfg(test)]
mod tests {
    use super::*;
    use constans_agent::noted::Contact;
    use constans_agent::spool::Refusal;
    use constans_core::address::ClauseAddress;
    use constans_core::digest::of_contents;
    use constans_wire::report::{StartedBy, Wanted};

    fn at(text: &str) -> Timestamp {
        format!("2026-11-23T{text}Z").parse().unwrap()
    }

    fn text(status: &Status) -> String {
        anstream::adapter::strip_str(&shown(status, "", at("07:00:00"))).to_string()
    }

    fn alone() -> Status {
        Status {
            machine: "kiosk-auken-1".to_owned(),
            node: None,
            joining: None,
            daemon: None,
            is_daemon_alive: false,
            under_way: None,
            wanted: None,
            last_run: None,
            restart_pending: None,
            agent_upgrade: None,
            restarted_for: None,
            spooled_reports: 0,
            refused_reports: Refusals::default(),
            set_aside: Vec::new(),
            attic_things: 0,
            attic_bytes: 0,
            settings: AgentSettings::default(),
            freezes: Vec::new(),
        }
    }

    fn joined() -> Status {
        let node = NodeStatus {
            id: Uuid::nil(),
            name: "kiosk-auken-1".to_owned(),
            servers: vec!["https://hub.skerry.example:7443".to_owned()],
            certificate_ends: at("12:00:00"),
            dismissed: None,
        };
        let daemon = DaemonNote {
            pid: 412,
            since: at("05:00:00"),
            next_check_in: at("07:00:40"),
            next_run: at("07:12:00"),
            next_run_for: None,
            unanswered: 0,
            contact: Some(Contact { url: "https://hub.skerry.example:7443".to_owned(), at: at("06:59:40") }),
            restart: None,
            not_wakeable: None,
        };
        let wanted = WantedStatus {
            releases: vec!["kiosk-floor@1.0.0".to_owned(), "quay-base@1.3.0".to_owned()],
            digest: "sha256:9c0effee9c0effee".to_owned(),
            generation: "1.118".to_owned(),
            clauses: 19,
        };
        Status {
            node: Some(node),
            daemon: Some(daemon),
            is_daemon_alive: true,
            wanted: Some(wanted),
            ..alone()
        }
    }

    #[test]
    fn a_machine_of_no_fleet_is_told_how_to_join_one() {
        insta::assert_snapshot!(text(&alone()), @"
        node      kiosk-auken-1 belongs to no fleet
        daemon    not started on this machine
        desired   no server sets a desired state
        last run  none yet
        attic     0 entries, 0.0 of 512 MiB

        settings and their sources
          mode             observe                  default
          check-ins        every 15 min             default
          runs             every 15 min             default
          spread           a tenth of the interval  default
          zone             UTC                      default
          on_drift         correct                  default
          on_rollout       apply                    default
          grace            none                     default
          change window    always open              default
          restart          never                    default
          reach within     1 min                    default
          attic            512 MiB                  default
          related records  gathered                 default
          wakeable         yes                      default
          agent version    as installed             default

        Next: constans-agent join, which asks for the invitation
        ");
    }

    #[test]
    fn a_node_shows_its_daemon_its_desired_state_and_its_run() {
        let begun = Begun {
            run: Uuid::nil(),
            began: at("06:59:30"),
            mode: Mode::Enforce,
            started_by: StartedBy::NewState,
            reason: None,
            sweep: None,
            partial: false,
            wanted: Wanted { digest: of_contents(b"state"), generation: None, releases: Vec::new() },
            clauses: 19,
        };
        let progress = Progress {
            run: Uuid::nil(),
            reached: 7,
            of: 19,
            doing: "correcting".to_owned(),
            address: Some(ClauseAddress::parse("package:kiosk-shell").unwrap()),
            since: at("06:59:48"),
        };
        let status = Status {
            under_way: Some(CurrentRun { begun, progress: Some(progress) }),
            attic_things: 1,
            attic_bytes: 1_572_864,
            ..joined()
        };
        let shown = text(&status);
        insta::assert_snapshot!(shown.split("\nsettings").next().unwrap(), @"
        node      kiosk-auken-1, 00000000-0000-0000-0000-000000000000
        server    https://hub.skerry.example:7443, certificate until 2026-11-23 12:00:00 UTC
        daemon    process 412 since 2026-11-23 05:00:00 UTC
        daemon    https://hub.skerry.example:7443 answered 20 s ago
        daemon    checks in in 40 s, runs in 12 min
        daemon    the server can have it check in at once
        run       in progress for 30 s, enforce, started by a new desired state: 7 of 19, correcting package:kiosk-shell for 12 s
        desired   kiosk-floor@1.0.0 quay-base@1.3.0, 19 clauses, generation 1.118, sha256:9c0effee
        last run  none yet
        attic     1 entry, 1.5 of 512 MiB
        ");
        assert!(shown.ends_with("\nNext: constans-agent runs lists its runs\n"), "{shown}");
    }

    #[test]
    fn what_is_wrong_is_shown_with_since_when_and_why() {
        let mut status = joined();
        status.daemon.as_mut().unwrap().unanswered = 3;
        status.spooled_reports = 3;
        status.refused_reports = Refusals {
            count: 1,
            last: Some(Refusal {
                began: at("06:00:00"),
                at: at("06:00:05"),
                because: "it is too large".to_owned(),
            }),
        };
        status.set_aside = vec![SetAside {
            name: "memory.json".to_owned(),
            at: at("05:00:00"),
            because: "it is cut off".to_owned(),
        }];
        status.restart_pending =
            Some(RestartPending { since: at("04:00:00"), because: vec!["linux-image-amd64".to_owned()] });
        status.freezes = vec![Freeze {
            no: 3,
            until: at("09:00:00"),
            because: "the festival".to_owned(),
            clauses: [].into(),
        }];
        insta::assert_snapshot!(text(&status).split("\nsettings").next().unwrap(), @"
        node      kiosk-auken-1, 00000000-0000-0000-0000-000000000000
        server    https://hub.skerry.example:7443, certificate until 2026-11-23 12:00:00 UTC
        daemon    process 412 since 2026-11-23 05:00:00 UTC
        daemon    no server answered 3 times in a row; the last answer was from https://hub.skerry.example:7443 20 s ago
        daemon    checks in in 40 s, runs in 12 min
        daemon    the server cannot have it check in at once: none has answered
        desired   kiosk-floor@1.0.0 quay-base@1.3.0, 19 clauses, generation 1.118, sha256:9c0effee
        last run  none yet
        frozen    F3 until 2026-11-23 09:00:00 UTC (the festival), all clauses
        restart   pending since 2026-11-23 04:00:00 UTC: linux-image-amd64
        spool     3 reports wait for the server
        refused   1 report was refused by the server; the last one, of the run that began 2026-11-23 06:00:00 UTC: it is too large
        set aside memory.json at 2026-11-23 05:00:00 UTC: it is cut off
        attic     0 entries, 0.0 of 512 MiB
        ");
    }

    #[test]
    fn a_dismissed_node_and_a_dead_daemon_are_called_so() {
        let mut status = Status { is_daemon_alive: false, ..joined() };
        status.node.as_mut().unwrap().dismissed = Some(Dismissed { is_retired: true, at: at("06:00:00") });
        let shown = text(&status);
        insta::assert_snapshot!(shown.lines().take(5).collect::<Vec<_>>().join("\n"), @"
        node      kiosk-auken-1, 00000000-0000-0000-0000-000000000000
        retired   the server refused it 60 min ago; it receives no desired state
                  with an invitation it asks to be a new node: constans-agent join --invitation-file FILE
        server    https://hub.skerry.example:7443, certificate until 2026-11-23 12:00:00 UTC
        daemon    not running (was process 412 since 2026-11-23 05:00:00 UTC); last contact with a server 20 s ago
        ");
        assert!(
            shown.ends_with("\nNext: systemctl start constans-agent, or constans-agent daemon\n"),
            "{shown}"
        );
    }
}
