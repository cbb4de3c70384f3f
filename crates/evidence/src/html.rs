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
/// Where the rows stand; no text that is escaped holds it.
const ROWS: &str = "<rows here>";

/// Rows that are rendered.
struct Rows {
    file: BufWriter<File>,
    count: usize,
}

impl Rows {
    fn begin() -> io::Result<Self> {
        Ok(Self { file: BufWriter::new(tempfile::tempfile()?), count: 0 })
    }
}

#[derive(Default, Serialize)]
struct Named {
    names: Vec<String>,
    more: usize,
}

/// The page that is being written.
pub struct Page {
    templates: Environment<'static>,
    all: Rows,
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
        let (all, not_compliant) = (Rows::begin()?, Rows::begin()?);
        Ok(Self { templates, all, not_compliant, gaps: BTreeMap::new(), left_out: Vec::new() })
    }

    /// Adds a clause on a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn clause(&mut self, row: &ClauseRow) -> Result<(), EvidenceError> {
        let is_compliant = row.result == ClauseCountsAs::Compliant;
        self.all.count += 1;
        self.not_compliant.count += usize::from(!is_compliant);
        let is_in_all = self.all.count <= MAX_ROWS;
        let is_in_not_compliant = !is_compliant && self.not_compliant.count <= MAX_ROWS;
        if !is_in_all && !is_in_not_compliant {
            return Ok(());
        }
        let rendered = self
            .templates
            .get_template("clause.html")?
            .render(context! { row => Value::from(Serde(row)) })?;
        if is_in_all {
            self.all.file.write_all(rendered.as_bytes())?;
        }
        if is_in_not_compliant {
            self.not_compliant.file.write_all(rendered.as_bytes())?;
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
        let count = self.all.count;
        let has_all = count <= MAX_ROWS;
        let (rows, heading) = if has_all {
            (self.all, "Every clause on every node")
        } else {
            (self.not_compliant, "Clauses that are not compliant")
        };
        let note = match rows.count {
            _ if has_all => None,
            shown if shown <= MAX_ROWS => Some(format!(
                "Those that are compliant are in clauses.csv: {count} clauses are more than a page holds."
            )),
            shown => {
                Some(format!("The first {MAX_ROWS} of {shown}; all {count} clauses are in clauses.csv."))
            }
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
            heading,
            note,
            has_rows => rows.count > 0,
            rows_here => Value::from_safe_string(ROWS.to_owned()),
        })?;
        let (before, after) = page.split_once(ROWS).unwrap_or((&page, ""));
        let mut file = BufWriter::new(tempfile::tempfile()?);
        file.write_all(before.as_bytes())?;
        let mut rendered = rows.file.into_inner().map_err(|error| error.into_error())?;
        rendered.seek(SeekFrom::Start(0))?;
        io::copy(&mut rendered, &mut file)?;
        file.write_all(after.as_bytes())?;
        Ok(file.into_inner().map_err(|error| error.into_error())?)
    }
}
