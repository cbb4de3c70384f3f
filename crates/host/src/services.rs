//! Services: systemd where it runs, elsewhere a small stand-in that says it is one.

use crate::error::HostError;
use crate::files::{Files, Ownership};
use crate::native::Native;
use constans_core::kind::Reaction;
use constans_core::run::NativeStep;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};

/// What was found of a service.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ServiceFound {
    /// Whether the service manager knows it.
    pub is_known: bool,
    /// Whether it runs.
    pub running: bool,
    /// Whether it is started at boot; or why that cannot be said or changed.
    pub enabled: Result<bool, String>,
    /// Since when it runs, if it does and that is known.
    pub since: Option<Timestamp>,
    /// How it was found out.
    pub native: Vec<NativeStep>,
}

/// What runs a node's services.
pub trait Services: Send {
    /// Looks at a service.
    ///
    /// # Errors
    ///
    /// Returns why the service manager did not answer.
    fn inspect(&mut self, name: &str) -> Result<ServiceFound, HostError>;
    /// Starts or stops it now.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    fn set_running(&mut self, name: &str, running: bool) -> Result<NativeStep, HostError>;
    /// Has it started at boot, or not.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    fn set_enabled(&mut self, name: &str, enabled: bool) -> Result<NativeStep, HostError>;
    /// Carries out a reaction. A service that is not running is started only if it is wanted running.
    ///
    /// # Errors
    ///
    /// Returns the command with its output.
    fn react(
        &mut self,
        name: &str,
        reaction: Reaction,
        wanted_running: bool,
    ) -> Result<NativeStep, HostError>;
    /// Returns the names of all services that are known.
    ///
    /// # Errors
    ///
    /// Returns why the service manager did not answer.
    fn names(&mut self) -> Result<Vec<String>, HostError>;
    /// Says what it is if it is a stand-in.
    fn stand_in(&self) -> Option<String>;
}

/// systemd, by systemctl.
pub struct Systemd;

impl Systemd {
    fn control(arguments: &[&str]) -> Result<NativeStep, HostError> {
        Native::new("systemctl", arguments).must().map(|ended| ended.step).map_err(with_remedy)
    }
}

impl Services for Systemd {
    fn inspect(&mut self, name: &str) -> Result<ServiceFound, HostError> {
        let unit = unit_of(name);
        let ended = Native::new(
            "systemctl",
            ["show", "--property=LoadState,ActiveState,UnitFileState,ActiveEnterTimestampMonotonic", &unit],
        )
        .must()?;
        match shown(&ended.stdout) {
            Some(found) => Ok(ServiceFound { native: vec![ended.step], ..found }),
            None => Err(HostError::new(format!("systemctl has no answer for {unit}")).command(ended.step)),
        }
    }

    fn set_running(&mut self, name: &str, running: bool) -> Result<NativeStep, HostError> {
        Self::control(&[if running { "start" } else { "stop" }, &unit_of(name)])
    }

    fn set_enabled(&mut self, name: &str, enabled: bool) -> Result<NativeStep, HostError> {
        Self::control(&[if enabled { "enable" } else { "disable" }, &unit_of(name)])
    }

    fn react(
        &mut self,
        name: &str,
        reaction: Reaction,
        wanted_running: bool,
    ) -> Result<NativeStep, HostError> {
        let verb = match (reaction, wanted_running) {
            (Reaction::Reload, true) => "reload-or-restart",
            (Reaction::Reload, false) => "try-reload-or-restart",
            (_, true) => "restart",
            (_, false) => "try-restart",
        };
        Self::control(&[verb, &unit_of(name)])
    }

    fn names(&mut self) -> Result<Vec<String>, HostError> {
        let ended = Native::new(
            "systemctl",
            ["list-unit-files", "--type=service", "--no-legend", "--no-pager", "--plain"],
        )
        .must()?;
        Ok(ended.stdout.lines().filter_map(listed).map(str::to_owned).collect())
    }

    fn stand_in(&self) -> Option<String> {
        None
    }
}

/// Reads what `systemctl show` prints of a unit; none if it says nothing: also of a unit that it does not know systemd says so.
fn shown(text: &str) -> Option<ServiceFound> {
    let value = |key: &str| {
        text.lines().find_map(|line| line.strip_prefix(key)?.strip_prefix('=')).unwrap_or_default()
    };
    let enabled = match value("UnitFileState") {
        "enabled" | "enabled-runtime" | "alias" => Ok(true),
        "disabled" | "masked" | "masked-runtime" | "" => Ok(false),
        other => Err(format!("systemd has this unit as `{other}`: it is not enabled by itself")),
    };
    let running = matches!(value("ActiveState"), "active" | "activating" | "reloading");
    let state = value("LoadState");
    // Microseconds since the machine was started; 0 if it never ran.
    let since = value("ActiveEnterTimestampMonotonic")
        .parse()
        .ok()
        .filter(|micros| running && *micros > 0)
        .map(wall_clock);
    (!state.is_empty()).then(|| ServiceFound {
        is_known: state == "loaded",
        running,
        enabled,
        since,
        native: Vec::new(),
    })
}

/// Returns the moment this many microseconds after the machine was started (CLOCK_MONOTONIC).
fn wall_clock(micros: u64) -> Timestamp {
    let now = rustix::time::clock_gettime(rustix::time::ClockId::Monotonic);
    let up = SignedDuration::new(now.tv_sec, i32::try_from(now.tv_nsec).unwrap_or(0));
    let ago = up - SignedDuration::from_micros(i64::try_from(micros).unwrap_or(i64::MAX));
    Timestamp::now().checked_sub(ago).unwrap_or(Timestamp::MAX)
}

