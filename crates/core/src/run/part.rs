//! The part of a state that a run is to touch, as persons name it.

use super::action::Selection;
use crate::address::{ClauseAddress, fits};
use crate::nearest::nearest_word;
use crate::state::{EffectiveState, Origin};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// A chosen part: the clauses that all of it fits. All clauses, if nothing is chosen.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Part {
    /// The addresses of clauses, or patterns of them.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub clauses: BTreeSet<String>,
    /// Their topics.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub topics: BTreeSet<String>,
    /// The baseline that they come from, with or without its kit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub baseline: Option<String>,
}

/// Why nothing of a state is chosen.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{message}")]
pub struct NoSuchPart {
    /// What is not there.
    pub message: String,
    /// What is.
    pub hint: Option<String>,
}

impl Part {
    /// Returns whether all clauses are chosen.
    pub fn is_whole(&self) -> bool {
        *self == Self::default()
    }

    /// Returns whether a clause with this address, these topics and these origins is chosen.
    pub fn has<'t>(
        &self,
        address: &ClauseAddress,
        topics: impl IntoIterator<Item = &'t String>,
        origins: &[Origin],
    ) -> bool {
        let by_address = self.clauses.is_empty() || self.clauses.iter().any(|pattern| fits(pattern, address));
        let by_topic = self.topics.is_empty() || topics.into_iter().any(|topic| self.topics.contains(topic));
        by_address
            && by_topic
            && self.baseline.as_deref().is_none_or(|baseline| comes_from(origins, baseline))
    }

    /// Returns the chosen clauses of a state.
    ///
    /// # Errors
    ///
    /// Returns which address, topic or baseline no clause has, or that no clause has all of them together.
    pub fn of(&self, state: &EffectiveState) -> Result<Selection, NoSuchPart> {
        if self.is_whole() {
            return Ok(Selection::Whole);
        }
        if let Some(baseline) = self.baseline.as_deref()
            && !state.clauses.iter().any(|clause| comes_from(&clause.origins, baseline))
        {
            return Err(no_such_baseline(state, baseline));
        }
        for pattern in &self.clauses {
            if !state.clauses.iter().any(|clause| fits(pattern, &clause.address)) {
                let near = nearest_word(pattern, state.clauses.iter().map(|clause| clause.address.as_str()));
                let hint = near.map(|near| format!("did you mean `{near}`?"));
                return Err(NoSuchPart { message: format!("no clause matches `{pattern}`"), hint });
            }
        }
        for topic in &self.topics {
            if !state.clauses.iter().any(|clause| clause.topics.contains(topic)) {
                let known: BTreeSet<&str> =
                    state.clauses.iter().flat_map(|clause| &clause.topics).map(String::as_str).collect();
                let hint = Some(format!("topics are {}", known.into_iter().collect::<Vec<_>>().join(", ")));
                return Err(NoSuchPart { message: format!("no clause has the topic `{topic}`"), hint });
            }
        }
        let chosen =
            state.clauses.iter().filter(|clause| self.has(&clause.address, &clause.topics, &clause.origins));
        let chosen: BTreeSet<ClauseAddress> = chosen.map(|clause| clause.address.clone()).collect();
        if chosen.is_empty() {
            let message = "no clause matches the addresses, topics and baseline together".to_owned();
            return Err(NoSuchPart { message, hint: None });
        }
        Ok(Selection::Chosen(chosen))
    }

    /// Returns it in words: `clauses file:/etc/issue, topic network`; none if all clauses are chosen.
    pub fn words(&self) -> Option<String> {
        let listed =
            |words: &BTreeSet<String>| words.iter().map(String::as_str).collect::<Vec<_>>().join(", ");
        let mut parts = Vec::new();
        if let Some(baseline) = &self.baseline {
            parts.push(format!("baseline {baseline}"));
        }
        if !self.topics.is_empty() {
            parts.push(format!("topic {}", listed(&self.topics)));
        }
        if !self.clauses.is_empty() {
            parts.push(listed(&self.clauses));
        }
        (!parts.is_empty()).then(|| parts.join("; "))
    }
}

/// Returns whether a clause with these origins comes from a baseline, named with or without its kit.
fn comes_from(origins: &[Origin], baseline: &str) -> bool {
    origins.iter().any(|origin| match baseline.split_once('/') {
        Some((kit, name)) => *origin.kit == *kit && *origin.baseline == *name,
        None => *origin.baseline == *baseline,
    })
}

fn no_such_baseline(state: &EffectiveState, baseline: &str) -> NoSuchPart {
    let origins = state.clauses.iter().flat_map(|clause| &clause.origins);
    let is_with_kit = baseline.contains('/');
    let name = |origin: &Origin| {
        if is_with_kit { format!("{}/{}", origin.kit, origin.baseline) } else { origin.baseline.to_string() }
    };
    let known: BTreeSet<String> = origins.map(name).collect();
    let known: Vec<&str> = known.iter().map(String::as_str).collect();
    let hint = match known.as_slice() {
        [] => "this node is assigned none yet".to_owned(),
        known => nearest_word(baseline, known.iter().copied())
            .map_or_else(|| format!("it has {}", known.join(", ")), |near| format!("did you mean `{near}`?")),
    };
    let message = format!("no clause of this node comes from a baseline `{baseline}`");
    NoSuchPart { message, hint: Some(hint) }
}
