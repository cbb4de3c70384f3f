//! Each statement of `store/sql` fits the schema, and each file is used.

use crate::database::Database;
use sqlx::{AssertSqlSafe, Connection as _};
use std::fs;
use std::path::{Path, PathBuf};

fn statements() -> Vec<PathBuf> {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/store/sql");
    let inside = |folder: &Path| {
        let entries = fs::read_dir(folder).unwrap();
        entries.map(|entry| entry.unwrap().path()).collect::<Vec<_>>()
    };
    let mut all: Vec<PathBuf> = inside(&folder).iter().flat_map(|subject| inside(subject)).collect();
    all.sort();
    all
}

#[tokio::test]
async fn every_statement_fits_the_schema() {
    let database = Database::fresh().await;
    let mut connection = database.pool.acquire().await.unwrap();
    let all = statements();
    assert!(all.len() > 150, "{} statements", all.len());
    let mut wrong = Vec::new();
    for file in &all {
        let sql = fs::read_to_string(file).unwrap();
        // A setting cannot be prepared; in a transaction of its own it changes nothing.
        let text = if sql.starts_with("set ") { sql } else { format!("prepare tried as {sql}") };
        let mut transaction = connection.begin().await.unwrap();
        if let Err(error) = sqlx::raw_sql(AssertSqlSafe(text)).execute(&mut *transaction).await {
            wrong.push(format!("{}: {error}", file.display()));
        }
        transaction.rollback().await.unwrap();
        sqlx::raw_sql("deallocate all").execute(&mut *connection).await.unwrap();
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn every_file_is_used_by_its_subject_once() {
    let store = Path::new(env!("CARGO_MANIFEST_DIR")).join("src/store");
    for file in statements() {
        let subject = file.parent().unwrap().file_name().unwrap().to_str().unwrap();
        let source = fs::read_to_string(store.join(format!("{subject}.rs"))).unwrap();
        let path = file.strip_prefix(&store).unwrap().to_str().unwrap();
        assert_eq!(source.matches(&format!("include_str!(\"{path}\")")).count(), 1, "{path}");
    }
}
