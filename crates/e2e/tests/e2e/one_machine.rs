//! One machine without a server, with the real agent on a private root.

use constans_core::run::{Cause, ClauseResult, FailureAt, Newness, Outcome, ReactionState, Status};
use constans_e2e::{Machine, client, demo_kit};
use constans_wire::report::RunReport;
use std::fs;
use std::time::Duration;

fn clause<'r>(report: &'r RunReport, address: &str) -> &'r ClauseResult {
    report
        .clauses
        .iter()
        .find(|result| result.address.as_str() == address)
        .unwrap_or_else(|| panic!("{address} is not in the report"))
}

const CONF: &str = "file:/etc/kiosk/shell.conf";

#[test]
fn a_kiosk_is_looked_at_brought_in_edited_by_hand_put_right_and_changed() {
    let kiosk = Machine::fresh();
    let before = kiosk.everything();

    let observed = kiosk.run_kit("observe", "kiosk-floor", &["--output", "json"]);
    assert_eq!(kiosk.everything(), before, "observing changes nothing");
    assert_eq!((observed.exit, observed.report().status), (Some(4), Status::RolloutWaiting));

    let enforced = kiosk.run_kit("enforce", "kiosk-floor", &["--output", "json"]);
    let report = enforced.report();
    assert_eq!((enforced.exit, report.status), (Some(0), Status::RolledOut), "{}", enforced.stderr);
    assert_eq!(clause(&report, CONF).newness, Some(Newness::NewHere));
    let packages: Vec<&str> = clause(&report, "package:kiosk-shell")
        .packages
        .iter()
        .map(|change| change.package.as_str())
        .collect();
    assert_eq!(packages, ["kiosk-shell", "quay-fonts"], "what came along is listed");
    assert_eq!(kiosk.service("kiosk-shell")["running"], true);

    let settled = kiosk.everything();
    assert_eq!(
        kiosk.run_kit("enforce", "kiosk-floor", &["--output", "json"]).report().status,
        Status::InLine
    );
    assert_eq!(kiosk.everything(), settled, "a second run changes nothing");

    let edited = kiosk.root.read("/etc/kiosk/shell.conf").unwrap().replace("idle = 90", "idle = 9");
    kiosk.root.write("/etc/kiosk/shell.conf", &edited).unwrap();
    let found = kiosk.run_kit("observe", "kiosk-floor", &["--output", "json"]).report();
    assert_eq!((found.status, clause(&found, CONF).cause), (Status::DriftFound, Some(Cause::Drift)));
    let window = clause(&found, CONF).drift_window.unwrap();
    assert!(report.began <= window.from && window.from <= window.to);
    assert!(clause(&found, CONF).text_diff.as_ref().unwrap().text.contains("-idle = 9\n+idle = 90\n"));

    let corrected = kiosk.run_kit("enforce", "kiosk-floor", &["--output", "json"]).report();
    assert_eq!(corrected.status, Status::DriftCorrected);
    assert_eq!(
        clause(&corrected, "service:kiosk-shell").reaction.as_ref().unwrap().state,
        ReactionState::Done
    );
    assert_eq!(kiosk.service("kiosk-shell")["restarts"], 1);
    assert_eq!(clause(&corrected, CONF).kept[0].attic, 1, "the report says where the old contents are");

    let changed =
        kiosk.run_kit("enforce", "kiosk-floor", &["--output", "json", "--set", "idle_seconds=45"]).report();
    assert_eq!((changed.status, clause(&changed, CONF).newness), (Status::RolledOut, Some(Newness::Changed)));
    assert!(kiosk.root.read("/etc/kiosk/shell.conf").unwrap().contains("idle = 45"));
}

