//! Joining a fleet, and checking in.

use crate::command_line::{JoinArguments, Output, Until};
use crate::daemon;
use crate::error::{AgentError, ServerSeen};
use crate::freezes;
use crate::kept_runs::KeptRuns;
use crate::local::state_dir;
use crate::membership::{Membership, NodeKey};
use crate::network_part::{Connect, ThroughNetworkPart};
use crate::served::{Served, Takeover};
use crate::server_link::{CheckInContents, ServerLink, next_promised};
use crate::state_dir::StateDir;
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use constans_core::run::Status;
use constans_host::{Host, Machine};
use constans_link::LinkError;
use constans_wire::exit::Exit;
use constans_wire::join::{INVITATION_FORM, Invitation, JoinAnswer, JoinRequest};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::json;
use std::path::Path;
use std::time::{Duration, Instant};
use uuid::Uuid;

/// How long is waited between two questions, while an operator decides.
const PAUSE: Duration = Duration::from_secs(2);

/// A request that an operator has not decided on yet. It is kept, so that a daemon or a later command goes on asking; the invitation's
/// secret with it, readable for root only, until it is decided.
#[derive(Serialize, Deserialize)]
pub struct Joining {
    invitation: Invitation,
    /// The name that it asks to have.
    pub name: String,
    /// The fingerprint of the key, to be compared by eye.
    pub fingerprint: String,
    /// Since when it waits.
    pub since: Timestamp,
    #[serde(skip)]
    is_kept: bool,
}

/// The file that it is kept in.
const JOINING: &str = "joining.json";

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

impl Joining {
    /// Returns the request that waits, if one does.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read.
    pub fn read(state_dir: &StateDir) -> Result<Option<Self>, AgentError> {
        state_dir.read_json(JOINING)
    }

    /// Begins to join with an invitation, under a name.
    ///
    /// # Errors
    ///
    /// Returns why the node's key cannot be made.
    pub fn begin(state_dir: &StateDir, invitation: Invitation, name: String) -> Result<Self, AgentError> {
        let fingerprint = NodeKey::open(state_dir)?.fingerprint;
        Ok(Self { invitation, name, fingerprint, since: state_dir.now(), is_kept: false })
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
                    urls: first_of_all(&url, &self.invitation),
                    ca: self.invitation.ca.clone(),
                    node,
                    name,
                    certificate,
                    renew_after,
                    ends_at,
                    mark: None,
                    dismissed: None,
                };
                membership.keep(state_dir)?;
                state_dir.remove(JOINING);
                // Those of another fleet do not hold here, and those of this one come with the first check-in.
                freezes::forget(state_dir);
                Ok(Asked::Joined)
            }
            JoinAnswer::Denied { because } => {
                state_dir.remove(JOINING);
                Err(AgentError::new(format!("an operator denied it: {because}"))
                    .hint("ask the operator; to join after a denial the machine needs a new key: delete node.key")
                    .exit(Exit::Refused))
            }
            JoinAnswer::Waiting { request } => {
                if !self.is_kept {
                    state_dir.write_json(JOINING, self)?;
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
        self.fingerprint.clone_from(&key.fingerprint);
        let sent = request(&self.invitation, &key, host, &self.name)?;
        ask(&ThroughNetworkPart, &self.invitation, &sent).await
    }
}

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
    let waiting = Joining::read(&state_dir)?.filter(|_| arguments.invitation_file.is_none());
    let invitation = match &waiting {
        Some(waiting) => waiting.invitation.clone(),
        None => read_invitation(arguments.invitation_file.as_deref())?,
    };
    let machine = Machine::open(&arguments.place.root, &state_dir.scratch())?;
    if dismissed.is_some_and(|dismissed| dismissed.is_retired) {
        // A node that was retired is no more: this machine becomes another.
        NodeKey::forget(&state_dir);
    }
    let name = revoked_as
        .or_else(|| arguments.name.clone())
        .or(waiting.map(|waiting| waiting.name))
        .unwrap_or_else(|| machine.acted_on.machine.clone());
    let mut joining = Joining::begin(&state_dir, invitation, name)?;
    let patience = Instant::now() + Duration::from_secs(arguments.wait);
    let mut has_printed = false;
    loop {
        let Asked::Waiting { request, url } = joining.ask(&state_dir, &machine).await? else { break };
        let Joining { name, fingerprint, .. } = &joining;
        if !has_printed && arguments.output == Output::Text {
            println!("waiting for approval as {name}, key fingerprint {fingerprint}");
            println!("request {request} at {url}");
            println!("Next: an operator compares the fingerprint and approves: constans join approve {name}");
        }
        has_printed = true;
        if Instant::now() >= patience {
            match arguments.output {
                Output::Text => {
                    println!("not approved yet; constans-agent join asks again, and the daemon by itself");
                }
                Output::Json => say(
                    &json!({ "state": "waiting", "name": name, "fingerprint": fingerprint, "request": request, "server": url }),
                ),
            }
            return Ok(Exit::Error);
        }
        tokio::time::sleep(PAUSE).await;
    }
    match arguments.until {
        Until::Joined => check_in(&state_dir, &machine, arguments.output).await,
        Until::InLine => {
            // Its result is that of the last run.
            let quiet = arguments.output == Output::Json;
            if !quiet {
                check_in(&state_dir, &machine, Output::Text).await?;
            }
            until_in_line(&state_dir, &arguments.place.root, patience, arguments.output).await
        }
    }
}

