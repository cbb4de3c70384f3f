//! What an agent's run costs on its node, beside the system's own programs that look at the same things.

use crate::{Bound, Figure, best};
use constans_agent::kept_contents::KeptContents;
use constans_agent::kept_runs::KeptRuns;
use constans_agent::local::Wanted;
use constans_agent::membership::Membership;
use constans_agent::noted::DaemonNote;
use constans_agent::run_loop::{Persistence, Runner};
use constans_agent::state_dir::StateDir;
use constans_core::check::{Surroundings, check};
use constans_core::digest::DigestKey;
use constans_core::document::KitFiles;
use constans_core::filter::NodeView;
use constans_core::run::{Mode, RunSettings, Selection, Status};
use constans_core::state::{Assigned, Clause, Conditions, ResolveInput, Resolved, resolve};
use constans_host::{Host as _, Machine};
use constans_wire::report::StartedBy;
use serde_json::json;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Arc;
use tempfile::TempDir;

const FILES: usize = 10_000;
const FILE_BYTES: usize = 4_096;
const PACKAGES: usize = 1_000;

/// A private root with a state that it is in line with.
struct Node {
    folder: TempDir,
    wanted: Wanted,
}

impl Node {
    fn new(files: BTreeMap<String, Vec<u8>>) -> Self {
        let folder = tempfile::tempdir().expect("a folder for the bench");
        let kit = check(KitFiles::new(files), None, Surroundings::default()).kit.expect("the kit is well");
        let assigned = kit.baselines.iter().map(|baseline| Assigned::plainly(&kit, baseline)).collect();
        let input = ResolveInput {
            assigned,
            kits: &[],
            given: &BTreeMap::new(),
            own: &constans_core::state::OwnProperties::new(),
            view: &NodeView::sample(),
            key: &DigestKey::new("bench"),
            conditions: Conditions::Decide,
            untouchable: &[],
        };
        let mut resolved: Resolved = resolve(&input).expect("the kit resolves");
        fs::create_dir_all(folder.path().join("root")).expect("a root");
        fs::create_dir_all(folder.path().join("state/contents")).expect("a folder of contents");
        // As what a server gave out is kept: not held in memory.
        let contents = KeptContents::of(&StateDir::open(&folder.path().join("state")).expect("a state dir"));
        for (name, bytes) in &*resolved.contents {
            fs::write(contents.path(name.as_str()), bytes).expect("contents");
        }
        resolved.contents = Arc::default();
        let contents = Arc::new(contents);
        let wanted = Wanted {
            store: PathBuf::from("bench"),
            releases: Vec::new(),
            generation: None,
            resolved,
            contents,
        };
        Self { folder, wanted }
    }

    fn root(&self) -> PathBuf {
        self.folder.path().join("root")
    }

    fn state_dir(&self) -> StateDir {
        StateDir::open(&self.folder.path().join("state")).expect("a state dir")
    }

    /// Observes once, as a daemon's run does.
    fn observe(&self) {
        let state_dir = self.state_dir();
        let mut machine = Machine::open(&self.root(), &state_dir.scratch()).expect("the root opens");
        machine.prepare(&self.wanted.resolved.state, std::collections::BTreeSet::new());
        let mut runner = Runner {
            host: &mut machine,
            state_dir: &state_dir,
            wanted: &self.wanted,
            key: &state_dir.key().expect("a key"),
            stalls: constans_host::Stalls::default(),
            watcher: &mut |_: usize, _: usize, _: &str, _: &Clause| (),
            started_by: StartedBy::Interval,
            reason: None,
            by: None,
            sweep: None,
            stop: Arc::default(),
            guards_way: false,
            attic_mib: 512,
        };
        let report = runner
            .run(RunSettings::of(Mode::Observe), &Selection::Whole, Persistence::Everything)
            .expect("it runs");
        assert_eq!(report.status, Status::InLine, "what is measured is a node in line");
    }

    /// Forgets what files are known by, so that the next run reads them.
    fn forget_metadata(&self) {
        fs::write(self.state_dir().scratch().join("seen-files"), "").expect("the note is written");
    }
}

