//! Every list is filtered by the fields of its entries, sorted by any of them, and read page by page.

use constans_core::filter::{
    ADMISSION_RULES, AUDIT_ENTRIES, CHANGES, CONCESSIONS, EVIDENCE, FREEZES, GROUPS, INVITATIONS,
    JOINING_REQUESTS, PEOPLE, RELEASES, RETIRED_NODES, TOKENS,
};
use constans_e2e::Fleet;
use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, refused, well};
use serde_json::Value;

/// 2,500 invitations of two people, some of them for kiosks.
const MADE_INVITATIONS: &str = "insert into invitation (id, secret_digest, labels, uses, uses_left, made_by, expires_at, made_at)
    select gen_random_uuid(), '', case when n % 5 = 0 then '{\"role\": \"kiosk\"}'::jsonb else '{}' end, 1 + n % 7, least(n % 3, 1 + n % 7),
        case when n % 2 = 0 then 'tor.havik' else 'ilse.maren' end, now() + interval '1 hour', now() - interval '1 second' * (n / 4)
    from generate_series(1, 2500) n";

fn listed(fleet: &Fleet, arguments: &[&str]) -> Vec<Value> {
    let all = [arguments, &["--output", "json"]].concat();
    serde_json::from_str(well(&fleet.client(&all))).expect("a list")
}

#[test]
fn a_filter_and_an_order_hold_over_all_pages() {
    let fleet = Fleet::start();
    fleet.token("tor.havik", "approver");
    fleet.query(MADE_INVITATIONS);

    let filter = "invitation.made_by == \"tor.havik\" && invitation.labels.role == \"kiosk\" && invitation.uses_left > 0";
    let found = listed(&fleet, &["invitation", "list", "--filter", filter]);
    let reckoned = fleet.query(
        "select count(*) from invitation where made_by = 'tor.havik' and labels ->> 'role' = 'kiosk' and uses_left > 0",
    );
    assert_eq!(found.len().to_string(), reckoned, "as many as the database counts");

    // Sorted by a number, over two pages: each once, and in order.
    let mut sorted = listed(&fleet, &["invitation", "list", "--sort", "-uses"]);
    let uses: Vec<u64> = sorted.iter().filter_map(|invitation| invitation["uses"].as_u64()).collect();
    assert!(uses.is_sorted_by(|one, next| one >= next), "{:?}", &uses[..20]);
    sorted.sort_by_key(|invitation| invitation["id"].as_str().map(str::to_owned));
    sorted.dedup_by_key(|invitation| invitation["id"].as_str().map(str::to_owned));
    assert_eq!(sorted.len().to_string(), fleet.query("select count(*) from invitation where uses_left > 0"));
    assert_eq!(sorted.len(), uses.len());

    // In pages of seven, a filter that few match.
    let curl = fleet.curl().with_token(fleet.administrator());
    let rare = "/api/invitations?size=7&filter=invitation.uses%20%3D%3D%207%20%26%26%20invitation.uses_left%20%3D%3D%202";
    let (mut next, mut read) = (Some(rare.to_owned()), Vec::new());
    while let Some(path) = next {
        let (status, page) = curl.get(&path);
        assert_eq!(status, 200, "{page}");
        let page: Vec<Value> = serde_json::from_str(&page).expect("a list");
        assert!(page.len() <= 7);
        read.extend(page.into_iter().filter_map(|invitation| invitation["id"].as_str().map(str::to_owned)));
        let headers = curl.headers();
        let link = headers.lines().find_map(|line| line.strip_prefix("link: <")).map(str::to_owned);
        next = link.and_then(|link| link.split_once('>').map(|(path, _)| path.to_owned()));
    }
    let reckoned = fleet.query("select count(*) from invitation where uses = 7 and uses_left = 2");
    assert_eq!(read.len().to_string(), reckoned);
    read.sort();
    read.dedup();
    assert_eq!(read.len().to_string(), reckoned, "each once");
}

