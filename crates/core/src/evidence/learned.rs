//! What the server learned of the fleet, as it is digested day by day.

use super::merkle::{Hash, leaf};
use crate::digest::canonical;
use jiff::Timestamp;
use serde_json::{Value, json};

/// One row that the server learned of a node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Learned<'a> {
    /// A clause was found not to be as desired, or could not be inspected.
    Opened {
        /// The node's id.
        node: &'a str,
        /// The clause's address.
        address: &'a str,
        /// The digest of what was desired.
        wanted: &'a str,
        /// Why it was not; none if it could not be inspected.
        cause: Option<&'a str>,
        /// Since when.
        from: Timestamp,
        /// When the server learned it.
        learned: Timestamp,
        /// The run that found it.
        run: &'a str,
    },
    /// It was found to be as desired again, or otherwise not.
    Closed {
        /// The node's id.
        node: &'a str,
        /// The clause's address.
        address: &'a str,
        /// The digest of what was desired.
        wanted: &'a str,
        /// Since when it was so.
        from: Timestamp,
        /// Until when.
        until: Timestamp,
        /// When the server learned that it ended.
        learned: Timestamp,
    },
    /// A clause or a whole state was examined on a node for the first time.
    Examined {
        /// The node's id.
        node: &'a str,
        /// The digest of the state, or of what is desired of the clause.
        of: &'a str,
        /// When.
        from: Timestamp,
        /// When the server learned it.
        learned: Timestamp,
    },
    /// A time for which nothing was known of a node, which ended.
    Gap {
        /// The node's id.
        node: &'a str,
        /// Since when.
        from: Timestamp,
        /// Until when.
        until: Timestamp,
        /// When the server learned that it ended.
        learned: Timestamp,
    },
    /// The window of a drift.
    Doubt {
        /// The node's id.
        node: &'a str,
        /// The digest of what was desired.
        wanted: &'a str,
        /// Since when.
        from: Timestamp,
        /// Until when.
        until: Timestamp,
        /// When the server learned it.
        learned: Timestamp,
    },
}

impl Learned<'_> {
    /// Returns the row as the JSON object that is digested; moments are microseconds since 1970.
    pub fn value(&self) -> Value {
        let at = |moment: &Timestamp| moment.as_microsecond();
        match self {
            Self::Opened { node, address, wanted, cause, from, learned, run } => {
                json!({ "what": "opened", "node": node, "address": address, "wanted": wanted, "cause": cause, "from": at(from), "learned": at(learned), "run": run })
            }
            Self::Closed { node, address, wanted, from, until, learned } => {
                json!({ "what": "closed", "node": node, "address": address, "wanted": wanted, "from": at(from), "until": at(until), "learned": at(learned) })
            }
            Self::Examined { node, of, from, learned } => {
                json!({ "what": "examined", "node": node, "of": of, "from": at(from), "learned": at(learned) })
            }
            Self::Gap { node, from, until, learned } => {
                json!({ "what": "gap", "node": node, "from": at(from), "until": at(until), "learned": at(learned) })
            }
            Self::Doubt { node, wanted, from, until, learned } => {
                json!({ "what": "doubt", "node": node, "wanted": wanted, "from": at(from), "until": at(until), "learned": at(learned) })
            }
        }
    }

    /// Returns the leaf of the row: the digest of its canonical JSON (RFC 8785).
    pub fn leaf(&self) -> Hash {
        leaf(&canonical(&self.value()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::evidence::hex;

    #[test]
    fn a_leaf_is_what_anybody_can_compute() {
        let row = Learned::Gap {
            node: "n",
            from: Timestamp::from_microsecond(1).expect("a moment"),
            until: Timestamp::from_microsecond(2).expect("a moment"),
            learned: Timestamp::from_microsecond(3).expect("a moment"),
        };
        // printf '\0%s' '{"from":1,"learned":3,"node":"n","until":2,"what":"gap"}' | sha256sum
        assert_eq!(hex(&row.leaf()), "2260f7eb41ac915d1c91507698a87b791ae58bf52317d0fe91c02bd50538a80c");
    }
}
