//! Accepting what was found: the values of parameters are found out and tried, on a kit as it is written.

#![expect(clippy::unwrap_used, reason = "a test may panic")]

use constans_core::accept::{NotAcceptable, Values, acceptable_values, also_altered, is_as_found};
use constans_core::accept_alone::values_alone;
use constans_core::address::ClauseAddress;
use constans_core::check::{Surroundings, check};
use constans_core::compare::{Difference, PRESENCE, Side, text_diff};
use constans_core::digest::{DigestKey, of_contents};
use constans_core::document::{KitFiles, explain_findings};
use constans_core::filter::{About, NodeView};
use constans_core::kit::Kit;
use constans_core::param::{Layer, LayerValue};
use constans_core::state::{Assigned, Conditions, OwnProperties, OwnValue, ResolveInput, Resolved, resolve};
use serde_json::{Value, json};
use std::collections::BTreeMap;

const LOCKDOWN: &str = r##"
[baseline]
name = "lockdown"

[params.idle_seconds]
type = "integer"
default = 90
min = 10

[params.shell]
type = "string"
default = "/usr/sbin/nologin"

[params.lanes]
type = "list"
of = "string"
default = ["A", "B"]

[params.debug]
type = "boolean"
default = false

[params.secret_word]
type = "string"
default = "herring"

[[clause]]
what = "account:kiosk"
shell = "{{ params.shell }}"
home = "/var/lib/kiosk"

[[clause]]
what = "file:/etc/kiosk/shell.conf"
render = "shell.conf.jinja"
permissions = "0644"
banner = "#"

[[clause]]
what = "file:/etc/kiosk/idle"
text = "{{ params.idle_seconds }}\n"

[[clause]]
what = "file:/etc/kiosk/notes.sql"
text = "-- idle {{ params.idle_seconds }}\n"

[[clause]]
what = "file:/etc/kiosk/debug.conf"
text = "on\n"
gone = "{{ not params.debug }}"

[[clause]]
what = "package:kiosk-shell"
version = "3.2.*"

[[clause]]
what = "file:/etc/kiosk/word"
text = "{{ params.secret_word }}"
conceal = true
"##;

const SHELL: &str = "idle = {{ params.idle_seconds }}\n{% for lane in params.lanes %}lane = {{ lane }}\n{% endfor %}shell = {{ params.shell }}\nmark = {{ params.idle_seconds }}\n";

fn kit() -> Kit {
    let files = KitFiles::new(
        [
            ("kit.toml", "[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n"),
            ("baselines/lockdown.toml", LOCKDOWN),
            ("renders/shell.conf.jinja", SHELL),
        ]
        .map(|(path, text)| (path.to_owned(), text.as_bytes().to_vec())),
    );
    let checked = check(files.clone(), None, Surroundings::default());
    assert!(!checked.has_errors(), "{}", explain_findings(&checked.findings, &files, ""));
    checked.kit.unwrap()
}

fn resolved(kit: &Kit, values: &Values) -> Result<Resolved, String> {
    resolved_with(kit, values, &OwnProperties::new())
}

fn resolved_with(kit: &Kit, values: &Values, own: &OwnProperties) -> Result<Resolved, String> {
    let layer = |value: &Value| vec![LayerValue::new(value.clone(), Layer::Group("kiosks".into()))];
    let given: BTreeMap<_, _> = values.iter().map(|(name, value)| (name.clone(), layer(value))).collect();
    let view = NodeView {
        name: "kiosk-auken-1".into(),
        labels: BTreeMap::from([("role".to_owned(), "kiosk".to_owned())]),
        about: About::sample(),
    };
    let key = DigestKey::new("test");
    let input = ResolveInput {
        assigned: vec![Assigned::plainly(kit, &kit.baselines[0])],
        kits: &[],
        given: &given,
        own,
        view: &view,
        key: &key,
        conditions: Conditions::Decide,
        untouchable: &[],
    };
    resolve(&input).map_err(|findings| findings[0].message.clone())
}

fn accept(address: &str, differences: &[Difference], diff: Option<&str>) -> Result<Values, NotAcceptable> {
    let kit = kit();
    let now = resolved(&kit, &Values::new()).unwrap();
    let clause = now.state.clauses.iter().find(|one| one.address.as_str() == address).unwrap();
    acceptable_values(clause, differences, diff, &now.parameters, |values| {
        Ok(resolved(&kit, values)?.state.clauses)
    })
}

fn differs(property: &str, wanted: impl Into<Value>, found: impl Into<Value>) -> Difference {
    Difference { property: property.to_owned(), wanted: Side::value(wanted), found: Side::value(found) }
}

