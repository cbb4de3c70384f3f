//! The agent's command line.

use clap::{Args, Parser, Subcommand, ValueEnum};
use constans_core::words::{check_reason, read_label};
use std::path::PathBuf;

/// Keep this machine as its documents say, and tell what differs
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
    /// Look at everything, change nothing, and show what would be done
    Observe(ObserveArguments),
    /// Show what would be done, ask, and do it
    Enforce(EnforceArguments),
    /// Tell what there is on this machine, as the clauses that would keep it so
    Inspect(InspectArguments),
    /// Tell how this agent is: what it waits for, when it comes next, how it is set and by whom
    Status(ReportingArguments),
    /// List the runs that this node remembers, or show one
    Runs(RunsArguments),
    /// Look at contents that were replaced or removed, and put them back
    Attic(AtticArguments),
    /// Join a fleet: show an invitation and wait until an operator approves
    Join(JoinArguments),
    /// Contact the server once
    CheckIn(ReportingArguments),
    /// Check in, run and deliver at the interval that the server sets
    Daemon(DaemonArguments),
    /// Find out why this node is not heard: name, port, trust, clock, approval
    Diagnose(ReportingArguments),
    /// Speak to the network for the agent, which starts this itself
    #[command(hide = true)]
    NetworkPart {
        /// The account to give up all rights for
        #[arg(long, requires = "gid")]
        uid: Option<u32>,
        /// Its group
        #[arg(long, requires = "uid")]
        gid: Option<u32>,
    },
    /// Print what a shell needs to complete the agent's commands
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// Arguments of `join`.
#[derive(Debug, Args)]
pub struct JoinArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// File that holds the invitation, or - for standard input
    #[arg(long, value_name = "FILE|-")]
    pub invitation: String,
    /// Name of the node; the machine's own unless said otherwise
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    /// How many seconds to wait for approval
    #[arg(long, value_name = "SECONDS", default_value_t = 3600)]
    pub wait: u64,
    /// How to show the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
    /// Join although this machine belongs to a fleet already
    #[arg(long)]
    pub again: bool,
}

/// What is wanted.
#[derive(Debug, Args)]
pub struct What {
    /// Folder of the kit; without it, what the server wants
    #[arg(long, value_name = "DIR", conflicts_with = "file")]
    pub kit: Option<PathBuf>,
    /// Folder of a kit that it requires; those that lie beside it are found without
    #[arg(long, value_name = "DIR", requires = "kit")]
    pub with: Vec<PathBuf>,
    /// Baseline of the kit; not needed if it has only one. Of what the server wants, touch only this baseline's clauses
    #[arg(long, value_name = "NAME", conflicts_with = "file")]
    pub baseline: Option<String>,
    /// A single baseline document instead of a kit
    #[arg(long, value_name = "FILE")]
    pub file: Option<PathBuf>,
}

/// Which machine and which folder of the agent's own.
#[derive(Debug, Args)]
pub struct WhereArguments {
    /// Act on this folder as if it were the machine's root
    #[arg(long, value_name = "DIR", default_value = "/")]
    pub root: PathBuf,
    /// The agent's own folder: memory, attic [default: ROOT/var/lib/constans]
    #[arg(long, value_name = "DIR")]
    pub state_dir: Option<PathBuf>,
}

/// Where, and how the result is shown.
#[derive(Debug, Args)]
pub struct ReportingArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// How to show the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
}

