//! What a node is asked for.

use crate::run::{Freeze, Mode, Observed, Part, RunSettings, Selection};
use crate::sentence::Sentence;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// What each node of a sweep is to do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct SweepOrder {
    /// Whether anything may be changed.
    pub mode: Mode,
    /// The clauses; all of them if none is chosen.
    #[serde(default, skip_serializing_if = "Part::is_whole")]
    pub part: Part,
    /// Whether everything is read anew: also files and packages that metadata says are the same since they were read.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read_all: bool,
    /// Whether grace and change windows are opened; an observing run says what would be done then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub now: bool,
    /// Whether nodes are enforced whose mode is observe.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub although_observing: bool,
    /// Whether the named clauses are corrected although their switches say report or wait; an observing run says what would be done then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub correct_once: bool,
}

/// Why a node does nothing of a sweep.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case", tag = "reason")]
pub enum Refused {
    /// Its mode is observe.
    Observing,
    /// Nothing on it may be changed.
    Frozen {
        /// The number of the freeze: 7 is called F7.
        no: i64,
        /// Until then.
        until: Timestamp,
        /// Why it was set.
        because: String,
    },
    /// Two machines have its identity.
    DuplicateIdentity,
    /// It is revoked.
    Revoked,
    /// Nothing is wanted of it yet.
    NoState,
    /// Its state has no such clause.
    NoSuchPart {
        /// Which.
        message: String,
    },
    /// The agent could not.
    Failed {
        /// Why.
        message: String,
    },
}

impl Refused {
    /// Returns that a freeze of all clauses keeps a node from it.
    pub fn by_freeze(freeze: &Freeze) -> Self {
        Self::Frozen { no: freeze.no, until: freeze.until, because: freeze.because.clone() }
    }

    /// Returns it in words.
    pub fn words(&self) -> Sentence {
        match self {
            Self::Observing => Sentence::new("mode is observe"),
            Self::Frozen { no, until, because } => {
                Sentence::new(format!("frozen by F{no} until ")).time(*until).text(format!(" ({because})"))
            }
            Self::DuplicateIdentity => Sentence::new("two machines have this identity"),
            Self::Revoked => Sentence::new("revoked"),
            Self::NoState => Sentence::new("it has no desired state yet"),
            Self::NoSuchPart { message } | Self::Failed { message } => Sentence::new(message.clone()),
        }
    }
}

impl SweepOrder {
    /// Returns an order about all clauses that opens nothing.
    pub fn of(mode: Mode) -> Self {
        Self {
            mode,
            part: Part::default(),
            read_all: false,
            now: false,
            although_observing: false,
            correct_once: false,
        }
    }

    /// Returns what is wrong with it: the field, and why.
    ///
    /// # Errors
    ///
    /// Returns the first thing that is wrong.
    pub fn check(&self) -> Result<(), (&'static str, String)> {
        if self.mode == Mode::Observe && self.although_observing {
            let why = "an observing sweep changes nothing: it is for `enforce`".to_owned();
            return Err(("although_observing", why));
        }
        if self.correct_once && self.part.clauses.is_empty() {
            return Err(("correct_once", "name the clauses that are corrected once".to_owned()));
        }
        if self.correct_once && self.part.clauses.iter().any(|clause| clause.contains('*')) {
            return Err((
                "correct_once",
                "name the clauses by their whole addresses, not by patterns".to_owned(),
            ));
        }
        Ok(())
    }

    /// Returns why a node with these settings does nothing of it at a moment; none if it does.
    pub fn refused_by(&self, settings: &RunSettings, now: Timestamp) -> Option<Refused> {
        if self.mode == Mode::Observe {
            return None;
        }
        if let Some(freeze) = settings.freeze_at(now) {
            return Some(Refused::by_freeze(freeze));
        }
        (settings.mode == Mode::Observe && !self.although_observing).then_some(Refused::Observing)
    }

    /// Returns what holds for the run of a node that has these settings otherwise. `chosen` are the clauses that it touches.
    pub fn run_settings(
        &self,
        usual: RunSettings,
        chosen: &Selection,
        observed: Option<Observed>,
    ) -> RunSettings {
        let correct_once = match chosen {
            Selection::Chosen(addresses) if self.correct_once => addresses.clone(),
            _ => BTreeSet::new(),
        };
        RunSettings { mode: self.mode, now: self.now, correct_once, observed, ..usual }
    }

    /// Returns it in words: `Enforce baseline kiosk-lockdown`.
    pub fn words(&self) -> String {
        let verb = match self.mode {
            Mode::Observe => "Observe",
            Mode::Enforce if self.correct_once => "Correct once",
            Mode::Enforce => "Enforce",
        };
        let part = self.part.words().unwrap_or_else(|| "all clauses".to_owned());
        let reading = if self.read_all { ", reading everything anew" } else { "" };
        let once = match self.mode {
            Mode::Observe if self.correct_once => ", for correcting them once",
            _ => "",
        };
        format!("{verb} {part}{reading}{once}")
    }
}