/// The difference of contents and their diff.
fn contents(wanted: &str, found: &str) -> (Difference, String) {
    let side = |text: &str| Side::Content {
        digest: of_contents(text.as_bytes()).as_str().to_owned(),
        bytes: text.len() as u64,
    };
    let difference = Difference { property: "content".to_owned(), wanted: side(wanted), found: side(found) };
    (difference, text_diff(found.as_bytes(), wanted.as_bytes(), true).unwrap().text)
}

fn values(of: &[(&str, Value)]) -> Values {
    of.iter().map(|(name, value)| (format!("kiosk-floor/lockdown.{name}"), value.clone())).collect()
}

const BANNER: &str =
    "# Managed by Constans, baseline kiosk-floor/lockdown: manual changes are detected and may be undone.\n";

fn shell_conf(idle: u32, lanes: &[&str], shell: &str, mark: u32) -> String {
    let lanes: String = lanes.iter().map(|lane| format!("lane = {lane}\n")).collect();
    format!("{BANNER}idle = {idle}\n{lanes}shell = {shell}\nmark = {mark}\n")
}

#[test]
fn a_property_that_is_a_parameter_is_accepted_by_its_value() {
    let found = differs("shell", "/usr/sbin/nologin", "/bin/bash");
    assert_eq!(accept("account:kiosk", &[found], None), Ok(values(&[("shell", json!("/bin/bash"))])));
}

#[test]
fn contents_are_accepted_by_the_values_that_make_just_them() {
    let nologin = "/usr/sbin/nologin";
    let wanted = shell_conf(90, &["A", "B"], nologin, 90);
    let of = |found: &str| {
        let (difference, diff) = contents(&wanted, found);
        accept("file:/etc/kiosk/shell.conf", &[difference], Some(&diff))
    };
    assert_eq!(of(&shell_conf(60, &["A", "B"], nologin, 60)), Ok(values(&[("idle_seconds", json!(60))])));
    let two = of(&shell_conf(60, &["A", "B"], "/bin/sh", 60));
    assert_eq!(two, Ok(values(&[("idle_seconds", json!(60)), ("shell", json!("/bin/sh"))])));
    // One line more that no parameter makes, a value in one place only, a value that its parameter does not take.
    let more = of(&format!("{}# by hand\n", shell_conf(60, &["A", "B"], nologin, 60)));
    assert!(
        matches!(&more, Err(NotAcceptable::Refused { because }) if because.contains("would not make it")),
        "{more:?}"
    );
    let one_place = of(&shell_conf(60, &["A", "B"], nologin, 90));
    assert!(matches!(one_place, Err(NotAcceptable::Refused { .. })), "{one_place:?}");
    let too_small = of(&shell_conf(5, &["A", "B"], nologin, 5));
    assert_eq!(
        too_small.unwrap_err().to_string(),
        "kiosk-floor/lockdown.idle_seconds = 5 would be needed: `idle_seconds` is at least 10, and this is 5 (from the group `kiosks`)"
    );
    // A line that begins as the head of a diff does.
    let of_note = contents("-- idle 90\n", "-- idle 75\n");
    let fits = accept("file:/etc/kiosk/notes.sql", &[of_note.0], Some(&of_note.1));
    assert_eq!(fits, Ok(values(&[("idle_seconds", json!(75))])));
    let of_text = contents("90\n", "120\n");
    let fits = accept("file:/etc/kiosk/idle", &[of_text.0], Some(&of_text.1));
    assert_eq!(fits, Ok(values(&[("idle_seconds", json!(120))])));
}

#[test]
fn a_thing_that_is_there_is_accepted_by_the_switch_that_desires_it() {
    let found = differs(PRESENCE, "gone", "present");
    assert_eq!(accept("file:/etc/kiosk/debug.conf", &[found], None), Ok(values(&[("debug", json!(true))])));
}

#[test]
fn what_no_parameter_makes_and_what_is_not_known_is_refused() {
    let version = differs("version", "3.2.*", "3.3.1");
    assert_eq!(accept("package:kiosk-shell", &[version], None), Err(NotAcceptable::NoParameter));
    let hidden = Difference { property: "content".into(), wanted: Side::Concealed, found: Side::Concealed };
    assert_eq!(
        accept("file:/etc/kiosk/word", &[hidden], None),
        Err(NotAcceptable::NotKnown("content".into()))
    );
}

#[test]
fn what_else_a_value_alters_is_named() {
    let kit = kit();
    let now = resolved(&kit, &Values::new()).unwrap().state.clauses;
    let new = resolved(&kit, &values(&[("shell", json!("/bin/sh"))])).unwrap().state.clauses;
    let account = now.iter().find(|one| one.address.as_str() == "account:kiosk").unwrap();
    assert_eq!(also_altered(&now, &new, Some(&account.address)), ["file:/etc/kiosk/shell.conf"]);
    assert!(also_altered(&now, &now, None).is_empty());
}

