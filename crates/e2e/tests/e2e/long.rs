//! What takes longer than every change can wait for: `make test-long`.

use constans_clock::MovedClock;
use constans_e2e::Fleet;
use constans_e2e::story::{serve_quays, well};

#[test]
#[ignore = "takes minutes: make test-long"]
fn two_thousand_nodes_in_one_process_take_at_most_a_mebibyte_each() {
    let folder = tempfile::tempdir().unwrap();
    let moved =
        MovedClock::create(&folder.path().join("clock"), "2026-10-01T06:00:00Z".parse().unwrap()).unwrap();
    let fleet = Fleet::start_by(moved.path());
    serve_quays(&fleet, "1.3.0");
    let clock = moved.path().display().to_string();
    let lived = fleet.crowd(&[
        "--nodes",
        "2000",
        "--for",
        "1h",
        "--clock",
        &clock,
        "--from",
        "2026-10-01T06:00:00Z",
        "--drift",
        "4",
        "--cut",
        "1",
    ]);
    let output = well(&lived);
    println!("{output}");
    let kib: usize = output
        .lines()
        .find_map(|line| line.split_once(" KiB of memory a node")?.0.parse().ok())
        .expect("it says so");
    assert!(kib <= 1024, "{output}");
    assert!(output.contains("nodes lived until 2026-10-01T07:00:00Z"), "{output}");
}
