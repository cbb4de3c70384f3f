//! Services by runit, where it runs beside or instead of systemd.

use crate::error::HostError;
use crate::files::{EntryKind, Files, Ownership};
use crate::native::Native;
use crate::services::{ServiceFound, Services};
use constans_core::kind::Reaction;
use constans_core::run::NativeStep;
use jiff::{SignedDuration, Timestamp};
use std::time::{Duration, Instant};

/// Where services are described, each by a folder.
const DESCRIBED: &str = "/etc/sv";
/// Where the supervisor looks for those that it runs: a link each.
const SUPERVISED: &str = "/etc/service";
/// How often the supervisor looks for new ones is 5 s; a little more is waited for.
const SUPERVISOR_PATIENCE: Duration = Duration::from_secs(8);

/// runit, by sv(8). A service is started at boot if it is supervised and has no file `down`.
pub struct Runit {
    files: Files,
}

impl Runit {
    /// Returns runit below a root.
    pub fn new(files: Files) -> Self {
        Self { files }
    }

    /// Returns whether runit is there.
    ///
    /// # Errors
    ///
    /// Returns why that could not be seen.
    pub fn is_there(&self) -> Result<bool, HostError> {
        Ok(self.files.look(SUPERVISED)?.is_some() && self.files.look(DESCRIBED)?.is_some())
    }

    fn is_supervised(&self, name: &str) -> Result<bool, HostError> {
        Ok(self.files.look(&format!("{SUPERVISED}/{name}"))?.is_some())
    }

    fn control(arguments: &[&str]) -> Result<NativeStep, HostError> {
        Native::new("sv", arguments)
            .must()
            .map(|ended| ended.step)
            .map_err(|error| error.remedy("see sv status, and check that its supervisor (runsvdir) runs"))
    }

    /// Has the service supervised, and waits until it is.
    fn supervise(&self, name: &str) -> Result<(), HostError> {
        if !self.is_supervised(name)? {
            self.files.make_link(&format!("{SUPERVISED}/{name}"), &format!("{DESCRIBED}/{name}"))?;
        }
        let end = Instant::now() + SUPERVISOR_PATIENCE;
        while !Native::new("sv", ["status", name]).run()?.is_well {
            if Instant::now() > end {
                return Err(HostError::new(format!("the supervisor did not load {name}"))
                    .remedy("is runsvdir running on /etc/service?"));
            }
            std::thread::sleep(Duration::from_millis(200));
        }
        Ok(())
    }

    /// Says by the file `down` whether the service is started with its supervisor.
    fn set_down(&self, name: &str, down: bool) -> Result<(), HostError> {
        let path = format!("{DESCRIBED}/{name}/down");
        match (self.files.look(&path)?.is_some(), down) {
            (false, true) => self.files.replace(&path, b"", Ownership::default(), |_| Ok(())),
            (true, false) => self.files.remove(&path, EntryKind::File),
            _ => Ok(()),
        }
    }
}

/// Reads for how long a service runs from what `sv status` prints, as `run: kiosk-shell: (pid 12) 34s`.
fn running_secs(text: &str) -> Option<SignedDuration> {
    let secs = text.strip_prefix("run:")?.split(')').nth(1)?.trim_start().split('s').next()?;
    Some(SignedDuration::from_secs(secs.parse::<u32>().ok()?.into()))
}

impl Services for Runit {
    fn inspect(&mut self, name: &str) -> Result<ServiceFound, HostError> {
        let is_known = self.files.look(&format!("{DESCRIBED}/{name}"))?.is_some();
        let is_supervised = self.is_supervised(name)?;
        let is_down = self.files.look(&format!("{DESCRIBED}/{name}/down"))?.is_some();
        let (running, since, native) = match is_supervised {
            true => {
                let ended = Native::new("sv", ["status", name]).run()?;
                (
                    ended.stdout.starts_with("run:"),
                    running_secs(&ended.stdout).map(|secs| Timestamp::now() - secs),
                    vec![ended.step],
                )
            }
            false => (false, None, Vec::new()),
        };
        Ok(ServiceFound { is_known, running, enabled: Ok(is_supervised && !is_down), since, native })
    }

    fn set_running(&mut self, name: &str, running: bool) -> Result<NativeStep, HostError> {
        if running && !self.is_supervised(name)? {
            // Supervised for now, and not with the next boot: that is what `enabled` says.
            self.set_down(name, true)?;
            self.supervise(name)?;
        }
        Self::control(&["-w", "10", if running { "start" } else { "stop" }, name])
    }

    fn set_enabled(&mut self, name: &str, enabled: bool) -> Result<NativeStep, HostError> {
        if self.files.look(&format!("{DESCRIBED}/{name}"))?.is_none() {
            return Err(HostError::new(format!("there is no service {DESCRIBED}/{name}"))
                .remedy("declare its package, and name it in `needs`"));
        }
        self.set_down(name, !enabled)?;
        if enabled {
            self.supervise(name)?;
        }
        let what = format!("{} the file {DESCRIBED}/{name}/down", if enabled { "remove" } else { "write" });
        Ok(NativeStep { what, exit: None, output: String::new() })
    }

    fn react(
        &mut self,
        name: &str,
        reaction: Reaction,
        wanted_running: bool,
    ) -> Result<NativeStep, HostError> {
        let verb = match (reaction, wanted_running || self.inspect(name)?.running) {
            (_, false) => {
                return Ok(NativeStep {
                    what: format!("leave {name}, which does not run"),
                    exit: None,
                    output: String::new(),
                });
            }
            (Reaction::Reload, true) => "reload",
            (_, true) => "restart",
        };
        Self::control(&["-w", "10", verb, name])
    }

    fn names(&mut self) -> Result<Vec<String>, HostError> {
        Ok(self.files.list(DESCRIBED)?.unwrap_or_default())
    }

    fn stand_in(&self) -> Option<String> {
        None
    }
}
