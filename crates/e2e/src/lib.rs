//! Starts the real programs for tests: on private roots, under an unprivileged account, and with a real PostgreSQL.

mod browser;
mod curl;
mod fleet;
pub mod story;

pub use browser::Browser;
pub use curl::Curl;
pub use fleet::{Fleet, Running, free_port};

use constans_wire::report::RunReport;
use constans_world::{PrivateRoot, UNPRIVILEGED, build_repository, is_root, kits};
use std::fs;
use std::io::{Read as _, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::process::CommandExt as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::OnceLock;
use std::time::Duration;
use tempfile::TempDir;

/// The result of a program.
pub struct Ended {
    /// Its standard output.
    pub stdout: String,
    /// Its standard error.
    pub stderr: String,
    /// Its exit status; none if a signal ended it.
    pub exit: Option<i32>,
}

impl Ended {
    pub(crate) fn of(output: &Output) -> Self {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Self { stdout: text(&output.stdout), stderr: text(&output.stderr), exit: output.status.code() }
    }

    /// Returns the run's report, for programs that were asked for JSON.
    ///
    /// # Panics
    ///
    /// Panics if there is none.
    pub fn report(&self) -> RunReport {
        serde_json::from_str(&self.stdout)
            .unwrap_or_else(|error| panic!("no report: {error}\n{}\n{}", self.stdout, self.stderr))
    }
}

/// A machine with an agent: a private root below a folder that ends with the test.
pub struct Machine {
    folder: TempDir,
    /// Its root.
    pub root: PrivateRoot,
}

impl Machine {
    /// Makes a fresh machine of Skerry Line.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be made.
    pub fn fresh() -> Self {
        let folder = tempfile::tempdir().expect("a folder for the test");
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755))
            .expect("others may look into it");
        let root = PrivateRoot::make(&folder.path().join("root"), repository()).expect("a private root");
        Self { folder, root }
    }

    /// Writes a document beside the machine and returns its path.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be written.
    pub fn document(&self, name: &str, text: &str) -> String {
        let path = self.folder.path().join(name);
        fs::write(&path, text).expect("the document is written");
        path.display().to_string()
    }

    /// Returns a command of the agent on this machine.
    pub fn agent(&self, arguments: &[&str]) -> Command {
        let mut command = unprivileged(&program("constans-agent"));
        command.args(arguments).arg("--root").arg(self.root.path());
        command
    }

    /// Runs the agent on this machine.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be started.
    pub fn run(&self, arguments: &[&str]) -> Ended {
        Ended::of(&self.agent(arguments).output().expect("the agent starts"))
    }

    /// Starts the agent's daemon on this machine.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be started.
    pub fn daemon(&self) -> Running {
        let mut daemon = self.agent(&["daemon"]);
        Running(daemon.stdout(Stdio::null()).stderr(Stdio::null()).spawn().expect("the daemon starts"))
    }

    /// Runs the agent on a terminal, where someone types when it asks.
    ///
    /// # Panics
    ///
    /// Panics if it cannot be started.
    pub fn run_on_terminal(&self, arguments: &[&str], typed: &str) -> Ended {
        let agent = self.agent(arguments);
        let words: Vec<String> = std::iter::once(agent.get_program())
            .chain(agent.get_args())
            .map(|word| format!("'{}'", word.display()))
            .collect();
        let mut terminal = unprivileged(Path::new("script"));
        terminal
            .args(["-qefc", &words.join(" "), "/dev/null"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped());
        let mut started = terminal.spawn().expect("script(1) starts");
        // What is typed before it asks would be echoed by the terminal itself.
        let mut before = Vec::new();
        let mut out = started.stdout.take().expect("it writes");
        let mut read = [0; 1];
        while !before.ends_with(b": ") && out.read(&mut read).expect("it is read") == 1 {
            before.push(read[0]);
        }
        std::thread::sleep(Duration::from_millis(100));
        started.stdin.as_mut().expect("it reads").write_all(typed.as_bytes()).expect("it is typed");
        out.read_to_end(&mut before).expect("it ends");
        let mut output = started.wait_with_output().expect("it ends");
        output.stdout = before;
        Ended::of(&output)
    }

    /// Runs the agent on a kit of the demo.
    pub fn run_kit(&self, verb: &str, kit: &str, arguments: &[&str]) -> Ended {
        let kit = demo_kit(kit);
        let mut all = vec![verb, "--kit", &kit, "--label", "site=auken", "--label", "role=kiosk"];
        all.extend_from_slice(if verb == "enforce" { &["--yes"] } else { &[] });
        all.extend_from_slice(arguments);
        self.run(&all)
    }

    /// Returns every file, link and folder of the machine with its contents and permissions, but for the agent's own.
    ///
    /// # Panics
    ///
    /// Panics if something cannot be read.
    pub fn everything(&self) -> Vec<(String, String)> {
        let mut all = Vec::new();
        collect(self.root.path(), self.root.path(), &mut all);
        all.sort();
        all
    }

    /// Returns what the stand-in for a service manager noted of a service.
    pub fn service(&self, name: &str) -> serde_json::Value {
        let noted =
            self.root.read(&format!("/run/constans-stand-in/{name}.service.json")).unwrap_or_default();
        serde_json::from_str(&noted).unwrap_or_default()
    }
}

