//! What was known by the metadata of files, and not read again.

use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use std::time::Duration;

#[test]
fn figures_say_how_many_clauses_were_known_by_the_metadata_of_their_files() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    well(&kiosk.run(&["daemon", "--once"]));
    // A file is read again as long as it was changed right before it was read.
    std::thread::sleep(Duration::from_millis(1_200));
    well(&kiosk.run(&["daemon", "--once"]));
    let figures = || well(&fleet.client(&["compliance"])).to_owned();
    assert!(!figures().contains("metadata"), "everything was read");
    let observed = kiosk.run(&["observe", "--output", "json"]).report();
    well(&kiosk.run(&["check-in"]));
    let by_metadata = observed.clauses.iter().filter(|clause| clause.read_at.is_some()).count();
    assert!(by_metadata >= 3, "{:?}", observed.clauses);
    assert!(
        figures().contains(&format!("{by_metadata} clauses at most were known by the metadata")),
        "{}",
        figures()
    );

    // In place, so that no other file is touched.
    std::fs::write(kiosk.root.at("/etc/kiosk/shell.conf"), "was here\n").unwrap();
    well(&kiosk.run(&["daemon", "--once"]));
    assert!(
        figures().contains(&format!("{} clauses at most were known by the metadata", by_metadata - 1)),
        "the file that was changed was read: {}",
        figures()
    );
}
