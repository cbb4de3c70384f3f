//! Rules of the packet filter: a table of nftables of our own, now and at boot.

use super::put;
use crate::error::HostError;
use crate::files::Ownership;
use crate::machine::{Machine, NotSeen, Work, seen};
use crate::native::Native;
use constans_core::compare::Found;
use constans_core::digest::of_contents;
use constans_core::kit::Gone;
use constans_core::run::{NativeStep, Seen};
use constans_core::state::Clause;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::net::IpAddr;

const TABLE: &str = "constans";
const FILE: &str = "/etc/nftables.d/constans.nft";
const AT_BOOT: &str = "/etc/nftables.conf";
const INCLUDE: &str = "include \"/etc/nftables.d/constans.nft\"";
const SERVICE: &str = "nftables";
/// The longest part of a rule's name that goes into its comment; nft takes 128 bytes.
const LONGEST_NAME: usize = 80;

/// One rule.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(super) struct Rule {
    pub name: String,
    pub direction: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub protocol: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub port: Option<u64>,
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    pub then: String,
}

impl Rule {
    fn of(clause: &Clause) -> Self {
        let text = |property: &str| clause.text(property).map(str::to_owned);
        Self {
            name: clause.name().to_owned(),
            direction: text("direction").unwrap_or_default(),
            protocol: text("protocol"),
            port: clause.get("port").and_then(Value::as_u64),
            from: text("from"),
            then: text("then").unwrap_or_default(),
        }
    }

    /// Returns it as nft(8) reads it.
    fn as_nft(&self) -> String {
        let mut words = Vec::new();
        if let Some(from) = &self.from {
            words.push(format!("{} saddr {from}", if from.contains(':') { "ip6" } else { "ip" }));
        }
        match (self.protocol.as_deref(), self.port) {
            (Some("icmp"), _) => words.push("meta l4proto { icmp, ipv6-icmp }".to_owned()),
            (Some(protocol), Some(port)) => words.push(format!("{protocol} dport {port}")),
            (Some(protocol), None) => words.push(format!("meta l4proto {protocol}")),
            (None, Some(port)) => words.push(format!("meta l4proto {{ tcp, udp }} th dport {port}")),
            (None, None) => {}
        }
        words.push(self.then.clone());
        format!("{} comment \"{}\"", words.join(" "), comment(&self.name))
    }
}

/// Returns how a rule is known to the kernel: by what is readable of its name, and the beginning of its digest.
fn comment(name: &str) -> String {
    let readable: String = name
        .chars()
        .filter(|c| c.is_ascii() && !c.is_ascii_control() && !"\"\\".contains(*c))
        .take(LONGEST_NAME)
        .collect();
    let digest = of_contents(name.as_bytes());
    let short: String = digest.as_str().rsplit(':').next().unwrap_or_default().chars().take(8).collect();
    format!("{readable} [{short}]")
}

/// Returns the file with these rules, which also replaces what the kernel has.
fn file_of(rules: &[Rule]) -> String {
    let mut text = format!(
        "# Managed by Constans, from clauses packet_rule.\ntable inet {TABLE}\ndelete table inet {TABLE}\n"
    );
    if rules.is_empty() {
        return text;
    }
    text.push_str(&format!("table inet {TABLE} {{\n"));
    for (direction, hook) in [("in", "input"), ("out", "output"), ("forward", "forward")] {
        let of_chain = rules.iter().filter(|rule| rule.direction == direction);
        text.push_str(&format!(
            "\tchain {direction} {{\n\t\ttype filter hook {hook} priority filter - 5; policy accept;\n"
        ));
        for rule in of_chain {
            text.push_str(&format!("\t\t# {}\n\t\t{}\n", json!(rule), rule.as_nft()));
        }
        text.push_str("\t}\n");
    }
    text.push_str("}\n");
    text
}

/// Reads the rules back; none if someone changed the file.
pub(super) fn rules_of(text: &str) -> Option<Vec<Rule>> {
    let message =
        text.lines().filter_map(|line| line.trim().strip_prefix("# {").map(|rest| format!("{{{rest}")));
    let rules: Vec<Rule> = message.map(|line| serde_json::from_str(&line)).collect::<Result<_, _>>().ok()?;
    (file_of(&rules) == text).then_some(rules)
}

