//! A page that prints well: figures, concessions, gaps, and the clauses, as many as one reads.

use crate::error::EvidenceError;
use crate::facts::{Facts, GapFact, NodeFact};
use constans_core::compliance::Rate;
use constans_core::evidence::{ClauseCountsAs, ClauseRow};
use minijinja::value::{Serde, Value};
use minijinja::{Environment, context};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, BufWriter, Seek as _, SeekFrom, Write as _};

/// More rows are not on the page: then it has those that are not compliant, and at most so many of them.
const MAX_ROWS: usize = 50_000;
/// This many nodes are named of each gap, and of those that are not counted.
const MAX_NAMED: usize = 200;
/// Where the rows stand; no text that is escaped holds them.
const NOT_COMPLIANT: &str = "<not compliant here>";
const COMPLIANT: &str = "<compliant here>";
/// This many hexadecimal digits of a digest are shown.
const DIGITS: usize = 12;

/// Rows that are rendered, the first ones of them.
struct Rows {
    file: BufWriter<File>,
    count: usize,
}

impl Rows {
    fn begin() -> io::Result<Self> {
        Ok(Self { file: BufWriter::new(tempfile::tempfile()?), count: 0 })
    }

    fn write(self, to: &mut impl io::Write) -> io::Result<()> {
        let mut file = self.file.into_inner().map_err(|error| error.into_error())?;
        file.seek(SeekFrom::Start(0))?;
        io::copy(&mut file, to).map(|_| ())
    }
}

/// Returns a text whose digests are cut: they are whole in clauses.csv.
fn short(text: String) -> String {
    let cut = |word: &str| {
        let (before, digits) = word.rsplit_once(':')?;
        let is_digest = digits.len() > 2 * DIGITS && digits.bytes().all(|byte| byte.is_ascii_hexdigit());
        is_digest.then(|| format!("{before}:{}…", &digits[..DIGITS]))
    };
    if !text.contains(':') {
        return text;
    }
    // A word may end with the sign that parts properties.
    let words = text.split(' ').map(|word| match word.strip_suffix(';') {
        Some(word) => cut(word).unwrap_or_else(|| word.to_owned()) + ";",
        None => cut(word).unwrap_or_else(|| word.to_owned()),
    });
    words.collect::<Vec<_>>().join(" ")
}

/// Returns a moment to the second.
fn moment(text: &str) -> String {
    text.get(..19).map_or_else(|| text.to_owned(), |seconds| seconds.replace('T', " "))
}

/// The first nodes of a gap.
#[derive(Default, Serialize)]
struct Named {
    names: Vec<String>,
    more: usize,
}

/// The page that is being written.
pub struct Page {
    templates: Environment<'static>,
    compliant: Rows,
    not_compliant: Rows,
    gaps: BTreeMap<String, Named>,
    left_out: Vec<NodeFact>,
}

impl Page {
    /// Begins it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn begin() -> Result<Self, EvidenceError> {
        let mut templates = Environment::new();
        templates.add_template("evidence.html", include_str!("../templates/evidence.html"))?;
        templates.add_template("clause.html", include_str!("../templates/clause.html"))?;
        templates.add_filter("short", short);
        templates.add_filter("moment", moment);
        let (compliant, not_compliant) = (Rows::begin()?, Rows::begin()?);
        Ok(Self { templates, compliant, not_compliant, gaps: BTreeMap::new(), left_out: Vec::new() })
    }

    /// Adds a clause on a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn clause(&mut self, row: &ClauseRow) -> Result<(), EvidenceError> {
        let rows = match row.result {
            ClauseCountsAs::Compliant => &mut self.compliant,
            _ => &mut self.not_compliant,
        };
        rows.count += 1;
        if rows.count <= MAX_ROWS {
            let rendered = self
                .templates
                .get_template("clause.html")?
                .render(context! { row => Value::from(Serde(row)) })?;
            rows.file.write_all(rendered.as_bytes())?;
        }
        Ok(())
    }

    /// Adds a node.
    ///
    /// # Errors
    ///
    /// None yet.
    pub fn node(&mut self, node: &NodeFact) -> Result<(), EvidenceError> {
        if node.left_out.is_some() && self.left_out.len() < MAX_NAMED {
            self.left_out.push(node.clone());
        }
        Ok(())
    }

    /// Adds a gap.
    ///
    /// # Errors
    ///
    /// None yet.
    pub fn gap(&mut self, gap: &GapFact) -> Result<(), EvidenceError> {
        let named = self.gaps.entry(gap.control.clone()).or_default();
        if named.names.len() < MAX_NAMED {
            named.names.push(gap.node.clone());
        } else {
            named.more += 1;
        }
        Ok(())
    }

    /// Ends it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn end(self, facts: &Facts) -> Result<File, EvidenceError> {
        let (compliant, not_compliant) = (self.compliant.count, self.not_compliant.count);
        let has_all = compliant + not_compliant <= MAX_ROWS;
        let whole = format!("all {} clauses are in clauses.csv", compliant + not_compliant);
        let note = match not_compliant {
            _ if has_all => None,
            count if count <= MAX_ROWS => {
                Some(format!("Those that are compliant are too many for a page; {whole}."))
            }
            count => Some(format!("The first {MAX_ROWS} of {count}; {whole}.")),
        };
        let counted = &facts.figures.counted;
        let page = self.templates.get_template("evidence.html")?.render(context! {
            facts => Value::from(Serde(facts)),
            figures => Value::from(Serde(&facts.figures)),
            name => facts.name(),
            nodes => counted.nodes.all(),
            clauses => counted.clauses.all(),
            rate => Rate::words_of(counted.clauses.rate()),
            rate_with_concessions => Rate::words_of(counted.clauses.rate_with_concessions()),
            gaps => Value::from(Serde(&self.gaps)),
            left_out => Value::from(Serde(&self.left_out)),
            note,
            has_not_compliant => not_compliant > 0,
            has_compliant => has_all && compliant > 0,
            not_compliant_here => Value::from_safe_string(NOT_COMPLIANT.to_owned()),
            compliant_here => Value::from_safe_string(COMPLIANT.to_owned()),
        })?;
        let mut file = BufWriter::new(tempfile::tempfile()?);
        let mut rest = page.as_str();
        for (place, rows) in [(NOT_COMPLIANT, self.not_compliant), (COMPLIANT, self.compliant)] {
            if let Some((before, after)) = rest.split_once(place) {
                file.write_all(before.as_bytes())?;
                rows.write(&mut file)?;
                rest = after;
            }
        }
        file.write_all(rest.as_bytes())?;
        Ok(file.into_inner().map_err(|error| error.into_error())?)
    }
}
