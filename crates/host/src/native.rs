//! Running native commands: without a shell, in a clean environment, under a timeout, with bounded output.

use crate::error::HostError;
use crate::progress::Used;
use crate::secrets::Secrets;
use crate::stalls::Stalls;
use crate::steps;
use constans_core::run::NativeStep;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use std::ffi::OsStr;
use std::fs::File;
use std::io::{self, Read as _, Write as _};
use std::os::fd::OwnedFd;
use std::os::unix::process::{CommandExt as _, ExitStatusExt as _};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::thread;
use std::time::{Duration, Instant};

/// How much of an output is kept for a report.
const REPORTED_OUTPUT: usize = 8 * 1024;
/// The capacity of a pipe (pipe(7)).
const PIPE_HOLDS: usize = 64 * 1024;
const MAX_OUTPUT: u64 = 64 * 1024 * 1024;

/// How long a program may make no progress: no output, no CPU time, no I/O.
const QUIET: Duration = Duration::from_secs(10 * 60);
/// How often it is looked whether a silent program moves.
const LOOK_EVERY: Duration = Duration::from_secs(1);

/// How long a program is waited for.
#[derive(Clone)]
enum Patience {
    Within(Duration),
    WhileItMoves { quiet: Duration },
    ToItsEnd { quiet: Duration, stalls: Stalls },
}

/// A native command to be run.
pub struct Native {
    program: String,
    arguments: Vec<String>,
    environment: Vec<(String, String)>,
    input: Option<String>,
    patience: Patience,
    secrets: Secrets,
    conceals_output: bool,
    account: Option<(u32, u32)>,
    largest_output: u64,
}

/// A native command that has ended.
pub struct Ended {
    /// As it is reported.
    pub step: NativeStep,
    /// Everything that it wrote to standard output.
    pub stdout: String,
    /// Whether it exited 0.
    pub is_well: bool,
}

impl Native {
    /// Prepares a program with its arguments.
    pub fn new<S: AsRef<str>>(program: &str, arguments: impl IntoIterator<Item = S>) -> Self {
        Self {
            program: program.to_owned(),
            arguments: arguments.into_iter().map(|argument| argument.as_ref().to_owned()).collect(),
            environment: Vec::new(),
            input: None,
            patience: Patience::Within(Duration::from_secs(15 * 60)),
            secrets: Secrets::default(),
            conceals_output: false,
            account: None,
            largest_output: MAX_OUTPUT,
        }
    }

    /// Adds a variable to its environment.
    #[must_use]
    pub fn env(mut self, name: &str, value: impl AsRef<OsStr>) -> Self {
        self.environment.push((name.to_owned(), value.as_ref().to_string_lossy().into_owned()));
        self
    }

    /// Gives it a standard input, which is never reported.
    #[must_use]
    pub fn input(mut self, input: String) -> Self {
        self.input = Some(input);
        self
    }

    /// Ends it after this time.
    #[must_use]
    pub fn timeout(mut self, timeout: Duration) -> Self {
        self.patience = Patience::Within(timeout);
        self
    }

    /// Ends it only if it shows no progress: for what fetches something, which can be begun again.
    #[must_use]
    pub fn while_it_moves(mut self) -> Self {
        self.patience = Patience::WhileItMoves { quiet: QUIET };
        self
    }

    /// Never ends it: for what must not be cut off in the middle, as a change of packages. If it makes no progress, that is reported
    /// and it is waited for all the same; of its output no more is kept than usual.
    #[must_use]
    pub fn to_its_end(mut self, stalls: &Stalls) -> Self {
        self.patience = Patience::ToItsEnd { quiet: QUIET, stalls: stalls.clone() };
        self
    }

    /// Replaces these texts wherever the command or its output is reported.
    #[must_use]
    pub fn conceal(mut self, secrets: Secrets) -> Self {
        self.secrets = secrets;
        self
    }

    /// Reports nothing of what it writes: it may repeat any part of what is concealed.
    #[must_use]
    pub fn conceal_output(mut self) -> Self {
        self.conceals_output = true;
        self
    }

    /// Ends it when it writes more than this, in bytes.
    #[must_use]
    pub fn largest_output(mut self, bytes: u64) -> Self {
        self.largest_output = bytes;
        self
    }

    /// Runs it as another account.
    #[must_use]
    pub fn account(mut self, uid: u32, gid: u32) -> Self {
        self.account = Some((uid, gid));
        self
    }

