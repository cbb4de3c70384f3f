//! `constans sweep`: runs at once over chosen nodes, looked at first, followed, stopped, compared.

mod begin;
mod words;

use crate::error::ClientError;
use crate::server::{ListArguments, Server, ServerArguments};
use begin::BeginArguments;
use clap::{Args, Subcommand};
use constans_core::run::Mode;
use constans_wire::exit::Exit;
use constans_wire::sweep::{Sweep, SweepComparison, SweepCounts, SweepFailure, SweepStatus, SweptNode};
use jiff::Timestamp;
use serde::Serialize;
use std::io::IsTerminal as _;
use std::time::{Duration, Instant};

/// How often it is looked how far a sweep is; less often if that takes the server long.
const EVERY: Duration = Duration::from_millis(500);
const TIMES_AS_LONG: u32 = 5;

/// Arguments of `sweep`.
#[derive(Debug, Args)]
pub struct SweepArguments {
    #[command(subcommand)]
    command: SweepCommand,
}

#[derive(Debug, Subcommand)]
enum SweepCommand {
    /// Have nodes examined now; nothing on them is changed
    Observe(BeginArguments),
    /// Have nodes enforced now: several are observed first, then exactly what was found is corrected
    Enforce(EnforceArguments),
    /// List sweeps, the newest first
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Show a sweep: what failed first, what was left and until when, what is waited for
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The sweep, for example S118
        #[arg(value_name = "SWEEP", value_parser = number)]
        no: u32,
        #[command(flatten)]
        which: ListArguments,
        /// Wait until it is over, with its progress
        #[arg(long)]
        follow: bool,
        /// List all nodes, not only the first 40
        #[arg(long)]
        all: bool,
    },
    /// Stop a sweep: no node begins it any more, and those that run begin no further clause
    Stop {
        #[command(flatten)]
        server: ServerArguments,
        /// The sweep, for example S118
        #[arg(value_name = "SWEEP", value_parser = number)]
        no: u32,
    },
    /// Compare a sweep with an earlier one: what is in line now, what fails still
    Compare {
        #[command(flatten)]
        server: ServerArguments,
        /// The sweep, for example S118
        #[arg(value_name = "SWEEP", value_parser = number)]
        no: u32,
        /// The earlier sweep
        #[arg(long, value_name = "SWEEP", value_parser = number)]
        with: u32,
    },
}

/// Arguments of `sweep enforce`.
#[derive(Debug, Args)]
pub struct EnforceArguments {
    #[command(flatten)]
    begin: BeginArguments,
    /// Correct exactly what this observing sweep found, on its nodes
    #[arg(long, value_name = "SWEEP", value_parser = number, conflicts_with_all = ["filter", "node", "baseline", "topic", "clause", "directly"])]
    after: Option<u32>,
    /// Do not wait for grace or change windows. A freeze still applies
    #[arg(long)]
    now: bool,
    /// Enforce also nodes whose mode is observe
    #[arg(long)]
    although_observing: bool,
    /// Correct the named clauses once although their switches say report or wait
    #[arg(long, requires = "clause")]
    correct_once: bool,
    /// Enforce several nodes without observing them first
    #[arg(long)]
    directly: bool,
    /// Begin at this time, for example 2026-11-28T22:00:00Z
    #[arg(long, value_name = "TIME", conflicts_with = "when_open")]
    at: Option<Timestamp>,
    /// Begin when all change windows have opened that are closed now
    #[arg(long, conflicts_with = "now")]
    when_open: bool,
    /// Do not ask for confirmation
    #[arg(short, long)]
    yes: bool,
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['S', 's'])
        .parse()
        .map_err(|_| "a sweep is called S and its number, for example S118".to_owned())
}

