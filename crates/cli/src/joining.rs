//! `constans invite` and `constans join`.

use crate::error::ClientError;
use crate::server::{Server, ServerArguments, labels};
use clap::{Args, Subcommand};
use constans_core::kind::duration_secs;
use constans_core::nearest::nearest_word;
use constans_core::words::read_label;
use constans_terminal::harmless;
use constans_wire::join::{Approve, Deny, JoiningRequest, MadeInvitation, NewInvitation, OpenInvitation};
use jiff::Timestamp;
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};

/// Arguments of `invite`.
#[derive(Debug, Args)]
pub struct InviteArguments {
    #[command(flatten)]
    server: ServerArguments,
    /// Validity, for example 24h
    #[arg(long = "for", value_name = "TIME", default_value = "24h", value_parser = duration)]
    for_secs: u64,
    /// How many nodes may use it
    #[arg(long, value_name = "N", default_value_t = 1)]
    uses: u32,
    /// A label of the nodes that use it; repeat it for several
    #[arg(long = "label", value_name = "KEY=VALUE", value_parser = read_label)]
    labels: Vec<(String, String)>,
}

/// Arguments of `invitation`.
#[derive(Debug, Args)]
pub struct InvitationArguments {
    #[command(subcommand)]
    command: InvitationCommand,
}

#[derive(Debug, Subcommand)]
enum InvitationCommand {
    /// List open invitations
    List {
        #[command(flatten)]
        server: ServerArguments,
    },
    /// Withdraw an invitation: it can no longer be used
    Withdraw {
        #[command(flatten)]
        server: ServerArguments,
        /// Its id
        id: String,
    },
}

/// Lists or withdraws invitations.
pub async fn invitation(arguments: &InvitationArguments) -> Result<(), ClientError> {
    match &arguments.command {
        InvitationCommand::List { server } => list_invitations(&Server::open(server)?).await,
        InvitationCommand::Withdraw { server, id } => {
            let server = Server::open(server)?;
            let withdrawn: bool = server
                .delete(&format!("/api/invitations/{}", utf8_percent_encode(id, NON_ALPHANUMERIC)))
                .await?;
            if !server.says_json(&withdrawn) {
                println!(
                    "the invitation {id} was withdrawn; joining requests made with it stay: constans join list"
                );
            }
            Ok(())
        }
    }
}

async fn list_invitations(server: &Server) -> Result<(), ClientError> {
    let open: Vec<OpenInvitation> = server.get_all("/api/invitations").await?;
    if server.says_json(&open) {
        return Ok(());
    }
    if open.is_empty() {
        println!("no open invitations\nNext: constans invite creates one for a new node");
        return Ok(());
    }
    for invitation in &open {
        let at = |at: Timestamp| at.strftime("%Y-%m-%d %H:%M UTC").to_string();
        println!(
            "{}   {} of {} uses left, until {}   made by {} {}\n   labels  {}",
            invitation.id,
            invitation.uses_left,
            invitation.uses,
            at(invitation.expires_at),
            harmless(&invitation.made_by),
            at(invitation.made_at),
            labels(&invitation.labels),
        );
    }
    println!("Next: constans invitation withdraw ID");
    Ok(())
}

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
    },
    /// Approve a request: the machine becomes a node
    Approve {
        #[command(flatten)]
        server: ServerArguments,
        /// The name or id of the request
        request: String,
        /// Approve it as this known node on a new machine; older keys of the node are refused from then on
        #[arg(long = "as", value_name = "NODE")]
        as_node: Option<String>,
    },
    /// Deny a request
    Deny {
        #[command(flatten)]
        server: ServerArguments,
        /// The name or id of the request
        request: String,
        /// The reason; the node receives it
        #[arg(long, value_name = "REASON")]
        because: String,
    },
}

/// Reads a time as it is written on a command line.
pub fn duration(text: &str) -> Result<u64, String> {
    duration_secs(text).ok_or_else(|| "write it as 30m, 24h or 7d".to_owned())
}

/// Makes an invitation; its one line goes to standard output, all else to standard error.
pub async fn invite(arguments: &InviteArguments) -> Result<(), ClientError> {
    let wanted = NewInvitation {
        for_secs: arguments.for_secs,
        uses: arguments.uses,
        labels: arguments.labels.iter().cloned().collect(),
    };
    let server = Server::open(&arguments.server)?;
    let made: MadeInvitation = server.post("/api/invitations", &wanted).await?;
    if server.says_json(&made) {
        return Ok(());
    }
    println!("{}", made.text);
    let nodes = if arguments.uses == 1 { "one node".to_owned() } else { format!("{} nodes", arguments.uses) };
    eprintln!(
        "invitation {} for {nodes}, until {}; it is shown once; anyone who has it can ask to join",
        made.id,
        made.expires_at.strftime("%Y-%m-%d %H:%M UTC")
    );
    eprintln!("Next, on the node: constans-agent join --invitation FILE");
    Ok(())
}

