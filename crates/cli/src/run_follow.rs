//! `constans run follow`: the run of a node as it goes on, clause by clause.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::Args;
use constans_core::run::Mode;
use constans_terminal::{clause, count, counts_words, duration, harmless, style, style_of, styled, time};
use constans_wire::exit::Exit;
use constans_wire::follow::{Follow, FollowedClause, RunEnd, RunUnderWay};
use jiff::Timestamp;
use std::io::{IsTerminal as _, Write as _};
use std::time::Duration;
use uuid::Uuid;

/// How often it is looked what came out.
const EVERY: Duration = Duration::from_millis(500);

/// Arguments of `run follow`.
#[derive(Debug, Args)]
pub struct FollowArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// The node
    node: String,
    /// Show clauses that are in line too, and native commands and system calls
    #[arg(short, long)]
    verbose: bool,
    /// Go on with the next run, until Ctrl-C
    #[arg(long)]
    all: bool,
}

/// What was shown so far.
#[derive(Default)]
struct Shown {
    run: Option<Uuid>,
    /// The number of the last clause.
    last: u64,
    /// Clauses in line that are not listed.
    in_line: u64,
    has_ended: bool,
    /// A run that was over when this began.
    old: Option<Uuid>,
    begun: bool,
}

/// Shows the run that is under way, or the next one, and ends with it.
pub async fn run(arguments: &FollowArguments) -> Result<(), ClientError> {
    let server = Server::open(&arguments.server)?;
    let is_watched = std::io::stderr().is_terminal();
    let mut shown = Shown::default();
    let mut said = String::new();
    loop {
        let query = shown.run.map(|run| format!("?run={run}&after={}", shown.last)).unwrap_or_default();
        let follow: Follow =
            server.post(&format!("/api/nodes/{}/follow{query}", arguments.node), &()).await?;
        clear(is_watched);
        let is_full = follow.clauses.len() >= constans_wire::follow::MAX_AT_ONCE;
        if let Some(end) = shown.take(&server, arguments, &follow)?
            && !arguments.all
        {
            return ended_as(&follow.node, &end);
        }
        let waiting = waiting(&follow, &shown, is_watched);
        if is_watched {
            anstream::eprint!("{waiting}\x1b[K");
            let _ = std::io::stderr().flush();
        } else if follow.run.as_ref().is_none_or(|run| run.end.is_some()) && said != waiting {
            anstream::eprintln!("{waiting}");
            said = waiting;
        }
        if !is_full {
            tokio::time::sleep(EVERY).await;
        }
    }
}

fn clear(is_watched: bool) {
    if is_watched {
        anstream::eprint!("\r\x1b[K");
    }
}

impl Shown {
    /// Shows what is new. Returns what the run came to, once.
    fn take(
        &mut self,
        server: &Server,
        arguments: &FollowArguments,
        follow: &Follow,
    ) -> Result<Option<RunEnd>, ClientError> {
        let is_first = !std::mem::replace(&mut self.begun, true);
        let Some(run) = &follow.run else { return Ok(None) };
        if is_first && run.end.is_some() {
            self.old = Some(run.id);
        }
        if self.old == Some(run.id) {
            return Ok(None);
        }
        if self.run != Some(run.id) {
            *self = Self { run: Some(run.id), begun: true, old: self.old, ..Self::default() };
            if !server.prints_json() {
                anstream::println!("{}", head(&follow.node, run));
            }
        }
        for followed in &follow.clauses {
            self.last = followed.no;
            if server.prints_json() {
                println!("{}", serde_json::to_string(followed).expect("it is JSON"));
            } else if arguments.verbose || !followed.words.is_quiet {
                anstream::print!("{}", line(followed, run.of, arguments.verbose));
            } else {
                self.in_line += 1;
            }
        }
        let all_came = follow.clauses.is_empty();
        let end = run.end.clone().filter(|_| all_came && !self.has_ended);
        if let Some(end) = &end {
            self.has_ended = true;
            if server.prints_json() {
                println!("{}", serde_json::to_string(run).expect("it is JSON"));
            } else {
                anstream::println!("{}", tail(&follow.node, run, end));
            }
        }
        Ok(end)
    }
}

fn head(node: &str, run: &RunUnderWay) -> String {
    let mode = if run.mode == Mode::Enforce { "enforce" } else { "observe" };
    let sweep = run.sweep.map(|no| format!(" S{no}")).unwrap_or_default();
    let before = match run.before {
        0 => String::new(),
        before => format!(
            "; {} came out before, and only what needs attention of them is listed",
            count(usize::try_from(before).unwrap_or(usize::MAX), "clause", "clauses")
        ),
    };
    format!(
        "{}  began {} by its clock, mode {mode}, started by {}{sweep}, {} clauses{before}",
        styled(style::STRONG, harmless(node)),
        time(run.began),
        run.started_by.words(),
        run.of
    )
}

fn line(followed: &FollowedClause, of: u64, verbose: bool) -> String {
    let place = styled(style::MUTED, format!("{} of {of}", followed.told.place));
    format!("{place}  {}", clause(&followed.told.result, verbose))
}

fn tail(node: &str, run: &RunUnderWay, end: &RunEnd) -> String {
    format!(
        "{} after {}: {}\nNext: constans run show {} {}",
        styled(style_of(end.status), end.status.words()),
        duration(end.took_us),
        counts_words(&end.counts),
        harmless(node),
        run.id
    )
}

/// Returns what is waited for.
fn waiting(follow: &Follow, shown: &Shown, is_watched: bool) -> String {
    let run = follow.run.as_ref().filter(|run| run.end.is_none() && shown.old != Some(run.id));
    if let Some(run) = run {
        let address = run.address.as_ref().map(|address| harmless(address.as_str())).unwrap_or_default();
        let doing = if run.doing.is_empty() { "beginning".to_owned() } else { harmless(&run.doing) };
        let in_line = if shown.in_line > 0 { format!("; {} in line", shown.in_line) } else { String::new() };
        let for_us = run.for_ms.saturating_mul(1_000);
        let last = run
            .last_took_ms
            .map(|last| format!("; the last run took {}", duration(last.saturating_mul(1_000))));
        let last = last.unwrap_or_default();
        return format!(
            "{} of {}  {doing} {address}, {}{in_line}{last}",
            run.reached,
            run.of,
            duration(for_us)
        );
    }
    // A line that stays says when, and one that is written over how long.
    let waits = if is_watched { follow.waits.write(Timestamp::now()) } else { follow.waits.write_dated() };
    format!(
        "{}; constans sweep observe --node {} --because REASON begins a run",
        harmless(&waits),
        harmless(&follow.node)
    )
}

fn ended_as(node: &str, end: &RunEnd) -> Result<(), ClientError> {
    let exit = Exit::of_status(end.status);
    if exit == Exit::Well {
        return Ok(());
    }
    let hint = format!("constans node show {node} lists its clauses");
    Err(ClientError::new(format!("the run of {node} ended: {}", end.status.words()), hint).ending_as(exit))
}
