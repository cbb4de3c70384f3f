//! Changes: what they prepare, what is dropped, and the states that nothing has any more.

use crate::database::Database;
use constans_server::store::change::{self, NewChange, NewChangeNode};
use constans_server::store::{effective_state, fleet};
use serde_json::json;
use uuid::Uuid;

/// Adds a change that nothing was done for.
pub async fn new_change(database: &Database, who: &str) -> i64 {
    change_of(database, who, "waiting").await
}

/// Stores a change as it is.
pub async fn change_of(database: &Database, who: &str, status: &str) -> i64 {
    let new = NewChange {
        kind: "group",
        what: "set the group kiosks",
        who,
        because: None,
        edits: &json!([]),
        although_unusable: false,
        is_preview: false,
        is_request: false,
        confirmed: None,
        goes_back: None,
        epoch: 1,
        status,
        request_key: None,
        rollout: None,
        of_rollout: None,
    };
    change::add(&database.pool, &new).await.unwrap()
}

/// Stores a state without clauses.
pub async fn state(database: &Database, digest: &str) -> i64 {
    effective_state::store(&database.pool, digest, &[], &[]).await.unwrap();
    database.value(&format!("select id from effective_state where digest = '{digest}'")).await
}

/// Prepares a change of one node.
pub async fn prepare(database: &Database, no: i64, node: Uuid, state: i64) {
    let mut connection = database.pool.acquire().await.unwrap();
    let placement: i64 = database
        .value(
            "insert into placement (digest, stage, groups, mode, settings, settings_digest, overdue_secs)
             values (gen_random_uuid()::text, 'harbour', '[]', 'enforce', '{}', 'g1:0', 900) returning id",
        )
        .await;
    let row = NewChangeNode {
        node,
        state: Some(state),
        placement,
        sources: None,
        unusable: None,
        before_state: None,
        before_placement: None,
        is_new: true,
        is_altered: true,
    };
    change::set_nodes(&mut connection, no, &[row], &[]).await.unwrap();
}

async fn states(database: &Database) -> Vec<String> {
    sqlx::query_scalar("select digest from effective_state order by digest")
        .fetch_all(&database.pool)
        .await
        .unwrap()
}

#[tokio::test]
async fn only_states_that_nothing_has_are_forgotten() {
    let database = Database::fresh().await;
    let node = database.node("kiosk-auken-1").await;
    let before = state(&database, "s2:before").await;
    database.run("update effective_state set made_at = made_at - interval '1 hour'").await;
    let dropped = change_of(&database, "tor.havik", "previewed").await;
    let kept = change_of(&database, "pia.lund", "handed_out").await;
    for digest in ["s2:of-dropped", "s2:of-kept", "s2:of-node", "s2:of-agent"] {
        let id = state(&database, digest).await;
        prepare(&database, dropped, node, id).await;
        // Each state is of the dropped change, and but for one something else has it too.
        change::drop_nodes(&database.pool, &[dropped]).await.unwrap();
        match digest {
            "s2:of-kept" => prepare(&database, kept, node, id).await,
            "s2:of-node" => {
                database
                    .run(&format!(
                        "insert into node_wanted (node, state, epoch, counter, settings_since) values ('{node}', {id}, 1, 1, now())"
                    ))
                    .await;
            }
            "s2:of-agent" => {
                database
                    .run(&format!("update node_now set full_state = '{digest}' where node = '{node}'"))
                    .await;
            }
            _ => {}
        }
    }
    // The one from before the change is nobody's either, and is not the change's.
    prepare(&database, dropped, node, before).await;
    change::drop_nodes(&database.pool, &[dropped]).await.unwrap();

    assert!(!change::has_dropped_states(&database.pool).await.unwrap(), "one waits for confirmation");
    database.run("update change set status = 'dropped' where status = 'previewed'").await;
    assert!(change::has_dropped_states(&database.pool).await.unwrap());
    let mut transaction = database.pool.begin().await.unwrap();
    fleet::lock(&mut transaction).await.unwrap();
    assert_eq!(change::forget_dropped_states(&mut transaction).await.unwrap(), 1);
    transaction.commit().await.unwrap();
    assert_eq!(states(&database).await, ["s2:before", "s2:of-agent", "s2:of-kept", "s2:of-node"]);
    assert!(!change::has_dropped_states(&database.pool).await.unwrap());
}

#[tokio::test]
async fn a_hand_out_gives_each_node_its_state_and_a_retired_one_nothing() {
    let database = Database::fresh().await;
    let nodes = [
        database.node("kiosk-auken-1").await,
        database.node("kiosk-auken-2").await,
        database.node("gate-auken-1").await,
    ];
    let wanted = state(&database, "s2:new").await;
    let no = change_of(&database, "tor.havik", "preparing").await;
    for node in nodes {
        prepare(&database, no, node, wanted).await;
    }
    database.run("update node set retired_at = now() where name = 'gate-auken-1'").await;
    let counters = "select array_agg(counter order by counter) from node_wanted";
    let give = |no: i64| {
        let pool = database.pool.clone();
        async move {
            let mut transaction = pool.begin().await.unwrap();
            change::hand_out(&mut transaction, no, 1).await.unwrap();
            transaction.commit().await.unwrap();
        }
    };
    give(no).await;
    let first: Vec<i64> = database.value(counters).await;
    assert_eq!(first.len(), 2, "the retired one has none");
    assert_eq!(
        database.value::<i64>(&format!("select count(*) from node_wanted where state = {wanted}")).await,
        2
    );
    assert_eq!(database.value::<i64>("select count(distinct counter) from node_wanted").await, 2);

    // Again, as a later change does: the counters rise.
    let later = change_of(&database, "tor.havik", "preparing").await;
    let other = state(&database, "s2:later").await;
    prepare(&database, later, nodes[0], other).await;
    give(later).await;
    let second: Vec<i64> = database.value(counters).await;
    assert!(second.len() == 2 && second[1] > first[1], "{first:?} {second:?}");
    assert_eq!(
        database
            .value::<String>("select string_agg(s.digest, ' ' order by s.digest) from node_wanted w join effective_state s on s.id = w.state")
            .await,
        "s2:later s2:new"
    );
}

