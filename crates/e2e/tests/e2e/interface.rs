//! The story of a fleet by the network interface alone, as a program uses it.

use constans_core::digest::of_contents;
use constans_e2e::story::well;
use constans_e2e::{Curl, Fleet, Machine, demo_kit};
use serde_json::{Value, json};
use std::fs;
use std::path::{Path, PathBuf};

fn answered((status, body): (u16, String)) -> Value {
    assert_eq!(status, 200, "{body}");
    serde_json::from_str(&body).unwrap_or_else(|error| panic!("{error}: {body}"))
}

fn files_below(folder: &Path) -> Vec<PathBuf> {
    let entries =
        fs::read_dir(folder).expect("as it should be").map(|entry| entry.expect("as it should be").path());
    entries.flat_map(|path| if path.is_dir() { files_below(&path) } else { vec![path] }).collect()
}

fn publish(program: &mut Curl, kit: &str) {
    let folder = PathBuf::from(demo_kit(kit));
    let files: Vec<(String, String, PathBuf)> = files_below(&folder)
        .into_iter()
        .map(|path| {
            let name = of_contents(&fs::read(&path).expect("as it should be")).as_str().to_owned();
            (path.strip_prefix(&folder).expect("as it should be").display().to_string(), name, path)
        })
        .collect();
    let body =
        json!({ "files": files.iter().map(|(path, name, _)| (path, name)).collect::<Vec<_>>() }).to_string();
    let lacking = answered(program.post("/api/releases/prepare", &body));
    for name in lacking["contents"].as_array().expect("as it should be") {
        let (_, _, path) = files.iter().find(|(_, known, _)| known == name).expect("as it should be");
        answered(
            program.put_file(&format!("/api/contents/{}", name.as_str().expect("as it should be")), path),
        );
    }
    let release = answered(program.post("/api/releases", &format!(r#"{{"kits": [{body}]}}"#)));
    assert_eq!(release["releases"][0]["kit"], kit);
}

fn set_kiosks(program: &Curl, mode: &str) {
    let group = json!({
        "name": "kiosks", "priority": 10, "filter": "labels.role == 'kiosk'", "settings": { "mode": mode },
        "assignments": [{ "kit": "quay-base", "baseline": "login" }, { "kit": "kiosk-floor", "baseline": "kiosk-lockdown" }],
    });
    assert_eq!(answered(program.put("/api/groups", &group.to_string()))["nodes"], 1);
}

#[test]
fn a_program_invites_approves_serves_and_reads_what_becomes_of_it() {
    let mut fleet = Fleet::start();
    let mut program = fleet.curl().with_token(&fleet.token("nightly", "administrator"));
    let kiosk = Machine::fresh();
    let made = answered(
        program.post("/api/invitations", r#"{"for_secs": 600, "uses": 1, "labels": {"role": "kiosk"}}"#),
    );
    let invitation = kiosk.document("invitation", made["text"].as_str().unwrap());
    let join = ["join", "--invitation-file", &invitation, "--name", "kiosk-auken-1", "--wait", "0"];
    let waiting = kiosk.run(&join).stdout;
    let requests = answered(program.get("/api/joining-requests"));
    assert!(
        waiting.contains(requests[0]["fingerprint"].as_str().unwrap()),
        "what the node shows is what is approved"
    );
    let wanted = json!({ "requests": [{ "id": requests[0]["id"] }] }).to_string();
    answered(program.post("/api/joining-requests/approve", &wanted));
    well(&kiosk.run(&join));
    for kit in ["quay-base", "kiosk-floor"] {
        publish(&mut program, kit);
    }
    answered(
        program.post(
            "/api/stages/open-water/serve",
            r#"{"releases": ["quay-base@1.3.0", "kiosk-floor@1.0.0"]}"#,
        ),
    );
    set_kiosks(&program, "enforce");
    let round = || well(&kiosk.run(&["daemon", "--once"])).to_owned();
    let status = |program: &Curl| answered(program.get("/api/nodes/kiosk-auken-1"))["status"].clone();
    round();
    assert_eq!(status(&program), "rolled_out");
    round();
    assert_eq!(status(&program), "in_line");
    let clauses = answered(program.get("/api/nodes/kiosk-auken-1/clauses"));
    assert_eq!(
        (clauses["clauses"].as_array().unwrap().len(), &clauses["run"]),
        (19, &Value::Null),
        "an uneventful run follows from its state"
    );

    set_kiosks(&program, "observe");
    let edited = kiosk.root.read("/etc/kiosk/shell.conf").unwrap().replace("90", "9");
    kiosk.root.write("/etc/kiosk/shell.conf", &edited).unwrap();
    round();
    assert_eq!(status(&program), "drift_found");
    let fleet_now = answered(program.get("/api/overview?filter=node.open_episodes%20%3E%200"));
    assert_eq!(fleet_now["attention"][0]["title"], "kiosk-auken-1: file:/etc/kiosk/shell.conf drifted");
    assert_eq!((&fleet_now["shown"], &fleet_now["total"]), (&json!(1), &json!(1)));
    let episode = answered(program.get("/api/nodes/kiosk-auken-1/episodes"))[0].clone();
    let run = answered(
        program.get(&format!("/api/nodes/kiosk-auken-1/runs/{}", episode["detected_run"].as_str().unwrap())),
    );
    let result = run["clauses"]
        .as_array()
        .unwrap()
        .iter()
        .find(|clause| clause["address"] == episode["address"])
        .unwrap();
    assert!(result["text_diff"]["text"].as_str().unwrap().contains("-idle = 9\n+idle = 90"), "{result}");

    fleet.kill_server();
    round();
    fleet.start_server();
    set_kiosks(&program, "enforce");
    round();
    assert_eq!(status(&program), "drift_corrected");
    assert_eq!(answered(program.get("/api/nodes/kiosk-auken-1/episodes"))[0]["closed_as"], "corrected");
    let runs = answered(program.get("/api/nodes/kiosk-auken-1/runs"));
    let drifted: Vec<_> =
        runs.as_array().unwrap().iter().filter(|run| run["status"] == "drift_found").collect();
    assert_eq!(drifted.len(), 1, "the second run found the same: {runs}");
    assert_eq!(drifted[0]["count"], 2, "the run without a server was delivered");

    assert_eq!(answered(program.get("/api/nodes/kiosk-auken-1/left-behind")), json!([]));
    let fewer = json!({ "name": "kiosks", "priority": 10, "filter": "labels.role == 'kiosk'", "settings": { "mode": "enforce" },
        "assignments": [{ "kit": "kiosk-floor", "baseline": "kiosk-lockdown" }] });
    let (status, problem) = program.put("/api/groups", &fewer.to_string());
    let problem: Value = serde_json::from_str(&problem).unwrap();
    assert_eq!(
        (status, &problem["type"]),
        (409, &json!("unconfirmed")),
        "what takes clauses from nodes is confirmed: {problem}"
    );
    let change = answered(program.get(&format!("/api/changes/{}", problem["change"])));
    assert_eq!((&change["impact"]["takes"], &change["impact"]["takes_from"]), (&json!(6), &json!(1)));
    answered(program.put("/api/groups?confirm=1", &fewer.to_string()));
    let left = answered(program.get("/api/nodes/kiosk-auken-1/left-behind"));
    let addresses: Vec<&str> =
        left.as_array().unwrap().iter().filter_map(|one| one["address"].as_str()).collect();
    assert_eq!(
        addresses,
        [
            "account:ops",
            "account_group:ops",
            "directory:/etc/sudoers.d",
            "file:/etc/issue",
            "file:/etc/sudoers.d/ops"
        ]
    );
    assert!(
        well(&fleet.client(&["node", "show", "kiosk-auken-1"]))
            .contains("left      file:/etc/issue, desired until ")
    );

    let (status, problem) = program.get("/api/nodes/kiosk-auken-9");
    assert_eq!(
        (status, serde_json::from_str::<Value>(&problem).unwrap()["type"].clone()),
        (404, json!("missing"))
    );
    assert!(
        program.headers().to_lowercase().contains("content-type: application/problem+json"),
        "{}",
        program.headers()
    );
    let (status, problem) = program.get("/api/nodes?filter=labels.role%20%3D%3D");
    assert!(status == 422 && problem.contains("\"type\":\"filter\""), "{status} {problem}");
    let (_, events) = program.get("/api/live");
    assert!(events.contains("event:changed") && events.contains("data:everything"), "{events}");
}
