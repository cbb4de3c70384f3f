//! A concrete clause and the effective state that it is part of.

use super::digested::{LastDigest, state_digest};
use crate::address::ClauseAddress;
use crate::digest::{self, Digest, DigestKey};
use crate::hours::WeeklyHours;
use crate::kind::{self, Claim, CustomKind, Kind, Matcher, Property, Reaction};
use crate::kit::{Gone, OnDrift, OnRollout, Severity};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

/// The key of a sealed value's name.
pub(super) const SEALED: &str = "constans_sealed";

/// A switch's value and who set it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Switch<T> {
    /// The value.
    pub value: T,
    /// Who set it.
    pub from: SwitchFrom,
}

/// Who set a switch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
#[expect(missing_docs, reason = "the words say it")]
pub enum SwitchFrom {
    Clause,
    Assignment,
    Baseline,
    Group,
}

/// The release and baseline that a clause comes from.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Origin {
    /// The kit's name.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub kit: Arc<str>,
    /// The kit's version.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub version: semver::Version,
    /// The baseline's name.
    #[cfg_attr(feature = "schema", schema(value_type = String))]
    pub baseline: Arc<str>,
}

/// A property that is compared with what is found: its name, its value, and how the two are compared with each other.
pub type Compared<'c> = (&'c str, Cow<'c, Value>, Matcher);

/// One thing on a node and how it should be: nothing is left to be rendered or decided.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Clause {
    /// Its address.
    pub address: ClauseAddress,
    /// Other addresses that mean it, since equal clauses were merged.
    pub also: Vec<ClauseAddress>,
    /// What it keeps.
    pub claim: Claim,
    /// Its properties in normal form. A file's contents are `content`, a digest.
    pub properties: BTreeMap<String, Value>,
    /// The properties whose values are never shown.
    pub concealed: BTreeSet<String>,
    /// Whether it must not exist.
    pub gone: Gone,
    /// Its severity.
    pub severity: Severity,
    /// The controls that it satisfies.
    pub satisfies: BTreeSet<String>,
    /// Words to select it by.
    pub topics: BTreeSet<String>,
    /// What must be in line before it is corrected.
    pub needs: Vec<ClauseAddress>,
    /// Needs that conditions exclude on this node.
    pub dropped_needs: Vec<ClauseAddress>,
    /// What it reacts to.
    pub reacts_to: Vec<ClauseAddress>,
    /// How it reacts.
    pub reaction: Option<Reaction>,
    /// Its switch for drift, unless the group's counts.
    pub on_drift: Option<Switch<OnDrift>>,
    /// Its switch for what is newly wanted, unless the group's counts.
    pub on_rollout: Option<Switch<OnRollout>>,
    /// Hours in which it may be corrected, within the node's change window: of each of these lists, some must be open.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub change_windows: Vec<Vec<WeeklyHours>>,
    /// Its own grace in seconds.
    pub grace_secs: Option<u64>,
    /// The backend to use.
    pub via: Option<String>,
    /// Where it comes from; more than one if clauses were merged.
    pub origins: Vec<Origin>,
    /// Why it cannot be decided here: fields that the node did not report.
    pub undecidable: Option<String>,
    /// What its kit declares of its kind, if it is a custom one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub custom: Option<Arc<CustomKind>>,
    /// Over all that describes the node.
    pub wanted: Digest,
    /// What is known of its digest.
    #[serde(skip)]
    pub last_digest: LastDigest,
}

impl Clause {
    /// Returns the names of the contents and sealed values that the clause refers to.
    pub fn names(&self) -> Vec<String> {
        let sealed =
            self.properties.values().filter_map(|value| value.get(SEALED)?.as_str().map(str::to_owned));
        self.content_names().into_iter().chain(sealed).collect()
    }

    fn content_names(&self) -> Vec<String> {
        let mut names: Vec<String> = self.text("content").map(str::to_owned).into_iter().collect();
        if matches!(self.address.kind(), "tree" | "package_source") {
            let copies = self
                .get("copy")
                .and_then(Value::as_object)
                .into_iter()
                .flatten()
                .filter_map(|(_, digest)| digest.as_str());
            names.extend(copies.chain(self.text("signed_by")).map(str::to_owned));
        }
        names.extend(self.custom.as_ref().map(|custom| custom.program_digest.to_string()));
        names
    }

