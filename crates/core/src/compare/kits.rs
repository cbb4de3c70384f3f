//! Two releases of a kit side by side: clause by clause, property by property.

use super::difference::{Difference, Side};
use super::text::{TextDiff, text_diff};
use crate::kit::{Baseline, ClauseDocument, Kit};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use std::collections::BTreeMap;

/// In what two kits differ.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct KitDifference {
    /// The one that is compared from.
    pub from: String,
    /// The one that is compared to.
    pub to: String,
    /// What `kit.toml` says otherwise.
    pub kit: Vec<Difference>,
    /// The baselines that differ, by name.
    pub baselines: Vec<BaselineDifference>,
    /// Copies and renders that differ, by path.
    pub files: Vec<FileDifference>,
}

/// In what a baseline differs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct BaselineDifference {
    /// Its name.
    pub name: String,
    /// Where it is.
    pub is: Where,
    /// Its own properties and parameters that differ.
    pub differences: Vec<Difference>,
    /// The clauses that differ, by address as written.
    pub clauses: Vec<ClauseDifference>,
}

/// In what a clause differs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ClauseDifference {
    /// Its address as written.
    pub address: String,
    /// Where it is.
    pub is: Where,
    /// Its properties that differ; all that it has if it is only there.
    pub differences: Vec<Difference>,
}

/// In what a file differs.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct FileDifference {
    /// Its path below the kit's folder.
    pub path: String,
    /// Where it is.
    pub is: Where,
    /// How its text changes, where that can be shown.
    pub text: Option<TextDiff>,
}

/// Where something is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum Where {
    /// In both, and not alike.
    Both,
    /// Only in the one that is compared from.
    OnlyFrom,
    /// Only in the one that is compared to.
    OnlyTo,
}

impl KitDifference {
    /// Returns whether nothing differs.
    pub fn is_empty(&self) -> bool {
        self.kit.is_empty() && self.baselines.is_empty() && self.files.is_empty()
    }
}

/// Compares two kits. In each difference `found` is how it was in `from`, `wanted` how it is in `to`.
///
/// What is concealed is said to differ, and how is not shown.
pub fn kit_difference(from: &Kit, to: &Kit) -> KitDifference {
    let manifest = |kit: &Kit| {
        let requires = kit
            .requires
            .iter()
            .map(|one| (format!("requires {}", one.kit), json!(one.releases.value.to_string())));
        let own = [
            ("name", json!(kit.name)),
            ("version", json!(kit.version.to_string())),
            ("summary", json!(kit.summary)),
        ];
        own.into_iter().map(|(name, value)| (name.to_owned(), value)).chain(requires).collect::<Properties>()
    };
    let by_name = |kit: &'_ Kit| {
        kit.baselines
            .iter()
            .map(|baseline| (baseline.name.value.clone(), baseline.clone()))
            .collect::<BTreeMap<_, _>>()
    };
    KitDifference {
        from: format!("{}@{}", from.name, from.version),
        to: format!("{}@{}", to.name, to.version),
        kit: differences(&manifest(from), &manifest(to), &[]),
        baselines: pairs(&by_name(from), &by_name(to))
            .into_iter()
            .filter_map(|(name, from, to)| baseline_difference(name, from, to))
            .collect(),
        files: file_differences(from, to),
    }
}

type Properties = BTreeMap<String, Value>;

/// Returns all keys of both with their values on each side.
fn pairs<'v, K: Ord + Clone, V>(
    from: &'v BTreeMap<K, V>,
    to: &'v BTreeMap<K, V>,
) -> Vec<(K, Option<&'v V>, Option<&'v V>)> {
    let keys: std::collections::BTreeSet<&K> = from.keys().chain(to.keys()).collect();
    keys.into_iter().map(|key| (key.clone(), from.get(key), to.get(key))).collect()
}

fn is_where<V>(from: Option<&V>, to: Option<&V>) -> Where {
    match (from, to) {
        (Some(_), None) => Where::OnlyFrom,
        (None, Some(_)) => Where::OnlyTo,
        _ => Where::Both,
    }
}

fn differences(from: &Properties, to: &Properties, concealed: &[&str]) -> Vec<Difference> {
    let side = |name: &str, value: Option<&Value>| match value {
        None => Side::Absent,
        Some(_) if concealed.contains(&name) => Side::Concealed,
        Some(value) => Side::value(value.clone()),
    };
    let differing = pairs(from, to).into_iter().filter(|(_, from, to)| from != to);
    differing
        .map(|(name, from, to)| Difference {
            wanted: side(&name, to),
            found: side(&name, from),
            property: name,
        })
        .collect()
}

