//! Throw-away Debian hosts, by `hosts/lab`.

use constans_wire::report::RunReport;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

/// What went wrong, in words.
pub type Failed = String;

/// Tells what came of a check; returns 1 if it failed, 0 if not, to be counted.
pub fn print_result(what: &str, result: Result<(), Failed>) -> usize {
    match result {
        Ok(()) => {
            println!("  well    {what}");
            0
        }
        Err(why) => {
            println!("  FAILED  {what}: {why}");
            1
        }
    }
}

/// A lab with hosts; it ends with this value.
pub struct Lab {
    script: PathBuf,
    name: String,
    folder: PathBuf,
}

/// One host.
#[derive(Clone, Copy)]
pub struct Host<'l> {
    lab: &'l Lab,
    name: &'static str,
}

/// The result of a command on a host.
pub struct ShellOutput {
    /// Its exit status.
    pub exit: i32,
    /// What it wrote to standard output.
    pub stdout: String,
    /// What it wrote to standard error.
    pub stderr: String,
}

impl ShellOutput {
    fn of(output: &Output) -> Self {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Self {
            exit: output.status.code().unwrap_or(-1),
            stdout: text(&output.stdout),
            stderr: text(&output.stderr),
        }
    }

    pub fn both(&self) -> String {
        format!("{}{}", self.stdout, self.stderr)
    }
}

impl Lab {
    /// Says why hosts cannot be started here, if they cannot.
    pub fn cannot_run() -> Option<String> {
        let output = Command::new(script()).arg("can-run").output();
        match output {
            Ok(output) if output.status.success() => None,
            Ok(output) => Some(String::from_utf8_lossy(&output.stdout).trim().to_owned()),
            Err(error) => Some(format!("hosts/lab cannot be started: {error}")),
        }
    }

    /// Starts this many hosts, and serves this repository of packages at http://hub:8080.
    pub fn up(hosts: usize, folder: &Path, repository: &Path) -> Result<Self, Failed> {
        let lab = Self {
            script: script(),
            name: format!("test-{}", std::process::id()),
            folder: folder.to_owned(),
        };
        let ended = lab.command(&["up", &hosts.to_string()]).output();
        let ended = ShellOutput::of(&ended.map_err(|error| error.to_string())?);
        if ended.exit != 0 {
            return Err(format!("the hosts did not start: {}", ended.both()));
        }
        let repository = repository.display().to_string();
        let mut serve = lab.command(&[
            "hub",
            "python3",
            "-m",
            "http.server",
            "--bind",
            "10.77.0.1",
            "--directory",
            &repository,
            "8080",
        ]);
        serve.stdout(Stdio::null()).stderr(Stdio::null()).spawn().map_err(|error| error.to_string())?;
        lab.host("h1").shell(
            "for i in $(seq 50); do curl -sf http://hub:8080/ >/dev/null && exit 0; sleep 0.1; done; exit 1",
        )?;
        Ok(lab)
    }

    /// Returns a host.
    pub fn host(&self, name: &'static str) -> Host<'_> {
        Host { lab: self, name }
    }

    /// Returns a command of `hosts/lab`.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(&self.script);
        command.args(arguments).env("LAB", &self.name).env("HOSTS_DIR", &self.folder);
        command
    }

    fn must(&self, arguments: &[&str]) -> Result<String, Failed> {
        let output = self.command(arguments).output().map_err(|error| error.to_string())?;
        let ended = ShellOutput::of(&output);
        if ended.exit == 0 {
            Ok(ended.stdout)
        } else {
            Err(format!("{}: {}", arguments.join(" "), ended.both()))
        }
    }
}

impl Drop for Lab {
    fn drop(&mut self) {
        if let Err(why) = self.must(&["destroy"]) {
            eprintln!("the lab was not taken down: {why}");
        }
    }
}

fn script() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../hosts/lab")
}

impl Host<'_> {
    /// Runs a line of shell on the host.
    pub fn try_shell(&self, line: &str) -> Result<ShellOutput, Failed> {
        let output = self.lab.command(&["run", self.name, "sh", "-c", line]).output();
        Ok(ShellOutput::of(&output.map_err(|error| error.to_string())?))
    }

    /// Runs a line of shell that must end well.
    pub fn shell(&self, line: &str) -> Result<String, Failed> {
        let ended = self.try_shell(line)?;
        if ended.exit == 0 {
            Ok(ended.stdout)
        } else {
            Err(format!("`{line}` on {} exited {}: {}", self.name, ended.exit, ended.both()))
        }
    }

    /// Waits until a line of shell ends well.
    pub fn wait_for(&self, line: &str, patience: Duration) -> Result<(), Failed> {
        let end = Instant::now() + patience;
        while self.try_shell(line)?.exit != 0 {
            if Instant::now() > end {
                let journal = self.try_shell("journalctl -u constans-agent -n 20 --no-pager")?.stdout;
                return Err(format!("`{line}` never ended well; the agent says: {journal}"));
            }
            std::thread::sleep(Duration::from_millis(200));
        }
        Ok(())
    }

    /// Puts a file onto the host.
    pub fn put(&self, file: &Path, to: &str) -> Result<(), Failed> {
        self.lab.must(&["put", &file.display().to_string(), &format!("{}:{to}", self.name)]).map(drop)
    }

    /// Puts a text onto the host.
    pub fn write(&self, path: &str, text: &str) -> Result<(), Failed> {
        let line = format!("mkdir -p \"$(dirname '{path}')\" && cat > '{path}'");
        let mut child = self
            .lab
            .command(&["run", self.name, "sh", "-c", &line])
            .stdin(Stdio::piped())
            .spawn()
            .map_err(|error| error.to_string())?;
        child
            .stdin
            .take()
            .ok_or("no input")?
            .write_all(text.as_bytes())
            .map_err(|error| error.to_string())?;
        let status = child.wait().map_err(|error| error.to_string())?;
        if status.success() { Ok(()) } else { Err(format!("{path} could not be written on {}", self.name)) }
    }

    /// Runs the agent and returns its report.
    pub fn agent(&self, arguments: &str) -> Result<RunReport, Failed> {
        let ended = self.try_shell(&format!("constans-agent {arguments} --output json"))?;
        serde_json::from_str(&ended.stdout).map_err(|error| {
            format!("`constans-agent {arguments}` gave no report ({error}): {}", ended.both())
        })
    }

    /// Sets or takes away an attribute of one of the host's files, from outside.
    pub fn chattr(&self, attribute: &str, path: &str) -> Result<(), Failed> {
        let disk = self.lab.folder.join("run").join(&self.lab.name).join("h").join(self.name).join("root");
        self.lab.must(&["hub", "chattr", attribute, &format!("{}{path}", disk.display())]).map(drop)
    }

    /// Plugs the host's network cable in, or pulls it.
    pub fn cable(&self, plugged: bool) -> Result<(), Failed> {
        self.lab.must(&["net", self.name, if plugged { "up" } else { "down" }]).map(drop)
    }

    /// Pulls the host's power plug and starts it again.
    pub fn power_cut(&self) -> Result<(), Failed> {
        self.lab.must(&["crash", self.name])?;
        self.lab.must(&["start", self.name]).map(drop)
    }
}
