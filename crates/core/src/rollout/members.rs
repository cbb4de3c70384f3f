//! Which node belongs to which wave.

use ring::digest::{SHA256, digest};
use std::collections::BTreeMap;

/// A node that a rollout reaches.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its id, as it is written.
    pub id: String,
    /// The value of the label within which the percentages count; empty without one.
    pub within: String,
}

/// Returns the wave of each member, from 1 on, in the order of the members. Within each value of the label, members are ordered by the
/// SHA-256 of the rollout and their id, so that no rollout begins with the same nodes; of `n` members the first ⌈n × percent ÷ 100⌉ belong to a
/// wave or one before it, and so each value has one in the first wave.
pub fn waves_of(rollout: i64, percents: &[u32], members: &[Member]) -> Vec<usize> {
    let mut by_value: BTreeMap<&str, Vec<usize>> = BTreeMap::new();
    for (at, member) in members.iter().enumerate() {
        by_value.entry(&member.within).or_default().push(at);
    }
    let mut waves = vec![percents.len(); members.len()];
    for mut alike in by_value.into_values() {
        let place = |at: &usize| {
            let hash = digest(&SHA256, format!("{rollout} {}", members[*at].id).as_bytes());
            hash.as_ref().to_vec()
        };
        alike.sort_by_cached_key(place);
        let all = alike.len() as u64;
        for (place, at) in alike.into_iter().enumerate() {
            let is_within = |percent: &u32| (place as u64) < (all * u64::from(*percent)).div_ceil(100);
            waves[at] = percents.iter().position(is_within).map_or(percents.len(), |wave| wave + 1);
        }
    }
    waves
}

/// Returns how many members each wave has.
pub fn counts_by_wave(waves: &[usize], of: usize) -> Vec<u64> {
    (1..=of).map(|wave| waves.iter().filter(|its| **its == wave).count() as u64).collect()
}
