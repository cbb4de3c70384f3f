//! What truly happened, and the results that follow from it. It shares no code with the server: it looks through all that happened,
//! each time.

use constans_server::store::compliance::{CountedRow, Dimension, OnlyClauses};
use jiff::{SignedDuration, Timestamp};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::{self, Display, Formatter};

/// A clause as it is desired: its address, and which of its versions.
pub type Version = (usize, usize);

/// What an examination found.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Found {
    Alike,
    Different,
    Unseen,
}

/// One thing that happened to a node.
#[derive(Debug, Clone)]
pub enum Fact {
    Came {
        at: Timestamp,
    },
    Left {
        at: Timestamp,
    },
    /// A state was handed out; none if it cannot be resolved.
    Desired {
        at: Timestamp,
        state: Option<Vec<Version>>,
        /// Which of all states it is.
        no: Option<usize>,
        change: i64,
    },
    /// A run examined clauses; not learned of if its report was lost.
    Ran {
        at: Timestamp,
        learned_at: Option<Timestamp>,
        is_full: bool,
        found: BTreeMap<Version, Found>,
        doubts: Vec<(Version, Timestamp, Timestamp)>,
    },
}

/// A concession: what was written down of it.
#[derive(Debug, Clone)]
pub struct Conceded {
    pub addresses: BTreeSet<usize>,
    pub covers_unknown: bool,
    pub from: Timestamp,
    pub until: Timestamp,
    /// Which nodes it covered, from each moment on.
    pub nodes: Vec<(Timestamp, BTreeSet<String>)>,
}

impl Conceded {
    fn covers(&self, node: &str, result: &Result, at: Timestamp) -> bool {
        let nodes = self.nodes.iter().rev().find(|(from, _)| *from <= at);
        let is_of_kind = match result.status {
            "noncompliant" => true,
            "compliant" => false,
            _ => self.covers_unknown,
        };
        self.from <= at
            && at < self.until
            && self.addresses.contains(&result.address)
            && nodes.is_some_and(|(_, nodes)| nodes.contains(node))
            && is_of_kind
    }
}

/// All that happened, node by node, in the order of time.
#[derive(Debug, Clone, Default)]
pub struct Truths {
    pub nodes: BTreeMap<String, Vec<Fact>>,
    pub concessions: Vec<Conceded>,
    pub severities: Vec<&'static str>,
    /// What the clause of each address satisfies, state by state.
    pub controls: Vec<Vec<Vec<&'static str>>>,
}

pub const OVERDUE: SignedDuration = SignedDuration::from_secs(3_600);

impl Display for Truths {
    fn fmt(&self, f: &mut Formatter<'_>) -> fmt::Result {
        for (node, facts) in &self.nodes {
            writeln!(f, "{node}")?;
            for fact in facts {
                writeln!(f, "  {fact:?}")?;
            }
        }
        Ok(())
    }
}

#[derive(Clone)]
pub struct Result {
    node: String,
    address: usize,
    version: Version,
    controls: Vec<&'static str>,
    status: &'static str,
    is_in_doubt: bool,
    is_conceded: bool,
}

impl Result {
    /// What evidence says of it: node, address, what it counts as, whether it is in doubt.
    pub fn row(&self) -> (String, String, &'static str, bool) {
        (self.node.clone(), address(self.address), self.counts_as(), self.is_in_doubt)
    }

    /// What it counts as.
    fn counts_as(&self) -> &'static str {
        if self.is_conceded { "conceded" } else { self.status }
    }
}

/// The results of all clauses on all nodes at a moment.
pub struct Results<'t> {
    pub nodes: BTreeSet<String>,
    pub all: Vec<Result>,
    truths: &'t Truths,
}

