//! Tables: the same columns in CSV and in the spreadsheet. CSV is as RFC 4180 has it; a cell that would begin a formula has a `'`
//! before it.

use crate::error::EvidenceError;
use crate::facts::{ConcessionFact, GapFact, NodeFact};
use constans_core::evidence::{ClauseRow, DayLink, DeviationRow, Proof};
use jiff::Timestamp;
use std::cell::Cell;
use std::fs::File;
use std::io::{self, BufWriter, Read};
use std::rc::Rc;

/// What becomes a row of a table.
pub trait TableRow {
    /// The names of the columns.
    const COLUMNS: &'static [&'static str];
    /// The cells, as many as columns.
    fn cells(&self) -> Vec<String>;
}

fn moment(moment: Option<Timestamp>) -> String {
    moment.map(|moment| moment.to_string()).unwrap_or_default()
}

fn number(letter: char, no: Option<i64>) -> String {
    no.map(|no| format!("{letter}{no}")).unwrap_or_default()
}

fn proof(proof: Option<&Proof>) -> [String; 2] {
    proof.map(|proof| [proof.place.to_string(), proof.path.join(" ")]).unwrap_or_default()
}

impl TableRow for ClauseRow {
    const COLUMNS: &'static [&'static str] = &[
        "node",
        "node_id",
        "clause",
        "severity",
        "controls",
        "baselines",
        "releases",
        "result",
        "cause",
        "in_doubt",
        "conceded_by",
        "desired",
        "actual",
        "deviates_since",
        "deviation_learned",
        "deviation_found_by_run",
        "examined_not_before",
        "examined_not_after",
        "examined_by_run",
        "mode",
        "examination_learned",
        "desired_by_change",
        "change_handed_out",
        "change_asked_by",
        "change_approved_by",
        "desired_digest",
    ];

    fn cells(&self) -> Vec<String> {
        let (found, examined, change) =
            (self.found.as_ref(), self.examined.as_ref(), self.desired_by.as_ref());
        vec![
            self.node.clone(),
            self.node_id.clone(),
            self.address.clone(),
            self.severity.clone(),
            self.controls.join(" "),
            self.baselines.join(" "),
            self.releases.join(" "),
            self.result.word().to_owned(),
            found.map(|found| found.cause.clone()).unwrap_or_default(),
            if self.in_doubt { "yes" } else { "" }.to_owned(),
            number('D', self.conceded_by),
            self.desired.clone(),
            found.and_then(|found| found.actual.clone()).unwrap_or_else(|| {
                if self.result.word() == "compliant" { "as desired" } else { "" }.to_owned()
            }),
            moment(found.map(|found| found.since)),
            moment(found.map(|found| found.learned)),
            found.map(|found| found.run.clone()).unwrap_or_default(),
            moment(examined.map(|examined| examined.from)),
            moment(examined.map(|examined| examined.until)),
            examined.and_then(|examined| examined.run.clone()).unwrap_or_default(),
            examined.map(|examined| examined.mode.clone()).unwrap_or_default(),
            moment(examined.map(|examined| examined.learned)),
            number('C', change.map(|change| change.change)),
            moment(change.map(|change| change.at)),
            change.map(|change| change.who.clone()).unwrap_or_default(),
            change.and_then(|change| change.approved_by.clone()).unwrap_or_default(),
            self.wanted.clone(),
        ]
    }
}

/// The columns of the table of deviations, in their order.
pub const DEVIATION_COLUMNS: [&str; 14] = [
    "node",
    "node_id",
    "clause",
    "desired_digest",
    "cause",
    "since",
    "learned",
    "found_by_run",
    "until",
    "end_learned",
    "place",
    "path",
    "end_place",
    "end_path",
];

