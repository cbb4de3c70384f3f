//! Evidence: made by a job, fetched, verified without the server, opened by other programs; and found out if somebody alters it.

use constans_e2e::story::{KIOSKS, group, joined, publish_and_serve, well};
use constans_e2e::{Browser, Ended, Fleet};
use serde_json::{Value, json};
use std::path::{Path, PathBuf};
use std::process::Command;

/// A kiosk that enforces, one that only observes and deviates, and a depot for which nothing is desired.
fn fleet() -> Fleet {
    let fleet = Fleet::start();
    let kiosk = joined(&fleet, "kiosk-auken-1", &["role=kiosk"]);
    let _depot = joined(&fleet, "depot-print-1", &["role=depot"]);
    publish_and_serve(&fleet);
    well(&group(&fleet, &kiosk, &KIOSKS.replace("MODE", "observe")));
    let _ = kiosk.run(&["daemon", "--once"]);
    fleet
}

fn made(fleet: &Fleet, folder: &Path, name: &str, more: &[&str]) -> (Ended, PathBuf) {
    let file = folder.join(name);
    let arguments = ["evidence", "make", "--save-as", file.to_str().expect("UTF-8")];
    (fleet.client(&[&arguments, more].concat()), file)
}

fn key_of(fleet: &Fleet) -> String {
    let keys = fleet.client(&["evidence", "keys"]);
    well(&keys).split_whitespace().next().expect("a key").to_owned()
}

/// Runs the client where nobody ever signed in to a server.
fn verified(file: &Path, more: &[&str]) -> Ended {
    let home = tempfile::tempdir().expect("a folder");
    let ended = Command::new(constans_e2e::program("constans"))
        .args(["evidence", "verify", file.to_str().expect("UTF-8")])
        .args(more)
        .env_clear()
        .env("HOME", home.path())
        .output()
        .expect("it is started");
    Ended {
        stdout: String::from_utf8_lossy(&ended.stdout).into_owned(),
        stderr: String::from_utf8_lossy(&ended.stderr).into_owned(),
        exit: ended.status.code(),
    }
}