fn baseline_difference(
    name: String,
    from: Option<&Baseline>,
    to: Option<&Baseline>,
) -> Option<BaselineDifference> {
    let empty = Properties::new();
    let own = |baseline: Option<&Baseline>| baseline.map_or_else(|| empty.clone(), baseline_properties);
    let differences =
        if from.is_some() && to.is_some() { differences(&own(from), &own(to), &[]) } else { Vec::new() };
    let clauses = |baseline: Option<&Baseline>| baseline.map(by_address).unwrap_or_default();
    let clauses: Vec<ClauseDifference> = pairs(&clauses(from), &clauses(to))
        .into_iter()
        .filter_map(|((address, _), from, to)| clause_difference(address, from, to))
        .collect();
    let is = is_where(from, to);
    (is != Where::Both || !differences.is_empty() || !clauses.is_empty()).then_some(BaselineDifference {
        name,
        is,
        differences,
        clauses,
    })
}

/// Clauses by their address as written; equal addresses with different conditions are numbered.
fn by_address(baseline: &Baseline) -> BTreeMap<(String, usize), ClauseDocument> {
    let mut clauses = BTreeMap::new();
    for clause in &baseline.clauses {
        let address = clause.what.value.clone();
        let number = clauses.keys().filter(|(known, _)| *known == address).count();
        clauses.insert((address, number), clause.clone());
    }
    clauses
}

fn clause_difference(
    address: String,
    from: Option<&ClauseDocument>,
    to: Option<&ClauseDocument>,
) -> Option<ClauseDifference> {
    let empty = Properties::new();
    let own = |clause: Option<&ClauseDocument>| clause.map_or_else(|| empty.clone(), clause_properties);
    let concealed: Vec<&str> = from
        .iter()
        .chain(&to)
        .flat_map(|clause| clause.properties.iter().map(move |(name, _)| (*clause, name.as_str())))
        .filter(|(clause, name)| {
            clause.common.conceal || clause.kind.property(name).is_some_and(|property| property.concealed)
        })
        .map(|(_, name)| name)
        .collect();
    let differences = differences(&own(from), &own(to), &concealed);
    let is = is_where(from, to);
    (is != Where::Both || !differences.is_empty()).then_some(ClauseDifference { address, is, differences })
}

fn baseline_properties(baseline: &Baseline) -> Properties {
    let mut properties = Map::new();
    let mut set = |name: &str, value: Value| drop(properties.insert(name.to_owned(), value));
    set("summary", json!(baseline.summary));
    set("severity", json!(baseline.severity));
    set("satisfies", json!(baseline.satisfies));
    set("include", texts(&baseline.include));
    set("needs", texts(&baseline.needs));
    set("on_drift", json!(baseline.on_drift));
    set("on_rollout", json!(baseline.on_rollout));
    set("where", json!(baseline.condition.as_ref().map(|condition| &condition.value)));
    for parameter in &baseline.parameters {
        set(&format!("params.{}", parameter.name.value), parameter.written());
    }
    shown_properties(properties)
}

fn clause_properties(clause: &ClauseDocument) -> Properties {
    let common = &clause.common;
    let mut properties: Map<String, Value> =
        clause.properties.iter().map(|(name, value)| ((*name).to_owned(), value.value.clone())).collect();
    let mut set = |name: &str, value: Value| drop(properties.insert(name.to_owned(), value));
    set("needs", texts(&common.needs));
    set("reacts_to", texts(&common.reacts_to));
    set("reaction", json!(common.reaction));
    set("topics", json!(common.topics));
    set("severity", json!(common.severity));
    set("satisfies", json!(common.satisfies));
    set("on_drift", json!(common.on_drift));
    set("on_rollout", json!(common.on_rollout));
    set("grace", json!(common.grace_secs));
    set("where", json!(common.condition.as_ref().map(|condition| &condition.value)));
    set("as", json!(common.second_name.as_ref().map(|name| &name.value)));
    set(
        "for",
        Value::Object(clause.loops.iter().map(|one| (one.name.clone(), json!(one.over.value))).collect()),
    );
    let written = if common.gone == crate::kit::Gone::No { Value::Null } else { json!(common.gone) };
    set("gone", common.gone_if.as_ref().map_or(written, |template| json!(template.value)));
    set("conceal", if common.conceal { json!(true) } else { Value::Null });
    set("literal", if common.literal { json!(true) } else { Value::Null });
    set("via", json!(common.via));
    set("note", json!(common.note));
    shown_properties(properties)
}

