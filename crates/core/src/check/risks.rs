//! Risks that are rarely intended: a service that does not react to its files, administrators who lock themselves out,
//! secrets in plain text.

use crate::document::Code;
use crate::document::Finding;
use crate::document::Place;
use crate::kit::Kit;
use crate::kit::{Baseline, Gone};
use crate::state::{Clause, Resolved};
use regex::Regex;
use std::collections::HashSet;
use std::sync::{Arc, LazyLock};

/// Files larger than this are not searched for secrets, in bytes.
const MAX_SEARCHED: usize = 256 * 1024;

/// Warns of what a baseline's clauses may bring about.
pub(super) fn check_risks(kit: &Kit, baseline: &Baseline, resolved: &Resolved, findings: &mut Vec<Finding>) {
    let own = || {
        resolved
            .state
            .clauses
            .iter()
            .zip(&resolved.places)
            .filter(|(_, place)| place.kit.as_deref() == Some(kit.name.as_str()))
    };
    for (clause, place) in own() {
        if let Some((message, hint)) = locks_out(clause) {
            findings.push(Finding::warning(Code::LocksOut, place.clone(), message).hint(hint));
        }
    }
    let administrators: Vec<&str> = resolved
        .state
        .clauses
        .iter()
        .filter(|clause| is_administrators(clause))
        .flat_map(|clause| clause.list("members"))
        .collect();
    if let [last] = administrators.as_slice() {
        let ends = |clause: &Clause| {
            clause.address.kind() == "account"
                && clause.name() == *last
                && (clause.gone != Gone::No || clause.flag("locked") == Some(true))
        };
        for (_, place) in own().filter(|(clause, _)| ends(clause)) {
            findings.push(
                Finding::warning(
                    Code::LocksOut,
                    place.clone(),
                    format!("`{last}` is the last administrator, and could not sign in any more"),
                )
                .hint("name another one in the group first"),
            );
        }
    }
    let read: Vec<(&Clause, &str)> = resolved
        .state
        .clauses
        .iter()
        .filter_map(|clause| Some((clause, file_that_is_read(clause)?)))
        .collect();
    for (service, place) in own()
        .filter(|(clause, _)| clause.address.kind() == "service" && clause.flag("running") != Some(false))
    {
        let unheard: Vec<&Clause> = read
            .iter()
            .filter(|(file, path)| is_read_by(path, service.name()) && !is_related(file, service))
            .map(|(file, _)| *file)
            .collect();
        if let Some(first) = unheard.first() {
            let listed: Vec<String> = unheard.iter().map(|file| format!("\"{}\"", file.address)).collect();
            findings.push(
                Finding::warning(
                    Code::Unrelated,
                    place.clone(),
                    format!("{} does not react to changes of {}", service.address, first.address),
                )
                .hint(format!(
                    "add reacts_to = [{}] and reaction = \"restart\", or needs if it reads it only once",
                    listed.join(", ")
                )),
            );
        }
    }
    search_for_secrets(kit, baseline, findings);
}

/// Returns the path of a file that a service may read.
fn file_that_is_read(clause: &Clause) -> Option<&str> {
    let reads =
        matches!(clause.address.kind(), "file" | "line" | "setting" | "tree") && clause.gone == Gone::No;
    let path = clause.text("in").unwrap_or(clause.name());
    (reads && path.starts_with("/etc/")).then_some(path)
}

/// Returns whether a file looks like one that a service reads: it is in a folder of its name, or is named like it.
fn is_read_by(path: &str, service: &str) -> bool {
    let service = service.trim_end_matches(".service");
    let first_word = service.split('-').next().unwrap_or(service);
    let known_as = |part: &str| {
        let stem = part.split('.').next().unwrap_or(part);
        stem == service || part == service || (first_word.len() >= 4 && stem == first_word)
    };
    path.split('/').skip(2).any(known_as)
}

fn is_related(file: &Clause, service: &Clause) -> bool {
    let related = |one: &Clause, other: &Clause| {
        let names = || std::iter::once(&other.address).chain(&other.also);
        one.reacts_to.iter().chain(&one.needs).any(|address| names().any(|name| name == address))
    };
    related(service, file) || related(file, service)
}

/// Returns whether a clause keeps the group whose members act as root.
fn is_administrators(clause: &Clause) -> bool {
    clause.address.kind() == "account_group" && ["sudo", "wheel", "admin"].contains(&clause.name())
}