/// A file of the zip file, by another program.
fn part(file: &Path, name: &str) -> String {
    let script =
        "import sys, zipfile; sys.stdout.buffer.write(zipfile.ZipFile(sys.argv[1]).read(sys.argv[2]))";
    let output = Command::new("python3").args(["-c", script]).arg(file).arg(name).output().expect("python3");
    assert!(output.status.success(), "{name}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).expect("a text")
}

/// Counts the results in clauses.csv, by a program that shares no code with the server.
fn counted_by_another(file: &Path) -> Value {
    let script = "import collections, csv, io, json, sys, zipfile
rows = csv.DictReader(io.StringIO(zipfile.ZipFile(sys.argv[1]).read('clauses.csv').decode(), newline=''))
print(json.dumps(collections.Counter(row['result'] for row in rows)))";
    let output = Command::new("python3").args(["-c", script]).arg(file).output().expect("python3");
    serde_json::from_slice(&output.stdout).expect("its counts")
}

#[test]
fn evidence_is_made_and_verified_by_somebody_without_access_and_an_altered_file_is_found_out() {
    let fleet = fleet();
    let folder = tempfile::tempdir().expect("a folder");
    let (ended, file) =
        made(&fleet, folder.path(), "e1.zip", &["--format", "all", "--because", "the auditor asked"]);
    let said = well(&ended).to_owned();
    assert!(
        said.contains("as of 2") && said.contains("all nodes") && said.contains("\"the auditor asked\""),
        "{said}"
    );
    assert!(said.contains("1 node is not counted: no clause is desired of it"), "{said}");
    let key = key_of(&fleet);

    let proven = verified(&file, &["--key", &key]);
    assert_eq!(proven.exit, Some(0), "{}{}", proven.stdout, proven.stderr);
    assert!(proven.stdout.contains(&format!("signature      ok  by {key}")), "{}", proven.stdout);
    let unknown = verified(&file, &[]);
    assert!(
        unknown.exit == Some(3) && unknown.stderr.contains("by whom is not known here"),
        "{}{}",
        unknown.stdout,
        unknown.stderr
    );
    let another = verified(&file, &["--key", "ed25519:00000000000000000000000000000000"]);
    assert!(another.stderr.contains("none of the keys that you named"), "{}", another.stderr);
    // Whoever fetched it needs no key: the client kept it.
    well(&fleet.client(&["evidence", "verify", file.to_str().expect("UTF-8")]));

    // The figures are those that the server says everywhere else, and that another program counts.
    let manifest: Value = serde_json::from_str(&part(&file, "manifest.json")).expect("a manifest");
    let clauses = &manifest["figures"]["counted"]["clauses"];
    let as_of = manifest["question"]["as_of"].as_str().expect("a moment");
    let figures = fleet.client(&["compliance", "--as-of", as_of, "--output", "json"]);
    let figures: Value = serde_json::from_str(well(&figures)).expect("as asked");
    assert_eq!(clauses, &figures["clauses"]);
    assert_eq!(manifest["figures"]["counted"]["nodes"], figures["nodes"]);
    let counted = counted_by_another(&file);
    for result in ["compliant", "noncompliant", "conceded", "unexamined", "unknown"] {
        let rows = counted.get(result).and_then(Value::as_u64).unwrap_or(0);
        assert_eq!(clauses[result].as_u64(), Some(rows), "{result}: {counted}");
    }
    assert!(clauses["noncompliant"].as_u64() > Some(0), "{clauses}");

    // Each deviation names the run that found it, and the change that desired the clause.
    let rows = part(&file, "clauses.csv");
    let shell = rows.lines().find(|line| line.contains("noncompliant")).expect("a deviation");
    assert!(shell.contains(",C") && shell.contains("ilse.maren"), "{shell}");
    let run = part(&file, "deviations.csv").lines().nth(1).expect("a deviation").to_owned();
    let run = run.split(',').nth(7).expect("the run").to_owned();
    let shown = fleet.client(&["run", "show", "kiosk-auken-1", &run]);
    assert!(well(&shown).contains("kiosk-auken-1"), "{}", shown.stdout);

    // One bit of each part, and of the file anywhere.
    let bytes = std::fs::read(&file).expect("the file");
    for place in [bytes.len() / 7, bytes.len() / 3, bytes.len() / 2] {
        let mut altered = bytes.clone();
        altered[place] ^= 1;
        let path = folder.path().join("altered.zip");
        std::fs::write(&path, altered).expect("it is written");
        let found = verified(&path, &["--key", &key]);
        assert_eq!(found.exit, Some(1), "byte {place}: {}{}", found.stdout, found.stderr);
    }
}

#[test]
fn the_spreadsheet_is_opened_by_an_office_program_and_the_page_is_printed() {
    let fleet = fleet();
    let folder = tempfile::tempdir().expect("a folder");
    let (ended, file) = made(&fleet, folder.path(), "e1.zip", &["--format", "html,xlsx"]);
    well(&ended);
    let script = "import sys, zipfile; zipfile.ZipFile(sys.argv[1]).extractall(sys.argv[2])";
    let unpacked = folder.path().join("unpacked");
    assert!(
        Command::new("python3")
            .args(["-c", script])
            .arg(&file)
            .arg(&unpacked)
            .status()
            .expect("python3")
            .success()
    );
    let profile = format!("-env:UserInstallation=file://{}", folder.path().join("profile").display());
    // The second sheet, as text.
    let filter = "csv:Text - txt - csv (StarCalc):44,34,76,1,,0,false,true,false,false,false,2";
    let opened = Command::new("soffice")
        .args([&profile, "--headless", "--convert-to", filter, "--outdir"])
        .arg(folder.path())
        .arg(unpacked.join("evidence.xlsx"))
        .env("HOME", folder.path())
        .output()
        .expect("soffice is started");
    let sheet = std::fs::read_to_string(folder.path().join("evidence-Clauses.csv"));
    let sheet = sheet.unwrap_or_else(|error| panic!("{error}: {}", String::from_utf8_lossy(&opened.stderr)));
    let rows = std::fs::read_to_string(unpacked.join("clauses.csv")).expect("the table");
    assert_eq!(sheet.lines().count(), rows.lines().count(), "{sheet}");
    let results = |text: &str| text.matches("noncompliant").count();
    assert!(results(&sheet) > 0 && results(&sheet) == results(&rows));
    let printed = folder.path().join("evidence.pdf");
    let chromium = Command::new("chromium")
        .args([
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--no-first-run",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
        ])
        .arg(format!("--user-data-dir={}", folder.path().join("browser").display()))
        .arg(format!("--print-to-pdf={}", printed.display()))
        .arg(format!("file://{}", unpacked.join("evidence.html").display()))
        .output()
        .expect("chromium is started");
    let pdf = std::fs::read(&printed);
    let pdf = pdf.unwrap_or_else(|error| panic!("{error}: {}", String::from_utf8_lossy(&chromium.stderr)));
    assert!(pdf.starts_with(b"%PDF-") && pdf.len() > 20_000, "{} bytes", pdf.len());
}

#[test]
fn readers_make_evidence_and_only_their_own_they_stop_or_remove() {
    let fleet = fleet();
    let folder = tempfile::tempdir().expect("a folder");
    let reader = fleet.token("pia.lund", "reader");
    let file = folder.path().join("e1.zip");
    let mine = ["evidence", "make", "--control", "SK-7", "--save-as", file.to_str().expect("UTF-8")];
    let ended = fleet.client_by(&reader, &mine);
    assert!(well(&ended).contains("SK-7"), "{}", ended.stdout);
    let rows = part(&file, "clauses.csv");
    assert!(rows.lines().skip(1).all(|row| row.contains("SK-7")) && rows.lines().count() > 1, "{rows}");
    let again = fleet.client_by(&reader, &mine);
    assert!(again.stderr.contains("is there already"), "nothing is overwritten: {}", again.stderr);

    let other = fleet.client(&["evidence", "make", "--no-wait"]);
    assert!(well(&other).contains("Next: constans evidence get E2"), "{}", other.stdout);
    let third = folder.path().join("e2.zip");
    let got =
        fleet.client_by(&reader, &["evidence", "get", "E2", "--save-as", third.to_str().expect("UTF-8")]);
    assert!(well(&got).contains("asked for by ilse.maren"), "{}", got.stdout);
    let refused = fleet.client_by(&reader, &["evidence", "remove", "E2"]);
    assert!(refused.exit == Some(3) && refused.stderr.contains("people.manage"), "{}", refused.stderr);
    let removed = fleet.client_by(&reader, &["evidence", "remove", "E1"]);
    assert!(well(&removed).contains("removed by pia.lund"), "{}", removed.stdout);
    let gone = fleet.client_by(&reader, &["evidence", "get", "E1", "--save-as", "/nowhere"]);
    assert!(gone.stderr.contains("the file of E1 is no longer there"), "{}", gone.stderr);
    let late = fleet.client(&["evidence", "stop", "E2"]);
    assert!(late.stderr.contains("E2 is not being made: it is made"), "{}", late.stderr);
    assert_eq!(
        fleet.query("select string_agg(who || ' ' || did || ' ' || subject, ', ' order by id) from event where subject in ('E1', 'E2')"),
        "pia.lund asked for evidence E1, the server made evidence E1, ilse.maren asked for evidence E2, the server made evidence E2, pia.lund removed evidence E1"
    );

    let mut curl = fleet.curl().with_token(&reader);
    for (body, field) in [
        (json!({ "as_of": "2199-01-01T00:00:00Z" }), "as_of"),
        (json!({ "as_known_at": "2001-01-01T00:00:00Z" }), "as_known_at"),
        (json!({ "since": "2199-01-01T00:00:00Z" }), "since"),
        (json!({ "because": "x".repeat(501) }), "because"),
        (json!({ "controls": ["SK-99"] }), "SK-99"),
        (json!({ "filter": "labels.role ==" }), "filter"),
        (json!({ "formats": ["docx"] }), "docx"),
        (json!({ "colour": "red" }), "colour"),
    ] {
        let (status, answer) = curl.post("/api/evidence", &body.to_string());
        assert!((400..500).contains(&status) && answer.contains(field), "{body}: {status} {answer}");
    }
}

#[test]
fn a_renewed_key_follows_the_one_before_and_evidence_of_either_is_verified_by_the_first() {
    let mut fleet = fleet();
    let folder = tempfile::tempdir().expect("a folder");
    let (ended, before) = made(&fleet, folder.path(), "before.zip", &[]);
    well(&ended);
    let first = key_of(&fleet);
    let renewed =
        fleet.server_says(&["renew-evidence-key", "--protected", fleet.protected().to_str().expect("UTF-8")]);
    assert!(renewed.contains("signs evidence as soon as the server is started again"), "{renewed}");
    assert_eq!(key_of(&fleet), first, "until then the first one signs");
    fleet.kill_server();
    fleet.start_server();
    let second = key_of(&fleet);
    assert!(second != first && renewed.contains(&second), "{renewed}");
    let (ended, after) = made(&fleet, folder.path(), "after.zip", &[]);
    assert!(well(&ended).contains("the last of 2 that follow each other"), "{}", ended.stdout);
    for (file, key) in [(&before, &first), (&after, &first), (&after, &second)] {
        let proven = verified(file, &["--key", key]);
        assert_eq!(proven.exit, Some(0), "{}{}", proven.stdout, proven.stderr);
    }
    let later = verified(&before, &["--key", &second]);
    assert_eq!(later.exit, Some(3), "a key says nothing of what was signed before it: {}", later.stderr);
}

#[test]
fn evidence_is_made_on_the_page_of_the_figures_and_shown_with_them() {
    let fleet = fleet();
    let mut browser = Browser::start(&fleet.people_url());
    browser.open(&fleet.link("pia.lund", "reader"));
    browser.fill("Password *", "herring under the pier");
    browser.fill("Repeat password *", "herring under the pier");
    browser.click("button", "Set password");
    browser.see("Needs attention");
    browser.see("Runs an hour");
    browser.open("/compliance");
    browser.see("oldest examination that counts");
    browser.click("link", "Prove it…");
    browser.fill("Reason", "the auditor asked");
    browser.click("button", "Make");
    browser.see("the auditor asked");
    browser.see("Download");
    browser.see("Evidence is signed by");
    assert!(browser.text().contains(&key_of(&fleet)), "{}", browser.text());
    browser.click("button", "remove");
    browser.see("its file is removed");
    assert_eq!(browser.complaints(), Vec::<String>::new());
}

#[test]
fn evidence_whose_making_always_broke_off_is_begun_no_more() {
    let fleet = Fleet::start();
    fleet.query(
        "with asked as (insert into evidence (question, formats, asked_by, asked_at)
             values ('{\"filter\": null, \"controls\": [], \"as_of\": \"2026-11-21T23:00:00Z\", \"as_known_at\": \"2026-11-21T23:00:00Z\", \"since\": null}', '{}', 'ilse.maren', now()) returning no)
         insert into job (kind, evidence, what, who, queued_at, tries) select 'evidence', no, 'evidence', 'ilse.maren', now(), 3 from asked",
    );
    let folder = tempfile::tempdir().expect("a folder");
    let file = folder.path().join("e1.zip");
    let got = fleet.client(&["evidence", "get", "E1", "--save-as", file.to_str().expect("UTF-8")]);
    assert!(
        got.exit == Some(1) && got.stderr.contains("begun 3 times and broke off each time"),
        "{}{}",
        got.stdout,
        got.stderr
    );
}
