//! People: signing in by console and client, and who may do what on every route that there is.

use constans_e2e::story::{joined, well};
use constans_e2e::{Curl, Ended, Fleet, Machine};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;

const PASSWORD: &str = "herring under the pier";

/// Signs someone in by a one-time link.
fn welcomed(fleet: &Fleet, link: &str, name: Option<&str>) -> Curl {
    let secret = link.trim().split_once('#').expect("a link with a secret").1.to_owned();
    let mut browser = fleet.curl();
    let body = serde_json::json!({ "secret": secret, "name": name, "password": PASSWORD });
    let (status, answer) = browser.post("/api/welcome", &body.to_string());
    assert_eq!(status, 200, "{answer}");
    browser.keep_token(&answer);
    browser
}

#[test]
fn the_first_administrator_comes_by_a_link_that_works_once() {
    let fleet = Fleet::start_without_people();
    let log = fleet.log();
    let link = log
        .lines()
        .find_map(|line| line.trim().strip_prefix("https://"))
        .expect("the link is said")
        .to_owned();
    let secret = link.split_once('#').unwrap().1.to_owned();
    let mut browser = fleet.curl();
    for (password, refusal) in
        [("short", "at least 12 characters"), ("constans for ever", "neither the person's name nor")]
    {
        let body = serde_json::json!({ "secret": secret, "name": "ilse.maren", "password": password });
        let (status, answer) = browser.post("/api/welcome", &body.to_string());
        assert!(status == 422 && answer.contains(refusal), "{status} {answer}");
    }
    let ilse = welcomed(&fleet, &link, Some("ilse.maren"));
    let cookie = ilse.cookie();
    for part in ["__Host-constans=", "HttpOnly", "Secure", "SameSite=Strict", "Path=/"] {
        assert!(cookie.contains(part), "{part} in {cookie}");
    }
    assert!(!cookie.contains("Domain"), "{cookie}");
    let (status, answer) = ilse.get("/api/session");
    assert!(
        status == 200 && answer.contains("\"administrator\"") && answer.contains("\"ilse.maren\""),
        "{status} {answer}"
    );
    let again = serde_json::json!({ "secret": secret, "name": "somebody", "password": PASSWORD }).to_string();
    assert_eq!(browser.post("/api/welcome", &again).0, 403, "a link works once");
    assert_eq!(fleet.query("select count(*) from person where password like '$argon2id$%'"), "1");
    assert!(
        !fleet.query("select string_agg(detail::text, '') from event").contains(PASSWORD)
            && !fleet.log().contains(PASSWORD)
    );
}

