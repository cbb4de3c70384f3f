//! Joining a fleet, and checking in.

use crate::command_line::{JoinArguments, Output};
use crate::error::{AgentError, ServerSeen};
use crate::freezes;
use crate::local::state_dir;
use crate::membership::{Membership, NodeKey};
use crate::network_part::{Connect, ThroughNetworkPart};
use crate::served::{Served, Takeover};
use crate::server_link::{CheckInContents, ServerLink, next_promised};
use crate::state_dir::StateDir;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use constans_host::{Host, Machine};
use constans_link::LinkError;
use constans_wire::exit::Exit;
use constans_wire::join::{INVITATION_FORM, Invitation, JoinAnswer, JoinRequest};
use serde_json::json;
use std::io::Read as _;
use std::time::{Duration, Instant};

/// Joins the fleet that an invitation leads to.
///
/// # Errors
///
/// Returns what is wrong with the invitation, or why the server did not answer.
pub async fn join(arguments: &JoinArguments) -> Result<Exit, AgentError> {
    let state_dir = state_dir(&arguments.place.root, arguments.place.state_dir.as_ref())?;
    let before = Membership::read(&state_dir)?;
    let dismissed = before.as_ref().and_then(|membership| membership.dismissed.clone());
    // A node that was revoked asks to be itself again, whatever it would like to be called.
    let revoked_as = before
        .as_ref()
        .filter(|_| dismissed.as_ref().is_some_and(|dismissed| !dismissed.is_retired))
        .map(|node| node.name.clone());
    if let Some(membership) = before.filter(|_| !arguments.again && dismissed.is_none()) {
        return Err(AgentError::new(format!(
            "this machine already belongs to a fleet, as {}",
            membership.name
        ))
        .hint("constans-agent check-in tests the connection; --again joins with another invitation")
        .exit(Exit::Refused));
    }
    let invitation = read_invitation(&arguments.invitation)?;
    let machine = Machine::open(&arguments.place.root, &state_dir.scratch())?;
    if dismissed.is_some_and(|dismissed| dismissed.is_retired) {
        // A node that was retired is no more: this machine becomes another.
        NodeKey::forget(&state_dir);
    }
    let mut key = NodeKey::open(&state_dir)?;
    let name =
        revoked_as.or_else(|| arguments.name.clone()).unwrap_or_else(|| machine.acted_on.machine.clone());
    let mut joining_request = request(&invitation, &key, &machine, &name)?;
    let mut has_new_key = false;
    let patience = Instant::now() + Duration::from_secs(arguments.wait);
    let mut has_printed = false;
    loop {
        let (url, answer) = match ask(&ThroughNetworkPart, &invitation, &joining_request).await {
            // It did not hear yet that it was retired: it becomes another node, with another key.
            Err(error) if error.server == ServerSeen::Retiring && !has_new_key => {
                NodeKey::forget(&state_dir);
                key = NodeKey::open(&state_dir)?;
                joining_request = request(&invitation, &key, &machine, &name)?;
                has_new_key = true;
                continue;
            }
            answered => answered?,
        };
        match answer {
            JoinAnswer::Approved { node, name, certificate, renew_after, ends_at } => {
                let urls = first_of_all(&url, &invitation);
                let membership = Membership {
                    urls,
                    ca: invitation.ca.clone(),
                    node,
                    name,
                    certificate,
                    renew_after,
                    ends_at,
                    mark: None,
                    dismissed: None,
                };
                membership.keep(&state_dir)?;
                // Those of another fleet do not hold here, and those of this one come with the first check-in.
                freezes::forget(&state_dir);
                return check_in(&state_dir, &machine, arguments.output).await;
            }
            JoinAnswer::Denied { because } => {
                return Err(AgentError::new(format!("an operator denied it: {because}"))
                    .hint("ask the operator; to join after a denial the machine needs a new key: delete node.key")
                    .exit(Exit::Refused));
            }
            JoinAnswer::Waiting { request } => {
                if !has_printed && arguments.output == Output::Text {
                    println!("waiting for approval as {name}, key fingerprint {}", key.fingerprint);
                    println!("request {request} at {url}");
                    println!(
                        "Next: an operator compares the fingerprint and approves: constans join approve {name}"
                    );
                }
                has_printed = true;
                if Instant::now() >= patience {
                    match arguments.output {
                        Output::Text => {
                            println!("not approved yet; run the same command again to see the decision");
                        }
                        Output::Json => {
                            say(
                                &json!({ "state": "waiting", "name": name, "fingerprint": key.fingerprint, "request": request, "server": url }),
                            );
                        }
                    }
                    return Ok(Exit::Error);
                }
                tokio::time::sleep(Duration::from_secs(2)).await;
            }
        }
    }
}

