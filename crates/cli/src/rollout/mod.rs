//! `constans rollout`: changes that reach their nodes in waves.

mod words;

use crate::change::{ChangeOptions, agree_to, ask, confirmed, number, print_changed};
use crate::error::ClientError;
use crate::group_edit;
use crate::invitation::duration;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_core::change::{Confirmed, GroupEdit};
use constans_core::group::EVERYONE;
use constans_core::rollout::{RolloutPlan, read_halt, read_waves};
use constans_wire::change::HowToChange;
use constans_wire::exit::Exit;
use constans_wire::group::EditGroup;
use constans_wire::kit::Changed;
use constans_wire::rollout::{
    NewRollout, Rollout, RolloutBegun, RolloutNode, RolloutReason, RolloutStatus, RolloutSummary,
};
use serde::Serialize;
use serde_json::Value;
use std::io::IsTerminal as _;
use std::time::Duration;

/// How often it is looked how far a rollout is.
const EVERY: Duration = Duration::from_secs(1);

/// Arguments of `rollout`.
#[derive(Debug, Args)]
pub struct RolloutArguments {
    #[command(subcommand)]
    command: RolloutCommand,
}

#[derive(Debug, Subcommand)]
enum RolloutCommand {
    /// Hand a previewed change out in waves; it halts by itself when too many nodes are bad
    Begin(BeginArguments),
    /// List rollouts, the newest first
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Show a rollout: its waves, how their nodes are, what failed
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The rollout by its change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        #[command(flatten)]
        which: ListArguments,
        /// Wait until it has ended or halts, with its progress
        #[arg(long)]
        follow: bool,
        /// List all nodes, not only the first 40
        #[arg(long)]
        all: bool,
    },
    /// Halt a rollout: no further wave is handed out; nodes that have the change keep it
    Halt(DecideArguments),
    /// Have a rollout go on. If it was halted for bad nodes, or goes on already, its next wave begins at once
    GoOn(DecideArguments),
    /// Turn a rollout back: the nodes that it reached are as they were before it
    TurnBack {
        #[command(flatten)]
        server: ServerArguments,
        /// The rollout by its change, for example C118
        #[arg(value_name = "CHANGE", value_parser = number)]
        no: u32,
        #[command(flatten)]
        options: ChangeOptions,
    },
}

#[derive(Debug, Args)]
struct BeginArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The change, previewed or requested, for example C118; or agent@VERSION, a version of the agent
    #[arg(value_name = "CHANGE|agent@VERSION", value_parser = subject)]
    subject: Subject,
    /// The group whose agents are upgraded [default: everyone]
    #[arg(long, value_name = "GROUP")]
    group: Option<String>,
    /// The reason, kept with the change of an agent's version
    #[arg(long, value_name = "REASON")]
    because: Option<String>,
    /// How many percent of the nodes have the change after each wave
    #[arg(long, value_name = "PERCENTAGES", default_value = "5%,25%,100%", value_parser = waves)]
    waves: Waves,
    /// For how long a wave settles, once 90 % of its heard nodes have finished a full run
    #[arg(long, value_name = "TIME", default_value = "30m", value_parser = duration)]
    settle: u64,
    /// When it halts: above this percentage of bad nodes, at least 3, or all of a smaller wave
    #[arg(long, value_name = "RULE", default_value = "bad > 2%", value_parser = halt)]
    halt: u32,
    /// Let the percentages count within each value of a label, for example site
    #[arg(long, value_name = "LABEL")]
    within: Option<String>,
    /// Only show which nodes each wave would have
    #[arg(long)]
    preview: bool,
    /// Confirm that the change takes clauses from at most this number of nodes
    #[arg(long, value_name = "NODES")]
    confirm: Option<u64>,
    /// Do not ask for confirmation of the waves
    #[arg(short, long)]
    yes: bool,
}

/// What is handed out in waves.
#[derive(Debug, Clone)]
enum Subject {
    /// A previewed or requested change.
    Change(u32),
    /// A version of the agent.
    Agent(String),
}