#[test]
fn enforcing_shows_what_it_would_do_and_asks_before_it_acts() {
    let kiosk = Machine::fresh();
    let kit = demo_kit("quay-base");
    let enforce = ["enforce", "--kit", &kit, "--baseline", "login"];
    let before = kiosk.everything();
    let declined = kiosk.run_on_terminal(&enforce, "no\n");
    assert!(
        declined.stdout.contains("preview of enforce; nothing is changed yet")
            && declined.stdout.contains("file:/etc/issue"),
        "{}",
        declined.stdout
    );
    assert_eq!(kiosk.everything(), before, "who says no changes nothing");
    let agreed = kiosk.run_on_terminal(&enforce, "yes\n");
    assert!(agreed.stdout.contains("rolled out"), "{}", agreed.stdout);
    assert!(kiosk.root.read("/etc/issue").unwrap().contains("Skerry Line"));
    let unasked = kiosk.run(&["enforce", "--kit", &kit, "--baseline", "upkeep"]);
    assert!(
        unasked.exit != Some(0) && unasked.stderr.contains("--yes"),
        "without a terminal nobody can be asked: {}",
        unasked.stderr
    );
}

#[test]
fn what_replaced_contents_were_is_found_and_put_back_and_the_next_run_undoes_it() {
    let kiosk = Machine::fresh();
    kiosk.run_kit("enforce", "quay-base", &["--baseline", "login"]);
    let listed = kiosk.run(&["attic", "list", "--path", "/etc/iss*", "--content", "Debian"]);
    assert!(
        listed.stdout.contains("1 entry in the attic") && listed.stdout.contains("/etc/issue"),
        "{}",
        listed.stdout
    );
    assert_eq!(kiosk.run(&["attic", "show", "1"]).stdout, "Debian GNU/Linux 12\n");
    assert!(kiosk.run(&["attic", "compare", "1"]).stdout.contains("+Debian GNU/Linux 12"));

    let put_back = kiosk.run(&["attic", "put-back", "1", "--yes"]);
    assert!(put_back.stdout.contains("the next enforcing run will undo it"), "{}", put_back.stdout);
    assert_eq!(kiosk.root.read("/etc/issue").unwrap(), "Debian GNU/Linux 12\n");
    assert!(
        kiosk.run(&["attic", "show", "2"]).stdout.contains("Skerry Line"),
        "what stood there went into the attic, too"
    );
    let again = kiosk.run_kit("enforce", "quay-base", &["--baseline", "login", "--output", "json"]).report();
    assert_eq!(again.status, Status::DriftCorrected);
    assert!(kiosk.run(&["attic", "show", "77"]).stderr.contains("hint: constans-agent attic list"));
}

#[test]
fn accounts_come_and_go_and_a_guest_is_gone() {
    let kiosk = Machine::fresh();
    let report = kiosk.run_kit("enforce", "quay-base", &["--baseline", "login", "--output", "json"]).report();
    assert_eq!(report.status, Status::RolledOut);
    let passwd = kiosk.root.read("/etc/passwd").unwrap();
    assert!(
        passwd.contains(":Skerry Line operations:/home/ops:/bin/bash") && !passwd.contains("guest"),
        "{passwd}"
    );
    let sudo = kiosk.root.read("/etc/sudoers.d/ops").unwrap();
    assert!(sudo.starts_with("# Managed by Constans, baseline quay-base/login"), "{sudo}");
    let left_out: Vec<&str> = clause(&report, "file:/etc/sudoers.d/ops")
        .not_examined
        .iter()
        .map(|left_out| left_out.property.as_str())
        .collect();
    assert_eq!(left_out, ["owner", "group"], "owners cannot exist below a private root, and that is said");
}

#[test]
fn drift_that_is_only_told_is_left_and_said_to_be() {
    let gate = Machine::fresh();
    gate.run_kit("enforce", "gate-reader", &[]);
    gate.root.write("/etc/gate/tariffs.csv", "from,to,adult,child\nauken,brisk,0.10,0.05\n").unwrap();
    let enforced = gate.run_kit("enforce", "gate-reader", &["--output", "json"]);
    assert_eq!((enforced.exit, enforced.report().status), (Some(4), Status::DriftFound));
    assert!(gate.root.read("/etc/gate/tariffs.csv").unwrap().contains("0.10"));
    let output = gate.run_kit("observe", "gate-reader", &[]).stdout;
    assert!(output.contains("not corrected: the clause says on_drift = \"report\""), "{output}");
}

