//! Lists that are answered in pages: the address of the next page is in the header `Link` (RFC 8288), `rel="next"`.

use crate::body::Number;
use crate::problem::ApiError;
use crate::store::cursor::{Cursor, PageRange};
use jiff::Timestamp;
use rocket::http::Header;
use rocket::request::Request;
use rocket::response::{self, Responder};
use rocket::serde::json::Json;
use serde::Serialize;

/// The most rows of a page, and how many it has if the caller does not say.
pub const MAX_PAGE: u32 = 1_000;

/// Which page is asked for, after the `?`.
#[derive(Debug, rocket::FromForm, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct PageQuery {
    /// Where the page begins, as in the `Link` of the page before; the first page if left out.
    #[param(required = false)]
    after: Option<String>,
    /// How many entries the page has at most; 1,000 if left out.
    #[param(required = false, value_type = u32, minimum = 1, maximum = 1000)]
    size: Number,
}

impl PageQuery {
    /// Returns which rows are read.
    ///
    /// # Errors
    ///
    /// Returns which of the two cannot be read.
    pub fn range(&self) -> Result<PageRange, ApiError> {
        Ok(PageRange {
            after: self.after.as_deref().map(read_cursor).transpose()?,
            size: page_size(&self.size)?,
        })
    }
}

/// Returns how many entries a page has.
///
/// # Errors
///
/// Returns how many it can have.
pub fn page_size(asked: &Number) -> Result<u32, ApiError> {
    let size = asked.0.unwrap_or(MAX_PAGE);
    if !(1..=MAX_PAGE).contains(&size) {
        return Err(ApiError::invalid("size", format!("a page has between 1 and {MAX_PAGE} entries")));
    }
    Ok(size)
}

/// Reads a place as it stands in a `Link`.
///
/// # Errors
///
/// Returns where it is taken from.
pub fn read_cursor(written: &str) -> Result<Cursor, ApiError> {
    let not_a_cursor = || ApiError::invalid("after", "take it from the `Link` of the page before");
    let (at, key) = written.split_once('~').ok_or_else(not_a_cursor)?;
    Ok(Cursor { at: at.parse::<Timestamp>().map_err(|_| not_a_cursor())?, key: key.to_owned() })
}

/// A page of a list.
pub struct Page<T> {
    entries: Vec<T>,
    next: Option<String>,
}

/// A page, or why it is refused.
pub type PageAnswer<T> = Result<Page<T>, ApiError>;

impl<Row> Page<Row> {
    /// A page of these entries, and where the next one begins.
    pub fn of(entries: Vec<Row>, next: Option<String>) -> Self {
        Self { entries, next }
    }

    /// A page of the rows that were read for a range: one more than the page has says that there is a next page.
    pub fn of_rows(mut rows: Vec<Row>, range: &PageRange, cursor: impl Fn(&Row) -> Cursor) -> Self {
        let size = range.size as usize;
        let next = (rows.len() > size).then(|| cursor(&rows[size - 1]).to_string());
        rows.truncate(size);
        Self { entries: rows, next }
    }

    /// Shows each row.
    ///
    /// # Errors
    ///
    /// Returns why a row cannot be shown.
    pub fn shown<T>(self, show: impl FnMut(Row) -> Result<T, ApiError>) -> PageAnswer<T> {
        let entries = self.entries.into_iter().map(show).collect::<Result<_, _>>()?;
        Ok(Page { entries, next: self.next })
    }

    /// The rows.
    pub fn rows(&self) -> &[Row] {
        &self.entries
    }
}

impl<'r, T: Serialize> Responder<'r, 'static> for Page<T> {
    fn respond_to(self, request: &'r Request<'_>) -> response::Result<'static> {
        let link = self.next.map(|next| next_page(request, &next));
        let mut response = Json(self.entries).respond_to(request)?;
        if let Some(link) = link {
            response.set_header(Header::new("Link", link));
        }
        Ok(response)
    }
}

/// The same address, after the last row of this page.
fn next_page(request: &Request<'_>, next: &str) -> String {
    let uri = request.uri();
    let kept = uri.query().map(|query| query.raw_segments()).into_iter().flatten();
    let kept: String = kept
        .map(rocket::http::RawStr::as_str)
        .filter(|segment| !segment.starts_with("after="))
        .map(|segment| format!("{segment}&"))
        .collect();
    let after = rocket::http::RawStr::new(next).percent_encode().to_string();
    format!("<{}?{kept}after={after}>; rel=\"next\"", uri.path())
}