/// Metadata count only for what was changed a second before it was looked at, as on a node everything mostly was.
fn wait_until_metadata_count() {
    std::thread::sleep(std::time::Duration::from_millis(1_100));
}

fn run(command: &mut Command) {
    let status = command.stdout(Stdio::null()).status().expect("the program starts");
    assert!(status.success(), "{command:?} ended well");
}

/// Observing files by their contents, and again by their metadata.
pub fn files() -> Vec<Figure> {
    let mut kit = BTreeMap::from([(
        "kit.toml".to_owned(),
        b"[kit]\nname = \"quay-base\"\nversion = \"1.0.0\"\n".to_vec(),
    )]);
    let mut text = String::from("[baseline]\nname = \"tariffs\"\n");
    let mut sums = String::new();
    for at in 0..FILES {
        let _ = writeln!(
            text,
            "\n[[clause]]\nwhat = \"file:/srv/tariffs/{at}\"\ncopy = \"{at}\"\npermissions = \"0644\""
        );
        kit.insert(format!("copies/{at}"), contents(at));
    }
    kit.insert("baselines/tariffs.toml".to_owned(), text.into_bytes());
    let node = Node::new(kit);
    let folder = node.root().join("srv/tariffs");
    fs::create_dir_all(&folder).expect("a folder");
    for at in 0..FILES {
        let bytes = contents(at);
        fs::write(folder.join(at.to_string()), &bytes).expect("a file");
        let digest = constans_core::digest::of_contents(&bytes);
        let _ =
            writeln!(sums, "{}  {}/{at}", digest.as_str().trim_start_matches("sha256:"), folder.display());
    }
    let list = node.folder.path().join("sums");
    fs::write(&list, sums).expect("a list");
    wait_until_metadata_count();
    let [by_content, sha256sum] = best([
        &mut || {
            node.forget_metadata();
            node.observe();
        },
        &mut || run(Command::new("sha256sum").args(["-c", "--quiet"]).arg(&list)),
    ]);
    let [by_metadata, find] = best([&mut || node.observe(), &mut || {
        run(Command::new("find").arg(&folder).args(["-printf", "%p %s %m %u %g %C@ %T@\n"]));
    }]);
    println!(
        "observing 10,000 files by content: {by_content:?}, sha256sum -c: {sha256sum:?}; by metadata: {by_metadata:?}, find: {find:?}"
    );
    vec![
        Figure::ratio(
            "observing 10,000 files of 4 KiB, by content",
            "`sha256sum -c` over the same files",
            by_content,
            sha256sum,
            0.5,
        ),
        Figure::ratio(
            "the same again, by metadata",
            "`find -printf` of the same metadata",
            by_metadata,
            find,
            2.0,
        ),
    ]
}

fn contents(at: usize) -> Vec<u8> {
    format!("{at:>8}").bytes().cycle().take(FILE_BYTES).collect()
}

/// Observing packages.
pub fn packages() -> Vec<Figure> {
    let mut text = String::from("[baseline]\nname = \"packages\"\n");
    let mut status = String::new();
    for at in 0..PACKAGES {
        let _ = writeln!(text, "\n[[clause]]\nwhat = \"package:part-{at}\"\nversion = \"3.2.*\"");
        let _ = writeln!(
            status,
            "Package: part-{at}\nStatus: install ok installed\nPriority: optional\nSection: misc\nMaintainer: Ilse Maren <ilse.maren@skerry.example>\nArchitecture: all\nVersion: 3.2.{at}\nDescription: a part of what every node has\n It is there to be looked at.\n"
        );
    }
    let kit = [
        ("kit.toml", "[kit]\nname = \"quay-base\"\nversion = \"1.0.0\"\n"),
        ("baselines/packages.toml", &text),
    ];
    let node =
        Node::new(kit.into_iter().map(|(path, text)| (path.to_owned(), text.as_bytes().to_vec())).collect());
    let database = node.root().join("var/lib/dpkg");
    for folder in ["info", "updates"] {
        fs::create_dir_all(database.join(folder)).expect("a database");
    }
    fs::write(database.join("status"), status).expect("a database");
    wait_until_metadata_count();
    let query = |database: &Path| {
        run(Command::new("dpkg-query").arg(format!("--admindir={}", database.display())).arg("-W"));
    };
    let [observed, queried] = best([&mut || node.observe(), &mut || query(&database)]);
    println!("observing 1,000 packages: {observed:?}, dpkg-query -W: {queried:?}");
    vec![Figure::ratio("observing 1,000 packages", "one `dpkg-query -W`", observed, queried, 1.5)]
}