    /// Runs it to its end, whatever that is.
    ///
    /// # Errors
    ///
    /// Returns why it could not be started, or that it took too long.
    pub fn run(self) -> Result<Ended, HostError> {
        let line = self.line();
        let mut command = Command::new(&self.program);
        command
            .args(&self.arguments)
            .env_clear()
            .env("PATH", "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin")
            .env("HOME", "/")
            .env("LC_ALL", "C.UTF-8")
            .env("DEBIAN_FRONTEND", "noninteractive")
            .envs(self.environment.iter().map(|(name, value)| (name, value)))
            .current_dir("/")
            .stdin(if self.input.is_some() { Stdio::piped() } else { Stdio::null() })
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .process_group(0);
        if let Some((uid, gid)) = self.account {
            command.uid(uid).gid(gid);
        }
        steps::reached("native begins", &self.program);
        let mut child = command.spawn().map_err(|error| {
            let step = NativeStep { what: line.clone(), exit: None, output: String::new() };
            HostError::io("start", &self.program, &error).command(step)
        })?;
        // Written beside it: a program that does not read must not hold up its own end.
        if let (Some(input), Some(mut pipe)) = (self.input.clone(), child.stdin.take()) {
            thread::spawn(move || pipe.write_all(input.as_bytes()));
        }
        let most = self.largest_output;
        let mut outputs =
            [child.stdout.take().map(OwnedFd::from), child.stderr.take().map(OwnedFd::from)].map(Output::of);
        let mut watched = Watched::new(self.patience.clone(), &self.program);
        let completion = wait(&mut child, &mut watched, &mut outputs, most);
        steps::reached("native ended", &self.program);
        let [stdout, stderr] = outputs.map(Output::end);
        let output = self.reported(&stdout, &stderr) + &watched.remark();
        let status = match completion {
            Completion::Ended(status) => status,
            Completion::WasEnded(why) => {
                let why = match why {
                    TooMuch::Output => format!("wrote more than {most} bytes"),
                    TooMuch::Time(within) => format!("did not end within {} s", within.as_secs()),
                    TooMuch::Quiet(quiet) => format!("showed no progress for {}", minutes(quiet)),
                };
                let step = NativeStep { what: line, exit: None, output };
                return Err(HostError::new(format!("`{}` {why}, and was ended", self.program)).command(step));
            }
        };
        let exit = status.code().unwrap_or_else(|| 128 + status.signal().unwrap_or(0));
        Ok(Ended {
            step: NativeStep { what: line, exit: Some(exit), output },
            stdout,
            is_well: status.success(),
        })
    }

    /// Runs it; ending with anything but 0 is an error.
    ///
    /// # Errors
    ///
    /// Returns the command with its exit status and its last output.
    pub fn must(self) -> Result<Ended, HostError> {
        let program = self.program.clone();
        let ended = self.run()?;
        if ended.is_well {
            return Ok(ended);
        }
        Err(HostError::new(format!("`{program}` failed with exit status {}", ended.step.exit.unwrap_or(-1)))
            .command(ended.step))
    }

    fn line(&self) -> String {
        let quoted = self.arguments.iter().map(|argument| {
            // Before it is quoted: what is quoted may look otherwise.
            let argument = &self.secrets.blot(argument);
            let plain = !argument.is_empty()
                && argument.chars().all(|c| c.is_alphanumeric() || "-_=./:,+@%".contains(c));
            if plain { argument.clone() } else { format!("'{}'", argument.replace('\'', "'\\''")) }
        });
        std::iter::once(self.program.clone()).chain(quoted).collect::<Vec<_>>().join(" ")
    }

    fn reported(&self, stdout: &str, stderr: &str) -> String {
        if self.conceals_output {
            let bytes = stdout.len() + stderr.len();
            return if bytes == 0 { String::new() } else { format!("(concealed: {bytes} bytes)") };
        }
        let both = self.secrets.blot(&format!("{stdout}{stderr}"));
        let start = both.len().saturating_sub(REPORTED_OUTPUT);
        let start = (start..=both.len()).find(|at| both.is_char_boundary(*at)).unwrap_or(both.len());
        both[start..].trim_end().to_owned()
    }
}

/// What a program writes into one pipe, as far as it was read.
struct Output {
    pipe: Option<File>,
    read: Vec<u8>,
    /// How much came, also of what was not kept.
    received: usize,
}

impl Output {
    fn of(pipe: Option<OwnedFd>) -> Self {
        // Reading must not wait: what is not there yet is asked for again.
        let pipe = pipe.filter(|pipe| rustix::io::ioctl_fionbio(pipe, true).is_ok());
        Self { pipe: pipe.map(File::from), read: Vec::new(), received: 0 }
    }

    /// Reads what is in the pipe, as much as fits into one; returns whether it is more than there may be.
    fn take_in(&mut self, most: u64) -> bool {
        let Some(pipe) = &mut self.pipe else { return false };
        let mut part = [0; PIPE_HOLDS / 4];
        for _ in 0..4 {
            match pipe.read(&mut part) {
                Ok(count @ 1..) if (self.read.len() + count) as u64 > most => {
                    // It goes on writing where it is not ended: the beginning is kept.
                    self.received += count;
                    return true;
                }
                Ok(count @ 1..) => {
                    self.received += count;
                    self.read.extend_from_slice(&part[..count]);
                }
                Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                Err(error) if error.kind() == io::ErrorKind::WouldBlock => return false,
                Ok(0) | Err(_) => {
                    self.pipe = None;
                    return false;
                }
            }
        }
        false
    }

