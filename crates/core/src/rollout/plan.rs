//! How a rollout goes: its waves, how long each settles, and when it halts by itself.

use crate::sentence::span_words;
use crate::words::check_label;
use serde::{Deserialize, Serialize};

/// The most waves of a rollout.
const MAX_WAVES: usize = 20;
/// The longest that a wave settles: a week.
const MAX_SETTLE_SECS: u64 = 7 * 86_400;

/// How a rollout goes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct RolloutPlan {
    /// How many percent of the nodes have the change after each wave: cumulative, rising, 100 at the end; at most 20 waves.
    pub waves: Vec<u32>,
    /// For how many seconds a wave settles once 90 % of its heard nodes have finished a full run; at most a week.
    #[serde(default = "half_an_hour")]
    pub settle_secs: u64,
    /// It halts when more than this many percent of the nodes that received a wave are bad, and at least 3 of them, or all that are heard of a smaller wave.
    #[serde(default = "two_percent")]
    pub bad_above_percent: u32,
    /// The label within each of whose values the percentages count, for example `site`: then each site has nodes in the first wave.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub within: Option<String>,
}

fn half_an_hour() -> u64 {
    1_800
}

fn two_percent() -> u32 {
    2
}

/// What is wrong with a plan.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanError {
    /// Its waves.
    #[error("waves are 1 to {MAX_WAVES} rising percentages, the last one 100, for example 5%,25%,100%")]
    Waves,
    /// How long they settle.
    #[error("a wave settles for at most a week")]
    Settle,
    /// When it halts.
    #[error("it halts above a percentage of bad nodes from 0 to 99, for example bad > 2%")]
    Halt,
    /// The label.
    #[error("{0}")]
    Within(String),
}

impl PlanError {
    /// Returns the field that is wrong.
    pub fn field(&self) -> &'static str {
        match self {
            Self::Waves => "waves",
            Self::Settle => "settle_secs",
            Self::Halt => "bad_above_percent",
            Self::Within(_) => "within",
        }
    }
}

impl RolloutPlan {
    /// Returns it in words: `waves of 5 %, 25 %, 100 %; each settles for 30 min; halts when bad > 2 %; percentages within each site`.
    pub fn words(&self) -> String {
        let waves: Vec<String> = self.waves.iter().map(|percent| format!("{percent} %")).collect();
        let settle = span_words(i64::try_from(self.settle_secs).unwrap_or(i64::MAX));
        let within = self
            .within
            .as_ref()
            .map(|label| format!("; percentages within each {label}"))
            .unwrap_or_default();
        format!(
            "waves of {}; each settles for {settle}; halts when bad > {} %{within}",
            waves.join(", "),
            self.bad_above_percent
        )
    }

    /// Checks that it can be followed.
    ///
    /// # Errors
    ///
    /// Returns the first thing that is wrong.
    pub fn check(&self) -> Result<(), PlanError> {
        let rises = self.waves.windows(2).all(|pair| pair[0] < pair[1]);
        let is_whole = self.waves.first().is_some_and(|first| *first > 0) && self.waves.last() == Some(&100);
        if !rises || !is_whole || self.waves.len() > MAX_WAVES {
            return Err(PlanError::Waves);
        }
        if self.settle_secs > MAX_SETTLE_SECS {
            return Err(PlanError::Settle);
        }
        if self.bad_above_percent > 99 {
            return Err(PlanError::Halt);
        }
        self.within.as_ref().map_or(Ok(()), |key| check_label(key, "").map_err(PlanError::Within))
    }
}

/// Reads waves as a person writes them, `5%,25%,100%`.
///
/// # Errors
///
/// Returns that they are none.
pub fn read_waves(text: &str) -> Result<Vec<u32>, PlanError> {
    text.split(',').map(read_percent).collect::<Option<_>>().ok_or(PlanError::Waves)
}

/// Reads when a rollout halts as a person writes it, `bad > 2%`.
///
/// # Errors
///
/// Returns that it is not that.
pub fn read_halt(text: &str) -> Result<u32, PlanError> {
    let above = text.trim().strip_prefix("bad").and_then(|rest| rest.trim_start().strip_prefix('>'));
    above.and_then(read_percent).ok_or(PlanError::Halt)
}

fn read_percent(text: &str) -> Option<u32> {
    let digits = text.trim().strip_suffix('%')?.trim_end();
    digits.bytes().all(|byte| byte.is_ascii_digit()).then(|| digits.parse().ok())?
}