/// Begins, shows, stops, compares.
pub async fn run(arguments: &SweepArguments) -> Result<(), ClientError> {
    match &arguments.command {
        SweepCommand::Observe(arguments) => begin::observe(arguments).await,
        SweepCommand::Enforce(arguments) => begin::enforce(arguments).await,
        SweepCommand::List { server, which } => {
            let server = Server::open(server)?;
            let sweeps: Vec<Sweep> = server.get_all(&which.address("/api/sweeps")).await?;
            if !server.says_json(&sweeps) {
                if sweeps.is_empty() {
                    println!(
                        "{}",
                        which.none("no sweeps yet\nNext: constans sweep observe --because REASON")
                    );
                }
                sweeps.iter().for_each(|sweep| anstream::println!("{}", words::line(sweep)));
            }
            Ok(())
        }
        SweepCommand::Show { server, no, which, follow: follows, all } => {
            let server = Server::open(server)?;
            let no = i64::from(*no);
            let sweep = if *follows { follow(&server, no).await? } else { by_no(&server, no).await? };
            show(&server, sweep, which, *all).await
        }
        SweepCommand::Stop { server, no } => {
            let server = Server::open(server)?;
            let sweep: Sweep = server.post(&format!("/api/sweeps/{no}/stop"), &()).await?;
            if !server.says_json(&sweep) {
                anstream::print!("{}", words::head(&sweep));
            }
            Ok(())
        }
        SweepCommand::Compare { server, no, with } => {
            let server = Server::open(server)?;
            let compared: SweepComparison =
                server.get(&format!("/api/sweeps/{no}/comparison?with={with}")).await?;
            if !server.says_json(&compared) {
                anstream::print!("{}", words::compared(&compared));
            }
            Ok(())
        }
    }
}

async fn by_no(server: &Server, no: i64) -> Result<Sweep, ClientError> {
    server.get(&format!("/api/sweeps/{no}")).await
}

/// Waits until a sweep is over, or only silent nodes are waited for, with a progress line.
async fn follow(server: &Server, no: i64) -> Result<Sweep, ClientError> {
    let is_watched = std::io::stderr().is_terminal();
    loop {
        let asked = Instant::now();
        let sweep = by_no(server, no).await?;
        let pause = EVERY.max(asked.elapsed() * TIMES_AS_LONG);
        let SweepCounts { pending, silent, offered, begun, .. } = sweep.counts;
        if sweep.begins_at > sweep.now {
            return Ok(sweep);
        }
        let waits_for_silent_only = pending == silent && offered + begun == 0;
        if sweep.status != SweepStatus::Running || waits_for_silent_only {
            if is_watched {
                anstream::eprint!("\r\x1b[K");
            }
            return Ok(sweep);
        }
        if is_watched {
            anstream::eprint!("\r{}\x1b[K", words::progress(&sweep));
        }
        tokio::time::sleep(pause).await;
    }
}

/// What is printed as JSON.
#[derive(Serialize)]
struct Shown<'a> {
    sweep: &'a Sweep,
    nodes: &'a [SweptNode],
    failures: &'a [SweepFailure],
}

/// Shows a sweep with its nodes. Fails if something of it failed, stays out of line, or was not reached, once it is over.
async fn show(
    server: &Server,
    sweep: Sweep,
    which: &ListArguments,
    lists_all: bool,
) -> Result<(), ClientError> {
    let no = sweep.no;
    let nodes: Vec<SweptNode> = server.get_all(&which.address(&format!("/api/sweeps/{no}/nodes"))).await?;
    let failures: Vec<SweepFailure> = server.get(&format!("/api/sweeps/{no}/failures")).await?;
    if !server.says_json(&Shown { sweep: &sweep, nodes: &nodes, failures: &failures }) {
        anstream::print!("{}", words::whole(&sweep, &nodes, &failures, lists_all, Timestamp::now()));
    }
    ended_as(&sweep)
}

/// Returns as an error what keeps a sweep that is over from being a success.
fn ended_as(sweep: &Sweep) -> Result<(), ClientError> {
    let counts = &sweep.counts;
    if sweep.begins_at > sweep.now || counts.offered + counts.begun > 0 || counts.pending > counts.silent {
        return Ok(());
    }
    let again = format!("constans sweep show S{} --follow", sweep.no);
    let missing = counts.refused + counts.not_reached + counts.pending;
    let open = counts.done - counts.in_line;
    let (exit, message) = match sweep.order.mode {
        _ if counts.failed > 0 => {
            (Exit::Failed, format!("on {} of {} nodes something failed", counts.failed, counts.nodes))
        }
        Mode::Enforce if open > 0 => {
            (Exit::OutOfLine, format!("{open} of {} nodes are not in line", counts.nodes))
        }
        _ if missing > 0 => (Exit::Error, format!("{missing} of {} nodes did not take part", counts.nodes)),
        Mode::Observe if open > 0 => {
            (Exit::OutOfLine, format!("{open} of {} nodes are not in line", counts.nodes))
        }
        _ => return Ok(()),
    };
    Err(ClientError::new(message, again).ending_as(exit))
}
