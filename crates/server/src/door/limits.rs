//! How many connections there may be: of one network, of strangers, of one node, and in all.

use crate::callers::network_of;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::collections::HashMap;
use std::hash::Hash;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};
use uuid::Uuid;

/// For the database, files and what else the process has open.
const OTHER_DESCRIPTORS: u64 = 256;
const MAX_DESCRIPTORS: u64 = 262_144;
const MAX_CONNECTIONS: u64 = 50_000;
/// This many connections one node may have: its daemon has two, and each command of its agent one.
const MAX_OF_NODE: usize = 64;

/// How many connections this process's descriptors are enough for: three quarters of them are for callers, of whom most nodes only wait,
/// and a quarter for connections to Rocket, which have two ends here.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Room {
    /// Connections of callers.
    pub callers: usize,
    /// Connections to Rocket: requests that are under way.
    pub behind: usize,
}

impl Room {
    /// Raises how many descriptors this process may have as far as it is let, and returns what they are enough for.
    pub fn take() -> Self {
        let limit = getrlimit(Resource::Nofile);
        let most = limit.maximum.unwrap_or(MAX_DESCRIPTORS).min(MAX_DESCRIPTORS);
        let before = limit.current.unwrap_or(MAX_DESCRIPTORS);
        let raised = before < most
            && setrlimit(Resource::Nofile, Rlimit { current: Some(most), maximum: limit.maximum }).is_ok();
        Self::of(if raised { most } else { before })
    }

    fn of(descriptors: u64) -> Self {
        let left = descriptors.saturating_sub(OTHER_DESCRIPTORS);
        let at_most = |number: u64, most: u64| usize::try_from(number.clamp(16, most)).unwrap_or(16);
        Self {
            callers: at_most(left / 4 * 3, MAX_CONNECTIONS),
            behind: at_most(left / 8, MAX_CONNECTIONS / 8),
        }
    }

    /// Returns the share of nodes: they are more than people, and most of them only wait.
    pub fn of_nodes(self) -> Self {
        Self { callers: self.callers / 4 * 3, behind: self.behind / 2 }
    }

    /// Returns the share of people.
    pub fn of_people(self) -> Self {
        Self { callers: self.callers / 4, behind: self.behind / 2 }
    }

    /// Returns how many requests may be held: others check in and report meanwhile.
    pub fn held(self) -> usize {
        self.callers - self.behind
    }
}

/// The connections that a listener may have.
#[derive(Debug, Clone, Copy)]
pub struct Most {
    /// In all.
    pub in_all: usize,
    /// Of callers who showed no certificate.
    pub strangers: usize,
    /// Of those, from one network.
    pub strangers_of_network: usize,
}

#[derive(Default)]
struct Counts {
    in_all: usize,
    strangers: usize,
    of_network: HashMap<IpAddr, usize>,
    of_node: HashMap<Uuid, usize>,
}

/// Counts the connections of a listener.
pub struct Limits {
    most: Most,
    counts: Mutex<Counts>,
}

/// A connection that is counted, until it is dropped.
pub struct CountedConnection {
    limits: Arc<Limits>,
    /// The network it counts for, as long as it is a stranger's.
    stranger_of: Option<IpAddr>,
    /// The node that it counts for.
    node: Option<Uuid>,
}

impl Limits {
    /// Begins to count.
    pub fn new(most: Most) -> Arc<Self> {
        Arc::new(Self { most, counts: Mutex::default() })
    }

    /// Takes a place for a connection from this address, which is a stranger's until it identifies itself; `None`: there is none.
    pub fn take(self: &Arc<Self>, address: IpAddr) -> Option<CountedConnection> {
        let network = network_of(address);
        let mut counts = self.counts.lock().unwrap_or_else(PoisonError::into_inner);
        let here = counts.of_network.get(&network).copied().unwrap_or(0);
        if counts.in_all >= self.most.in_all
            || counts.strangers >= self.most.strangers
            || here >= self.most.strangers_of_network
        {
            return None;
        }
        counts.in_all += 1;
        counts.strangers += 1;
        counts.of_network.insert(network, here + 1);
        Some(CountedConnection { limits: self.clone(), stranger_of: Some(network), node: None })
    }
}

