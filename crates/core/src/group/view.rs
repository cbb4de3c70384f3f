//! What one group gives its nodes, beside what other groups give the same nodes.

use super::Group;
use crate::kit::{Baseline, Kit, Severity};
use crate::settings::{SETTINGS, SettingDescription, setting_words};
use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// Nodes that are in the same groups and in the same stage.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlacedAlike {
    /// The groups.
    pub groups: Vec<String>,
    /// The stage.
    pub stage: String,
    /// How many there are.
    pub nodes: u64,
}

/// What a group's page needs to know beside the group.
#[derive(Debug, Clone, Copy)]
pub struct ViewSurroundings<'s> {
    /// All groups.
    pub groups: &'s [Group],
    /// Where the nodes are placed.
    pub placed: &'s [PlacedAlike],
    /// The release that each stage serves of each kit, by stage and kit.
    pub served: &'s BTreeMap<(String, String), String>,
    /// Of each kit that the group names, and of those that these include from, the newest release first, then those that stages serve.
    pub kits: &'s [&'s Kit],
}

/// What one group gives its nodes.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GroupView {
    /// Number of its nodes.
    pub nodes: u64,
    /// The baselines that it assigns, in their order.
    pub assignments: Vec<AssignmentView>,
    /// The parameters of these baselines and of those that they include, and others that it gives values for.
    pub parameters: Vec<ParameterView>,
    /// The settings of agents.
    pub settings: Vec<SettingView>,
}

/// A baseline that a group assigns.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct AssignmentView {
    /// The kit.
    pub kit: String,
    /// The baseline.
    pub baseline: String,
    /// What it is for, in the newest release.
    pub summary: Option<String>,
    /// Number of clauses that the newest release writes, before conditions and loops are applied.
    pub clauses: u64,
    /// The severity of clauses that set none, as the kit has it.
    pub severity: Option<Severity>,
    /// The newest release.
    pub newest: Option<String>,
    /// What the stages of the group's nodes serve.
    pub served: Vec<ServedTo>,
    /// Other groups that assign it to some of these nodes, and to how many.
    pub also_by: Vec<SharedNodes>,
}

/// A release that a stage serves to nodes of a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ServedTo {
    /// The stage.
    pub stage: String,
    /// The release; none if it serves none of this kit: then the state of its nodes cannot be resolved.
    pub version: Option<String>,
    /// Number of nodes of the group in this stage.
    pub nodes: u64,
}

/// Nodes that a group has in common with another one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SharedNodes {
    /// The other group.
    pub group: String,
    /// Number of nodes.
    pub nodes: u64,
}

/// A value that another group gives to some of the nodes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GivenBy {
    /// The other group.
    pub group: String,
    /// Its priority.
    pub priority: i32,
    /// The value.
    pub value: Value,
    /// The same in words.
    pub words: String,
    /// Number of nodes of the group that are in the other one too.
    pub nodes: u64,
}

/// A parameter, and which values a group's nodes are given for it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct ParameterView {
    /// As `KIT/BASELINE.PARAMETER`.
    pub name: String,
    /// Whether the newest release declares it.
    pub is_declared: bool,
    /// What values it takes, in words.
    pub takes: String,
    /// What it means.
    pub note: Option<String>,
    /// The baseline's own default.
    pub default: Option<Value>,
    /// What the group gives.
    pub value: Option<Value>,
    /// What groups of lower priority give: the group's value is put over it.
    pub below: Vec<GivenBy>,
    /// What groups of higher priority give: it is put over the group's value.
    pub above: Vec<GivenBy>,
}

/// A setting of agents, and how it is set for a group's nodes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct SettingView {
    /// Its word in the group's document.
    pub word: String,
    /// What it decides.
    pub means: String,
    /// What it can be.
    pub takes: String,
    /// What is recommended.
    pub recommended: String,
    /// What it is if no group sets it, in words.
    pub usual: String,
    /// What the group sets.
    pub value: Option<Value>,
    /// The same in words.
    pub words: Option<String>,
    /// Until when it does; without end if none.
    pub until: Option<Timestamp>,
    /// What groups of lower priority set.
    pub below: Vec<GivenBy>,
    /// What groups of higher priority set.
    pub above: Vec<GivenBy>,
}

