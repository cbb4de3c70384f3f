//! The network part of the agent: a separate process without rights.
//!
//! It is given the server's fingerprint and the node's certificate and key over a pipe, can read nothing of the agent's
//! folder, can write no file at all, and can gain no rights. What it brings is checked by the part that acts: contents
//! against their digests, states against theirs, generations against what was there before.

use crate::error::AgentError;
use constans_link::{Apart, Identity, LinkError, Network, serve};
use constans_wire::exit::Exit;
use rustix::process::{Resource, Rlimit, geteuid, setrlimit};
use rustix::thread::{Gid, Uid, set_no_new_privs, set_thread_groups, set_thread_res_gid, set_thread_res_uid};
use std::io;
use std::pin::Pin;
use tokio::process::Command;

/// The account that packages make for it.
const ACCOUNT: &str = "constans-network";
/// The system's account without rights, if there is no such account.
const NOBODY: (u32, u32) = (65_534, 65_534);

/// How an agent comes to speak with its servers.
pub trait Connect: Send + Sync {
    /// Prepares the way to the servers whose CA has this fingerprint.
    fn connect<'a>(&'a self, fingerprint: &'a str, identity: Option<Identity<'a>>) -> Connected<'a>;
}

/// The way to servers, once it is prepared.
pub type Connected<'a> = Pin<Box<dyn Future<Output = Result<Network, LinkError>> + Send + 'a>>;

/// Speaks through the network part.
pub struct ThroughNetworkPart;

impl Connect for ThroughNetworkPart {
    fn connect<'a>(&'a self, fingerprint: &'a str, identity: Option<Identity<'a>>) -> Connected<'a> {
        Box::pin(async move { start(fingerprint, identity.as_ref()).await })
    }
}

/// Starts the network part. If the agent has root's rights, it gives them up before it reads anything.
///
/// # Errors
///
/// Returns why it could not be started.
pub async fn start(fingerprint: &str, identity: Option<&Identity<'_>>) -> Result<Network, LinkError> {
    // The program that runs, even if another version was installed over it meanwhile.
    let mut command = Command::new("/proc/self/exe");
    command.arg("network-part");
    if geteuid().is_root() {
        let (uid, gid) = account();
        command.args(["--uid", &uid.to_string(), "--gid", &gid.to_string()]);
    }
    Apart::start(command, fingerprint, identity).await.map(Network::over)
}

/// Returns the account of the network part on this machine, with its group.
fn account() -> (u32, u32) {
    let known = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let of_line = |line: &str| {
        let fields: Vec<&str> = line.split(':').collect();
        let ids = (fields.get(2)?.parse::<u32>().ok()?, fields.get(3)?.parse::<u32>().ok()?);
        (fields[0] == ACCOUNT && ids.0 > 0 && ids.1 > 0).then_some(ids)
    };
    known.lines().find_map(of_line).unwrap_or(NOBODY)
}

/// Lives as the network part, first giving up all rights for an account, if one is given.
///
/// # Errors
///
/// Returns which rights it could not give up; it then has sent nothing.
pub fn live(account: Option<(u32, u32)>) -> Result<Exit, AgentError> {
    let failed = |what: &str| {
        let what = what.to_owned();
        move |error: io::Error| AgentError::new(format!("the network part {what}: {error}"))
    };
    give_up_rights(account).map_err(failed("cannot give up its rights"))?;
    let runtime =
        tokio::runtime::Builder::new_current_thread().enable_all().build().map_err(failed("cannot begin"))?;
    runtime.block_on(serve()).map_err(failed("received invalid arguments"))?;
    // What it waits for may be a thread that asks for a name: nobody wants that any more.
    runtime.shutdown_background();
    Ok(Exit::Well)
}

/// Gives up all rights. There is one thread yet: what counts for it counts for all that come.
fn give_up_rights(account: Option<(u32, u32)>) -> io::Result<()> {
    if let Some((uid, gid)) = account {
        let (uid, gid) = (Uid::from_raw(uid), Gid::from_raw(gid));
        set_thread_groups(&[])?;
        set_thread_res_gid(gid, gid, gid)?;
        set_thread_res_uid(uid, uid, uid)?;
    }
    if account.is_some() && geteuid().is_root() {
        return Err(io::Error::other("it still has root's rights"));
    }
    set_no_new_privs(true)?;
    for resource in [Resource::Core, Resource::Fsize] {
        setrlimit(resource, Rlimit { current: Some(0), maximum: Some(0) })?;
    }
    Ok(())
}
