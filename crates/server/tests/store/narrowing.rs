//! A filter decided by the database names the nodes that it names by a plain reckoning.

use crate::database::Database;
use constans_core::filter::Condition;
use constans_server::store::listing::{self, NodeCursor, NodeKey, NodeOrder};
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

/// Reads a filter that the database decides.
pub fn plain(filter: &str) -> Narrowing {
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
        let count = i64::try_from(expected.len()).unwrap();
        assert_eq!(listing::total(&database.pool, &narrowing).await.unwrap(), count, "{filter}");
        assert_eq!(listing::count(&database.pool, &narrowing).await.unwrap(), count, "{filter}");
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

type Life = (&'static str, Option<i64>, Option<(i64, &'static str)>);

/// When nodes had their last contact and ran, in minutes ago, and the status of that run; some never were, and some are equal.
const LIVES: [Life; 8] = [
    ("kiosk-auken-1", Some(3), Some((30, "in_line"))),
    ("kiosk-auken-2", Some(3), Some((20, "failed"))),
    ("kiosk-tern-1", None, None),
    ("gate-auken-1", Some(1), Some((10, "drift_found"))),
    ("gate-tern-1", Some(1), Some((30, "in_line"))),
    ("gate-brisk-1", Some(2), Some((20, "failed"))),
    ("bridge-1", Some(2), Some((10, "in_line"))),
    ("spare-1", Some(2), Some((10, "in_line"))),
];

#[tokio::test]
async fn each_order_is_that_of_a_plain_sort_page_by_page_in_both_directions() {
    let database = Database::fresh().await;
    filled(&database).await;
    database.run("create table began as select now() as at").await;
    for (name, heard, ran) in LIVES {
        let id = constans_server::store::node::by_name(&database.pool, name).await.unwrap();
        sqlx::query(
            "update node_now set heard_at = at - make_interval(mins => $2::int), on_time_until = at + interval '1 hour',
                 silent_after = at + interval '1 hour', full_began = at - make_interval(mins => $3::int), full_status = $4
             from began where node = $1",
        )
        .bind(id)
        .bind(heard)
        .bind(ran.map(|(minutes, _)| minutes))
        .bind(ran.map(|(_, status)| status))
        .execute(&database.pool)
        .await
        .unwrap();
    }
    // Lower comes first: the oldest contact, and of statuses the most severe. A node that never ran counts as never reported.
    let severity = |status: &str| {
        ["failed", "drift_found", "never_reported", "rolled_out", "in_line"]
            .iter()
            .position(|one| *one == status)
            .unwrap()
    };
    let place = |by: NodeKey, name: &str| {
        let (_, heard, ran) = LIVES.into_iter().find(|(one, ..)| *one == name).unwrap();
        let oldest_first = |minutes: Option<i64>| minutes.map_or(i64::MIN, |minutes| -minutes);
        match by {
            NodeKey::Name => 0,
            NodeKey::Status => {
                i64::try_from(severity(ran.map_or("never_reported", |(_, status)| status))).unwrap()
            }
            NodeKey::LastContact => oldest_first(heard),
            NodeKey::LastRun => oldest_first(ran.map(|(minutes, _)| minutes)),
        }
    };
    for by in [NodeKey::Name, NodeKey::Status, NodeKey::LastContact, NodeKey::LastRun] {
        for descending in [false, true] {
            let mut expected: Vec<&str> = LIVES.iter().map(|(name, ..)| *name).collect();
            expected.sort_by(|left, right| {
                let (one, other) = (place(by, left), place(by, right));
                let places = if descending { other.cmp(&one) } else { one.cmp(&other) };
                let names = if descending && by == NodeKey::Name { right.cmp(left) } else { left.cmp(right) };
                places.then(names)
            });
            for size in [1, 3, 8] {
                let mut read: Vec<String> = Vec::new();
                let mut after: Option<NodeCursor> = None;
                loop {
                    let order = NodeOrder { by, descending };
                    let page = listing::ordered(&database.pool, &Narrowing::All, order, after.as_ref(), size)
                        .await
                        .unwrap();
                    let Some(last) = page.last() else { break };
                    after = Some(NodeCursor { place: last.place, name: last.name.clone() });
                    read.extend(page.into_iter().map(|row| row.name));
                }
                assert_eq!(read, expected, "{by:?}, descending: {descending}, {size} a page");
            }
        }
    }
    let by_status = NodeOrder { by: NodeKey::Status, descending: false };
    let gates =
        listing::ordered(&database.pool, &plain("labels.role == 'gate'"), by_status, None, 10).await.unwrap();
    assert_eq!(
        gates.into_iter().map(|row| row.name).collect::<Vec<_>>(),
        ["gate-brisk-1", "gate-auken-1", "gate-tern-1"]
    );
}
