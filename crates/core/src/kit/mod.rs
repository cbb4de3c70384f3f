//! Kits: their manifests, baselines, clauses and custom kinds, as they are written.

mod assist;
mod baseline;
mod clause;
mod conceal;
mod custom_kind;
mod format;
mod manifest;
mod memo;
mod page;
pub mod require;
mod written;

pub use assist::{OpenDocument, Suggestion, SuggestionSort, Symbol, SymbolSort};
pub use baseline::{Baseline, Gone, OnDrift, OnRollout, Severity};
pub(crate) use baseline::{Compiled, read as read_baseline};
pub use clause::{ClauseDocument, Common, Loop, stays_when_gone};
pub use conceal::shown_text;
pub(crate) use custom_kind::read_kinds;
pub use format::format;
pub use manifest::Requirement;
pub(crate) use manifest::{Manifest, read as read_manifest};
pub(crate) use memo::Memo;
pub use page::{BaselinePage, ClausePage, KitPage, ParameterPage, page};
pub use written::WrittenClause;

use crate::document::KitFiles;
use crate::kind::Kind;
use crate::template::Renderer;
use semver::Version;
use std::sync::Arc;

/// The name of the kit that a single baseline document makes up.
pub const LOCAL_KIT: &str = "local";

/// A kit that was read.
#[derive(Debug, Clone)]
pub struct Kit {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: Version,
    /// What it is for.
    pub summary: String,
    /// The kits that it requires.
    pub requires: Vec<Requirement>,
    /// Its baselines, by file name.
    pub baselines: Vec<Baseline>,
    /// Its custom kinds.
    pub kinds: Vec<Kind>,
    /// Its files.
    pub files: KitFiles,
    /// What renders its texts and files.
    pub(crate) renderer: Arc<Renderer>,
}

impl Kit {
    /// Returns the baseline of this name.
    pub fn baseline(&self, name: &str) -> Option<&Baseline> {
        self.baselines.iter().find(|baseline| baseline.name.value == name)
    }

    /// Returns, of other kits, the release of each that the requirements come to; what is not among them is left out.
    ///
    /// # Errors
    ///
    /// Returns the requirements that none of them fits.
    pub fn required_among<'k>(&self, kits: &'k [Self]) -> Result<Vec<&'k Self>, Vec<require::Unmet>> {
        let pool: Vec<require::Release> = kits.iter().map(Self::as_release).collect();
        let mut own = self.as_release();
        own.requires.retain(|name, _| pool.iter().any(|release| release.kit == *name));
        let chosen = require::solve(&[own], &pool)?;
        Ok(kits.iter().filter(|other| chosen.get(&other.name) == Some(&other.version)).collect())
    }

    /// Returns the kit as a release that others may require.
    pub fn as_release(&self) -> require::Release {
        let requires =
            self.requires.iter().map(|one| (one.kit.clone(), one.releases.value.clone())).collect();
        require::Release { kit: self.name.clone(), version: self.version.clone(), requires }
    }
}
