//! The agent's command line.

use clap::{Args, Parser, Subcommand, ValueEnum};
use constans_core::words::{check_reason, read_label};
use std::path::PathBuf;

/// Bring this machine to its desired state, and report drift
#[derive(Debug, Parser)]
#[command(name = "constans-agent", version, max_term_width = 110)]
pub struct CommandLine {
    /// What to do
    #[command(subcommand)]
    pub command: Command,
}

/// The agent's commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Examine all clauses, change nothing, and show what would be done
    Observe(ObserveArguments),
    /// Show what would be done, ask for confirmation, and apply it
    Enforce(EnforceArguments),
    /// Show things on this machine as the clauses that would keep them as they are
    Inspect(InspectArguments),
    /// Show the state of this agent: connection, next runs, settings and their sources
    Status(ReportingArguments),
    /// List the stored runs of this node, or show one
    Runs(RunsArguments),
    /// Show and restore contents that were replaced or removed
    Attic(AtticArguments),
    /// Join a fleet with an invitation, and wait for approval
    Join(JoinArguments),
    /// Contact the server once
    CheckIn(ReportingArguments),
    /// Check in, run and report at the intervals that the server sets
    Daemon(DaemonArguments),
    /// Test the connection to the server: name, port, trust, clock, approval
    Diagnose(ReportingArguments),
    /// Network part of the agent; started by the agent itself
    #[command(hide = true)]
    NetworkPart {
        /// The account to run as
        #[arg(long, requires = "gid")]
        uid: Option<u32>,
        /// The group
        #[arg(long, requires = "uid")]
        gid: Option<u32>,
    },
    /// Let an upgrade of the agent that failed be tried again
    RetryUpgrade(WhereArguments),
    /// Guard of an upgrade; started by the agent itself
    #[command(hide = true)]
    UpgradeGuard {
        /// The state folder of the agent
        #[arg(long, value_name = "DIR")]
        state_dir: PathBuf,
    },
    /// Print the completions of the agent's commands for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write the manual's pages into a folder; for packages
    #[command(hide = true)]
    ManPages {
        /// The folder
        folder: PathBuf,
    },
}

/// Arguments of `join`.
#[derive(Debug, Args)]
pub struct JoinArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// File with the invitation, or - for standard input [default: asked for on the terminal, without showing it; not at all while a
    /// request waits]
    #[arg(long, value_name = "FILE|-")]
    pub invitation_file: Option<String>,
    /// Name of the node [default: the host name]
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// Wait until the machine has joined, or check in and run until all is in line: for a first boot, or a template
    #[arg(long, value_enum, default_value_t = Until::Joined)]
    pub until: Until,
    /// Seconds to wait for that, in all
    #[arg(long, value_name = "SECONDS", default_value_t = 3600, overrides_with = "wait")]
    pub wait: u64,
    /// Output format of the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
    /// Join although this machine already belongs to a fleet
    #[arg(long)]
    pub again: bool,
}

/// The desired state.
#[derive(Debug, Args)]
pub struct RunSubject {
    /// Folder of the kit [default: the desired state from the server]
    #[arg(long, value_name = "DIR", conflicts_with = "file")]
    pub kit: Option<PathBuf>,
    /// Folder of a required kit; kits beside this one are found without it
    #[arg(long, value_name = "DIR", requires = "kit")]
    pub with: Vec<PathBuf>,
    /// Baseline of the kit, if it has several; without --kit, run only clauses of this baseline
    #[arg(long, value_name = "NAME", conflicts_with = "file")]
    pub baseline: Option<String>,
    /// A single baseline document instead of a kit
    #[arg(long, value_name = "FILE")]
    pub file: Option<PathBuf>,
}

/// Which machine and which folder of the agent's own.
#[derive(Debug, Args)]
pub struct WhereArguments {
    /// Use this folder as the root of the machine
    #[arg(long, value_name = "DIR", default_value = "/")]
    pub root: PathBuf,
    /// State folder of the agent: memory, attic, spool [default: ROOT/var/lib/constans]
    #[arg(long, value_name = "DIR")]
    pub state_dir: Option<PathBuf>,
}

/// Where, and how the result is shown.
#[derive(Debug, Args)]
pub struct ReportingArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Output format of the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
}

/// What is wanted, where, and how it is shown.
#[derive(Debug, Args)]
pub struct WantedArguments {
    /// What
    #[command(flatten)]
    pub what: RunSubject,
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Give a parameter a value
    #[arg(long, value_name = "NAME=VALUE", value_parser = name_and_value)]
    pub set: Vec<(String, String)>,
    /// Set a label for conditions and renders
    #[arg(long = "label", value_name = "KEY=VALUE", value_parser = read_label)]
    pub labels: Vec<(String, String)>,
    /// Run only clauses whose address matches; `*` matches anything
    #[arg(long = "clause", value_name = "ADDRESS")]
    pub clauses: Vec<String>,
    /// Run only clauses with this topic
    #[arg(long = "topic", value_name = "WORD")]
    pub topics: Vec<String>,
    /// Output format of the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
    /// Show every clause, with native commands and system calls
    #[arg(short, long)]
    pub verbose: bool,
    /// Do not gather what the system has on record of the time in which something drifted: sign-ins, sudo, packages
    #[arg(long)]
    pub no_related_records: bool,
    /// Seconds to wait for another run to finish
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    pub wait: u64,
}

