//! Documents as people write them: their files, places in them, values with places, and findings.

mod code_pages;
mod codes;
mod files;
mod finding;
pub mod keys;
mod node;
mod open_quotes;
mod syntax;

pub use code_pages::{CODE_PAGES, CodePage, findings_as_markdown};
pub use codes::Code;
pub use files::{KitFiles, Place};
pub use finding::{Finding, Level, explain_findings};
pub(crate) use node::{Fields, located, located_text, owned, read, type_word, wrong_type};
pub use node::{Located, MAX_DOCUMENT_BYTES, Node, NodeValue, read_toml};
