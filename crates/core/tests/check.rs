//! Kits in, findings out: what the check says, where, and what it offers instead.

use constans_core::check::{Surroundings, check, check_single};
use constans_core::document::{KitFiles, explain_findings};

fn findings(document: &str) -> String {
    let checked = check_single("kiosk-lockdown.toml", document.as_bytes().to_vec());
    let files = KitFiles::new([("kiosk-lockdown.toml".to_owned(), document.as_bytes().to_vec())]);
    explain_findings(&checked.findings, &files, "")
}

fn clauses(clauses: &str) -> String {
    findings(&format!("[baseline]\nname = \"kiosk-lockdown\"\n\n{clauses}"))
}

#[test]
fn an_unknown_kind_is_marked_with_the_nearest_right_one() {
    insta::assert_snapshot!(clauses("[[clause]]\nwhat = \"pakage:kiosk-shell\"\n"), @r#"
    error C0120: unknown kind `pakage`
      --> kiosk-lockdown.toml:5:9
    5 | what = "pakage:kiosk-shell"
      |         ^^^^^^
    hint: did you mean `package`?
    "#);
}

#[test]
fn an_unclosed_quote_is_reported_where_it_was_opened() {
    insta::assert_snapshot!(findings("[baseline]\nname = \"kiosk-lockdown\nsummary = \"x\"\n"), @r#"
    error C0101: the text opened here is never closed
      --> kiosk-lockdown.toml:2:8
    2 | name = "kiosk-lockdown
      |        ^
    hint: close it with `"`
    "#);
    insta::assert_snapshot!(clauses("[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"\"\"\nSkerry Line\n\n[[clause]]\nwhat = \"file:/etc/motd\"\n"), @r#"
    error C0101: the text opened here is never closed
      --> kiosk-lockdown.toml:6:8
    6 | text = """
      |        ^^^
    hint: close it with `"""`
    "#);
    insta::assert_snapshot!(clauses("[[clause]]\nwhat = \"package:kiosk-shell\"\ntopics = [\"a\", \"b\"\nseverity = \"high\"\n"), @r#"
    error C0101: the list opened here is never closed
      --> kiosk-lockdown.toml:6:10
    6 | topics = ["a", "b"
      |          ^
    hint: close it with `]`
    "#);
}

#[test]
fn a_quote_left_open_in_a_list_is_reported_where_it_was_opened_and_nothing_else_is() {
    for (list, column, line) in [
        ("[\"login, \"settings\"]", 11, 6),
        ("[\"login, settings]", 11, 6),
        ("['login, 'settings']", 11, 6),
        ("[\n  \"login\",\n  \"settings,\n  \"quay\",\n]", 3, 8),
        ("[\"login\", \"settings]", 20, 6),
    ] {
        let text = format!(
            "[[clause]]\nwhat = \"package:kiosk-shell\"\ntopics = {list}\n\n[[clause]]\nwhat = \"package:kiosk-tools\"\nseverity = \"worst\"\n"
        );
        let found = clauses(&text);
        assert!(
            found.contains(&format!(
                "the text opened here is never closed\n  --> kiosk-lockdown.toml:{line}:{column}\n"
            )),
            "{list}: {found}"
        );
        assert!(
            found.matches("error C").count() == 2 && found.contains("worst"),
            "the rest is checked, and nothing follows from it: {list}: {found}"
        );
    }
    let missing = clauses("[[clause]]\nwhat = \"package:kiosk-shell\"\ntopics = [\"login\", settings\"]\n");
    assert!(
        missing.contains("missing opening quote") && missing.matches("error C").count() == 1,
        "{missing}"
    );
}

#[test]
fn everything_is_found_at_once() {
    insta::assert_snapshot!(
        clauses(
            r#"[params.idle_seconds]
type = "integer"
default = 5
min = 10

[[clause]]
what = "file:/etc/kiosk/shell.conf"
text = "idle = {{ params.idel_seconds }}"
permisions = "0640"
owner = 0

[[clause]]
what = "file:/etc/issue"
text = "x"
permissions = 640

[[clause]]
what = "service:kiosk-shell"
running = "yes"
severity = "hihg"
reaction = "restart"
where = "labels.role == 'kiosk' && about.os.famly == 'debian'"
"#
        ),
        @r#"
    error C0131: `idle_seconds` is at least 10, and this is 5
      --> kiosk-lockdown.toml:6:11
    6 | default = 5
      |           ^

    error C0151: the baseline declares no parameter `idel_seconds`
      --> kiosk-lockdown.toml:11:19
    11 | text = "idle = {{ params.idel_seconds }}"
       |                   ^^^^^^^^^^^^^^^^^^^
    hint: did you mean `params.idle_seconds`?

    error C0110: a file has no property `permisions`
      --> kiosk-lockdown.toml:12:1
    12 | permisions = "0640"
       | ^^^^^^^^^^
    hint: did you mean `permissions`?

    error C0112: `permissions` takes octal digits in quotes, and this is a number
      --> kiosk-lockdown.toml:18:15
    18 | permissions = 640
       |               ^^^
    hint: write permissions = "0640"

    error C0126: nothing triggers this `reaction`
      --> kiosk-lockdown.toml:21:8
    21 | what = "service:kiosk-shell"
       |        ^^^^^^^^^^^^^^^^^^^^^
    hint: add reacts_to = ["…"]

    error C0112: `running` takes `true` or `false`, and this is a text
      --> kiosk-lockdown.toml:22:11
    22 | running = "yes"
       |           ^^^^^

    error C0112: `severity` is one of `low`, `medium`, `high`, `critical`, and this is `hihg`
      --> kiosk-lockdown.toml:23:12
    23 | severity = "hihg"
       |            ^^^^^^
    hint: did you mean `high`?

    error C0141: `about.os.famly` is not a stable field of a node
      --> kiosk-lockdown.toml:25:36
    25 | where = "labels.role == 'kiosk' && about.os.famly == 'debian'"
       |                                    ^^^^^^^^^^^^^^
    hint: did you mean `about.os.family`?

    warning C0134: nothing uses the parameter `idle_seconds`
      --> kiosk-lockdown.toml:4:9
    4 | [params.idle_seconds]
      |         ^^^^^^^^^^^^
    hint: use it as {{ params.idle_seconds }}, or remove it
    "#
    );
}

#[test]
fn two_clauses_with_one_claim_are_a_conflict_that_names_both_places() {
    insta::assert_snapshot!(
        clauses("[[clause]]\nwhat = \"file:/etc/issue\"\npermissions = \"0644\"\n\n[[clause]]\nwhat = \"link:/etc//issue\"\ntarget = \"motd\"\n"),
        @r#"
    error C0160: conflicting clauses for the path /etc/issue
      --> kiosk-lockdown.toml:9:8
    9 | what = "link:/etc//issue"
      |        ^^^^^^^^^^^^^^^^^^
      --> kiosk-lockdown.toml:5:8  (the other one)
    5 | what = "file:/etc/issue"
      |        ^^^^^^^^^^^^^^^^^
    hint: keep one of them, or tell them apart by `where`
    "#
    );
}

#[test]
fn what_waits_for_itself_is_printed_as_a_circle() {
    insta::assert_snapshot!(
        clauses("[[clause]]\nwhat = \"package:a\"\nneeds = [\"package:c\"]\n\n[[clause]]\nwhat = \"package:b\"\nneeds = [\"package:a\"]\n\n[[clause]]\nwhat = \"package:c\"\nneeds = [\"package:b\"]\n"),
        @r#"
    error C0162: cycle of clauses: package:a after package:c after package:b after package:a
      --> kiosk-lockdown.toml:5:8
    5 | what = "package:a"
      |        ^^^^^^^^^^^
      --> kiosk-lockdown.toml:13:8  (package:c)
    13 | what = "package:c"
       |        ^^^^^^^^^^^
      --> kiosk-lockdown.toml:9:8  (package:b)
    9 | what = "package:b"
      |        ^^^^^^^^^^^
    hint: remove one of these needs or reactions
    "#
    );
}

#[test]
fn a_need_that_nothing_fits_offers_the_nearest() {
    insta::assert_snapshot!(
        clauses("[[clause]]\nwhat = \"package:kiosk-shell\"\n\n[[clause]]\nwhat = \"directory:/etc/kiosk\"\nneeds = [\"package:kiosk-shel\"]\n"),
        @r#"
    error C0161: `needs` names `package:kiosk-shel`, which matches no clause
      --> kiosk-lockdown.toml:9:10
    9 | needs = ["package:kiosk-shel"]
      |          ^^^^^^^^^^^^^^^^^^^^
    hint: did you mean `package:kiosk-shell`?
    "#
    );
}

#[test]
fn values_that_kits_do_not_know_are_refused_with_the_line_to_write() {
    insta::assert_snapshot!(
        clauses("[[clause]]\nwhat = \"account:ops\"\ncomment = 2026-11-23\nuid = 9007199254740993\npassword_hash = \"Tern-1234\"\n"),
        @r#"
    error C0103: dates and times are not allowed here
      --> kiosk-lockdown.toml:6:11
    6 | comment = 2026-11-23
      |           ^^^^^^^^^^
    hint: write it as a text: "2026-11-23"

    error C0103: integers go from -2^53 to 2^53
      --> kiosk-lockdown.toml:7:7
    7 | uid = 9007199254740993
      |       ^^^^^^^^^^^^^^^^
    hint: write it as a text, in quotes

    error C0190: `password_hash` takes a hash as crypt(5) writes it, not the password itself
      --> kiosk-lockdown.toml:8:17
    8 | password_hash = •••••••••••
      |                 ^^^^^^^^^^^
    hint: make one with `mkpasswd --method=yescrypt`, and choose a new password, since this one is written down
    "#
    );
}

fn kit(files: &[(&str, &str)]) -> String {
    let files =
        KitFiles::new(files.iter().map(|(path, text)| ((*path).to_owned(), text.as_bytes().to_vec())));
    explain_findings(
        &check(files.clone(), Some("kiosk-floor"), Surroundings::default()).findings,
        &files,
        "kiosk-floor/",
    )
}

#[test]
fn a_kits_files_are_held_against_its_clauses() {
    let baseline = "[baseline]\nname = \"shell\"\n\n[[clause]]\nwhat = \"file:/etc/kiosk/shell.conf\"\nrender = \"shell.conf.jinja\"\n\n[[clause]]\nwhat = \"file:/etc/issue\"\ncopy = \"isue\"\n";
    insta::assert_snapshot!(
        kit(&[
            ("kit.toml", "[kit]\nname = \"kiosk-flor\"\nversion = \"1.0\"\n"),
            ("baselines/shell.toml", baseline),
            ("renders/shell.conf.jinja", "idle = 90\nlane = {{ params.lane }}\n"),
            ("copies/issue", "Skerry Line\n"),
            ("copys/issue", "Skerry Line\n"),
        ]),
        @r#"
    error C0152: the kit has no file copies/isue
      --> kiosk-floor/baselines/shell.toml:10:8
    10 | copy = "isue"
       |        ^^^^^^
    hint: did you mean `issue`?

    error C0112: `version` takes three numbers in quotes (SemVer)
      --> kiosk-floor/kit.toml:3:11
    3 | version = "1.0"
      |           ^^^^^
    hint: write version = "1.0.0"

    error C0151: the baseline declares no parameter `lane`
      --> kiosk-floor/renders/shell.conf.jinja:2:11
    2 | lane = {{ params.lane }}
      |           ^^^^^^^^^^^
    hint: declare it: [params.lane]

    warning C0153: no clause uses this file
      --> kiosk-floor/copies/issue
    hint: name it in a clause, or delete it

    warning C0153: the folder copys/ is not read
      --> kiosk-floor/copys/issue
    hint: did you mean copies/?
    "#
    );
}

#[test]
fn a_fine_kit_has_no_findings() {
    let baseline = "[baseline]\nname = \"shell\"\n\n[params.lane]\ntype = \"string\"\n\n[[clause]]\nwhat = \"file:/etc/kiosk/shell.conf\"\nrender = \"shell.conf.jinja\"\n";
    assert_eq!(
        kit(&[
            ("kit.toml", "[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n"),
            ("baselines/shell.toml", baseline),
            ("renders/shell.conf.jinja", "lane = {{ params.lane }}\n")
        ]),
        ""
    );
}

#[test]
fn what_may_lock_administrators_out_is_warned_of() {
    for (clause, warning) in [
        ("what = \"service:ssh\"\nenabled = false", "service:ssh ends remote sign-in"),
        (
            "what = \"account_group:sudo\"\nmembers = []",
            "account_group:sudo would have no member: nobody is an administrator",
        ),
        (
            "what = \"account_group:sudo\"\nmembers = [\"ops\"]\n[[clause]]\nwhat = \"account:ops\"\nlocked = true",
            "`ops` is the last administrator, and could not sign in any more",
        ),
        (
            "what = \"file:/etc/sudoers\"\ntext = \"x\"",
            "a mistake in /etc/sudoers locks administrators out, and new contents are not checked before use",
        ),
    ] {
        let output = clauses(&format!("[[clause]]\n{clause}\n"));
        assert!(output.contains(&format!("warning C0201: {warning}\n")), "{output}");
    }
    assert_eq!(
        clauses(
            "[[clause]]\nwhat = \"account_group:sudo\"\nmembers = [\"ops\", \"tor\"]\n[[clause]]\nwhat = \"account:ops\"\ngone = true\n"
        ),
        ""
    );
}

#[test]
fn a_process_may_read_any_number_of_custom_kinds() {
    // Each is another declaration; before, a process kept each for as long as it lived, and refused more than 10,000.
    let declared = |round: usize, at: usize| {
        (
            format!("kinds/light_{at}/kind.toml"),
            format!(
                "[kind]\nprogram = \"light\"\nsummary = \"Lane light {at}, release {round}\"\n[properties.lit]\ntype = \"boolean\"\n"
            ),
        )
    };
    for round in 0..51 {
        let kinds: Vec<(String, String)> = (0..200).map(|at| declared(round, at)).collect();
        let programs: Vec<String> = (0..200).map(|at| format!("kinds/light_{at}/light")).collect();
        let mut files = vec![
            ("kit.toml", "[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n"),
            (
                "baselines/shell.toml",
                "[baseline]\nname = \"shell\"\n\n[[clause]]\nwhat = \"kiosk-floor/light_7:A\"\nlit = true\n",
            ),
        ];
        files.extend(kinds.iter().map(|(path, text)| (path.as_str(), text.as_str())));
        files.extend(programs.iter().map(|path| (path.as_str(), "#!/bin/sh\n")));
        assert_eq!(kit(&files), "", "release {round}");
    }
}

#[test]
fn the_example_of_a_kind_of_ones_own_is_held_against_the_kind() {
    let with_example = |example: &str| {
        let kind = format!(
            "[kind]\nprogram = \"light\"\nexample = \"\"\"\n{example}\"\"\"\n\n[properties.lit]\ntype = \"boolean\"\nrequired = true\n"
        );
        kit(&[
            ("kit.toml", "[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n"),
            (
                "baselines/shell.toml",
                "[baseline]\nname = \"shell\"\n\n[[clause]]\nwhat = \"kiosk-floor/lane_light:A\"\nlit = true\n",
            ),
            ("kinds/lane_light/kind.toml", &kind),
            ("kinds/lane_light/light", "#!/bin/sh\n"),
        ])
    };
    assert_eq!(with_example("[[clause]]\nwhat = \"kiosk-floor/lane_light:A\"\nlit = true\n"), "");
    insta::assert_snapshot!(with_example("[[clause]]\nwhat = \"kiosk-floor/lane_light:A\"\nlitt = true\n"), @r#"
    error C0124: the example is wrong: a kiosk-floor/lane_light has no property `litt`
      --> kiosk-floor/kinds/lane_light/kind.toml:3:11
    3 | example = """
      |           ^^^
    hint: did you mean `lit`?

    error C0124: the example is wrong: the kiosk-floor/lane_light has no `lit`
      --> kiosk-floor/kinds/lane_light/kind.toml:3:11
    3 | example = """
      |           ^^^
    hint: add lit = … (true or false)
    "#);
    insta::assert_snapshot!(with_example("[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"x\"\n"), @r#"
    error C0124: the example has no clause of the kind
      --> kiosk-floor/kinds/lane_light/kind.toml:3:11
    3 | example = """
      |           ^^^
    hint: write [[clause]], and below it what = "kiosk-floor/lane_light:NAME" and its properties
    "#);
}
