//! What the agent describes of a host is a valid document, and in line when observed.

use crate::kinds::must;
use crate::lab::{Failed, Host, told};
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
    let asked = LISTED.iter().map(|kind| format!("--all {kind}")).chain(NAMED.map(str::to_owned));
    let failed: usize = asked.map(|asked| told(&asked, in_line_again(host, &asked))).sum();
    failed + told("a value that is not the same now and at boot is no clause", not_one_value(host))
}

fn not_one_value(host: Host<'_>) -> Result<(), Failed> {
    host.shell("sysctl -qw net.ipv4.tcp_fin_timeout=31")?;
    let told = host.shell("constans-agent inspect kernel_setting net.ipv4.tcp_fin_timeout")?;
    if told.contains("value: 31 now, not set at boot")
        && told.contains("\n# [[clause]]")
        && !told.contains("\n[[clause]]")
    {
        return Ok(());
    }
    Err(told)
}

fn in_line_again(host: Host<'_>, asked: &str) -> Result<(), Failed> {
    let told = host.shell(&format!("constans-agent inspect {asked}"))?;
    host.write("/srv/documents/told.toml", &format!("[baseline]\nname = \"told\"\n\n{told}"))?;
    let kept = told.matches("\n[[clause]]").count();
    if kept == 0 {
        return Err(format!("nothing was told: {told}"));
    }
    let report = host.agent("observe --file /srv/documents/told.toml")?;
    must(report.clauses.len() == kept, "not every clause was read", &report)?;
    let unlike: Vec<&str> = report
        .clauses
        .iter()
        .filter(|clause| clause.verdict != Some(Verdict::Alike))
        .map(|clause| clause.address.as_str())
        .collect();
    must(unlike.is_empty(), &format!("not in line: {}", unlike.join(", ")), &report)
}
