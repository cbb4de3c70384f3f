//! Documents as people write them: their files, places in them, values with places, and findings.

mod code_pages;
mod codes;
mod element;
mod files;
mod finding;
pub mod keys;
mod open_quotes;
mod syntax;

pub use code_pages::{CODE_PAGES, CodePage, findings_as_markdown};
pub use codes::Code;
pub use element::{Element, ElementValue, Located, MAX_DOCUMENT_BYTES, read_toml};
pub(crate) use element::{Fields, located, located_text, owned, read, type_word, wrong_type};
pub use files::{KitFiles, Place};
pub use finding::{Finding, Level, explain_findings};
