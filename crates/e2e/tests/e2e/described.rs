//! The interface as its document describes it, tried by an independent tool: no fault of the server, no answer that is not
//! described, nothing accepted that the document refuses.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Fleet, Machine};
use serde_json::Value;
use std::path::{Path, PathBuf};
use std::process::Command;

const CHECKS: &str = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance,negative_data_rejection,ignored_auth";

/// What is refused before it is read counts as refused.
const REFUSED_AS: &str = "[checks]\nnegative_data_rejection.expected-statuses = [400, 401, 403, 404, 406, 408, 409, 413, 414, 422, 428, 431, \"5xx\"]\n";

fn tool() -> PathBuf {
    let tool = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools/python/bin/schemathesis");
    assert!(tool.exists(), "{} is not there: make tools", tool.display());
    tool
}

/// Tries one listener for this long.
fn try_listener(fleet: &Fleet, url: &str, caller: &[String], only: &[&str], secs: u32) {
    let folder = tempfile::tempdir().expect("a folder");
    let document = folder.path().join("openapi.json");
    std::fs::write(&document, fleet.server_says(&["openapi"])).expect("it is written");
    let config = folder.path().join("schemathesis.toml");
    std::fs::write(&config, REFUSED_AS).expect("it is written");
    let output = Command::new(tool())
        .arg("--config-file")
        .arg(&config)
        .args([
            "run",
            "--url",
            url,
            "--checks",
            CHECKS,
            "--tls-verify",
            "false",
            "--request-timeout",
            "20",
            "--no-color",
            "--seed",
            "20261128",
        ])
        .args([
            "--phases",
            "coverage,fuzzing",
            "--max-time",
            &secs.to_string(),
            "--continue-on-failure",
            "--warnings",
            "off",
        ])
        .args(only)
        .args(caller)
        .arg(&document)
        .env("PYTHONWARNINGS", "ignore")
        .current_dir(folder.path())
        .output()
        .expect("it starts");
    let text = String::from_utf8_lossy(&output.stdout);
    assert!(output.status.success(), "{text}{}", String::from_utf8_lossy(&output.stderr));
    println!("{text}");
}

fn try_both(secs: u32) {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    well(&kiosk.run(&["daemon", "--once"]));
    let token = vec!["-H".to_owned(), format!("Authorization: Bearer {}", fleet.administrator())];
    // Events never end, and signing out ends the caller.
    let of_people =
        ["--exclude-tag", "agents", "--exclude-path", "/api/live", "--exclude-path", "/api/sign-out"];
    try_listener(&fleet, &fleet.people_url(), &token, &of_people, secs);
    // What is held lasts for minutes.
    let of_agents = ["--include-tag", "agents", "--exclude-path", "/wait"];
    try_listener(&fleet, &fleet.agents_url(), &certificate(&kiosk), &of_agents, secs);
    let log = fleet.log();
    assert!(!log.contains("panicked"), "{log}");
}

fn certificate(machine: &Machine) -> Vec<String> {
    let folder = machine.root.at("/var/lib/constans");
    let joined: Value =
        serde_json::from_slice(&std::fs::read(folder.join("joined.json")).expect("it joined"))
            .expect("it is JSON");
    let certificate = machine.document("node.pem", joined["certificate"].as_str().unwrap_or_default());
    vec![
        "--request-cert".to_owned(),
        certificate,
        "--request-cert-key".to_owned(),
        folder.join("node.key").display().to_string(),
    ]
}

#[test]
fn the_interface_is_as_its_document_says() {
    try_both(45);
}

#[test]
#[ignore = "half an hour: make test-long"]
fn the_interface_is_as_its_document_says_for_long() {
    try_both(900);
}
