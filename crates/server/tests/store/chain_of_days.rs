//! The chain of days: what was learned has a digest that anybody can compute, and whoever alters it later is found.

use crate::database::Database;
use constans_core::evidence::learned::Learned;
use constans_core::evidence::{check_chain, hex};
use constans_server::jobs::chain_of_days::chain_next;
use constans_server::learned::{ProofError, Prover, tree_of};
use constans_server::store::evidence;
use jiff::civil::Date;
use jiff::{SignedDuration, Timestamp};
use sha2::{Digest as _, Sha256};

/// A clause of two nodes that deviated three days ago; on one it was put right two days ago.
async fn history(database: &Database) -> Timestamp {
    let noon =
        (Timestamp::now() - SignedDuration::from_hours(72)).to_string()[..10].to_owned() + "T12:00:00Z";
    let noon: Timestamp = noon.parse().unwrap();
    for name in ["gate-auken-1", "gate-auken-2"] {
        database.node(name).await;
    }
    database.run("insert into clause_address (address) values ('file:/etc/gate/tariff.conf')").await;
    database.run("insert into desired_clause (address, wanted) values (1, 's2:tariff')").await;
    database
        .run(&format!(
            "insert into deviation (node, desired, cause, from_at, learned_at, run)
                 select no, 1, 'drift', '{noon}', '{noon}'::timestamptz + interval '2 seconds', id from node"
        ))
        .await;
    database
        .run(&format!(
            "update deviation set until_at = '{noon}'::timestamptz + interval '1 day', until_learned_at = '{noon}'::timestamptz + interval '1 day 1 second' where node = 1"
        ))
        .await;
    noon
}

fn day(moment: Timestamp) -> Date {
    moment.to_string()[..10].parse().unwrap()
}

#[tokio::test]
async fn each_day_that_is_over_is_chained_once_with_the_rows_that_were_learned_on_it() {
    let database = Database::fresh().await;
    assert_eq!(chain_next(&database.pool).await.unwrap(), 0, "nothing was learned yet");
    let noon = history(&database).await;
    let chained = chain_next(&database.pool).await.unwrap();
    assert!((2..=3).contains(&chained), "the last one may have ended less than ten minutes ago: {chained}");
    assert_eq!(chain_next(&database.pool).await.unwrap(), 0, "each once");
    let days = evidence::days(&database.pool).await.unwrap();
    assert_eq!(check_chain(&days), Ok(()));
    let rows: Vec<u64> = days.iter().take(2).map(|link| link.rows).collect();
    assert_eq!((days[0].day, rows), (day(noon), vec![2, 1]));

    // The same by hand: SHA-256 of two leaves in their order, and of the day.
    let of = |parts: &[&[u8]]| -> Vec<u8> { Sha256::digest(parts.concat()).to_vec() };
    let ids = database.value::<String>("select string_agg(id::text, ' ') from node").await;
    let ids: Vec<&str> = ids.split(' ').collect();
    let micros = noon.as_microsecond();
    let mut leaves: Vec<Vec<u8>> = ids
        .iter()
        .map(|id| {
            let row = format!(
                r#"{{"address":"file:/etc/gate/tariff.conf","cause":"drift","from":{micros},"learned":{},"node":"{id}","run":"{id}","wanted":"s2:tariff","what":"opened"}}"#,
                micros + 2_000_000
            );
            of(&[&[0], row.as_bytes()])
        })
        .collect();
    leaves.sort();
    let root = hex(&of(&[&[1], &leaves[0], &leaves[1]]));
    assert_eq!(days[0].root, root);
    let link = format!(r#"{{"day":"{}","root":"{root}","rows":2}}"#, days[0].day);
    assert_eq!(days[0].digest, hex(&of(&[link.as_bytes()])));

    let tree = tree_of(&mut database.connection().await, days[0].day).await.unwrap();
    assert_eq!((tree.len(), hex(&tree.root())), (2, root));
}

#[tokio::test]
async fn a_row_of_a_chained_day_that_was_altered_inserted_or_removed_is_not_proven() {
    let database = Database::fresh().await;
    let noon = history(&database).await;
    chain_next(&database.pool).await.unwrap();
    let days = evidence::days(&database.pool).await.unwrap();
    let learned_at = noon + SignedDuration::from_secs(2);
    let id = database.value::<String>("select id::text from node where no = 1").await;
    let opened = Learned::Opened {
        node: &id,
        address: "file:/etc/gate/tariff.conf",
        wanted: "s2:tariff",
        cause: Some("drift"),
        from: noon,
        learned: learned_at,
        run: &id,
    };
    let proof = |learned_at| {
        let (pool, days, leaf) = (&database.pool, &days, opened.leaf());
        async move { Prover::by(pool, days).proof(learned_at, &leaf).await }
    };
    assert!(proof(learned_at).await.unwrap().is_some());
    assert!(proof(Timestamp::now()).await.unwrap().is_none(), "today is not chained yet");
    for alter in [
        "update deviation set from_at = from_at - interval '1 hour' where node = 2",
        "delete from deviation where node = 2",
        "insert into deviation_doubt (node, desired, from_at, until_at, learned_at) select node, desired, from_at, from_at, learned_at from deviation where node = 1",
        "insert into examined_state (node, state, from_at, learned_at) select 1, s.id, d.from_at, d.learned_at from deviation d, effective_state s where d.node = 1",
    ] {
        database.run("create table kept as select * from deviation").await;
        database.run("insert into effective_state (digest, clauses, releases, made_at) values ('s1:x', '{}', '{}', now()) on conflict do nothing").await;
        database.run(alter).await;
        let fault = proof(learned_at).await;
        assert!(matches!(fault, Err(ProofError::Altered(found)) if found == day(noon)), "{alter}: {fault:?}");
        database.run("delete from deviation_doubt; delete from examined_state; delete from deviation").await;
        database
            .run("insert into deviation overriding system value select * from kept; drop table kept")
            .await;
        assert!(proof(learned_at).await.unwrap().is_some(), "put back after {alter}");
    }
}

#[tokio::test]
async fn a_day_is_not_chained_while_a_transaction_of_it_may_be_open() {
    let database = Database::fresh().await;
    assert!(!evidence::may_still_learn(&database.pool, 0.5).await.unwrap());
    let mut open = database.pool.begin().await.unwrap();
    sqlx::query("select 1").execute(&mut *open).await.unwrap();
    tokio::time::sleep(std::time::Duration::from_millis(700)).await;
    assert!(evidence::may_still_learn(&database.pool, 0.5).await.unwrap());
    open.rollback().await.unwrap();
    assert!(!evidence::may_still_learn(&database.pool, 0.5).await.unwrap());
}
