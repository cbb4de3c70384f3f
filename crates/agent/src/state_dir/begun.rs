//! The run that the state folder knows to have begun.

use constans_core::run::Mode;
use constans_wire::report::{StartedBy, Wanted};
use constans_wire::sweep::SweptRun;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

/// What a run notes of itself when it begins.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Begun {
    /// The run.
    pub run: Uuid,
    /// When it began.
    pub began: Timestamp,
    /// Whether it may change anything.
    pub mode: Mode,
    /// What started it.
    pub started_by: StartedBy,
    /// Why a person wanted it.
    pub reason: Option<String>,
    /// The sweep that it is part of.
    #[serde(default)]
    pub sweep: Option<SweptRun>,
    /// Whether it touches a chosen part only.
    pub partial: bool,
    /// The desired state.
    pub wanted: Wanted,
    /// How many clauses the state has.
    pub clauses: usize,
}