#[test]
fn a_trust_anchor_stands_in_the_store_that_programs_read_and_is_put_back_there() {
    const STORE: &str = "/etc/ssl/certs/ca-certificates.crt";
    let gate = Machine::fresh();
    let brought = gate.run_kit("enforce", "gate-reader", &["--output", "json"]).report();
    assert_eq!(
        (clause(&brought, "trust_anchor:skerry-line-tickets").outcome, brought.status),
        (Outcome::Corrected, Status::RolledOut)
    );
    assert!(gate.root.read(STORE).unwrap().contains("MIIB5DCCAYqgAwIBAgIUNz3Iqedgt"));
    assert_eq!(gate.run_kit("enforce", "gate-reader", &["--output", "json"]).report().status, Status::InLine);
    gate.root.write(STORE, "").unwrap();
    let output = gate.run_kit("observe", "gate-reader", &[]).stdout;
    assert!(
        output.contains("actual in its folder, not in the store that programs read")
            && output.contains("desired 717 bytes"),
        "{output}"
    );
    assert_eq!(
        gate.run_kit("enforce", "gate-reader", &["--output", "json"]).report().status,
        Status::DriftCorrected
    );
    assert!(gate.root.read(STORE).unwrap().contains("MIIB5DCCAYqgAwIBAgIUNz3Iqedgt"));
}

#[test]
fn a_package_that_cannot_be_installed_fails_with_its_command_and_blocks_what_needs_it_by_name() {
    let depot = Machine::fresh();
    let document = depot.document(
        "printer.toml",
        r#"
[baseline]
name = "printer"

[[clause]]
what = "package:voucher-driver"

[[clause]]
what = "file:/etc/voucher.conf"
text = "lines = 40\n"
needs = ["package:voucher-driver"]

[[clause]]
what = "service:voucher-driver"
running = true
needs = ["file:/etc/voucher.conf"]

[[clause]]
what = "package:kiosk-shell"
version = "9.*"

[[clause]]
what = "package:quay-games"
"#,
    );
    let ended = depot.run(&["enforce", "--file", &document, "--yes", "--output", "json"]);
    let report = ended.report();
    assert_eq!((ended.exit, report.status), (Some(5), Status::Failed));
    let failure = clause(&report, "package:voucher-driver").failure.as_ref().unwrap();
    let command = failure.command.as_ref().unwrap();
    assert!(
        command.what.starts_with("apt-get")
            && command.exit == Some(100)
            && command.output.contains("no voucher printer is connected")
    );
    assert_eq!(failure.remedy.as_deref(), Some("a script of the package failed: see its output"));
    let offered = clause(&report, "package:kiosk-shell").failure.as_ref().unwrap();
    assert_eq!(offered.remedy.as_deref(), Some("the sources offer 3.2.4, 3.2.1, 3.1.0"));
    assert_eq!(
        clause(&report, "package:quay-games").outcome,
        Outcome::Corrected,
        "the rest goes on, whatever apt says of another package"
    );
    let output = depot.run(&["enforce", "--file", &document, "--yes"]).stdout;
    assert!(output.contains("blocked: it needs file:/etc/voucher.conf, which is blocked by package:voucher-driver, which failed"), "{output}");
}

