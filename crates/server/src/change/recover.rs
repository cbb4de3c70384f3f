//! Finding out that the database was restored to an earlier state, or replaced by another one, and not putting the fleet
//! back with it.

use crate::store::recovery::DatabaseRow;
use crate::store::{audit, fleet, notice, recovery};
use crate::trust::{HandedOut, LastDatabase, Refusals, SeenDatabase};
use constans_wire::check_in::Generation;
use jiff_sqlx::ToSqlx as _;
use serde_json::json;
use sqlx::{Connection as _, PgConnection};
use std::collections::BTreeMap;
use std::io;
use std::sync::Arc;

/// One process at a time puts right what a restored database does not know.
const ONE_AT_A_TIME: i64 = 0x7265_636f_7665_7279;

/// Holds the database against the protected folder: at a start, at each new connection, and every few seconds.
pub struct Watch {
    handed_out: Arc<HandedOut>,
    refusals: Arc<Refusals>,
    last: LastDatabase,
}

impl Watch {
    /// Watches the database by the files in the protected folder.
    pub fn new(handed_out: Arc<HandedOut>, refusals: Arc<Refusals>, last: LastDatabase) -> Self {
        Self { handed_out, refusals, last }
    }

    /// Looks at the database, and puts right what it does not know if it is not the one of before.
    ///
    /// # Errors
    ///
    /// Returns why database or folder cannot be used.
    pub async fn look(&self, db: &mut PgConnection) -> io::Result<()> {
        if self.continues(&database(db).await?)? { Ok(()) } else { self.put_right(db).await }
    }

    /// Notes how far the database was used.
    ///
    /// # Errors
    ///
    /// Returns why database or folder cannot be used.
    pub async fn note(&self, db: &mut PgConnection) -> io::Result<()> {
        let now = database(db).await?;
        if self.continues(&now)? { self.last.note(&seen(&now)) } else { self.put_right(db).await }
    }

    // What the folder knows is read first: what came into the database since then only makes it go further.
    fn continues(&self, now: &DatabaseRow) -> io::Result<bool> {
        let is_same = self.last.last()?.is_some_and(|last| seen(now).continues(&last));
        let newest = self.handed_out.newest()?;
        Ok(is_same && now.counter >= newest.counter && now.epoch <= newest.epoch)
    }

    /// Who was refused stays refused, and no node is held to marks that this database does not know. If generations were
    /// handed out that it knows nothing of, the server is *recovering* in a new epoch: nodes are offered nothing until a
    /// person ends that.
    ///
    /// # Errors
    ///
    /// Returns why database or folder cannot be used.
    pub async fn put_right(&self, db: &mut PgConnection) -> io::Result<()> {
        let lock = async |db: &mut PgConnection, statement: &'static str| {
            sqlx::query(statement).bind(ONE_AT_A_TIME).execute(db).await.map_err(io::Error::other)
        };
        // Held until the folder knows too: the next one would find the same once more.
        lock(&mut *db, "select pg_advisory_lock($1)").await?;
        let done = self.put_right_alone(&mut *db).await;
        lock(db, "select pg_advisory_unlock($1)").await?;
        done
    }

    async fn put_right_alone(&self, db: &mut PgConnection) -> io::Result<()> {
        let mut transaction = db.begin().await.map_err(io::Error::other)?;
        let (last, newest) = (self.last.last()?, self.handed_out.newest()?);
        let now = database(&mut transaction).await?;
        let is_another = last.as_ref().is_some_and(|last| !seen(&now).continues(last));
        let mut epoch = now.epoch.max(newest.epoch);
        if is_another {
            recovery::forgive_marks(&mut *transaction).await.map_err(io::Error::other)?;
            // The numbers of transactions are another database's.
            fleet::begin_epoch(&mut transaction, epoch).await.map_err(io::Error::other)?;
            let detail = json!({ "before": last, "now": seen(&now) });
            audit::add(&mut *transaction, "constans", "found another database", "server", &detail)
                .await
                .map_err(io::Error::other)?;
            tracing::warn!(before = ?last, now = ?seen(&now), "the database was restored, moved or failed over");
        }
        if now.counter < newest.counter {
            epoch += 1;
            recovery::begin(&mut transaction, epoch, newest.counter).await.map_err(io::Error::other)?;
            recovery::forgive_marks(&mut *transaction).await.map_err(io::Error::other)?;
            let detail =
                json!({ "handed_out": newest.counter, "database_knows": now.counter, "epoch": epoch });
            audit::add(&mut *transaction, "constans", "began recovering", "server", &detail)
                .await
                .map_err(io::Error::other)?;
            tracing::warn!(
                handed_out = newest.counter,
                database_knows = now.counter,
                "the database was restored to an earlier state: recovering, nodes receive no new desired state. See constans recovery show"
            );
        }
        // Events of this transaction are numbered in the epoch that begins.
        self.refuse_again(&mut transaction).await?;
        transaction.commit().await.map_err(io::Error::other)?;
        if is_another || now.counter < newest.counter {
            notice::tell(&mut *db, "nodes").await.map_err(io::Error::other)?;
        }
        // A folder older than the database learns of its epoch.
        self.handed_out.note(Generation { epoch, counter: newest.counter })?;
        self.last.note(&seen(&now))
    }

    async fn refuse_again(&self, db: &mut PgConnection) -> io::Result<()> {
        let (mut keys, mut last) = (BTreeMap::new(), BTreeMap::new());
        for line in self.refusals.all()? {
            keys.extend(line.keys.iter().filter_map(|key| Some((from_hex(key)?, line.at.to_sqlx()))));
            last.insert(line.node, line);
        }
        let (keys, since): (Vec<_>, Vec<_>) = keys.into_iter().unzip();
        recovery::refuse_keys(&mut *db, &keys, &since).await.map_err(io::Error::other)?;
        let (nodes, since): (Vec<_>, Vec<_>) =
            last.into_values().filter(|line| line.refused).map(|line| (line.node, line.at.to_sqlx())).unzip();
        let names = recovery::refuse_again(&mut *db, &nodes, &since).await.map_err(io::Error::other)?;
        for name in names {
            let detail = json!({ "because": "it was refused before the database was put back" });
            audit::add(&mut *db, "constans", "revoked again", &name, &detail)
                .await
                .map_err(io::Error::other)?;
        }
        Ok(())
    }
}

async fn database(db: &mut PgConnection) -> io::Result<DatabaseRow> {
    recovery::database(db).await.map_err(io::Error::other)
}

fn seen(row: &DatabaseRow) -> SeenDatabase {
    SeenDatabase { identity: row.identity.clone(), beats: row.beats }
}

fn from_hex(text: &str) -> Option<Vec<u8>> {
    (0..text.len()).step_by(2).map(|at| u8::from_str_radix(text.get(at..at + 2)?, 16).ok()).collect()
}
