//! Compliance of a small fleet: now, as of a past moment, and as it was known before.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use serde_json::Value;

const SHELL: &str = "/etc/kiosk/shell.conf";

fn figures(fleet: &Fleet, more: &[&str]) -> Value {
    let arguments = [&["compliance", "--output", "json"], more].concat();
    serde_json::from_str(well(&fleet.client(&arguments))).expect("as asked")
}

fn now(fleet: &Fleet) -> String {
    figures(fleet, &[])["as_of"].as_str().expect("as asked").to_owned()
}

/// How many clauses of a node have an outcome, as its page lists them: another way than by the history.
fn listed(fleet: &Fleet, node: &str, is_in_line: bool) -> usize {
    let (status, body) =
        fleet.curl().with_token(fleet.administrator()).get(&format!("/api/nodes/{node}/clauses"));
    assert_eq!(status, 200, "{body}");
    let clauses: Value = serde_json::from_str(&body).expect("as asked");
    let outcomes = clauses["clauses"].as_array().expect("as asked").iter().map(|clause| &clause["outcome"]);
    outcomes
        .filter(|outcome| {
            *outcome != "idle" && (*outcome == "in_line" || *outcome == "corrected") == is_in_line
        })
        .count()
}

fn ran(machine: &Machine) {
    well(&machine.run(&["daemon", "--once"]));
}