#[test]
fn packages_are_brought_to_a_version_held_and_removed_with_their_settings() {
    let machine = Machine::fresh();
    let wants = |version: &str| {
        machine.document(
            "shell.toml",
            &format!("[baseline]\nname = \"shell\"\n\n[[clause]]\nwhat = \"package:kiosk-shell\"\nversion = \"{version}\"\nhold = true\n"),
        )
    };
    let version = || {
        machine
            .root
            .read("/var/lib/dpkg/status")
            .unwrap()
            .split("Package: kiosk-shell")
            .nth(1)
            .unwrap()
            .lines()
            .find(|line| line.starts_with("Version"))
            .unwrap()
            .to_owned()
    };
    for (wanted, got) in
        [("3.1.*", "Version: 3.1.0"), ("newest", "Version: 3.2.4"), ("< 3.2", "Version: 3.1.0")]
    {
        let report =
            machine.run(&["enforce", "--file", &wants(wanted), "--yes", "--output", "json"]).report();
        assert_eq!(
            (report.status, version().as_str()),
            (Status::RolledOut, got),
            "{wanted}: {:?}",
            report.clauses[0].failure
        );
    }
    machine.run_kit("enforce", "quay-base", &["--baseline", "upkeep"]);
    let document = machine.document(
        "games.toml",
        "[baseline]\nname = \"games\"\n\n[[clause]]\nwhat = \"package:quay-games\"\n",
    );
    machine.run(&["enforce", "--file", &document, "--yes"]);
    assert!(machine.root.at("/etc/quay-games.conf").exists());
    assert_eq!(
        machine
            .run_kit("enforce", "quay-base", &["--baseline", "upkeep", "--output", "json"])
            .report()
            .status,
        Status::DriftCorrected
    );
    assert!(!machine.root.at("/etc/quay-games.conf").exists());
}

#[test]
fn what_stands_in_the_way_is_never_replaced_unasked() {
    let machine = Machine::fresh();
    std::os::unix::fs::symlink("passwd", machine.root.at("/etc/motd")).unwrap();
    let document = machine.document(
        "motd.toml",
        "[baseline]\nname = \"motd\"\n\n[[clause]]\nwhat = \"file:/etc/motd\"\ntext = \"x\"\n\n[[clause]]\nwhat = \"directory:/etc/issue\"\n",
    );
    let before = machine.everything();
    let report = machine.run(&["enforce", "--file", &document, "--yes", "--output", "json"]).report();
    let failure = clause(&report, "file:/etc/motd").failure.as_ref().unwrap();
    assert_eq!(
        (failure.at, failure.message.as_str()),
        (FailureAt::Inspect, "a symbolic link is in the way at /etc/motd, where a regular file should be")
    );
    assert!(
        clause(&report, "directory:/etc/issue")
            .failure
            .as_ref()
            .unwrap()
            .message
            .starts_with("a regular file is in the way")
    );
    assert_eq!(machine.everything(), before);
}

#[test]
fn new_contents_that_their_own_check_refuses_change_nothing() {
    let machine = Machine::fresh();
    machine.run_kit("enforce", "kiosk-floor", &[]);
    let document = machine.document(
        "checked.toml",
        "[baseline]\nname = \"checked\"\n\n[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"new\"\ncheck_with = [\"/usr/bin/refuse\", \"{candidate}\"]\n",
    );
    machine.root.write("/usr/bin/refuse", "#!/bin/sh\necho \"$(cat $1) is not good\"\nexit 7\n").unwrap();
    std::fs::set_permissions(
        machine.root.at("/usr/bin/refuse"),
        std::os::unix::fs::PermissionsExt::from_mode(0o755),
    )
    .unwrap();
    let before = machine.everything();
    let report = machine.run(&["enforce", "--file", &document, "--yes", "--output", "json"]).report();
    let failure = clause(&report, "file:/etc/issue").failure.as_ref().unwrap();
    assert_eq!(failure.message, "check_with refused the new contents of /etc/issue: exit status 7");
    assert_eq!(failure.command.as_ref().unwrap().output, "new is not good");
    assert_eq!(machine.everything(), before);
}

