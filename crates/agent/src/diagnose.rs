//! `constans-agent diagnose`: checks each part of the connection to the server in order, with a remedy for the first that
//! fails.

use crate::command_line::Output;
use crate::error::AgentError;
use crate::membership::{MarkExchange, Membership, NodeKey};
use crate::network_part;
use crate::server_link::{CheckInContents, next_promised};
use crate::state_dir::StateDir;
use constans_core::sentence::clock_words;
use constans_host::Machine;
use constans_link::{Identity, LinkError, Reached};
use constans_wire::check_in::Greeting;
use constans_wire::exit::Exit;
use jiff::Timestamp;
use serde::Serialize;
use serde_json::json;

/// A larger offset of the clock is reported, in seconds.
const CLOCK_TOLERANCE_SECS: i64 = 60;

/// What was tested, and what came of it.
#[derive(Serialize)]
struct DiagnosedPart {
    part: &'static str,
    well: bool,
    message: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    hint: Option<String>,
}

/// The way to one of the server's URLs, as far as it was tested.
#[derive(Serialize)]
struct Way {
    url: String,
    parts: Vec<DiagnosedPart>,
    #[serde(skip)]
    output: Output,
}

impl Way {
    /// Notes the result of a part and prints it at once.
    fn tell(&mut self, part: DiagnosedPart) {
        if self.output == Output::Text {
            println!("  {:<10}  {}: {}", part.part, if part.well { "well" } else { "FAILS" }, part.message);
            if let Some(hint) = &part.hint {
                println!("  what to do: {hint}");
            }
        }
        self.parts.push(part);
    }

    fn well(&mut self, part: &'static str, message: String) {
        self.tell(DiagnosedPart { part, well: true, message, hint: None });
    }
}

/// Tests the way to the server and shows which part of it fails.
///
/// # Errors
///
/// Returns that the machine belongs to no fleet.
pub async fn diagnose(state_dir: &StateDir, machine: &Machine, output: Output) -> Result<Exit, AgentError> {
    let membership = crate::membership::Membership::of(state_dir)?;
    let key = NodeKey::open(state_dir)?;
    let mut ways = Vec::new();
    let mut is_heard = false;
    if output == Output::Text {
        println!("this machine is {}, node {}", membership.name, membership.node);
    }
    for url in &membership.urls {
        if output == Output::Text {
            println!("\n{url}");
        }
        let mut way = Way { url: url.clone(), parts: Vec::new(), output };
        match way_to(&mut way, &membership, &key, machine, state_dir).await {
            Ok(()) => is_heard = true,
            Err(Failed { part, message, hint }) => {
                way.tell(DiagnosedPart { part, well: false, message, hint });
            }
        }
        ways.push(way);
    }
    match output {
        Output::Text => println!(
            "\n{}",
            if is_heard {
                "no problems: the server accepts this node"
            } else {
                "the server does not accept this node"
            }
        ),
        Output::Json => {
            let report = json!({ "name": membership.name, "node": membership.node, "is_heard": is_heard, "ways": ways });
            println!("{}", serde_json::to_string_pretty(&report).expect("it is JSON"));
        }
    }
    Ok(if is_heard { Exit::Well } else { Exit::Error })
}

struct Failed {
    part: &'static str,
    message: String,
    hint: Option<String>,
}

impl Failed {
    fn new(part: &'static str, message: impl Into<String>, hint: &str) -> Self {
        Self { part, message: message.into(), hint: Some(hint.to_owned()) }
    }

    fn link(part: &'static str) -> impl Fn(LinkError) -> Self {
        move |error| Self { part, message: error.to_string(), hint: error.hint() }
    }
}

async fn way_to(
    way: &mut Way,
    membership: &Membership,
    key: &NodeKey,
    machine: &Machine,
    state_dir: &StateDir,
) -> Result<(), Failed> {
    let url = &way.url.clone();
    let host = url.trim_start_matches("https://");
    let plain = network_part::start(&membership.ca, None).await.map_err(Failed::link("name"))?;
    match plain.reach(host).await.map_err(Failed::link("name"))? {
        Reached::NoName(Some(because)) => {
            return Err(Failed::new(
                "name",
                format!("{host} cannot be resolved: {because}"),
                "check the spelling, /etc/hosts, and the name servers in /etc/resolv.conf",
            ));
        }
        Reached::NoName(None) => {
            return Err(Failed::new(
                "name",
                format!("no name server answers for {host}"),
                "are the name servers in /etc/resolv.conf right and reachable?",
            ));
        }
        Reached::NoPort(address, because) => {
            way.well("name", address.ip().to_string());
            return Err(match because {
                Some(because) => Failed::new(
                    "port",
                    format!("{address} refused the connection: {because}"),
                    "check that the server runs and listens there",
                ),
                None => Failed::new(
                    "port",
                    format!("{address} does not answer"),
                    "a firewall drops the connection, or the machine is off",
                ),
            });
        }
        Reached::Open(address, all) => {
            let shown: Vec<String> = all.iter().map(|address| address.ip().to_string()).collect();
            way.well("name", shown.join(", "));
            way.well("port", format!("{address} is open"));
        }
    }

    let asked_at = Timestamp::now();
    let greeting: Greeting = plain.get(&format!("{url}/greeting")).await.map_err(Failed::link("trust"))?;
    way.well(
        "trust",
        format!("the server has the CA {}…, version {}", &membership.ca[..16], greeting.server),
    );

    let off_secs = asked_at.duration_since(greeting.now).as_secs();
    if off_secs.abs() > CLOCK_TOLERANCE_SECS {
        let hint = Some("set the clock: certificates and drift windows depend on it".to_owned());
        way.tell(DiagnosedPart { part: "clock", well: false, message: clock_words(off_secs), hint });
    } else {
        way.well("clock", format!("within {CLOCK_TOLERANCE_SECS} s of the server's"));
    }

    if membership.ends_at <= asked_at {
        let ended = membership.ends_at.strftime("%Y-%m-%d");
        return Err(Failed::new(
            "approval",
            format!("this node's certificate ended on {ended}"),
            "constans-agent check-in requests a new one, which an operator approves",
        ));
    }
    let pem = key.pem();
    let identity = Identity { certificate: &membership.certificate, key: &pem };
    let known =
        network_part::start(&membership.ca, Some(&identity)).await.map_err(Failed::link("approval"))?;
    let failed = |error: AgentError| Failed { part: "approval", message: error.message, hint: error.hint };
    let check_in = next_promised(state_dir)
        .and_then(|next| CheckInContents::of(state_dir, machine, next))
        .map_err(failed)?;
    let exchange = MarkExchange::begin(state_dir).await.map_err(failed)?;
    let answer = crate::server_link::send_check_in(&known, url, &exchange, &check_in, state_dir.now())
        .await
        .map_err(Failed::link("approval"))?;
    exchange.end(state_dir, answer.mark).map_err(failed)?;
    way.well("approval", format!("it is known as {}", answer.name));
    Ok(())
}
