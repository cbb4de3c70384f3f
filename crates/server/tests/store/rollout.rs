//! How the nodes of a rollout are counted, each state by what alone makes it so.

use crate::change::{change_of, prepare, state};
use crate::database::Database;
use constans_server::store::cursor::PageRange;
use constans_server::store::{change, rollout};
use serde_json::json;

/// A rollout of two waves, the first of which one node has.
async fn under_way(database: &Database) -> (i64, i64) {
    let node = database.node("kiosk-auken-1").await;
    let later = database.node("kiosk-auken-2").await;
    let no = change_of(database, "ilse.maren", "in_waves").await;
    let plan = json!({ "waves": [50, 100] });
    let new = rollout::NewRollout { change: no, plan: &plan, waves: 2, nodes: &[(node, 1), (later, 2)] };
    let mut connection = database.pool.acquire().await.unwrap();
    rollout::begin(&mut connection, &new).await.unwrap();
    let wave = change_of(database, "ilse.maren", "handed_out").await;
    let given = state(database, "s2:given").await;
    prepare(database, wave, node, given).await;
    assert!(rollout::reach(&mut *connection, no, 1, wave, false).await.unwrap());
    change::hand_out(&mut connection, wave, 1).await.unwrap();
    (no, wave)
}

async fn states(database: &Database, no: i64) -> Vec<(String, i64)> {
    let mut all = rollout::figures(&database.pool, no).await.unwrap();
    all.sort();
    all.into_iter().map(|(wave, state, nodes)| (format!("{wave} {state}"), nodes)).collect()
}

const FINISHED: &str = "heard_at = now(), silent_after = now() + interval '1 hour', on_time_until = now() + interval '1 hour', full_learned = now(), full_state = 's2:given', full_status = 'in_line'";

#[tokio::test]
async fn with_another_version_of_the_agent_a_node_has_finished_once_that_version_has_reported() {
    let database = Database::fresh().await;
    let (no, _) = under_way(&database).await;
    let of_wave = "in (select node from rollout_node where wave = 1)";
    database.run(&format!("update node_now set {FINISHED} where node {of_wave}")).await;
    database
        .run("update placement set mode = 'enforce', settings = settings || '{\"agent_version\": \"0.0.9\"}'")
        .await;
    let told = |state: &str| format!("'{{\"to\": \"0.0.9\", \"state\": \"{state}\"}}'");
    for (upgrade, state) in [
        ("null".to_owned(), "received"),
        ("'{\"to\": \"0.0.8\", \"state\": \"failed\"}'".to_owned(), "received"),
        (told("under_way"), "received"),
        (told("waiting"), "received"),
        (told("done"), "finished"),
        (told("failed"), "failed"),
    ] {
        database.run(&format!("update node set agent_upgrade = {upgrade} where id {of_wave}")).await;
        assert_eq!(states(&database, no).await[0].0, format!("1 {state}"), "{upgrade}");
    }
    let bad = rollout::bad_clauses(&database.pool, no).await.unwrap().remove(0);
    assert_eq!((bad.address.as_str(), bad.nodes), ("constans-agent", 1));
    database.run("update placement set mode = 'observe'").await;
    assert_eq!(states(&database, no).await[0].0, "1 untried");
    // A wave that is about something else does not mind.
    database.run("update placement set mode = 'enforce'").await;
    database.run("update change_node set before_placement = placement, before_state = null").await;
    assert_eq!(states(&database, no).await[0].0, "1 finished");
}

#[tokio::test]
async fn each_state_is_what_makes_it_so() {
    let database = Database::fresh().await;
    let (no, _) = under_way(&database).await;
    for (state, now) in [
        ("silent", "heard_at = null"),
        ("silent", "heard_at = now() - interval '2 hours', silent_after = now() - interval '1 hour'"),
        ("pending", "heard_at = now() - interval '2 hours', silent_after = now() + interval '1 hour'"),
        (
            "received",
            "heard_at = now(), silent_after = now() + interval '1 hour', on_time_until = now() + interval '1 hour'",
        ),
        ("not_heard", "on_time_until = now() - interval '1 second'"),
        ("not_heard", "silent_after = now() - interval '1 second'"),
        ("finished", FINISHED),
        ("failed", "full_status = 'failed'"),
        ("received", "full_status = 'in_line', full_state = 's2:before'"),
        ("received", "full_state = 's2:given', full_learned = now() - interval '2 hours'"),
        ("finished", FINISHED),
        // It reported and is away since: it was heard.
        (
            "finished",
            "on_time_until = now() - interval '1 second', silent_after = now() - interval '1 second'",
        ),
    ] {
        database
            .run(&format!(
                "update node_now set {now} where node in (select node from rollout_node where wave = 1)"
            ))
            .await;
        let expected = [(format!("1 {state}"), 1), ("2 waiting".to_owned(), 1)];
        assert_eq!(states(&database, no).await, expected, "{now}");
    }
    database.run("update placement set mode = 'observe'").await;
    assert_eq!(states(&database, no).await[0].0, "1 untried");
    // Only its settings are other ones: a run counts once it has them.
    database.run("update change_node set before_state = state").await;
    assert_eq!(states(&database, no).await[0].0, "1 not_heard");
    database.run("update change_node set taken_at = now() - interval '1 second'").await;
    assert_eq!(states(&database, no).await[0].0, "1 untried");
    database.run("update change_node set unusable = 'a parameter is missing'").await;
    database.run("update node_now set is_unusable = true").await;
    assert_eq!(states(&database, no).await[0].0, "1 unusable");
    // What the wave gives nothing else, and what is not in the fleet, is not counted.
    database.run("update change_node set unusable = null, is_new = false").await;
    assert_eq!(states(&database, no).await.len(), 1);
    database.run("update change_node set is_new = true").await;
    database.run("update node set revoked_at = now() where name = 'kiosk-auken-1'").await;
    assert_eq!(states(&database, no).await, [("2 waiting".to_owned(), 1)]);
}

#[tokio::test]
async fn a_wave_is_reached_once_in_its_turn_and_not_while_halted_unless_a_person_confirmed_it() {
    let database = Database::fresh().await;
    let (no, wave) = under_way(&database).await;
    let reach =
        async |wave_no, although| rollout::reach(&database.pool, no, wave_no, wave, although).await.unwrap();
    assert!(!reach(1, true).await, "it is reached");
    assert!(!reach(3, true).await, "not its turn");
    assert!(rollout::halt(&database.pool, Some(no), "the screens flicker", "tor.havik").await.unwrap());
    assert!(!rollout::halt(&database.pool, Some(no), "again", "tor.havik").await.unwrap());
    assert!(!reach(2, false).await);
    assert!(reach(2, true).await);
    let range = PageRange { after: None, size: 10 };
    let row = rollout::list(&database.pool, &range).await.unwrap().remove(0);
    assert_eq!((row.status.as_str(), row.reached, row.halted_because), ("going", 2, None));
    rollout::end(&database.pool, no, "done", "the server").await.unwrap();
    rollout::end(&database.pool, no, "turned_back", "tor.havik").await.unwrap();
    assert_eq!(rollout::by_no(&database.pool, no).await.unwrap().unwrap().status, "done", "it ends once");
    assert!(rollout::open(&database.pool).await.unwrap().is_empty());
}
