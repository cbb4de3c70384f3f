//! Putting back what a run changed if it cut the way to the server.

use super::{Daemon, PATIENCE, settings};
use crate::error::{AgentError, ServerSeen};
use crate::served::SERVED_STORE;
use crate::server_link::ServerLink;
use crate::way;
use constans_host::Host;
use log::Level;
use std::path::Path;
use std::time::{Duration, Instant};

/// How long is waited between two tries to reach a server after a change that may have cut the way to it.
const WAY_PAUSE: Duration = Duration::from_secs(3);

impl<H: Host> Daemon<H> {
    /// If something of network or access was changed since a server answered last: waits until one answers again, whatever it
    /// says, and puts the change back if none does within the set time. It asks on a connection of its own: one that is open
    /// already may outlast a change that lets no new one through.
    pub(super) async fn guard_way(&mut self) -> Result<(), AgentError> {
        if !way::is_at_risk(&self.state_dir) {
            return Ok(());
        }
        let reach_within = self
            .reach_within
            .unwrap_or_else(|| Duration::from_secs(settings(&self.state_dir).reach_within_secs));
        let end = Instant::now() + reach_within;
        let mut is_first = true;
        let seen = loop {
            let connect = self.connect.clone();
            let link = ServerLink::open_by(&*connect, &self.state_dir, None).await;
            let seen = match self.ask(&link, self.due.check_in).await {
                Ok(_) => ServerSeen::Answering,
                Err(error) => error.server,
            };
            if seen == ServerSeen::Answering || seen.is_dismissal() {
                way::reached(&self.state_dir);
                return Ok(());
            }
            if is_first {
                let waiting = format!(
                    "connection to the server lost after a change; waiting {} s before reverting it",
                    reach_within.as_secs()
                );
                self.journal.say(Level::Warn, &waiting);
            }
            is_first = false;
            if Instant::now() >= end {
                break seen;
            }
            tokio::time::sleep(WAY_PAUSE).await;
        };
        if seen == ServerSeen::Nothing {
            self.journal.say(
                Level::Error,
                "the connection could not be tested, so nothing is reverted; the next check-in shows whether the server is reachable",
            );
            return Ok(());
        }
        let _lock = self.state_dir.lock("daemon", PATIENCE, |_| ())?;
        let put_back = way::put_all_back(
            &self.state_dir,
            &mut self.host,
            &self.state_dir.key()?,
            Path::new(SERVED_STORE),
        )?;
        for address in &put_back.done {
            self.journal.say(Level::Warn, &format!("reverted: {address}"));
        }
        for why in &put_back.not_done {
            self.journal.say(Level::Error, &format!("NOT reverted: {why}"));
        }
        Ok(())
    }
}
