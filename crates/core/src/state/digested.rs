//! The digests of clauses and states: what enters them, and what is known of them already.

use super::clause::{Clause, Origin, SEALED, Switch, SwitchFrom};
use crate::address::ClauseAddress;
use crate::digest::{self, ByName, Canonical, Digest, DigestKey};
use crate::kind::Reaction;
use crate::kit::{Gone, OnDrift, OnRollout, Severity};
use serde::{Serialize, Serializer};
use serde_json::{Value, json};
use std::collections::BTreeSet;
use std::sync::{Arc, Mutex, PoisonError};

/// The scheme of wanted digests.
pub const WANTED_SCHEME: &str = "w1";
/// The scheme of the digests of clauses.
pub const CLAUSE_SCHEME: &str = "c1";
/// The scheme of the digests of effective states: over the digests of their clauses.
pub const STATE_SCHEME: &str = "s2";

/// Returns the digest of a state of these clauses.
pub(super) fn state_digest(clauses: &[Clause], key: Option<&DigestKey>) -> Digest {
    let digests: Vec<Digest> = clauses.iter().map(|clause| clause.digest_by(key)).collect();
    digest::of_sorted_at_once(STATE_SCHEME, &digests)
}

/// What a clause was like when its digest was computed last, and that digest. Its copies share it: on most nodes they come to
/// the same, and it need not be computed again. It does not distinguish clauses.
#[derive(Debug, Clone, Default)]
pub struct LastDigest(Option<Arc<Mutex<Option<Digested>>>>);

type Digested = (Clause, Digest);

impl LastDigest {
    /// Begins to share.
    pub(super) fn shared() -> Self {
        Self(Some(Arc::default()))
    }
}

impl PartialEq for LastDigest {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Clause {
    /// Returns the digest over all that the agent must know of the clause. It is that of a sealed one too.
    pub fn digest(&self) -> Digest {
        self.digest_by(None)
    }

    /// Returns the same of one that is not sealed yet, by the key of what is concealed.
    fn digest_by(&self, key: Option<&DigestKey>) -> Digest {
        let compute = || digest::of_sorted(CLAUSE_SCHEME, &self.whole(key));
        let Some(last) = self.last_digest.0.as_ref().filter(|_| self.concealed.is_empty()) else {
            return compute();
        };
        let mut last = last.lock().unwrap_or_else(PoisonError::into_inner);
        match &*last {
            Some((clause, digest)) if clause == self => digest.clone(),
            _ => {
                let digest = compute();
                *last = Some((Self { last_digest: LastDigest::default(), ..self.clone() }, digest.clone()));
                digest
            }
        }
    }

    /// Computes the wanted digest: over the address, `gone`, and the properties that describe the node.
    pub(crate) fn wanted_digest(&self, key: &DigestKey) -> Digest {
        let properties = self
            .described()
            .into_iter()
            .map(|(name, value, _)| (name, self.digestable(name, value, Some(key))))
            .collect();
        digest::of_sorted(
            WANTED_SCHEME,
            &WantedDigestInput { address: &self.address, gone: self.gone, properties },
        )
    }

    /// Returns a value as it is digested: what is concealed by its name, which a sealed value has already.
    fn digestable<'c>(&self, name: &str, value: &'c Value, key: Option<&DigestKey>) -> Digestable<'c> {
        match key {
            Some(key) if self.concealed.contains(name) && name != "content" => {
                Digestable::Named(key.digest(&digest::canonical(value)))
            }
            None if value.get(SEALED).is_some() => Digestable::Plain(Canonical(&value[SEALED])),
            _ => Digestable::Plain(Canonical(value)),
        }
    }

    /// Returns all that the agent must know of the clause, with what is concealed as keyed digests; without a key, of a sealed one.
    fn whole(&self, key: Option<&DigestKey>) -> ClauseDigestInput<'_> {
        ClauseDigestInput {
            address: &self.address,
            also: &self.also,
            change_windows: self.change_windows.iter().map(|hours| CanonicalOwned(json!(hours))).collect(),
            concealed: &self.concealed,
            custom: self.custom.as_ref().map(|custom| CanonicalOwned(json!(custom))),
            dropped_needs: &self.dropped_needs,
            gone: self.gone,
            grace_secs: self.grace_secs,
            needs: &self.needs,
            on_drift: self.on_drift.map(SwitchDigestInput::of),
            on_rollout: self.on_rollout.map(SwitchDigestInput::of),
            origins: self.origins.iter().map(OriginDigestInput::of).collect(),
            properties: self
                .properties
                .iter()
                .map(|(name, value)| (name.as_str(), self.digestable(name, value, key)))
                .collect(),
            reaction: self.reaction,
            reacts_to: &self.reacts_to,
            satisfies: &self.satisfies,
            severity: self.severity,
            topics: &self.topics,
            undecidable: &self.undecidable,
            via: &self.via,
            wanted: &self.wanted,
        }
    }
}

/// What a wanted digest is over. The order of the fields is that of their names, here and below.
#[derive(Serialize)]
struct WantedDigestInput<'c> {
    address: &'c ClauseAddress,
    gone: Gone,
    properties: ByName<'c, Digestable<'c>>,
}