/// Checks in and runs until all is in line, or the time is over; tells each status once.
async fn until_in_line(
    state_dir: &StateDir,
    root: &Path,
    patience: Instant,
    output: Output,
) -> Result<Exit, AgentError> {
    let mut told = None;
    loop {
        let machine = Machine::open(root, &state_dir.scratch())?;
        daemon::run(state_dir, machine, true, None).await?;
        let has_clauses = Served::read(state_dir)?.is_some_and(|served| !served.state.clauses.is_empty());
        let last = KeptRuns::of(state_dir).all()?.into_iter().next().filter(|_| has_clauses);
        let status = last.map(|run| run.status);
        let is_in_line = status == Some(Status::InLine);
        let words = status.map_or("no desired state yet", Status::words);
        if output == Output::Text && told != Some(words) {
            println!("{words}");
        }
        told = Some(words);
        let is_over = Instant::now() >= patience;
        if is_in_line || is_over {
            if output == Output::Json {
                say(
                    &json!({ "state": if is_in_line { "in_line" } else { "not_in_line" }, "status": status }),
                );
            } else if is_over && !is_in_line {
                println!(
                    "not in line within the time; constans-agent runs shows why, and the daemon goes on"
                );
            }
            return Ok(match status {
                // What was put right just now is in line as of the next run.
                Some(status) if is_in_line || Exit::of_status(status) != Exit::Well => {
                    Exit::of_status(status)
                }
                _ => Exit::OutOfLine,
            });
        }
        // What was put right or rolled out is looked at again at once.
        if status.is_none_or(|status| Exit::of_status(status) != Exit::Well) {
            tokio::time::sleep(PAUSE_BETWEEN_RUNS).await;
        }
    }
}

/// How long is waited between two runs, while something is not in line.
const PAUSE_BETWEEN_RUNS: Duration = Duration::from_secs(10);

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

/// Reads the invitation from a file, from standard input, or from the terminal, which does not show it.
fn read_invitation(from: Option<&str>) -> Result<Invitation, AgentError> {
    let unreadable = |error: std::io::Error| {
        let place = from.unwrap_or("the terminal");
        AgentError::new(format!("the invitation cannot be read from {place}: {error}"))
            .hint("give --invitation-file with the file that has it, or - for standard input")
    };
    let text = match from {
        None => rpassword::prompt_password("invitation, as constans invite printed it (it is not shown): ")
            .map_err(unreadable)?,
        Some("-") => std::io::read_to_string(std::io::stdin()).map_err(unreadable)?,
        Some(file) => std::fs::read_to_string(file).map_err(unreadable)?,
    };
    parse_invitation(&text, from.unwrap_or("what was typed"))
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
