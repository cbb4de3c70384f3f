//! The zip file: its parts, written as the rows come, and the manifest with its signature at the end.

use crate::error::EvidenceError;
use crate::facts::{ConcessionFact, Facts, Format, GapFact, NodeFact};
use crate::html::Page;
use crate::json::JsonDocument;
use crate::oscal::{self, Assessment};
use crate::tables::CsvTable;
use crate::xlsx::Spreadsheet;
use constans_core::evidence::{
    ClauseRow, DayLink, DeviationRow, FileEntry, KeyEntry, MANIFEST, Manifest, SIGNATURE, SigningKey,
    file_digest,
};
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, Cursor, Read, Seek, SeekFrom, Write as _};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, DateTime, ZipWriter};

/// The version of the form of the zip file.
pub const FORMAT: u32 = 1;
/// The names of the files that are always there.
pub const CLAUSES: &str = "clauses.csv";
pub const DEVIATIONS: &str = "deviations.csv";
pub const DAYS: &str = "days.csv";
pub const KEYS: &str = "keys.json";

/// Who signs.
pub struct Signer<'a> {
    /// The key.
    pub key: &'a SigningKey,
    /// The public parts of the server's keys, the first one first; the last one is the key's.
    pub keys: &'a [KeyEntry],
}

/// The parts of a file of evidence, written as their rows come.
pub struct Contents {
    clauses: CsvTable,
    nodes: CsvTable,
    deviations: CsvTable,
    gaps: CsvTable,
    json: Option<JsonDocument>,
    page: Option<Page>,
    sheet: Option<Spreadsheet>,
    assessment: Option<Assessment>,
}

impl Contents {
    /// Begins them; `scope` tells this evidence from all others and ends with a space and the moment that it is of.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be written.
    pub fn begin(formats: &BTreeSet<Format>, scope: String) -> Result<Self, EvidenceError> {
        let has = |format| formats.contains(&format);
        Ok(Self {
            clauses: CsvTable::begin::<ClauseRow>()?,
            nodes: CsvTable::begin::<NodeFact>()?,
            deviations: CsvTable::begin::<DeviationRow>()?,
            gaps: CsvTable::begin::<GapFact>()?,
            json: has(Format::Json).then(JsonDocument::begin).transpose()?,
            page: has(Format::Html).then(Page::begin).transpose()?,
            sheet: has(Format::Xlsx).then(Spreadsheet::begin).transpose()?,
            assessment: has(Format::Oscal).then(|| Assessment::begin(scope)).transpose()?,
        })
    }

    /// Adds a clause on a node: those of a node one after another.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn clause(&mut self, row: &ClauseRow) -> Result<(), EvidenceError> {
        self.clauses.add(row)?;
        self.json.as_mut().map(|document| document.clause(row)).transpose()?;
        self.page.as_mut().map(|page| page.clause(row)).transpose()?;
        self.sheet.as_mut().map(|sheet| sheet.clause(row)).transpose()?;
        self.assessment.as_mut().map(|assessment| assessment.clause(row)).transpose()?;
        Ok(())
    }

    /// Adds a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn node(&mut self, node: &NodeFact) -> Result<(), EvidenceError> {
        self.nodes.add(node)?;
        self.json.as_mut().map(|document| document.node(node)).transpose()?;
        self.page.as_mut().map(|page| page.node(node)).transpose()?;
        self.sheet.as_mut().map(|sheet| sheet.node(node)).transpose()?;
        self.assessment.as_mut().map(|assessment| assessment.node(node)).transpose()?;
        Ok(())
    }

    /// Adds a deviation.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn deviation(&mut self, row: &DeviationRow) -> Result<(), EvidenceError> {
        self.deviations.add(row)?;
        self.json.as_mut().map(|document| document.deviation(row)).transpose()?;
        self.sheet.as_mut().map(|sheet| sheet.deviation(row)).transpose()?;
        Ok(())
    }

    /// Adds a gap.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn gap(&mut self, gap: &GapFact) -> Result<(), EvidenceError> {
        self.gaps.add(gap)?;
        self.json.as_mut().map(|document| document.gap(gap)).transpose()?;
        self.page.as_mut().map(|page| page.gap(gap)).transpose()?;
        self.sheet.as_mut().map(|sheet| sheet.gap(gap)).transpose()?;
        Ok(())
    }

    /// Ends them: returns the zip file, signed.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn end(self, facts: &Facts, days: &[DayLink], signer: &Signer<'_>) -> Result<File, EvidenceError> {
        let mut concessions = CsvTable::begin::<ConcessionFact>()?;
        facts.concessions.iter().try_for_each(|concession| concessions.add(concession))?;
        let mut chain = CsvTable::begin::<DayLink>()?;
        days.iter().try_for_each(|day| chain.add(day))?;
        let key = signer.keys.last().map(|entry| entry.id.clone()).unwrap_or_default();
        let mut zip = Zip::begin(facts)?;
        zip.add("README.txt", "What this is, and how to verify it", Cursor::new(read_me(facts, &key)))?;
        if let Some(page) = self.page {
            zip.add("evidence.html", "Figures and clauses as a page that prints well", page.end(facts)?)?;
        }
        if let Some(sheet) = self.sheet {
            zip.add("evidence.xlsx", "Figures and clauses as a spreadsheet", sheet.end(facts)?)?;
        }
        zip.add(CLAUSES, "Every clause on every node", self.clauses.end()?)?;
        zip.add("nodes.csv", "Every node, and why those that are not counted are not", self.nodes.end()?)?;
        zip.add(DEVIATIONS, "Deviations, with their proofs", self.deviations.end()?)?;
        zip.add(
            "gaps.csv",
            "Nodes that a control applies to and that have no clause for it",
            self.gaps.end()?,
        )?;
        zip.add("concessions.csv", "Concessions that were in force", concessions.end()?)?;
        if let Some(document) = self.json {
            zip.add("evidence.json", "All of it as one JSON document", document.end(facts)?)?;
        }
        if let Some(assessment) = self.assessment {
            let (plan, results) = assessment.end(facts)?;
            zip.add(oscal::PLAN, "What was assessed, in OSCAL", plan)?;
            zip.add(oscal::RESULTS, "The results, in OSCAL", results)?;
        }
        zip.add(DAYS, "The chain of days: what was learned when", chain.end()?)?;
        zip.add(
            KEYS,
            "The public parts of the server's keys",
            Cursor::new(serde_json::to_vec_pretty(signer.keys)?),
        )?;
        zip.end(facts, days.last(), key, signer.key)
    }
}