/// Returns the request of a machine that wants to join under a name.
///
/// # Errors
///
/// Returns why its certificate request cannot be made, or what cannot be found out about it.
pub fn request(
    invitation: &Invitation,
    key: &NodeKey,
    host: &dyn Host,
    name: &str,
) -> Result<JoinRequest, AgentError> {
    Ok(JoinRequest {
        invitation: invitation.id,
        secret: invitation.secret.clone(),
        name: name.to_owned(),
        request: key.request()?,
        about: host.about()?,
        agent: env!("CARGO_PKG_VERSION").to_owned(),
    })
}

/// Returns the URLs of an invitation, beginning with the one that answered.
pub fn first_of_all(answered: &str, invitation: &Invitation) -> Vec<String> {
    let mut urls = invitation.urls.clone();
    urls.sort_by_key(|known| known != answered);
    urls
}

/// Asks at each URL of the invitation until one answers.
///
/// # Errors
///
/// Returns why no server answered, or what it refused.
pub async fn ask(
    connect: &dyn Connect,
    invitation: &Invitation,
    joining_request: &JoinRequest,
) -> Result<(String, JoinAnswer), AgentError> {
    let network = connect.connect(&invitation.ca, None).await?;
    let mut last = None;
    for url in &invitation.urls {
        match network.post(&format!("{url}/join"), joining_request).await {
            Ok(answer) => return Ok((url.clone(), answer)),
            Err(error @ LinkError::NotReached { .. }) => last = Some(error),
            Err(error) => return Err(error.into()),
        }
    }
    Err(last.map_or_else(|| AgentError::new("the invitation names no server"), AgentError::from))
}

fn read_invitation(from: &str) -> Result<Invitation, AgentError> {
    let unreadable = |error: std::io::Error| {
        AgentError::new(format!("the invitation cannot be read from {from}: {error}"))
            .hint("name the file with the invitation, or - for standard input")
    };
    let mut text = String::new();
    if from == "-" {
        std::io::stdin().read_to_string(&mut text).map_err(unreadable)?;
    } else {
        text = std::fs::read_to_string(from).map_err(unreadable)?;
    }
    parse_invitation(&text, from)
}

/// Reads an invitation's line; `from` says in messages where it comes from.
///
/// # Errors
///
/// Returns that it is none, or of another form.
pub fn parse_invitation(text: &str, from: &str) -> Result<Invitation, AgentError> {
    let decoded = URL_SAFE_NO_PAD
        .decode(text.trim())
        .ok()
        .and_then(|bytes| serde_json::from_slice::<Invitation>(&bytes).ok());
    let invitation = decoded.ok_or_else(|| {
        AgentError::new(format!("{from} contains no invitation")).hint(
            "an invitation is one line, printed by constans invite; check that it was copied completely",
        )
    })?;
    if invitation.form != INVITATION_FORM {
        return Err(AgentError::new(format!(
            "the invitation has format {}, and this agent reads format {INVITATION_FORM}",
            invitation.form
        ))
        .hint("use an agent of the server's version"));
    }
    Ok(invitation)
}

/// Checks in once: receives what is new and delivers what waits.
///
/// # Errors
///
/// Returns that the machine belongs to no fleet, or why the server did not answer.
pub async fn check_in(state_dir: &StateDir, machine: &Machine, output: Output) -> Result<Exit, AgentError> {
    let contents = CheckInContents::of(state_dir, machine, next_promised(state_dir)?)?;
    let checked_in = ServerLink::open(state_dir).await?.check_in(state_dir, contents).await?;
    let is_nothing = Served::read(state_dir)?.is_none_or(|served| served.state.clauses.is_empty());
    let (word, words) = match checked_in.takeover {
        None if checked_in.recovering => {
            ("recovering", "the server is recovering: the desired state stays as it was")
        }
        None => ("nothing", "no desired state yet"),
        Some(_) if is_nothing => ("nothing", "no desired state yet"),
        Some(Takeover::Unchanged) => ("unchanged", "the desired state is already here"),
        Some(Takeover::New) => {
            ("new", "new desired state received\nNext: constans-agent observe shows what it would change")
        }
    };
    for failed in &checked_in.failed {
        eprintln!("error: {}", failed.line());
    }
    match output {
        Output::Text => println!("connected to {} as {}\n{words}", checked_in.url, checked_in.name),
        Output::Json => say(
            &json!({ "state": "connected", "server": checked_in.url, "name": checked_in.name, "wanted": word }),
        ),
    }
    Ok(if checked_in.failed.is_empty() { Exit::Well } else { Exit::Error })
}

fn say(result: &serde_json::Value) {
    println!("{}", serde_json::to_string_pretty(result).expect("it is JSON"));
}