    /// Returns a clause with all properties of its kind: inspecting it reads the present values.
    /// `known` are the properties that distinguish the thing from others.
    pub fn asking(address: ClauseAddress, kind: &Kind, known: &BTreeMap<String, Value>) -> Self {
        let described = kind
            .properties()
            .filter(|property| property.describes_node)
            .map(|property| (property.name.to_owned(), Value::Null));
        let mut properties: BTreeMap<String, Value> = described.collect();
        properties.extend(known.clone());
        Self {
            claim: kind.claim_of(address.name(), known),
            also: Vec::new(),
            properties,
            concealed: BTreeSet::new(),
            gone: Gone::No,
            severity: Severity::Medium,
            satisfies: BTreeSet::new(),
            topics: BTreeSet::new(),
            needs: Vec::new(),
            dropped_needs: Vec::new(),
            reacts_to: Vec::new(),
            reaction: None,
            on_drift: None,
            on_rollout: None,
            change_windows: Vec::new(),
            grace_secs: None,
            via: None,
            origins: Vec::new(),
            undecidable: None,
            custom: kind.custom().map(|custom| Arc::new(custom.for_agents())),
            wanted: digest::none(),
            last_digest: LastDigest::default(),
            address,
        }
    }

    /// Returns its kind; [`kind::UNKNOWN`] if this version does not know it.
    pub fn kind(&self) -> Kind {
        match &self.custom {
            Some(custom) => Kind::Declared(Arc::clone(custom)),
            None => kind::find(self.address.kind()).unwrap_or(&kind::UNKNOWN).clone(),
        }
    }

    /// Returns why an agent of this version cannot examine the clause: a newer server may say what it does not know.
    pub fn not_known(&self) -> Option<String> {
        let version = env!("CARGO_PKG_VERSION");
        let is_known = self.custom.is_some() || kind::find(self.address.kind()).is_some();
        let what = match &self.claim {
            _ if !is_known => format!("the kind `{}`", self.address.kind()),
            Claim::Unknown(_) => format!("what the clause claims of a {}", self.address.kind()),
            _ => return None,
        };
        Some(format!("this agent, version {version}, does not know {what}: upgrade it"))
    }

    /// Returns the name within its kind.
    pub fn name(&self) -> &str {
        self.address.name()
    }

    /// Returns a property.
    pub fn get(&self, property: &str) -> Option<&Value> {
        self.properties.get(property)
    }

    /// Returns a property that is a text.
    pub fn text(&self, property: &str) -> Option<&str> {
        self.get(property).and_then(Value::as_str)
    }

    /// Returns a property that is a boolean.
    pub fn flag(&self, property: &str) -> Option<bool> {
        self.get(property).and_then(Value::as_bool)
    }

    /// Returns a property that is a list of texts.
    pub fn list(&self, property: &str) -> Vec<&str> {
        self.get(property)
            .and_then(Value::as_array)
            .map(|items| items.iter().filter_map(Value::as_str).collect())
            .unwrap_or_default()
    }

    /// Returns the properties of its kind.
    fn own_properties(&self) -> impl Iterator<Item = Property<'_>> + Clone {
        let table = if self.custom.is_none() { kind::find(self.address.kind()) } else { None };
        let declared = self.custom.iter().flat_map(|custom| custom.declared_properties());
        table.into_iter().flat_map(Kind::properties).chain(declared)
    }

    /// Returns the properties that describe the node, in the order of the kind's table.
    pub fn described(&self) -> Vec<(&str, &Value, Matcher)> {
        let content = self.properties.get("content").map(|value| ("content", value, Matcher::Equal));
        let own = self.own_properties().filter(|property| property.describes_node);
        content
            .into_iter()
            .chain(own.filter_map(|property| {
                Some((property.name, self.properties.get(property.name)?, property.matcher))
            }))
            .collect()
    }

    /// Returns the properties that are compared with what is found: those that describe the node, and what left-out ones
    /// count as. If one condition covers all of it, that alone.
    pub fn compared(&self) -> Vec<Compared<'_>> {
        let own = self.own_properties();
        let by_condition = own.clone().any(|property| property.matcher == Matcher::Holds);
        let content = self.properties.get("content").filter(|_| !by_condition);
        let mut compared = Vec::with_capacity(self.properties.len());
        compared.extend(content.map(|value| ("content", Cow::Borrowed(value), Matcher::Equal)));
        for property in own.filter(|property| {
            property.describes_node && (!by_condition || property.matcher == Matcher::Holds)
        }) {
            let left_out = || Some(Cow::Owned(Value::Bool(property.default?.parse().ok()?)));
            let value = self.properties.get(property.name).map(Cow::Borrowed).or_else(left_out);
            compared.extend(value.map(|value| (property.name, value, property.matcher)));
        }
        compared
    }

    /// Returns whether it does something only when something else was corrected.
    pub fn is_only_a_reaction(&self) -> bool {
        self.address.kind() == "command" && !self.properties.contains_key("in_line_when")
    }
}