/// What the node has of our rules.
struct Rules {
    /// In the file that is read at boot; none if someone changed it.
    at_boot: Option<Vec<Rule>>,
    /// Why the file is not read at boot.
    not_read: Option<String>,
    /// In the kernel; none below a private root.
    now: Option<Vec<Rule>>,
    native: Vec<NativeStep>,
}

fn look(machine: &mut Machine) -> Result<Rules, NotSeen> {
    if machine.files.look("/usr/sbin/nft")?.is_none() {
        return Err(NotSeen::Unsupported("nftables is not installed (there is no /usr/sbin/nft)".to_owned()));
    }
    let text = machine.files.read_text(FILE)?;
    let at_boot = if text.is_empty() { Some(Vec::new()) } else { rules_of(&text) };
    let included = machine.files.read_text(AT_BOOT)?.lines().any(|line| line.trim() == INCLUDE);
    let mut not_read = (!included).then(|| format!("{AT_BOOT} does not read them"));
    if machine.acted_on.is_private_root() {
        return Ok(Rules { at_boot, not_read, now: None, native: Vec::new() });
    }
    if not_read.is_none() && machine.services.inspect(SERVICE)?.enabled != Ok(true) {
        not_read = Some(format!("the service {SERVICE} is not enabled"));
    }
    let ended = Native::new("nft", ["--json", "list", "table", "inet", TABLE]).run()?;
    if !ended.is_well && !ended.step.output.contains("No such file or directory") {
        return Err(NotSeen::Failed(HostError::new("nft could not list the rules").command(ended.step)));
    }
    let now = match listed(&ended.stdout) {
        Ok(rules) => rules,
        Err(error) if ended.is_well => {
            return Err(NotSeen::Failed(
                HostError::new(format!("what nft lists cannot be read: {error}")).command(ended.step),
            ));
        }
        // There is no table of ours yet.
        Err(_) => Vec::new(),
    };
    // The listing itself is long and has no more than what was found.
    let step = NativeStep { output: String::new(), ..ended.step };
    Ok(Rules { at_boot, not_read, now: Some(now), native: vec![step] })
}

/// Returns the rules that are kept here.
pub(super) fn names(machine: &mut Machine) -> Result<Vec<String>, NotSeen> {
    Ok(look(machine)?.at_boot.into_iter().flatten().map(|rule| rule.name).collect())
}

/// Reads the rules of what `nft --json list` prints (libnftables-json(5)).
pub(super) fn listed(text: &str) -> serde_json::Result<Vec<Rule>> {
    let listed: Value = serde_json::from_str(text)?;
    Ok(listed["nftables"]
        .as_array()
        .into_iter()
        .flatten()
        .filter_map(|item| rule_of_kernel(&item["rule"]))
        .collect())
}

/// Reads a rule as the kernel lists it. Its name is its comment; what nobody but someone else wrote shows in `then`.
fn rule_of_kernel(rule: &Value) -> Option<Rule> {
    let mut read = Rule {
        name: rule["comment"].as_str()?.to_owned(),
        direction: rule["chain"].as_str()?.to_owned(),
        protocol: None,
        port: None,
        from: None,
        then: String::new(),
    };
    for part in rule["expr"].as_array()? {
        let matched = &part["match"];
        let (payload, right) = (&matched["left"]["payload"], &matched["right"]);
        match (payload["protocol"].as_str(), payload["field"].as_str()) {
            (Some("ip" | "ip6"), Some("saddr")) => {
                let prefix = &right["prefix"];
                read.from = match (right.as_str(), prefix["addr"].as_str(), prefix["len"].as_u64()) {
                    (Some(address), ..) => Some(address.to_owned()),
                    (_, Some(address), Some(bits)) => Some(format!("{address}/{bits}")),
                    _ => None,
                };
            }
            (Some("th"), Some("dport")) => (read.protocol, read.port) = (None, right.as_u64()),
            (Some(protocol), Some("dport")) => {
                (read.protocol, read.port) = (Some(protocol.to_owned()), right.as_u64());
            }
            _ if matched["left"]["meta"]["key"] == "l4proto" => {
                let is_icmp = right["set"].as_array().is_some_and(|set| set.iter().any(|one| one == "icmp"));
                read.protocol =
                    if is_icmp { Some("icmp".to_owned()) } else { right.as_str().map(str::to_owned) };
            }
            _ => match ["accept", "drop", "reject"].iter().find(|verdict| part.get(**verdict).is_some()) {
                Some(verdict) if read.then.is_empty() => read.then = (*verdict).to_owned(),
                _ => read.then = format!("something else: {part}"),
            },
        }
    }
    Some(read)
}

