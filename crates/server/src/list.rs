//! Lists of records: filtered by CEL over a record, sorted by one of its fields, and answered in pages.

use crate::body::Number;
use crate::page::{Page, PageAnswer, page_size, read_cursor};
use crate::problem::{ApiError, unusable_filter};
use crate::store::cursor::{Cursor, PageRange};
use crate::thread::on_thread;
use constans_core::filter::{RecordFilter, RecordList, RecordOrder};
use serde::Serialize;
use serde_json::Value;
use std::sync::Arc;
use std::time::{Duration, Instant};

/// So many records are read at once.
const BATCH: u32 = 1_000;
/// A page ends before it is full rather than that more records than these are looked through for it.
const MAX_LOOKED_THROUGH: usize = 20_000;
/// This many are sorted at most.
const MAX_SORTED: usize = 20_000;
/// And looking through them takes no longer, but for one entry.
const LONGEST: Duration = Duration::from_secs(5);

/// Which page of which records is asked for, after the `?`.
#[derive(Debug, rocket::FromForm, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ListQuery {
    /// Where the page begins, as in the `Link` of the page before; the first page if left out.
    #[param(required = false)]
    after: Option<String>,
    /// How many entries the page has at most; 1,000 if left out.
    #[param(required = false, value_type = u32, minimum = 1, maximum = 1000)]
    size: Number,
    /// CEL over the fields of an entry: only those that match. A refusal names the fields.
    #[param(required = false)]
    filter: Option<String>,
    /// A field of the entries, or one with `-` for the other way round; as described above if left out.
    #[param(required = false)]
    sort: Option<String>,
}

/// An entry of a list with its place.
pub type Placed<T> = (Cursor, T);

impl ListQuery {
    /// Answers with the page. `read` returns the entries of a range in the order of the list, one more than its size if there are
    /// more.
    ///
    /// # Errors
    ///
    /// Returns which parameter is wrong, or why the records cannot be read.
    pub async fn page<T, Reading>(
        &self,
        list: &'static RecordList,
        read: impl Fn(PageRange) -> Reading + Send,
    ) -> PageAnswer<T>
    where
        T: Serialize + Send,
        Reading: Future<Output = Result<Vec<Placed<T>>, ApiError>> + Send,
    {
        let size = page_size(&self.size)?;
        let filter = self.read_filter(list).await?;
        match self.sort.as_deref().filter(|sort| !sort.is_empty()) {
            Some(sort) => {
                let order =
                    RecordOrder::parse(sort, list).map_err(|wrong| ApiError::invalid("sort", wrong))?;
                let first = self.sorted_after()?;
                sorted(read, filter.as_ref(), order, first, size).await
            }
            None => {
                let after = self.after.as_deref().map(read_cursor).transpose()?;
                in_its_order(read, filter.as_ref(), after, size).await
            }
        }
    }

    /// The same of a list that is held whole.
    ///
    /// # Errors
    ///
    /// Returns which parameter is wrong.
    pub async fn page_of<T: Serialize + Send + Sync + Clone>(
        &self,
        list: &'static RecordList,
        entries: Vec<T>,
    ) -> PageAnswer<T> {
        let entries = &entries;
        self.page(list, |range| async move {
            let first = range
                .after
                .and_then(|after| after.key.parse::<usize>().ok())
                .map_or(0, |last| last.saturating_add(1));
            let placed = entries.iter().enumerate().skip(first).take(range.size as usize + 1);
            Ok(placed.map(|(place, entry)| (Cursor::of_place(place), entry.clone())).collect())
        })
        .await
    }

    async fn read_filter(&self, list: &'static RecordList) -> Result<Option<Arc<RecordFilter>>, ApiError> {
        let Some(text) = self.filter.as_deref().map(str::trim).filter(|text| !text.is_empty()) else {
            return Ok(None);
        };
        let text = text.to_owned();
        let read = move || RecordFilter::parse(&text, list).map_err(|errors| unusable_filter(&text, errors));
        Ok(Some(Arc::new(on_thread(read).await??)))
    }

    /// How many sorted entries came before the page.
    fn sorted_after(&self) -> Result<usize, ApiError> {
        let after = self.after.as_deref();
        let wrong =
            |_| ApiError::invalid("after", "take it from the `Link` of the page before, with the same order");
        after.map_or(Ok(0), |after| after.parse().map_err(wrong))
    }
}

/// Gives each row its place and shows it.
///
/// # Errors
///
/// Returns why a row cannot be shown.
pub fn placed<Row, T>(
    rows: Vec<Row>,
    place: impl Fn(&Row) -> Cursor,
    mut show: impl FnMut(Row) -> Result<T, ApiError>,
) -> Result<Vec<Placed<T>>, ApiError> {
    rows.into_iter().map(|row| Ok((place(&row), show(row)?))).collect()
}

