//! Contents that are larger than an agent may hold pass through it piece by piece.

use constans_core::run::{Outcome, Status};
use constans_e2e::story::{joined, well};
use constans_e2e::{Fleet, Machine};
use std::fs;
use std::process::Stdio;
use std::time::Duration;

const MIB: usize = 1024 * 1024;
/// Of these contents.
const LARGE: usize = 48 * MIB;
/// An agent and its network part hold at most so much each; they hold about half of it without any contents.
const MAX_KIB: u64 = 44 * 1024;

/// Runs the agent; returns its output and the most memory that it, or a process that it started, was seen to hold, in KiB.
fn run(machine: &Machine, arguments: &[&str]) -> (String, u64) {
    let mut agent = machine
        .agent(arguments)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .expect("the agent starts");
    let (own, mut most) = (agent.id(), 0);
    while agent.try_wait().expect("it can be asked").is_none() {
        let processes = fs::read_dir("/proc")
            .expect("there is /proc")
            .flatten()
            .filter_map(|entry| fs::read_to_string(entry.path().join("status")).ok());
        for status in processes {
            let number = |key: &str| {
                status
                    .lines()
                    .find_map(|line| line.strip_prefix(key)?.split_whitespace().next()?.parse::<u64>().ok())
            };
            if number("Pid:") == Some(own.into()) || number("PPid:") == Some(own.into()) {
                most = most.max(number("VmHWM:").unwrap_or(0));
            }
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    let output = agent.wait_with_output().expect("it ends");
    assert!(most > 0, "it was seen");
    (format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr)), most)
}

#[test]
fn large_contents_of_a_fleet_are_fetched_written_and_compared_without_being_held() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let folder = tempfile::tempdir().unwrap();
    let kit = folder.path().join("quay-map");
    for below in ["baselines", "copies"] {
        fs::create_dir_all(kit.join(below)).unwrap();
    }
    let map: Vec<u8> = (0..LARGE).map(|at| (at * 7 % 251) as u8).collect();
    fs::write(kit.join("copies/map.bin"), &map).unwrap();
    fs::write(
        kit.join("kit.toml"),
        "[kit]\nname = \"quay-map\"\nversion = \"1.0.0\"\nsummary = \"The map of the quays\"\n",
    )
    .unwrap();
    let baseline = "[baseline]\nname = \"map\"\nsummary = \"The map\"\n\n[[clause]]\nwhat = \"file:/etc/map.bin\"\ncopy = \"map.bin\"\nlargest_mib = 100\n";
    fs::write(kit.join("baselines/map.toml"), baseline).unwrap();
    let published = fleet.client(&["kit", "publish", kit.to_str().unwrap()]);
    assert_eq!(published.exit, Some(0), "{}\n{}", published.stderr, fleet.log());
    well(&fleet.client(&["stage", "serve", "open-water", "quay-map@1.0.0"]));
    let group = kiosk.document(
        "group.toml",
        "name = \"kiosks\"\npriority = 10\nfilter = \"labels.role == 'kiosk'\"\n[settings]\nmode = \"enforce\"\n[[assignments]]\nkit = \"quay-map\"\nbaseline = \"map\"\n",
    );
    well(&fleet.client(&["group", "set", &group]));

    let (without, usual) = run(&kiosk, &["status"]);
    let (output, fetching) = run(&kiosk, &["check-in"]);
    assert!(output.contains("connected"), "{output}");
    let (output, writing) = run(&kiosk, &["enforce", "--yes", "--output", "json"]);
    let report: constans_wire::report::RunReport =
        serde_json::from_str(output.split("\nNext").next().unwrap()).unwrap_or_else(|_| panic!("{output}"));
    assert_eq!(
        (report.status, report.clauses[0].outcome),
        (Status::RolledOut, Outcome::Corrected),
        "{:?}",
        report.clauses[0].failure
    );
    assert!(fs::read(kiosk.root.at("/etc/map.bin")).unwrap() == map, "it is the map");

    // Someone changes one byte of it, and then makes it longer than the clause lets be read.
    let file = fs::File::options().write(true).open(kiosk.root.at("/etc/map.bin")).unwrap();
    std::os::unix::fs::FileExt::write_all_at(&file, b"!", 1_000_000).unwrap();
    let (output, comparing) = run(&kiosk, &["enforce", "--yes", "--output", "json"]);
    assert!(output.contains("drift_corrected"), "{output}");
    let file = fs::File::options().write(true).open(kiosk.root.at("/etc/map.bin")).unwrap();
    file.set_len(101 * MIB as u64).unwrap();
    let (output, _) = run(&kiosk, &["observe"]);
    assert!(output.contains("actual 105906176 bytes, unread:105906176"), "{output}");
    println!("KiB: usual {usual}, fetching {fetching}, writing {writing}, comparing {comparing}");
    assert!(
        [fetching, writing, comparing].iter().all(|most| *most < MAX_KIB),
        "KiB: {usual} {fetching} {writing} {comparing} {without}"
    );
}