    /// Returns what was written. What the program left running can write on, and nobody reads it.
    fn end(self) -> String {
        if let Some(mut pipe) = self.pipe.filter(|pipe| rustix::io::ioctl_fionbio(pipe, false).is_ok()) {
            thread::spawn(move || io::copy(&mut pipe, &mut io::sink()));
        }
        String::from_utf8_lossy(&self.read).into_owned()
    }
}

/// What came of a program.
enum Completion {
    Ended(ExitStatus),
    WasEnded(TooMuch),
}

enum TooMuch {
    Output,
    Time(Duration),
    Quiet(Duration),
}

/// Watches whether a program moves.
struct Watched<'p> {
    patience: Patience,
    program: &'p str,
    began: Instant,
    moved: Instant,
    looked: Instant,
    used: Used,
    read: usize,
    is_stalled: bool,
    longest_stall: Duration,
}

impl<'p> Watched<'p> {
    fn new(patience: Patience, program: &'p str) -> Self {
        let now = Instant::now();
        let (used, longest_stall) = (Used::default(), Duration::ZERO);
        Self {
            patience,
            program,
            began: now,
            moved: now,
            looked: now,
            used,
            read: 0,
            is_stalled: false,
            longest_stall,
        }
    }

    /// Looks at a program of which so much was read so far; returns why it is to be ended, if it is.
    fn look(&mut self, process: u32, read: usize) -> Option<TooMuch> {
        let quiet = match &self.patience {
            Patience::Within(within) => {
                return (self.began.elapsed() >= *within).then_some(TooMuch::Time(*within));
            }
            Patience::WhileItMoves { quiet } | Patience::ToItsEnd { quiet, .. } => *quiet,
        };
        if read != self.read {
            (self.read, self.moved) = (read, Instant::now());
        } else if self.looked.elapsed() >= LOOK_EVERY.min(quiet / 4) {
            self.looked = Instant::now();
            let used = Used::by(process);
            if used != self.used {
                (self.used, self.moved) = (used, self.looked);
            }
        }
        let still = self.moved.elapsed();
        if still < quiet {
            self.is_stalled = false;
            return None;
        }
        self.longest_stall = self.longest_stall.max(still);
        match &self.patience {
            Patience::ToItsEnd { stalls, .. } => {
                if !self.is_stalled {
                    self.is_stalled = true;
                    stalls.tell(&format!(
                        "`{}` (process {process}) has made no progress for {}: no output, no CPU time, no I/O; waiting for it, because ending it would leave packages half changed",
                        self.program,
                        minutes(still)
                    ));
                }
                None
            }
            _ => Some(TooMuch::Quiet(quiet)),
        }
    }

    /// Whether a program that floods is ended.
    fn ends_floods(&self) -> bool {
        !matches!(self.patience, Patience::ToItsEnd { .. })
    }

    /// Returns the remark about a program that made no progress for a while and then went on.
    fn remark(&self) -> String {
        if self.longest_stall.is_zero() {
            String::new()
        } else {
            format!("\n(it made no progress for {}; waited for it)", minutes(self.longest_stall))
        }
    }
}

fn minutes(time: Duration) -> String {
    if time.as_secs() < 120 {
        format!("{} s", time.as_secs())
    } else {
        format!("{} min", time.as_secs() / 60)
    }
}

/// Waits for a child and takes in what it writes; past its patience, or if it floods, its whole process group is killed.
fn wait(child: &mut Child, watched: &mut Watched<'_>, outputs: &mut [Output; 2], most: u64) -> Completion {
    let mut pause = Duration::from_millis(1);
    loop {
        // Asked before the pipes are emptied: what it wrote itself is in them once it has ended, however long ago that was.
        let ended = child.try_wait();
        let mut floods = false;
        outputs.iter_mut().for_each(|output| floods |= output.take_in(most));
        match ended {
            _ if floods && watched.ends_floods() => return kill(child, TooMuch::Output),
            Ok(Some(status)) => return Completion::Ended(status),
            _ => {}
        }
        if let Some(why) = watched.look(child.id(), outputs.iter().map(|output| output.received).sum()) {
            return kill(child, why);
        }
        let mut pipes: Vec<PollFd<'_>> = outputs
            .iter()
            .filter_map(|output| output.pipe.as_ref())
            .map(|pipe| PollFd::new(pipe, PollFlags::IN))
            .collect();
        let limit = Timespec { tv_sec: 0, tv_nsec: pause.subsec_nanos().into() };
        let _ = poll(&mut pipes, Some(&limit));
        pause = (pause * 2).min(Duration::from_millis(50));
    }
}