#[test]
fn unknown_entries_go_into_the_attic_and_never_what_a_clause_or_package_has_or_had() {
    let machine = Machine::fresh();
    let document = |clauses: &str| {
        machine.document(
            "known.toml",
            &format!("[baseline]\nname = \"known\"\n\n[[clause]]\nwhat = \"directory:/etc/shop\"\nonly_known = true\n\n{clauses}"),
        )
    };
    let one = |name: &str| format!("[[clause]]\nwhat = \"file:/etc/shop/{name}\"\ntext = \"{name}\"\n\n");
    machine.run(&["enforce", "--file", &document(&(one("a") + &one("b"))), "--yes"]);
    machine.root.write("/etc/shop/stray", "who wrote this?").unwrap();
    let report =
        machine.run(&["enforce", "--file", &document(&one("a")), "--yes", "--output", "json"]).report();
    assert_eq!(clause(&report, "directory:/etc/shop").kept[0].path, "/etc/shop/stray");
    assert!(machine.root.at("/etc/shop/b").exists(), "what is no longer wanted is left behind, not removed");
    assert!(!machine.root.at("/etc/shop/stray").exists());
    for number in 0..21 {
        machine.root.write(&format!("/etc/shop/many-{number}"), "x").unwrap();
    }
    let refused =
        machine.run(&["enforce", "--file", &document(&one("a")), "--yes", "--output", "json"]).report();
    let message = &clause(&refused, "directory:/etc/shop").failure.as_ref().unwrap().message;
    assert_eq!(message, "21 entries of /etc/shop are unknown, and at most 20 are removed at once");
}

#[test]
fn what_is_concealed_is_in_no_output_and_in_no_file_of_the_agent() {
    let machine = Machine::fresh();
    let document = machine.document(
        "secret.toml",
        "[baseline]\nname = \"secret\"\n\n[[clause]]\nwhat = \"file:/etc/voucher.key\"\ntext = \"Tern-1234\"\nconceal = true\npermissions = \"0600\"\n\n[[clause]]\nwhat = \"account:ops\"\npassword_hash = \"$y$j9T$saltsaltsalt$hashhashhash\"\n",
    );
    let mut output = String::new();
    for edit in ["", "Gannet-99"] {
        if !edit.is_empty() {
            machine.root.write("/etc/voucher.key", edit).unwrap();
        }
        for (verb, more) in [("observe", "-v"), ("enforce", "--yes"), ("enforce", "--yes")] {
            let ended = machine.run(&[verb, "--file", &document, more]);
            output += &(ended.stdout + &ended.stderr);
            let ended = machine.run(&[verb, "--file", &document, more, "--output", "json"]);
            output += &(ended.stdout + &ended.stderr);
        }
    }
    assert!(output.contains("(concealed)"));
    assert_eq!(machine.root.read("/etc/voucher.key").unwrap(), "Tern-1234");
    assert!(machine.root.read("/etc/shadow").unwrap().contains("$y$j9T$saltsaltsalt$hashhashhash"));
    for secret in ["Tern-1234", "Gannet-99", "hashhashhash"] {
        assert!(!output.contains(secret), "{secret} was shown");
    }
    let kept = std::process::Command::new("grep")
        .args(["-rlE", "Tern-1234|hashhashhash"])
        .arg(machine.root.at("/var/lib/constans"))
        .output()
        .unwrap();
    assert_eq!(
        String::from_utf8_lossy(&kept.stdout),
        "",
        "only the attic holds old contents, and these were never replaced"
    );
}

#[test]
fn a_part_is_chosen_by_address_or_topic() {
    let kiosk = Machine::fresh();
    kiosk.run_kit("enforce", "kiosk-floor", &[]);
    kiosk.root.write("/etc/kiosk/shell.conf", "x").unwrap();
    kiosk.root.write("/etc/kiosk/debug.conf", "x").unwrap();
    let report =
        kiosk.run_kit("enforce", "kiosk-floor", &["--topic", "settings", "--output", "json"]).report();
    let settings =
        [CONF, "file:/etc/kiosk/lanes/A.conf", "file:/etc/kiosk/lanes/B.conf", "link:/etc/kiosk/current"];
    assert_eq!(report.clauses.iter().map(|result| result.address.as_str()).collect::<Vec<_>>(), settings);
    assert_eq!(
        (report.partial, report.status, report.due.len()),
        (true, Status::RolloutWaiting, 2),
        "the reactions stay due"
    );
    assert!(kiosk.root.at("/etc/kiosk/debug.conf").exists());
    let wrong = kiosk.run_kit("observe", "kiosk-floor", &["--clause", "file:/etc/kiosk/shel.conf"]);
    assert!(wrong.stderr.contains("did you mean `file:/etc/kiosk/shell.conf`?"), "{}", wrong.stderr);
}

