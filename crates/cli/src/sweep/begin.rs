//! `constans sweep observe` and `enforce`.

use super::{EnforceArguments, by_no, ended_as, follow, show, words};
use crate::change::ask;
use crate::error::ClientError;
use crate::invitation::duration;
use crate::server::{ListArguments, Server, ServerArguments};
use clap::Args;
use constans_core::run::{Mode, Part};
use constans_core::sweep::SweepOrder;
use constans_terminal::count;
use constans_wire::sweep::{NewSweep, Sweep, SweepBegun};
use std::io::IsTerminal as _;

/// What both ways to begin have.
#[derive(Debug, Args)]
pub struct BeginArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// Only matching nodes, in CEL, for example 'labels.site == "auken"' [default: all nodes]
    #[arg(value_name = "CEL", conflicts_with = "node")]
    filter: Option<String>,
    /// This node; can be given more than once
    #[arg(long, value_name = "NODE")]
    node: Vec<String>,
    /// Only clauses of this baseline
    #[arg(long, value_name = "NAME")]
    baseline: Option<String>,
    /// Only clauses with this topic
    #[arg(long, value_name = "WORD")]
    topic: Vec<String>,
    /// Only clauses whose address matches; `*` matches anything
    #[arg(long, value_name = "ADDRESS")]
    clause: Vec<String>,
    /// Read everything anew, also files and packages whose metadata is the same since they were read
    #[arg(long)]
    read_all: bool,
    /// The reason, recorded with each run
    #[arg(long, visible_alias = "reason", value_name = "REASON")]
    because: String,
    /// How long nodes may begin it, as 30m or 12h; those not heard of until then are listed
    #[arg(long = "for", value_name = "TIME", value_parser = duration, default_value = "1h")]
    for_secs: u64,
    /// Show what it would do, by what the last runs found; nothing is begun
    #[arg(long)]
    preview: bool,
    /// Do not wait until it is over
    #[arg(long)]
    no_wait: bool,
    /// List all nodes, not only the first 40
    #[arg(long)]
    all: bool,
}

impl BeginArguments {
    fn wanted(&self, mut order: SweepOrder) -> NewSweep {
        order.read_all = self.read_all;
        order.part = Part {
            clauses: self.clause.iter().cloned().collect(),
            topics: self.topic.iter().cloned().collect(),
            baseline: self.baseline.clone(),
        };
        NewSweep {
            order,
            nodes: self.node.iter().cloned().collect(),
            filter: self.node.is_empty().then(|| self.filter.clone().unwrap_or_default()),
            after: None,
            directly: false,
            because: self.because.clone(),
            begins_at: None,
            for_secs: self.for_secs,
            preview: false,
        }
    }
}

async fn looked_at(server: &Server, wanted: &NewSweep) -> Result<SweepBegun, ClientError> {
    server.post("/api/sweeps", &NewSweep { preview: true, ..wanted.clone() }).await
}

/// Begins a sweep. Returns its number.
async fn begun(server: &Server, wanted: &NewSweep) -> Result<i64, ClientError> {
    let begun: SweepBegun = server.post("/api/sweeps", wanted).await?;
    let begun = begun.no.ok_or_else(|| ClientError::new("the server began no sweep", "try it again"))?;
    if std::io::stderr().is_terminal() {
        anstream::eprintln!(
            "S{begun} goes on by itself; Ctrl-C leaves it: constans sweep show S{begun} --follow"
        );
    }
    Ok(begun)
}

/// Has nodes examined.
pub async fn observe(arguments: &BeginArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let wanted = arguments.wanted(SweepOrder::of(Mode::Observe));
    if arguments.preview {
        return print_plan(&server, &looked_at(&server, &wanted).await?);
    }
    let no = begun(&server, &wanted).await?;
    end(&server, no, arguments).await
}

fn print_plan(server: &Server, looked_at: &SweepBegun) -> Result<(), ClientError> {
    if !server.says_json(&looked_at.plan) {
        anstream::print!("{}", words::plan(&looked_at.plan));
    }
    Ok(())
}

/// Waits for the end of a sweep and shows it, unless that is not wanted.
async fn end(server: &Server, no: i64, arguments: &BeginArguments) -> Result<(), ClientError> {
    let which = ListArguments { filter: None, sort: None };
    let sweep = if arguments.no_wait { by_no(server, no).await? } else { follow(server, no).await? };
    show(server, sweep, &which, arguments.all).await
}

