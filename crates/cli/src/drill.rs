//! `constans drill`: clauses of a node are broken on purpose, to see them noticed and put right.

use crate::error::ClientError;
use crate::invitation::duration as written_duration;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::address::ClauseAddress;
use constans_core::words::check_reason;
use constans_terminal::{count, duration, harmless, style, styled, time};
use constans_wire::drill::{Drill, DrilledClause, NewDrill};
use constans_wire::exit::Exit;
use jiff::Timestamp;
use std::fmt::Write as _;
use std::io::IsTerminal as _;
use std::time::Duration;

/// How often it is looked how it is.
const EVERY: Duration = Duration::from_millis(500);

/// Arguments of `drill`.
#[derive(Debug, Args)]
pub struct DrillArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The node; it has the label drill=allowed
    #[arg(required_unless_present = "show")]
    node: Option<String>,
    /// Break this clause: withhold a file from those who are not its owner, or stop a service; repeatable
    #[arg(long = "clause", value_name = "ADDRESS", value_parser = address, required_unless_present = "show")]
    clauses: Vec<ClauseAddress>,
    /// The reason, kept in the audit trail
    #[arg(long, value_name = "REASON", value_parser = reason, required_unless_present = "show")]
    because: Option<String>,
    /// Have the agent undo after this time what nobody has put right
    #[arg(long = "for", value_name = "DURATION", default_value = "1h", value_parser = written_duration)]
    undone_after: u64,
    /// Have a run begin at once, in place of the next one that is due
    #[arg(long)]
    now: bool,
    /// Do not wait for its end
    #[arg(long)]
    no_wait: bool,
    /// Begin nothing, and show a drill, for example D3
    #[arg(long, value_name = "DRILL", value_parser = number, conflicts_with_all = ["node", "clauses", "because", "undone_after", "now"])]
    show: Option<u32>,
}

fn address(text: &str) -> Result<ClauseAddress, String> {
    ClauseAddress::parse(text).map_err(|error| error.to_string())
}

fn reason(text: &str) -> Result<String, String> {
    check_reason(text).map(|()| text.to_owned())
}

fn number(text: &str) -> Result<u32, String> {
    text.trim_start_matches(['D', 'd'])
        .parse()
        .map_err(|_| "a drill is called D and its number, for example D3".to_owned())
}

/// Begins a drill, or shows one.
pub async fn run(arguments: &DrillArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let mut drill: Drill = match arguments.show {
        Some(no) => server.get(&format!("/api/drills/{no}")).await?,
        None => {
            let new = NewDrill {
                node: arguments.node.clone().unwrap_or_default(),
                clauses: arguments.clauses.iter().cloned().collect(),
                for_secs: arguments.undone_after,
                now: arguments.now,
                because: arguments.because.clone().unwrap_or_default(),
            };
            server.post("/api/drills", &new).await?
        }
    };
    let no = drill.asked.no;
    let waits = arguments.show.is_none() && !arguments.no_wait;
    let is_watched = std::io::stderr().is_terminal();
    while waits && drill.over_at.is_none() && (drill.report.is_some() || drill.now_at < drill.offered_until) {
        if is_watched {
            anstream::eprint!(
                "\rD{no}: {}; Ctrl-C leaves it: constans drill --show D{no}\x1b[K",
                state(&drill)
            );
        }
        tokio::time::sleep(EVERY).await;
        drill = server.get(&format!("/api/drills/{no}")).await?;
    }
    if is_watched {
        anstream::eprint!("\r\x1b[K");
    }
    if !server.says_json(&drill) {
        anstream::print!("{}", words(&drill));
    }
    ended_as(&drill)
}