#[test]
fn nobody_is_overrun() {
    let kiosk = Machine::fresh();
    let kit = demo_kit("kiosk-floor");
    let before = kiosk.everything();
    let unasked = kiosk.run(&["enforce", "--kit", &kit]);
    assert_eq!(unasked.exit, Some(3));
    assert!(
        unasked.stderr.contains("hint: run `constans-agent observe` first, then add --yes"),
        "{}",
        unasked.stderr
    );
    assert_eq!(kiosk.everything(), before, "without an answer nothing is changed");

    kiosk.root.write("/var/lib/constans/joined.json", "{}").unwrap();
    let joined = kiosk.run(&["enforce", "--kit", &kit, "--yes"]);
    assert_eq!(joined.exit, Some(3));
    assert!(joined.stderr.contains("this node belongs to a server"), "{}", joined.stderr);
    assert_eq!(kiosk.run(&["observe", "--kit", &kit]).exit, Some(4), "looking is allowed");
}

#[test]
fn a_second_run_waits_and_then_says_who_runs() {
    let machine = Machine::fresh();
    machine.root.write("/usr/bin/slow", "#!/bin/sh\nsleep 3\n").unwrap();
    std::fs::set_permissions(
        machine.root.at("/usr/bin/slow"),
        std::os::unix::fs::PermissionsExt::from_mode(0o755),
    )
    .unwrap();
    let document = machine.document(
        "slow.toml",
        "[baseline]\nname = \"slow\"\n\n[[clause]]\nwhat = \"command:slow\"\nargv = [\"/usr/bin/slow\"]\nin_line_when = \"/never\"\n",
    );
    let mut first = machine
        .agent(&["enforce", "--file", &document, "--yes"])
        .stdout(std::process::Stdio::null())
        .spawn()
        .unwrap();
    let lock = machine.root.at("/var/lib/constans/lock");
    while std::fs::read_to_string(&lock).unwrap_or_default().is_empty() {
        std::thread::sleep(Duration::from_millis(10));
    }
    let second = machine.run(&["observe", "--file", &document, "--wait", "0"]);
    assert_eq!(second.exit, Some(7), "{}", second.stderr);
    assert!(
        second.stderr.contains(&format!("another run is in progress: enforce by process {}", first.id())),
        "{}",
        second.stderr
    );
    assert_eq!(
        first.wait().unwrap().code(),
        Some(5),
        "the command ran, and still there is no /never: failed to verify"
    );
}

#[test]
fn documents_with_errors_change_nothing_and_say_where() {
    let machine = Machine::fresh();
    let document = machine.document(
        "wrong.toml",
        "[baseline]\nname = \"wrong\"\n\n[[clause]]\nwhat = \"fle:/etc/issue\"\ntext = \"x\"\n",
    );
    let ended = machine.run(&["enforce", "--file", &document, "--yes"]);
    assert_eq!(ended.exit, Some(1));
    assert!(
        ended.stderr.contains("error C0120: unknown kind `fle`")
            && ended.stderr.contains("did you mean `file`?"),
        "{}",
        ended.stderr
    );
    let own = machine.document("own.toml", "[baseline]\nname = \"own\"\n\n[[clause]]\nwhat = \"directory:/var/lib/constans\"\ngone = true\n\n[[clause]]\nwhat = \"package:constans-agent\"\ngone = true\n");
    let refused = machine.run(&["enforce", "--file", &own, "--yes"]);
    assert_eq!(
        refused.stderr.matches("would stop, remove or change the agent itself").count(),
        2,
        "{}",
        refused.stderr
    );
}

