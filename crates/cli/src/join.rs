//! `constans join`: requests of machines, listed and decided.

use crate::change::ask;
use crate::error::ClientError;
use crate::given_edit::baseline;
use crate::server::{ListArguments, Server, ServerArguments, labels};
use clap::{Args, Subcommand, ValueEnum};
use constans_core::group::Assignment;
use constans_core::joining::{Placement, is_like};
use constans_core::nearest::nearest_word;
use constans_core::run::Mode;
use constans_core::words::read_label;
use constans_terminal::{count, harmless, time};
use constans_wire::join::{
    ApproveRequest, ApproveRequests, Approved, ApprovedNode, DenyRequests, JoinDecision, JoiningRequest,
    NameUser,
};
use std::io::IsTerminal as _;
use uuid::Uuid;

/// Arguments of `join`.
#[derive(Debug, Args)]
pub struct JoinArguments {
    #[command(subcommand)]
    command: JoinCommand,
}

#[derive(Debug, Subcommand)]
enum JoinCommand {
    /// List waiting joining requests, with what the machines report about themselves
    List {
        #[command(flatten)]
        server: ServerArguments,
        /// List those that were denied, the newest first
        #[arg(long, conflicts_with = "approved")]
        denied: bool,
        /// List those that were approved, by whom or by which admission rule
        #[arg(long)]
        approved: bool,
        #[command(flatten)]
        which: ListArguments,
    },
    /// Approve requests: the machines become nodes, placed together, all or none
    Approve {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: WhichRequests,
        /// Approve it as this known node on a new machine; older keys of the node are refused from then on
        #[arg(long = "as", value_name = "NODE")]
        as_node: Option<String>,
        /// Another name than the requested one, for one request
        #[arg(long, value_name = "NAME", conflicts_with = "as_node")]
        name: Option<String>,
        #[command(flatten)]
        place: PlaceArguments,
        /// A group that names them as its members; repeat it for several
        #[arg(long = "group", value_name = "GROUP")]
        groups: Vec<String>,
        /// Only show what would become of them
        #[arg(long)]
        preview: bool,
        /// Approve several without being asked
        #[arg(long, short, conflicts_with = "preview")]
        yes: bool,
    },
    /// Deny requests
    Deny {
        #[command(flatten)]
        server: ServerArguments,
        #[command(flatten)]
        which: WhichRequests,
        /// The reason; the machines receive it
        #[arg(long, value_name = "REASON")]
        because: String,
    },
}

/// Which requests are decided.
#[derive(Debug, Args)]
struct WhichRequests {
    /// Names, ids or patterns of the requests, for example 'kiosk-lab-*'
    #[arg(value_name = "REQUEST", required_unless_present = "invitation")]
    requests: Vec<String>,
    /// All that came with this invitation
    #[arg(long, value_name = "ID")]
    invitation: Option<Uuid>,
}

/// Where new nodes are placed.
#[derive(Debug, Args)]
pub struct PlaceArguments {
    /// A label that they get, over those of their invitation; repeat it for several
    #[arg(long = "label", value_name = "KEY=VALUE", value_parser = read_label)]
    labels: Vec<(String, String)>,
    /// Their own mode, over that of their groups
    #[arg(long, value_enum)]
    mode: Option<OwnMode>,
    /// A baseline that each is assigned by itself; repeat it for several
    #[arg(long = "baseline", value_name = "KIT/BASELINE", value_parser = baseline)]
    baselines: Vec<(String, String)>,
}

#[derive(Debug, Clone, Copy, ValueEnum)]
enum OwnMode {
    Observe,
    Enforce,
}

impl PlaceArguments {
    /// Returns it as it is sent.
    pub fn placement(&self) -> Placement {
        let assignment = |(kit, baseline): &(String, String)| Assignment {
            kit: kit.clone(),
            baseline: baseline.clone(),
            ..Assignment::default()
        };
        Placement {
            labels: self.labels.iter().cloned().collect(),
            mode: self.mode.map(|mode| match mode {
                OwnMode::Observe => Mode::Observe,
                OwnMode::Enforce => Mode::Enforce,
            }),
            assignments: self.baselines.iter().map(assignment).collect(),
            ..Placement::default()
        }
    }
}

