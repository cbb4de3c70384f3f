//! A PostgreSQL that the tests of this program share, and a database for each.

use constans_server::database::open_database;
use constans_world::Postgres;
use sqlx::{AssertSqlSafe, Connection as _, PgConnection, PgPool};
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::mpsc::{Sender, channel};
use std::sync::{Arc, Weak};
use std::thread::JoinHandle;
use tokio::sync::Mutex;
use uuid::Uuid;

const TEMPLATE: &str = "template_of_tests";

/// The database of one test.
pub struct Database {
    /// Its connections.
    pub pool: PgPool,
    _cluster: Arc<Cluster>,
}

/// A PostgreSQL ends with the thread that started it: this one lives until the last test that uses it is over.
struct Cluster {
    url: String,
    made: AtomicU32,
    end: Option<Sender<()>>,
    keeper: Option<JoinHandle<()>>,
}

static CLUSTER: Mutex<Weak<Cluster>> = Mutex::const_new(Weak::new());

impl Cluster {
    async fn start() -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let (end, ended) = channel();
        let (started, url) = channel();
        let keeper = std::thread::spawn(move || {
            let folder = tempfile::tempdir().expect("a folder");
            let postgres = Postgres::start(&folder.path().join("postgres")).expect("PostgreSQL starts");
            started.send(postgres.database(TEMPLATE).expect("a database")).expect("it is waited for");
            let _ = ended.recv();
        });
        let url = url.recv().expect("PostgreSQL starts");
        open_database(&url).await.expect("the schema").close().await;
        Self { url, made: AtomicU32::new(0), end: Some(end), keeper: Some(keeper) }
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        drop(self.end.take());
        if let Some(keeper) = self.keeper.take() {
            let _ = keeper.join();
        }
    }
}

impl Database {
    /// Returns a database with the schema and nothing in it.
    pub async fn fresh() -> Self {
        let mut shared = CLUSTER.lock().await;
        let cluster = if let Some(cluster) = shared.upgrade() {
            cluster
        } else {
            let cluster = Arc::new(Cluster::start().await);
            *shared = Arc::downgrade(&cluster);
            cluster
        };
        let name = format!("of_test_{}", cluster.made.fetch_add(1, Ordering::Relaxed));
        let mut administrator =
            PgConnection::connect(&cluster.url.replace(TEMPLATE, "postgres")).await.expect("a connection");
        sqlx::query(AssertSqlSafe(format!("create database {name} template {TEMPLATE}")))
            .execute(&mut administrator)
            .await
            .expect("a database");
        // As on the connections of the server: compiling a statement takes longer than any of ours runs.
        sqlx::query(AssertSqlSafe(format!("alter database {name} set jit = off")))
            .execute(&mut administrator)
            .await
            .expect("a setting");
        drop(shared);
        let pool = PgPool::connect(&cluster.url.replace(TEMPLATE, &name)).await.expect("connections");
        Self { pool, _cluster: cluster }
    }

    /// Does something that no function of the server does.
    pub async fn run(&self, sql: &str) {
        sqlx::raw_sql(AssertSqlSafe(sql.to_owned())).execute(&self.pool).await.expect("it is right");
    }

    /// Asks for one value.
    pub async fn value<T>(&self, sql: &str) -> T
    where
        T: Send + Unpin + for<'r> sqlx::Decode<'r, sqlx::Postgres> + sqlx::Type<sqlx::Postgres>,
    {
        sqlx::query_scalar(AssertSqlSafe(sql.to_owned())).fetch_one(&self.pool).await.expect("one value")
    }

    /// Returns a connection.
    pub async fn connection(&self) -> PgConnection {
        self.pool.acquire().await.expect("a connection").detach()
    }

    /// Adds a node that never reported.
    pub async fn node(&self, name: &str) -> Uuid {
        let id = Uuid::now_v7();
        constans_server::store::node::add(&mut self.connection().await, id, name).await.expect("a node");
        sqlx::query("insert into node_now (node) values ($1) on conflict do nothing")
            .bind(id)
            .execute(&self.pool)
            .await
            .expect("its row");
        id
    }
}
