//! Long work: one owner at a time, and one that was away for too long writes nothing any more.

use crate::change::new_change;
use crate::database::Database;
use constans_server::store::job::{self, Claim, JobKind};
use uuid::Uuid;

#[tokio::test]
async fn one_owner_works_and_the_next_job_waits() {
    let database = Database::fresh().await;
    let (first, second) = (new_change(&database, "tor.havik").await, new_change(&database, "pia.lund").await);
    for (no, who) in [(first, "tor.havik"), (second, "pia.lund")] {
        job::queue(&database.pool, JobKind::Change, no, "set the group kiosks", who, None).await.unwrap();
    }
    let (here, there) = (Uuid::now_v7(), Uuid::now_v7());
    let claimed = job::claim(&database.pool, JobKind::Change, here).await.unwrap().unwrap();
    assert_eq!(claimed.subject, first, "the oldest first");
    assert!(job::claim(&database.pool, JobKind::Change, there).await.unwrap().is_none(), "one at a time");
    assert!(job::claim(&database.pool, JobKind::Preview, there).await.unwrap().is_none(), "of another kind");
    let ahead = job::ahead_of(&database.pool, second).await.unwrap().unwrap();
    assert_eq!((ahead.0, ahead.1.as_str()), (first, "tor.havik"));
    assert_eq!(job::open(&database.pool).await.unwrap().len(), 2);

    assert!(job::end(&database.pool, &claimed).await.unwrap());
    assert!(!job::end(&database.pool, &claimed).await.unwrap(), "it is over already");
    let next = job::claim(&database.pool, JobKind::Change, there).await.unwrap().unwrap();
    assert_eq!(next.subject, second);
}

#[tokio::test]
async fn an_owner_that_was_away_for_too_long_has_lost_its_claim() {
    let database = Database::fresh().await;
    let no = new_change(&database, "tor.havik").await;
    job::queue(&database.pool, JobKind::Change, no, "set the group kiosks", "tor.havik", None).await.unwrap();
    let lost = job::claim(&database.pool, JobKind::Change, Uuid::now_v7()).await.unwrap().unwrap();
    let mut connection = database.pool.acquire().await.unwrap();
    let reached = Uuid::now_v7();
    assert_eq!(job::note(&mut connection, &lost, Some(reached), 500, 2_000).await.unwrap(), Claim::Held);
    database.run("update job set leased_until = leased_until - interval '1 hour'").await;

    let claimed = job::claim(&database.pool, JobKind::Change, Uuid::now_v7()).await.unwrap().unwrap();
    assert_eq!((claimed.reached, claimed.done), (Some(reached), 500), "it goes on where it was left");
    assert!(claimed.fence > lost.fence);
    assert_eq!(job::note(&mut connection, &lost, None, 501, 2_000).await.unwrap(), Claim::Lost);
    assert!(!job::prolong(&database.pool, &lost).await.unwrap());
    assert!(!job::end(&database.pool, &lost).await.unwrap());
    assert!(job::prolong(&database.pool, &claimed).await.unwrap());
}

#[tokio::test]
async fn whoever_works_learns_at_the_next_note_who_stopped_it() {
    let database = Database::fresh().await;
    let no = new_change(&database, "tor.havik").await;
    assert!(!job::stop(&database.pool, JobKind::Change, no, "pia.lund").await.unwrap(), "nobody works at it");
    job::queue(&database.pool, JobKind::Change, no, "set the group kiosks", "tor.havik", None).await.unwrap();
    let claimed = job::claim(&database.pool, JobKind::Change, Uuid::now_v7()).await.unwrap().unwrap();
    assert!(job::stop(&database.pool, JobKind::Change, no, "pia.lund").await.unwrap());
    let mut connection = database.pool.acquire().await.unwrap();
    assert_eq!(
        job::note(&mut connection, &claimed, None, 1, 2).await.unwrap(),
        Claim::Stopped("pia.lund".to_owned())
    );
}
