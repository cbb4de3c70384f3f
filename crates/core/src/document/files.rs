//! The files of a kit, held in memory, and places in them.

use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

/// The files of a kit by their paths below its folder.
#[derive(Debug, Clone, Default)]
pub struct KitFiles {
    // Many paths may have the same contents: they are there once.
    files: Arc<BTreeMap<String, Arc<[u8]>>>,
}

impl KitFiles {
    /// Returns a kit's files; paths use `/` and are relative to its folder.
    pub fn new(files: impl IntoIterator<Item = (String, impl Into<Arc<[u8]>>)>) -> Self {
        Self { files: Arc::new(files.into_iter().map(|(path, bytes)| (path, bytes.into())).collect()) }
    }

    /// Returns the files with some of them replaced or added.
    #[must_use]
    pub fn with(&self, others: &BTreeMap<String, Vec<u8>>) -> Self {
        if others.is_empty() {
            return self.clone();
        }
        let mut files = (*self.files).clone();
        files.extend(others.iter().map(|(path, bytes)| (path.clone(), bytes.as_slice().into())));
        Self { files: Arc::new(files) }
    }

    /// Returns the contents of one file.
    pub fn get(&self, path: &str) -> Option<&[u8]> {
        self.files.get(path).map(|bytes| &**bytes)
    }

    /// Returns one file as text, if it is UTF-8.
    pub fn text(&self, path: &str) -> Option<&str> {
        self.get(path).and_then(|bytes| std::str::from_utf8(bytes).ok())
    }

    /// Returns the paths, sorted.
    pub fn paths(&self) -> impl Iterator<Item = &str> {
        self.files.keys().map(String::as_str)
    }

    /// Returns the paths below a folder of the kit, without the folder.
    pub fn below<'f>(&'f self, folder: &'f str) -> impl Iterator<Item = &'f str> {
        self.paths().filter_map(move |path| path.strip_prefix(folder)?.strip_prefix('/'))
    }
}

/// A place in a file of a kit.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Place {
    /// The kit, where it is another one than the one that is looked at.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[cfg_attr(feature = "schema", schema(value_type = Option<String>))]
    pub kit: Option<Arc<str>>,
    /// The file's path below the kit's folder.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub file: Arc<str>,
    /// Line, from 1.
    pub line: usize,
    /// Column in characters, from 1.
    pub column: usize,
    /// Bytes from the start of the file.
    pub start: usize,
    /// The byte after the last.
    pub end: usize,
}

impl Place {
    /// Returns the place of a byte range in a text; ranges past the end are drawn back to it.
    pub fn new(file: &Arc<str>, text: &str, range: Range<usize>) -> Self {
        let floor = |mut at: usize| {
            at = at.min(text.len());
            while !text.is_char_boundary(at) {
                at -= 1;
            }
            at
        };
        let (start, end) = (floor(range.start), floor(range.end.max(range.start)));
        let line_start = text[..start].rfind('\n').map_or(0, |newline| newline + 1);
        let line = text[..start].matches('\n').count() + 1;
        Self {
            kit: None,
            file: file.clone(),
            line,
            column: text[line_start..start].chars().count() + 1,
            start,
            end,
        }
    }

    /// Returns the place of a whole file, for what is said of no line in particular.
    pub fn of_file(file: &str) -> Self {
        Self { kit: None, file: file.into(), line: 1, column: 1, start: 0, end: 0 }
    }

    /// Says that the place is in this kit, unless that is known.
    #[must_use]
    pub fn in_kit(mut self, kit: &str) -> Self {
        self.kit.get_or_insert_with(|| kit.into());
        self
    }

    /// Returns the place without the kit, if it is in this one.
    #[must_use]
    pub fn seen_from(mut self, kit: &str) -> Self {
        self.kit = self.kit.filter(|other| &**other != kit);
        self
    }

    /// Returns the place of a part of a quoted text at this place, or this place if it is written with escapes.
    pub fn within(&self, document: &str, value: &str, part: Range<usize>) -> Self {
        let Some(raw) = document.get(self.start..self.end) else { return self.clone() };
        match raw.find(value) {
            Some(offset) if !value.is_empty() => Self::new(
                &self.file,
                document,
                self.start + offset + part.start..self.start + offset + part.end,
            ),
            _ => self.clone(),
        }
    }
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        if let Some(kit) = &self.kit {
            write!(f, "{kit}/")?;
        }
        if self.end == 0 {
            return f.write_str(&self.file);
        }
        write!(f, "{}:{}:{}", self.file, self.line, self.column)
    }
}

/// Where the lines of a text begin, to find many places in it quickly.
pub(super) struct Lines<'t> {
    file: Arc<str>,
    text: &'t str,
    starts: Vec<usize>,
}

impl<'t> Lines<'t> {
    pub fn new(file: Arc<str>, text: &'t str) -> Self {
        let starts = std::iter::once(0)
            .chain(text.bytes().enumerate().filter(|(_, byte)| *byte == b'\n').map(|(at, _)| at + 1))
            .collect();
        Self { file, text, starts }
    }

    /// Returns the place of a range on character boundaries, as a parser's does.
    pub fn place(&self, range: Range<usize>) -> Place {
        let line = self.starts.partition_point(|start| *start <= range.start);
        match self.text.get(self.starts[line - 1]..range.start) {
            Some(before) if range.end <= self.text.len() => {
                let column = if before.is_ascii() { before.len() } else { before.chars().count() } + 1;
                Place {
                    kit: None,
                    file: self.file.clone(),
                    line,
                    column,
                    start: range.start,
                    end: range.end.max(range.start),
                }
            }
            _ => Place::new(&self.file, self.text, range),
        }
    }
}