/// Returns how it is, in a few words.
fn state(drill: &Drill) -> String {
    let Some(report) = &drill.report else {
        return match drill.next_check_in {
            _ if drill.now_at >= drill.offered_until => {
                "the node did not come in time: nothing was broken".to_owned()
            }
            _ if drill.was_waiting => "the node was woken, and has not come yet".to_owned(),
            Some(at) => format!("the node cannot be woken, and checks in by itself at {}", time(at)),
            None => "the node has never checked in".to_owned(),
        };
    };
    if let Some(why) = &report.refused {
        return format!("the node refused: {}", harmless(why));
    }
    let of = |is: fn(&DrilledClause) -> bool| report.clauses.iter().filter(|told| is(told)).count();
    let all = count(report.clauses.len(), "clause", "clauses");
    let (broken, noticed) = (of(|told| told.broken_at.is_some()), of(|told| told.noticed_at.is_some()));
    let (right, undone) = (of(|told| told.put_right_at.is_some()), of(|told| told.undone_at.is_some()));
    format!(
        "{broken} of {all} broken, {noticed} noticed, {right} put right, {undone} undone by the end of the drill"
    )
}

fn words(drill: &Drill) -> String {
    let asked = &drill.asked;
    let mut text = format!(
        "{}   {} on {}\n     asked by {} at {}: {:?}\n     {}\n",
        styled(style::STRONG, format!("D{}", asked.no)),
        if asked.now { "Drill, noticed by a run at once," } else { "Drill, noticed by the next run," },
        harmless(&drill.node),
        harmless(&asked.who),
        time(drill.asked_at),
        harmless(&asked.because),
        state(drill)
    );
    for told in drill.report.iter().flat_map(|report| &report.clauses) {
        let _ = writeln!(text, "\n{}", styled(style::STRONG, harmless(told.address.as_str())));
        for line in lines(told) {
            let _ = writeln!(text, "   {line}");
        }
    }
    if drill.over_at.is_none() && drill.report.is_some() {
        let _ = writeln!(text, "Next: constans drill --show D{}", asked.no);
    }
    text
}

/// Returns what became of a clause, with how long it took since it was broken.
fn lines(told: &DrilledClause) -> Vec<String> {
    let mut lines = Vec::new();
    let after = |at: Timestamp| match told.broken_at {
        Some(broken) => {
            let micros = u64::try_from(at.duration_since(broken).as_micros()).unwrap_or(0);
            format!("{}, after {}", time(at), duration(micros))
        }
        None => time(at),
    };
    if let (Some(at), Some(words)) = (told.broken_at, &told.words) {
        lines.push(format!("broken       {}: {}", time(at), harmless(words)));
    }
    match (told.noticed_at, told.broken_at) {
        (Some(at), _) => lines.push(styled(style::WELL, format!("noticed      {}", after(at)))),
        (None, Some(_)) if !told.is_open() => lines.push(styled(style::BAD, "noticed by no run".to_owned())),
        _ => {}
    }
    lines.extend(told.put_right_at.map(|at| styled(style::WELL, format!("in line      {}", after(at)))));
    lines.extend(told.undone_at.map(|at| {
        styled(style::ATTENTION, format!("undone       {}: nobody had put it right in time", after(at)))
    }));
    lines.extend(told.failed.as_ref().map(|why| {
        let what = if told.broken_at.is_some() { "not undone" } else { "not broken" };
        styled(style::ATTENTION, format!("{what}   {}", harmless(why)))
    }));
    lines
}

/// Returns as an error what keeps a drill that is over from being a success.
fn ended_as(drill: &Drill) -> Result<(), ClientError> {
    let no = drill.asked.no;
    let failed = |message: String, exit| {
        Err(ClientError::new(message, format!("constans drill --show D{no}")).ending_as(exit))
    };
    let Some(report) = &drill.report else {
        return if drill.now_at < drill.offered_until {
            Ok(())
        } else {
            failed(format!("{} did not come: nothing was broken", harmless(&drill.node)), Exit::Error)
        };
    };
    if let Some(why) = &report.refused {
        return failed(
            format!("nothing was broken on {}: {}", harmless(&drill.node), harmless(why)),
            Exit::Error,
        );
    }
    if !report.is_over() {
        return Ok(());
    }
    let not_right = report.clauses.iter().filter(|told| told.put_right_at.is_none()).count();
    if not_right == 0 {
        return Ok(());
    }
    let all = count(report.clauses.len(), "clause", "clauses");
    failed(format!("not put right by the node: {not_right} of {all}"), Exit::OutOfLine)
}