/// What is wanted, where, and how it is shown.
#[derive(Debug, Args)]
pub struct WantedArguments {
    /// What
    #[command(flatten)]
    pub what: What,
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Give a parameter a value
    #[arg(long, value_name = "NAME=VALUE", value_parser = name_and_value)]
    pub set: Vec<(String, String)>,
    /// Let conditions and renders see this label
    #[arg(long = "label", value_name = "KEY=VALUE", value_parser = read_label)]
    pub labels: Vec<(String, String)>,
    /// Touch only clauses whose address fits; `*` stands for anything
    #[arg(long = "clause", value_name = "ADDRESS")]
    pub clauses: Vec<String>,
    /// Touch only clauses with this topic
    #[arg(long = "topic", value_name = "WORD")]
    pub topics: Vec<String>,
    /// How to show the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
    /// Show every clause, and how it was looked at and done
    #[arg(short, long)]
    pub verbose: bool,
    /// How many seconds to wait for another run to end
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
    /// Do it without asking
    #[arg(short, long)]
    pub yes: bool,
    /// Enforce although this node is set to observe, and why; the reason is recorded
    #[arg(long, value_name = "REASON", value_parser = reason)]
    pub although_observing: Option<String>,
    /// Do not wait for the end of a grace or for the change window, and why; the reason is recorded. A hold stays
    #[arg(long, value_name = "REASON", value_parser = reason)]
    pub now: Option<String>,
}

/// Arguments of `inspect`.
#[derive(Debug, Args)]
pub struct InspectArguments {
    /// The kind, as package, service, file
    pub kind: String,
    /// The name of one thing; a path for files
    #[arg(required_unless_present = "all", conflicts_with = "all")]
    pub name: Option<String>,
    /// All things of the kind
    #[arg(long)]
    pub all: bool,
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// How to show the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
}

/// Arguments of `daemon`.
#[derive(Debug, Args)]
pub struct DaemonArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Do one round and end
    #[arg(long)]
    pub once: bool,
    /// How many seconds after a change of network or access a server must be reached again before the change is put back;
    /// without it, as its groups say [default: 60]
    #[arg(long, value_name = "SECONDS")]
    pub reach_within: Option<u64>,
}

/// Arguments of `runs`.
#[derive(Debug, Args)]
pub struct RunsArguments {
    /// Where, and how
    #[command(flatten)]
    pub reporting: ReportingArguments,
    /// The run to show; the beginning of its id is enough
    pub run: Option<String>,
    /// Every clause, with how it was looked at and done
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
    /// List what is kept, the newest first
    List(AtticListArguments),
    /// Print the contents of one thing
    Show(AtticOneArguments),
    /// Show how one thing differs from what stands at its path now
    Compare(AtticOneArguments),
    /// Put one thing back to where it stood; what stands there now goes into the attic
    PutBack(PutBackArguments),
}

/// Arguments of `attic list`.
#[derive(Debug, Args)]
pub struct AtticListArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Only things whose path fits; `*` stands for anything
    #[arg(long, value_name = "PATH")]
    pub path: Option<String>,
    /// Only things that this run replaced; the beginning of its id is enough
    #[arg(long, value_name = "RUN")]
    pub run: Option<String>,
    /// Only things replaced since this time, as 2026-11-23T06:00:00Z
    #[arg(long, value_name = "TIME")]
    pub since: Option<jiff::Timestamp>,
    /// Only things replaced until this time
    #[arg(long, value_name = "TIME")]
    pub until: Option<jiff::Timestamp>,
    /// Only things that hold this text
    #[arg(long, value_name = "TEXT")]
    pub content: Option<String>,
    /// How to show the result
    #[arg(long, value_enum, default_value_t = Output::Text)]
    pub output: Output,
}

/// Arguments of `attic show` and `attic compare`.
#[derive(Debug, Args)]
pub struct AtticOneArguments {
    /// Where
    #[command(flatten)]
    pub place: WhereArguments,
    /// Its number in `attic list`
    pub number: u64,
}

/// Arguments of `attic put-back`.
#[derive(Debug, Args)]
pub struct PutBackArguments {
    /// Which
    #[command(flatten)]
    pub one: AtticOneArguments,
    /// Do it without asking
    #[arg(short, long)]
    pub yes: bool,
    /// How many seconds to wait for a run to end
    #[arg(long, value_name = "SECONDS", default_value_t = 60)]
    pub wait: u64,
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
