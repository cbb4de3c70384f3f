//! Persons: roles, sessions, one-time links and failures to sign in.

use crate::database::Database;
use constans_server::store::person;

async fn with_session(database: &Database, name: &str, digest: &[u8]) {
    let mut connection = database.pool.acquire().await.unwrap();
    person::begin_session(&mut connection, name, digest, "192.0.2.7", 3_600).await.unwrap();
}

#[tokio::test]
async fn a_session_ends_idle_by_its_end_with_the_password_and_with_the_person() {
    let database = Database::fresh().await;
    person::grant(&database.pool, "tor.havik", "operator").await.unwrap();
    let name = |digest: &'static [u8]| {
        let pool = database.pool.clone();
        async move { person::by_session(&pool, digest, 900).await.unwrap().map(|row| row.name) }
    };
    with_session(&database, "tor.havik", b"first").await;
    assert_eq!(name(b"first").await.as_deref(), Some("tor.havik"));
    assert_eq!(name(b"another").await, None);
    person::end_session(&database.pool, b"first").await.unwrap();
    assert_eq!(name(b"first").await, None, "it was ended");

    with_session(&database, "tor.havik", b"second").await;
    let mut connection = database.pool.acquire().await.unwrap();
    person::set_password(&mut connection, "tor.havik", "hash").await.unwrap();
    assert_eq!(name(b"second").await, None, "a new password ends all sessions");

    with_session(&database, "tor.havik", b"third").await;
    let ended = person::remove(&mut connection, "tor.havik", "ilse.maren").await.unwrap();
    assert_eq!(ended.sessions, 1);
    assert_eq!(name(b"third").await, None);
    assert_eq!(person::roles(&database.pool, "tor.havik").await.unwrap(), None);
}

#[tokio::test]
async fn roles_are_granted_and_taken_and_administrators_are_known() {
    let database = Database::fresh().await;
    assert!(!person::has_administrator(&database.pool).await.unwrap());
    assert!(person::grant(&database.pool, "ilse.maren", "administrator").await.unwrap());
    assert!(person::grant(&database.pool, "pia.lund", "auditor").await.unwrap());
    assert!(person::has_administrator(&database.pool).await.unwrap());
    assert_eq!(person::locked_administrators(&database.pool).await.unwrap(), ["ilse.maren"]);
    assert!(person::take(&database.pool, "pia.lund", "auditor").await.unwrap());
    assert!(!person::take(&database.pool, "pia.lund", "auditor").await.unwrap(), "she has it no more");
}

#[tokio::test]
async fn a_link_is_used_once() {
    let database = Database::fresh().await;
    person::grant(&database.pool, "tor.havik", "operator").await.unwrap();
    let mut connection = database.pool.acquire().await.unwrap();
    person::add_link(&mut connection, Some("tor.havik"), b"link", 24).await.unwrap();
    assert_eq!(person::link(&database.pool, b"link").await.unwrap(), Some(Some("tor.havik".to_owned())));
    // A second link for a person replaces the first.
    person::add_link(&mut connection, Some("tor.havik"), b"newer", 24).await.unwrap();
    assert_eq!(person::link(&database.pool, b"link").await.unwrap(), None);
    person::use_link(&database.pool, b"newer").await.unwrap();
    assert_eq!(person::link(&database.pool, b"newer").await.unwrap(), None);
    assert_eq!(person::link(&database.pool, b"never made").await.unwrap(), None);
}

#[tokio::test]
async fn failures_are_counted_by_name_and_by_address_and_forgotten_in_time() {
    let database = Database::fresh().await;
    let mut connection = database.pool.acquire().await.unwrap();
    for (name, address) in [
        ("tor.havik", "192.0.2.7"),
        ("tor.havik", "192.0.2.7"),
        ("pia.lund", "192.0.2.7"),
        ("tor.havik", "192.0.2.8"),
    ] {
        person::note_failure(&mut connection, name, address).await.unwrap();
    }
    let counted = |name: &'static str, address: &'static str| {
        let pool = database.pool.clone();
        async move {
            let row = person::failures(&pool, name, address).await.unwrap();
            (row.of_both, row.of_address)
        }
    };
    assert_eq!(counted("tor.havik", "192.0.2.7").await, (2, 3));
    assert_eq!(counted("pia.lund", "192.0.2.8").await, (0, 1));
    database.run("update sign_in_failure set at = at - interval '16 minutes'").await;
    assert_eq!(counted("tor.havik", "192.0.2.7").await, (0, 0));
}