impl TableRow for DeviationRow {
    const COLUMNS: &'static [&'static str] = &DEVIATION_COLUMNS;

    fn cells(&self) -> Vec<String> {
        let [place, path] = proof(self.opened.as_ref());
        let [end_place, end_path] = proof(self.closed.as_ref());
        vec![
            self.node.clone(),
            self.node_id.clone(),
            self.address.clone(),
            self.wanted.clone(),
            self.cause.clone().unwrap_or_default(),
            moment(Some(self.since)),
            moment(Some(self.learned)),
            self.run.clone(),
            moment(self.until),
            moment(self.until_learned),
            place,
            path,
            end_place,
            end_path,
        ]
    }
}

impl TableRow for NodeFact {
    const COLUMNS: &'static [&'static str] = &[
        "node",
        "node_id",
        "stage",
        "groups",
        "counted",
        "left_out_because",
        "state",
        "state_since",
        "state_by_change",
        "examined_not_after",
        "later_run_not_reported",
        "clauses_known_by_metadata_at_most",
    ];

    fn cells(&self) -> Vec<String> {
        vec![
            self.node.clone(),
            self.node_id.clone(),
            self.stage.clone(),
            self.groups.join(" "),
            if self.left_out.is_none() { "yes" } else { "no" }.to_owned(),
            self.left_out.clone().unwrap_or_default(),
            self.state.clone().unwrap_or_default(),
            moment(self.since),
            number('C', self.change),
            moment(self.examined),
            if self.has_missing_run { "yes" } else { "no" }.to_owned(),
            self.known_by_metadata.to_string(),
        ]
    }
}

impl TableRow for ConcessionFact {
    const COLUMNS: &'static [&'static str] = &[
        "concession",
        "clauses",
        "filter",
        "nodes_covered",
        "clauses_conceded",
        "because",
        "asked_by",
        "asked",
        "approved_by",
        "approved",
        "until",
    ];

    fn cells(&self) -> Vec<String> {
        vec![
            number('D', Some(self.no)),
            self.clauses.join(" "),
            self.filter.clone().unwrap_or_default(),
            self.nodes.to_string(),
            self.conceded.to_string(),
            self.because.clone(),
            self.asked_by.clone(),
            moment(Some(self.asked)),
            self.approved_by.clone(),
            moment(Some(self.approved)),
            moment(Some(self.until)),
        ]
    }
}

impl TableRow for GapFact {
    const COLUMNS: &'static [&'static str] = &["control", "node"];

    fn cells(&self) -> Vec<String> {
        vec![self.control.clone(), self.node.clone()]
    }
}

impl TableRow for DayLink {
    const COLUMNS: &'static [&'static str] = &["day", "rows", "root", "digest"];

    fn cells(&self) -> Vec<String> {
        vec![self.day.to_string(), self.rows.to_string(), self.root.clone(), self.digest.clone()]
    }
}

/// What a cell of a spreadsheet may begin with that has it computed.
const BEGINS_FORMULA: [char; 6] = ['=', '+', '-', '@', '\t', '\r'];

fn defused(cell: String) -> String {
    if cell.starts_with(BEGINS_FORMULA) { format!("'{cell}") } else { cell }
}

/// Returns what was written of a cell.
pub fn undefused(cell: &str) -> &str {
    match cell.strip_prefix('\'') {
        Some(rest) if rest.starts_with(BEGINS_FORMULA) => rest,
        _ => cell,
    }
}

/// A table in CSV that is being written.
pub struct CsvTable(csv::Writer<BufWriter<File>>);

impl CsvTable {
    /// Begins a table with its head.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn begin<R: TableRow>() -> Result<Self, EvidenceError> {
        let file = BufWriter::new(tempfile::tempfile()?);
        let mut writer = csv::WriterBuilder::new().terminator(csv::Terminator::CRLF).from_writer(file);
        writer.write_record(R::COLUMNS)?;
        Ok(Self(writer))
    }

    /// Adds a row.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn add(&mut self, row: &impl TableRow) -> Result<(), EvidenceError> {
        Ok(self.0.write_record(row.cells().into_iter().map(defused))?)
    }

    /// Ends it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn end(self) -> Result<File, EvidenceError> {
        let buffered =
            self.0.into_inner().map_err(|error| EvidenceError::Csv(csv::Error::from(error.into_error())))?;
        Ok(buffered.into_inner().map_err(|error| error.into_error())?)
    }
}

