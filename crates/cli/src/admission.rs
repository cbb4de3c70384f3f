//! `constans admission`: rules by which machines are let in without a person who looks at each.

use crate::change::ask;
use crate::error::ClientError;
use crate::invitation::duration;
use crate::join::PlaceArguments;
use crate::server::{ListArguments, Server, ServerArguments, labels};
use clap::{ArgGroup, Args, Subcommand};
use constans_core::joining::{AdmissionRule, Placement};
use constans_terminal::{count, harmless, time};
use constans_wire::admission::{
    AdmissionOutcome, AdmissionRuleShown, AdmissionRuleWhole, AdmissionStatus, LetIn, NewAdmissionRule,
};
use serde_json::json;
use std::io::IsTerminal as _;
use std::path::{Path, PathBuf};
use uuid::Uuid;

/// Arguments of `admission`.
#[derive(Debug, Args)]
pub struct AdmissionArguments {
    #[command(subcommand)]
    command: AdmissionCommand,
}

#[derive(Debug, Subcommand)]
enum AdmissionCommand {
    /// List admission rules: those in force first
    List {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Show a rule, and the machines that it let in
    Show {
        #[command(flatten)]
        server: ServerArguments,
        /// The rule, for example A3
        #[arg(value_name = "RULE", value_parser = number)]
        no: u32,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Make a rule: machines that meet all of its conditions are let in, those that wait already at once
    #[command(group = ArgGroup::new("which").required(true).multiple(true))]
    Add {
        #[command(flatten)]
        server: ServerArguments,
        /// They come with this invitation
        #[arg(long, value_name = "ID", group = "which")]
        invitation: Option<Uuid>,
        /// Their name, or a pattern of it, for example 'kiosk-lab-*'; repeat it for several
        #[arg(long = "name", value_name = "NAME", group = "which")]
        names: Vec<String>,
        /// The fingerprint of their key; repeat it for several
        #[arg(long = "key", value_name = "FINGERPRINT", group = "which")]
        keys: Vec<String>,
        /// A table of machines, CSV: the columns are name, perhaps fingerprint, and labels
        #[arg(long, value_name = "FILE", group = "which")]
        table: Option<PathBuf>,
        /// How many machines it lets in at most
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=100_000))]
        at_most: Option<u32>,
        /// How long it holds, at most 90d
        #[arg(long = "for", value_name = "TIME", default_value = "24h", value_parser = duration)]
        for_secs: u64,
        /// The reason
        #[arg(long, value_name = "REASON")]
        because: String,
        #[command(flatten)]
        place: PlaceArguments,
        /// Only show which machines it would let in
        #[arg(long)]
        preview: bool,
        /// Make it without being asked
        #[arg(long, short, conflicts_with = "preview")]
        yes: bool,
    },
    /// End a rule: it lets nobody in any more; nodes that it let in stay
    End {
        #[command(flatten)]
        server: ServerArguments,
        /// The rule, for example A3
        #[arg(value_name = "RULE", value_parser = number)]
        no: u32,
    },
}

fn number(text: &str) -> Result<u32, String> {
    let digits = text.trim_start_matches(['A', 'a']);
    digits.parse().map_err(|_| "a rule is called A and its number, for example A3".to_owned())
}

/// Lists, shows, makes or ends.
pub async fn run(arguments: &AdmissionArguments) -> Result<(), ClientError> {
    match &arguments.command {
        AdmissionCommand::List { server, which } => list(&Server::open(server)?, which).await,
        AdmissionCommand::Show { server, no, which } => show(&Server::open(server)?, *no, which).await,
        AdmissionCommand::Add {
            server,
            invitation,
            names,
            keys,
            table,
            at_most,
            for_secs,
            because,
            place,
            preview,
            yes,
        } => {
            let rule = AdmissionRule {
                invitation: invitation.map(|id| id.to_string()),
                names: names.clone(),
                keys: keys.clone(),
                table: Vec::new(),
            };
            let wanted = NewAdmissionRule {
                rule,
                table_csv: table.as_deref().map(read).transpose()?,
                at_most: *at_most,
                for_secs: *for_secs,
                because: because.clone(),
                placement: place.placement(),
                preview: *preview,
            };
            add(&Server::open(server)?, wanted, *yes).await
        }
        AdmissionCommand::End { server, no } => {
            let server = Server::open(server)?;
            let ended: bool = server.delete(&format!("/api/admission-rules/{no}")).await?;
            if !server.says_json(&ended) {
                println!("A{no} is ended: it lets nobody in any more; nodes that it let in stay");
            }
            Ok(())
        }
    }
}

fn read(table: &Path) -> Result<String, ClientError> {
    std::fs::read_to_string(table).map_err(|error| {
        ClientError::new(
            format!("{}: {error}", table.display()),
            "name a CSV file in UTF-8 that you may read",
        )
    })
}

