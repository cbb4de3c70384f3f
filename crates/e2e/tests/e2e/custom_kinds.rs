//! Custom kinds: one that works, and programs that hang, flood, lie and die.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_core::run::{ClauseResult, Outcome, Status, Verdict};
use constans_e2e::story::{change, group, joined, kits, well};
use constans_e2e::{Fleet, Machine};
use constans_wire::report::RunReport;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

/// Writes a kit that declares one kind with this program, and wants a thing of it and a file after it.
fn kit(folder: &Path, program: &str) -> PathBuf {
    let kit = folder.join("quay-lights");
    for inner in ["baselines", "kinds/lane_light"] {
        fs::create_dir_all(kit.join(inner)).unwrap();
    }
    let write = |path: &str, text: &str| fs::write(kit.join(path), text).unwrap();
    write("kit.toml", "[kit]\nname = \"quay-lights\"\nversion = \"1.0.0\"\n");
    write(
        "kinds/lane_light/kind.toml",
        "[kind]\nsummary = \"A light over a lane\"\nprogram = \"light\"\ntimeout = \"2s\"\n\n[properties.colour]\ntype = \"string\"\none_of = [\"red\", \"green\"]\nrequired = true\n\n[properties.code]\ntype = \"string\"\nconcealed = true\n",
    );
    write("kinds/lane_light/light", &format!("#!/bin/sh\n{program}\n"));
    write(
        "baselines/lights.toml",
        "[baseline]\nname = \"lights\"\n\n[[clause]]\nwhat = \"quay-lights/lane_light:A\"\ncolour = \"green\"\ncode = \"Tern-1234\"\n\n[[clause]]\nwhat = \"file:/etc/after\"\ntext = \"x\\n\"\n",
    );
    kit
}

fn run(machine: &Machine, kit: &Path, verb: &str) -> RunReport {
    let kit = kit.display().to_string();
    let arguments: Vec<&str> = if verb == "enforce" { vec!["enforce", "--yes"] } else { vec![verb] };
    machine.run(&[&arguments[..], &["--kit", &kit, "--output", "json"]].concat()).report()
}

fn light(report: &RunReport) -> &ClauseResult {
    &report.clauses[0]
}

const WELL: &str = r#"
file="$CONSTANS_ROOT/etc/light-$CONSTANS_NAME"
case "$1" in
    inspect) if [ -e "$file" ]; then printf '{"present": true, "properties": {"colour": "%s", "code": "%s"}}' $(cat "$file"); else echo '{"present": false}'; fi;;
    correct) code=$(sed 's/.*"code":"\([^"]*\)".*/\1/'); echo "$CONSTANS_WANTED_COLOUR $code" > "$file"; env > "$CONSTANS_ROOT/etc/light-env"; echo '{"done": ["switch the light"]}';;
esac"#;

#[test]
fn a_kind_of_a_kit_is_looked_at_put_right_and_drifts_like_any_other() {
    let machine = Machine::fresh();
    let folder = tempfile::tempdir().unwrap();
    let kit = kit(folder.path(), WELL);
    let seen = run(&machine, &kit, "observe");
    assert_eq!(
        (light(&seen).address.as_str(), light(&seen).verdict),
        ("quay-lights/lane_light:A", Some(Verdict::Different))
    );
    let done = run(&machine, &kit, "enforce");
    assert_eq!(light(&done).outcome, Outcome::Corrected, "{:?}", light(&done).failure);
    assert!(light(&done).native.iter().any(|step| step.what == "switch the light"));
    assert_eq!(run(&machine, &kit, "enforce").status, Status::InLine);
    fs::write(machine.root.path().join("etc/light-A"), "red Tern-1234\n").unwrap();
    let drifted = run(&machine, &kit, "observe");
    let lines: Vec<String> = light(&drifted)
        .differences
        .iter()
        .map(|one| format!("{} {} {}", one.property, one.wanted.words(), one.found.words()))
        .collect();
    assert_eq!(lines, ["colour green red"]);
    assert_eq!(run(&machine, &kit, "enforce").status, Status::DriftCorrected);
    // What is concealed reaches the program on its input alone, and no report.
    assert!(!fs::read_to_string(machine.root.path().join("etc/light-env")).unwrap().contains("Tern"));
    for report in [&seen, &done, &drifted] {
        assert!(!serde_json::to_string(report).unwrap().contains("Tern-1234"));
    }
}

