//! Whether a connection to another machine is accepted, tried from this node: proof by refusal.

use crate::error::HostError;
use crate::machine::{Machine, NotSeen, seen};
use crate::programs::NotRun;
use constans_core::compare::Found;
use constans_core::run::{NativeStep, Seen};
use constans_core::state::Clause;
use std::collections::BTreeSet;
use std::io::ErrorKind;
use std::net::{IpAddr, SocketAddr, TcpStream};
use std::time::Duration;

/// How long a connection is waited for.
const TIMEOUT: Duration = Duration::from_secs(5);
/// How long the addresses of a name are waited for.
const LOOKUP_TIMEOUT: Duration = Duration::from_secs(10);
/// So many addresses of a name are tried.
const MAX_ADDRESSES: usize = 4;
const NOT_ACCEPTED: &str = "not_accepted";

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    if machine.acted_on.is_private_root() {
        return Err(NotSeen::Unsupported("a private root has no network of its own".to_owned()));
    }
    let to = clause.text("to").unwrap_or_default();
    let port =
        clause.get("port").and_then(serde_json::Value::as_u64).and_then(|port| u16::try_from(port).ok());
    let port = port.ok_or_else(|| HostError::new("the clause has no port"))?;
    let (addresses, mut native) = addresses_of(machine, to)?;
    let mut found = "unreachable";
    for address in addresses.into_iter().take(MAX_ADDRESSES) {
        let address = SocketAddr::new(address, port);
        found = tried(&address);
        native.push(NativeStep {
            what: format!("connect to {address}: {}", found.replace('_', " ")),
            exit: None,
            output: String::new(),
        });
        if found == "accepted" {
            break;
        }
    }
    let is_as_wanted = clause.text("result") == Some(NOT_ACCEPTED) && found != "accepted";
    let found = if is_as_wanted { NOT_ACCEPTED } else { found };
    let found = Found::present().with("to", to).with("port", port).with("result", found);
    Ok(Seen { native, ..seen(found) })
}

/// Nothing is sent or read: the connection is closed as soon as it is there.
fn tried(address: &SocketAddr) -> &'static str {
    match TcpStream::connect_timeout(address, TIMEOUT) {
        Ok(_) => "accepted",
        Err(error) => match error.kind() {
            ErrorKind::ConnectionRefused => "refused",
            ErrorKind::TimedOut | ErrorKind::WouldBlock => "timed_out",
            _ => "unreachable",
        },
    }
}

/// Returns the addresses of a host; of a name by the system's own program, so that nothing of an answer is read by the agent itself.
fn addresses_of(machine: &Machine, to: &str) -> Result<(Vec<IpAddr>, Vec<NativeStep>), NotSeen> {
    if let Ok(address) = to.parse() {
        return Ok((vec![address], Vec::new()));
    }
    let argv = ["/usr/bin/getent", "ahosts", "--", to];
    let program = machine.programs.native(&argv, false, None).map_err(|not_run| match not_run {
        NotRun::Unsupported(why) => NotSeen::Unsupported(why),
        NotRun::Failed(error) => NotSeen::Failed(error),
    })?;
    let ended = program.timeout(LOOKUP_TIMEOUT).run()?;
    let addresses = listed(&ended.stdout);
    if addresses.is_empty() {
        return Err(NotSeen::Failed(HostError::new(format!("the name {to} has no address here"))));
    }
    Ok((addresses, vec![ended.step]))
}

/// Reads what getent(1) prints of a host: an address at the beginning of each line.
fn listed(text: &str) -> Vec<IpAddr> {
    let mut known = BTreeSet::new();
    text.lines()
        .filter_map(|line| line.split_whitespace().next()?.parse().ok())
        .filter(|address| known.insert(*address))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_connection_is_accepted_or_refused() {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        assert_eq!(tried(&address), "accepted");
        drop(listener);
        assert_eq!(tried(&address), "refused");
    }

    #[test]
    fn each_address_of_a_name_is_tried_once_in_the_order_of_the_system() {
        let text = "2001:db8::1     STREAM hub.skerry.example\n2001:db8::1     DGRAM\n192.0.2.4       STREAM\nno address\n";
        assert_eq!(
            listed(text).iter().map(ToString::to_string).collect::<Vec<_>>(),
            ["2001:db8::1", "192.0.2.4"]
        );
        assert!(listed("").is_empty());
    }
}
