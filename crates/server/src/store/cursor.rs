//! Where a page of a list begins, for lists that are ordered by a moment and, among rows of one moment, by a key.

use jiff::Timestamp;
use jiff_sqlx::ToSqlx as _;
use sqlx::Postgres;
use sqlx::postgres::PgArguments;
use sqlx::query::QueryAs;
use std::fmt::{self, Display, Formatter};

/// The place of a row in a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cursor {
    /// The moment by which rows are ordered.
    pub at: Timestamp,
    /// Its key among rows of one moment.
    pub key: String,
}

impl Display for Cursor {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        write!(f, "{}~{}", self.at, self.key)
    }
}

/// A statement that returns rows.
type RowsQuery<'q, Row> = QueryAs<'q, Postgres, Row, PgArguments>;

/// Which rows of a list are read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PageRange {
    /// Those after this one; from the first on without.
    pub after: Option<Cursor>,
    /// How many rows a page has at most.
    pub size: u32,
}

impl PageRange {
    /// Binds `$1`, the moment of the row before the page, `$2`, its key, and `$3`, how many rows are read: one more than the
    /// page has, which says whether there is a next page.
    pub fn bind<'q, Row>(&self, query: RowsQuery<'q, Row>) -> RowsQuery<'q, Row> {
        let after = self.after.clone();
        query
            .bind(after.as_ref().map(|after| after.at.to_sqlx()))
            .bind(after.map(|after| after.key))
            .bind(i64::from(self.size) + 1)
    }
}