/// Entries that match, with the place of the last one that was looked at; none if no more follow. Not all are looked at if that takes
/// until `end`, but one is.
async fn matching<T: Serialize>(
    mut read: Vec<Placed<T>>,
    size: u32,
    filter: Option<&Arc<RecordFilter>>,
    end: Instant,
) -> Result<(Vec<Placed<T>>, Option<Cursor>), ApiError> {
    let more = read.len() > size as usize;
    read.truncate(size as usize);
    let last = read.last().filter(|_| more).map(|(place, _)| place.clone());
    let Some(filter) = filter else { return Ok((read, last)) };
    let records: Vec<Value> = read.iter().map(|(_, entry)| as_sent(entry)).collect::<Result<_, _>>()?;
    let filter = Arc::clone(filter);
    let decide = move || {
        let in_time = records.iter().enumerate().take_while(|(at, _)| *at == 0 || Instant::now() < end);
        in_time.map(|(_, record)| filter.holds(record)).collect::<Result<Vec<bool>, _>>()
    };
    let held = on_thread(decide).await?.map_err(|wrong| unusable_filter("", vec![wrong]))?;
    let is_cut = held.len() < read.len();
    let last = if is_cut { held.len().checked_sub(1).map(|at| read[at].0.clone()) } else { last };
    let kept = read.into_iter().zip(held).filter(|(_, held)| *held).map(|(entry, _)| entry).collect();
    Ok((kept, last))
}

fn as_sent<T: Serialize>(entry: &T) -> Result<Value, ApiError> {
    serde_json::to_value(entry).map_err(|error| ApiError::stored("an entry of the list", &error))
}

fn page_of_placed<T>(entries: Vec<Placed<T>>, next: Option<String>) -> Page<T> {
    Page::of(entries.into_iter().map(|(_, entry)| entry).collect(), next)
}

async fn in_its_order<T, Reading>(
    read: impl Fn(PageRange) -> Reading,
    filter: Option<&Arc<RecordFilter>>,
    mut after: Option<Cursor>,
    size: u32,
) -> PageAnswer<T>
where
    T: Serialize,
    Reading: Future<Output = Result<Vec<Placed<T>>, ApiError>>,
{
    let end = Instant::now() + LONGEST;
    let batch = if filter.is_some() { BATCH } else { size };
    let (mut entries, mut looked_through) = (Vec::new(), 0);
    loop {
        let range = PageRange { after, size: batch };
        let (mut kept, last) = matching(read(range).await?, batch, filter, end).await?;
        looked_through += batch as usize;
        entries.append(&mut kept);
        if entries.len() > size as usize {
            entries.truncate(size as usize);
            after = entries.last().map(|(place, _)| place.clone());
        } else {
            after = last;
        }
        let is_full = entries.len() == size as usize;
        if is_full || after.is_none() || looked_through >= MAX_LOOKED_THROUGH || Instant::now() >= end {
            return Ok(page_of_placed(entries, after.map(|place| place.to_string())));
        }
    }
}

async fn sorted<T, Reading>(
    read: impl Fn(PageRange) -> Reading,
    filter: Option<&Arc<RecordFilter>>,
    order: RecordOrder,
    first: usize,
    size: u32,
) -> PageAnswer<T>
where
    T: Serialize,
    Reading: Future<Output = Result<Vec<Placed<T>>, ApiError>>,
{
    let end = Instant::now() + LONGEST;
    let (mut entries, mut after) = (Vec::new(), None);
    loop {
        let (kept, last) =
            matching(read(PageRange { after, size: BATCH }).await?, BATCH, filter, end).await?;
        for entry in kept {
            entries.push((order.key(&as_sent(&entry.1)?), entry));
        }
        if entries.len() > MAX_SORTED || (last.is_some() && Instant::now() >= end) {
            let message = format!(
                "the list is too long to be sorted, {} entries of it were read: narrow it by a filter",
                entries.len()
            );
            return Err(ApiError::invalid("sort", message));
        }
        after = last;
        if after.is_none() {
            break;
        }
    }
    // Those of one key keep the order of the list.
    entries.sort_by(|(left, _), (right, _)| order.compare(left, right));
    let total = entries.len();
    let page =
        entries.into_iter().map(|(_, entry)| entry).skip(first).take(size as usize).collect::<Vec<_>>();
    let reached = first + page.len();
    Ok(page_of_placed(page, (reached < total).then(|| reached.to_string())))
}

/// Returns after which place and name a page begins, of a list in which rows are placed by how they are and then named.
///
/// # Errors
///
/// Returns that it is no such place.
pub fn place_and_name(range: &PageRange) -> Result<Option<(i32, &str)>, ApiError> {
    let Some(after) = &range.after else { return Ok(None) };
    let placed = after.key.split_once(' ').and_then(|(place, name)| Some((place.parse().ok()?, name)));
    placed.map(Some).ok_or_else(|| ApiError::invalid("after", "take it from the `Link` of the page before"))
}