#[test]
fn a_session_is_used_by_our_own_pages_only_and_ends_when_one_signs_out() {
    let fleet = Fleet::start();
    let mut tor = welcomed(&fleet, &fleet.link("tor.havik", "approver"), None);
    let invite = r#"{"for_secs": 60, "uses": 1, "labels": {}}"#;
    assert_eq!(tor.post("/api/invitations", invite).0, 200);
    for (origin, token) in
        [("https://elsewhere.skerry.example", true), ("", true), (fleet.people_url().as_str(), false)]
    {
        let (status, answer) = tor.post_from(origin, token, "/api/invitations", invite);
        assert!(status == 403 && answer.contains("not_our_page"), "{origin} {token}: {status} {answer}");
    }
    let (status, answer) = tor.post("/api/releases", r#"{"kits": [{"files": []}]}"#);
    assert!(
        status == 403 && answer.contains("tor.havik lacks the permission kit.publish"),
        "{status} {answer}"
    );
    assert_eq!(tor.post("/api/sign-out", "").0, 200);
    assert_eq!(tor.get("/api/session").0, 401, "the session ended at the server too");

    let sign_in =
        |name: &str, password: &str| serde_json::json!({ "name": name, "password": password }).to_string();
    let mut browser = fleet.curl();
    assert_eq!(browser.post("/api/sign-in", &sign_in("tor.havik", PASSWORD)).0, 200);
    let wrong = browser.post("/api/sign-in", &sign_in("tor.havik", "something else"));
    let nobody = browser.post("/api/sign-in", &sign_in("nobody", "something else"));
    assert_eq!(wrong, nobody, "which of the two is wrong is not said");
    for _ in 0..4 {
        assert_eq!(browser.post("/api/sign-in", &sign_in("tor.havik", "something else")).0, 401);
    }
    assert_eq!(
        browser.post("/api/sign-in", &sign_in("tor.havik", PASSWORD)).0,
        429,
        "who guesses has to wait"
    );
}

#[test]
fn the_client_signs_in_shows_the_fingerprint_and_keeps_what_it_is_given_to_itself() {
    let fleet = Fleet::start();
    welcomed(&fleet, &fleet.link("ilse.maren", "administrator"), None);
    let folder = tempfile::tempdir().unwrap();
    let credentials = folder.path().join("constans/credentials.json");
    let client = |arguments: &[&str], typed: &str| fleet.client_at(&credentials, arguments, typed);
    let unsure =
        client(&["sign-in", &fleet.people_url(), "--person", "ilse.maren", "--password-file", "-"], PASSWORD);
    assert!(
        unsure.stdout.contains(&fleet.ca)
            && unsure
                .stderr
                .contains("the fingerprint cannot be confirmed: standard input is not a terminal"),
        "{}",
        unsure.stderr
    );
    let wrong = client(
        &[
            "sign-in",
            &fleet.people_url(),
            "--fingerprint",
            &"0".repeat(64),
            "--person",
            "ilse.maren",
            "--password-file",
            "-",
        ],
        PASSWORD,
    );
    assert!(wrong.stderr.contains("nothing was sent"), "{}", wrong.stderr);
    let signed_in = client(
        &[
            "sign-in",
            &fleet.people_url(),
            "--fingerprint",
            &fleet.ca,
            "--person",
            "ilse.maren",
            "--password-file",
            "-",
        ],
        PASSWORD,
    );
    assert!(well(&signed_in).contains("signed in as ilse.maren at "), "{}", signed_in.stdout);
    assert_eq!(fs::metadata(&credentials).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(!fs::read_to_string(&credentials).unwrap().contains(PASSWORD));

    let listed = client(&["node", "list"], "");
    assert!(well(&listed).contains("no nodes yet"));
    assert!(listed.stderr.contains(&format!("as ilse.maren at {}", fleet.people_url())), "{}", listed.stderr);
    assert!(well(&client(&["session"], "")).contains("ilse.maren is administrator"));
    fs::set_permissions(&credentials, fs::Permissions::from_mode(0o644)).unwrap();
    assert!(client(&["node", "list"], "").stderr.contains("other accounts can read"));
    fs::set_permissions(&credentials, fs::Permissions::from_mode(0o600)).unwrap();
    let kept = fs::read(&credentials).unwrap();
    well(&client(&["sign-out"], ""));
    assert!(client(&["node", "list"], "").stderr.contains("not signed in to a server"));
    fs::write(&credentials, kept).unwrap();
    let ended = client(&["node", "list"], "").stderr;
    assert!(ended.contains("unknown token"), "the token ended at the server too: {ended}");
    assert!(
        ended.starts_with(&format!("at {}", fleet.people_url())),
        "a failure says at which server: {ended}"
    );
    assert!(well(&client(&["completions", "bash"], "")).contains("sign-in"));
}

/// What an operation of the OpenAPI document asks of its caller.
enum Asks {
    Nothing,
    Node,
    /// One of these permissions.
    Permission(Vec<String>),
}

fn asks(operation: &Value) -> Asks {
    let schemes = operation["security"].as_array().expect("every operation says what it asks");
    let permissions: Vec<String> =
        schemes.iter().filter_map(|scheme| scheme["token"][0].as_str().map(str::to_owned)).collect();
    match permissions.is_empty() {
        false => Asks::Permission(permissions),
        true if schemes.iter().any(|scheme| scheme.get("node").is_some()) => Asks::Node,
        true => Asks::Nothing,
    }
}

#[test]
fn every_route_refuses_every_caller_that_may_not_and_no_other() {
    let fleet = Fleet::start();
    let document: Value = serde_json::from_str(&fleet.server_says(&["openapi"])).unwrap();
    let (kiosk, gate) = (joined(&fleet, "kiosk-auken-1", &[]), joined(&fleet, "gate-auken-1", &[]));
    well(&fleet.client(&["node", "revoke", "gate-auken-1"]));
    let mut callers: BTreeMap<String, (Curl, String)> = BTreeMap::new();
    callers.insert("nobody".into(), (fleet.curl(), String::new()));
    callers.insert("a wrong token".into(), (fleet.curl().with_token("AAAA"), String::new()));
    callers.insert("a node".into(), (fleet.curl().as_node(&kiosk), String::new()));
    callers.insert("a revoked node".into(), (fleet.curl().as_node(&gate), String::new()));
    for role in ["reader", "operator", "publisher", "approver", "administrator"] {
        let token = fleet.token(&format!("program.{role}"), role);
        let may = fleet.curl().with_token(&token).get("/api/session").1;
        callers.insert(format!("{role} by token"), (fleet.curl().with_token(&token), may.clone()));
        callers.insert(
            format!("{role} by session"),
            (welcomed(&fleet, &fleet.link(&format!("person.{role}"), role), None), may),
        );
    }
    let mut called = 0;
    for (path, methods) in document["paths"].as_object().unwrap() {
        for (method, operation) in methods.as_object().unwrap() {
            let is_for_agents = operation["tags"][0] == "agents";
            for (who, (caller, may)) in &callers {
                // Signing out would end the caller for the paths after it.
                if path == "/api/sign-out" && who.contains(" by ") {
                    continue;
                }
                let status = caller.call(method, &path.replace(['{', '}'], ""), is_for_agents);
                let refusal = match asks(operation) {
                    Asks::Nothing => None,
                    Asks::Node if who == "a node" => None,
                    Asks::Node if who == "a revoked node" => Some(403),
                    Asks::Permission(permissions) if who.contains(" by ") => {
                        let holds = |permission: &String| may.contains(&format!("\"{permission}\""));
                        (!permissions.iter().any(holds)).then_some(403)
                    }
                    _ => Some(401),
                };
                match refusal {
                    Some(refusal) => assert_eq!(status, refusal, "{who}: {method} {path}"),
                    None => assert!(
                        status != 401 && status != 403 && status != 0,
                        "{who}: {method} {path} is refused: {status}"
                    ),
                }
                called += 1;
            }
        }
    }
    assert!(called > 400, "{called} calls");
}

fn done(ended: &Ended) -> String {
    well(ended).to_owned()
}

#[test]
fn long_lists_come_in_pages_that_the_client_reads_to_the_end() {
    let fleet = Fleet::start();
    let made = "insert into invitation (id, secret_digest, labels, uses, uses_left, made_by, expires_at, made_at)
        select gen_random_uuid(), '', '{}', 1, 1, 'ilse.maren', now() + interval '1 hour', now() - interval '1 second' * (n / 4)
        from generate_series(1, 2500) n";
    fleet.query(made);

    let mut open: Vec<Value> =
        serde_json::from_str(&done(&fleet.client(&["invitation", "list", "--output", "json"]))).unwrap();
    open.sort_by_key(|invitation| invitation["id"].as_str().map(str::to_owned));
    open.dedup_by_key(|invitation| invitation["id"].as_str().map(str::to_owned));
    assert_eq!(open.len(), 2_500, "each one once");

    let curl = fleet.curl().with_token(fleet.administrator());
    let (status, page) = curl.get("/api/invitations?after=&size=3");
    assert_eq!((status, page.contains("`Link`")), (422, true), "an empty place is none: {page}");
    let (status, page) = curl.get("/api/invitations?size=3");
    let page: Vec<Value> = serde_json::from_str(&page).unwrap();
    assert_eq!((status, page.len()), (200, 3));
    let headers = curl.headers();
    let link = headers.lines().find_map(|line| line.strip_prefix("link: <")).expect("there are more");
    let next = link.trim().strip_suffix(">; rel=\"next\"").expect("as RFC 8288 has it");
    assert!(next.starts_with("/api/invitations?size=3&after="), "{next}");
    let following: Vec<Value> = serde_json::from_str(&curl.get(next).1).unwrap();
    assert_eq!(following.len(), 3);
    assert!(following.iter().all(|invitation| !page.contains(invitation)));

    for wrong in ["size=0", "size=1001", "size=many", "after=yesterday", "after=2026-11-23T07:00:00Z"] {
        let (status, problem) = curl.get(&format!("/api/invitations?{wrong}"));
        assert_eq!(status, 422, "{wrong}: {problem}");
    }
    // A key that fits no list is refused, not a fault of the server.
    for list in ["freezes", "releases", "tokens"] {
        let (status, problem) = curl.get(&format!("/api/{list}?after=2026-11-23T07:00:00Z~nothing%27"));
        assert!(status == 200 || status == 422, "{list}: {status} {problem}");
    }
}

#[test]
fn what_people_made_is_listed_and_ended_and_stays_on_record() {
    let fleet = Fleet::start();
    let tor = fleet.token("tor.havik", "approver");
    done(&fleet.client_by(&tor, &["invite", "--label", "role=kiosk", "--uses", "3"]));
    let line = done(&fleet.client_by(&tor, &["invite"]));

    // Invitations: one is withdrawn, and opens nothing any more.
    let open: Vec<Value> =
        serde_json::from_str(&done(&fleet.client(&["invitation", "list", "--output", "json"]))).unwrap();
    assert_eq!(
        (open.len(), &open[1]["uses_left"], &open[1]["labels"]["role"], &open[0]["made_by"]),
        (2, &3.into(), &"kiosk".into(), &"tor.havik".into())
    );
    let listed = done(&fleet.client(&["invitation", "list"]));
    assert!(
        listed.contains("3 of 3 uses left") && listed.contains("role=kiosk") && !listed.contains(line.trim()),
        "{listed}"
    );
    let id = open[0]["id"].as_str().unwrap();
    assert!(
        fleet
            .client(&["invitation", "withdraw", "nobody"])
            .stderr
            .contains("there is no open invitation `nobody`")
    );
    done(&fleet.client(&["invitation", "withdraw", id]));
    assert!(fleet.client(&["invitation", "withdraw", id]).stderr.contains("there is no open invitation"));
    let machine = Machine::fresh();
    let file = machine.document("invitation", &line);
    let refused = machine.run(&["join", "--invitation-file", &file, "--wait", "0"]);
    assert!(refused.stderr.contains("the invitation was withdrawn"), "{}", refused.stderr);

    // Roles one at a time.
    assert!(done(&fleet.client(&["person", "grant", "tor.havik", "publisher"])).contains("is now publisher"));
    assert!(
        done(&fleet.client(&["person", "grant", "tor.havik", "publisher"])).contains("is already publisher")
    );
    done(&fleet.client(&["person", "take", "tor.havik", "approver"]));
    assert!(fleet.client_by(&tor, &["invite"]).stderr.contains("lacks the permission join.invite"));
    assert!(
        fleet
            .client(&["person", "take", "tor.havik", "approver"])
            .stderr
            .contains("there is no role of this person `approver`")
    );
    assert!(
        fleet
            .client(&["person", "grant", "tor.havik", "captain"])
            .stderr
            .contains("there is no role `captain`: reader, operator, publisher, approver, administrator")
    );
    assert!(fleet.client(&["person", "grant", "Tor Havik", "reader"]).stderr.contains("lower-case letters"));
    for refused in
        [["person", "take", "ilse.maren", "administrator"].as_slice(), &["person", "remove", "ilse.maren"]]
    {
        assert!(fleet.client(refused).stderr.contains("ilse.maren is the only administrator"), "{refused:?}");
    }
    assert!(fleet.client_by(&tor, &["person", "list"]).stderr.contains("people.manage"));

    // Tokens: made, listed, used, ended by name and by date; one's own are seen by oneself.
    let nightly =
        done(&fleet.client(&["token", "make", "--person", "tor.havik", "--name", "nightly", "--for", "2h"]))
            .trim()
            .to_owned();
    assert!(
        fleet
            .client(&["token", "make", "--person", "tor.havik", "--name", "nightly"])
            .stderr
            .contains("has a token called nightly already")
    );
    assert!(
        fleet
            .client(&["token", "make", "--person", "tor.havik", "--name", "a\u{202e}b"])
            .stderr
            .contains("none of them hidden")
    );
    done(&fleet.client_by(&nightly, &["session"]));
    let tokens: Vec<Value> =
        serde_json::from_str(&done(&fleet.client_by(&nightly, &["token", "list", "--output", "json"])))
            .unwrap();
    let names: Vec<&str> = tokens.iter().map(|token| token["name"].as_str().unwrap()).collect();
    assert_eq!(names, ["test", "nightly"], "only one's own");
    assert!(
        tokens[1]["last_at"].is_string()
            && tokens[1]["ends_at"].is_string()
            && tokens[1].get("token").is_none(),
        "{tokens:?}"
    );
    let of_administrator: Vec<Value> =
        serde_json::from_str(&done(&fleet.client(&["token", "list", "--output", "json"]))).unwrap();
    assert_eq!(of_administrator.len(), 3);
    let others = of_administrator.iter().find(|token| token["person"] == "ilse.maren").unwrap()["id"]
        .as_str()
        .unwrap();
    assert_eq!(
        fleet.curl().with_token(&nightly).delete(&format!("/api/tokens/{others}")).0,
        404,
        "another person's token is nobody's business"
    );
    done(&fleet.client(&["token", "withdraw", "nightly"]));
    assert!(fleet.client_by(&nightly, &["session"]).stderr.contains("unknown token"));
    let brief =
        done(&fleet.client(&["token", "make", "--person", "tor.havik", "--name", "brief", "--for", "1s"]))
            .trim()
            .to_owned();
    std::thread::sleep(std::time::Duration::from_millis(1_100));
    assert!(fleet.client_by(&brief, &["session"]).stderr.contains("unknown token"));

    // A person is removed with all that they have, and comes back with nothing of it.
    let removed = done(&fleet.client(&["person", "remove", "tor.havik"]));
    assert!(removed.contains("1 open invitation"), "{removed}");
    assert!(fleet.client_by(&tor, &["session"]).stderr.contains("unknown token"));
    let people = done(&fleet.client(&["person", "list"]));
    assert!(people.contains("ilse.maren") && !people.contains("tor.havik"), "{people}");
    assert!(
        fleet.client(&["person", "remove", "tor.havik"]).stderr.contains("there is no person `tor.havik`")
    );

    // From the server's own command line too.
    assert!(
        fleet
            .server_says(&["person", "grant", "tor.havik", "reader"])
            .contains("tor.havik is a new person, and reader")
    );
    fleet.server_says(&["person", "grant", "tor.havik", "publisher"]);
    fleet.server_says(&["person", "take", "tor.havik", "publisher"]);
    assert!(fleet.server_says(&["person", "list"]).contains("reader"));
    fleet.server_says(&["token", "make", "--person", "tor.havik", "--name", "hourly"]);
    let id = fleet.query("select id from token where name = 'hourly'");
    assert!(fleet.server_says(&["token", "list"]).contains(id.trim()));
    fleet.server_says(&["token", "withdraw", id.trim()]);
    assert!(fleet.server_says(&["person", "remove", "tor.havik"]).contains("tor.havik was removed"));

    // Who did what is on record.
    let did = fleet.query("select who || ': ' || did || ' ' || subject from event order by id");
    for line in [
        "ilse.maren: withdrew an invitation",
        "ilse.maren: granted a role tor.havik",
        "ilse.maren: took a role tor.havik",
        "ilse.maren: made a token tor.havik",
        "ilse.maren: withdrew a token tor.havik",
        "ilse.maren: removed a person tor.havik",
        "on the server's machine: granted a role tor.havik",
        "on the server's machine: made a token ilse.maren",
        "on the server's machine: removed a person tor.havik",
    ] {
        assert!(did.contains(line), "{line} in {did}");
    }
    assert_eq!(
        did.matches("granted a role tor.havik").count(),
        4,
        "the second time nothing was granted: {did}"
    );
}