/// Lists, approves or denies.
pub async fn run(arguments: &JoinArguments) -> Result<(), ClientError> {
    match &arguments.command {
        JoinCommand::List { server, denied, approved, which } => {
            let server = Server::open(server)?;
            match (denied, approved) {
                (true, _) => list_decided(&server, "denied", which).await,
                (_, true) => list_decided(&server, "approved", which).await,
                _ => list(&server, which).await,
            }
        }
        JoinCommand::Approve { server, which, as_node, name, place, groups, preview, yes } => {
            let server = Server::open(server)?;
            let requests = find(&server, which).await?;
            if let (Some(option), true) = (as_node.as_ref().or(name.as_ref()), requests.len() > 1) {
                return Err(ClientError::new(
                    format!("{} requests cannot all be {option}", requests.len()),
                    "name one request by its id: constans join list shows them",
                ));
            }
            let placement = Placement { groups: groups.clone(), ..place.placement() };
            let is_asked = !yes && requests.len() > 1;
            let wanted = ApproveRequests {
                requests: requests
                    .iter()
                    .map(|request| ApproveRequest {
                        id: request.id,
                        name: name.clone(),
                        as_node: as_node.clone(),
                    })
                    .collect(),
                placement,
                preview: *preview,
            };
            approve(&server, wanted, is_asked).await
        }
        JoinCommand::Deny { server, which, because } => {
            let server = Server::open(server)?;
            let requests = find(&server, which).await?.iter().map(|request| request.id).collect();
            let wanted = DenyRequests { requests, because: because.clone() };
            let names: Vec<String> = server.post("/api/joining-requests/deny", &wanted).await?;
            if !server.says_json(&names) {
                names.iter().for_each(|name| println!("{} was denied", harmless(name)));
            }
            Ok(())
        }
    }
}

async fn list(server: &Server, which: &ListArguments) -> Result<(), ClientError> {
    let waiting: Vec<JoiningRequest> = server.get_all(&which.address("/api/joining-requests")).await?;
    if server.says_json(&waiting) {
        return Ok(());
    }
    if waiting.is_empty() {
        println!(
            "{}",
            which.none("no joining requests\nNext: constans invite creates an invitation for a new node")
        );
        return Ok(());
    }
    for request in &waiting {
        println!("{}", shown(request));
    }
    println!(
        "Next: compare the fingerprint with the one that the machine shows, then constans join approve NAME"
    );
    Ok(())
}

async fn list_decided(server: &Server, only: &str, which: &ListArguments) -> Result<(), ClientError> {
    let path = which.address(&format!("/api/joining-requests?only={only}"));
    let decided: Vec<JoiningRequest> = server.get_all(&path).await?;
    if server.says_json(&decided) {
        return Ok(());
    }
    if decided.is_empty() {
        println!("{}", which.none(&format!("no request was {only}")));
    }
    decided.iter().filter_map(|request| Some((request, request.decision.as_ref()?))).for_each(
        |(request, decision)| {
            println!("{}   {}", harmless(&request.name), decision_words(decision, &request.name));
            println!("   fingerprint  {}   from {}", request.fingerprint, request.address);
        },
    );
    Ok(())
}

fn decision_words(decision: &JoinDecision, asked_as: &str) -> String {
    let (who, at) = (harmless(&decision.who), time(decision.at));
    if !decision.is_approved {
        let because = harmless(decision.because.as_deref().unwrap_or_default());
        return format!("denied by {who} {at}: {because}");
    }
    let by =
        decision.rule.map_or_else(|| format!("by {who}"), |rule| format!("by the rule A{rule} of {who}"));
    let now = match &decision.node {
        None => "; the node is retired".to_owned(),
        Some(node) if node != asked_as => format!("; it is {} now", harmless(node)),
        Some(_) => String::new(),
    };
    format!("approved {by} {at}{now}")
}