/// What the agent that is installed on nodes takes: on disk, and in memory while it waits for its next run.
pub fn agent() -> Vec<Figure> {
    let program =
        std::env::var_os("AGENT").map_or_else(|| PathBuf::from("target/small/constans-agent"), PathBuf::from);
    let mib = |bytes: u64| bytes as f64 / 1_048_576.0;
    let Ok(metadata) = fs::metadata(&program) else {
        println!(
            "NOT MEASURED: the agent's size and memory, since {} is not there; make bench builds it",
            program.display()
        );
        return Vec::new();
    };
    vec![
        Figure {
            work: "the agent's program, stripped",
            against: "-",
            measured: mib(metadata.len()),
            budget: 10.0,
            unit: "MiB",
            bound: Bound::AtMost,
        },
        Figure {
            work: "the agent between runs of 300 clauses, resident",
            against: "-",
            measured: mib(resident(&program)),
            budget: 16.0,
            unit: "MiB",
            bound: Bound::AtMost,
        },
    ]
}

/// Returns how many bytes a daemon holds after its first run, while it waits. It goes on alone: no server answers.
fn resident(program: &Path) -> u64 {
    let mut text = String::from("[baseline]\nname = \"folders\"\n");
    for at in 0..300 {
        let _ = writeln!(text, "\n[[clause]]\nwhat = \"directory:/srv/{at}\"\npermissions = \"0755\"");
    }
    let kit = [
        ("kit.toml", "[kit]\nname = \"quay-base\"\nversion = \"1.0.0\"\n"),
        ("baselines/folders.toml", &text),
    ];
    let node =
        Node::new(kit.into_iter().map(|(path, text)| (path.to_owned(), text.as_bytes().to_vec())).collect());
    (0..300).for_each(|at| fs::create_dir_all(node.root().join(format!("srv/{at}"))).expect("a folder"));
    let place = node.folder.path().join("state");
    let state_dir = StateDir::open(&place).expect("a state dir");
    let ends_at = jiff::Timestamp::now() + jiff::SignedDuration::from_hours(24);
    let membership = Membership {
        urls: vec!["https://192.0.2.1:7443".to_owned()],
        ca: "0".repeat(64),
        node: uuid::Uuid::nil(),
        name: "bridge-tern".to_owned(),
        certificate: String::new(),
        renew_after: ends_at,
        ends_at,
        mark: None,
        dismissed: None,
    };
    membership.keep(&state_dir).expect("a membership");
    let state = &node.wanted.resolved.state;
    let served = json!({ "form": 1, "digest": state.digest, "generation": { "epoch": 1, "counter": 1 }, "settings": { "mode": "enforce" }, "state": state });
    fs::write(place.join("served.json"), served.to_string()).expect("a state");
    let mut daemon = Command::new(program)
        .args(["daemon", "--root"])
        .arg(node.root())
        .arg("--state-dir")
        .arg(&place)
        .stdout(Stdio::null())
        .spawn()
        .expect("the agent starts");
    let ran = (0..300).any(|_| {
        std::thread::sleep(std::time::Duration::from_millis(100));
        DaemonNote::read(&state_dir).ok().flatten().is_some()
            && KeptRuns::of(&state_dir).all().is_ok_and(|runs| !runs.is_empty())
    });
    let status = fs::read_to_string(format!("/proc/{}/status", daemon.id())).unwrap_or_default();
    let _ = daemon.kill();
    let _ = daemon.wait();
    assert!(ran, "the daemon ran");
    let kib = status
        .lines()
        .find_map(|line| line.strip_prefix("VmRSS:"))
        .and_then(|line| line.trim().trim_end_matches(" kB").parse::<u64>().ok());
    kib.expect("the kernel tells") * 1024
}
