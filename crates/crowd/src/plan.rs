//! The members of a crowd, and how often random events happen to them.

use clap::Args;
use constans_core::filter::About;
use constans_host::simulated::Repository;
use jiff::SignedDuration;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::time::Duration;

/// The islands of Skerry Line.
const SITES: [&str; 5] = ["auken", "brisk", "corran", "dunmoy", "eldrey"];
/// Its ships.
const SHIPS: [&str; 3] = ["tern", "gannet", "puffin"];
/// The numbers of simulated nodes begin here: those below are real ones.
const FIRST_NUMBER: usize = 10;

/// How often something happens to a node, on average: times a node and day.
#[derive(Debug, Clone, PartialEq, Args)]
pub struct Rates {
    /// Someone changes what a clause keeps
    #[arg(long, default_value_t = 0.5, value_name = "PER_NODE_AND_DAY")]
    pub drift: f64,
    /// Something goes wrong that no correction can put right, for some hours
    #[arg(long, default_value_t = 0.05, value_name = "PER_NODE_AND_DAY")]
    pub failure: f64,
    /// The node is switched off for some hours
    #[arg(long, default_value_t = 0.05, value_name = "PER_NODE_AND_DAY")]
    pub off: f64,
    /// The node cannot reach its server for some hours, and goes on alone
    #[arg(long, default_value_t = 0.1, value_name = "PER_NODE_AND_DAY")]
    pub cut: f64,
    /// The node leaves for good, and an operator revokes it
    #[arg(long, default_value_t = 0.01, value_name = "PER_NODE_AND_DAY")]
    pub leave: f64,
    /// Another node joins
    #[arg(long, default_value_t = 0.01, value_name = "PER_NODE_AND_DAY")]
    pub join: f64,
    /// The share of nodes whose link is slow, 0 to 1
    #[arg(long, default_value_t = 0.05, value_name = "SHARE")]
    pub slow: f64,
}

impl Default for Rates {
    fn default() -> Self {
        Self { drift: 0.5, failure: 0.05, off: 0.05, cut: 0.1, leave: 0.01, join: 0.01, slow: 0.05 }
    }
}

impl Rates {
    /// Nothing happens.
    pub fn none() -> Self {
        Self { drift: 0.0, failure: 0.0, off: 0.0, cut: 0.0, leave: 0.0, join: 0.0, slow: 0.0 }
    }
}

/// What a crowd is.
#[derive(Debug, Clone)]
pub struct Plan {
    /// How many nodes it begins with.
    pub nodes: usize,
    /// Whatever happens by chance follows from it.
    pub seed: u64,
    /// How often what happens.
    pub rates: Rates,
    /// How long a request takes longer on a slow link.
    pub slow_by: Duration,
    /// How many nodes do something at the same time.
    pub at_once: usize,
    /// A moved clock moves on by this at the least: what is due within it is done together.
    pub step: SignedDuration,
    /// Whether a node keeps its connections from one turn to the next, which saves the time of greeting.
    pub keeps_connections: bool,
}

impl Plan {
    /// Returns a plan of this many nodes, to which things happen at the usual rates.
    pub fn of(nodes: usize, seed: u64) -> Self {
        Self {
            nodes,
            seed,
            rates: Rates::default(),
            slow_by: Duration::from_millis(80),
            at_once: 64,
            step: SignedDuration::from_secs(10),
            keeps_connections: false,
        }
    }
}

/// Who a simulated node is.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Who {
    pub name: String,
    pub role: &'static str,
    pub site: &'static str,
    /// The ship that it is aboard, if it is a ship's gateway.
    pub ship: Option<&'static str>,
    pub about: About,
}

impl Who {
    /// Returns the node with this place in the crowd: of ten nodes six are kiosks, three gates; every other tenth is a ship's
    /// gateway, the rest depots.
    pub fn at(place: usize) -> Self {
        let (ten, of_ten) = (place / 10, place % 10);
        let (site, number) = (SITES[place % SITES.len()], FIRST_NUMBER + place / SITES.len());
        let (role, name) = match of_ten {
            0..6 => ("kiosk", format!("kiosk-{site}-{number}")),
            6..9 => ("gate", format!("gate-{site}-{number}")),
            _ if ten.is_multiple_of(2) => {
                ("bridge", format!("bridge-{}-{number}", SHIPS[ten / 2 % SHIPS.len()]))
            }
            _ => ("depot", format!("depot-print-{number}")),
        };
        let ship = (role == "bridge").then_some(SHIPS[ten / 2 % SHIPS.len()]);
        Self { name, role, site, ship, about: about(place) }
    }

    /// Returns the labels of the node, apart from that it is simulated.
    pub fn labels(&self) -> BTreeMap<String, String> {
        let all = [("role", self.role), ("site", self.site), ("simulated", "yes")];
        let ship = self.ship.map(|ship| ("ship", ship));
        all.into_iter().chain(ship).map(|(label, value)| (label.to_owned(), value.to_owned())).collect()
    }
}

fn about(place: usize) -> About {
    let fields: [(&str, Value); 8] = [
        ("os.family", json!("debian")),
        ("os.name", json!("debian")),
        ("os.version", json!(["12", "12", "13"][place % 3])),
        ("arch", json!("x86_64")),
        ("cpu.count", json!([2, 4][place % 2])),
        ("memory.mib", json!([2_048, 4_096, 8_192][place % 3])),
        ("init", json!("systemd")),
        ("packages", json!("dpkg")),
    ];
    About::new(fields.map(|(path, value)| (path.to_owned(), value)))
}

/// Returns the packages that simulated nodes can install: those of the demo's kits.
pub fn repository() -> Repository {
    Repository::default()
        .with("kiosk-shell", &["3.1.9", "3.2.0", "3.2.4"], Some("kiosk-shell"))
        .with("gate-reader", &["2.0.0", "2.1.0", "2.1.4"], Some("gate-reader"))
        .with("quay-games", &["1.0"], None)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn ten_thousand_nodes_have_names_of_their_own_and_say_that_they_are_simulated() {
        let names: BTreeSet<String> = (0..10_000).map(|place| Who::at(place).name).collect();
        assert_eq!(names.len(), 10_000);
        let roles = |role| (0..200).filter(|place| Who::at(*place).role == role).count();
        assert_eq!(["kiosk", "gate", "bridge", "depot"].map(roles), [120, 60, 10, 10]);
        assert_eq!(Who::at(0).name, "kiosk-auken-10");
        assert_eq!(Who::at(7).labels()["simulated"], "yes");
    }
}