/// Lists, approves or denies.
pub async fn run(arguments: &JoinArguments) -> Result<(), ClientError> {
    match &arguments.command {
        JoinCommand::List { server } => list(&Server::open(server)?).await,
        JoinCommand::Approve { server, request, as_node } => {
            approve(&Server::open(server)?, request, as_node.clone()).await
        }
        JoinCommand::Deny { server, request, because } => {
            deny(&Server::open(server)?, request, because).await
        }
    }
}

async fn list(server: &Server) -> Result<(), ClientError> {
    let waiting: Vec<JoiningRequest> = server.get_all("/api/joining-requests").await?;
    if server.says_json(&waiting) {
        return Ok(());
    }
    if waiting.is_empty() {
        println!("no joining requests\nNext: constans invite creates an invitation for a new node");
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
    let in_use = if request.name_in_use {
        "\n   this name is in use: approve with --as if this is that node on a new machine"
    } else {
        ""
    };
    let origin = match (&request.invited_by, request.revoked_since) {
        (_, Some(since)) => format!(
            "the revoked node of this name (since {}) with its old key; if approved, it is that node again",
            since.strftime("%Y-%m-%d %H:%M UTC")
        ),
        (Some(person), None) => format!("invited by {}", harmless(person)),
        (None, None) => "the node of this name with its old key, after its certificate ended".to_owned(),
    };
    format!(
        "{}   asked {} from {}, {}{in_use}\n   fingerprint  {}\n   about  {}\n   labels  {}\n   id  {}\n",
        harmless(&request.name),
        request.requested_at.strftime("%Y-%m-%d %H:%M:%S UTC"),
        request.address,
        origin,
        request.fingerprint,
        says,
        labels(&request.labels),
        request.id,
    )
}

async fn approve(server: &Server, wanted: &str, as_node: Option<String>) -> Result<(), ClientError> {
    let request = find(server, wanted).await?;
    let name: String =
        server.post(&format!("/api/joining-requests/{}/approve", request.id), &Approve { as_node }).await?;
    if server.says_json(&name) {
        return Ok(());
    }
    println!("{name} is approved; its key is {}", request.fingerprint);
    println!("Next: constans node list shows its first contact");
    Ok(())
}

async fn deny(server: &Server, wanted: &str, because: &str) -> Result<(), ClientError> {
    let request = find(server, wanted).await?;
    let name: String = server
        .post(&format!("/api/joining-requests/{}/deny", request.id), &Deny { because: because.to_owned() })
        .await?;
    if !server.says_json(&name) {
        println!("{} was denied", harmless(&name));
    }
    Ok(())
}

/// Finds the waiting request by its name or id.
async fn find(server: &Server, wanted: &str) -> Result<JoiningRequest, ClientError> {
    let waiting: Vec<JoiningRequest> = server.get_all("/api/joining-requests").await?;
    let mut fitting: Vec<&JoiningRequest> =
        waiting.iter().filter(|request| request.name == wanted || request.id.to_string() == wanted).collect();
    match (fitting.pop(), fitting.is_empty()) {
        (Some(one), true) => Ok(one.clone()),
        (Some(_), false) => Err(ClientError::new(
            format!("several requests have the name {wanted}"),
            "name it by its id: constans join list shows them with their fingerprints",
        )),
        (None, _) => {
            let near = nearest_word(wanted, waiting.iter().map(|request| request.name.as_str()));
            let hint = near.map_or_else(
                || "constans join list shows the waiting requests".to_owned(),
                |near| format!("did you mean `{near}`?"),
            );
            Err(ClientError::new(format!("no waiting request has the name or id {wanted}"), hint))
        }
    }
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
            "name_in_use": false, "labels": { "site": "auken", "role": "kiosk" },
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
        insta::assert_snapshot!(shown(&request(&json!({ "name_in_use": true, "about": {} }))), @"
        kiosk-auken-1   asked 2026-11-23 06:40:00 UTC from 192.0.2.31, invited by tor.havik
           this name is in use: approve with --as if this is that node on a new machine
           fingerprint  4c1f-92aa
           about  nothing reported
           labels  role=kiosk site=auken
           id  0199a000-0000-7000-8000-000000000001
        ");
        insta::assert_snapshot!(shown(&request(&json!({ "revoked_since": "2026-11-20T10:00:00Z" }))), @"
        kiosk-auken-1   asked 2026-11-23 06:40:00 UTC from 192.0.2.31, the revoked node of this name (since 2026-11-20 10:00 UTC) with its old key; if approved, it is that node again
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
