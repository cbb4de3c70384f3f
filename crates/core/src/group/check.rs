//! The check of a group, as strict as that of a kit: what it assigns is published, what it sets is declared, and its filter can
//! be evaluated.

use super::Group;
use crate::document::{Code, Element, ElementValue, Finding, KitFiles, Level, Place, read_toml};
use crate::filter::{Condition, Plain};
use crate::kit::{Baseline, Kit};
use crate::nearest::nearest_word;
use crate::param::takes;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// What the check has to say of a group.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct GroupFinding {
    /// The stable code, as `C0132`.
    pub code: String,
    /// Whether the group is refused.
    pub is_error: bool,
    /// Where, as a JSON pointer (RFC 6901) into the group: `/assignments/1/baseline`.
    pub at: String,
    /// The part of the text there, in bytes, if it is about a part of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub part: Option<(usize, usize)>,
    /// One fact, in lower case.
    pub message: String,
    /// What to do.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hint: Option<String>,
}

/// What a group is checked against.
#[derive(Debug, Clone, Copy)]
pub struct GroupSurroundings<'s> {
    /// The names of all published kits.
    pub names: &'s BTreeSet<String>,
    /// Of each kit that the group names, the newest release first, then those that stages serve.
    pub kits: &'s [&'s Kit],
    /// The stages in order.
    pub stages: &'s [String],
    /// The controls of the catalogue, if there is one.
    pub controls: Option<&'s BTreeSet<String>>,
    /// The labels that nodes have, each with its values.
    pub labels: &'s BTreeMap<String, BTreeSet<String>>,
}

impl Group {
    /// Returns the kits whose baselines it assigns or whose parameters it sets.
    pub fn kits(&self) -> BTreeSet<&str> {
        let of_parameters = self.parameters.keys().filter_map(|name| Some(name.split_once('/')?.0));
        self.assignments.iter().map(|assignment| assignment.kit.as_str()).chain(of_parameters).collect()
    }
}

impl GroupFinding {
    fn error(code: Code, at: String, message: String, hint: Option<String>) -> Self {
        Self { code: code.to_string(), is_error: true, at, part: None, message, hint }
    }

    /// Returns it as a person reads it who has the group's document, with the line itself marked.
    pub fn explain(&self, file: &str, text: &str) -> String {
        let files = KitFiles::new(BTreeMap::from([(file.to_owned(), text.as_bytes())]));
        let place = self.place(file, text);
        let level = if self.is_error { Level::Error } else { Level::Warning };
        let finding = Finding {
            level,
            ..Finding::error(Code::WrongValue, place, self.message.clone()).maybe_hint(self.hint.clone())
        };
        finding.explain_as(&self.code, &files, "")
    }

    fn place(&self, file: &str, text: &str) -> Place {
        // A parameter that is not declared is wrong by its name, and any other value by itself.
        let by_name = self.at.starts_with("/parameters/") && self.code != Code::ParameterValue.to_string();
        let found = read_toml(file, text).and_then(|document| place_of(&document, &self.at, by_name));
        let Some(place) = found else { return Place::of_file(file) };
        match self.part {
            // What is quoted begins behind the quote.
            Some((start, end)) => {
                Place::new(&place.file, text, place.start + 1 + start..place.start + 1 + end)
            }
            None => place,
        }
    }
}

/// Returns the place of what a JSON pointer leads to, or of what it leads to last; of a table, and if it is wanted of everything,
/// the place of its key.
fn place_of(document: &Element, pointer: &str, of_key: bool) -> Option<Place> {
    let mut place = None;
    let mut node = document;
    for step in pointer.split('/').skip(1) {
        let step = step.replace("~1", "/").replace("~0", "~");
        let next = match &node.value {
            ElementValue::Table(fields) => {
                fields.iter().find(|(key, ..)| *key == step).map(|(_, key, node)| (key.clone(), node))
            }
            ElementValue::List(items) => {
                step.parse().ok().and_then(|at: usize| items.get(at)).map(|node| (node.place.clone(), node))
            }
            ElementValue::Plain(_) => None,
        };
        let Some((key, found)) = next else { return place };
        place = Some(if of_key || matches!(found.value, ElementValue::Table(_)) {
            key
        } else {
            found.place.clone()
        });
        node = found;
    }
    place
}

