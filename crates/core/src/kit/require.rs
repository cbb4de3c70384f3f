//! Requirements between kits: which releases of which kits go together (SemVer).

use semver::{Version, VersionReq};
use std::collections::{BTreeMap, BTreeSet};

/// The most steps that are tried; beyond, what was found so far is said to be unsolvable.
const MAX_STEPS: usize = 100_000;

/// A release and what it requires.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Release {
    /// The kit.
    pub kit: String,
    /// Its version.
    pub version: Version,
    /// The kits that it requires, with the releases of each that will do.
    pub requires: BTreeMap<String, VersionReq>,
}

/// A requirement that no release fits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unmet {
    /// The kits that lead to it, from the first requirement on; the last one is what is required.
    pub path: Vec<String>,
    /// Who requires it, `kiosk-floor@1.0.0`.
    pub by: String,
    /// What will do.
    pub wanted: VersionReq,
    /// The releases that there are, the newest first.
    pub there_are: Vec<Version>,
    /// The release that something else needs, where that is why none fits.
    pub needed_elsewhere: Option<(Version, String)>,
}

impl Unmet {
    /// Returns the kit that is required.
    pub fn kit(&self) -> &str {
        self.path.last().map_or("", String::as_str)
    }

    /// Returns it as one fact.
    pub fn message(&self) -> String {
        let (by, kit, wanted) = (&self.by, self.kit(), &self.wanted);
        match &self.needed_elsewhere {
            Some((version, for_whom)) if *for_whom == format!("{kit}@{version}") => {
                format!("{by} requires {kit} {wanted}, and not {for_whom}")
            }
            Some((version, for_whom)) => {
                format!("{by} requires {kit} {wanted}, and {for_whom} needs {kit}@{version}")
            }
            None => format!("{by} requires {kit} {wanted}, and no release of {kit} matches"),
        }
    }

    /// Returns what there is.
    pub fn hint(&self) -> String {
        let listed: Vec<String> = self.there_are.iter().take(10).map(Version::to_string).collect();
        let fitting: Vec<String> = self
            .there_are
            .iter()
            .filter(|version| self.wanted.matches(version))
            .take(10)
            .map(|version| format!("{}@{version}", self.kit()))
            .collect();
        match (listed.is_empty(), fitting.is_empty()) {
            (true, _) => format!(
                "there is no release of {}: publish it first, or publish it together with --with",
                self.kit()
            ),
            (false, true) => format!("there are {} {}", self.kit(), listed.join(", ")),
            (false, false) => format!("matching releases for {}: {}", self.by, fitting.join(", ")),
        }
    }
}

/// Returns one release for each kit that the given ones require, directly or not: the newest that go together.
///
/// The given ones themselves count as chosen. A pre-release is chosen only where a requirement names one.
///
/// # Errors
///
/// Returns all requirements of the given releases, and of the newest releases that these lead to, that nothing fits.
pub fn solve(given: &[Release], pool: &[Release]) -> Result<BTreeMap<String, Version>, Vec<Unmet>> {
    let mut by_kit: BTreeMap<&str, Vec<&Release>> = BTreeMap::new();
    for release in pool {
        by_kit.entry(&release.kit).or_default().push(release);
    }
    for releases in by_kit.values_mut() {
        releases.sort_by(|left, right| right.version.cmp(&left.version));
    }
    let mut search = Search { by_kit, steps: 0 };
    let chosen: BTreeMap<&str, &Release> =
        given.iter().map(|release| (release.kit.as_str(), release)).collect();
    if let Some(chosen) = search.extend(chosen.clone()) {
        return Ok(chosen
            .into_iter()
            .map(|(kit, release)| (kit.to_owned(), release.version.clone()))
            .collect());
    }
    Err(search.explain(given))
}

struct Search<'r> {
    by_kit: BTreeMap<&'r str, Vec<&'r Release>>,
    steps: usize,
}

impl<'r> Search<'r> {
    /// Chooses a release for the first kit that is required and not chosen, and goes on; goes back where that fails.
    fn extend(&mut self, chosen: BTreeMap<&'r str, &'r Release>) -> Option<BTreeMap<&'r str, &'r Release>> {
        self.steps += 1;
        if self.steps > MAX_STEPS {
            return None;
        }
        let mut open: Option<&'r str> = None;
        for release in chosen.values() {
            for (kit, wanted) in &release.requires {
                match chosen.get(kit.as_str()) {
                    Some(other) if !wanted.matches(&other.version) => return None,
                    Some(_) => {}
                    None => open = open.or(Some(kit)),
                }
            }
        }
        let Some(kit) = open else { return Some(chosen) };
        let wanted: Vec<&VersionReq> =
            chosen.values().filter_map(|release| release.requires.get(kit)).collect();
        let candidates: Vec<&'r Release> = self.by_kit.get(kit).into_iter().flatten().copied().collect();
        candidates
            .into_iter()
            .filter(|candidate| wanted.iter().all(|wanted| wanted.matches(&candidate.version)))
            .find_map(|candidate| {
                let mut chosen = chosen.clone();
                chosen.insert(kit, candidate);
                self.extend(chosen)
            })
    }