fn shown(request: &JoiningRequest) -> String {
    let about = |field: &str| {
        request
            .about
            .get(field)
            .map(|value| harmless(value.as_str().map_or_else(|| value.to_string(), str::to_owned).as_str()))
    };
    let says: Vec<String> =
        ["os.name", "os.version", "arch", "init"].iter().filter_map(|field| about(field)).collect();
    let says = if says.is_empty() { "nothing reported".to_owned() } else { says.join(", ") };
    let in_use = request.name_used_by.as_ref().map(in_use_words).unwrap_or_default();
    let origin = match (&request.invited_by, request.revoked_since) {
        (_, Some(since)) => format!(
            "the revoked node of this name (since {}) with its old key; if approved, it is that node again",
            time(since)
        ),
        (Some(person), None) => format!("invited by {}", harmless(person)),
        (None, None) => "the node of this name with its old key, after its certificate ended".to_owned(),
    };
    let rule = request
        .rule_waits
        .as_ref()
        .map(|waits| format!("\n   it fits the rule A{}, but {}", waits.rule, waits.because.words()));
    let invitation = request.invitation.map(|id| format!("\n   invitation  {id}")).unwrap_or_default();
    format!(
        "{}   asked {} from {}, {}{in_use}{}\n   fingerprint  {}\n   about  {}\n   labels  {}\n   id  {}{invitation}\n",
        harmless(&request.name),
        time(request.requested_at),
        request.address,
        origin,
        rule.unwrap_or_default(),
        request.fingerprint,
        says,
        labels(&request.labels),
        request.id,
    )
}

fn in_use_words(user: &NameUser) -> String {
    let contact = user
        .last_contact
        .map_or_else(|| "never checked in".to_owned(), |at| format!("last checked in {}", time(at)));
    let revoked = user.revoked_since.map(|at| format!(", revoked since {}", time(at))).unwrap_or_default();
    let key = user.fingerprint.as_ref().map(|key| format!("\n   its key      {key}")).unwrap_or_default();
    format!(
        "\n   this name is in use by a node that joined {}, {contact}{revoked}{key}\n   approve with --as if this is that node on a new machine, with --name if it is another",
        time(user.joined_at)
    )
}

async fn approve(server: &Server, mut wanted: ApproveRequests, is_asked: bool) -> Result<(), ClientError> {
    let number = count(wanted.requests.len(), "machine", "machines");
    if wanted.preview || is_asked {
        let tried = ApproveRequests { preview: true, ..wanted.clone() };
        let tried: Approved = server.post("/api/joining-requests/approve", &tried).await?;
        if wanted.preview {
            if !server.says_json(&tried) {
                println!("preview: {number} would be approved; nothing is done yet");
                tried.nodes.iter().for_each(|node| println!("{}", placed(node)));
            }
            return Ok(());
        }
        tried.nodes.iter().for_each(|node| anstream::eprintln!("{}", placed(node)));
        if server.prints_json() || !std::io::stdin().is_terminal() {
            let message =
                format!("{number} would be approved, which nobody can be asked about here; nothing is done");
            return Err(ClientError::new(message, "approve them with --yes").declined());
        }
        if ask(&format!("Approve {number}? [y/N] "))?.to_lowercase() != "y" {
            return Err(ClientError::new("nobody is approved", "to approve them: the same again").declined());
        }
    }
    wanted.preview = false;
    let approved: Approved = server.post("/api/joining-requests/approve", &wanted).await?;
    if server.says_json(&approved) {
        return Ok(());
    }
    if let Some(change) = approved.change {
        println!("C{change}: the groups name them");
    }
    if let [one] = approved.nodes.as_slice() {
        println!("{} is approved; its key is {}", one.name, one.fingerprint);
    } else {
        println!("{number} are approved");
    }
    approved.nodes.iter().for_each(|node| println!("{}", placed(node)));
    println!("Next: constans node list shows their first contact");
    Ok(())
}

/// What is desired of a node that joins.
fn placed(node: &ApprovedNode) -> String {
    let desired = match (&node.unusable, node.clauses) {
        (Some(because), _) => format!("cannot be resolved: {}", harmless(because)),
        (None, Some(clauses)) => count(usize::try_from(clauses).unwrap_or(usize::MAX), "clause", "clauses"),
        (None, None) => "nothing".to_owned(),
    };
    let mode = match node.mode {
        Some(Mode::Enforce) => ", enforce",
        Some(Mode::Observe) => ", observe",
        None => "",
    };
    let known = if node.was_known { ", a known node" } else { "" };
    format!(
        "   {}{known}   {}{mode}   desired {desired}   groups {}   labels {}",
        harmless(&node.name),
        node.stage,
        node.groups.join(", "),
        labels(&node.labels)
    )
}