fn kill(child: &mut Child, why: TooMuch) -> Completion {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(rustix::process::Pid::from_raw) {
        let _ = rustix::process::kill_process_group(group, rustix::process::Signal::KILL);
    }
    let _ = child.wait();
    Completion::WasEnded(why)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::{Arc, Mutex};

    #[test]
    fn a_failure_carries_command_status_and_output_without_secrets() {
        let mut secrets = Secrets::default();
        secrets.add(["Tern-1234".to_owned()]);
        let error = Native::new("/bin/sh", ["-c", "echo told Tern-1234; exit 3"])
            .conceal(secrets)
            .must()
            .err()
            .unwrap();
        let step = error.command.unwrap();
        assert_eq!(error.message, "`/bin/sh` failed with exit status 3");
        assert_eq!((step.exit, step.output.as_str()), (Some(3), "told (concealed)"));
        assert!(!step.what.contains("Tern-1234"));
    }

    #[test]
    fn what_a_program_leaves_running_is_not_waited_for() {
        let began = Instant::now();
        let ended = Native::new("/bin/sh", ["-c", "echo started; sleep 8 &"]).must().unwrap();
        assert_eq!(ended.stdout, "started\n");
        assert!(began.elapsed() < Duration::from_secs(6));
    }

    #[test]
    fn all_that_a_program_wrote_is_read_however_late_somebody_comes_to_it() {
        let mut command = Command::new("/bin/sh");
        command
            .args(["-c", "head -c 60000 /dev/zero; sleep 8 &"])
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .process_group(0);
        let mut child = command.spawn().unwrap();
        let mut outputs =
            [child.stdout.take().map(OwnedFd::from), child.stderr.take().map(OwnedFd::from)].map(Output::of);
        child.wait().unwrap();
        let mut watched = Watched::new(Patience::Within(Duration::ZERO), "sh");
        assert!(matches!(wait(&mut child, &mut watched, &mut outputs, MAX_OUTPUT), Completion::Ended(_)));
        assert_eq!(outputs.map(Output::end).map(|output| output.len()), [60_000, 0]);
    }

    #[test]
    fn what_floods_is_ended() {
        let error = Native::new("/bin/sh", ["-c", "yes"]).largest_output(100_000).run().err().unwrap();
        assert_eq!(error.message, "`/bin/sh` wrote more than 100000 bytes, and was ended");
    }

    #[test]
    fn what_must_come_to_its_end_is_waited_for_and_what_fetches_is_ended_if_it_stands_still() {
        let noticed = Arc::new(Mutex::new(Vec::new()));
        let teller = noticed.clone();
        let stalls = Stalls::to(move |what| teller.lock().unwrap().push(what.to_owned()));
        let quiet = Duration::from_millis(400);
        let with = |patience, script: &str| Native { patience, ..Native::new("/bin/sh", ["-c", script]) };
        let ended =
            with(Patience::ToItsEnd { quiet, stalls: stalls.clone() }, "echo unpacking; sleep 2; echo done")
                .must()
                .unwrap();
        assert_eq!(ended.stdout, "unpacking\ndone\n");
        assert!(
            ended.step.output.contains("(it made no progress for 1 s; waited for it)"),
            "{}",
            ended.step.output
        );
        assert_eq!(noticed.lock().unwrap().len(), 1, "it is reported once");
        assert!(
            noticed.lock().unwrap()[0]
                .contains("has made no progress for 0 s: no output, no CPU time, no I/O"),
            "{noticed:?}"
        );
        let ended = with(Patience::ToItsEnd { quiet, stalls }, "head -c 300000 /dev/zero; exit 0")
            .largest_output(100_000)
            .run()
            .unwrap();
        assert!(ended.is_well && ended.stdout.len() <= 100_000);

        let error = with(Patience::WhileItMoves { quiet }, "echo fetching; sleep 60").run().err().unwrap();
        assert_eq!(error.message, "`/bin/sh` showed no progress for 0 s, and was ended");
        let working = "end=$(( $(date +%s) + 2 )); while [ $(date +%s) -lt $end ]; do :; done; echo worked";
        assert_eq!(with(Patience::WhileItMoves { quiet }, working).must().unwrap().stdout, "worked\n");
    }

    #[test]
    fn what_hangs_is_ended_with_all_its_children() {
        let began = Instant::now();
        let error = Native::new("/bin/sh", ["-c", "sleep 60 & wait"])
            .timeout(Duration::from_millis(100))
            .run()
            .err()
            .unwrap();
        assert!(error.message.contains("did not end within"));
        assert!(began.elapsed() < Duration::from_secs(10));
    }
}
