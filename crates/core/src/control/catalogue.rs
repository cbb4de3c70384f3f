//! The catalogue, and what is wrong with one.

use crate::filter::Condition;
use crate::words::{check_name, is_hidden};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// This many controls a catalogue has at most.
pub const MAX_CONTROLS: usize = 5_000;
/// This many different scopes it has at most: each is evaluated for all nodes, each minute.
const MAX_SCOPES: usize = 100;
const LONGEST_TIME_ALLOWED: u64 = 3_650 * DAY;
/// For this many releases it sets times at most.
const MAX_RELEASES: usize = 100;
const LONGEST_TITLE: usize = 300;
const LONGEST_TEXT: usize = 20_000;

/// A catalogue of controls.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Catalogue {
    /// Its title.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub title: Option<String>,
    /// How long what is newly desired may wait until it is overdue.
    #[serde(default, skip_serializing_if = "TimeAllowed::is_default")]
    pub time_allowed_secs: TimeAllowed,
    /// The same for what single releases desire, by `KIT@VERSION`: in place of the others, as far as it names a severity.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub time_allowed_of_releases_secs: BTreeMap<String, TimeAllowedOfRelease>,
    /// The controls, in their order.
    #[serde(default)]
    pub controls: Vec<Control>,
}

/// How long what is newly desired may wait until it is overdue, in seconds by the severity of the clause.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields, default)]
pub struct TimeAllowed {
    /// 90 days if left out.
    pub low: u64,
    /// 30 days if left out.
    pub medium: u64,
    /// 7 days if left out.
    pub high: u64,
    /// A day if left out.
    pub critical: u64,
}

/// How long what a release desires newly may wait until it is overdue, in seconds by the severity of the clause; as for all releases
/// where it is left out.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
#[expect(missing_docs, reason = "the words say it")]
pub struct TimeAllowedOfRelease {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub low: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub medium: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub high: Option<u64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub critical: Option<u64>,
}

impl TimeAllowedOfRelease {
    /// Returns those that are set, in seconds, each with its severity.
    pub fn by_severity(&self) -> impl Iterator<Item = (&'static str, u64)> {
        let all =
            [("low", self.low), ("medium", self.medium), ("high", self.high), ("critical", self.critical)];
        all.into_iter().filter_map(|(severity, secs)| Some((severity, secs?)))
    }
}

impl Default for TimeAllowed {
    fn default() -> Self {
        Self { low: 90 * DAY, medium: 30 * DAY, high: 7 * DAY, critical: DAY }
    }
}

const DAY: u64 = 86_400;

impl TimeAllowed {
    fn is_default(&self) -> bool {
        *self == Self::default()
    }

    /// Returns them in seconds, each with its severity.
    pub fn by_severity(&self) -> [(&'static str, u64); 4] {
        [("low", self.low), ("medium", self.medium), ("high", self.high), ("critical", self.critical)]
    }
}

/// A control.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct Control {
    /// By what clauses name it in `satisfies`.
    pub id: String,
    /// What it is called.
    pub title: String,
    /// What it demands.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// The control or group of controls that it is a part of, by its id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub parent: Option<String>,
    /// Where it comes from: a document, an address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub source: Option<String>,
    /// Which nodes it applies to, CEL over labels, about and node.name; to all if left out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub scope: Option<String>,
    /// Whether it only gathers others: no clause has to satisfy it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub is_heading: bool,
}

/// What is wrong with a control of a catalogue.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CatalogueProblem {
    /// Its place in the catalogue, from 0; none if it is about the whole.
    pub place: Option<usize>,
    /// Its id.
    pub id: String,
    /// What, in one sentence.
    pub message: String,
}