fn subject(text: &str) -> Result<Subject, String> {
    match text.strip_prefix("agent@") {
        Some("") => Err("a version follows agent@, for example agent@0.1.0".to_owned()),
        Some(version) => Ok(Subject::Agent(version.to_owned())),
        None => number(text).map(Subject::Change),
    }
}

/// The percentages of waves; a type of its own, as clap takes a list for several values.
#[derive(Debug, Clone)]
struct Waves(Vec<u32>);

fn waves(text: &str) -> Result<Waves, String> {
    read_waves(text).map(Waves).map_err(|error| error.to_string())
}

fn halt(text: &str) -> Result<u32, String> {
    read_halt(text).map_err(|error| error.to_string())
}

#[derive(Debug, Args)]
struct DecideArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The rollout by its change, for example C118
    #[arg(value_name = "CHANGE", value_parser = number)]
    no: u32,
    /// The reason, kept in the audit trail
    #[arg(long, value_name = "REASON")]
    because: String,
}

/// Begins, shows, halts, continues, turns back.
pub async fn run(arguments: &RolloutArguments) -> Result<(), ClientError> {
    match &arguments.command {
        RolloutCommand::Begin(arguments) => begin(arguments).await,
        RolloutCommand::List { server, which } => {
            let server = Server::open(server)?;
            let rollouts: Vec<RolloutSummary> = server.get_all(&which.address("/api/rollouts")).await?;
            if !server.says_json(&rollouts) {
                if rollouts.is_empty() {
                    println!("{}", which.none("no rollouts yet\nNext: preview a change (--preview), then constans rollout begin CHANGE"));
                }
                rollouts.iter().for_each(|rollout| anstream::println!("{}", words::line(rollout)));
            }
            Ok(())
        }
        RolloutCommand::Show { server, no, which, follow: follows, all } => {
            let server = Server::open(server)?;
            let rollout = if *follows { follow(&server, *no).await? } else { by_no(&server, *no).await? };
            show(&server, rollout, which, *all).await
        }
        RolloutCommand::Halt(arguments) => decide(arguments, "halt").await,
        RolloutCommand::GoOn(arguments) => decide(arguments, "go-on").await,
        RolloutCommand::TurnBack { server, no, options } => {
            let server = Server::open(server)?;
            let answered: Result<Changed, ClientError> =
                server.post(&format!("/api/rollouts/{no}/turn-back"), &options.how()).await;
            let changed = confirmed(&server, answered).await?;
            print_changed(&server, &format!("C{no} is turned back"), &changed);
            Ok(())
        }
    }
}

async fn by_no(server: &Server, no: u32) -> Result<Rollout, ClientError> {
    server.get(&format!("/api/rollouts/{no}")).await
}

async fn begin(arguments: &BeginArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let no = match &arguments.subject {
        Subject::Change(no) => {
            if arguments.group.is_some() || arguments.because.is_some() {
                let hint = "a change has both already; name agent@VERSION, or leave them out";
                return Err(ClientError::new("--group and --because are for a version of the agent", hint));
            }
            i64::from(*no)
        }
        Subject::Agent(version) => preview_version(&server, arguments, version).await?,
    };
    let plan = RolloutPlan {
        waves: arguments.waves.0.clone(),
        settle_secs: arguments.settle,
        bad_above_percent: arguments.halt,
        within: arguments.within.clone(),
    };
    let mut new = NewRollout { change: no, plan, preview: true, confirmed: Confirmed::default() };
    let planned: RolloutBegun = server.post("/api/rollouts", &new).await?;
    if arguments.preview {
        if !server.says_json(&planned) {
            anstream::print!("{}", words::planned(no, &new.plan, &planned));
            println!("nothing is begun yet\nNext: the same without --preview, for C{no}");
        }
        return Ok(());
    }
    anstream::eprint!("{}", words::planned(no, &new.plan, &planned));
    new.confirmed = match arguments.confirm {
        Some(takes_from) => Confirmed { takes_from, ..Confirmed::default() },
        None => agree_to(&server, "confirm", no, "begin its rollout").await?,
    };
    let is_asked = arguments.confirm.is_none() && !arguments.yes && new.confirmed.takes == Some(0);
    if is_asked
        && std::io::stdin().is_terminal()
        && ask(&format!("Begin the rollout of C{no}? [y/N] "))?.to_lowercase() != "y"
    {
        return Err(ClientError::new(
            format!("the rollout of C{no} is not begun"),
            "begin it with the same command",
        )
        .declined());
    }
    new.preview = false;
    let begun: RolloutBegun = server.post("/api/rollouts", &new).await?;
    if server.says_json(&begun) {
        return Ok(());
    }
    if begun.requested {
        println!(
            "C{no} waits for another person: nothing is handed out\nNext: constans rollout begin C{no}, by whoever may decide about changes"
        );
    } else {
        println!("the rollout of C{no} has begun\nNext: constans rollout show C{no} --follow");
    }
    Ok(())
}

