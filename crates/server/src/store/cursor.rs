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

impl Cursor {
    /// The place of a row in a list that is held whole.
    pub fn of_place(place: usize) -> Self {
        Self { at: Timestamp::UNIX_EPOCH, key: place.to_string() }
    }

    /// The place of a row in a list that is ordered by a number.
    pub fn of_number(number: i64) -> Self {
        Self { at: Timestamp::UNIX_EPOCH, key: number.to_string() }
    }

    /// Returns the number of such a place.
    pub fn number(&self) -> Option<i64> {
        self.key.parse().ok()
    }
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
    /// Where a list begins that is ordered by numbers, the highest first: before the last number of the page before, or before
    /// `most`.
    pub fn before(&self, most: i64) -> i64 {
        self.after.as_ref().and_then(Cursor::number).map_or(most, |last| last.min(most))
    }

    /// How many rows are read: one more than the page has, which says whether there is a next page.
    pub fn rows(&self) -> i64 {
        i64::from(self.size) + 1
    }

    /// Binds `$1`, the moment of the row before the page, `$2`, its key, and `$3`, how many rows are read: one more than the
    /// page has, which says whether there is a next page.
    pub fn bind<'q, Row>(&self, query: RowsQuery<'q, Row>) -> RowsQuery<'q, Row> {
        let after = self.after.clone();
        query
            .bind(after.as_ref().map(|after| after.at.to_sqlx()))
            .bind(after.map(|after| after.key))
            .bind(self.rows())
    }
}