impl Catalogue {
    /// Returns everything that is wrong with it.
    pub fn problems(&self) -> Vec<CatalogueProblem> {
        let mut problems = Vec::new();
        if self.controls.len() > MAX_CONTROLS {
            let message =
                format!("a catalogue has at most {MAX_CONTROLS} controls, this one {}", self.controls.len());
            return vec![CatalogueProblem { place: None, id: String::new(), message }];
        }
        let ids: BTreeSet<&str> = self.controls.iter().map(|control| control.id.as_str()).collect();
        let mut seen = BTreeSet::new();
        for (place, control) in self.controls.iter().enumerate() {
            let mut say = |message: String| {
                problems.push(CatalogueProblem { place: Some(place), id: control.id.clone(), message });
            };
            control.wrong_texts().into_iter().for_each(&mut say);
            if !seen.insert(control.id.as_str()) {
                say("there is a control with this id before it".to_owned());
            }
            if let Some(parent) = control.parent.as_deref().filter(|parent| !ids.contains(parent)) {
                say(format!("its parent `{parent}` is not in the catalogue"));
            }
            if let Some(scope) = &control.scope
                && let Err(errors) = Condition::parse_for_group(scope)
            {
                errors.into_iter().for_each(|error| {
                    let hint = error.hint.map(|hint| format!("; {hint}")).unwrap_or_default();
                    say(format!("its scope cannot be used: {}{hint}", error.message));
                });
            }
        }
        problems.extend(self.wrong_times());
        let scopes: BTreeSet<&str> = self.controls.iter().filter_map(|one| one.scope.as_deref()).collect();
        if scopes.len() > MAX_SCOPES {
            let message =
                format!("a catalogue has at most {MAX_SCOPES} different scopes, this one {}", scopes.len());
            problems.push(CatalogueProblem { place: None, id: "scopes".to_owned(), message });
        }
        problems.extend(self.circles());
        problems
    }

    fn wrong_times(&self) -> Vec<CatalogueProblem> {
        let problem =
            |id: &str, message: String| CatalogueProblem { place: None, id: id.to_owned(), message };
        let too_long = |id: &str, (severity, secs): (&str, u64)| {
            (secs > LONGEST_TIME_ALLOWED)
                .then(|| problem(id, format!("{severity} is at most {LONGEST_TIME_ALLOWED}, ten years")))
        };
        let usual = self.time_allowed_secs.by_severity().into_iter();
        let mut problems: Vec<CatalogueProblem> =
            usual.filter_map(|time| too_long("time_allowed_secs", time)).collect();
        const OF_RELEASES: &str = "time_allowed_of_releases_secs";
        if self.time_allowed_of_releases_secs.len() > MAX_RELEASES {
            problems.push(problem(OF_RELEASES, format!("it names at most {MAX_RELEASES} releases")));
        }
        for (release, times) in &self.time_allowed_of_releases_secs {
            let is_release = release.split_once('@').is_some_and(|(kit, version)| {
                check_name(kit).is_ok() && semver::Version::parse(version).is_ok()
            });
            if !is_release {
                let message = format!("`{release}` is no release: write \"kiosk-floor@1.1.0\"");
                problems.push(problem(OF_RELEASES, message));
            }
            problems.extend(times.by_severity().filter_map(|time| too_long(release, time)));
        }
        problems
    }

    /// Returns the controls that are parts of themselves.
    fn circles(&self) -> Vec<CatalogueProblem> {
        let parents: BTreeMap<&str, &str> = self
            .controls
            .iter()
            .filter_map(|control| Some((control.id.as_str(), control.parent.as_deref()?)))
            .collect();
        let parent = |id: &&str| parents.get(*id).copied();
        let is_in_circle = |control: &Control| {
            std::iter::successors(parent(&control.id.as_str()), parent)
                .take(parents.len())
                .any(|above| above == control.id)
        };
        let circles = self.controls.iter().enumerate().filter(|(_, control)| is_in_circle(control));
        circles
            .map(|(place, control)| CatalogueProblem {
                place: Some(place),
                id: control.id.clone(),
                message: "it is a part of itself, by its parents".to_owned(),
            })
            .collect()
    }
}