async fn add(server: &Server, mut wanted: NewAdmissionRule, yes: bool) -> Result<(), ClientError> {
    if wanted.preview || !yes {
        let tried = NewAdmissionRule { preview: true, ..wanted.clone() };
        let tried: AdmissionOutcome = server.post("/api/admission-rules", &tried).await?;
        if wanted.preview {
            if !server.says_json(&tried) {
                println!("preview: no rule is made yet");
                outcome_lines(&tried, "would be").iter().for_each(|line| println!("{line}"));
            }
            return Ok(());
        }
        let lets_in = tried.waiting.iter().any(|machine| machine.waits_because.is_none());
        // Whoever names exactly what is expected, and lets nobody in at once, need not be asked.
        if lets_in || !tried.warnings.is_empty() {
            outcome_lines(&tried, "would be").iter().for_each(|line| anstream::eprintln!("{line}"));
            if server.prints_json() || !std::io::stdin().is_terminal() {
                let message = "the rule lets machines in at once or is wide, which nobody can be asked about here; no rule is made";
                return Err(ClientError::new(message, "make it with --yes").declined());
            }
            if ask("Make this rule? [y/N] ")?.to_lowercase() != "y" {
                return Err(ClientError::new("no rule is made", "to make it: the same again").declined());
            }
        }
    }
    wanted.preview = false;
    let made: AdmissionOutcome = server.post("/api/admission-rules", &wanted).await?;
    if server.says_json(&made) {
        return Ok(());
    }
    let no = made.no.unwrap_or_default();
    println!("A{no} is in force");
    outcome_lines(&made, "was").iter().for_each(|line| println!("{line}"));
    println!("Next: constans admission show A{no} lists whom it let in; constans admission end A{no}");
    Ok(())
}

/// This many machines are shown; the rest is counted.
const MAX_SHOWN: usize = 20;

fn outcome_lines(outcome: &AdmissionOutcome, is: &str) -> Vec<String> {
    let mut lines: Vec<String> =
        outcome.warnings.iter().map(|warning| format!("   warning   {}", harmless(warning))).collect();
    let (waits, lets_in): (Vec<_>, Vec<_>) =
        outcome.waiting.iter().partition(|machine| machine.waits_because.is_some());
    for machine in lets_in.iter().take(MAX_SHOWN) {
        lines.push(format!("   {} {is} let in   {}", harmless(&machine.name), machine.fingerprint));
    }
    more(&mut lines, lets_in.len());
    for machine in waits.iter().take(MAX_SHOWN) {
        let because = machine.waits_because.map(|because| because.words()).unwrap_or_default();
        lines.push(format!("   {} waits for a person: it {because}", harmless(&machine.name)));
    }
    more(&mut lines, waits.len());
    if outcome.waiting.is_empty() {
        lines.push("   no machine that waits now fits".to_owned());
    }
    if !outcome.known.is_empty() {
        let names: Vec<String> = outcome.known.iter().take(MAX_SHOWN).map(|name| harmless(name)).collect();
        lines.push(format!(
            "   {} fit, and would be let in again after their certificates ended: {}",
            count(outcome.known.len(), "known node", "known nodes"),
            names.join(", ")
        ));
    }
    lines
}

fn more(lines: &mut Vec<String>, number: usize) {
    if number > MAX_SHOWN {
        lines.push(format!("   and {} more", number - MAX_SHOWN));
    }
}

async fn list(server: &Server, which: &ListArguments) -> Result<(), ClientError> {
    let rules: Vec<AdmissionRuleShown> = server.get_all(&which.address("/api/admission-rules")).await?;
    if server.says_json(&rules) {
        return Ok(());
    }
    if rules.is_empty() {
        println!(
            "no admission rules: each request is approved by a person\nNext: constans admission add --help"
        );
    }
    rules.iter().for_each(|rule| println!("{}", shown(rule)));
    Ok(())
}

async fn show(server: &Server, no: u32, which: &ListArguments) -> Result<(), ClientError> {
    let whole: AdmissionRuleWhole = server.get(&format!("/api/admission-rules/{no}")).await?;
    let let_in: Vec<LetIn> =
        server.get_all(&which.address(&format!("/api/admission-rules/{no}/machines"))).await?;
    if server.says_json(&json!({ "rule": whole.rule, "expected": whole.expected, "let_in": let_in })) {
        return Ok(());
    }
    println!("{}", shown(&whole.rule));
    for row in &whole.rule.rule.table {
        let key = row.key.as_deref().unwrap_or("any key");
        println!("   expects  {}   {key}   {}", harmless(&row.name), labels(&row.labels));
    }
    for machine in &let_in {
        let now = match &machine.node {
            None => "  the node is retired".to_owned(),
            Some(node) if *node != machine.name => format!("  it is {} now", harmless(node)),
            Some(_) => String::new(),
        };
        println!(
            "   let in   {}   {}   from {}   {}{now}",
            harmless(&machine.name),
            time(machine.at),
            machine.address,
            machine.fingerprint
        );
    }
    Ok(())
}