/// What of a clause the digest of a state is over.
#[derive(Serialize)]
struct ClauseDigestInput<'c> {
    address: &'c ClauseAddress,
    also: &'c [ClauseAddress],
    #[serde(skip_serializing_if = "Vec::is_empty")]
    change_windows: Vec<CanonicalOwned>,
    concealed: &'c BTreeSet<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    custom: Option<CanonicalOwned>,
    dropped_needs: &'c [ClauseAddress],
    gone: Gone,
    grace_secs: Option<u64>,
    needs: &'c [ClauseAddress],
    on_drift: Option<SwitchDigestInput<OnDrift>>,
    on_rollout: Option<SwitchDigestInput<OnRollout>>,
    origins: Vec<OriginDigestInput<'c>>,
    properties: ByName<'c, Digestable<'c>>,
    reaction: Option<Reaction>,
    reacts_to: &'c [ClauseAddress],
    satisfies: &'c BTreeSet<String>,
    severity: Severity,
    topics: &'c BTreeSet<String>,
    undecidable: &'c Option<String>,
    via: &'c Option<String>,
    wanted: &'c Digest,
}

#[derive(Serialize)]
struct OriginDigestInput<'c> {
    baseline: &'c str,
    kit: &'c str,
    version: &'c semver::Version,
}

impl<'c> OriginDigestInput<'c> {
    fn of(Origin { kit, version, baseline }: &'c Origin) -> Self {
        Self { baseline, kit, version }
    }
}

#[derive(Serialize)]
struct SwitchDigestInput<T> {
    from: SwitchFrom,
    value: T,
}

impl<T> SwitchDigestInput<T> {
    fn of(Switch { value, from }: Switch<T>) -> Self {
        Self { from, value }
    }
}

#[derive(Serialize)]
#[serde(untagged)]
enum Digestable<'c> {
    Named(Digest),
    Plain(Canonical<'c>),
}

struct CanonicalOwned(Value);

impl Serialize for CanonicalOwned {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        Canonical(&self.0).serialize(serializer)
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use crate::state::clause::EffectiveState;
    use crate::state::testing::clause;

    /// A clause that says everything there is to say.
    pub fn full() -> Clause {
        let address = |text: &str| ClauseAddress::parse(text).unwrap();
        let own = |value| Switch { value, from: SwitchFrom::Assignment };
        Clause {
            also: vec![address("file:/etc/motd")],
            concealed: BTreeSet::from(["secret".into()]),
            needs: vec![address("account:ops"), address("package:kiosk-shell")],
            dropped_needs: vec![address("package:gate-reader")],
            reacts_to: vec![address("file:/etc/kiosk/shell.conf")],
            reaction: Some(Reaction::Restart),
            on_drift: Some(own(OnDrift::Report)),
            on_rollout: Some(Switch { value: OnRollout::Wait, from: SwitchFrom::Clause }),
            change_windows: vec![
                serde_json::from_value(
                    json!([{ "days": ["sat", "sun"], "from": "22:00", "until": "04:00" }]),
                )
                .unwrap(),
            ],
            grace_secs: Some(60),
            via: Some("systemd".into()),
            origins: vec![Origin {
                kit: "quay-base".into(),
                version: semver::Version::new(1, 3, 0),
                baseline: "login".into(),
            }],
            undecidable: Some("about.virtual".into()),
            topics: BTreeSet::from(["settings".into(), "login".into()]),
            satisfies: BTreeSet::from(["SK-7".into(), "SK-3".into()]),
            ..clause("file:/etc/issue")
                .with("permissions", "0644")
                .with("content", json!({ "\u{e9}": 1.5e21, "z": [true, null], "a": { "y": 1, "b": 2 } }))
        }
    }

    #[test]
    fn what_is_digested_is_written_in_the_order_of_its_names() {
        let key = DigestKey::new("key");
        let clause = full();
        let whole = clause.whole(Some(&key));
        assert_eq!(
            String::from_utf8(digest::written(&whole)).unwrap(),
            serde_json_canonicalizer::to_string(&whole).unwrap()
        );
        let properties = clause
            .properties
            .iter()
            .map(|(name, value)| (name.as_str(), clause.digestable(name, value, Some(&key))))
            .collect();
        let wanted = WantedDigestInput { address: &clause.address, gone: Gone::Yes, properties };
        assert_eq!(
            String::from_utf8(digest::written(&wanted)).unwrap(),
            serde_json_canonicalizer::to_string(&wanted).unwrap()
        );
    }

    #[test]
    fn what_is_known_of_a_digest_is_that_of_the_same_clause_only() {
        let key = DigestKey::new("key");
        let shared = Clause { last_digest: LastDigest::shared(), ..full() };
        let moved = Clause { needs: Vec::new(), ..shared.clone() };
        for clause in [&shared, &moved, &shared, &moved.clone(), &shared] {
            assert_eq!(
                clause.digest(),
                Clause { last_digest: LastDigest::default(), ..clause.clone() }.digest()
            );
        }
        assert_ne!(shared.digest(), moved.digest());
        let one = EffectiveState::new(vec![shared.clone(), moved.clone()], &key);
        assert_ne!(one.digest, EffectiveState::new(vec![moved, shared], &key).digest, "their order counts");
    }
}