/// Returns what a clause may keep administrators from, and what to do.
fn locks_out(clause: &Clause) -> Option<(String, String)> {
    let name = clause.name();
    let gone = clause.gone != Gone::No;
    let by_hand = "make sure that somebody can still sign in, and try it on one node first".to_owned();
    let remote = ["ssh", "sshd", "ssh.service", "sshd.service", "openssh-server"];
    match clause.address.kind() {
        "service"
            if remote.contains(&name)
                && (clause.flag("running") == Some(false) || clause.flag("enabled") == Some(false)) =>
        {
            Some((format!("{} ends remote sign-in", clause.address), by_hand))
        }
        "package" if gone && remote.contains(&name) => {
            Some((format!("{} removes remote sign-in", clause.address), by_hand))
        }
        "package" if gone && name == "sudo" => {
            Some(("removing package:sudo removes how administrators act as root".to_owned(), by_hand))
        }
        "file" if gone && (name == "/etc/sudoers" || name == "/etc/ssh/sshd_config") => {
            Some((format!("{} must not exist", clause.address), by_hand))
        }
        "file" if !gone && clause.get("content").is_some() && clause.get("check_with").is_none() => {
            let checker = if name == "/etc/sudoers" || name.starts_with("/etc/sudoers.d/") {
                "[\"/usr/sbin/visudo\", \"-cf\", \"{candidate}\"]"
            } else if name == "/etc/ssh/sshd_config" {
                "[\"/usr/sbin/sshd\", \"-t\", \"-f\", \"{candidate}\"]"
            } else {
                return None;
            };
            let message = format!(
                "a mistake in {name} locks administrators out, and new contents are not checked before use"
            );
            Some((message, format!("add check_with = {checker}")))
        }
        "account" if name == "root" && (gone || clause.flag("locked") == Some(true)) => {
            Some(("root could not sign in any more".to_owned(), by_hand))
        }
        "account_group"
            if ["sudo", "wheel", "admin"].contains(&name)
                && (gone
                    || clause
                        .get("members")
                        .is_some_and(|members| clause.list("members").is_empty() && members.is_array())) =>
        {
            Some((format!("{} would have no member: nobody is an administrator", clause.address), by_hand))
        }
        "packet_rule"
            if clause.text("then").is_some_and(|then| then != "accept")
                && clause.get("port").is_some_and(|port| port == 22) =>
        {
            Some((format!("{} prevents remote sign-in for everybody", clause.address), by_hand))
        }
        "listening" if gone && name == "tcp/22" => {
            Some(("nothing may listen on tcp/22: that ends remote sign-in".to_owned(), by_hand))
        }
        _ => None,
    }
}

static SECRET: LazyLock<Regex> = LazyLock::new(|| {
    Regex::new(r#"(?im)^[ \t]*[\w.-]*(?:password|passwd|passphrase|secret|api_?key|auth_?token)[ \t]*[=:][ \t]*["']?([^\s"'{}$#]{6,})"#)
        .expect("the pattern is right")
});

/// Warns of a possible secret in the texts and files of a baseline; its value is never repeated.
fn search_for_secrets(kit: &Kit, baseline: &Baseline, findings: &mut Vec<Finding>) {
    let mut warn = |place: Place| {
        findings.push(
            Finding::warning(Code::PlainSecret, place, "this may be a secret in plain text")
                .hint("everyone who can read the kit can read it; use a parameter of type `secret`"),
        );
    };
    let mut searched = HashSet::new();
    for clause in &baseline.clauses {
        for (name, value) in &clause.properties {
            let Some(text) = value.value.as_str() else { continue };
            match name.as_str() {
                "text" => SECRET.captures_iter(text).filter_map(|found| found.get(1)).for_each(|found| {
                    let document = kit.files.text(&value.place.file).unwrap_or_default();
                    warn(value.place.within(document, text, found.range()));
                }),
                "copy" | "render" => {
                    let folder = if *name == "copy" { "copies" } else { "renders" };
                    let path = format!("{folder}/{text}");
                    if !searched.insert(path.clone()) {
                        continue;
                    }
                    let source = kit
                        .files
                        .text(&path)
                        .filter(|source| source.len() <= MAX_SEARCHED)
                        .unwrap_or_default();
                    for found in SECRET.captures_iter(source).filter_map(|found| found.get(1)) {
                        warn(Place::new(&Arc::from(path.as_str()), source, found.range()));
                    }
                }
                _ => {}
            }
        }
    }
}