/// Has nodes enforced: several of them are observed first, and exactly what was found is corrected.
pub async fn enforce(arguments: &EnforceArguments) -> Result<(), ClientError> {
    let EnforceArguments {
        begin,
        after,
        now,
        although_observing,
        correct_once,
        directly,
        at,
        when_open,
        yes,
    } = arguments;
    let server = Server::open(&begin.server)?;
    let order = SweepOrder {
        now: *now,
        although_observing: *although_observing,
        correct_once: *correct_once,
        ..SweepOrder::of(Mode::Enforce)
    };
    let mut wanted = NewSweep { directly: *directly, ..begin.wanted(order) };
    if let Some(after) = after {
        wanted = exactly(wanted, i64::from(*after));
    }
    wanted.begins_at = *at;
    let mut looked = looked_at(&server, &wanted).await?;
    if let Some(opens) = looked.plan.opens.filter(|_| *when_open) {
        wanted.begins_at = Some(opens);
        looked = looked_at(&server, &wanted).await?;
    }
    if begin.preview {
        return print_plan(&server, &looked);
    }
    if looked.plan.nodes <= 1 || *directly || after.is_some() {
        if !yes {
            anstream::print!("{}", words::plan(&looked.plan));
            confirm(&server, &looked)?;
        }
        let no = begun(&server, &wanted).await?;
        return end(&server, no, begin).await;
    }
    let observing = NewSweep {
        order: SweepOrder { mode: Mode::Observe, although_observing: false, ..wanted.order.clone() },
        begins_at: None,
        ..wanted.clone()
    };
    let first = begun(&server, &observing).await?;
    if begin.no_wait {
        let sweep = by_no(&server, first).await?;
        show(&server, sweep, &ListArguments { filter: None, sort: None }, begin.all).await?;
        anstream::eprintln!(
            "Next, once it is done: constans sweep enforce --after S{first} --because REASON"
        );
        return Ok(());
    }
    let observed = follow(&server, first).await?;
    if observed.counts.would == 0 {
        return nothing_to_correct(&server, observed, begin).await;
    }
    let wanted = exactly(wanted, first);
    let looked = looked_at(&server, &wanted).await?;
    if !yes {
        show_observed(&server, &observed, begin.all).await?;
        anstream::print!("\n{}", words::plan(&looked.plan));
        confirm(&server, &looked)?;
    }
    let no = begun(&server, &wanted).await?;
    end(&server, no, begin).await
}

/// The same for exactly what an observing sweep found.
fn exactly(wanted: NewSweep, after: i64) -> NewSweep {
    // The part, and whether it is corrected once, are those of the sweep before.
    let order = SweepOrder { part: Part::default(), correct_once: false, ..wanted.order };
    NewSweep { after: Some(after), nodes: std::collections::BTreeSet::new(), filter: None, order, ..wanted }
}

fn confirm(server: &Server, looked: &SweepBegun) -> Result<(), ClientError> {
    let nodes = usize::try_from(looked.plan.asked).unwrap_or(usize::MAX);
    let question = format!("{} on {}? Type yes to go on: ", looked.plan.what, count(nodes, "node", "nodes"));
    let can_be_asked = !server.prints_json() && std::io::stdin().is_terminal();
    if can_be_asked && ["yes", "y"].contains(&ask(&question)?.as_str()) {
        return Ok(());
    }
    let hint = "add --yes to confirm it; --preview only shows what it would do";
    Err(ClientError::new("not confirmed: nothing was changed", hint).declined())
}

/// Shows what an observing sweep found.
async fn show_observed(server: &Server, sweep: &Sweep, lists_all: bool) -> Result<(), ClientError> {
    let which = ListArguments { filter: None, sort: None };
    // That something is out of line is what it is for.
    match show(server, sweep.clone(), &which, lists_all).await {
        Err(error) if ended_as(sweep).is_err() => {
            drop(error);
            Ok(())
        }
        other => other,
    }
}

async fn nothing_to_correct(
    server: &Server,
    observed: Sweep,
    begin: &BeginArguments,
) -> Result<(), ClientError> {
    let which = ListArguments { filter: None, sort: None };
    let ended = show(server, observed, &which, begin.all).await;
    anstream::eprintln!("nothing was found that would be corrected; nothing was changed");
    ended
}
