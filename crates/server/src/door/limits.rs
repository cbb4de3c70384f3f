//! How many connections there may be: of one network, of strangers, and in all.

use crate::callers::network_of;
use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Arc, Mutex, PoisonError};

/// For the database, files and what else the process has open.
const OTHER_DESCRIPTORS: u64 = 256;
const MAX_DESCRIPTORS: u64 = 262_144;
const MAX_CONNECTIONS: u64 = 50_000;

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
        Some(CountedConnection { limits: self.clone(), stranger_of: Some(network) })
    }
}

impl CountedConnection {
    /// The caller showed a certificate: the place is no stranger's any more.
    pub fn is_known(&mut self) {
        let Some(network) = self.stranger_of.take() else { return };
        let mut counts = self.limits.counts.lock().unwrap_or_else(PoisonError::into_inner);
        counts.strangers -= 1;
        let left = counts.of_network.get(&network).copied().unwrap_or(0).saturating_sub(1);
        if left == 0 {
            counts.of_network.remove(&network);
        } else {
            counts.of_network.insert(network, left);
        }
    }
}

impl Drop for CountedConnection {
    fn drop(&mut self) {
        self.is_known();
        self.limits.counts.lock().unwrap_or_else(PoisonError::into_inner).in_all -= 1;
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
        first.is_known();
        let third = take("2001:db8:1:2::77").unwrap();
        let others: Vec<CountedConnection> =
            (1..=2).filter_map(|last| take(&format!("192.0.2.{last}"))).collect();
        assert_eq!(others.len(), 2);
        assert!(take("192.0.2.9").is_none(), "there are four strangers");
        drop(third);
        assert!(take("192.0.2.9").is_some());
        drop((first, others));
        assert_eq!(limits.counts.lock().unwrap().in_all, 1);
    }
}
