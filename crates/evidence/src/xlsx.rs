//! A spreadsheet: a summary with a chart, then the tables with filters and frozen heads.

use crate::error::EvidenceError;
use crate::facts::{ConcessionFact, Facts, GapFact, NodeFact};
use crate::tables::TableRow;
use constans_core::compliance::Rate;
use constans_core::evidence::{ClauseRow, DeviationRow};
use rust_xlsxwriter::{
    Chart, ChartFormat, ChartPatternFill, ChartPatternFillType, ChartType, Color, Format, FormatAlign,
    FormatBorder, Workbook, Worksheet,
};
use std::fs::File;

/// This many rows a sheet has, head included.
const MAX_ROWS: u32 = 1_048_576;
/// This many characters a cell has.
const MAX_CHARACTERS: usize = 32_767;
/// This many controls the chart has.
const MAX_CHARTED: u32 = 40;
const INK: Color = Color::RGB(0x1D_2A_2F);
const LINE: Color = Color::RGB(0xC9_D3_D7);

/// A table over as many sheets as it needs.
struct Table {
    name: &'static str,
    columns: &'static [&'static str],
    widths: &'static [f64],
    max_rows: u32,
    full: Vec<Worksheet>,
    sheet: Worksheet,
    row: u32,
}

fn head() -> Format {
    Format::new().set_bold().set_border_bottom(FormatBorder::Medium).set_border_color(INK)
}

impl Table {
    fn begin<R: TableRow>(
        book: &mut Workbook,
        name: &'static str,
        widths: &'static [f64],
    ) -> Result<Self, EvidenceError> {
        let sheet = begin_sheet(book, R::COLUMNS, widths)?;
        Ok(Self { name, columns: R::COLUMNS, widths, max_rows: MAX_ROWS, full: Vec::new(), sheet, row: 1 })
    }

    fn add(&mut self, book: &mut Workbook, row: &impl TableRow) -> Result<(), EvidenceError> {
        if self.row == self.max_rows {
            let next = begin_sheet(book, self.columns, self.widths)?;
            let mut full = std::mem::replace(&mut self.sheet, next);
            end_sheet(&mut full, self.columns, self.row)?;
            self.full.push(full);
            self.row = 1;
        }
        for (column, cell) in (0..).zip(row.cells()) {
            if !cell.is_empty() {
                self.sheet.write_string(self.row, column, cut(cell))?;
            }
        }
        self.row += 1;
        Ok(())
    }

    fn end(mut self, book: &mut Workbook) -> Result<(), EvidenceError> {
        end_sheet(&mut self.sheet, self.columns, self.row)?;
        self.full.push(self.sheet);
        for (place, mut sheet) in (1..).zip(self.full) {
            let name = if place == 1 { self.name.to_owned() } else { format!("{} {place}", self.name) };
            sheet.set_name(name)?;
            book.push_worksheet(sheet);
        }
        Ok(())
    }
}

fn begin_sheet(book: &mut Workbook, columns: &[&str], widths: &[f64]) -> Result<Worksheet, EvidenceError> {
    let mut sheet = book.new_worksheet_with_constant_memory()?;
    sheet.set_freeze_panes(1, 1)?;
    sheet.set_landscape();
    sheet.set_repeat_rows(0, 0)?;
    // Wide tables take two pages beside each other, with the node on both.
    sheet.set_repeat_columns(0, 0)?;
    sheet.set_print_fit_to_pages(if columns.len() > 16 { 3 } else { 1 }, 0);
    for (column, width) in (0..).zip(widths) {
        sheet.set_column_width(column, *width)?;
    }
    for (column, name) in (0..).zip(columns) {
        sheet.write_string_with_format(0, column, name.replace('_', " "), &head())?;
    }
    Ok(sheet)
}

fn end_sheet(sheet: &mut Worksheet, columns: &[&str], rows: u32) -> Result<(), EvidenceError> {
    let last = u16::try_from(columns.len() - 1).unwrap_or(u16::MAX);
    sheet.autofilter(0, 0, rows.max(2) - 1, last)?;
    Ok(())
}

fn cut(cell: String) -> String {
    match cell.char_indices().nth(MAX_CHARACTERS - 1) {
        Some((end, _)) if cell.chars().count() > MAX_CHARACTERS => format!("{}…", &cell[..end]),
        _ => cell,
    }
}

/// The spreadsheet that is being written.
pub struct Spreadsheet {
    book: Workbook,
    clauses: Table,
    nodes: Table,
    deviations: Table,
    gaps: Table,
}

