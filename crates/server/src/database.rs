//! Connecting to the database, and bringing its schema up to date.

use crate::change::recover::Watch;
use crate::launch_error::LaunchError;
use sqlx::postgres::{PgConnectOptions, PgPoolOptions};
use sqlx::{Connection as _, PgConnection, PgPool};
use std::sync::Arc;
use std::time::Duration;

/// How long a request waits for a connection to the database.
const POOL_PATIENCE: Duration = Duration::from_secs(10);
// Compiling a statement takes longer than any of ours runs, what lists read is in memory, and the statements of a page are
// beside one another already.
/// A list of all nodes is sorted and joined in memory, and not on disk.
const DATABASE_SETTINGS: [(&str, &str); 4] = [
    ("jit", "off"),
    ("random_page_cost", "1"),
    ("max_parallel_workers_per_gather", "0"),
    ("work_mem", "16MB"),
];
const DATABASE_BOUNDS: [(&str, &str); 3] =
    [("statement_timeout", "60s"), ("lock_timeout", "20s"), ("idle_in_transaction_session_timeout", "10min")];

/// Connects to the database and brings its schema up to date.
///
/// # Errors
///
/// Returns why that failed.
pub async fn open_database(url: &str) -> Result<PgPool, LaunchError> {
    bring_up_to_date(url).await?.close().await.map_err(LaunchError::Database)?;
    pool(url, None).await
}

/// A new schema may take as long as it takes.
pub async fn bring_up_to_date(url: &str) -> Result<PgConnection, LaunchError> {
    let to: PgConnectOptions = url.parse().map_err(LaunchError::Database)?;
    let mut connection =
        PgConnection::connect_with(&to.options(DATABASE_SETTINGS)).await.map_err(LaunchError::Database)?;
    sqlx::migrate!().run(&mut connection).await?;
    Ok(connection)
}

/// Each new connection is looked at by the watch before it is used: a database that is restored or fails over has new ones.
pub async fn pool(url: &str, watch: Option<Arc<Watch>>) -> Result<PgPool, LaunchError> {
    let to: PgConnectOptions = url.parse().map_err(LaunchError::Database)?;
    let options = PgPoolOptions::new().max_connections(16).acquire_timeout(POOL_PATIENCE).after_connect(
        move |connection, _| {
            let watch = watch.clone();
            Box::pin(async move {
                match watch {
                    Some(watch) => watch.look(connection).await.map_err(sqlx::Error::Io),
                    None => Ok(()),
                }
            })
        },
    );
    options
        .connect_with(to.options(DATABASE_SETTINGS).options(DATABASE_BOUNDS))
        .await
        .map_err(LaunchError::Database)
}