impl Truths {
    /// Returns the results at a moment, by what was learned until another.
    pub fn results(&self, at: Timestamp, known_at: Timestamp) -> Results<'_> {
        let (mut nodes, mut all) = (BTreeSet::new(), Vec::new());
        for (name, facts) in &self.nodes {
            let mut is_there = false;
            let (mut state, mut no) = (None, None);
            for fact in facts {
                match fact {
                    Fact::Came { at: when } if *when <= at => is_there = true,
                    Fact::Left { at: when } if *when <= at => is_there = false,
                    Fact::Desired { at: when, state: desired, no: of, .. } if *when <= at => {
                        state.clone_from(desired);
                        no = *of;
                    }
                    _ => {}
                }
            }
            if !is_there {
                continue;
            }
            nodes.insert(name.clone());
            for version in state.unwrap_or_default() {
                let (status, is_in_doubt) = result(facts, version, at, known_at);
                let mut one = Result {
                    node: name.clone(),
                    address: version.0,
                    version,
                    controls: no.map_or_else(Vec::new, |no| self.controls[no][version.0].clone()),
                    status,
                    is_in_doubt,
                    is_conceded: false,
                };
                one.is_conceded = self.concessions.iter().any(|conceded| conceded.covers(name, &one, at));
                all.push(one);
            }
        }
        Results { nodes, all, truths: self }
    }
}

fn result(facts: &[Fact], version: Version, at: Timestamp, known_at: Timestamp) -> (&'static str, bool) {
    let mut last_full = None;
    let mut last = None;
    let mut is_in_doubt = false;
    for fact in facts {
        let Fact::Ran { at: ran, learned_at: Some(learned), is_full, found, doubts } = fact else { continue };
        if *learned > known_at {
            continue;
        }
        is_in_doubt |= doubts.iter().any(|(of, from, until)| *of == version && *from <= at && at < *until);
        if *ran <= at {
            last_full = if *is_full { Some(*ran) } else { last_full };
            last = found.get(&version).copied().or(last);
        }
    }
    let is_silent = last_full.is_some_and(|ran| ran + OVERDUE <= at);
    match last {
        None => ("unexamined", false),
        Some(_) if is_silent => ("unknown", false),
        Some(Found::Alike) => ("compliant", is_in_doubt),
        Some(Found::Different) => ("noncompliant", false),
        Some(Found::Unseen) => ("unknown", false),
    }
}

/// What moved: whether the node was there, the clause's result, whether it was conceded, whether something else was desired and whether it is
/// asked about only at one moment, the change.
pub type Moved =
    ((bool, bool), (Option<&'static str>, Option<&'static str>), (bool, bool), (bool, bool), Option<i64>);

/// The last change in a time that altered something of the clause that is desired at an address.
fn last_change<T: PartialEq>(
    facts: &[Fact],
    place: usize,
    (from, until): (Timestamp, Timestamp),
    of: impl Fn(Version, usize) -> T,
) -> Option<i64> {
    let mut desired = None;
    let mut last = None;
    for fact in facts {
        let Fact::Desired { at, state, no, change } = fact else { continue };
        let found = state.iter().flatten().find(|version| version.0 == place).zip(*no);
        let new = found.map(|(version, no)| of(*version, no));
        if *at > from && *at <= until && new != desired {
            last = Some(*change);
        }
        desired = new;
    }
    last
}

