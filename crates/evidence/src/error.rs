//! Why a file of evidence is not written or read.

use std::io;

/// Why a file of evidence is not written or read.
#[derive(Debug, thiserror::Error)]
pub enum EvidenceError {
    /// A file cannot be written or read.
    #[error(transparent)]
    File(#[from] io::Error),
    /// The zip file.
    #[error("it is no zip file that can be read: {0}")]
    Zip(#[from] zip::result::ZipError),
    /// A table.
    #[error("a table cannot be read or written: {0}")]
    Csv(#[from] csv::Error),
    /// A JSON document.
    #[error("a JSON document cannot be read or written: {0}")]
    Json(#[from] serde_json::Error),
    /// A spreadsheet.
    #[error("the spreadsheet cannot be written: {0}")]
    Xlsx(#[from] rust_xlsxwriter::XlsxError),
    /// A page.
    #[error("the page cannot be written: {0}")]
    Html(#[from] minijinja::Error),
    /// A file of it is missing.
    #[error("{0} is missing")]
    Missing(String),
    /// A file of it is not as it should be.
    #[error("{0}")]
    Wrong(String),
}