#[tokio::test]
async fn a_node_whose_state_cannot_be_resolved_is_marked_and_cleared() {
    let database = Database::fresh().await;
    let node = database.node("kiosk-auken-1").await;
    let wanted = state(&database, "s2:new").await;
    let is_unusable = "select is_unusable from node_now";
    for (reason, expected) in [(Some("there is no stage night"), true), (None, false)] {
        let no = change_of(&database, "tor.havik", "preparing").await;
        prepare(&database, no, node, wanted).await;
        sqlx::query("update change_node set unusable = $1 where change = $2")
            .bind(reason)
            .bind(no)
            .execute(&database.pool)
            .await
            .unwrap();
        let mut transaction = database.pool.begin().await.unwrap();
        change::hand_out(&mut transaction, no, 1).await.unwrap();
        transaction.commit().await.unwrap();
        assert_eq!(database.value::<bool>(is_unusable).await, expected);
    }
}

#[tokio::test]
async fn a_request_is_approved_by_another_person_once() {
    let database = Database::fresh().await;
    let no = change_of(&database, "tor.havik", "requested").await;
    let confirmed = json!({ "takes_from": 0 });
    assert!(
        !change::approve(&database.pool, no, &confirmed, None, "tor.havik").await.unwrap(),
        "nobody their own"
    );
    assert!(change::approve(&database.pool, no, &confirmed, None, "pia.lund").await.unwrap());
    assert!(
        !change::approve(&database.pool, no, &confirmed, None, "ilse.maren").await.unwrap(),
        "it is approved"
    );
    assert_eq!(change::status(&database.pool, no).await.unwrap(), "waiting");
}

/// 1,203 nodes of one change: none of them has it.
async fn change_of_many(database: &Database) -> i64 {
    let no = change_of(database, "tor.havik", "handed_out").await;
    let desired = state(database, "s2:desired").await;
    let first = database.node("kiosk-0000").await;
    prepare(database, no, first, desired).await;
    database
        .run(&format!(
            "insert into node (id, name, joined_at) select gen_random_uuid(), 'kiosk-' || lpad(at::text, 4, '0'), now() from generate_series(1, 1202) at;
             insert into node_now (node) select id from node on conflict do nothing;
             insert into change_node (change, node, state, placement, is_new)
                 select {no}, node.id, c.state, c.placement, true from node, change_node c where c.node = '{first}' and node.id <> c.node;
             update node_now n set promised_at = '2026-11-23 07:00:00+00'::timestamptz + substr(node.name, 7)::int * interval '1 second'
                 from node where node.id = n.node"
        ))
        .await;
    no
}

#[tokio::test]
async fn the_last_node_to_have_a_change_is_found_among_all_of_them() {
    let database = Database::fresh().await;
    let no = change_of_many(&database).await;
    let last_by =
        || async { change::last_by(&database.pool, no).await.unwrap().map(|at| at.to_jiff().to_string()) };
    assert_eq!(last_by().await.as_deref(), Some("2026-11-23T07:20:02Z"), "that of kiosk-1202");
    database.run("update change_node set taken_at = now() where node = (select id from node where name = 'kiosk-1202')").await;
    assert_eq!(last_by().await.as_deref(), Some("2026-11-23T07:20:01Z"));
    database.run("update node_now set promised_at = null where node = (select id from node where name = 'kiosk-0500')").await;
    assert_eq!(last_by().await, None, "one never checked in: nobody knows");
    database.run("update change_node set taken_at = now()").await;
    assert_eq!(last_by().await, None, "all have it");
}

#[tokio::test]
async fn the_nodes_of_a_change_are_read_page_by_page_those_without_it_first() {
    let database = Database::fresh().await;
    let no = change_of_many(&database).await;
    database
        .run("update change_node set taken_at = now() where node in (select id from node where name < 'kiosk-0700')")
        .await;
    let mut read: Vec<(bool, String)> = Vec::new();
    loop {
        let after = read.last().map(|(has_it, name)| (*has_it, name.as_str()));
        let page = change::nodes(&database.pool, no, after, 250).await.unwrap();
        if page.is_empty() {
            break;
        }
        read.extend(page.into_iter().map(|row| (row.taken_at.is_some(), row.name)));
    }
    let named = |at: u32| format!("kiosk-{at:04}");
    let expected: Vec<(bool, String)> =
        (700..=1202).map(|at| (false, named(at))).chain((0..700).map(|at| (true, named(at)))).collect();
    assert_eq!(read, expected);
}
