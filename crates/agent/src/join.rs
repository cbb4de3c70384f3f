//! Asking to join a fleet, and checking in.

use crate::command_line::Output;
use crate::error::{AgentError, ServerSeen};
use crate::freezes;
use crate::joining::Joining;
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
use uuid::Uuid;

/// A request that is asked about.
pub struct JoinAttempt {
    /// The request.
    pub joining: Joining,
    is_kept: bool,
}

/// What a question led to.
pub enum Asked {
    /// An operator has not decided yet.
    Waiting {
        /// The request.
        request: Uuid,
        /// The server that has it.
        url: String,
    },
    /// The machine is a node.
    Joined,
}

impl JoinAttempt {
    /// Goes on with a request, or begins one.
    pub fn of(joining: Joining) -> Self {
        Self { joining, is_kept: false }
    }

    /// Asks once; what is decided is kept.
    ///
    /// # Errors
    ///
    /// Returns why no server answered, or what it refused.
    pub async fn ask(&mut self, state_dir: &StateDir, host: &dyn Host) -> Result<Asked, AgentError> {
        let (url, answer) = match self.ask_as_is(state_dir, host).await {
            // It did not hear yet that it was retired: it becomes another node, with another key.
            Err(error) if error.server == ServerSeen::Retiring => {
                NodeKey::forget(state_dir);
                self.ask_as_is(state_dir, host).await?
            }
            answered => answered?,
        };
        match answer {
            JoinAnswer::Approved { node, name, certificate, renew_after, ends_at } => {
                let membership = Membership {
                    urls: first_of_all(&url, &self.joining.invitation),
                    ca: self.joining.invitation.ca.clone(),
                    node,
                    name,
                    certificate,
                    renew_after,
                    ends_at,
                    mark: None,
                    dismissed: None,
                };
                membership.keep(state_dir)?;
                Joining::forget(state_dir);
                // Those of another fleet do not hold here, and those of this one come with the first check-in.
                freezes::forget(state_dir);
                Ok(Asked::Joined)
            }
            JoinAnswer::Denied { because } => {
                Joining::forget(state_dir);
                Err(AgentError::new(format!("an operator denied it: {because}"))
                    .hint("ask the operator; to join after a denial the machine needs a new key: delete node.key")
                    .exit(Exit::Refused))
            }
            JoinAnswer::Waiting { request } => {
                if !self.is_kept {
                    self.joining.keep(state_dir)?;
                    self.is_kept = true;
                }
                Ok(Asked::Waiting { request, url })
            }
        }
    }

    async fn ask_as_is(
        &mut self,
        state_dir: &StateDir,
        host: &dyn Host,
    ) -> Result<(String, JoinAnswer), AgentError> {
        let key = NodeKey::open(state_dir)?;
        self.joining.fingerprint.clone_from(&key.fingerprint);
        let sent = request(&self.joining.invitation, &key, host, &self.joining.name)?;
        ask(&ThroughNetworkPart, &self.joining.invitation, &sent).await
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

/// Prints a result for programs.
pub(crate) fn say(result: &serde_json::Value) {
    println!("{}", serde_json::to_string_pretty(result).expect("it is JSON"));
}
