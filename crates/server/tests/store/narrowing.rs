//! A filter decided by the database names the nodes that it names by a plain reckoning.

use crate::database::Database;
use constans_core::filter::Condition;
use constans_server::store::listing;
use constans_server::store::narrowing::Narrowing;
use serde_json::{Value, json};

struct Node {
    name: &'static str,
    labels: Value,
    about: Value,
}

impl Node {
    fn label(&self, name: &str) -> &str {
        self.labels[name].as_str().unwrap_or_default()
    }

    fn os(&self) -> &str {
        self.about["os.name"].as_str().unwrap_or_default()
    }
}

fn fleet() -> Vec<Node> {
    let mut all = Vec::new();
    let names = [
        "kiosk-auken-1",
        "kiosk-auken-2",
        "kiosk-tern-1",
        "gate-auken-1",
        "gate-tern-1",
        "gate-brisk-1",
        "bridge-1",
        "spare-1",
    ];
    for (at, name) in names.into_iter().enumerate() {
        let (role, site) = (name.split('-').next().unwrap(), name.split('-').nth(1).unwrap());
        let mut labels = json!({ "role": role });
        if ["auken", "tern", "brisk"].contains(&site) {
            labels["site"] = site.into();
        }
        if at % 3 == 0 {
            labels["trial"] = "night".into();
        }
        let os = if at % 4 == 1 { "fedora" } else { "debian" };
        let about = json!({ "os.name": os, "memory.mib": 1_024 * (at as u64 + 1) });
        all.push(Node { name, labels, about });
    }
    all
}

async fn filled(database: &Database) {
    for node in fleet() {
        let id = database.node(node.name).await;
        sqlx::query("update node set labels = $2, about = $3 where id = $1")
            .bind(id)
            .bind(&node.labels)
            .bind(&node.about)
            .execute(&database.pool)
            .await
            .unwrap();
    }
}

fn plain(filter: &str) -> Narrowing {
    // A filter is read on a thread with a large stack.
    let source = filter.to_owned();
    let read = std::thread::Builder::new()
        .stack_size(64 << 20)
        .spawn(move || Condition::parse_for_list(&source).expect("it is a filter").plain());
    Narrowing::By(
        read.unwrap().join().unwrap().unwrap_or_else(|| panic!("the database cannot decide {filter}")),
    )
}

type Reckoned = fn(&Node) -> bool;

const FILTERS: &[(&str, Reckoned)] = &[
    ("labels.role == 'kiosk'", |node| node.label("role") == "kiosk"),
    ("labels.role != 'kiosk'", |node| node.label("role") != "kiosk"),
    ("labels.site in ['auken', 'tern']", |node| ["auken", "tern"].contains(&node.label("site"))),
    ("!(labels.site in ['auken', 'tern'])", |node| !["auken", "tern"].contains(&node.label("site"))),
    ("labels.site == ''", |node| node.label("site").is_empty()),
    ("has(labels.trial)", |node| !node.label("trial").is_empty()),
    ("!has(labels.trial)", |node| node.label("trial").is_empty()),
    ("node.name.startsWith('gate-')", |node| node.name.starts_with("gate-")),
    ("node.name == 'bridge-1'", |node| node.name == "bridge-1"),
    ("about.os.name == 'fedora'", |node| node.os() == "fedora"),
    ("about.memory.mib > 4096", |node| node.about["memory.mib"].as_u64().unwrap() > 4_096),
    ("about.memory.mib <= 4096 && labels.role == 'gate'", |node| {
        node.about["memory.mib"].as_u64().unwrap() <= 4_096 && node.label("role") == "gate"
    }),
    ("labels.role == 'kiosk' || about.os.name == 'fedora'", |node| {
        node.label("role") == "kiosk" || node.os() == "fedora"
    }),
    ("labels.role == 'gate' && !(labels.site == 'brisk' || about.os.name == 'fedora')", |node| {
        node.label("role") == "gate" && !(node.label("site") == "brisk" || node.os() == "fedora")
    }),
    ("node.last_contact == 'never_reported'", |_| true),
    ("node.status == 'drift_found'", |_| false),
];

#[tokio::test]
async fn the_database_names_the_nodes_that_a_plain_reckoning_names() {
    let database = Database::fresh().await;
    filled(&database).await;
    for (filter, holds) in FILTERS {
        let narrowing = plain(filter);
        let found = listing::all(&database.pool, &narrowing, "", 100).await.unwrap();
        let mut expected: Vec<&str> =
            fleet().iter().filter(|node| holds(node)).map(|node| node.name).collect();
        expected.sort_unstable();
        assert_eq!(found.iter().map(|row| row.name.as_str()).collect::<Vec<_>>(), expected, "{filter}");
        assert_eq!(
            listing::total(&database.pool, &narrowing).await.unwrap(),
            i64::try_from(expected.len()).unwrap(),
            "{filter}"
        );
    }
}

#[tokio::test]
async fn a_list_is_read_page_by_page_and_none_is_left_out_or_twice() {
    let database = Database::fresh().await;
    filled(&database).await;
    let mut read = Vec::new();
    let mut after = String::new();
    loop {
        let page = listing::all(&database.pool, &Narrowing::All, &after, 3).await.unwrap();
        let Some(last) = page.last() else { break };
        assert!(page.len() <= 3);
        after.clone_from(&last.name);
        read.extend(page.into_iter().map(|row| row.name));
    }
    let mut all: Vec<&str> = fleet().iter().map(|node| node.name).collect();
    all.sort_unstable();
    assert_eq!(read, all);
}

#[tokio::test]
async fn a_value_in_a_filter_is_never_sql() {
    let database = Database::fresh().await;
    filled(&database).await;
    let hostile = r#"labels.role == "x' or true; drop table node; --""#;
    assert!(listing::all(&database.pool, &plain(hostile), "", 100).await.unwrap().is_empty());
    assert_eq!(database.value::<i64>("select count(*) from node").await, 8);
}