/// The bytes of the longest row that is read.
const MAX_ROW: usize = 4 << 20;

/// A file of which no more is read for one row than a row may have.
struct Bounded<R> {
    file: R,
    left: Rc<Cell<usize>>,
}

impl<R: Read> Read for Bounded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let left = self.left.get();
        if left == 0 {
            return Err(io::Error::other(format!("a row is longer than {} MiB", MAX_ROW >> 20)));
        }
        let most = buffer.len().min(left);
        let read = self.file.read(&mut buffer[..most])?;
        self.left.set(left - read);
        Ok(read)
    }
}

/// Reads a table in CSV; each row's cells are found by the names of their columns.
///
/// # Errors
///
/// Returns that it is no table, or that it does not have these columns.
pub fn read_table<const N: usize>(
    file: impl Read,
    columns: [&str; N],
    mut row: impl FnMut([&str; N]) -> Result<(), EvidenceError>,
) -> Result<(), EvidenceError> {
    let left = Rc::new(Cell::new(MAX_ROW));
    let mut reader = csv::Reader::from_reader(Bounded { file, left: left.clone() });
    let head = reader.headers()?.clone();
    let mut places = [0; N];
    for (place, column) in places.iter_mut().zip(columns) {
        *place = head
            .iter()
            .position(|name| name == column)
            .ok_or_else(|| EvidenceError::Wrong(format!("the column {column} is missing")))?;
    }
    let mut record = csv::StringRecord::new();
    while reader.read_record(&mut record)? {
        row(places.map(|place| undefused(record.get(place).unwrap_or_default())))?;
        left.set(MAX_ROW);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::io::{Seek as _, SeekFrom};

    #[test]
    fn cells_that_would_begin_a_formula_are_defused_and_read_back() {
        let gap = |control: &str| GapFact { control: control.into(), node: "=1+1".into() };
        let controls = ["SK-9", "@SUM(A1)", "a \"quoted\",\r\nsecond line", "'plain", "-1", "\tx"];
        let mut table = CsvTable::begin::<GapFact>().expect("a table");
        for control in controls {
            table.add(&gap(control)).expect("a row");
        }
        let mut file = table.end().expect("a file");
        file.seek(SeekFrom::Start(0)).expect("its beginning");
        let mut text = String::new();
        file.read_to_string(&mut text).expect("a text");
        assert_eq!(
            text,
            "control,node\r\nSK-9,'=1+1\r\n'@SUM(A1),'=1+1\r\n\"a \"\"quoted\"\",\r\nsecond line\",'=1+1\r\n'plain,'=1+1\r\n'-1,'=1+1\r\n'\tx,'=1+1\r\n"
        );
        let mut read = Vec::new();
        read_table(text.as_bytes(), ["node", "control"], |[node, control]| {
            assert_eq!(node, "=1+1");
            read.push(control.to_owned());
            Ok(())
        })
        .expect("the same table");
        assert_eq!(read, controls);
        assert!(read_table(text.as_bytes(), ["nodes"], |_| Ok(())).is_err());
    }

    #[test]
    fn a_row_without_an_end_is_not_read_whole() {
        let head = "control,node\r\n";
        let of = |bytes: usize| format!("{head}SK-9,\"{}\"\r\nSK-9,n\r\n", "x\n".repeat(bytes / 2));
        let read = |text: &str| {
            let mut rows = 0;
            let read = read_table(text.as_bytes(), ["node"], |[_]| {
                rows += 1;
                Ok(())
            });
            read.map(|()| rows)
        };
        assert_eq!(read(&of(MAX_ROW / 2)).expect("a long row"), 2);
        let fault = read(&of(MAX_ROW + 1_000)).expect_err("a row that is too long").to_string();
        assert!(fault.contains("a row is longer than 4 MiB"), "{fault}");
        // Many rows are more than one may have.
        let many = format!("{head}{}", "SK-9,gate-auken-1\r\n".repeat(400_000));
        assert_eq!(read(&many).expect("many rows"), 400_000);
    }
}