impl Group {
    /// Returns what the group gives its nodes, and what other groups give the same nodes.
    pub fn view(&self, around: ViewSurroundings<'_>) -> GroupView {
        let mine: Vec<&PlacedAlike> =
            around.placed.iter().filter(|placed| placed.groups.contains(&self.name)).collect();
        let viewing = Viewing { group: self, around, mine };
        GroupView {
            nodes: viewing.mine.iter().map(|placed| placed.nodes).sum(),
            assignments: viewing.assignments(),
            parameters: viewing.parameters(),
            settings: viewing.settings(),
        }
    }
}

struct Viewing<'s> {
    group: &'s Group,
    around: ViewSurroundings<'s>,
    /// Where the group's nodes are placed.
    mine: Vec<&'s PlacedAlike>,
}

impl<'s> Viewing<'s> {
    fn assignments(&self) -> Vec<AssignmentView> {
        let shown = |assignment: &super::Assignment| {
            let (kit, baseline) = (assignment.kit.clone(), assignment.baseline.clone());
            let newest = self.newest(&kit);
            let written = newest.and_then(|newest| newest.baseline(&baseline));
            AssignmentView {
                summary: written.map(|written| written.summary.clone()),
                clauses: written.map_or(0, |written| written.clauses.len() as u64),
                severity: written.map(|written| written.severity),
                newest: newest.map(|newest| newest.version.to_string()),
                served: self.served(&kit),
                also_by: self
                    .others()
                    .filter(|other| other.assigns(&kit, &baseline))
                    .map(|other| SharedNodes { group: other.name.clone(), nodes: self.shared(other) })
                    .filter(|shared| shared.nodes > 0)
                    .collect(),
                kit,
                baseline,
            }
        };
        self.group.assignments.iter().map(shown).collect()
    }

