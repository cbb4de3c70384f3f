//! The language as kits use it: loops, includes, second names, secrets, and what each comes to on a node.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_core::check::{Surroundings, check};
use constans_core::digest::DigestKey;
use constans_core::document::{KitFiles, explain_findings};
use constans_core::filter::{About, InputCache, NodeInputs, NodeView};
use constans_core::kit::{Kit, OnDrift, Severity};
use constans_core::param::{Layer, LayerValue};
use constans_core::state::{
    Assigned, AssignmentTerms, Conditions, ResolveInput, Resolved, resolve, resolve_noting,
};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::fmt::Write as _;

fn files(files: &[(&str, &str)]) -> KitFiles {
    KitFiles::new(files.iter().map(|(path, text)| ((*path).to_owned(), text.as_bytes().to_vec())))
}

/// A kit of one baseline, `kiosk-floor/lockdown`, with what is below its head.
fn kit_of(head: &str, rest: &str) -> KitFiles {
    let baseline = format!("[baseline]\nname = \"lockdown\"\n{head}\n{rest}");
    files(&[
        (
            "kit.toml",
            "[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n[requires]\nquay-base = \"^1.0\"\n",
        ),
        ("baselines/lockdown.toml", &baseline),
    ])
}

fn quay_base() -> Kit {
    let login = "[baseline]\nname = \"login\"\nseverity = \"high\"\n[params.banner]\ntype = \"string\"\ndefault = \"Skerry Line\"\n[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"{{ params.banner }}\"\n";
    let all = "[baseline]\nname = \"everything\"\ninclude = [\"login\"]\n[[clause]]\nwhat = \"package:journal-tools\"\n";
    let files = files(&[
        ("kit.toml", "[kit]\nname = \"quay-base\"\nversion = \"1.3.0\"\n"),
        ("baselines/login.toml", login),
        ("baselines/everything.toml", all),
    ]);
    check(files, Some("quay-base"), Surroundings::default()).kit.unwrap()
}

fn findings(files: &KitFiles) -> String {
    let kits = [quay_base()];
    let surroundings = Surroundings { kits: &kits, complete: true, ..Surroundings::default() };
    explain_findings(&check(files.clone(), Some("kiosk-floor"), surroundings).findings, files, "")
}

fn auken() -> NodeView {
    let labels =
        [("site", "auken"), ("role", "kiosk")].map(|(key, value)| (key.to_owned(), value.to_owned()));
    NodeView { name: "kiosk-auken-1".into(), labels: labels.into(), about: About::sample() }
}

fn resolved(files: &KitFiles, given: &[(&str, Value)]) -> Result<Resolved, String> {
    let base = quay_base();
    let kits = [base.clone()];
    let checked = check(files.clone(), None, Surroundings { kits: &kits, ..Surroundings::default() });
    assert!(!checked.has_errors(), "{}", explain_findings(&checked.findings, files, ""));
    let kit = checked.kit.unwrap();
    let mut layers: BTreeMap<String, Vec<LayerValue>> = BTreeMap::new();
    for (name, value) in given {
        layers
            .entry((*name).to_owned())
            .or_default()
            .push(LayerValue::new(value.clone(), Layer::Group("kiosks".into())));
    }
    resolve(&ResolveInput {
        assigned: vec![Assigned::plainly(&kit, &kit.baselines[0])],
        kits: &[&base],
        given: &layers,
        own: &constans_core::state::OwnProperties::new(),
        view: &auken(),
        key: &DigestKey::new("test"),
        conditions: Conditions::Decide,
        untouchable: &[],
    })
    .map_err(|findings| {
        findings
            .iter()
            .map(|finding| format!("{} ({})", finding.message, finding.place))
            .collect::<Vec<_>>()
            .join("\n")
    })
}