/// A value of a node's own.
fn own(clause: &str, property: &str, value: Value) -> OwnProperties {
    let value = OwnValue { value, until: None };
    BTreeMap::from([(ClauseAddress::parse(clause).unwrap(), BTreeMap::from([(property.to_owned(), value)]))])
}

#[test]
fn a_value_of_the_nodes_own_replaces_that_of_its_baseline_and_nothing_else() {
    let kit = kit();
    let before = resolved(&kit, &Values::new()).unwrap();
    let version = own("package:kiosk-shell", "version", json!("3.3.1"));
    let after = resolved_with(&kit, &Values::new(), &version).unwrap();
    assert_eq!(also_altered(&before.state.clauses, &after.state.clauses, None), ["package:kiosk-shell"]);
    assert_ne!(before.state.digest, after.state.digest);
    let [replaced] = after.replaced.as_slice() else { panic!("{:?}", after.replaced) };
    assert_eq!((&replaced.value, &replaced.instead_of), (&json!("3.3.1"), &Some(json!("3.2.*"))));
    // What it wrote is what it gets: the contents travel with the state.
    let text = own("file:/etc/kiosk/idle", "text", json!("120\n"));
    let after = resolved_with(&kit, &Values::new(), &text).unwrap();
    let at = after.state.position(&ClauseAddress::parse("file:/etc/kiosk/idle").unwrap()).unwrap();
    let named = after.state.clauses[at].text("content").unwrap();
    let (_, bytes) = after.contents.iter().find(|(digest, _)| digest.as_str() == named).unwrap();
    assert_eq!(&**bytes, b"120\n");
    // A clause that it does not have waits for it and stands in the way of nothing.
    let other = own("file:/etc/kiosk/none", "permissions", json!("0600"));
    let after = resolved_with(&kit, &Values::new(), &other).unwrap();
    assert_eq!((&after.state.digest, after.replaced.len()), (&before.state.digest, 0));
}

#[test]
fn a_value_of_the_nodes_own_that_its_kind_does_not_take_is_refused_with_the_reason() {
    let kit = kit();
    let refused = |clause: &str, property: &str, value: Value| {
        resolved_with(&kit, &Values::new(), &own(clause, property, value)).unwrap_err()
    };
    let wrong = refused("file:/etc/kiosk/idle", "permissions", json!("rw"));
    assert_eq!(
        wrong,
        "the node's own value of file:/etc/kiosk/idle cannot be used: `rw` is not three or four octal digits"
    );
    let wrong = refused("file:/etc/kiosk/word", "text", json!("open sesame"));
    assert!(wrong.contains("`text` is concealed"), "{wrong}");
    let wrong = refused("file:/etc/kiosk/debug.conf", "permissions", json!("0600"));
    assert!(wrong.contains("must not exist on this node"), "{wrong}");
    let wrong = refused("file:/etc/kiosk/idle", "banner", json!("#"));
    assert!(wrong.contains("`banner` is not what is compared"), "{wrong}");
}

#[test]
fn what_no_parameter_makes_is_accepted_as_the_value_of_one_node() {
    let kit = kit();
    let now = resolved(&kit, &Values::new()).unwrap();
    let clause = |name: &str| now.state.clauses.iter().find(|one| one.address.as_str() == name).unwrap();
    let version = differs("version", "3.2.*", "3.3.1");
    let alone =
        values_alone(clause("package:kiosk-shell"), std::slice::from_ref(&version), None, None).unwrap();
    assert_eq!(alone, BTreeMap::from([("version".to_owned(), json!("3.3.1"))]));
    let after =
        resolved_with(&kit, &Values::new(), &own("package:kiosk-shell", "version", alone["version"].clone()))
            .unwrap();
    assert!(is_as_found(clause("package:kiosk-shell"), &[version], &after.state.clauses));
    // A line that somebody added by hand, known from the diff and proven by its digest.
    let (idle, found) = (clause("file:/etc/kiosk/idle"), "90\n# by hand\n");
    let (difference, diff) = contents("90\n", found);
    let alone = values_alone(idle, std::slice::from_ref(&difference), Some("90\n"), Some(&diff)).unwrap();
    assert_eq!(alone, BTreeMap::from([("text".to_owned(), json!(found))]));
    let cut = values_alone(idle, &[difference], Some("90\n"), None).unwrap_err();
    assert_eq!(cut, NotAcceptable::NotKnown("what the file holds".to_owned()));
    let absent = values_alone(idle, &[differs(PRESENCE, "present", "absent")], None, None).unwrap_err();
    assert!(absent.to_string().contains("no property of it"), "{absent}");
}