/// Returns a network without the bits that do not count, as the kernel lists it.
fn masked(network: &str) -> String {
    let Some((address, bits)) = network.split_once('/') else { return network.to_owned() };
    let (Ok(address), Ok(bits)) = (address.parse::<IpAddr>(), bits.parse::<u32>()) else {
        return network.to_owned();
    };
    match address {
        IpAddr::V4(_) if bits >= 32 => address.to_string(),
        IpAddr::V6(_) if bits >= 128 => address.to_string(),
        IpAddr::V4(address) => {
            let mask = if bits == 0 { 0 } else { u32::MAX << (32 - bits) };
            format!("{}/{bits}", std::net::Ipv4Addr::from(u32::from(address) & mask))
        }
        IpAddr::V6(address) => {
            let mask = if bits == 0 { 0 } else { u128::MAX << (128 - bits) };
            format!("{}/{bits}", std::net::Ipv6Addr::from(u128::from(address) & mask))
        }
    }
}

pub(super) fn inspect(machine: &mut Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let rules = look(machine)?;
    let name = clause.name();
    let at_boot = rules.at_boot.as_ref().and_then(|all| all.iter().find(|rule| rule.name == name));
    let now = rules.now.as_ref().map(|all| all.iter().find(|rule| rule.name == comment(name)));
    let is_read = at_boot.is_some() && rules.not_read.is_none();
    let why = || match (&rules.at_boot, &rules.not_read) {
        (None, _) => format!("somebody changed {FILE}"),
        (_, Some(why)) if at_boot.is_some() => why.clone(),
        _ => format!("it is not in {FILE}"),
    };
    let found = match (now, is_read) {
        (Some(None), true) => Found::half("at boot, not now"),
        (Some(Some(_)), false) => Found::half(format!("now, not at boot: {}", why())),
        (None, false) if at_boot.is_some() => Found::half(why()),
        (Some(None), false) if at_boot.is_some() => {
            Found::half(format!("neither now nor at boot: {}", why()))
        }
        (Some(None) | None, false) => Found::absent(),
        (Some(Some(rule)), true) => {
            properties(clause, rule, out_of_order(machine, clause, rules.now.as_deref().unwrap_or_default()))
        }
        (None, true) => at_boot.map_or_else(Found::absent, |rule| properties(clause, rule, None)),
    };
    let stand_in = machine.acted_on.is_private_root().then(|| {
        "in a private root no packets are filtered: only the boot configuration is managed".to_owned()
    });
    Ok(Seen { native: rules.native, stand_in, ..seen(found) })
}

fn properties(clause: &Clause, rule: &Rule, out_of_order: Option<String>) -> Found {
    let mut found = Found::present();
    let from = match (clause.text("from"), &rule.from) {
        (Some(wanted), Some(found)) if masked(wanted) == masked(found) => Some(wanted.to_owned()),
        (_, found) => found.clone(),
    };
    let then = out_of_order
        .map_or_else(|| rule.then.clone(), |after| format!("{}, but it is after {after}", rule.then));
    let any = || json!("any");
    let all = [
        ("direction", json!(rule.direction)),
        ("protocol", rule.protocol.as_ref().map_or_else(any, |protocol| json!(protocol))),
        ("port", rule.port.map_or_else(any, |port| json!(port))),
        ("from", from.map_or_else(any, |from| json!(from))),
        ("then", json!(then)),
    ];
    for (property, value) in all {
        if clause.get(property).is_some() {
            found = found.with(property, value);
        } else if value != any() {
            // What the clause leaves out means any: a rule that is narrower does something else.
            found = found.with(
                "then",
                format!(
                    "{then}, only for {property} {}",
                    value.as_str().map_or_else(|| value.to_string(), str::to_owned)
                ),
            );
        }
    }
    found
}

