//! What listens on a port, from the kernel's tables.

use crate::error::HostError;
use crate::machine::{Machine, NotSeen, seen};
use constans_core::compare::{Found, FoundValue};
use constans_core::kit::Gone;
use constans_core::run::{NativeStep, Seen};
use constans_core::state::Clause;
use std::collections::{BTreeMap, BTreeSet};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

/// One socket that waits for others.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct Socket {
    protocol: &'static str,
    port: u16,
    address: IpAddr,
    inode: u64,
}

/// Its program, or why it is unknown.
type Programs = BTreeMap<u64, String>;

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    if machine.acted_on.is_private_root() {
        return Err(NotSeen::Unsupported("a private root has no ports of its own".to_owned()));
    }
    let (protocol, port) = clause.name().split_once('/').unwrap_or_default();
    let port: u16 = port.parse().unwrap_or_default();
    let wanted_address = clause.text("address");
    let on_port: Vec<Socket> =
        sockets()?.into_iter().filter(|socket| socket.protocol == protocol && socket.port == port).collect();
    let programs = programs(&on_port);
    let wanted_program = clause.text("program");
    let fits_address =
        |socket: &Socket| wanted_address.is_none_or(|wanted| is_reached_at(wanted, socket.address));
    let fits_program = |socket: &Socket| {
        wanted_program.is_none_or(|wanted| programs.get(&socket.inode).is_none_or(|found| found == wanted))
    };
    let is_gone = clause.gone != Gone::No;
    let counting: Vec<&Socket> =
        on_port.iter().filter(|socket| !is_gone || (fits_address(socket) && fits_program(socket))).collect();
    let listeners = counting
        .iter()
        .map(|socket| words(socket, &programs))
        .collect::<BTreeSet<_>>()
        .into_iter()
        .collect::<Vec<_>>()
        .join(", ");
    let native = vec![NativeStep {
        what: format!(
            "look at /proc/net for {protocol} port {port}: {}",
            if listeners.is_empty() { "nothing" } else { &listeners }
        ),
        exit: None,
        output: String::new(),
    }];
    if counting.is_empty() {
        return Ok(Seen { native, ..seen(Found::absent()) });
    }
    let mut found = Found::present().in_words(format!("listening: {listeners}"));
    if clause.get("address").is_some() {
        let all: BTreeSet<String> = counting.iter().map(|socket| socket.address.to_string()).collect();
        let all = all.into_iter().collect::<Vec<_>>().join(", ");
        let fits = wanted_address.is_some() && counting.iter().any(|socket| fits_address(socket));
        found = found.with("address", if fits { wanted_address.unwrap_or_default() } else { &all });
    }
    if clause.get("program").is_some() {
        let known: BTreeSet<&str> =
            counting.iter().filter_map(|socket| programs.get(&socket.inode).map(String::as_str)).collect();
        let value = if known.is_empty() {
            FoundValue::Unreadable("only root can see the program of the socket".to_owned())
        } else if wanted_program.is_some_and(|wanted| known.contains(wanted)) {
            FoundValue::Value(wanted_program.into())
        } else {
            FoundValue::Value(known.into_iter().collect::<Vec<_>>().join(", ").into())
        };
        found = found.with_found("program", value);
    }
    Ok(Seen { native, ..seen(found) })
}

/// Returns the ports on which something listens.
pub(super) fn names(machine: &Machine) -> Result<Vec<String>, NotSeen> {
    if machine.acted_on.is_private_root() {
        return Err(NotSeen::Unsupported("a private root has no ports of its own".to_owned()));
    }
    let all: BTreeSet<String> =
        sockets()?.iter().map(|socket| format!("{}/{}", socket.protocol, socket.port)).collect();
    Ok(all.into_iter().collect())
}

fn words(socket: &Socket, programs: &Programs) -> String {
    match programs.get(&socket.inode) {
        Some(program) => format!("{program} on {}", socket.address),
        None => format!("on {}", socket.address),
    }
}

/// Returns whether a socket's address is reached at a wanted address or network: one that listens everywhere is.
fn is_reached_at(wanted: &str, address: IpAddr) -> bool {
    let (network, bits) =
        wanted.split_once('/').map_or((wanted, None), |(network, bits)| (network, bits.parse::<u32>().ok()));
    let Ok(network) = network.parse::<IpAddr>() else { return false };
    let covers = match (network, address) {
        (IpAddr::V4(network), IpAddr::V4(address)) => same_bits(
            u128::from(u32::from(network)) << 96,
            u128::from(u32::from(address)) << 96,
            bits.unwrap_or(32),
        ),
        (IpAddr::V6(network), IpAddr::V6(address)) => {
            same_bits(u128::from(network), u128::from(address), bits.unwrap_or(128))
        }
        _ => false,
    };
    // `::` takes connections of both families, unless its program asked for IPv6 alone.
    covers
        || address == IpAddr::V6(Ipv6Addr::UNSPECIFIED)
        || (address == IpAddr::V4(Ipv4Addr::UNSPECIFIED) && network.is_ipv4())
}