fn shown(rule: &AdmissionRuleShown) -> String {
    let status = match rule.status {
        AdmissionStatus::InForce => format!("in force until {}", time(rule.until)),
        AdmissionStatus::UsedUp => "has let in as many as it may".to_owned(),
        AdmissionStatus::Over => format!("over since {}", time(rule.until)),
        AdmissionStatus::Ended => format!(
            "ended by {}{}",
            harmless(rule.ended_by.as_deref().unwrap_or_default()),
            rule.ended_at.map(|at| format!(" {}", time(at))).unwrap_or_default()
        ),
        AdmissionStatus::Suspended => {
            format!("lets nobody in: {} may no longer approve requests", harmless(&rule.made_by))
        }
    };
    let most = rule.at_most.map(|most| format!(" of at most {most}")).unwrap_or_default();
    let mut lines = vec![
        format!("A{}   {status}   let in {}{most}", rule.no, rule.let_in),
        format!(
            "   made by  {} {}: \"{}\"",
            harmless(&rule.made_by),
            time(rule.made_at),
            harmless(&rule.because)
        ),
        format!("   fits     {}", conditions(&rule.rule, rule.table_rows)),
        format!("   places   {}", placement_words(&rule.placement)),
    ];
    lines.extend(rule.warnings.iter().map(|warning| format!("   warning  {}", harmless(warning))));
    lines.join("\n")
}

fn conditions(rule: &AdmissionRule, table_rows: u64) -> String {
    let mut all = Vec::new();
    if let Some(invitation) = &rule.invitation {
        all.push(format!("the invitation {}", harmless(invitation)));
    }
    if !rule.names.is_empty() {
        all.push(format!("a name of {}", harmless(&rule.names.join(", "))));
    }
    if !rule.keys.is_empty() {
        all.push(format!("one of {}", count(rule.keys.len(), "key", "keys")));
    }
    if table_rows > 0 {
        let rows = usize::try_from(table_rows).unwrap_or(usize::MAX);
        all.push(format!("a table of {}", count(rows, "machine", "machines")));
    }
    all.join(", and ")
}

fn placement_words(placement: &Placement) -> String {
    let mut all = Vec::new();
    if !placement.labels.is_empty() {
        all.push(format!("labels {}", labels(&placement.labels)));
    }
    if let Some(mode) = placement.mode {
        all.push(format!("mode {}", serde_json::json!(mode).as_str().unwrap_or_default()));
    }
    all.extend(placement.assignments.iter().map(|one| format!("baseline {}/{}", one.kit, one.baseline)));
    if all.is_empty() { "as their invitations and groups say".to_owned() } else { all.join(", ") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::json;

    #[test]
    fn a_rule_shows_what_it_fits_and_how_far_it_is() {
        let whole = json!({
            "no": 3, "rule": { "names": ["kiosk-lab-*"], "invitation": "0199a000-0000-7000-8000-000000000001" }, "table_rows": 0,
            "at_most": 40, "let_in": 12, "placement": { "labels": { "role": "kiosk" }, "mode": "observe" }, "because": "the lab of the depot",
            "made_by": "tor.havik", "made_at": "2026-11-23T06:40:00Z", "until": "2026-11-24T06:40:00Z", "status": "in_force",
            "ended_by": null, "ended_at": null, "warnings": [],
        });
        let rule = |over| shown(&answered(whole.clone(), &over));
        insta::assert_snapshot!(rule(json!({})), @r#"
        A3   in force until 2026-11-24 06:40:00 UTC   let in 12 of at most 40
           made by  tor.havik 2026-11-23 06:40:00 UTC: "the lab of the depot"
           fits     the invitation 0199a000-0000-7000-8000-000000000001, and a name of kiosk-lab-*
           places   labels role=kiosk, mode observe
        "#);
        let over = json!({ "status": "suspended", "rule": {}, "table_rows": 40, "at_most": null, "placement": {},
            "warnings": ["names are what machines claim"] });
        insta::assert_snapshot!(rule(over), @r#"
        A3   lets nobody in: tor.havik may no longer approve requests   let in 12
           made by  tor.havik 2026-11-23 06:40:00 UTC: "the lab of the depot"
           fits     a table of 40 machines
           places   as their invitations and groups say
           warning  names are what machines claim
        "#);
    }
}