    /// Says what keeps the given releases from going together, taking the newest that fits at each step.
    fn explain(&self, given: &'r [Release]) -> Vec<Unmet> {
        let mut chosen: BTreeMap<&str, (&Release, String)> = given
            .iter()
            .map(|release| (release.kit.as_str(), (release, format!("{}@{}", release.kit, release.version))))
            .collect();
        let mut unmet = Vec::new();
        let mut open: Vec<(Vec<String>, &Release)> =
            given.iter().map(|release| (Vec::new(), release)).collect();
        let mut seen = BTreeSet::new();
        while let Some((path, release)) = open.pop() {
            let by = format!("{}@{}", release.kit, release.version);
            if !seen.insert(by.clone()) {
                continue;
            }
            for (kit, wanted) in &release.requires {
                let there_are = self.by_kit.get(kit.as_str()).map(Vec::as_slice).unwrap_or_default();
                let path = [path.clone(), vec![kit.clone()]].concat();
                let miss = |needed_elsewhere: Option<(Version, String)>| Unmet {
                    path: path.clone(),
                    by: by.clone(),
                    wanted: wanted.clone(),
                    there_are: there_are.iter().map(|release| release.version.clone()).collect(),
                    needed_elsewhere,
                };
                match chosen.get(kit.as_str()) {
                    Some((other, for_whom)) if !wanted.matches(&other.version) => {
                        unmet.push(miss(Some((other.version.clone(), for_whom.clone()))));
                    }
                    Some(_) => {}
                    None => match there_are.iter().find(|candidate| wanted.matches(&candidate.version)) {
                        Some(candidate) => {
                            chosen.insert(kit, (candidate, by.clone()));
                            open.push((path, candidate));
                        }
                        None => unmet.push(miss(None)),
                    },
                }
            }
        }
        unmet
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn release(name: &str, requires: &[(&str, &str)]) -> Release {
        let (kit, version) = name.split_once('@').unwrap();
        let requires =
            requires.iter().map(|(kit, wanted)| ((*kit).to_owned(), wanted.parse().unwrap())).collect();
        Release { kit: kit.into(), version: version.parse().unwrap(), requires }
    }

    fn solved(given: &[Release], pool: &[Release]) -> Result<String, String> {
        match solve(given, pool) {
            Ok(chosen) => Ok(chosen
                .iter()
                .map(|(kit, version)| format!("{kit}@{version}"))
                .collect::<Vec<_>>()
                .join(" ")),
            Err(unmet) => Err(unmet
                .iter()
                .map(|unmet| format!("{}; {}", unmet.message(), unmet.hint()))
                .collect::<Vec<_>>()
                .join("\n")),
        }
    }

    #[test]
    fn the_newest_releases_that_go_together_are_chosen() {
        let pool = [
            release("quay-base@1.2.0", &[]),
            release("quay-base@1.3.0", &[]),
            release("quay-base@2.0.0", &[]),
            release("gate-reader@2.0.0", &[("quay-base", "<1.3")]),
            release("gate-reader@2.1.0", &[("quay-base", "^2.0")]),
        ];
        assert_eq!(
            solved(&[release("kiosk-floor@1.0.0", &[("quay-base", "^1.0")])], &pool).unwrap(),
            "kiosk-floor@1.0.0 quay-base@1.3.0"
        );
        let both = [release("kiosk-floor@1.0.0", &[("quay-base", "^1.0"), ("gate-reader", "^2.0")])];
        assert_eq!(
            solved(&both, &pool).unwrap(),
            "gate-reader@2.0.0 kiosk-floor@1.0.0 quay-base@1.2.0",
            "it goes back to the older gate-reader"
        );
    }

    #[test]
    fn everything_that_cannot_be_met_is_said_with_what_would_do() {
        let pool = [release("quay-base@1.3.0", &[]), release("quay-base@1.2.0", &[])];
        insta::assert_snapshot!(solved(&[release("kiosk-floor@1.0.0", &[("quay-base", "^2.0"), ("quay-lights", "^1.0")])], &pool).unwrap_err(), @"
        kiosk-floor@1.0.0 requires quay-base ^2.0, and no release of quay-base matches; there are quay-base 1.3.0, 1.2.0
        kiosk-floor@1.0.0 requires quay-lights ^1.0, and no release of quay-lights matches; there is no release of quay-lights: publish it first, or publish it together with --with
        ");
        let served =
            [release("kiosk-floor@1.0.0", &[("quay-base", "^1.0")]), release("quay-base@2.0.0", &[])];
        insta::assert_snapshot!(
            solved(&served, &pool).unwrap_err(),
            @"kiosk-floor@1.0.0 requires quay-base ^1.0, and not quay-base@2.0.0; matching releases for kiosk-floor@1.0.0: quay-base@1.3.0, quay-base@1.2.0"
        );
    }

    #[test]
    fn requirements_that_go_round_are_fine_and_hostile_ones_end() {
        let pool = [release("a@1.0.0", &[("b", "^1")]), release("b@1.0.0", &[("a", "^1")])];
        assert_eq!(solved(&[release("x@1.0.0", &[("a", "^1")])], &pool).unwrap(), "a@1.0.0 b@1.0.0 x@1.0.0");
        let mut hostile = Vec::new();
        for kit in 0..12 {
            for version in 1..9 {
                let next = format!("k{}", kit + 1);
                let wanted = if kit == 11 { "^99" } else { "*" };
                hostile.push(release(&format!("k{kit}@{version}.0.0"), &[(next.as_str(), wanted)]));
            }
        }
        hostile.push(release("k12@1.0.0", &[]));
        assert!(solved(&[release("x@1.0.0", &[("k0", "*")])], &hostile).is_err());
    }
}