/// The zip file that is being written.
struct Zip {
    writer: ZipWriter<File>,
    options: SimpleFileOptions,
    files: Vec<FileEntry>,
}

impl Zip {
    fn begin(facts: &Facts) -> Result<Self, EvidenceError> {
        let at = facts.made.to_zoned(jiff::tz::TimeZone::UTC);
        let part = |number: i8| u8::try_from(number).unwrap_or_default();
        let year = u16::try_from(at.year()).unwrap_or(1980);
        let time = DateTime::from_date_and_time(
            year,
            part(at.month()),
            part(at.day()),
            part(at.hour()),
            part(at.minute()),
            part(at.second()),
        )
        .unwrap_or_default();
        let options = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Deflated)
            .last_modified_time(time)
            .unix_permissions(0o644);
        Ok(Self { writer: ZipWriter::new(tempfile::tempfile()?), options, files: Vec::new() })
    }

    fn add(&mut self, name: &str, what: &str, mut file: impl Read + Seek) -> Result<(), EvidenceError> {
        file.seek(SeekFrom::Start(0))?;
        let (bytes, sha256) = file_digest(&mut file)?;
        file.seek(SeekFrom::Start(0))?;
        self.writer.start_file(name, self.options.large_file(bytes >= u64::from(u32::MAX)))?;
        io::copy(&mut file, &mut self.writer)?;
        self.files.push(FileEntry { name: name.to_owned(), what: what.to_owned(), bytes, sha256 });
        Ok(())
    }

    fn end(
        mut self,
        facts: &Facts,
        last_day: Option<&DayLink>,
        key_id: String,
        key: &SigningKey,
    ) -> Result<File, EvidenceError> {
        let manifest = Manifest {
            format: FORMAT,
            server: facts.server.clone(),
            made_by: facts.made_by.clone(),
            evidence: facts.evidence,
            question: facts.question.clone(),
            asked_by: facts.asked_by.clone(),
            asked: facts.asked,
            because: facts.because.clone(),
            made: facts.made,
            figures: facts.figures.clone(),
            last_day: last_day.cloned(),
            key: key_id,
            files: self.files,
        };
        let manifest = serde_json::to_vec_pretty(&manifest)?;
        self.writer.start_file(MANIFEST, self.options)?;
        self.writer.write_all(&manifest)?;
        self.writer.start_file(SIGNATURE, self.options)?;
        writeln!(self.writer, "{}", key.sign(&manifest))?;
        let mut file = self.writer.finish()?;
        file.seek(SeekFrom::Start(0))?;
        Ok(file)
    }
}

fn read_me(facts: &Facts, key: &str) -> String {
    let name = facts.name();
    let nodes = facts
        .question
        .filter
        .as_ref()
        .map_or_else(|| "all nodes".to_owned(), |filter| format!("nodes where {filter}"));
    let controls = match facts.question.controls.as_slice() {
        [] => "all clauses".to_owned(),
        some => format!("clauses that satisfy {}", some.join(", ")),
    };
    format!(
        "Evidence {name} of {}

What was asked: {nodes}, {controls}, as of {}, as far as was known at {}.
Asked for by {} on {}.

To verify it, without access to the server:

    constans evidence verify FILE --key {key}

Ask the organisation, and not whoever gave you this file, whether {key} is its key.

manifest.json names every file with its SHA-256 and has the figures; signature.txt is the Ed25519 signature (RFC 8032) of
manifest.json in hexadecimal digits, by the last key of keys.json. The id of a key is the beginning of the SHA-256 of its bytes.

clauses.csv has every clause on every node; the figures are counted from it. In tables, a cell that would begin a formula has a '
before it.

How things were examined: at each run everything is inspected, but that a file whose change time (ctime, which nobody can set) and other
metadata are those of its last reading is not read again within 24 hours of that; the same holds of the package database. nodes.csv
says of each node when it was examined last, how many clauses were known so at most, and whether it ran again and no report of that
run ever came.

days.csv is a chain: for each day in UTC the number of rows that the server learned, the digest of the Merkle tree over them
(RFC 6962), and the digest of the chain up to that day. Whoever noted the digest of a day elsewhere sees that nothing learned up to
that day was altered since. deviations.csv has the place of each deviation in the tree of the day on which it was learned, and the
digests beside its way up.
",
        facts.server, facts.question.as_of, facts.question.as_known_at, facts.asked_by, facts.asked,
    )
}