/// Previews that a group sets a version of the agent, and returns the number of the change.
async fn preview_version(
    server: &Server,
    arguments: &BeginArguments,
    version: &str,
) -> Result<i64, ClientError> {
    let group = arguments.group.as_deref().unwrap_or(EVERYONE);
    let value = Some(Value::from(version));
    let edits = vec![GroupEdit::Setting { word: "agent_version".to_owned(), value, until: None }];
    let how = HowToChange { because: arguments.because.clone(), preview: true, ..HowToChange::default() };
    let previewed: Changed =
        server.post(&format!("{}/edits", group_edit::path(group)), &EditGroup { edits, how }).await?;
    previewed.change.ok_or_else(|| {
        let hint = format!("constans group show {group} shows its settings");
        ClientError::new(format!("the group {group} sets version {version} of the agent already"), hint)
    })
}

async fn decide(arguments: &DecideArguments, what: &str) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let reason = RolloutReason { because: arguments.because.clone() };
    let rollout: Rollout = server.post(&format!("/api/rollouts/{}/{what}", arguments.no), &reason).await?;
    if !server.says_json(&rollout) {
        anstream::print!("{}", words::head(&rollout));
    }
    Ok(())
}

/// Waits until a rollout has ended or halts, with a progress line.
async fn follow(server: &Server, no: u32) -> Result<Rollout, ClientError> {
    let is_watched = std::io::stderr().is_terminal();
    loop {
        let rollout = by_no(server, no).await?;
        if rollout.rollout.status != RolloutStatus::Going {
            if is_watched {
                anstream::eprint!("\r\x1b[K");
            }
            return Ok(rollout);
        }
        if is_watched {
            anstream::eprint!("\r{}\x1b[K", words::progress(&rollout));
        }
        tokio::time::sleep(EVERY).await;
    }
}

/// What is printed as JSON.
#[derive(Serialize)]
struct Shown<'a> {
    #[serde(flatten)]
    rollout: &'a Rollout,
    nodes: &'a [RolloutNode],
}

/// Shows a rollout with its nodes. Fails if it is halted.
async fn show(
    server: &Server,
    rollout: Rollout,
    which: &ListArguments,
    lists_all: bool,
) -> Result<(), ClientError> {
    let no = rollout.rollout.no;
    let nodes: Vec<RolloutNode> =
        server.get_all(&which.address(&format!("/api/rollouts/{no}/nodes"))).await?;
    if !server.says_json(&Shown { rollout: &rollout, nodes: &nodes }) {
        anstream::print!("{}", words::whole(&rollout, &nodes, lists_all));
    }
    match (&rollout.rollout.halted, rollout.rollout.status) {
        (Some(halted), RolloutStatus::Halted) => {
            let exit = if rollout.waves.iter().any(|wave| wave.figures.bad() > 0) {
                Exit::Failed
            } else {
                Exit::Error
            };
            let hint = format!(
                "turn it back: constans rollout turn-back C{no}; or constans rollout go-on C{no} --because REASON"
            );
            Err(ClientError::new(format!("the rollout C{no} is halted: {}", halted.because), hint)
                .ending_as(exit))
        }
        _ => Ok(()),
    }
}
