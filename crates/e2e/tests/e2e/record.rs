//! The audit trail: everything is on it, it is only added to, and what was altered all the same is found.

use constans_e2e::Fleet;
use constans_e2e::story::{joined, publish_and_serve, well};
use serde_json::Value;
use std::io::Write as _;
use std::process::{Command, Stdio};

/// JSON with the keys of its tables sorted, as RFC 8785 has it for plain keys.
fn sorted(value: &Value) -> String {
    match value {
        Value::Object(fields) => {
            let mut fields: Vec<_> = fields.iter().collect();
            fields.sort_by_key(|(key, _)| key.as_str());
            let fields: Vec<String> = fields
                .into_iter()
                .map(|(key, value)| format!("{}:{}", Value::from(key.as_str()), sorted(value)))
                .collect();
            format!("{{{}}}", fields.join(","))
        }
        Value::Array(items) => format!("[{}]", items.iter().map(sorted).collect::<Vec<_>>().join(",")),
        plain => plain.to_string(),
    }
}

fn sha256sum(bytes: &[u8]) -> String {
    let mut child = Command::new("sha256sum")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .expect("sha256sum starts");
    child.stdin.take().expect("it listens").write_all(bytes).expect("it listens");
    String::from_utf8_lossy(&child.wait_with_output().expect("it ends").stdout)[..64].to_owned()
}

/// The verification, once everything is chained.
fn verified(fleet: &Fleet) -> Value {
    for _ in 0..100 {
        let (status, body) = fleet.curl().with_token(fleet.administrator()).get("/api/audit/verify");
        assert_eq!(status, 200, "{body}");
        let output: Value = serde_json::from_str(&body).expect("it is JSON");
        if output["unchained"] == 0 {
            return output;
        }
        std::thread::sleep(std::time::Duration::from_millis(100));
    }
    panic!("it is not chained");
}

#[test]
fn what_was_done_is_on_record_and_what_is_altered_there_is_found() {
    let fleet = Fleet::start();
    drop(joined(&fleet, "kiosk-auken-1", &["role=kiosk"]));
    publish_and_serve(&fleet);
    well(&fleet.client(&["node", "revoke", "kiosk-auken-1"]));
    let listed = fleet.client(&["audit", "list", "--who", "ilse.maren"]);
    let listed = well(&listed);
    for done in [
        "revoked: kiosk-auken-1",
        "handed out a change: open-water serves",
        "approved: kiosk-auken-1",
        "published: quay-base@1.3.0",
    ] {
        assert!(listed.contains(done), "{done}: {listed}");
    }
    assert!(listed.lines().next().unwrap().contains("revoked"), "the newest first: {listed}");
    let of_node = fleet.client(&["audit", "list", "--subject", "kiosk-auken-1"]);
    assert!(well(&of_node).lines().all(|line| line.contains("kiosk-auken-1")), "{}", of_node.stdout);

    let before = verified(&fleet);
    assert_eq!(before["broken_at"], Value::Null);
    let output = fleet.client(&["audit", "verify"]);
    assert!(well(&output).contains("none altered or removed"), "{}", output.stdout);
    // An independent reckoning, from what the database holds and sha256sum.
    let rows = fleet.query(
        "select json_build_object('at_micros', (extract(epoch from e.at) * 1000000)::bigint, 'detail', e.detail, 'did', e.did, 'id', e.id, 'subject', e.subject, 'who', e.who)
             || '' from audit_chain c join event e on e.id = c.entry order by c.place",
    );
    let mut digest = String::new();
    for row in rows.lines() {
        digest = sha256sum((digest + &sorted(&serde_json::from_str(row).unwrap())).as_bytes());
    }
    assert_eq!(
        (before["last"].as_str(), before["entries"].as_u64()),
        (Some(digest.as_str()), Some(rows.lines().count() as u64))
    );

    for act in [
        "update event set who = 'nobody'",
        "delete from event",
        "delete from audit_chain",
        "truncate event cascade",
    ] {
        let refused = Command::new("psql").args(["-qtA", "-c", act, fleet.database()]).output().unwrap();
        assert!(
            String::from_utf8_lossy(&refused.stderr).contains("only added to"),
            "{act}: {}",
            String::from_utf8_lossy(&refused.stderr)
        );
    }
    // Anyone who rules the database can do it all the same.
    let entry = fleet.query("select id from event where did = 'revoked'");
    let alter = |act: &str| {
        fleet.query(&format!(
            "alter table event disable trigger user; {act}; alter table event enable trigger user"
        ))
    };
    alter(&format!("update event set who = 'tor.havik' where id = {entry}"));
    assert_eq!(verified(&fleet)["broken_at"].to_string(), entry);
    let output = fleet.client(&["audit", "verify"]);
    assert!(
        output.exit == Some(1) && output.stderr.contains(&format!("broken at entry {entry}")),
        "{}",
        output.stderr
    );
    alter(&format!("update event set who = 'ilse.maren' where id = {entry}"));
    assert_eq!(verified(&fleet), before, "as it was");
}