impl CountedConnection {
    /// The caller showed the certificate of a node: the place is no stranger's any more. Returns whether the node may have one more.
    pub fn is_of(&mut self, node: Uuid) -> bool {
        let mut counts = self.limits.counts.lock().unwrap_or_else(PoisonError::into_inner);
        let has = counts.of_node.entry(node).or_insert(0);
        if *has >= MAX_OF_NODE {
            return false;
        }
        *has += 1;
        self.node = Some(node);
        if let Some(network) = self.stranger_of.take() {
            counts.strangers -= 1;
            take_one(&mut counts.of_network, &network);
        }
        true
    }
}

/// Counts one less, and forgets whom none is left of.
fn take_one<K: Eq + Hash>(counts: &mut HashMap<K, usize>, key: &K) {
    if let Some(count) = counts.get_mut(key) {
        *count = count.saturating_sub(1);
        if *count == 0 {
            counts.remove(key);
        }
    }
}

impl Drop for CountedConnection {
    fn drop(&mut self) {
        let mut counts = self.limits.counts.lock().unwrap_or_else(PoisonError::into_inner);
        counts.in_all -= 1;
        if let Some(network) = self.stranger_of {
            counts.strangers -= 1;
            take_one(&mut counts.of_network, &network);
        }
        if let Some(node) = self.node {
            take_one(&mut counts.of_node, &node);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn descriptors_are_shared_out_and_never_more_than_there_are() {
        for descriptors in [1_024, 20_000, 262_144] {
            let Room { callers, behind } = Room::of(descriptors);
            let taken = (callers + 2 * behind) as u64 + OTHER_DESCRIPTORS;
            assert!(taken <= descriptors, "{callers} and {behind} of {descriptors}");
        }
        assert_eq!(Room::of(20_000).of_nodes(), Room { callers: 11_106, behind: 1_234 });
        assert_eq!(Room::of(262_144), Room { callers: 50_000, behind: 6_250 });
        assert!(Room::of(262_144).of_nodes().held() > 32_000);
    }

    #[test]
    fn one_network_does_not_take_the_places_of_others_nor_strangers_those_of_nodes() {
        let limits = Limits::new(Most { in_all: 6, strangers: 4, strangers_of_network: 2 });
        let take = |address: &str| limits.take(address.parse().unwrap());
        let mut first = take("2001:db8:1:2::1").unwrap();
        let _second = take("2001:db8:1:2:9::1").unwrap();
        assert!(take("2001:db8:1:2::77").is_none(), "its network has two");
        assert!(first.is_of(Uuid::from_u128(7)));
        let third = take("2001:db8:1:2::77").unwrap();
        let others: Vec<CountedConnection> =
            (1..=2).filter_map(|last| take(&format!("192.0.2.{last}"))).collect();
        assert_eq!(others.len(), 2);
        assert!(take("192.0.2.9").is_none(), "there are four strangers");
        drop(third);
        assert!(take("192.0.2.9").is_some());
        drop((first, others));
        let counts = limits.counts.lock().unwrap();
        assert_eq!((counts.in_all, counts.strangers, counts.of_node.len()), (1, 1, 0));
    }

    #[test]
    fn one_node_does_not_take_the_places_of_all() {
        let limits = Limits::new(Most { in_all: 1_000, strangers: 500, strangers_of_network: 500 });
        let take = |node: u128| {
            let mut place = limits.take("192.0.2.1".parse().unwrap()).unwrap();
            place.is_of(Uuid::from_u128(node)).then_some(place)
        };
        let mut taken: Vec<CountedConnection> = (0..MAX_OF_NODE).filter_map(|_| take(7)).collect();
        assert_eq!(taken.len(), MAX_OF_NODE);
        assert!(take(7).is_none());
        assert!(take(8).is_some());
        taken.pop();
        assert!(take(7).is_some(), "one of its places is free again");
    }
}