fn texts(located: &[crate::document::Located<String>]) -> Value {
    json!(located.iter().map(|one| &one.value).collect::<Vec<_>>())
}

/// Leaves out what says nothing.
fn shown_properties(properties: Map<String, Value>) -> Properties {
    let says = |value: &Value| match value {
        Value::Null => false,
        Value::String(text) => !text.is_empty(),
        Value::Array(items) => !items.is_empty(),
        Value::Object(map) => !map.is_empty(),
        _ => true,
    };
    properties.into_iter().filter(|(_, value)| says(value)).collect()
}

fn file_differences(from: &Kit, to: &Kit) -> Vec<FileDifference> {
    let files = |kit: &Kit| -> BTreeMap<String, Vec<u8>> {
        let is_content = |path: &&str| {
            ["copies/", "renders/", "kinds/", "cases/"].iter().any(|folder| path.starts_with(folder))
        };
        kit.files
            .paths()
            .filter(is_content)
            .filter_map(|path| Some((path.to_owned(), kit.files.get(path)?.to_vec())))
            .collect()
    };
    let is_concealed = |path: &str| {
        [from, to].iter().any(|kit| crate::kit::shown_text(kit, path).is_some_and(|(_, concealed)| concealed))
    };
    let nothing = Vec::new();
    pairs(&files(from), &files(to))
        .into_iter()
        .filter(|(_, from, to)| from != to)
        .map(|(path, from, to)| FileDifference {
            is: is_where(from, to),
            text: text_diff(from.unwrap_or(&nothing), to.unwrap_or(&nothing), true)
                .ok()
                .filter(|_| !is_concealed(&path)),
            path,
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::{Surroundings, check};
    use crate::document::KitFiles;

    fn kit(version: &str, baseline: &str, copy: &str) -> Kit {
        let manifest = format!("[kit]\nname = \"gate-reader\"\nversion = \"{version}\"\n");
        let files = [
            ("kit.toml", manifest.as_str()),
            ("baselines/reader.toml", baseline),
            ("copies/tariffs.csv", copy),
        ];
        let files = KitFiles::new(files.map(|(path, text)| (path.to_owned(), text.as_bytes().to_vec())));
        check(files, None, Surroundings::default()).kit.unwrap()
    }

    #[test]
    fn clauses_are_compared_property_by_property_and_what_is_concealed_stays_so() {
        let head = "[baseline]\nname = \"reader\"\n";
        let old = format!(
            "{head}[[clause]]\nwhat = \"package:gate-reader\"\nversion = \"2.1.4\"\n[[clause]]\nwhat = \"account:gate\"\npassword_hash = \"$y$j9T$salt$old\"\n[[clause]]\nwhat = \"file:/etc/gate/tariffs.csv\"\ncopy = \"tariffs.csv\"\n"
        );
        let new = format!(
            "{head}severity = \"high\"\n[[clause]]\nwhat = \"package:gate-reader\"\nversion = \"2.2.*\"\nneeds = [\"account:gate\"]\n[[clause]]\nwhat = \"account:gate\"\npassword_hash = \"$y$j9T$salt$new\"\n[[clause]]\nwhat = \"package:gate-fonts\"\n"
        );
        let difference =
            kit_difference(&kit("2.1.0", &old, "adult,4.20\n"), &kit("2.2.0", &new, "adult,4.40\n"));
        let text = serde_json::to_string(&difference).unwrap();
        assert!(!text.contains("j9T"), "{text}");
        let clauses: Vec<String> = difference.baselines[0]
            .clauses
            .iter()
            .map(|clause| {
                let properties: Vec<String> = clause
                    .differences
                    .iter()
                    .map(|one| format!("{} {} -> {}", one.property, one.found.words(), one.wanted.words()))
                    .collect();
                format!("{:?} {}: {}", clause.is, clause.address, properties.join("; "))
            })
            .collect();
        assert_eq!(
            clauses,
            [
                "Both account:gate: password_hash (concealed) -> (concealed)",
                "OnlyFrom file:/etc/gate/tariffs.csv: copy tariffs.csv -> nothing",
                "OnlyTo package:gate-fonts: ",
                "Both package:gate-reader: needs nothing -> account:gate; version 2.1.4 -> 2.2.*",
            ]
        );
        assert!(difference.files[0].text.as_ref().unwrap().text.contains("+adult,4.40"));
        let same = kit("2.1.0", &old, "x");
        assert!(kit_difference(&same, &same).is_empty());
    }
}
