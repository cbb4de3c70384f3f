//! What of a node was inputs for: nodes that say the same of it come to the same, so that it need be computed once.

use super::NodeView;
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What of a node was inputs for while something was computed for it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NodeInputs {
    /// Its name.
    pub name: bool,
    /// These labels.
    pub labels: Keys,
    /// These fields of `about`, each with what is below it.
    pub about: Keys,
}

/// Some keys of a map, or all of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Keys {
    /// All, and which there are.
    All,
    /// These, which may be missing.
    Some(BTreeSet<String>),
}

impl Default for Keys {
    fn default() -> Self {
        Self::Some(BTreeSet::new())
    }
}

impl Keys {
    /// Adds one key, or all if none is named.
    pub fn add(&mut self, key: Option<&str>) {
        match (&mut *self, key) {
            (Self::Some(keys), Some(key)) => drop(keys.insert(key.to_owned())),
            (_, None) => *self = Self::All,
            (Self::All, Some(_)) => {}
        }
    }

    fn add_all_of(&mut self, other: &Self) {
        match other {
            Self::All => *self = Self::All,
            Self::Some(keys) => keys.iter().for_each(|key| self.add(Some(key))),
        }
    }

    fn any(&self, mut is_it: impl FnMut(&str) -> bool) -> bool {
        match self {
            Self::All => true,
            Self::Some(keys) => keys.iter().any(|key| is_it(key)),
        }
    }
}

impl NodeInputs {
    /// Adds what was inputs for elsewhere.
    pub fn add(&mut self, other: &Self) {
        self.name |= other.name;
        self.labels.add_all_of(&other.labels);
        self.about.add_all_of(&other.about);
    }

    /// Returns what a node says of it, in one text.
    pub fn values_of(&self, view: &NodeView) -> String {
        if *self == Self::default() {
            return String::new();
        }
        let labels: BTreeMap<&String, &String> = match &self.labels {
            Keys::All => view.labels.iter().collect(),
            Keys::Some(keys) => keys.iter().filter_map(|key| view.labels.get_key_value(key)).collect(),
        };
        let is_below = |path: &str, inputs: &str| {
            path.strip_prefix(inputs).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
        };
        let about: BTreeMap<&str, &Value> =
            view.about.fields().filter(|(path, _)| self.about.any(|inputs| is_below(path, inputs))).collect();
        serde_json::to_string(&(self.name.then_some(&view.name), labels, about))
            .expect("texts and numbers can be written")
    }
}

/// What was computed for nodes, to be found again for those that say the same of all that was inputs for.
#[derive(Debug)]
pub struct InputCache<T> {
    /// By what was inputs for, which depends on the way that the computation took.
    ways: Vec<(NodeInputs, HashMap<String, T>)>,
    kept: usize,
}

impl<T> Default for InputCache<T> {
    fn default() -> Self {
        Self { ways: Vec::new(), kept: 0 }
    }
}

impl<T: Clone> InputCache<T> {
    /// So much is kept: where what is inputs for differs from node to node, nothing is gained by more.
    const MAX_KEPT: usize = 1_000;

    /// Returns what was computed for a node that says the same.
    pub fn find(&self, view: &NodeView) -> Option<T> {
        self.ways.iter().find_map(|(inputs, known)| known.get(&inputs.values_of(view)).cloned())
    }

    /// Keeps what was computed for a node, and `inputs` for it. What asks for the name is of no use to another node.
    pub fn keep(&mut self, inputs: NodeInputs, view: &NodeView, computed: T) {
        if inputs.name {
            return;
        }
        if self.kept == Self::MAX_KEPT {
            *self = Self::default();
        }
        self.kept += 1;
        let values = inputs.values_of(view);
        match self.ways.iter_mut().find(|(way, _)| *way == inputs) {
            Some((_, known)) => drop(known.insert(values, computed)),
            None => self.ways.push((inputs, HashMap::from([(values, computed)]))),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::About;
    use super::*;
    use serde_json::json;

    fn node(name: &str, labels: &[(&str, &str)], memory: u64) -> NodeView {
        NodeView {
            name: name.to_owned(),
            labels: labels.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect(),
            about: About::new([
                ("memory.mib".to_owned(), json!(memory)),
                ("os.name".to_owned(), json!("debian")),
            ]),
        }
    }

    fn inputs(labels: &[&str], about: &[&str]) -> NodeInputs {
        let mut inputs = NodeInputs::default();
        labels.iter().for_each(|label| inputs.labels.add(Some(label)));
        about.iter().for_each(|field| inputs.about.add(Some(field)));
        inputs
    }

    #[test]
    fn it_is_found_for_nodes_that_say_the_same_of_what_was_asked() {
        let one = node("kiosk-auken-1", &[("site", "auken")], 512);
        let mut remembered = InputCache::default();
        remembered.keep(inputs(&["site", "ship"], &["os"]), &one, 1);
        assert_eq!(
            remembered.find(&node("kiosk-auken-2", &[("role", "kiosk"), ("site", "auken")], 4_096)),
            Some(1),
            "neither was inputs for"
        );
        assert_eq!(remembered.find(&node("kiosk-brisk-1", &[("site", "brisk")], 512)), None);
        assert_eq!(
            remembered.find(&node("kiosk-auken-3", &[("site", "auken"), ("ship", "")], 512)),
            None,
            "empty is not missing"
        );
        remembered.keep(
            inputs(&["site", "ship"], &["memory.mib"]),
            &node("kiosk-brisk-1", &[("site", "brisk")], 512),
            2,
        );
        assert_eq!(
            remembered.find(&node("kiosk-brisk-2", &[("site", "brisk")], 512)),
            Some(2),
            "it went another way"
        );
        assert_eq!(remembered.find(&node("kiosk-brisk-3", &[("site", "brisk")], 1_024)), None);
    }

    #[test]
    fn who_asks_for_all_learns_of_what_is_missing_too() {
        let mut all = NodeInputs::default();
        all.labels.add(None);
        all.labels.add(Some("site"));
        let mut remembered = InputCache::default();
        remembered.keep(all, &node("kiosk-auken-1", &[("site", "auken")], 512), 1);
        assert_eq!(remembered.find(&node("kiosk-auken-2", &[("site", "auken")], 512)), Some(1));
        assert_eq!(
            remembered.find(&node("kiosk-auken-3", &[("role", "kiosk"), ("site", "auken")], 512)),
            None
        );
    }

    #[test]
    fn what_asks_for_the_name_is_not_kept_and_what_is_kept_is_bounded() {
        let mut remembered = InputCache::default();
        remembered.keep(
            NodeInputs { name: true, ..NodeInputs::default() },
            &node("kiosk-auken-1", &[], 512),
            1,
        );
        assert_eq!(remembered.find(&node("kiosk-auken-1", &[], 512)), None);
        for memory in 0..3_000 {
            remembered.keep(inputs(&[], &["memory"]), &node("kiosk-auken-1", &[], memory), 2);
            assert_eq!(remembered.find(&node("kiosk-auken-2", &[], memory)), Some(2));
        }
        assert!(remembered.kept <= InputCache::<i32>::MAX_KEPT);
    }
}