/// Everything that one node should be.
#[derive(Debug, Clone, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct EffectiveState {
    /// The clauses in the order in which they are handled.
    pub clauses: Vec<Clause>,
    /// Over all of it.
    pub digest: Digest,
}

impl Default for EffectiveState {
    fn default() -> Self {
        Self::new(Vec::new(), &DigestKey::new(""))
    }
}

impl EffectiveState {
    /// Puts clauses, already in order, together.
    pub fn new(clauses: Vec<Clause>, key: &DigestKey) -> Self {
        Self { digest: state_digest(&clauses, Some(key)), clauses }
    }

    /// Puts clauses together for a check, which needs no digest.
    pub(super) fn unnamed(clauses: Vec<Clause>) -> Self {
        Self { digest: digest::none(), clauses }
    }

    /// Takes what is concealed out, so that the state can be stored and sent: a keyed digest replaces it.
    ///
    /// Returns the values under the names of their digests; they are given only to the nodes whose state names them.
    pub fn seal(&mut self, key: &DigestKey) -> BTreeMap<Digest, Vec<u8>> {
        let mut sealed = BTreeMap::new();
        for clause in &mut self.clauses {
            for name in clause.concealed.iter().filter(|name| *name != "content") {
                if let Some(value) = clause.properties.get_mut(name) {
                    let bytes = digest::canonical(value);
                    let digest = key.digest(&bytes);
                    *value = json!({ SEALED: digest });
                    sealed.insert(digest, bytes);
                }
            }
        }
        sealed
    }

    /// Returns whether a sealed state is the one that its digest names; sealed values count by their names.
    pub fn is_as_named(&self) -> bool {
        state_digest(&self.clauses, None) == self.digest
    }

    /// Returns the names of all contents and sealed values that the state refers to.
    pub fn names(&self) -> BTreeSet<String> {
        self.clauses.iter().flat_map(Clause::names).collect()
    }

    /// Returns the names of all contents that the state refers to: of files, of trees, of keys, of programs.
    pub fn content_names(&self) -> BTreeSet<String> {
        self.clauses.iter().flat_map(Clause::content_names).collect()
    }

    /// Puts sealed values back in, from where `value_of` finds them by name.
    ///
    /// # Errors
    ///
    /// Returns the name that is not known.
    pub fn unseal(&mut self, value_of: impl Fn(&str) -> Option<Value>) -> Result<(), String> {
        for value in self.clauses.iter_mut().flat_map(|clause| clause.properties.values_mut()) {
            if let Some(name) = value.get(SEALED).and_then(Value::as_str).map(str::to_owned) {
                *value = value_of(&name).ok_or(name)?;
            }
        }
        Ok(())
    }

    /// Returns the index of the clause with this address; merged ones are found by each of their names.
    pub fn position(&self, address: &ClauseAddress) -> Option<usize> {
        self.clauses.iter().position(|clause| clause.address == *address || clause.also.contains(address))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::state::digested::tests::full;
    use crate::state::testing::clause;

    #[test]
    fn a_sealed_state_is_known_by_its_digest_and_a_changed_one_is_not() {
        let key = DigestKey::new("key");
        let concealed = Clause {
            concealed: BTreeSet::from(["password_hash".into()]),
            ..clause("account:ops").with("password_hash", "$y$j9T$x")
        };
        let mut state = EffectiveState::new(vec![full(), concealed], &key);
        state.seal(&key);
        assert!(state.is_as_named());
        let sent = serde_json::to_string(&state).unwrap();
        assert!(
            !sent.contains("$y$") && serde_json::from_str::<EffectiveState>(&sent).unwrap().is_as_named()
        );
        let changed: EffectiveState = serde_json::from_str(&sent.replace("0644", "0666")).unwrap();
        assert!(!changed.is_as_named());
    }
}