fn collect(root: &Path, folder: &Path, all: &mut Vec<(String, String)>) {
    for entry in fs::read_dir(folder).expect("a folder can be read") {
        let path = entry.expect("an entry can be read").path();
        let name = path.strip_prefix(root).expect("it lies below the root").display().to_string();
        if name == "var/lib/constans" {
            continue;
        }
        let metadata = fs::symlink_metadata(&path).expect("it can be looked at");
        let contents = if metadata.is_symlink() {
            fs::read_link(&path).expect("a link").display().to_string()
        } else if metadata.is_file() {
            String::from_utf8_lossy(&fs::read(&path).expect("a file")).into_owned()
        } else {
            collect(root, &path, all);
            String::new()
        };
        all.push((name, format!("{:o} {contents}", metadata.permissions().mode())));
    }
}

/// Returns the path of a kit of the demo, where the unprivileged account can read it.
pub fn demo_kit(name: &str) -> String {
    static COPY: OnceLock<SharedFolder> = OnceLock::new();
    let copy = COPY.get_or_init(|| {
        let folder = SharedFolder::make();
        copy_all(&kits(), folder.path());
        folder
    });
    copy.path().join(name).display().to_string()
}

fn copy_all(from: &Path, to: &Path) {
    fs::create_dir_all(to).expect("a folder");
    for entry in fs::read_dir(from).expect("a folder") {
        let entry = entry.expect("an entry");
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy_all(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), target).expect("a file");
        }
    }
}

/// Runs the operators' client.
///
/// # Panics
///
/// Panics if it cannot be started.
pub fn client(arguments: &[&str]) -> Ended {
    Ended::of(
        &Command::new(program("constans"))
            .args(arguments)
            .stdin(Stdio::null())
            .output()
            .expect("the client starts"),
    )
}

/// The repository of packages that all tests share.
fn repository() -> &'static Path {
    static REPOSITORY: OnceLock<SharedFolder> = OnceLock::new();
    let made = REPOSITORY.get_or_init(|| {
        let folder = SharedFolder::make();
        build_repository(folder.path()).expect("the packages are built");
        folder
    });
    made.path()
}

/// A folder that all tests of this process share. Statics are never dropped, and a process may be killed: a program of its own
/// waits until this process has ended, whatever ended it, and removes the folder.
struct SharedFolder {
    path: PathBuf,
    /// Its standard input closes when this process ends; it ends after that, so nobody waits for it.
    _removes: Child,
}

impl SharedFolder {
    fn make() -> Self {
        let path = tempfile::tempdir().expect("a folder for the tests").keep();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).expect("others may look into it");
        let mut removes = Command::new("sh");
        removes
            .args(["-c", r#"read -r _; rm -rf -- "$1""#, "sh"])
            .arg(&path)
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        // Ctrl-C ends the tests, and not what removes the folder after them.
        Self { path, _removes: removes.process_group(0).spawn().expect("sh starts") }
    }

    fn path(&self) -> &Path {
        &self.path
    }
}

/// Returns a program of this workspace, copied to where the unprivileged account can run it.
///
/// # Panics
///
/// Panics if it was not built.
pub fn program(name: &str) -> PathBuf {
    static PROGRAMS: OnceLock<SharedFolder> = OnceLock::new();
    let programs = PROGRAMS.get_or_init(|| {
        let folder = SharedFolder::make();
        let own = std::env::current_exe().expect("a program knows where it is");
        let folder_of_own = own.parent().expect("it lies in target/PROFILE, and tests in a folder below");
        let built = if folder_of_own.ends_with("deps") {
            folder_of_own.parent().expect("target/PROFILE")
        } else {
            folder_of_own
        };
        for name in ["constans-agent", "constans", "constans-server", "constans-crowd"] {
            let from = built.join(name);
            assert!(
                from.exists(),
                "{} is not built: run `make test`, or `cargo build --bins` first",
                from.display()
            );
            let to = folder.path().join(name);
            // A build makes a new file and does not write into this one.
            fs::hard_link(&from, &to)
                .or_else(|_| fs::copy(&from, &to).map(|_| ()))
                .expect("a program can be linked or copied");
        }
        folder
    });
    programs.path().join(name)
}

/// Returns a command that runs without root's rights, also when the tests have them.
fn unprivileged(program: &Path) -> Command {
    let mut command = Command::new(program);
    command.stdin(Stdio::null()).env_remove("CONSTANS_STEPS").env_remove("CONSTANS_KILL_AT");
    if is_root() {
        command.uid(UNPRIVILEGED).gid(UNPRIVILEGED);
    }
    command
}