#[test]
fn every_list_is_sorted_by_every_field_and_asked_for_each() {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    fleet.invite(&kiosk, &["--label", "site=auken"]);
    let curl = fleet.curl().with_token(fleet.administrator());
    for (list, path) in [
        (&ADMISSION_RULES, "admission-rules"),
        (&AUDIT_ENTRIES, "audit"),
        (&CHANGES, "changes"),
        (&CONCESSIONS, "concessions"),
        (&EVIDENCE, "evidence"),
        (&FREEZES, "freezes"),
        (&GROUPS, "groups"),
        (&INVITATIONS, "invitations"),
        (&JOINING_REQUESTS, "joining-requests"),
        (&PEOPLE, "people"),
        (&RELEASES, "releases"),
        (&RETIRED_NODES, "retired-nodes"),
        (&TOKENS, "tokens"),
    ] {
        for field in list.fields {
            // It is equal to itself: whatever it is, all entries match.
            let asked = format!("{0}.{1}%20%3D%3D%20{0}.{1}", list.name, field.name);
            let (status, all) = curl.get(&format!("/api/{path}"));
            let (sorted_status, sorted) =
                curl.get(&format!("/api/{path}?sort=-{}&filter={asked}", field.name));
            assert_eq!((status, sorted_status), (200, 200), "{path} by {}: {sorted}", field.name);
            let count = |list: &str| serde_json::from_str::<Vec<Value>>(list).expect("a list").len();
            assert_eq!(count(&all), count(&sorted), "{path} by {}", field.name);
        }
    }
}

#[test]
fn a_wrong_filter_or_order_is_refused_with_the_fields_that_there_are() {
    let fleet = Fleet::start();
    for (list, option, value, said) in [
        ("change", "--filter", "change.woh == \"x\"", "did you mean `change.who`?"),
        (
            "join",
            "--filter",
            "node.status == \"failed\"",
            "this list knows request.name, request.fingerprint",
        ),
        ("person", "--filter", "person.sessions > \"x\"", "cannot be evaluated"),
        ("person", "--sort", "-nmae", "the list is not sorted by `nmae`: did you mean `name`?"),
    ] {
        refused(&fleet.client(&[list, "list", option, value]), said);
    }
}

#[test]
fn what_people_ask_every_day() {
    let fleet = Fleet::start();
    let machine = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    for (name, label) in [("kiosks", "kiosk"), ("gates", "gate"), ("ferries", "ferry")] {
        let document = format!("name = \"{name}\"\nfilter = \"labels.role == '{label}'\"\n");
        let file = machine.document(&format!("{name}.toml"), &document);
        well(&fleet.client(&["group", "set", &file, "--because", &format!("{label}s come together")]));
    }
    let because = |changes: &[Value]| -> Vec<String> {
        changes.iter().filter_map(|change| change["because"].as_str().map(str::to_owned)).collect()
    };
    let found = listed(
        &fleet,
        &["change", "list", "--filter", "change.because.contains(\"gates\") && change.who == \"ilse.maren\""],
    );
    assert_eq!(because(&found), ["gates come together"]);
    let sorted =
        listed(&fleet, &["change", "list", "--filter", "change.because != \"\"", "--sort", "because"]);
    assert_eq!(because(&sorted), ["ferrys come together", "gates come together", "kiosks come together"]);

    let groups = listed(
        &fleet,
        &["group", "list", "--filter", "group.name.startsWith(\"k\") || group.nodes > 0", "--sort", "-name"],
    );
    let names: Vec<&str> = groups.iter().filter_map(|listed| listed["group"]["name"].as_str()).collect();
    assert_eq!(names, ["kiosks", "everyone"]);
    let entries = listed(
        &fleet,
        &["audit", "list", "--filter", "entry.subject == \"gates\" || entry.did.contains(\"approved\")"],
    );
    assert!(!entries.is_empty() && entries.len() < listed(&fleet, &["audit", "list"]).len());
    let said = well(&fleet.client(&["join", "list", "--filter", "request.name == \"nobody\""])).to_owned();
    assert_eq!(said.trim(), "nothing matches the filter");
}