/// Returns a rule of the same direction that should come later and is before this one: the first that fits counts.
fn out_of_order(machine: &Machine, clause: &Clause, now: &[Rule]) -> Option<String> {
    let place = |known: &str| machine.packet_rules.iter().position(|name| comment(name) == known);
    let own = comment(clause.name());
    let own_place = place(&own)?;
    let before = now
        .iter()
        .take_while(|rule| rule.name != own)
        .filter(|rule| Some(rule.direction.as_str()) == clause.text("direction"));
    let later = before.filter_map(|rule| place(&rule.name)).find(|place| *place > own_place);
    later.map(|place| format!("`{}`", machine.packet_rules[place]))
}

pub(super) fn correct(machine: &mut Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let rules = look(machine).map_err(|not_seen| match not_seen {
        NotSeen::Unsupported(why) => HostError::new(why),
        NotSeen::Failed(error) => error,
    })?;
    // What someone changed by hand in our file is put back with the rules that the kernel still has of ours.
    let mut all = rules.at_boot.unwrap_or_default();
    all.retain(|rule| rule.name != clause.name());
    if clause.gone == Gone::No {
        all.push(Rule::of(clause));
    }
    let place =
        |rule: &Rule| machine.packet_rules.iter().position(|name| *name == rule.name).unwrap_or(usize::MAX);
    all.sort_by_key(place);
    let text = file_of(&all);
    if !machine.acted_on.is_private_root() {
        // Asked first, so that nothing is written that nft refuses.
        let ended = Native::new("nft", ["--check", "--file", "-"]).input(text.clone()).must()?;
        work.done.native.push(ended.step);
    }
    let own = Ownership { permissions: Some(0o644), ..Ownership::default() };
    machine.files.make_way(FILE)?;
    put(machine, work, &clause.address, FILE, text.as_bytes(), own)?;
    if clause.gone == Gone::No {
        be_read_at_boot(machine, clause, work)?;
    }
    if machine.acted_on.is_private_root() {
        return Ok(());
    }
    let ended = Native::new("nft", ["--file", FILE]).must()?;
    work.done.native.push(ended.step);
    Ok(())
}

fn be_read_at_boot(machine: &mut Machine, clause: &Clause, work: &mut Work<'_>) -> Result<(), HostError> {
    let text = machine.files.read_text(AT_BOOT)?;
    if !text.lines().any(|line| line.trim() == INCLUDE) {
        let head = if text.is_empty() { "#!/usr/sbin/nft -f\n\n" } else { "" };
        let end = if text.is_empty() || text.ends_with('\n') { "" } else { "\n" };
        let text = format!("{head}{text}{end}{INCLUDE}\n");
        put(machine, work, &clause.address, AT_BOOT, text.as_bytes(), Ownership::default())?;
    }
    if !machine.acted_on.is_private_root() && machine.services.inspect(SERVICE)?.enabled != Ok(true) {
        work.done.native.push(machine.services.set_enabled(SERVICE, true)?);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn rule(name: &str, port: Option<u64>, from: Option<&str>) -> Rule {
        Rule {
            name: name.into(),
            direction: "in".into(),
            protocol: Some("tcp".into()),
            port,
            from: from.map(Into::into),
            then: "drop".into(),
        }
    }

    #[test]
    fn the_file_is_read_as_it_was_written_and_changes_are_noticed() {
        let rules =
            [rule("nobody prints \"from\" outside", Some(631), Some("192.0.2.0/24")), rule("b", None, None)];
        let text = file_of(&rules);
        assert_eq!(rules_of(&text).unwrap(), rules);
        assert!(rules_of(&text.replace("drop comment", "accept comment")).is_none());
        assert!(
            text.contains("ip saddr 192.0.2.0/24 tcp dport 631 drop comment \"nobody prints from outside [")
        );
    }

    #[test]
    fn networks_are_held_against_each_other_without_what_does_not_count() {
        assert_eq!(masked("192.0.2.77/24"), "192.0.2.0/24");
        assert_eq!(masked("192.0.2.77/32"), "192.0.2.77");
        assert_eq!(masked("2001:db8::1/32"), "2001:db8::/32");
    }
}