/// Checks a group. Reading its filter needs a deep stack.
pub fn check_group(group: &Group, around: GroupSurroundings<'_>) -> Vec<GroupFinding> {
    let mut findings = Vec::new();
    check_filter(group, around, &mut findings);
    if let Some(stage) = group.stage.as_ref().filter(|stage| !around.stages.contains(stage)) {
        let hint = near(stage, around.stages.iter().map(String::as_str), "the stages are");
        findings.push(GroupFinding::error(
            Code::WrongValue,
            "/stage".into(),
            format!("there is no stage `{stage}`"),
            Some(hint),
        ));
    }
    for word in group.settings_until.keys().filter(|word| group.settings.get(word).is_none()) {
        findings.push(GroupFinding::error(
            Code::WrongValue,
            format!("/settings_until/{word}"),
            format!("`{word}` has an end, and is not set"),
            Some("set it below `settings`, or leave its end out".to_owned()),
        ));
    }
    for (at, assignment) in group.assignments.iter().enumerate() {
        if let Err((is_kit, message, hint)) = find_baselines(&assignment.kit, &assignment.baseline, around) {
            let at = format!("/assignments/{at}/{}", if is_kit { "kit" } else { "baseline" });
            findings.push(GroupFinding::error(
                if is_kit { Code::UnknownKit } else { Code::UnknownBaseline },
                at,
                message,
                Some(hint),
            ));
        }
        let known = around.controls;
        for control in
            assignment.satisfies.iter().filter(|one| known.is_some_and(|known| !known.contains(*one)))
        {
            let hint = near(control, known.into_iter().flatten().map(String::as_str), "the controls are");
            let finding = GroupFinding::error(
                Code::UnknownControl,
                format!("/assignments/{at}/satisfies"),
                format!("the catalogue has no control `{control}`"),
                Some(hint),
            );
            findings.push(GroupFinding { is_error: false, ..finding });
        }
    }
    for (name, value) in &group.parameters {
        let at = format!("/parameters/{}", name.replace('~', "~0").replace('/', "~1"));
        let split = name.split_once('/').and_then(|(kit, rest)| Some((kit, rest.split_once('.')?)));
        let Some((kit, (baseline, parameter))) = split else {
            let hint = "write it as \"KIT/BASELINE.PARAM\"".to_owned();
            findings.push(GroupFinding::error(
                Code::UnknownParameter,
                at,
                format!("`{name}` names no parameter"),
                Some(hint),
            ));
            continue;
        };
        match find_baselines(kit, baseline, around) {
            Err((is_kit, message, hint)) => {
                findings.push(GroupFinding::error(
                    if is_kit { Code::UnknownKit } else { Code::UnknownBaseline },
                    at,
                    message,
                    Some(hint),
                ));
            }
            Ok(baselines) => check_value(&baselines, parameter, value, at, &mut findings),
        }
    }
    findings
}

fn check_filter(group: &Group, around: GroupSurroundings<'_>, findings: &mut Vec<GroupFinding>) {
    let Some(filter) = &group.filter else { return };
    match Condition::parse_for_group(filter) {
        Err(errors) => findings.extend(errors.into_iter().map(|error| GroupFinding {
            part: Some((error.range.start, error.range.end)),
            ..GroupFinding::error(Code::Condition, "/filter".into(), error.message, error.hint)
        })),
        Ok(condition) => {
            let mut warn = |word: &str, message: String, hint: String| {
                let part = filter.find(word).map(|at| (at, at + word.len()));
                let finding = GroupFinding::error(Code::UnknownLabel, "/filter".into(), message, Some(hint));
                findings.push(GroupFinding { is_error: false, part, ..finding });
            };
            for label in condition.labels().filter(|label| !around.labels.contains_key(*label)) {
                let hint = near(label, around.labels.keys().map(String::as_str), "nodes have the labels");
                warn(label, format!("no node has the label `{label}`"), hint);
            }
            for (label, value) in condition.plain().iter().flat_map(Plain::label_values) {
                let Some(values) = around.labels.get(label).filter(|values| !values.contains(value)) else {
                    continue;
                };
                let hint = near(value, values.iter().map(String::as_str), "its values are");
                warn(value, format!("no node has the label {label} = `{value}`"), hint);
            }
        }
    }
}

/// Returns the baselines of this name, those of the newest release first; or whether the kit is what is not there, and what to say.
fn find_baselines<'s>(
    kit: &str,
    baseline: &str,
    around: GroupSurroundings<'s>,
) -> Result<Vec<&'s Baseline>, (bool, String, String)> {
    if !around.names.contains(kit) {
        let hint = near(kit, around.names.iter().map(String::as_str), "the published kits are");
        return Err((true, format!("no release of a kit `{kit}` is published"), hint));
    }
    let releases: Vec<&Kit> = around.kits.iter().copied().filter(|one| one.name == kit).collect();
    let found: Vec<&Baseline> = releases.iter().filter_map(|kit| kit.baseline(baseline)).collect();
    if found.is_empty() {
        let names: BTreeSet<&str> = releases
            .iter()
            .flat_map(|kit| &kit.baselines)
            .map(|baseline| baseline.name.value.as_str())
            .collect();
        let hint = near(baseline, names, "its baselines are");
        return Err((false, format!("the kit {kit} has no baseline `{baseline}`"), hint));
    }
    Ok(found)
}

