//! `constans event`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments};
use clap::{Args, Subcommand};
use constans_terminal::{harmless, time};
use constans_wire::event::{Event, EventPage};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};
use std::time::Duration;

/// How often it is asked for more while events are followed.
const EVERY: Duration = Duration::from_secs(2);

/// Arguments of `event`.
#[derive(Debug, Args)]
pub struct EventArguments {
    #[command(subcommand)]
    command: EventCommand,
}

#[derive(Debug, Subcommand)]
enum EventCommand {
    /// List the events, the newest first
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// Only events of this node
        #[arg(long, value_name = "NODE")]
        node: Option<String>,
        /// Only events before this number
        #[arg(long, value_name = "NUMBER")]
        before: Option<u32>,
    },
    /// Print each event when it happens, until Ctrl-C; with --output json one per line
    Follow {
        #[command(flatten)]
        server: ServerArguments,
        /// Only events of this node
        #[arg(long, value_name = "NODE")]
        node: Option<String>,
        /// Begin after this place, as `next` of /api/events says it; 0.0.0 is before the first event
        #[arg(long, value_name = "PLACE")]
        after: Option<String>,
    },
}

/// Lists or follows.
pub async fn run(arguments: &EventArguments) -> Result<(), ClientError> {
    match &arguments.command {
        EventCommand::List { server, node, before } => {
            let server = Server::open(server)?;
            let mut query = of_node(node.as_deref());
            query.extend(before.map(|before| format!("before={before}")));
            let page = page(&server, &query).await?;
            if server.says_json(&page.events) {
                return Ok(());
            }
            if page.events.is_empty() {
                println!("no events");
            }
            for event in &page.events {
                println!("{:>6}  {}", event.id, line(event));
            }
            if let Some(last) = page.events.last().filter(|_| page.events.len() >= PAGE) {
                println!("Older: constans event list --before {}", last.id);
            }
            Ok(())
        }
        EventCommand::Follow { server, node, after } => {
            follow(&Server::open(server)?, node.as_deref(), after.clone()).await
        }
    }
}

/// The server sends this many at once.
const PAGE: usize = 100;

async fn follow(server: &Server, node: Option<&str>, after: Option<String>) -> Result<(), ClientError> {
    let query = of_node(node);
    let mut next = match after {
        Some(after) => after,
        None => page(server, &query).await?.next,
    };
    loop {
        let mut query = query.clone();
        query.push(format!("after={next}"));
        let page = page(server, &query).await?;
        for event in &page.events {
            if server.prints_json() {
                println!("{}", serde_json::to_string(event).expect("events are JSON"));
            } else {
                println!("{}", line(event));
            }
        }
        let is_last = page.events.len() < PAGE;
        next = page.next;
        if is_last {
            tokio::time::sleep(EVERY).await;
        }
    }
}

async fn page(server: &Server, query: &[String]) -> Result<EventPage, ClientError> {
    server.get(&format!("/api/events?{}", query.join("&"))).await
}

fn of_node(node: Option<&str>) -> Vec<String> {
    node.iter().map(|node| format!("node={}", utf8_percent_encode(node, NON_ALPHANUMERIC))).collect()
}

fn line(event: &Event) -> String {
    let about = event.who.as_ref().unwrap_or(&event.subject);
    format!("{}  {}  {}", time(event.at), harmless(about), harmless(&event.words.write(event.at)))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn an_event_is_a_line_with_who_or_what_it_is_about() {
        let noticed: Event = serde_json::from_value(json!({
            "id": 9, "at": "2026-11-23T07:12:00Z", "kind": "silent", "subject": "kiosk-tern-9", "node": "kiosk-tern-9",
            "words": [{ "text": "silent, last contact " }, { "time": "2026-11-23T06:00:00Z" }], "detail": {},
        }))
        .unwrap();
        assert_eq!(
            line(&noticed),
            "2026-11-23 07:12:00 UTC  kiosk-tern-9  silent, last contact 2026-11-23 06:00:00 UTC"
        );
        let done: Event = serde_json::from_value(json!({
            "id": 8, "at": "2026-11-23T07:10:00Z", "kind": "handed_out", "who": "tor.havik", "subject": "set the group kiosks", "change": 118,
            "words": [{ "text": "handed out a change: set the group kiosks\u{1b}[2J" }], "detail": { "change": 118 },
        }))
        .unwrap();
        assert_eq!(
            line(&done),
            "2026-11-23 07:10:00 UTC  tor.havik  handed out a change: set the group kiosks\\u{1b}[2J"
        );
    }
}