#[test]
fn the_client_checks_the_demo_kits_and_says_what_they_hold() {
    for kit in ["quay-base", "kiosk-floor", "gate-reader", "ship-gateway"] {
        let checked = client(&["kit", "check", &demo_kit(kit), "--strict"]);
        assert_eq!(checked.exit, Some(0), "{}", checked.stdout);
        assert!(
            checked.stdout.starts_with(&format!("{kit}@")) && checked.stdout.ends_with("no findings\n"),
            "{}",
            checked.stdout
        );
    }
    let missing = client(&["kit", "check", "/nowhere"]);
    assert_eq!((missing.exit, missing.stderr.contains("hint: name the folder of kit.toml")), (Some(1), true));
}

#[test]
fn findings_come_as_json_and_junit_too() {
    let machine = Machine::fresh();
    let document = machine
        .document("wrong.toml", "[baseline]\nname = \"wrong\"\n\n[[clause]]\nwhat = \"fle:/etc/<issue>\"\n");
    let json: serde_json::Value =
        serde_json::from_str(&client(&["kit", "check", &document, "--output", "json"]).stdout).unwrap();
    assert_eq!(
        (
            json["well"].as_bool(),
            json["findings"][0]["code"].as_str(),
            json["findings"][0]["place"]["line"].as_u64()
        ),
        (Some(false), Some("C0120"), Some(5))
    );
    let junit = client(&["kit", "check", &document, "--output", "junit"]).stdout;
    assert!(
        junit.contains("failures=\"1\"")
            && junit.contains("unknown kind `fle`")
            && junit.contains("&lt;issue&gt;"),
        "{junit}"
    );
}

#[test]
fn a_kit_works_alone_without_what_it_only_requires_and_not_without_what_it_includes() {
    let machine = Machine::fresh();
    let alone = |kit: &str| {
        let folder = machine.document(&format!("alone-{kit}"), "");
        std::fs::remove_file(&folder).unwrap();
        std::fs::create_dir(&folder).unwrap();
        assert!(
            std::process::Command::new("cp")
                .arg("-r")
                .arg(demo_kit(kit))
                .arg(&folder)
                .status()
                .unwrap()
                .success()
        );
        format!("{folder}/{kit}")
    };
    let observed = machine.run(&["observe", "--kit", &alone("kiosk-floor"), "--output", "json"]);
    assert_eq!(
        (observed.exit, observed.report().status),
        (Some(4), Status::RolloutWaiting),
        "{}",
        observed.stderr
    );
    let ship = alone("ship-gateway");
    let refused = machine.run(&["observe", "--kit", &ship, "--label", "role=bridge", "--label", "ship=tern"]);
    assert_eq!(refused.exit, Some(1));
    assert!(
        refused.stderr.contains("`quay-base` is not available, and `login` is included from it"),
        "{}",
        refused.stderr
    );
    let named = [
        "observe",
        "--kit",
        &ship,
        "--with",
        &demo_kit("quay-base"),
        "--label",
        "role=bridge",
        "--label",
        "ship=tern",
    ];
    assert_eq!(machine.run(&named).exit, Some(4));
}

