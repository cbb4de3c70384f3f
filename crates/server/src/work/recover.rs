//! Finding out at a start that the database was put back to an earlier day, and not putting the fleet back with it.

use crate::store::{audit, recovery};
use crate::trust::{HandedOut, Refusals};
use constans_wire::check_in::Generation;
use jiff_sqlx::ToSqlx as _;
use serde_json::json;
use sqlx::{Connection as _, PgConnection};
use std::collections::BTreeMap;
use std::io;

/// Holds the database against the protected folder.
///
/// Who was refused stays refused. If generations were handed out that the database knows nothing of, the server is
/// *recovering* in a new epoch: nodes are offered nothing until a person ends that.
///
/// # Errors
///
/// Returns why database or folder cannot be used.
pub async fn look_for_restored(db: &mut PgConnection, handed_out: &HandedOut, refusals: &Refusals) -> io::Result<()> {
    let mut transaction = db.begin().await.map_err(io::Error::other)?;
    refuse_again(&mut transaction, refusals).await?;
    let newest = handed_out.newest();
    let knows = recovery::newest_counter(&mut *transaction).await.map_err(io::Error::other)?;
    let epoch = recovery::newest_epoch(&mut *transaction).await.map_err(io::Error::other)?.max(newest.epoch);
    if knows < newest.counter {
        let epoch = epoch + 1;
        recovery::begin(&mut transaction, epoch, newest.counter).await.map_err(io::Error::other)?;
        let detail = json!({ "handed_out": newest.counter, "database_knows": knows, "epoch": epoch });
        audit::add(&mut *transaction, "constans", "began recovering", "server", &detail).await.map_err(io::Error::other)?;
        tracing::warn!(
            handed_out = newest.counter,
            database_knows = knows,
            "the database was put back to an earlier day: recovering, nodes are offered nothing new. constans recovery show says what they have"
        );
        transaction.commit().await.map_err(io::Error::other)?;
        return handed_out.note(Generation { epoch, counter: newest.counter });
    }
    transaction.commit().await.map_err(io::Error::other)?;
    // A folder older than the database learns of its epoch.
    handed_out.note(Generation { epoch, counter: newest.counter })
}

async fn refuse_again(db: &mut PgConnection, refusals: &Refusals) -> io::Result<()> {
    let mut last = BTreeMap::new();
    for line in refusals.all()? {
        let keys: Vec<Vec<u8>> = line.keys.iter().filter_map(|key| from_hex(key)).collect();
        recovery::refuse_keys(&mut *db, &keys, line.at.to_sqlx()).await.map_err(io::Error::other)?;
        last.insert(line.node, line);
    }
    for line in last.into_values().filter(|line| line.refused) {
        let again = recovery::refuse_again(&mut *db, line.node, line.at.to_sqlx()).await.map_err(io::Error::other)?;
        if let Some(name) = again {
            let detail = json!({ "node": line.node, "because": "it was refused before the database was put back" });
            audit::add(&mut *db, "constans", "revoked again", &name, &detail).await.map_err(io::Error::other)?;
        }
    }
    Ok(())
}

fn from_hex(text: &str) -> Option<Vec<u8>> {
    (0..text.len()).step_by(2).map(|at| u8::from_str_radix(text.get(at..at + 2)?, 16).ok()).collect()
}