#[test]
fn a_drift_lowers_the_rate_while_it_lasts_and_the_past_stays_as_it_was() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let other = joined(&fleet, "kiosk-tern-1", &["role=kiosk", "site=tern"]);
    let _spare = joined(&fleet, "spare-1", &["role=spare"]);
    let nothing = figures(&fleet, &[]);
    assert_eq!((&nothing["clauses"]["compliant"], &nothing["rate_basis_points"]), (&0.into(), &Value::Null));
    assert!(well(&fleet.client(&["compliance"])).contains("0 of 0 clauses on nodes compliant (–)"));
    let before_any = now(&fleet);

    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    let handed_out = figures(&fleet, &["--by", "node"]);
    assert_eq!(handed_out["clauses"]["compliant"], 0, "nothing was examined: {handed_out}");
    assert!(handed_out["clauses"]["unexamined"].as_u64().expect("as asked") > 0, "{handed_out}");
    ran(&kiosk);
    ran(&other);
    let whole = figures(&fleet, &[]);
    let clauses = listed(&fleet, "kiosk-auken-1", true) + listed(&fleet, "kiosk-tern-1", true);
    assert_eq!(whole["clauses"]["compliant"], clauses, "{whole}");
    assert_eq!(
        (&whole["rate_basis_points"], &whole["nodes"]["without_deviation"]),
        (&10_000.into(), &2.into())
    );
    assert_eq!(whole["nodes_in_all"], 3, "spare-1 is of the fleet and has no clauses");
    let in_line = now(&fleet);

    // A person changes a file; the node only observes.
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    well(&kiosk.run(&["check-in"]));
    kiosk.root.write(SHELL, "{}").expect("as asked");
    ran(&kiosk);
    let drifted = figures(&fleet, &["--by", "cause"]);
    assert_eq!(drifted["clauses"]["noncompliant"], listed(&fleet, "kiosk-auken-1", false), "{drifted}");
    assert_eq!(drifted["nodes"]["with_deviation"], 1, "{drifted}");
    let row = |by: &str, key: &str, figures: &Value| {
        figures["rows"]
            .as_array()
            .expect("as asked")
            .iter()
            .find(|row| row["key"] == key)
            .unwrap_or_else(|| panic!("{by} {key}: {figures}"))
            .clone()
    };
    assert_eq!(row("cause", "drift", &drifted)["clauses"]["noncompliant"], 1, "{drifted}");
    let by_site = figures(&fleet, &["--by", "label:site"]);
    assert_eq!(row("site", "tern", &by_site)["rate_basis_points"], 10_000, "{by_site}");
    assert_eq!(row("site", "auken", &by_site)["clauses"]["noncompliant"], 1, "{by_site}");
    let by_clause = figures(&fleet, &["--by", "clause", "--filter", "labels.site == \"auken\""]);
    assert_eq!(by_clause["rows"][0]["key"], format!("file:{SHELL}"), "the worst first: {by_clause}");
    let text = fleet.client(&["compliance", "--by", "label:site"]);
    assert!(
        well(&text).contains("1 of 2 nodes without any deviation, 1 with a deviation")
            && text.stdout.contains("1 without clauses"),
        "{}",
        text.stdout
    );
    let found = now(&fleet);

    // It is corrected, and stays on record.
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "enforce")));
    ran(&kiosk);
    assert_eq!(figures(&fleet, &[])["rate_basis_points"], 10_000);
    let then = figures(&fleet, &["--as-of", &found]);
    assert_eq!((&then["clauses"], &then["nodes"]), (&drifted["clauses"], &drifted["nodes"]));
    let doubt = figures(&fleet, &["--as-of", &in_line]);
    assert_eq!(doubt["clauses"]["compliant"], clauses, "{doubt}");
    assert_eq!(doubt["clauses"]["in_doubt"], 1, "in the window of the drift, as is known now: {doubt}");
    let known_then = figures(&fleet, &["--as-of", &in_line, "--as-known-at", &in_line]);
    assert_eq!(known_then["clauses"], whole["clauses"], "the earlier answer is repeated");
    let first = figures(&fleet, &["--as-of", &before_any]);
    assert_eq!((&first["nodes_in_all"], &first["clauses"]["unexamined"]), (&3.into(), &0.into()));

    // Why it moved, each time; and the days.
    let moves = |more: &[&str]| figures(&fleet, more);
    let first_runs = moves(&["--since", &before_any, "--as-of", &in_line]);
    let reasons = |moves: &Value| -> Vec<(String, u64, i64)> {
        let all = moves["moves"].as_array().expect("as asked").iter();
        all.map(|one| {
            let number = |part: &str| one[part].as_i64().expect("as asked");
            (
                one["reason"].as_str().expect("as asked").to_owned(),
                number("clauses").unsigned_abs(),
                number("compliant"),
            )
        })
        .collect()
    };
    let all = clauses as u64;
    assert_eq!(reasons(&first_runs), [("newly_desired".to_owned(), all, all as i64)], "{first_runs}");
    let change = first_runs["moves"][0]["change"].as_i64().expect("the change of the group");
    assert_eq!(first_runs["changes"][0]["no"], change);
    let fell = moves(&["--since", &in_line, "--as-of", &found]);
    assert_eq!(reasons(&fell), [("deviated".to_owned(), 1, -1)], "{fell}");
    let points = fell["rate_after_basis_points"].as_i64().expect("as asked") - 10_000;
    assert_eq!(fell["moves"][0]["basis_points"], points, "{fell}");
    let back = moves(&["--since", &found]);
    assert_eq!(reasons(&back), [("put_right".to_owned(), 1, 1)], "{back}");
    let words = fleet.client(&["compliance", "--since", &in_line, "--as-of", &found]);
    assert!(well(&words).contains("1          -1        +0  deviated"), "{}", words.stdout);
    let same = fleet.client(&["compliance", "--since", &found, "--as-of", &found]);
    assert!(well(&same).contains("every clause on every node counts as before"), "{}", same.stdout);
    let days = moves(&["--days", "2"]);
    assert_eq!(days["days"][0]["clauses"]["compliant"], 0, "yesterday nothing was desired: {days}");
    assert_eq!(days["days"][1]["rate_basis_points"], 10_000, "{days}");
    assert!(days["changes"].as_array().expect("as asked").iter().any(|one| one["no"] == change), "{days}");
    let by_day = fleet.client(&["compliance", "--by", "day"]);
    assert_eq!(well(&by_day).lines().count(), 32, "a head, 30 days, and what they are: {}", by_day.stdout);

    // A node that left is not of the fleet any more, and was.
    let in_all = |more: &[&str]| figures(&fleet, more)["nodes_in_all"].as_u64().expect("as asked");
    well(&fleet.client(&["node", "retire", "kiosk-tern-1", "--because", "sold", "--confirm", "1"]));
    assert_eq!((in_all(&[]), in_all(&["--as-of", &found])), (2, 3));
}