/// Reads a line of `systemctl list-unit-files`. What ends with @ is a pattern for services, none itself; an alias is another
/// name of a unit that is listed itself.
fn listed(line: &str) -> Option<&str> {
    let mut words = line.split_whitespace();
    let (unit, state) = (words.next()?.strip_suffix(".service")?, words.next()?);
    (!unit.ends_with('@') && state != "alias").then_some(unit)
}

/// Any text as what systemctl prints.
#[cfg(feature = "fuzzing")]
pub fn fuzz(text: &str) {
    if let Some(found) = shown(text) {
        assert!(text.contains("LoadState="), "{found:?}");
    }
    for name in text.lines().filter_map(listed) {
        assert!(!name.contains(char::is_whitespace) && !name.ends_with('@'), "{name:?}");
    }
}

fn unit_of(name: &str) -> String {
    if name.contains('.') { name.to_owned() } else { format!("{name}.service") }
}

fn with_remedy(error: HostError) -> HostError {
    let output = error.command.as_ref().map(|command| command.output.to_lowercase()).unwrap_or_default();
    if output.contains("not found") || output.contains("does not exist") || output.contains("not loaded") {
        return error.remedy(
            "the service manager does not know this unit: declare its package, and name it in `needs`",
        );
    }
    error.remedy("see systemctl status and journalctl -u")
}

/// Where no service manager runs: the unit files are real, that they run is only noted.
pub struct StandIn {
    files: Files,
}

const UNIT_FOLDERS: [&str; 3] = ["/etc/systemd/system", "/lib/systemd/system", "/usr/lib/systemd/system"];

/// Where the stand-in notes what it is asked to do.
pub const STAND_IN_FOLDER: &str = "/run/constans-stand-in";

#[derive(Debug, Default, Serialize, Deserialize)]
struct Noted {
    running: bool,
    enabled: bool,
    starts: u64,
    restarts: u64,
    reloads: u64,
    /// When it was last started, or took up what had changed.
    #[serde(default)]
    since: Option<Timestamp>,
}

impl StandIn {
    /// Returns the stand-in for the services of these files.
    pub fn new(files: Files) -> Self {
        Self { files }
    }

    fn knows(&self, name: &str) -> Result<bool, HostError> {
        for folder in UNIT_FOLDERS {
            if self.files.look(&format!("{folder}/{}", unit_of(name)))?.is_some() {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn noted(&self, name: &str) -> Result<Noted, HostError> {
        let bytes = self.files.read(&note_path(name))?.unwrap_or_default();
        Ok(serde_json::from_slice(&bytes).unwrap_or_default())
    }

    fn note(&self, name: &str, what: &str, change: impl FnOnce(&mut Noted)) -> Result<NativeStep, HostError> {
        let step = NativeStep {
            what: format!("note in the stand-in: {what} {}", unit_of(name)),
            exit: None,
            output: String::new(),
        };
        if !self.knows(name)? {
            let missing = HostError::new(format!("there is no unit file {}", unit_of(name))).command(step);
            return Err(missing.remedy("declare the package of the unit, and name it in `needs`"));
        }
        let mut noted = self.noted(name)?;
        change(&mut noted);
        for folder in ["/run", STAND_IN_FOLDER] {
            if self.files.look(folder)?.is_none() {
                self.files.make_directory(folder, Ownership::default())?;
            }
        }
        let text = serde_json::to_vec(&noted).map_err(|error| HostError::new(error.to_string()))?;
        self.files.replace(&note_path(name), &text, Ownership::default(), |_| Ok(()))?;
        Ok(step)
    }
}

impl Services for StandIn {
    fn inspect(&mut self, name: &str) -> Result<ServiceFound, HostError> {
        let is_known = self.knows(name)?;
        let noted = if is_known { self.noted(name)? } else { Noted::default() };
        let since = noted.since.filter(|_| noted.running);
        Ok(ServiceFound {
            is_known,
            running: noted.running,
            enabled: Ok(noted.enabled),
            since,
            native: Vec::new(),
        })
    }

    fn set_running(&mut self, name: &str, running: bool) -> Result<NativeStep, HostError> {
        self.note(name, if running { "start" } else { "stop" }, |noted| {
            noted.running = running;
            noted.starts += u64::from(running);
            noted.since = Some(Timestamp::now());
        })
    }

    fn set_enabled(&mut self, name: &str, enabled: bool) -> Result<NativeStep, HostError> {
        self.note(name, if enabled { "enable" } else { "disable" }, |noted| noted.enabled = enabled)
    }

    fn react(
        &mut self,
        name: &str,
        reaction: Reaction,
        wanted_running: bool,
    ) -> Result<NativeStep, HostError> {
        self.note(name, reaction.word(), |noted| {
            if noted.running || wanted_running {
                noted.running = true;
                noted.since = Some(Timestamp::now());
                *(if reaction == Reaction::Reload { &mut noted.reloads } else { &mut noted.restarts }) += 1;
            }
        })
    }

    fn names(&mut self) -> Result<Vec<String>, HostError> {
        let mut names = std::collections::BTreeSet::new();
        for folder in UNIT_FOLDERS {
            let files = self.files.list(folder)?.unwrap_or_default();
            names.extend(
                files
                    .iter()
                    .filter_map(|file| file.strip_suffix(".service"))
                    .filter(|name| !name.ends_with('@'))
                    .map(str::to_owned),
            );
        }
        Ok(names.into_iter().collect())
    }

    fn stand_in(&self) -> Option<String> {
        Some(format!(
            "no service manager runs here: a stand-in records in {STAND_IN_FOLDER} what would be started"
        ))
    }
}

fn note_path(name: &str) -> String {
    format!("{STAND_IN_FOLDER}/{}.json", unit_of(name))
}