#[test]
fn a_file_that_somebody_blew_up_costs_no_memory_and_is_not_lost() {
    let machine = Machine::fresh();
    let document = |more: &str| {
        let text = format!(
            "[baseline]\nname = \"login\"\n\n[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"Skerry Line\\n\"\n{more}"
        );
        machine.document("login.toml", &text)
    };
    let blow_up = |bytes: u64| {
        fs::File::options().write(true).open(machine.root.at("/etc/issue")).unwrap().set_len(bytes).unwrap();
    };
    // With so little memory no such file can be held.
    let run = |verb: &str, document: &str| {
        let agent = machine.agent(&[verb, "--file", document, "--output", "json"]);
        let mut bounded = std::process::Command::new("prlimit");
        bounded.arg("--as=600000000").arg(agent.get_program()).args(agent.get_args());
        let yes = (verb == "enforce").then_some("--yes");
        let ended = bounded.args(yes).output().unwrap();
        serde_json::from_slice::<constans_wire::report::RunReport>(&ended.stdout)
            .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&ended.stderr)))
    };
    assert_eq!(run("enforce", &document("")).status, Status::RolledOut);

    blow_up(1024 * 1024 * 1024);
    let seen = run("observe", &document(""));
    let found = seen.clauses[0].differences[0].found.words();
    assert_eq!(found, "1073741824 bytes, unread:1073741824");
    let refused = run("enforce", &document(""));
    let failure = refused.clauses[0].failure.as_ref().unwrap();
    assert_eq!(
        failure.message,
        "/etc/issue could not be kept in the attic: it has 1073741824 bytes, and the attic takes at most 512 MiB"
    );
    assert!(failure.remedy.as_ref().unwrap().contains("attic = false"));
    assert_eq!(
        fs::metadata(machine.root.at("/etc/issue")).unwrap().len(),
        1024 * 1024 * 1024,
        "nothing was changed"
    );

    // What the attic can hold goes there piece by piece.
    blow_up(100 * 1024 * 1024);
    let corrected = run("enforce", &document(""));
    assert_eq!(
        (corrected.status, corrected.clauses[0].kept[0].bytes),
        (Status::DriftCorrected, 100 * 1024 * 1024)
    );
    blow_up(1024 * 1024 * 1024);
    assert_eq!(run("enforce", &document("attic = false\n")).status, Status::DriftCorrected);
    assert_eq!(machine.root.read("/etc/issue").unwrap(), "Skerry Line\n");
}

#[test]
fn an_index_that_lists_a_file_that_is_gone_is_fetched_once_more() {
    let machine = Machine::fresh();
    let document = |package: &str| {
        machine.document(
            "packages.toml",
            &format!("[baseline]\nname = \"upkeep\"\n\n[[clause]]\nwhat = \"package:{package}\"\n"),
        )
    };
    // A repository of this machine's own, since it changes.
    let sources = machine.root.read("/etc/apt/sources.list").unwrap();
    let shared = sources
        .split_whitespace()
        .find_map(|word| word.strip_prefix("file:"))
        .unwrap()
        .trim_end_matches('/')
        .to_owned();
    let own = machine.root.at("/srv/repository");
    fs::create_dir_all(machine.root.at("/srv")).unwrap();
    assert!(std::process::Command::new("cp").arg("-r").args([&shared]).arg(&own).status().unwrap().success());
    machine
        .root
        .write(
            "/etc/apt/sources.list",
            &sources.replace(&format!("file:{shared}"), &format!("copy:{}", own.display())),
        )
        .unwrap();
    assert_eq!(
        machine
            .run(&["enforce", "--file", &document("quay-games"), "--yes", "--output", "json"])
            .report()
            .status,
        Status::RolledOut
    );

    // The repository moves on: what the fetched index names is there under another name now.
    let index = own.join("Packages");
    let text = fs::read_to_string(&index).unwrap();
    let newest = text
        .lines()
        .filter_map(|line| line.strip_prefix("Filename: "))
        .rfind(|name| name.contains("kiosk-shell_"))
        .unwrap();
    let moved = newest.replace("_all.deb", "_anew_all.deb");
    fs::rename(own.join(newest), own.join(&moved)).unwrap();
    let text = text.replace(newest, &moved);
    fs::write(&index, &text).unwrap();
    let sum = std::process::Command::new("sha256sum").arg(&index).output().unwrap();
    let sum = String::from_utf8_lossy(&sum.stdout).split(' ').next().unwrap().to_owned();
    fs::write(
        own.join("Release"),
        format!("Origin: Skerry Line\nSuite: quay\nDate: Fri, 02 Jan 2026 00:00:00 UTC\nSHA256:\n {sum} {} Packages\n", text.len()),
    )
    .unwrap();

    let report =
        machine.run(&["enforce", "--file", &document("kiosk-shell"), "--yes", "--output", "json"]).report();
    let steps: Vec<&str> = report.clauses[0].native.iter().map(|step| step.what.as_str()).collect();
    assert_eq!(report.status, Status::RolledOut, "{:?}", report.clauses[0].failure);
    assert_eq!(steps.iter().filter(|step| step.contains(" update ")).count(), 1, "{steps:#?}");
}