#[test]
fn what_cannot_be_asked_is_refused_with_what_can() {
    let fleet = Fleet::start();
    for (arguments, because) in [
        (&["--by", "colour"][..], "label:KEY"),
        (&["--by", "label:"], "label"),
        (&["--as-of", "yesterday"], "2026-11-21T23:00:00Z"),
        (&["--as-of", "2999-01-01T00:00:00Z"], "is not over yet"),
        (&["--as-known-at", "2026-01-01T00:00:00Z"], "was known before it"),
        (&["--filter", "labels.site =="], "filter"),
        (&["--since", "2999-01-01T00:00:00Z"], "is not over yet"),
        (&["--since", "2026-11-20T00:00:00Z", "--as-of", "2026-11-19T00:00:00Z"], "is before"),
        (&["--days", "0"], "take 1 to 92"),
        (&["--by", "control", "--days", "5"], "--days goes with --by day only"),
        (&["--by", "day", "--as-of", "2026-11-20T00:00:00Z"], "neither --as-of nor --as-known-at"),
        (&["--days", "30", "--since", "2026-11-20T00:00:00Z"], "cannot be used with"),
    ] {
        let refused = fleet.client(&[&["compliance"], arguments].concat());
        assert!(
            refused.exit != Some(0) && refused.stderr.contains(because),
            "{arguments:?}: {}",
            refused.stderr
        );
    }
    let reader = fleet.curl().with_token(fleet.administrator());
    for (asked, because) in [
        ("days?days=x", "take 1 to 92, not x"),
        ("days?days=93", "take 1 to 92, not 93"),
        ("days?days=30&days=30", "`days` stands more than once"),
        ("days?until=2999-01-01", "did not begin yet"),
        ("days?until=-009999-01-05", "before 2000"),
        ("moves", "name the first moment"),
        ("moves?since=-009999-01-03T00:00:00Z", "before 2000"),
        ("moves?since=x", "2026-11-21T23:00:00Z"),
    ] {
        let (status, body) = reader.get(&format!("/api/compliance/{asked}"));
        assert!(status == 422 && body.contains(because), "{asked}: {status} {body}");
    }
    let (status, body) = reader.get("/api/compliance?as_of=-009999-01-03T00:00:00Z");
    assert!(status == 422 && body.contains("before 2000"), "{status} {body}");
}

#[test]
fn what_waits_longer_than_is_allowed_for_its_severity_is_overdue_from_then_on_and_never_before() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    // It observes: what is newly desired is found and waits.
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    ran(&kiosk);
    let by_cause = |more: &[&str]| -> Vec<(String, u64)> {
        let figures = figures(&fleet, &[&["--by", "cause"], more].concat());
        let rows = figures["rows"].as_array().expect("as asked").iter();
        let row = |row: &Value| {
            (
                row["key"].as_str().unwrap_or_default().to_owned(),
                row["clauses"]["noncompliant"].as_u64().unwrap_or(0),
            )
        };
        let mut all: Vec<_> = rows.map(row).filter(|(_, noncompliant)| *noncompliant > 0).collect();
        all.sort();
        all
    };
    let waiting = by_cause(&[]);
    assert_eq!(waiting.iter().map(|(key, _)| key.as_str()).collect::<Vec<_>>(), ["waiting"]);
    let in_time = now(&fleet);

    // Of critical clauses a second is allowed, of all others what was.
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("controls.toml");
    std::fs::write(&file, "[time_allowed_secs]\ncritical = 1\n").expect("it is written");
    std::thread::sleep(std::time::Duration::from_millis(1_200));
    let done = fleet.client(&["control", "set", file.to_str().expect("UTF-8")]);
    assert!(well(&done).contains("other times are allowed until something is overdue"), "{}", done.stdout);
    let by_severity = figures(&fleet, &["--by", "severity"]);
    let rows = by_severity["rows"].as_array().expect("as asked").iter();
    let critical: u64 = rows
        .filter(|row| row["key"] == "critical")
        .map(|row| row["clauses"]["noncompliant"].as_u64().expect("as asked"))
        .sum();
    assert!(critical > 0, "the account guest: {by_severity}");
    let whole = waiting[0].1;
    assert_eq!(
        by_cause(&[]),
        [("overdue".to_owned(), critical), ("waiting".to_owned(), whole - critical)].to_vec()
    );
    assert_eq!(by_cause(&["--as-of", &in_time]), waiting, "the times of then were others");
    let text = fleet.client(&["compliance", "--by", "cause"]);
    assert!(
        well(&text).contains("not applied yet, overdue")
            && text.stdout.contains("not applied yet, not yet due"),
        "{}",
        text.stdout
    );
    // Of one release other times are allowed: for it alone, and where it says nothing the others stay.
    let times = "[time_allowed_secs]\ncritical = 1\n[time_allowed_of_releases_secs.\"quay-base@1.3.0\"]\ncritical = 3600\nhigh = 1\n";
    std::fs::write(&file, times).expect("it is written");
    let before_release = now(&fleet);
    let done = fleet.client(&["control", "set", file.to_str().expect("UTF-8")]);
    assert!(well(&done).contains("other times are allowed until something is overdue"), "{}", done.stdout);
    let of_release = |release: &str| {
        let only = format!("release:{release}");
        let rows = figures(&fleet, &["--only", &only, "--by", "severity"])["rows"].clone();
        let count = |severity: &str| {
            let rows = rows.as_array().expect("as asked").iter();
            rows.filter(|row| row["key"] == severity)
                .filter_map(|row| row["clauses"]["noncompliant"].as_u64())
                .sum::<u64>()
        };
        (count("high"), count("critical"))
    };
    let (quay, kiosk_floor) = (of_release("quay-base@1.3.0"), of_release("kiosk-floor@1.0.0"));
    assert!(quay.0 > 0 && quay.1 > 0 && kiosk_floor.0 > 0, "{quay:?} {kiosk_floor:?}");
    assert_eq!(by_cause(&[])[0], ("overdue".to_owned(), quay.0 + kiosk_floor.1));
    assert_eq!(by_cause(&["--as-of", &before_release])[0], ("overdue".to_owned(), critical));
    let listed = fleet.client(&["control", "list"]);
    assert!(well(&listed).contains("of quay-base@1.3.0: high 1 s, critical 60 min"), "{}", listed.stdout);
    let overdue = now(&fleet);
    std::fs::write(&file, "").expect("it is written");
    well(&fleet.client(&["control", "set", file.to_str().expect("UTF-8")]));
    assert_eq!(by_cause(&[]), waiting, "as before");
    assert_eq!(by_cause(&["--as-of", &overdue]).len(), 2, "it was overdue then");
}