/// Arguments of `observe`.
#[derive(Debug, Args)]
pub struct ObserveArguments {
    /// What, where, how
    #[command(flatten)]
    pub wanted: WantedArguments,
}

/// Arguments of `enforce`.
#[derive(Debug, Args)]
pub struct EnforceArguments {
    /// What, where, how
    #[command(flatten)]
    pub wanted: WantedArguments,
    /// Do not ask for confirmation
    #[arg(short, long)]
    pub yes: bool,
    /// Enforce although the mode of this node is observe; the reason is recorded
    #[arg(long, value_name = "REASON", value_parser = reason)]
    pub although_observing: Option<String>,
    /// Do not wait for grace or change window; the reason is recorded. A freeze still applies
    #[arg(long, value_name = "REASON", value_parser = reason)]
    pub now: Option<String>,
}

/// Arguments of `inspect`.
#[derive(Debug, Args)]
pub struct InspectArguments {
    /// The kind, for example package, service, file
    pub kind: String,
    /// The name; a path for files
    #[arg(required_unless_present = "all", conflicts_with = "all")]
    pub name: Option<String>,
    /// List all things of this kind
    #[arg(long)]
    pub all: bool,
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Output format of the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
}

/// Arguments of `daemon`.
#[derive(Debug, Args)]
pub struct DaemonArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Do one round, then exit
    #[arg(long)]
    pub once: bool,
    /// Seconds within which a server must be reachable again after a change of network or access, or it is reverted
    /// [default: the setting of its groups, else 60]
    #[arg(long, value_name = "SECONDS")]
    pub reach_within: Option<u64>,
    /// Seconds within which a new version of the agent must have reported, or the one before is reinstalled
    #[arg(long, value_name = "SECONDS", hide = true)]
    pub report_within: Option<u64>,
}

/// Arguments of `runs`.
#[derive(Debug, Args)]
pub struct RunsArguments {
    /// Where, and how
    #[command(flatten)]
    pub reporting: ReportingArguments,
    /// The run to show; the beginning of its id is enough
    pub run: Option<String>,
    /// Show every clause, with native commands and system calls
    #[arg(short, long, requires = "run")]
    pub verbose: bool,
}

/// Arguments of `attic`.
#[derive(Debug, Args)]
pub struct AtticArguments {
    /// What to do
    #[command(subcommand)]
    pub command: AtticCommand,
}

/// Commands of the attic.
#[derive(Debug, Subcommand)]
pub enum AtticCommand {
    /// List the entries, the newest first
    List(AtticListArguments),
    /// Print the contents of an entry
    Show(AtticOneArguments),
    /// Compare an entry with the present contents of its path
    Compare(AtticOneArguments),
    /// Restore an entry to its path; the present contents go into the attic
    PutBack(PutBackArguments),
}

/// Arguments of `attic list`.
#[derive(Debug, Args)]
pub struct AtticListArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Only entries whose path matches; `*` matches anything
    #[arg(long, value_name = "PATH")]
    pub path: Option<String>,
    /// Only entries of this run; the beginning of its id is enough
    #[arg(long, value_name = "RUN")]
    pub run: Option<String>,
    /// Only entries replaced since this time, for example 2026-11-23T06:00:00Z
    #[arg(long, value_name = "TIME")]
    pub since: Option<jiff::Timestamp>,
    /// Only entries replaced until this time
    #[arg(long, value_name = "TIME")]
    pub until: Option<jiff::Timestamp>,
    /// Only entries that contain this text
    #[arg(long, value_name = "TEXT")]
    pub content: Option<String>,
    /// Output format of the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
}

/// Arguments of `attic show` and `attic compare`.
#[derive(Debug, Args)]
pub struct AtticOneArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// The entry number in `attic list`
    pub number: u64,
}

/// Arguments of `attic put-back`.
#[derive(Debug, Args)]
pub struct PutBackArguments {
    /// Which
    #[command(flatten)]
    pub one: AtticOneArguments,
    /// Do not ask for confirmation
    #[arg(short, long)]
    pub yes: bool,
    /// Seconds to wait for a run to finish
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    pub wait: u64,
}

/// What a join waits for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Until {
    /// The machine is a node
    Joined,
    /// Everything on it is as desired
    #[value(name = "in_line")]
    InLine,
}

/// How results are shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum Output {
    /// For people
    Text,
    /// For programs
    Json,
}

fn reason(text: &str) -> Result<String, String> {
    check_reason(text).map(|()| text.to_owned())
}

fn name_and_value(text: &str) -> Result<(String, String), String> {
    match text.split_once('=') {
        Some((name, value)) if !name.is_empty() => Ok((name.to_owned(), value.to_owned())),
        _ => Err("write NAME=VALUE".to_owned()),
    }
}