    fn newest(&self, kit: &str) -> Option<&'s Kit> {
        self.around.kits.iter().find(|known| known.name == kit).copied()
    }

    fn served(&self, kit: &str) -> Vec<ServedTo> {
        let mut by_stage: BTreeMap<&str, u64> = BTreeMap::new();
        for placed in &self.mine {
            *by_stage.entry(&placed.stage).or_default() += placed.nodes;
        }
        let version = |stage: &str| self.around.served.get(&(stage.to_owned(), kit.to_owned())).cloned();
        let of_stage = |(stage, nodes): (&str, u64)| ServedTo {
            stage: stage.to_owned(),
            version: version(stage),
            nodes,
        };
        by_stage.into_iter().map(of_stage).collect()
    }

    fn others(&self) -> impl Iterator<Item = &'s Group> {
        self.around.groups.iter().filter(|other| other.name != self.group.name)
    }

    fn shared(&self, other: &Group) -> u64 {
        let is_in_both = |placed: &&&PlacedAlike| placed.groups.contains(&other.name);
        self.mine.iter().filter(is_in_both).map(|placed| placed.nodes).sum()
    }

    /// Returns what groups of lower priority give to some of the nodes, and what those of higher priority give. Of two groups of one
    /// priority neither is put over the other: they must agree.
    fn given(
        &self,
        of: impl Fn(&Group) -> Option<Value>,
        words: impl Fn(&Value) -> String,
    ) -> [Vec<GivenBy>; 2] {
        let given = |other: &'s Group| {
            let (value, nodes) = (of(other)?, self.shared(other));
            (nodes > 0).then(|| GivenBy {
                group: other.name.clone(),
                priority: other.priority,
                words: words(&value),
                value,
                nodes,
            })
        };
        let mut all: Vec<GivenBy> = self.others().filter_map(given).collect();
        all.sort_by(|left, right| (left.priority, &left.group).cmp(&(right.priority, &right.group)));
        let (above, below) = all.into_iter().partition(|given| given.priority > self.group.priority);
        [below, above]
    }

    fn parameters(&self) -> Vec<ParameterView> {
        let assigned = self.group.assignments.iter().map(|one| (one.kit.clone(), one.baseline.clone()));
        let mut baselines: Vec<(String, String)> = assigned.collect();
        let mut at = 0;
        while let Some((kit, baseline)) = baselines.get(at).cloned() {
            at += 1;
            let included = self.newest(&kit).and_then(|newest| newest.baseline(&baseline));
            for include in included.iter().flat_map(|baseline| &baseline.include) {
                let (kit, baseline) = include.value.split_once('/').unwrap_or((&kit, &include.value));
                let included = (kit.to_owned(), baseline.to_owned());
                if !baselines.contains(&included) {
                    baselines.push(included);
                }
            }
        }
        let declared = baselines.iter().flat_map(|(kit, baseline)| {
            let written = self.newest(kit).and_then(|newest| newest.baseline(baseline));
            written
                .into_iter()
                .flat_map(move |written| written.parameters.iter())
                .map(move |parameter| format!("{kit}/{baseline}.{}", parameter.name.value))
        });
        let mut names: Vec<String> = declared.collect();
        let known: BTreeSet<&String> = names.iter().collect();
        let others: Vec<String> =
            self.group.parameters.keys().filter(|name| !known.contains(name)).cloned().collect();
        names.extend(others);
        names.into_iter().map(|name| self.parameter(name)).collect()
    }

    fn parameter(&self, name: String) -> ParameterView {
        let written = name.split_once('/').and_then(|(kit, rest)| {
            let (baseline, parameter) = rest.split_once('.')?;
            let baseline: &Baseline = self.newest(kit)?.baseline(baseline)?;
            baseline.parameters.iter().find(|declared| declared.name.value == parameter)
        });
        let [below, above] = self.given(|group| group.parameters.get(&name).cloned(), Value::to_string);
        ParameterView {
            is_declared: written.is_some(),
            takes: written.map(|written| written.takes_words()).unwrap_or_default(),
            note: written.and_then(|written| written.note.clone()),
            default: written.and_then(|written| Some(written.default.as_ref()?.value.clone())),
            value: self.group.parameters.get(&name).cloned(),
            below,
            above,
            name,
        }
    }

    fn settings(&self) -> Vec<SettingView> {
        let shown = |described: &SettingDescription| {
            let of = |group: &Group| group.settings.get(described.word);
            let [below, above] = self.given(of, |value| setting_words(described.word, value));
            let value = of(self.group);
            SettingView {
                word: described.word.to_owned(),
                means: described.means.to_owned(),
                takes: described.takes.to_owned(),
                recommended: described.recommended.to_owned(),
                usual: described.usual.to_owned(),
                words: value.as_ref().map(|value| setting_words(described.word, value)),
                until: self.group.settings_until.get(described.word).map(|end| end.until),
                value,
                below,
                above,
            }
        };
        SETTINGS.iter().map(shown).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::{Surroundings, check};
    use crate::document::KitFiles;
    use serde_json::json;

    fn kit(name: &str, version: &str, baselines: &[(&str, &str)]) -> Kit {
        let head = format!("[kit]\nname = \"{name}\"\nversion = \"{version}\"\n");
        let mut files: BTreeMap<String, Vec<u8>> = [("kit.toml".to_owned(), head.into_bytes())].into();
        for (baseline, rest) in baselines {
            let text =
                format!("[baseline]\nname = \"{baseline}\"\nsummary = \"What {baseline} is for\"\n{rest}");
            files.insert(format!("baselines/{baseline}.toml"), text.into_bytes());
        }
        let files: BTreeMap<String, &[u8]> =
            files.iter().map(|(path, text)| (path.clone(), text.as_slice())).collect();
        check(KitFiles::new(files), None, Surroundings::default()).kit.expect("it is a kit")
    }

    fn group(document: Value) -> Group {
        serde_json::from_value(document).unwrap()
    }

    fn placed(groups: &[&str], stage: &str, nodes: u64) -> PlacedAlike {
        let groups = groups.iter().map(|name| (*name).to_owned()).collect();
        PlacedAlike { groups, stage: stage.to_owned(), nodes }
    }

    /// 121 kiosks, 6 of them in the night trial, 15 in the harbour.
    fn view_of(name: &str) -> GroupView {
        let groups = [
            group(json!({ "name": "everyone", "settings": { "interval_secs": 1800, "mode": "observe" },
                "assignments": [{ "kit": "kiosk-floor", "baseline": "screen" }] })),
            group(json!({ "name": "kiosks", "priority": 10, "settings": { "mode": "enforce" },
                "assignments": [{ "kit": "kiosk-floor", "baseline": "kiosk-lockdown", "severity": "critical" }, { "kit": "kiosk-floor", "baseline": "screen" }],
                "parameters": { "kiosk-floor/kiosk-lockdown.idle_seconds": 45, "kiosk-floor/kiosk-lockdown.gone": 1 } })),
            group(
                json!({ "name": "night-trial", "priority": 20, "parameters": { "kiosk-floor/kiosk-lockdown.idle_seconds": 20 } }),
            ),
            group(
                json!({ "name": "gates", "priority": 30, "parameters": { "kiosk-floor/kiosk-lockdown.idle_seconds": 5 } }),
            ),
        ];
        let around = [
            placed(&["everyone", "kiosks"], "open-water", 100),
            placed(&["everyone", "kiosks", "night-trial"], "open-water", 6),
            placed(&["everyone", "kiosks"], "harbour", 15),
            placed(&["everyone", "gates"], "open-water", 40),
        ];
        let served = [(("open-water".to_owned(), "kiosk-floor".to_owned()), "1.0.0".to_owned())].into();
        let lockdown = "include = [\"screen\"]\n[params.idle_seconds]\ntype = \"integer\"\nmin = 10\ndefault = 90\nnote = \"When the screen locks\"\n[[clause]]\nwhat = \"file:/etc/idle\"\ntext = \"{{ params.idle_seconds }}\"\n";
        let screen = "[params.lanes]\ntype = \"list\"\nof = \"string\"\ndefault = [\"A\"]\n[[clause]]\nwhat = \"file:/etc/lanes\"\ntext = \"{{ params.lanes }}\"\n";
        let of_version =
            |version| kit("kiosk-floor", version, &[("kiosk-lockdown", lockdown), ("screen", screen)]);
        let (newest, older) = (of_version("1.1.0"), of_version("1.0.0"));
        let viewed = groups.iter().find(|group| group.name == name).unwrap();
        viewed.view(ViewSurroundings {
            groups: &groups,
            placed: &around,
            served: &served,
            kits: &[&newest, &older],
        })
    }

    #[test]
    fn an_assignment_says_which_release_its_nodes_get_and_who_else_assigns_it() {
        let view = view_of("kiosks");
        assert_eq!(view.nodes, 121);
        let [lockdown, screen] = &view.assignments[..] else { panic!("{:?}", view.assignments) };
        assert_eq!((lockdown.clauses, lockdown.newest.as_deref()), (1, Some("1.1.0")));
        assert_eq!(lockdown.summary.as_deref(), Some("What kiosk-lockdown is for"));
        let served: Vec<_> = lockdown
            .served
            .iter()
            .map(|served| (served.stage.as_str(), served.version.as_deref(), served.nodes))
            .collect();
        assert_eq!(served, [("harbour", None, 15), ("open-water", Some("1.0.0"), 106)]);
        assert!(lockdown.also_by.is_empty());
        assert_eq!(screen.also_by, [SharedNodes { group: "everyone".into(), nodes: 121 }]);
    }

    #[test]
    fn a_parameter_says_what_is_put_over_it_and_for_how_many_nodes() {
        let view = view_of("kiosks");
        let names: Vec<&str> = view.parameters.iter().map(|parameter| parameter.name.as_str()).collect();
        assert_eq!(
            names,
            [
                "kiosk-floor/kiosk-lockdown.idle_seconds",
                "kiosk-floor/screen.lanes",
                "kiosk-floor/kiosk-lockdown.gone"
            ],
            "those of included baselines too, and what is not declared last"
        );
        let idle = &view.parameters[0];
        assert_eq!((&idle.value, &idle.default), (&Some(json!(45)), &Some(json!(90))));
        assert_eq!(idle.takes, "an integer, at least 10");
        let trial = GivenBy {
            group: "night-trial".into(),
            priority: 20,
            value: json!(20),
            words: "20".into(),
            nodes: 6,
        };
        assert_eq!(
            (&idle.above[..], &idle.below[..]),
            (&[trial][..], &[][..]),
            "gates has no node in common"
        );
        assert!(!view.parameters[2].is_declared);
        let seen_from_above = view_of("night-trial");
        let below =
            GivenBy { group: "kiosks".into(), priority: 10, value: json!(45), words: "45".into(), nodes: 6 };
        assert_eq!(seen_from_above.parameters[0].below, [below]);
    }

    #[test]
    fn settings_say_what_the_group_sets_and_what_others_do() {
        let view = view_of("kiosks");
        let setting = |word: &str| view.settings.iter().find(|setting| setting.word == word).unwrap();
        assert_eq!(setting("mode").words.as_deref(), Some("enforce"));
        assert_eq!(setting("mode").below[0].value, json!("observe"));
        let interval = setting("interval_secs");
        assert_eq!((&interval.value, interval.usual.as_str()), (&None, "every 15 min"));
        let below = &interval.below[0];
        assert_eq!(
            (below.group.as_str(), below.words.as_str(), below.nodes),
            ("everyone", "every 30 min", 121)
        );
        let grace = setting("grace_secs");
        assert!(grace.below.is_empty() && grace.above.is_empty() && grace.words.is_none());
    }
}
