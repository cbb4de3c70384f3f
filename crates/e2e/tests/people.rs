//! People: signing in by console and client, and who may do what on every route that there is.

use constans_e2e::story::{joined, well};
use constans_e2e::{Curl, Fleet};
use serde_json::Value;
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;

const PASSWORD: &str = "herring under the pier";

/// Signs somebody in by a one-time link.
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
    let link = log.lines().find_map(|line| line.trim().strip_prefix("https://")).expect("the link is said").to_owned();
    let secret = link.split_once('#').unwrap().1.to_owned();
    let mut browser = fleet.curl();
    for (password, said) in [("short", "at least 12 characters"), ("constans for ever", "neither the person's name nor")] {
        let body = serde_json::json!({ "secret": secret, "name": "ilse.maren", "password": password });
        let (status, answer) = browser.post("/api/welcome", &body.to_string());
        assert!(status == 422 && answer.contains(said), "{status} {answer}");
    }
    let ilse = welcomed(&fleet, &link, Some("ilse.maren"));
    let cookie = ilse.cookie();
    for part in ["__Host-constans=", "HttpOnly", "Secure", "SameSite=Strict", "Path=/"] {
        assert!(cookie.contains(part), "{part} in {cookie}");
    }
    assert!(!cookie.contains("Domain"), "{cookie}");
    let (status, answer) = ilse.get("/api/session");
    assert!(status == 200 && answer.contains("\"administrator\"") && answer.contains("\"ilse.maren\""), "{status} {answer}");
    let again = serde_json::json!({ "secret": secret, "name": "somebody", "password": PASSWORD }).to_string();
    assert_eq!(browser.post("/api/welcome", &again).0, 403, "a link works once");
    assert_eq!(fleet.query("select count(*) from person where password like '$argon2id$%'"), "1");
    assert!(!fleet.query("select string_agg(detail::text, '') from audit_trail").contains(PASSWORD) && !fleet.log().contains(PASSWORD));
}

#[test]
fn a_session_is_used_by_our_own_pages_only_and_ends_when_one_signs_out() {
    let fleet = Fleet::start();
    let mut tor = welcomed(&fleet, &fleet.link("tor.havik", "approver"), None);
    let invite = r#"{"for_secs": 60, "uses": 1, "labels": {}}"#;
    assert_eq!(tor.post("/api/invitations", invite).0, 200);
    for (origin, token) in [("https://elsewhere.skerry.example", true), ("", true), (fleet.people_url().as_str(), false)] {
        let (status, answer) = tor.post_from(origin, token, "/api/invitations", invite);
        assert!(status == 403 && answer.contains("not_our_page"), "{origin} {token}: {status} {answer}");
    }
    let (status, answer) = tor.post("/api/releases", r#"{"kits": [{"files": []}]}"#);
    assert!(status == 403 && answer.contains("tor.havik may not do this: it needs the permission kit.publish"), "{status} {answer}");
    assert_eq!(tor.post("/api/sign-out", "").0, 200);
    assert_eq!(tor.get("/api/session").0, 401, "the session ended at the server too");

    let sign_in = |name: &str, password: &str| serde_json::json!({ "name": name, "password": password }).to_string();
    let mut browser = fleet.curl();
    assert_eq!(browser.post("/api/sign-in", &sign_in("tor.havik", PASSWORD)).0, 200);
    let wrong = browser.post("/api/sign-in", &sign_in("tor.havik", "something else"));
    let nobody = browser.post("/api/sign-in", &sign_in("nobody", "something else"));
    assert_eq!(wrong, nobody, "which of the two is wrong is not said");
    for _ in 0..4 {
        assert_eq!(browser.post("/api/sign-in", &sign_in("tor.havik", "something else")).0, 401);
    }
    assert_eq!(browser.post("/api/sign-in", &sign_in("tor.havik", PASSWORD)).0, 429, "who guesses has to wait");
}

#[test]
fn the_client_signs_in_shows_the_fingerprint_and_keeps_what_it_is_given_to_itself() {
    let fleet = Fleet::start();
    welcomed(&fleet, &fleet.link("ilse.maren", "administrator"), None);
    let folder = tempfile::tempdir().unwrap();
    let credentials = folder.path().join("constans/credentials.json");
    let client = |arguments: &[&str], typed: &str| fleet.client_at(&credentials, arguments, typed);
    let unsure = client(&["sign-in", &fleet.people_url(), "--person", "ilse.maren", "--password-file", "-"], PASSWORD);
    assert!(unsure.stdout.contains(&fleet.ca) && unsure.stderr.contains("nobody can be asked whether this is the right server"), "{}", unsure.stderr);
    let wrong =
        client(&["sign-in", &fleet.people_url(), "--fingerprint", &"0".repeat(64), "--person", "ilse.maren", "--password-file", "-"], PASSWORD);
    assert!(wrong.stderr.contains("nothing was said to it"), "{}", wrong.stderr);
    let signed_in = client(&["sign-in", &fleet.people_url(), "--fingerprint", &fleet.ca, "--person", "ilse.maren", "--password-file", "-"], PASSWORD);
    assert!(well(&signed_in).contains("signed in as ilse.maren at "), "{}", signed_in.stdout);
    assert_eq!(fs::metadata(&credentials).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(!fs::read_to_string(&credentials).unwrap().contains(PASSWORD));

    let listed = client(&["node", "list"], "");
    assert!(well(&listed).contains("no nodes yet"));
    assert!(listed.stderr.contains(&format!("as ilse.maren at {}", fleet.people_url())), "{}", listed.stderr);
    assert!(well(&client(&["session"], "")).contains("ilse.maren is administrator"));
    fs::set_permissions(&credentials, fs::Permissions::from_mode(0o644)).unwrap();
    assert!(client(&["node", "list"], "").stderr.contains("others may read"));
    fs::set_permissions(&credentials, fs::Permissions::from_mode(0o600)).unwrap();
    let kept = fs::read(&credentials).unwrap();
    well(&client(&["sign-out"], ""));
    assert!(client(&["node", "list"], "").stderr.contains("nobody signed in to a server from here"));
    fs::write(&credentials, kept).unwrap();
    let ended = client(&["node", "list"], "").stderr;
    assert!(ended.contains("nobody is known by this token"), "the token ended at the server too: {ended}");
    assert!(ended.starts_with(&format!("at {}", fleet.people_url())), "a failure says at which server: {ended}");
    assert!(well(&client(&["completions", "bash"], "")).contains("sign-in"));
}

/// What an operation of the OpenAPI document asks of its caller.
enum Asks {
    Nothing,
    Node,
    Permission(String),
}

fn asks(operation: &Value) -> Asks {
    let schemes = operation["security"].as_array().expect("every operation says what it asks");
    match schemes.iter().find_map(|scheme| scheme["token"][0].as_str()) {
        Some(permission) => Asks::Permission(permission.to_owned()),
        None if schemes.iter().any(|scheme| scheme.get("node").is_some()) => Asks::Node,
        None => Asks::Nothing,
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
        callers.insert(format!("{role} by session"), (welcomed(&fleet, &fleet.link(&format!("person.{role}"), role), None), may));
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
                    Asks::Permission(permission) if who.contains(" by ") => (!may.contains(&format!("\"{permission}\""))).then_some(403),
                    _ => Some(401),
                };
                match refusal {
                    Some(refusal) => assert_eq!(status, refusal, "{who}: {method} {path}"),
                    None => assert!(status != 401 && status != 403 && status != 0, "{who}: {method} {path} is refused: {status}"),
                }
                called += 1;
            }
        }
    }
    assert!(called > 400, "{called} calls");
}
