//! Clauses for tests: only what matters is said.

use super::clause::{Clause, EffectiveState, Switch, SwitchFrom};
use crate::address::ClauseAddress;
use crate::digest::{self, DigestKey};
use crate::kind::{self, Reaction};
use crate::kit::{Gone, OnDrift, OnRollout};
use serde_json::Value;
use std::collections::BTreeMap;

/// Returns a clause that wants its thing to be there and no more.
pub fn clause(address: &str) -> Clause {
    let address = ClauseAddress::parse(address).unwrap();
    let kind = kind::find(address.kind()).unwrap();
    Clause {
        properties: BTreeMap::new(),
        wanted: digest::of_contents(b""),
        ..Clause::asking(address, kind, &BTreeMap::new())
    }
}

impl Clause {
    pub(crate) fn with(mut self, property: &str, value: impl Into<Value>) -> Self {
        self.properties.insert(property.into(), value.into());
        self
    }

    pub(crate) fn gone(mut self, gone: Gone) -> Self {
        self.gone = gone;
        self
    }

    pub(crate) fn conceal(mut self, property: &str) -> Self {
        self.concealed.insert(property.into());
        self
    }

    pub(crate) fn needs(mut self, address: &str) -> Self {
        self.needs.push(ClauseAddress::parse(address).unwrap());
        self
    }

    pub(crate) fn reacts(mut self, to: &str, reaction: Reaction) -> Self {
        self.reacts_to.push(ClauseAddress::parse(to).unwrap());
        self.reaction = Some(reaction);
        self
    }

    pub(crate) fn tell(mut self) -> Self {
        self.on_drift = Some(Switch { value: OnDrift::Report, from: SwitchFrom::Clause });
        self
    }

    pub(crate) fn wait(mut self, from: SwitchFrom) -> Self {
        self.on_rollout = Some(Switch { value: OnRollout::Wait, from });
        self
    }

    pub(crate) fn grace(mut self, secs: u64) -> Self {
        self.grace_secs = Some(secs);
        self
    }
}

/// Puts clauses together as they are.
pub fn state(clauses: Vec<Clause>) -> EffectiveState {
    let key = DigestKey::new("test");
    let clauses =
        clauses.into_iter().map(|clause| Clause { wanted: clause.wanted_digest(&key), ..clause }).collect();
    EffectiveState::new(clauses, &key)
}