fn same_bits(left: u128, right: u128, bits: u32) -> bool {
    let mask = if bits == 0 { 0 } else { u128::MAX << (128 - bits.min(128)) };
    left & mask == right & mask
}

/// Returns all sockets that wait for connections or packets.
///
/// # Errors
///
/// Returns why the kernel's tables could not be read.
fn sockets() -> Result<Vec<Socket>, HostError> {
    let mut all = Vec::new();
    for (protocol, file, listens) in
        [("tcp", "tcp", "0A"), ("tcp", "tcp6", "0A"), ("udp", "udp", "07"), ("udp", "udp6", "07")]
    {
        let path = format!("/proc/net/{file}");
        match std::fs::read_to_string(&path) {
            Ok(table) => all.extend(table.lines().skip(1).filter_map(|line| socket(line, protocol, listens))),
            // A kernel without IPv6 has no such table.
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
            Err(error) => return Err(HostError::io("read", &path, &error)),
        }
    }
    all.sort();
    Ok(all)
}

/// Reads a line of proc_net(5).
pub(super) fn socket(line: &str, protocol: &'static str, listens: &str) -> Option<Socket> {
    let fields: Vec<&str> = line.split_whitespace().collect();
    let (local, state, inode) = (fields.get(1)?, fields.get(3)?, fields.get(9)?);
    let (address, port) = local.split_once(':')?;
    // A connected UDP socket has a far end and does not wait for others.
    if *state != listens {
        return None;
    }
    let words: Vec<u32> = address
        .as_bytes()
        .chunks(8)
        .filter_map(|word| u32::from_str_radix(std::str::from_utf8(word).ok()?, 16).ok())
        .collect();
    // Each word is written as the machine has it in memory.
    let bytes: Vec<u8> = words.iter().flat_map(|word| word.to_ne_bytes()).collect();
    let address = match bytes.len() {
        4 => IpAddr::from(<[u8; 4]>::try_from(bytes).ok()?),
        16 => {
            let address = Ipv6Addr::from(<[u8; 16]>::try_from(bytes).ok()?);
            address.to_ipv4_mapped().map_or(IpAddr::V6(address), IpAddr::V4)
        }
        _ => return None,
    };
    Some(Socket { protocol, port: u16::from_str_radix(port, 16).ok()?, address, inode: inode.parse().ok()? })
}

/// Finds the programs that have these sockets open, as far as the agent's account may see.
fn programs(sockets: &[Socket]) -> Programs {
    let wanted: BTreeMap<String, u64> =
        sockets.iter().map(|socket| (format!("socket:[{}]", socket.inode), socket.inode)).collect();
    let mut found = Programs::new();
    let processes = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    for process in processes
        .filter(|entry| entry.file_name().to_string_lossy().bytes().all(|byte| byte.is_ascii_digit()))
    {
        if found.len() == wanted.len() {
            break;
        }
        for open in std::fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten() {
            let Ok(target) = std::fs::read_link(open.path()) else { continue };
            let Some(inode) = wanted.get(target.to_string_lossy().as_ref()) else { continue };
            if let Ok(program) = std::fs::read_link(process.path().join("exe")) {
                found.entry(*inode).or_insert_with(|| {
                    program.display().to_string().trim_end_matches(" (deleted)").to_owned()
                });
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_kernels_tables_are_read() {
        let line = "   0: 0100007F:0277 00000000:0000 0A 00000000:00000000 00:00000000 00000000     0        0 12345 1 0";
        let found = socket(line, "tcp", "0A").unwrap();
        assert_eq!((found.address.to_string().as_str(), found.port, found.inode), ("127.0.0.1", 631, 12345));
        assert!(socket(&line.replace(" 0A ", " 01 "), "tcp", "0A").is_none());
        let own = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        let port = own.local_addr().unwrap().port();
        let there: Vec<Socket> = sockets()
            .unwrap()
            .into_iter()
            .filter(|socket| socket.port == port && socket.protocol == "tcp")
            .collect();
        assert_eq!(there.len(), 1);
        assert!(programs(&there).values().any(|program| program.contains("constans_host")));
    }

    #[test]
    fn what_listens_everywhere_is_reached_at_every_address() {
        let at = |wanted: &str, address: &str| is_reached_at(wanted, address.parse().unwrap());
        assert!(
            at("192.0.2.1", "0.0.0.0")
                && at("192.0.2.1", "::")
                && at("192.0.2.0/24", "192.0.2.9")
                && at("0.0.0.0", "0.0.0.0")
        );
        assert!(
            !at("192.0.2.1", "127.0.0.1")
                && !at("2001:db8::1", "0.0.0.0")
                && !at("192.0.2.0/25", "192.0.2.200")
        );
    }
}
