//! The trees over what was learned each day, and what proves that a row is in one.

use crate::store::day_figure::end_in_utc;
use crate::store::evidence::{self, LearnedRow};
use crate::store::retention;
use constans_core::evidence::learned::Learned;
use constans_core::evidence::merkle::{Hash, Tree};
use constans_core::evidence::{DayLink, Proof, hex};
use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use sqlx::{PgConnection, PgPool};
use std::collections::BTreeMap;

/// So many leaves of trees are kept in memory at once: about 128 MB.
const MAX_LEAVES: usize = 2_000_000;

/// Returns the tree over what was learned on a day in UTC: over its rows, or over its leaves, if not all rows are kept.
///
/// # Errors
///
/// Returns why the database did not answer.
pub async fn tree_of(db: &mut PgConnection, day: Date) -> sqlx::Result<Tree> {
    if let Some(kept) = retention::leaves(&mut *db, day).await? {
        return Ok(Tree::of(kept.as_chunks().0.to_vec()));
    }
    let mut leaves = Vec::new();
    let from = day.yesterday().map_or(Timestamp::MIN, end_in_utc);
    evidence::learned(db, from, end_in_utc(day), |row| leaves.push(leaf_of(&row))).await?;
    Ok(Tree::of(leaves))
}

fn leaf_of(row: &LearnedRow) -> Hash {
    let LearnedRow { node, address, of, .. } = row;
    let (from, learned) = (row.from_at.to_jiff(), row.learned_at.to_jiff());
    let until = row.until_at.map_or(from, |until| until.to_jiff());
    match row.what.as_str() {
        "opened" => {
            let (cause, run) = (row.cause.as_deref(), row.run.as_deref().unwrap_or_default());
            Learned::Opened { node, address, wanted: of, cause, from, learned, run }.leaf()
        }
        "closed" => Learned::Closed { node, address, wanted: of, from, until, learned }.leaf(),
        "examined" => Learned::Examined { node, of, from, learned }.leaf(),
        "gap" => Learned::Gap { node, from, until, learned }.leaf(),
        _ => Learned::Doubt { node, wanted: of, from, until, learned }.leaf(),
    }
}

/// Why a row is not proven.
#[derive(Debug, thiserror::Error)]
pub enum ProofError {
    /// The database did not answer.
    #[error("the database did not answer: {0}")]
    Database(#[from] sqlx::Error),
    /// The rows of a day are not those that were chained.
    #[error(
        "what was learned on {0} is not what was chained then: rows of that day were altered, inserted or removed"
    )]
    Altered(Date),
}

/// Proves rows by the chain of days.
pub struct Prover<'a> {
    db: &'a PgPool,
    days: BTreeMap<Date, &'a DayLink>,
    trees: BTreeMap<Date, Tree>,
    leaves: usize,
}

impl<'a> Prover<'a> {
    /// Proves by these days.
    pub fn by(db: &'a PgPool, days: &'a [DayLink]) -> Self {
        let days = days.iter().map(|link| (link.day, link)).collect();
        Self { db, days, trees: BTreeMap::new(), leaves: 0 }
    }

    /// Returns the place of what was learned in the tree of its day; none if that day is not chained yet.
    ///
    /// # Errors
    ///
    /// Returns that the day was altered since.
    pub async fn proof(&mut self, learned_at: Timestamp, leaf: &Hash) -> Result<Option<Proof>, ProofError> {
        let day = learned_at.to_zoned(TimeZone::UTC).date();
        let Some(link) = self.days.get(&day) else { return Ok(None) };
        if !self.trees.contains_key(&day) {
            let tree = tree_of(&mut *self.db.acquire().await?, day).await?;
            if hex(&tree.root()) != link.root {
                return Err(ProofError::Altered(day));
            }
            self.leaves += tree.len();
            while self.leaves > MAX_LEAVES
                && let Some((_, dropped)) = self.trees.pop_first()
            {
                self.leaves -= dropped.len();
            }
            self.trees.insert(day, tree);
        }
        let (place, path) =
            self.trees.get(&day).and_then(|tree| tree.proof(leaf)).ok_or(ProofError::Altered(day))?;
        Ok(Some(Proof { place, path: path.iter().map(|digest| hex(digest)).collect() }))
    }
}