/// A value is right if a release takes it that is served, or the newest.
fn check_value(
    baselines: &[&Baseline],
    name: &str,
    value: &serde_json::Value,
    at: String,
    findings: &mut Vec<GroupFinding>,
) {
    let declared: Vec<_> = baselines
        .iter()
        .flat_map(|baseline| &baseline.parameters)
        .filter(|parameter| parameter.name.value == name)
        .collect();
    let Some(newest) = declared.first() else {
        let names: BTreeSet<&str> = baselines
            .iter()
            .flat_map(|baseline| &baseline.parameters)
            .map(|parameter| parameter.name.value.as_str())
            .collect();
        let message = format!(
            "the baseline {} declares no parameter `{name}`",
            baselines.first().map_or("", |baseline| &baseline.name.value)
        );
        let hint = if names.is_empty() {
            "it has no parameters".to_owned()
        } else {
            near(name, names, "its parameters are")
        };
        findings.push(GroupFinding::error(Code::UnknownParameter, at, message, Some(hint)));
        return;
    };
    if let (Err(message), true) =
        (takes(newest, value), declared.iter().all(|parameter| takes(parameter, value).is_err()))
    {
        findings.push(GroupFinding::error(Code::ParameterValue, at, message, None));
    }
}

fn near<'w>(word: &str, all: impl IntoIterator<Item = &'w str>, what: &str) -> String {
    let all: Vec<&str> = all.into_iter().collect();
    match nearest_word(word, all.iter().copied()) {
        Some(near) => format!("did you mean `{near}`?"),
        None if all.is_empty() => "there are none yet".to_owned(),
        None => format!("{what} {}", all.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::check::{Surroundings, check};

    fn kit() -> Kit {
        let files = [
            ("kit.toml", "[kit]\nname = \"kiosk-floor\"\nversion = \"1.0.0\"\n"),
            (
                "baselines/kiosk-lockdown.toml",
                "[baseline]\nname = \"kiosk-lockdown\"\n[params.idle_seconds]\ntype = \"integer\"\nmin = 10\ndefault = 90\n[[clause]]\nwhat = \"file:/etc/idle\"\ntext = \"{{ params.idle_seconds }}\"\n[params.lanes]\ntype = \"list\"\nof = \"string\"\ndefault = [\"A\"]\n",
            ),
        ];
        let files: BTreeMap<String, &[u8]> =
            files.map(|(path, text)| (path.to_owned(), text.as_bytes())).into();
        check(KitFiles::new(files), None, Surroundings::default()).kit.expect("it is a kit")
    }

    fn findings_of(text: &str) -> String {
        let group: Group = toml::from_str(text).expect("it is a group");
        let roles = BTreeSet::from(["kiosk".to_owned(), "gate".to_owned()]);
        let labels = BTreeMap::from([("role".to_owned(), roles)]);
        let (kit, stages) = (kit(), ["harbour".to_owned()]);
        let names = BTreeSet::from([kit.name.clone()]);
        let controls = BTreeSet::from(["SK-7".to_owned(), "SK-9".to_owned()]);
        let around = GroupSurroundings {
            names: &names,
            kits: &[&kit],
            stages: &stages,
            controls: Some(&controls),
            labels: &labels,
        };
        check_group(&group, around)
            .iter()
            .map(|finding| finding.explain("group.toml", text))
            .collect::<Vec<_>>()
            .join("\n")
    }

    #[test]
    fn a_control_that_the_catalogue_does_not_have_is_warned_of() {
        insta::assert_snapshot!(
            findings_of(
                "name = \"kiosks\"\n[[assignments]]\nkit = \"kiosk-floor\"\nbaseline = \"kiosk-lockdown\"\nsatisfies = [\"SK-7\", \"SK-8\"]\n"
            ),
            @r#"
        warning C0176: the catalogue has no control `SK-8`
          --> group.toml:5:13
        5 | satisfies = ["SK-7", "SK-8"]
          |             ^^^^^^^^^^^^^^^^
        hint: did you mean `SK-7`?
        "#
        );
    }

    #[test]
    fn what_is_not_published_or_declared_is_found_where_it_stands_with_the_nearest_word() {
        insta::assert_snapshot!(
            findings_of(
                "name = \"kiosks\"\nfilter = \"labels.rolle == 'kiosk'\"\nstage = \"harbor\"\n\n[[assignments]]\nkit = \"kiosk-flor\"\nbaseline = \"kiosk-lockdown\"\n\n[[assignments]]\nkit = \"kiosk-floor\"\nbaseline = \"lockdown\"\n\n[parameters]\n\"kiosk-floor/kiosk-lockdown.idle_second\" = 45\n\"kiosk-floor/kiosk-lockdown.idle_seconds\" = \"long\"\n\"idle\" = 1\n"
            ),
            @r#"
        warning C0143: no node has the label `rolle`
          --> group.toml:2:18
        2 | filter = "labels.rolle == 'kiosk'"
          |                  ^^^^^
        hint: did you mean `role`?

        error C0112: there is no stage `harbor`
          --> group.toml:3:9
        3 | stage = "harbor"
          |         ^^^^^^^^
        hint: did you mean `harbour`?

        error C0175: no release of a kit `kiosk-flor` is published
          --> group.toml:6:7
        6 | kit = "kiosk-flor"
          |       ^^^^^^^^^^^^
        hint: did you mean `kiosk-floor`?

        error C0173: the kit kiosk-floor has no baseline `lockdown`
          --> group.toml:11:12
        11 | baseline = "lockdown"
           |            ^^^^^^^^^^
        hint: its baselines are kiosk-lockdown

        error C0132: `idle` names no parameter
          --> group.toml:16:1
        16 | "idle" = 1
           | ^^^^^^
        hint: write it as "KIT/BASELINE.PARAM"

        error C0132: the baseline kiosk-lockdown declares no parameter `idle_second`
          --> group.toml:14:1
        14 | "kiosk-floor/kiosk-lockdown.idle_second" = 45
           | ^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^^
        hint: did you mean `idle_seconds`?

        error C0131: `idle_seconds` takes an integer, and this is a text
          --> group.toml:15:45
        15 | "kiosk-floor/kiosk-lockdown.idle_seconds" = "long"
           |                                             ^^^^^^
        "#
        );
    }

    #[test]
    fn a_filter_that_cannot_be_read_is_marked_where_it_goes_wrong() {
        insta::assert_snapshot!(findings_of("name = \"kiosks\"\nfilter = \"labels.role = 'kiosk'\"\n"), @r#"
        error C0140: token recognition error at: `= ` in the condition
          --> group.toml:2:23
        2 | filter = "labels.role = 'kiosk'"
          |                       ^

        error C0140: did not expect ``kiosk`` in the condition
          --> group.toml:2:25
        2 | filter = "labels.role = 'kiosk'"
          |                         ^
        "#);
    }

    #[test]
    fn a_value_that_no_node_has_is_marked_with_the_nearest() {
        let of = |filter: &str| findings_of(&format!("name = \"kiosks\"\nfilter = \"{filter}\"\n"));
        insta::assert_snapshot!(of("labels.role in ['kiosk', 'gaet']"), @r#"
        warning C0143: no node has the label role = `gaet`
          --> group.toml:2:37
        2 | filter = "labels.role in ['kiosk', 'gaet']"
          |                                     ^^^^
        hint: did you mean `gate`?
        "#);
        assert!(of("!(labels.role == 'quay')").contains("hint: its values are gate, kiosk"));
        for fine in ["labels.role == 'gate'", "labels.role == ''", "labels.role.startsWith('g')"] {
            assert_eq!(of(fine), "", "{fine}");
        }
    }

    #[test]
    fn a_layer_may_change_the_value_below_it() {
        let with = |value: &str| {
            format!("name = \"kiosks\"\n[parameters]\n\"kiosk-floor/kiosk-lockdown.lanes\" = {value}\n")
        };
        assert_eq!(findings_of(&with("{ add = [\"B\"], remove = [\"A\"] }")), "");
        assert!(
            findings_of(&with("{ put = [\"B\"] }"))
                .contains("a layer gives a whole list, or a map of `add` and `remove`")
        );
        assert!(
            findings_of(&with("{ add = [1] }")).contains("error C0131"),
            "{}",
            findings_of(&with("{ add = [1] }"))
        );
    }

    #[test]
    fn a_right_group_has_no_finding() {
        assert_eq!(
            findings_of(
                "name = \"kiosks\"\nfilter = \"labels.role == 'kiosk'\"\nstage = \"harbour\"\n[[assignments]]\nkit = \"kiosk-floor\"\nbaseline = \"kiosk-lockdown\"\n[parameters]\n\"kiosk-floor/kiosk-lockdown.idle_seconds\" = 45\n"
            ),
            ""
        );
    }
}