#[test]
fn programs_that_hang_flood_lie_or_die_do_no_harm() {
    let machine = Machine::fresh();
    for (program, message) in [
        ("sleep 60", "did not end within 2 s, and was ended"),
        ("(sleep 60; true) & wait", "did not end within 2 s, and was ended"),
        ("yes", "wrote more than 1048576 bytes, and was ended"),
        ("echo well", "its output is not the expected JSON"),
        (
            "echo '{\"present\": true, \"properties\": {\"colour\": \"blue\"}}'",
            "`colour` is one of `red`, `green`, and this is `blue`",
        ),
        ("echo '{\"present\": true, \"properties\": {\"size\": 1}}'", "it reports the property `size`"),
        ("echo 'no light Tern-1234' >&2; exit 3", "failed with exit status 3"),
        ("kill -9 $$", "failed with exit status 137"),
    ] {
        let folder = tempfile::tempdir().unwrap();
        let _ = fs::remove_file(machine.root.path().join("etc/after"));
        let report = run(&machine, &kit(folder.path(), program), "enforce");
        let failure = light(&report).failure.as_ref().unwrap_or_else(|| panic!("{program} did not fail"));
        assert!(failure.message.contains(message), "{program}: {}", failure.message);
        assert_eq!(
            report.clauses[1].outcome,
            Outcome::Corrected,
            "{program}: what came after it was not done"
        );
        assert!(!serde_json::to_string(&report).unwrap().contains("Tern-1234"), "{program}");
    }
}

#[test]
fn a_program_that_says_it_did_and_did_not_fails_at_verifying() {
    let machine = Machine::fresh();
    let folder = tempfile::tempdir().unwrap();
    let report = run(
        &machine,
        &kit(
            folder.path(),
            "[ \"$1\" = inspect ] && echo '{\"present\": false}' || echo '{\"done\": [\"all is well\"]}'",
        ),
        "enforce",
    );
    assert_eq!(light(&report).failure.as_ref().unwrap().at, constans_core::run::FailureAt::Verify);
}

#[test]
fn the_program_runs_from_a_copy_that_nobody_else_can_change() {
    let machine = Machine::fresh();
    let folder = tempfile::tempdir().unwrap();
    let kit = kit(folder.path(), WELL);
    run(&machine, &kit, "enforce");
    let programs = machine.root.path().join("var/lib/constans/scratch/programs");
    let copy = fs::read_dir(&programs).unwrap().next().unwrap().unwrap().path();
    assert_eq!(copy.metadata().unwrap().permissions().mode() & 0o777, 0o700);
    fs::write(&copy, "#!/bin/sh\necho taken over > $CONSTANS_ROOT/etc/taken\n").unwrap();
    assert_eq!(run(&machine, &kit, "enforce").status, Status::InLine);
    assert!(!machine.root.path().join("etc/taken").exists());
}

#[test]
fn a_server_gives_nodes_the_programs_and_folders_that_their_state_names() {
    let fleet = Fleet::start();
    let ship = joined(&fleet, "bridge-tern", &["role=bridge", "ship=tern"]);
    let kits = kits();
    let gateway = kits.path().join("ship-gateway");
    fs::create_dir_all(gateway.join("copies/charts/north")).unwrap();
    fs::write(gateway.join("copies/charts/north/auken.txt"), "4 m at low water\n").unwrap();
    change(
        &gateway.join("baselines/store-and-forward.toml"),
        "[[clause]]\nwhat = \"directory:/etc/gateway\"",
        "[[clause]]\nwhat = \"tree:/srv/charts\"\ncopy = \"charts\"\nneeds = [\"directory:/srv\"]\n\n[[clause]]\nwhat = \"directory:/srv\"\n\n[[clause]]\nwhat = \"directory:/etc/gateway\"",
    );
    let at = |kit: &str| kits.path().join(kit).display().to_string();
    well(&fleet.client(&["kit", "publish", &at("ship-gateway"), "--with", &at("quay-base")]));
    well(&fleet.client(&["stage", "serve", "open-water", "quay-base@1.3.0", "ship-gateway@0.9.0"]));
    let bridges = "name = \"bridges\"\npriority = 10\nfilter = \"labels.role == 'bridge'\"\n[[assignments]]\nkit = \"ship-gateway\"\nbaseline = \"store-and-forward\"\n[settings]\nmode = \"enforce\"\n";
    well(&group(&fleet, &ship, bridges));
    well(&ship.run(&["daemon", "--once"]));
    assert_eq!(
        ship.root.read("/var/spool/gateway/lanes/tickets").unwrap(),
        "priority = 10\nkeep_hours = 72\n"
    );
    assert_eq!(ship.root.read("/srv/charts/north/auken.txt").unwrap(), "4 m at low water\n");
    let again = ship.run(&["daemon", "--once"]);
    assert!(well(&again).contains("in line"), "{}", again.stdout);
    let node = fleet.client(&["node", "show", "bridge-tern"]).stdout;
    assert!(node.contains("in line"), "{node}");
}