impl Results<'_> {
    /// Returns only those of some clauses.
    #[must_use]
    pub fn only(&self, only: Option<&OnlyClauses>) -> Self {
        let all = self.all.iter().filter(|result| self.is_one(result.address, &result.controls, only));
        Self { nodes: self.nodes.clone(), all: all.cloned().collect(), truths: self.truths }
    }

    fn is_one(&self, place: usize, controls: &[&str], only: Option<&OnlyClauses>) -> bool {
        match only {
            None => true,
            Some(OnlyClauses::Control(id)) => controls.contains(&id.as_str()),
            Some(OnlyClauses::Severity(word)) => self.truths.severities[place] == word,
            Some(OnlyClauses::Clause(one)) => address(place) == *one,
            Some(other) => panic!("{other:?} is not reckoned here"),
        }
    }

    /// Counts them by the keys of a dimension.
    pub fn counted(&self, by: Option<&Dimension>) -> BTreeMap<Option<String>, CountedRow> {
        let mut by_key: BTreeMap<Option<String>, BTreeMap<&str, Vec<&Result>>> = BTreeMap::new();
        for result in &self.all {
            for key in self.keys(result, by) {
                by_key.entry(key).or_default().entry(&result.node).or_default().push(result);
            }
        }
        let counted = |(key, nodes): (Option<String>, BTreeMap<&str, Vec<&Result>>)| {
            let mut row = CountedRow { key: key.clone(), ..CountedRow::default() };
            for results in nodes.values() {
                let of = |status: &str| {
                    results.iter().filter(|result| result.counts_as() == status).count() as i64
                };
                row.compliant += of("compliant");
                row.noncompliant += of("noncompliant");
                row.conceded += of("conceded");
                row.unexamined += of("unexamined");
                row.unknown += of("unknown");
                row.in_doubt += results.iter().filter(|result| result.is_in_doubt).count() as i64;
                let is_critical = |result: &&&Result| {
                    result.counts_as() == "noncompliant"
                        && self.truths.severities[result.address] == "critical"
                };
                row.nodes_critical += i64::from(results.iter().filter(is_critical).count() > 0);
                if of("noncompliant") > 0 {
                    row.nodes_deviating += 1;
                } else if of("unexamined") + of("unknown") > 0 {
                    row.nodes_not_known += 1;
                } else if of("conceded") > 0 {
                    row.nodes_conceded += 1;
                } else {
                    row.nodes_compliant += 1;
                }
            }
            (key, row)
        };
        by_key.into_iter().map(counted).collect()
    }

    /// Counts the clauses that count otherwise at a second moment: whether their node was there, what they counted as, whether
    /// something else was desired, and by which change.
    pub fn moved(
        &self,
        after: &Self,
        period: (Timestamp, Timestamp),
        only: Option<&OnlyClauses>,
    ) -> BTreeMap<Moved, i64> {
        let (all_before, all_after) = (self, after);
        let (before, after) = (self.only(only), after.only(only));
        let mut moved = BTreeMap::new();
        for (node, facts) in &self.truths.nodes {
            for place in 0..self.truths.severities.len() {
                let of = |results: &Self| {
                    let found =
                        results.all.iter().find(|result| result.node == *node && result.address == place);
                    found.map(|result| (result.version, result.status, result.is_conceded))
                };
                let (was_there, is_there) = (of(all_before).is_some(), of(all_after).is_some());
                let (before, after_it) = (of(&before), of(&after));
                let is_other = was_there && is_there && before.is_some() != after_it.is_some();
                if before.map(|one| (one.1, one.2)) == after_it.map(|one| (one.1, one.2)) {
                    continue;
                }
                let has_node = (all_before.nodes.contains(node), all_after.nodes.contains(node));
                let is_altered = before.map(|one| one.0) != after_it.map(|one| one.0);
                let change = if has_node != (true, true) || !is_altered {
                    None
                } else if is_other {
                    let controls = &self.truths.controls;
                    last_change(facts, place, period, |_, no| self.is_one(place, &controls[no][place], only))
                } else {
                    last_change(facts, place, period, |version, _| version)
                };
                let is_otherwise = before.is_some() && after_it.is_some() && is_altered;
                let statuses = (before.map(|one| one.1), after_it.map(|one| one.1));
                let conceded = (before.is_some_and(|one| one.2), after_it.is_some_and(|one| one.2));
                *moved
                    .entry((has_node, statuses, conceded, (is_otherwise, is_other), change))
                    .or_default() += 1;
            }
        }
        moved
    }

    fn keys(&self, result: &Result, by: Option<&Dimension>) -> Vec<Option<String>> {
        match by {
            None => vec![None],
            Some(Dimension::Node) => vec![Some(result.node.clone())],
            Some(Dimension::Clause) => vec![Some(address(result.address))],
            Some(Dimension::Severity) => vec![Some(self.truths.severities[result.address].to_owned())],
            Some(Dimension::Control) => {
                if result.controls.is_empty() {
                    vec![None]
                } else {
                    result.controls.iter().map(|id| Some((*id).to_owned())).collect()
                }
            }
            Some(Dimension::Cause) => vec![Some(result.counts_as().to_owned())],
            Some(other) => panic!("{other:?} is not reckoned here"),
        }
    }
}

/// Returns how an address is written.
pub fn address(of: usize) -> String {
    format!("file:/etc/skerry/{of}.conf")
}

/// Returns the word of a result that the server wrote.
pub fn status_named(word: &str) -> &'static str {
    ["compliant", "noncompliant", "unexamined", "unknown"]
        .into_iter()
        .find(|known| *known == word)
        .expect("a result")
}