/// Finds the waiting requests that are meant; each name, id or pattern has to mean at least one.
async fn find(server: &Server, which: &WhichRequests) -> Result<Vec<JoiningRequest>, ClientError> {
    let waiting: Vec<JoiningRequest> = server.get_all("/api/joining-requests").await?;
    let mut found: Vec<JoiningRequest> = Vec::new();
    if let Some(invitation) = which.invitation {
        found = waiting.iter().filter(|request| request.invitation == Some(invitation)).cloned().collect();
        if found.is_empty() {
            return Err(ClientError::new(
                format!("no waiting request came with the invitation {invitation}"),
                "constans join list shows the waiting requests with their invitations",
            ));
        }
    }
    for wanted in &which.requests {
        let fitting: Vec<&JoiningRequest> = waiting
            .iter()
            .filter(|request| is_like(wanted, &request.name) || request.id.to_string() == *wanted)
            .collect();
        let is_pattern = wanted.contains(['*', '?']);
        if fitting.len() > 1 && !is_pattern {
            return Err(ClientError::new(
                format!("several requests have the name {wanted}"),
                "name it by its id: constans join list shows them with their fingerprints",
            ));
        }
        if fitting.is_empty() {
            let near = nearest_word(wanted, waiting.iter().map(|request| request.name.as_str()));
            let hint = near.filter(|_| !is_pattern).map_or_else(
                || "constans join list shows the waiting requests".to_owned(),
                |near| format!("did you mean `{near}`?"),
            );
            let has = if is_pattern { "fits" } else { "has the name or id" };
            return Err(ClientError::new(format!("no waiting request {has} {wanted}"), hint));
        }
        for request in fitting {
            if !found.iter().any(|known| known.id == request.id) {
                found.push(request.clone());
            }
        }
    }
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::testing::answered;
    use serde_json::{Value, json};

    fn request(over: &Value) -> JoiningRequest {
        let whole = json!({
            "id": "0199a000-0000-7000-8000-000000000001", "name": "kiosk-auken-1", "fingerprint": "4c1f-92aa",
            "requested_at": "2026-11-23T06:40:00Z", "address": "192.0.2.31", "invited_by": "tor.havik", "known_as": null, "revoked_since": null,
            "labels": { "site": "auken", "role": "kiosk" },
            "about": { "os.name": "debian", "os.version": "12", "arch": "x86_64", "init": "systemd", "memory.mib": 2048 },
        });
        answered(whole, over)
    }

    #[test]
    fn a_request_shows_what_is_compared_before_it_is_approved() {
        insta::assert_snapshot!(shown(&request(&json!({}))), @"
        kiosk-auken-1   asked 2026-11-23 06:40:00 UTC from 192.0.2.31, invited by tor.havik
           fingerprint  4c1f-92aa
           about  debian, 12, x86_64, systemd
           labels  role=kiosk site=auken
           id  0199a000-0000-7000-8000-000000000001
        ");
        insta::assert_snapshot!(shown(&request(&json!({
            "name_used_by": { "joined_at": "2026-11-01T08:00:00Z", "fingerprint": "77aa-10b2", "last_contact": "2026-11-22T21:10:00Z", "revoked_since": null },
            "about": {} }))), @"
        kiosk-auken-1   asked 2026-11-23 06:40:00 UTC from 192.0.2.31, invited by tor.havik
           this name is in use by a node that joined 2026-11-01 08:00:00 UTC, last checked in 2026-11-22 21:10:00 UTC
           its key      77aa-10b2
           approve with --as if this is that node on a new machine, with --name if it is another
           fingerprint  4c1f-92aa
           about  nothing reported
           labels  role=kiosk site=auken
           id  0199a000-0000-7000-8000-000000000001
        ");
        insta::assert_snapshot!(shown(&request(&json!({ "revoked_since": "2026-11-20T10:00:00Z" }))), @"
        kiosk-auken-1   asked 2026-11-23 06:40:00 UTC from 192.0.2.31, the revoked node of this name (since 2026-11-20 10:00:00 UTC) with its old key; if approved, it is that node again
           fingerprint  4c1f-92aa
           about  debian, 12, x86_64, systemd
           labels  role=kiosk site=auken
           id  0199a000-0000-7000-8000-000000000001
        ");
        insta::assert_snapshot!(shown(&request(&json!({ "invited_by": null }))), @"
        kiosk-auken-1   asked 2026-11-23 06:40:00 UTC from 192.0.2.31, the node of this name with its old key, after its certificate ended
           fingerprint  4c1f-92aa
           about  debian, 12, x86_64, systemd
           labels  role=kiosk site=auken
           id  0199a000-0000-7000-8000-000000000001
        ");
    }
}