impl Spreadsheet {
    /// Begins it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn begin() -> Result<Self, EvidenceError> {
        let mut book = Workbook::new();
        let clauses = Table::begin::<ClauseRow>(
            &mut book,
            "Clauses",
            &[
                18.0, 12.0, 34.0, 9.0, 14.0, 22.0, 18.0, 14.0, 12.0, 8.0, 11.0, 44.0, 44.0, 21.0, 21.0, 14.0,
                21.0, 21.0, 14.0, 9.0, 21.0, 10.0, 21.0, 14.0, 14.0, 14.0,
            ],
        )?;
        let nodes = Table::begin::<NodeFact>(
            &mut book,
            "Nodes",
            &[18.0, 12.0, 12.0, 26.0, 9.0, 40.0, 16.0, 21.0, 10.0, 21.0],
        )?;
        let deviations = Table::begin::<DeviationRow>(
            &mut book,
            "Deviations",
            &[18.0, 12.0, 34.0, 14.0, 12.0, 21.0, 21.0, 14.0, 21.0, 21.0, 8.0, 20.0, 8.0, 20.0],
        )?;
        let gaps = Table::begin::<GapFact>(&mut book, "Gaps", &[14.0, 24.0])?;
        Ok(Self { book, clauses, nodes, deviations, gaps })
    }

    /// Adds a clause on a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn clause(&mut self, row: &ClauseRow) -> Result<(), EvidenceError> {
        self.clauses.add(&mut self.book, row)
    }

    /// Adds a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn node(&mut self, node: &NodeFact) -> Result<(), EvidenceError> {
        self.nodes.add(&mut self.book, node)
    }

    /// Adds a deviation.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn deviation(&mut self, row: &DeviationRow) -> Result<(), EvidenceError> {
        self.deviations.add(&mut self.book, row)
    }

    /// Adds a gap.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn gap(&mut self, gap: &GapFact) -> Result<(), EvidenceError> {
        self.gaps.add(&mut self.book, gap)
    }

    /// Ends it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn end(mut self, facts: &Facts) -> Result<File, EvidenceError> {
        let mut book = self.book;
        book.push_worksheet(summary(facts)?);
        self.clauses.end(&mut book)?;
        self.nodes.end(&mut book)?;
        self.deviations.end(&mut book)?;
        let mut concessions = Table::begin::<ConcessionFact>(
            &mut book,
            "Concessions",
            &[12.0, 34.0, 30.0, 10.0, 10.0, 44.0, 16.0, 21.0, 16.0, 21.0, 21.0],
        )?;
        for concession in &facts.concessions {
            concessions.add(&mut book, concession)?;
        }
        concessions.end(&mut book)?;
        self.gaps.row = self.gaps.row.max(1);
        self.gaps.end(&mut book)?;
        let mut file = tempfile::tempfile()?;
        book.save_to_writer(&mut file)?;
        Ok(file)
    }
}