impl Control {
    fn wrong_texts(&self) -> Vec<String> {
        let mut wrong: Vec<String> = check_name(&self.id).err().into_iter().collect();
        let is_line = |text: &str, longest: usize| {
            !text.trim().is_empty() && text.chars().count() <= longest && !text.chars().any(is_hidden)
        };
        if !is_line(&self.title, LONGEST_TITLE) {
            wrong.push(format!(
                "its title has from 1 to {LONGEST_TITLE} characters on one line, none of them hidden"
            ));
        }
        if self.source.as_ref().is_some_and(|source| !is_line(source, LONGEST_TITLE)) {
            wrong.push(format!(
                "its source has from 1 to {LONGEST_TITLE} characters on one line, none of them hidden"
            ));
        }
        let is_hidden_in_text = |c: char| c != '\n' && is_hidden(c);
        if self
            .text
            .as_ref()
            .is_some_and(|text| text.chars().count() > LONGEST_TEXT || text.chars().any(is_hidden_in_text))
        {
            wrong.push(format!("its text has at most {LONGEST_TEXT} characters, none of them hidden"));
        }
        wrong
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn control(id: &str) -> Control {
        Control {
            id: id.to_owned(),
            title: "Tariffs are the published ones".to_owned(),
            ..Control::default()
        }
    }

    #[test]
    fn everything_that_is_wrong_is_said_at_once_with_the_control() {
        let controls = vec![
            control("SK-9"),
            Control { parent: Some("SK-2".to_owned()), ..control("SK-1") },
            Control { parent: Some("SK-1".to_owned()), ..control("SK-2") },
            Control { parent: Some("SK".to_owned()), title: String::new(), ..control("SK-9") },
            Control { scope: Some("node.status == \"failed\"".to_owned()), ..control("SK-11") },
        ];
        let problems = Catalogue { controls, ..Catalogue::default() }.problems();
        let said: Vec<(Option<usize>, &str, &str)> = problems
            .iter()
            .map(|one| (one.place, one.id.as_str(), one.message.split(':').next().unwrap_or("")))
            .collect();
        assert_eq!(
            said,
            [
                (Some(3), "SK-9", "its title has from 1 to 300 characters on one line, none of them hidden"),
                (Some(3), "SK-9", "there is a control with this id before it"),
                (Some(3), "SK-9", "its parent `SK` is not in the catalogue"),
                (Some(4), "SK-11", "its scope cannot be used"),
                (Some(1), "SK-1", "it is a part of itself, by its parents"),
                (Some(2), "SK-2", "it is a part of itself, by its parents"),
            ]
        );
        let too_many =
            Catalogue { controls: vec![control("SK-1"); MAX_CONTROLS + 1], ..Catalogue::default() };
        assert_eq!(too_many.problems().len(), 1);
        let scoped = |of: usize| Control {
            scope: Some(format!("labels.role == 'r{of}'")),
            ..control(&format!("SK-{of}"))
        };
        let scopes = |number| {
            Catalogue { controls: (0..number).map(scoped).collect(), ..Catalogue::default() }.problems().len()
        };
        assert_eq!((scopes(MAX_SCOPES), scopes(MAX_SCOPES + 1)), (0, 1));
    }

    #[test]
    fn a_catalogue_is_read_from_toml() {
        let text = "title = 'Skerry Line'\n[[controls]]\nid = 'SK-9'\ntitle = 'Tariffs'\nscope = \"labels.role == 'gate'\"\n";
        let catalogue: Catalogue = toml::from_str(text).expect("as written");
        assert_eq!(catalogue.problems(), []);
        assert_eq!(catalogue.controls[0].scope.as_deref(), Some("labels.role == 'gate'"));
        assert_eq!(catalogue.time_allowed_secs.critical, 86_400);
        let stricter: Catalogue = toml::from_str("[time_allowed_secs]\nhigh = 3600").expect("as written");
        assert_eq!((stricter.time_allowed_secs.high, stricter.time_allowed_secs.low), (3_600, 90 * DAY));
        let of = |release: &str, times: &str| -> Vec<String> {
            let text = format!("[time_allowed_of_releases_secs.\"{release}\"]\n{times}\n");
            let catalogue: Catalogue = toml::from_str(&text).expect("as written");
            catalogue.problems().into_iter().map(|problem| problem.message).collect()
        };
        assert!(of("kiosk-floor@1.1.0", "critical = 7200").is_empty());
        assert_eq!(
            of("kiosk-floor", "high = 1"),
            ["`kiosk-floor` is no release: write \"kiosk-floor@1.1.0\""]
        );
        assert_eq!(of("kiosk-floor@1.1.0", "low = 999999999"), ["low is at most 315360000, ten years"]);
        assert!(toml::from_str::<Catalogue>("[[controls]]\nid = 'SK-9'\ntitle = 'T'\nscop = ''").is_err());
    }
}
