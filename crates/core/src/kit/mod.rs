//! Reading kits: documents with places, findings, and the check that runs before anything else does.

mod assist;
mod baseline;
mod case;
mod check;
mod clause;
mod code_pages;
mod codes;
mod conceal;
mod custom_kind;
pub(crate) mod document;
mod files;
mod finding;
mod format;
mod manifest;
mod open_quotes;
mod page;
pub mod require;
mod syntax;
mod written;

pub use assist::{Draft, Suggestion, SuggestionSort, Symbol, SymbolSort};
pub use baseline::{Baseline, Gone, Located, OnDrift, OnRollout, Severity};
pub use case::{Case, CaseFailure, CaseResult, read_cases, run_case};
pub use check::{Checked, Kit, LOCAL_KIT, Surroundings, check, check_single, resolve_sample};
pub use clause::{COMMON, ClauseDocument, Common, Loop, stays_when_gone};
pub use code_pages::{CODE_PAGES, CodePage, findings_as_markdown};
pub use codes::Code;
pub use conceal::shown_text;
pub use document::{MAX_DOCUMENT_BYTES, Node, NodeValue, read_toml};
pub use files::{KitFiles, Place};
pub use finding::{Finding, Level, explain_findings};
pub use format::format;
pub use manifest::Requirement;
pub use page::{BaselinePage, ClausePage, KitPage, ParameterPage, page};
pub use written::WrittenClause;