/// The columns of the summary's table of controls: the name, and the value.
type ControlColumn = (&'static str, fn(&constans_core::evidence::ControlSummary) -> u64);

const CONTROL_COLUMNS: [ControlColumn; 8] = [
    ("compliant", |control| control.counted.clauses.compliant),
    ("noncompliant", |control| control.counted.clauses.noncompliant),
    ("conceded", |control| control.counted.clauses.conceded),
    ("unexamined", |control| control.counted.clauses.unexamined),
    ("unknown", |control| control.counted.clauses.unknown),
    ("nodes", |control| control.counted.nodes.all()),
    ("nodes without deviation", |control| control.counted.nodes.without_deviation),
    ("gaps", |control| control.gaps),
];

fn summary(facts: &Facts) -> Result<Worksheet, EvidenceError> {
    let mut sheet = Worksheet::new();
    sheet.set_name("Summary")?;
    sheet.set_landscape();
    sheet.set_print_fit_to_pages(1, 0);
    sheet.set_column_width(0, 30)?;
    sheet.set_column_width(1, 46)?;
    sheet.set_column_range_width(2, 9, 13)?;
    let title = Format::new().set_bold().set_font_size(16);
    sheet.write_string_with_format(0, 0, format!("Evidence {}", facts.name()), &title)?;
    sheet.write_string(0, 1, &facts.server)?;
    let (question, counted) = (&facts.question, &facts.figures.counted);
    let controls =
        if question.controls.is_empty() { "all clauses".to_owned() } else { question.controls.join(", ") };
    let words = [
        ("As of", question.as_of.to_string()),
        ("As far as was known at", question.as_known_at.to_string()),
        ("Nodes", question.filter.as_ref().map_or("all".to_owned(), |filter| format!("where {filter}"))),
        ("Controls", controls),
        ("Asked for by", format!("{}, {}", facts.asked_by, facts.asked)),
        ("Why", facts.because.clone().unwrap_or_default()),
        ("Rate as found", Rate::words_of(counted.clauses.rate())),
        ("Rate with concessions", Rate::words_of(counted.clauses.rate_with_concessions())),
    ];
    let mut row = 2;
    for (name, value) in words.into_iter().filter(|(_, value)| !value.is_empty()) {
        sheet.write_string(row, 0, name)?;
        sheet.write_string(row, 1, cut(value))?;
        row += 1;
    }
    let left = Format::new().set_align(FormatAlign::Left);
    for (name, number) in [
        ("Nodes without any deviation", counted.nodes.without_deviation),
        ("Nodes with a deviation", counted.nodes.with_deviation),
        ("Nodes with a critical one", counted.nodes.with_critical),
        ("Nodes not known", counted.nodes.not_known),
        ("Nodes with conceded deviations only", counted.nodes.conceded),
        ("Clauses compliant", counted.clauses.compliant),
        ("of these in doubt", counted.clauses.in_doubt),
        ("Clauses not compliant", counted.clauses.noncompliant),
        ("Clauses conceded", counted.clauses.conceded),
        ("Clauses unexamined", counted.clauses.unexamined),
        ("Clauses unknown", counted.clauses.unknown),
    ] {
        sheet.write_string(row, 0, name)?;
        sheet.write_number_with_format(row, 1, as_number(number), &left)?;
        row += 1;
    }
    row += 1;
    let first = row;
    sheet.write_string_with_format(row, 0, "control", &head())?;
    sheet.write_string_with_format(row, 1, "title", &head())?;
    for (column, (name, _)) in (2..).zip(CONTROL_COLUMNS) {
        sheet.write_string_with_format(row, column, name, &head().set_text_wrap())?;
    }
    for control in &facts.figures.by_control {
        row += 1;
        sheet.write_string(row, 0, &control.id)?;
        sheet.write_string(row, 1, cut(control.title.clone().unwrap_or_default()))?;
        for (column, (_, number)) in (2..).zip(CONTROL_COLUMNS) {
            sheet.write_number(row, column, as_number(number(control)))?;
        }
    }
    if row > first {
        sheet.autofilter(first, 0, row, 9)?;
        sheet.insert_chart(1, 3, &by_control(first, row.min(first + MAX_CHARTED)))?;
    }
    Ok(sheet)
}

/// Stacked bars of the clauses of each control, told apart by pattern as well as by colour.
fn by_control(head: u32, last: u32) -> Chart {
    let mut chart = Chart::new(ChartType::BarPercentStacked);
    let looks = [
        (Color::RGB(0x2F_7D_5B), None),
        (Color::RGB(0xA6_34_2E), Some(ChartPatternFillType::DiagonalStripesDarkUpwards)),
        (Color::RGB(0x6D_5A_9C), Some(ChartPatternFillType::VerticalStripesNarrow)),
        (Color::RGB(0xC2_CA_CF), None),
        (Color::RGB(0x8A_94_9A), Some(ChartPatternFillType::HorizontalStripesNarrow)),
    ];
    for (column, (colour, pattern)) in (2..).zip(looks) {
        let mut look = ChartFormat::new();
        match pattern {
            None => look.set_solid_fill(rust_xlsxwriter::ChartSolidFill::new().set_color(colour)),
            Some(pattern) => look.set_pattern_fill(
                ChartPatternFill::new()
                    .set_pattern(pattern)
                    .set_foreground_color(colour)
                    .set_background_color(Color::White),
            ),
        };
        chart
            .add_series()
            .set_name(("Summary", head, column))
            .set_categories(("Summary", head + 1, 0, last, 0))
            .set_values(("Summary", head + 1, column, last, column))
            .set_format(&mut look)
            .set_gap(40);
    }
    chart.title().set_name("Clauses by control");
    chart.y_axis().set_reverse();
    chart.x_axis().set_major_gridlines_line(rust_xlsxwriter::ChartLine::new().set_color(LINE));
    chart.set_width(620).set_height(400);
    chart
}

/// A count as a spreadsheet has it; it is exact up to 2⁵³.
#[expect(clippy::cast_precision_loss, reason = "no fleet has so many clauses")]
fn as_number(count: u64) -> f64 {
    count as f64
}
