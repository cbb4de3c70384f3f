//! What the agent describes of a host is a valid document, and in line when observed.

use crate::kinds::must;
use crate::lab::{Failed, Host, print_result};
use constans_core::run::Verdict;

const LISTED: [&str; 16] = [
    "package",
    "package_source",
    "service",
    "schedule",
    "account",
    "account_group",
    "ssh_key",
    "kernel_setting",
    "kernel_module",
    "mount",
    "trust_anchor",
    "clock_sources",
    "time_zone",
    "host_name",
    "packet_rule",
    "listening",
];

const NAMED: [&str; 5] = [
    "file /etc/hosts",
    "file /usr/bin/kiosk-shell",
    "directory /etc/apt",
    "link /etc/localtime",
    "package kiosk-shell",
];

/// Goes through all kinds that can be looked up; returns how many failed.
pub fn all(host: Host<'_>) -> usize {
    println!("\ninspect, observed again");
    let arguments = LISTED.iter().map(|kind| format!("--all {kind}")).chain(NAMED.map(str::to_owned));
    let failed: usize =
        arguments.map(|arguments| print_result(&arguments, in_line_again(host, &arguments))).sum();
    failed + print_result("a value that is not the same now and at boot is no clause", not_one_value(host))
}

fn not_one_value(host: Host<'_>) -> Result<(), Failed> {
    host.shell("sysctl -qw net.ipv4.tcp_fin_timeout=31")?;
    let output = host.shell("constans-agent inspect kernel_setting net.ipv4.tcp_fin_timeout")?;
    if output.contains("value: 31 now, not set at boot")
        && output.contains("\n# [[clause]]")
        && !output.contains("\n[[clause]]")
    {
        return Ok(());
    }
    Err(output)
}

fn in_line_again(host: Host<'_>, arguments: &str) -> Result<(), Failed> {
    let output = host.shell(&format!("constans-agent inspect {arguments}"))?;
    host.write("/srv/documents/described.toml", &format!("[baseline]\nname = \"described\"\n\n{output}"))?;
    let kept = output.matches("\n[[clause]]").count();
    if kept == 0 {
        return Err(format!("nothing was described: {output}"));
    }
    let report = host.agent("observe --file /srv/documents/described.toml")?;
    must(report.clauses.len() == kept, "not every clause was read", &report)?;
    let unlike: Vec<&str> = report
        .clauses
        .iter()
        .filter(|clause| clause.verdict != Some(Verdict::Alike))
        .map(|clause| clause.address.as_str())
        .collect();
    must(unlike.is_empty(), &format!("not in line: {}", unlike.join(", ")), &report)
}