#[test]
fn one_control_is_asked_about_by_itself_and_a_clause_that_is_mapped_otherwise_is_a_reason_of_its_own() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk", "site=auken"]);
    let other = joined(&fleet, "kiosk-tern-1", &["role=kiosk", "site=tern"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    ran(&kiosk);
    ran(&other);
    let rows = |figures: &Value, key: &str| {
        let rows = figures["rows"].as_array().expect("as asked");
        rows.iter().find(|row| row["key"] == key).cloned().unwrap_or_else(|| panic!("{key}: {figures}"))
    };
    // What is asked about alone is what its row says beside the others.
    let all = figures(&fleet, &[]);
    for (by, only, key) in [
        ("control", "control:SK-7", "SK-7"),
        ("baseline", "baseline:quay-base/login", "quay-base/login"),
        ("release", "release:kiosk-floor@1.0.0", "kiosk-floor@1.0.0"),
        ("severity", "severity:high", "high"),
        ("clause", "clause:file:/etc/issue", "file:/etc/issue"),
    ] {
        let row = rows(&figures(&fleet, &["--by", by]), key);
        let alone = figures(&fleet, &["--only", only]);
        assert_eq!((&alone["clauses"], &alone["nodes"]), (&row["clauses"], &row["nodes"]), "{only}: {alone}");
        assert_ne!(alone["clauses"], all["clauses"], "{only}");
        let day = figures(&fleet, &["--only", only, "--days", "1"])["days"][0].clone();
        assert_eq!((&day["clauses"], &day["nodes"]), (&row["clauses"], &row["nodes"]), "{only}: {day}");
    }
    let of_sites = figures(&fleet, &["--only", "control:SK-7", "--by", "label:site"]);
    let of_control = rows(&figures(&fleet, &["--by", "control"]), "SK-7");
    let halves = [rows(&of_sites, "auken"), rows(&of_sites, "tern")];
    let sum: u64 = halves.iter().filter_map(|row| row["clauses"]["noncompliant"].as_u64()).sum();
    assert_eq!(of_control["clauses"]["noncompliant"], sum, "{of_sites}");
    let text = fleet.client(&["compliance", "--only", "control:SK-7"]);
    assert!(well(&text).contains("only clauses of control SK-7"), "{}", text.stdout);

    // By assignment: the group, and the baseline with all that it includes.
    let by_assignment = figures(&fleet, &["--by", "assignment"]);
    let (login, lockdown) = ("kiosks: quay-base/login", "kiosks: kiosk-floor/kiosk-lockdown");
    for (key, baseline) in [(login, "quay-base/login"), (lockdown, "kiosk-floor/kiosk-lockdown")] {
        let of_baseline = rows(&figures(&fleet, &["--by", "baseline"]), baseline);
        assert_eq!(rows(&by_assignment, key)["clauses"], of_baseline["clauses"], "{by_assignment}");
    }
    let everyone = "name = \"everyone\"\n[[assignments]]\nkit = \"quay-base\"\nbaseline = \"login\"\nsatisfies = [\"SK-99\"]\n";
    let before = now(&fleet);
    well(&group(&fleet, &kiosk, everyone));
    let of_both = figures(&fleet, &["--by", "assignment"]);
    for key in [login, "everyone: quay-base/login"] {
        assert_eq!(rows(&of_both, key)["clauses"], rows(&by_assignment, login)["clauses"], "{of_both}");
    }

    // The clauses of login satisfy another control now, and nothing else is desired of them.
    let moved = figures(&fleet, &["--since", &before, "--only", "control:SK-99"]);
    let (reason, clauses) = (&moved["moves"][0]["reason"], &moved["moves"][0]["clauses"]);
    let of_new = rows(&figures(&fleet, &["--by", "control"]), "SK-99")["clauses"]["compliant"].clone();
    assert_eq!(
        (reason, moved["before"]["compliant"].clone()),
        (&"mapping_changed".into(), 0.into()),
        "{moved}"
    );
    assert_eq!(
        (&moved["after"]["compliant"], moved["moves"].as_array().map(Vec::len)),
        (&of_new, Some(1)),
        "{moved}"
    );
    assert!(clauses.as_u64() > Some(0) && moved["moves"][0]["change"].is_i64(), "{moved}");
    let whole = fleet.client(&["compliance", "--since", &before]);
    assert!(well(&whole).contains("every clause on every node counts as before"), "{}", whole.stdout);
    let words = fleet.client(&["compliance", "--since", &before, "--only", "control:SK-99"]);
    assert!(well(&words).contains("mapped otherwise by C"), "{}", words.stdout);

    for (wrong, why) in [
        ("weather:wet", "does not say which clauses"),
        ("control:", "name which control"),
        ("severity:odd", "no severity"),
    ] {
        let refused = fleet.client(&["compliance", "--only", wrong]);
        assert!(refused.exit == Some(1) && refused.stderr.contains(why), "{wrong}: {}", refused.stderr);
    }
}

#[test]
fn days_end_in_the_zone_of_the_server_and_those_that_were_counted_in_another_one_stay() {
    let mut fleet = Fleet::start_given(&["--zone", "Pacific/Kiritimati"]);
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    ran(&kiosk);
    fleet.query("update node_life set from_at = now() - interval '5 days'");
    let days = |fleet: &Fleet| figures(fleet, &["--days", "4"]);
    let restarted = |fleet: &mut Fleet| {
        fleet.kill_server();
        fleet.start_server();
        let began = std::time::Instant::now();
        while fleet.query("select count(distinct day) >= 3 from day_figure") != "t" {
            assert!(began.elapsed() < std::time::Duration::from_secs(30), "the days are never counted");
            std::thread::sleep(std::time::Duration::from_millis(200));
        }
    };
    restarted(&mut fleet);
    let far = days(&fleet);
    assert_eq!(far["zone"], "Pacific/Kiritimati");
    let hour = |moment: &Value| moment.as_str().expect("a moment")[11..16].to_owned();
    let all = far["days"].as_array().expect("as asked");
    // 14 hours ahead of UTC.
    assert!(all.iter().all(|day| hour(&day["from"]) == "10:00"), "{far}");
    assert!(all[..3].iter().all(|day| hour(&day["at"]) == "10:00" && day["is_over"] == true), "{far}");
    assert_eq!(
        (&all[3]["is_over"], all[3]["clauses"] == figures(&fleet, &[])["clauses"]),
        (&false.into(), true)
    );
    let text = fleet.client(&["compliance", "--days", "2"]);
    assert!(well(&text).contains("at the end of the day in Pacific/Kiritimati"), "{}", text.stdout);

    fleet.give(&["--zone", "Pacific/Pago_Pago"]);
    restarted(&mut fleet);
    let near = days(&fleet);
    assert_eq!(near["zone"], "Pacific/Pago_Pago");
    let kept = |day: &&Value| all[..3].iter().any(|known| known["day"] == day["day"]);
    let listed = near["days"].as_array().expect("as asked");
    assert!(
        listed.iter().any(|day| kept(&day))
            && listed.iter().filter(kept).all(|day| hour(&day["at"]) == "10:00"),
        "{near}"
    );
    fleet.kill_server();
    let unknown = std::process::Command::new(constans_e2e::program("constans-server"))
        .args(["serve", "--database", "postgres://x", "--name", "x", "--zone", "Skerry/Auken"])
        .output()
        .expect("it starts");
    let told = String::from_utf8_lossy(&unknown.stderr).into_owned();
    assert!(!unknown.status.success() && told.contains("write it as Europe/Oslo"), "{told}");
}
