//! One JSON document with all of it, written as its rows come.

use crate::error::EvidenceError;
use crate::facts::{Facts, GapFact, NodeFact};
use constans_core::evidence::{ClauseRow, DeviationRow};
use serde::Serialize;
use std::fs::File;
use std::io::{self, BufWriter, Seek as _, SeekFrom, Write};

/// The items of an array, before it is known what stands before them.
pub struct Items {
    file: BufWriter<File>,
    is_empty: bool,
}

impl Items {
    /// Begins an array.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn begin() -> io::Result<Self> {
        Ok(Self { file: BufWriter::new(tempfile::tempfile()?), is_empty: true })
    }

    /// Adds an item.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn add(&mut self, item: &impl Serialize) -> Result<(), EvidenceError> {
        self.file.write_all(if self.is_empty { b"\n" } else { b",\n" })?;
        self.is_empty = false;
        Ok(serde_json::to_writer(&mut self.file, item)?)
    }

    /// Writes ` "NAME": [ITEMS]`.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn write(self, name: &str, to: &mut impl Write) -> Result<(), EvidenceError> {
        let mut file = self.file.into_inner().map_err(|error| error.into_error())?;
        file.seek(SeekFrom::Start(0))?;
        write!(to, "\"{name}\": [")?;
        io::copy(&mut file, to)?;
        Ok(to.write_all(b"\n]")?)
    }

    /// Whether it has no items: OSCAL forbids empty arrays.
    pub fn is_empty(&self) -> bool {
        self.is_empty
    }
}

/// The document.
pub struct JsonDocument {
    clauses: Items,
    nodes: Items,
    deviations: Items,
    gaps: Items,
}

impl JsonDocument {
    /// Begins it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn begin() -> Result<Self, EvidenceError> {
        let [clauses, nodes, deviations, gaps] =
            [Items::begin()?, Items::begin()?, Items::begin()?, Items::begin()?];
        Ok(Self { clauses, nodes, deviations, gaps })
    }

    /// Adds a clause on a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn clause(&mut self, row: &ClauseRow) -> Result<(), EvidenceError> {
        self.clauses.add(row)
    }

    /// Adds a node.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn node(&mut self, node: &NodeFact) -> Result<(), EvidenceError> {
        self.nodes.add(node)
    }

    /// Adds a deviation.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn deviation(&mut self, row: &DeviationRow) -> Result<(), EvidenceError> {
        self.deviations.add(row)
    }

    /// Adds a gap.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn gap(&mut self, gap: &GapFact) -> Result<(), EvidenceError> {
        self.gaps.add(gap)
    }

    /// Ends it.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be written.
    pub fn end(self, facts: &Facts) -> Result<File, EvidenceError> {
        let mut file = BufWriter::new(tempfile::tempfile()?);
        file.write_all(b"{\n\"facts\": ")?;
        serde_json::to_writer_pretty(&mut file, facts)?;
        for (name, items) in [
            ("nodes", self.nodes),
            ("gaps", self.gaps),
            ("deviations", self.deviations),
            ("clauses", self.clauses),
        ] {
            file.write_all(b",\n")?;
            items.write(name, &mut file)?;
        }
        file.write_all(b"\n}\n")?;
        Ok(file.into_inner().map_err(|error| error.into_error())?)
    }
}