/// Lists the clauses in order, with the contents of files.
fn listed(resolved: &Resolved) -> String {
    let mut text = String::new();
    for clause in &resolved.state.clauses {
        let content = clause
            .text("content")
            .and_then(|name| resolved.contents.iter().find(|(digest, _)| digest.as_str() == name));
        let content =
            content.map(|(_, bytes)| format!("  {:?}", String::from_utf8_lossy(bytes))).unwrap_or_default();
        let needs: String = clause.needs.iter().map(|need| format!("  needs {need}")).collect();
        let _ = writeln!(text, "{}{content}{needs}", clause.address);
    }
    text
}

const LANES: &str = "[params.lanes]\ntype = \"list\"\nof = \"string\"\ndefault = [\"B\", \"A\"]\n";

#[test]
fn a_clause_is_repeated_for_each_item_in_the_order_of_the_list() {
    let kit = kit_of(
        "",
        &format!(
            "{LANES}[[clause]]\nfor = {{ lane = \"params.lanes\" }}\nwhat = \"file:/etc/kiosk/lanes/{{{{ lane }}}}.conf\"\ntext = \"lane = {{{{ lane }}}} at {{{{ labels.site }}}}\"\n\n[[clause]]\nwhat = \"command:index\"\nargv = [\"/usr/bin/index\"]\nreacts_to = [\"file:/etc/kiosk/lanes/*\"]\nneeds = [\"file:/etc/kiosk/lanes/*\"]\n"
        ),
    );
    insta::assert_snapshot!(listed(&resolved(&kit, &[]).unwrap()), @r#"
    file:/etc/kiosk/lanes/B.conf  "lane = B at auken"
    file:/etc/kiosk/lanes/A.conf  "lane = A at auken"
    command:index  needs file:/etc/kiosk/lanes/B.conf  needs file:/etc/kiosk/lanes/A.conf
    "#);
    insta::assert_snapshot!(listed(&resolved(&kit, &[("kiosk-floor/lockdown.lanes", json!({ "add": ["C"], "remove": ["B"] }))]).unwrap()), @r#"
    file:/etc/kiosk/lanes/A.conf  "lane = A at auken"
    file:/etc/kiosk/lanes/C.conf  "lane = C at auken"
    command:index  needs file:/etc/kiosk/lanes/A.conf  needs file:/etc/kiosk/lanes/C.conf
    "#);
}

#[test]
fn loops_go_over_maps_by_key_and_over_two_names_in_turn() {
    let ships = "[params.ships]\ntype = \"map\"\n[params.ships.default.tern]\nmtu = 1400\n[params.ships.default.gannet]\nmtu = 900\n";
    let clause = "[[clause]]\nfor = { ship = \"params.ships\", side = \"['port', 'starboard']\" }\nwhat = \"file:/etc/link/{{ ship.key }}-{{ side }}\"\ntext = \"{{ ship.value.mtu }}\"\n";
    insta::assert_snapshot!(listed(&resolved(&kit_of("", &format!("{ships}{clause}")), &[]).unwrap()), @r#"
    file:/etc/link/gannet-port  "900"
    file:/etc/link/gannet-starboard  "900"
    file:/etc/link/tern-port  "1400"
    file:/etc/link/tern-starboard  "1400"
    "#);
}

#[test]
fn a_check_sees_clauses_of_lists_that_have_no_items_yet() {
    let none = "[params.ships]\ntype = \"map\"\n\n";
    let fine = "[[clause]]\nfor = { ship = \"params.ships\" }\nwhat = \"file:/etc/link/{{ ship.key }}\"\ntext = \"{{ ship.value.mtu + 1 }} {{ params.ships[labels.ship].mtu }}\"\npermissions = \"{{ ship.value.permissions }}\"\n";
    assert_eq!(findings(&kit_of("", &format!("{none}{fine}"))), "");
    insta::assert_snapshot!(findings(&kit_of("", &format!("{none}{}", fine.replace("ship.key", "shipp.key")))), @r#"
    error C0151: unknown name `shipp` in a render
      --> baselines/lockdown.toml:9:27
    9 | what = "file:/etc/link/{{ shipp.key }}"
      |                           ^^^^^^^^^
    hint: did you mean `ship`?
    "#);
}

#[test]
fn what_a_loop_may_not_go_over_is_said_where_it_stands() {
    let clause = |over: &str| {
        format!(
            "{LANES}[[clause]]\nfor = {{ lane = \"{over}\" }}\nwhat = \"file:/etc/kiosk/{{{{ lane }}}}\"\ntext = \"{{{{ params.lanes }}}}\"\n"
        )
    };
    insta::assert_snapshot!(findings(&kit_of("", &clause("params.lane"))), @r#"
    error C0141: the baseline declares no parameter `lane`
      --> baselines/lockdown.toml:9:17
    9 | for = { lane = "params.lane" }
      |                 ^^^^^^^^^^^
    hint: did you mean `params.lanes`?
    "#);
    insta::assert_snapshot!(findings(&kit_of("", &clause("1 + 1"))), @r#"
    error C0142: `for` needs a list or a map, and this is neither
      --> baselines/lockdown.toml:9:16
    9 | for = { lane = "1 + 1" }
      |                ^^^^^^^
    "#);
}

#[test]
fn included_baselines_come_first_once_and_take_their_own_parameters() {
    let kit = kit_of(
        "include = [\"quay-base/everything\", \"quay-base/login\"]",
        "[[clause]]\nwhat = \"package:kiosk-shell\"\nneeds = [\"file:/etc/issue\"]\n",
    );
    let resolved = resolved(&kit, &[("quay-base/login.banner", json!("Auken"))]).unwrap();
    insta::assert_snapshot!(listed(&resolved), @r#"
    file:/etc/issue  "Auken"
    package:journal-tools
    package:kiosk-shell  needs file:/etc/issue
    "#);
    let origins: Vec<String> = resolved
        .state
        .clauses
        .iter()
        .map(|clause| format!("{}@{}", clause.origins[0].kit, clause.origins[0].version))
        .collect();
    assert_eq!(origins, ["quay-base@1.3.0", "quay-base@1.3.0", "kiosk-floor@1.0.0"]);
}

#[test]
fn includes_that_lead_nowhere_or_in_a_circle_are_said_with_their_places() {
    let clause = "[[clause]]\nwhat = \"package:kiosk-shell\"\n";
    insta::assert_snapshot!(findings(&kit_of("include = [\"quay-base/logn\", \"gate-reader/reader\", \"lockdown\"]", clause)), @r#"
    error C0173: quay-base@1.3.0 has no baseline `logn`
      --> baselines/lockdown.toml:3:12
    3 | include = ["quay-base/logn", "gate-reader/reader", "lockdown"]
      |            ^^^^^^^^^^^^^^^^
    hint: did you mean `login`?

    error C0181: the kit does not require `gate-reader`
      --> baselines/lockdown.toml:3:30
    3 | include = ["quay-base/logn", "gate-reader/reader", "lockdown"]
      |                              ^^^^^^^^^^^^^^^^^^^^
    hint: add gate-reader = "^1.0" to [requires] in kit.toml

    error C0174: cycle of includes: lockdown includes lockdown
      --> baselines/lockdown.toml:3:52
    3 | include = ["quay-base/logn", "gate-reader/reader", "lockdown"]
      |                                                    ^^^^^^^^^^
    hint: remove one of these includes
    "#);
}

#[test]
fn a_conflict_with_an_included_baseline_names_both_kits() {
    insta::assert_snapshot!(findings(&kit_of("include = [\"quay-base/login\"]", "[[clause]]\nwhat = \"link:/etc/issue\"\ntarget = \"motd\"\n")), @r#"
    error C0160: conflicting clauses for the path /etc/issue
      --> baselines/lockdown.toml:5:8
    5 | what = "link:/etc/issue"
      |        ^^^^^^^^^^^^^^^^^
      --> quay-base/baselines/login.toml:8:8  (the other one)
    hint: keep one of them, or tell them apart by `where`
    "#);
}

#[test]
fn a_second_name_is_one_to_be_referred_to_and_is_given_once() {
    let body = |second: &str| {
        format!(
            "[[clause]]\nwhat = \"package:httpd\"\nas = \"package:web\"\n\n[[clause]]\nwhat = \"package:proxy\"\nas = \"{second}\"\n\n[[clause]]\nwhat = \"service:web\"\nneeds = [\"package:web\"]\nrunning = true\n"
        )
    };
    insta::assert_snapshot!(listed(&resolved(&kit_of("", &body("package:front")), &[]).unwrap()), @r"
    package:httpd
    package:proxy
    service:web  needs package:httpd
    ");
    insta::assert_snapshot!(findings(&kit_of("", &body("package:web"))), @r#"
    error C0164: two clauses are called `package:web`
      --> baselines/lockdown.toml:9:8
    9 | what = "package:proxy"
      |        ^^^^^^^^^^^^^^^
      --> baselines/lockdown.toml:5:8  (the other one)
    5 | what = "package:httpd"
      |        ^^^^^^^^^^^^^^^
    hint: give each its own name in `as`
    "#);
    assert!(findings(&kit_of("", &body("web"))).contains("hint: write as = \"package:name\""));
}

#[test]
fn a_secret_is_named_never_written_and_decides_nothing() {
    let body = "[params.ops]\ntype = \"secret\"\n\n[[clause]]\nwhat = \"file:/etc/ops\"\ntext = \"{{ params.ops }}\"\nwhere = \"params.ops == 'x'\"\n";
    insta::assert_snapshot!(findings(&kit_of("", body)), @r#"
    error C0136: `where` asks for the secret `ops`
      --> baselines/lockdown.toml:10:9
    10 | where = "params.ops == 'x'"
       |         ^^^^^^^^^^^^^^^^^^^
    hint: a secret is rendered into what it is for, and decides nothing
    "#);
    let fine = body.replace("where = \"params.ops == 'x'\"\n", "");
    assert_eq!(findings(&kit_of("", &fine)), "");
    let given =
        resolved(&kit_of("", &fine), &[("kiosk-floor/lockdown.ops", json!("ops-password@1"))]).unwrap_err();
    assert_eq!(
        given,
        "there is no secret `ops-password@1` (from the group `kiosks`) (kiosk-floor/baselines/lockdown.toml:4:9)"
    );
}

#[test]
fn parameters_are_held_to_their_pattern_and_limits_are_held_to_their_type() {
    let body = "[params.site]\ntype = \"string\"\npattern = '[a-z]+'\ndefault = \"Auken\"\n[params.on]\ntype = \"boolean\"\nmin = 1\npattern = '('\n[[clause]]\nwhat = \"file:/etc/x\"\ntext = \"{{ params.site }}{{ params.on }}\"\n";
    insta::assert_snapshot!(findings(&kit_of("", body)), @r#"
    error C0131: `site` fits [a-z]+, and "Auken" does not
      --> baselines/lockdown.toml:7:11
    7 | default = "Auken"
      |           ^^^^^^^

    error C0112: `min` is asked of numbers, and this parameter takes none
      --> baselines/lockdown.toml:10:7
    10 | min = 1
       |       ^
    hint: remove `min`, or fix `type` and `of`

    error C0112: `pattern` is asked of texts, and this parameter takes none
      --> baselines/lockdown.toml:11:11
    11 | pattern = '('
       |           ^^^
    hint: remove `pattern`, or fix `type` and `of`

    error C0112: `pattern` cannot be read as a regular expression: unclosed group
      --> baselines/lockdown.toml:11:11
    11 | pattern = '('
       |           ^^^
    hint: it must fit the whole text; write a backslash twice, or the pattern in single quotes
    "#);
}

#[test]
fn what_is_implied_is_shown_and_gives_way_to_what_is_said() {
    let body = "[[clause]]\nwhat = \"file:/etc/kiosk/a\"\ntext = \"a\"\nowner = \"kiosk\"\n\n[[clause]]\nwhat = \"directory:/etc/kiosk\"\n\n[[clause]]\nwhat = \"account:kiosk\"\nNEEDS\n";
    let order = |needs: &str| {
        let resolved = resolved(&kit_of("", &body.replace("NEEDS", needs)), &[]).unwrap();
        let mut text = listed(&resolved);
        for relation in &resolved.relations {
            let name = |at: usize| resolved.state.clauses[at].address.as_str();
            let _ = writeln!(
                text,
                "- {} {} {}",
                name(relation.later),
                relation.why.words(),
                name(relation.earlier)
            );
        }
        for moved in &resolved.moves {
            let name = |at: usize| resolved.state.clauses[at].address.as_str();
            let _ = writeln!(text, "* {} earlier for {}", name(moved.earlier), name(moved.later));
        }
        text
    };
    insta::assert_snapshot!(order(""), @r#"
    directory:/etc/kiosk
    account:kiosk
    file:/etc/kiosk/a  "a"
    - file:/etc/kiosk/a lies in directory:/etc/kiosk
    - file:/etc/kiosk/a belongs to account:kiosk
    * directory:/etc/kiosk earlier for file:/etc/kiosk/a
    * account:kiosk earlier for file:/etc/kiosk/a
    "#);
    insta::assert_snapshot!(order("needs = [\"file:/etc/kiosk/*\"]"), @r#"
    directory:/etc/kiosk
    file:/etc/kiosk/a  "a"
    account:kiosk  needs file:/etc/kiosk/a
    - file:/etc/kiosk/a lies in directory:/etc/kiosk
    - account:kiosk needs file:/etc/kiosk/a
    * directory:/etc/kiosk earlier for file:/etc/kiosk/a
    "#);
}

#[test]
fn what_is_the_same_on_all_nodes_is_made_once_and_what_is_not_is_made_for_each() {
    let clauses = "[[clause]]\nwhat = \"file:/etc/issue\"\ntext = \"Skerry Line\\n\"\n\n[[clause]]\nwhat = \"file:/etc/place\"\nseverity = \"low\"\ntext = \"{{ labels.site }}\"\n\n[[clause]]\nwhat = \"account:ops\"\npassword_hash = \"$y$j9T$abc$def\"\n\n[[clause]]\nwhat = \"package:ferry-game\"\ngone = true\nwhere = \"labels.site == 'auken'\"\n";
    let kit = check(kit_of("", clauses), None, Surroundings::default()).kit.unwrap();
    let on = |site: &str, key: &str, on_drift: Option<OnDrift>| {
        let severity = on_drift.map(|_| Severity::Critical);
        let satisfies = on_drift.map(|_| "SK-9".to_owned()).into_iter().collect();
        let terms = AssignmentTerms { on_drift, severity, satisfies, ..AssignmentTerms::default() };
        let view = NodeView { labels: [("site".to_owned(), site.to_owned())].into(), ..auken() };
        let assigned = vec![Assigned { terms, ..Assigned::plainly(&kit, &kit.baselines[0]) }];
        let (given, key) = (BTreeMap::new(), DigestKey::new(key));
        let input = ResolveInput {
            assigned,
            kits: &[],
            given: &given,
            own: &constans_core::state::OwnProperties::new(),
            view: &view,
            key: &key,
            conditions: Conditions::Decide,
            untouchable: &[],
        };
        resolve(&input).map_err(|findings| format!("{findings:?}")).unwrap()
    };
    let first = on("auken", "one", None);
    assert_eq!(
        (on("auken", "one", None).state.digest, first.state.clauses.len()),
        (first.state.digest.clone(), 4)
    );
    let wanted = |resolved: &Resolved| {
        resolved.state.clauses.iter().map(|clause| clause.wanted.clone()).collect::<Vec<_>>()
    };
    let elsewhere = on("brisk", "two", Some(OnDrift::Report));
    let (here, there) = (wanted(&first), wanted(&elsewhere));
    assert!(
        here[0] == there[0] && here[1] != there[1] && here[2] != there[2] && there.len() == 3,
        "{here:?} {there:?}"
    );
    assert!(
        elsewhere
            .state
            .clauses
            .iter()
            .all(|clause| clause.on_drift.map(|switch| switch.value) == Some(OnDrift::Report))
    );
    let severities = |resolved: &Resolved| {
        resolved
            .state
            .clauses
            .iter()
            .map(|clause| (clause.severity, clause.satisfies.len()))
            .collect::<Vec<_>>()
    };
    assert_eq!(
        severities(&elsewhere),
        [(Severity::Critical, 1), (Severity::Low, 1), (Severity::Critical, 1)],
        "a clause's own severity stays"
    );
    assert_eq!(severities(&first)[0], (Severity::Medium, 0));
    assert!(
        on("auken", "one", None).state.clauses.iter().all(|clause| clause.on_drift.is_none()),
        "an assignment's switch stays its own"
    );
    assert_eq!(elsewhere.contents.len(), 2, "contents come along, whoever inputs first");
}

#[test]
fn what_must_not_exist_may_be_decided_by_a_parameter_so_that_off_and_on_again_is_one_value() {
    let clauses = "[params.spare]\ntype = \"boolean\"\ndefault = false\n\n[[clause]]\nwhat = \"file:/etc/kiosk/spare.conf\"\ntext = \"spare\\n\"\npermissions = \"0640\"\ngone = \"{{ not params.spare }}\"\n\n[[clause]]\nwhat = \"package:quay-games\"\nversion = \"1.*\"\ngone = \"{{ 'with_settings' if params.spare else false }}\"\n";
    let files = kit_of("", clauses);
    let kit = check(files.clone(), None, Surroundings::default());
    assert!(!kit.has_errors(), "{}", explain_findings(&kit.findings, &files, ""));
    let kit = kit.kit.unwrap();
    let parameter = format!("{}/{}.spare", kit.name, kit.baselines[0].name.value);
    let with = |spare: bool| {
        let given = BTreeMap::from([(
            parameter.clone(),
            vec![LayerValue::new(json!(spare), Layer::Group("kiosks".into()))],
        )]);
        let (view, key) = (auken(), DigestKey::new("k"));
        let assigned = vec![Assigned::plainly(&kit, &kit.baselines[0])];
        let input = ResolveInput {
            assigned,
            kits: &[],
            given: &given,
            own: &constans_core::state::OwnProperties::new(),
            view: &view,
            key: &key,
            conditions: Conditions::Decide,
            untouchable: &[],
        };
        let resolved = resolve(&input).map_err(|findings| format!("{findings:?}")).unwrap();
        resolved
            .state
            .clauses
            .iter()
            .map(|clause| format!("{} {:?} {}", clause.address, clause.gone, clause.properties.len()))
            .collect::<Vec<_>>()
    };
    assert_eq!(with(true), ["file:/etc/kiosk/spare.conf No 2", "package:quay-games WithSettings 0"]);
    assert_eq!(with(false), ["file:/etc/kiosk/spare.conf Yes 0", "package:quay-games No 1"]);
    assert_eq!(
        with(true),
        ["file:/etc/kiosk/spare.conf No 2", "package:quay-games WithSettings 0"],
        "what was made for one value is not taken for the other"
    );
    for (gone, code, message) in [
        ("\"{{ params.spare_lanes }}\"", "C0", "spare_lanes"),
        ("\"params.spare\"", "C0112", "a template as \"{{ params.spare }}\""),
        ("\"{{ 'often' }}\"", "C0112", "`gone` is true or false, and this is \"often\""),
        ("\"{{ 'with_settings' }}\"", "C0112", "only a package can be gone"),
    ] {
        let clauses = format!(
            "[[clause]]\nwhat = \"file:/etc/kiosk/spare.conf\"\ntext = \"spare\\n\"\ngone = {gone}\n"
        );
        let files = kit_of("", &clauses);
        let found =
            explain_findings(&check(files.clone(), None, Surroundings::default()).findings, &files, "");
        assert!(found.contains(code) && found.contains(message), "{gone}: {found}");
    }
}

#[test]
fn what_was_resolved_for_a_node_is_what_those_come_to_that_say_the_same_of_what_was_asked() {
    let clauses = r#"
[params.idle]
type = "integer"
default = 90

[[clause]]
what = "file:/etc/issue"
text = "Skerry Line\n"
needs = ["file:/etc/lane-*"]

[[clause]]
what = "file:/etc/idle-{{ labels.lane }}"
text = "{{ params.idle }}"

[[clause]]
what = "file:/etc/place"
text = "{% if labels.site == 'auken' %}{{ labels.ship }}{% else %}{{ about.cpu.count }}{% endif %}"

[[clause]]
what = "file:/etc/lane-{{ lane }}"
for = { lane = "labels.site == 'auken' ? ['a'] : ['a', labels.lane]" }
text = "{{ node.name if lane == 'own' else lane }}"

[[clause]]
what = "file:/etc/lane-b"
text = "not b"
where = "labels.ship == 'gannet' && about.memory.mib < 1000"
"#;
    let kit = check(kit_of("", clauses), None, Surroundings::default()).kit.unwrap();
    let key = DigestKey::new("test");
    let idle = |secs: u32| {
        BTreeMap::from([(
            "kiosk-floor/lockdown.idle".to_owned(),
            vec![LayerValue::new(json!(secs), Layer::Group("kiosks".into()))],
        )])
    };
    let given = [BTreeMap::new(), idle(30)];
    let mut remembered: [InputCache<Result<String, Vec<String>>>; 2] = Default::default();
    let (mut found, mut refused) = (0, 0);
    for at in 0..400_usize {
        let labels = [
            ("site", ["auken", "brisk", "tern"][at % 3]),
            ("ship", ["", "gannet"][at / 3 % 2]),
            ("lane", ["b", "own", "a"][at / 6 % 3]),
        ];
        let about = [("cpu.count", 2 + at / 18 % 2), ("memory.mib", [512, 4096][at / 36 % 2])]
            .map(|(path, value)| (path.to_owned(), value.into()));
        let view = NodeView {
            name: format!("kiosk-{at}"),
            labels: labels.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect(),
            about: About::new(about.into_iter().filter(|(path, _)| path != "memory.mib" || at % 7 > 0)),
        };
        let of_kit = |kit: &Kit| {
            let assigned = vec![Assigned::plainly(kit, &kit.baselines[0])];
            let (given, conditions) = (&given[at % 2], Conditions::Decide);
            let input = ResolveInput {
                assigned,
                kits: &[],
                given,
                own: &constans_core::state::OwnProperties::new(),
                view: &view,
                key: &key,
                conditions,
                untouchable: &[],
            };
            let mut inputs = NodeInputs::default();
            let resolved = resolve_noting(&input, &mut inputs)
                .map_err(|all| all.into_iter().map(|one| one.message).collect::<Vec<_>>());
            (resolved, inputs)
        };
        // What the kit's clauses came to on nodes before is the same as what those of a kit come to that knows of none.
        let ((resolved, inputs), (anew, asked_anew)) = (of_kit(&kit), of_kit(&kit.clone()));
        let state = |resolved: &Result<Resolved, Vec<String>>| {
            resolved.as_ref().map(|resolved| json!(resolved.state)).map_err(Vec::clone)
        };
        let contents = |resolved: &Result<Resolved, Vec<String>>| {
            resolved.as_ref().map(|resolved| resolved.contents.clone()).map_err(Vec::clone)
        };
        assert_eq!(
            (state(&resolved), contents(&resolved), &inputs),
            (state(&anew), contents(&anew), &asked_anew),
            "{view:?}"
        );
        let result = resolved.map(|resolved| resolved.state.digest.as_str().to_owned());
        let remembered = &mut remembered[at % 2];
        refused += usize::from(result.is_err());
        match remembered.find(&view) {
            Some(known) => {
                found += 1;
                assert_eq!(known, result, "{view:?}");
            }
            None => remembered.keep(inputs, &view, result),
        }
    }
    assert!(found > 200 && refused > 10, "{found} were found, {refused} are refused: their lane is another");
}
