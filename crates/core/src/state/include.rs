//! Included baselines: each comes before its includer, once, and takes its includer's assignment.

use super::assigned::Assigned;
use super::resolve::Conditions;
use crate::document::{Code, Finding, Located};
use crate::kit::{Baseline, Kit};
use crate::nearest::nearest_word;

/// Returns the assigned baselines with those that they include, in the order in which their clauses come.
///
/// What comes twice keeps its first place and joins the terms of both assignments.
pub(super) fn with_includes<'a>(
    assigned: &[Assigned<'a>],
    kits: &[&'a Kit],
    conditions: Conditions,
    findings: &mut Vec<Finding>,
) -> Vec<Assigned<'a>> {
    let mut inclusion = Inclusion { kits, conditions, all: Vec::new(), open: Vec::new(), findings };
    for one in assigned {
        inclusion.visit(one.clone());
    }
    inclusion.all
}

/// Returns the names, as `KIT/BASELINE`, of a baseline and of all that it includes, also by others; what it cannot find is left out.
pub fn with_included(kit: &Kit, baseline: &Baseline, kits: &[&Kit]) -> Vec<String> {
    let assigned = [Assigned::plainly(kit, baseline)];
    with_includes(&assigned, kits, Conditions::Decide, &mut Vec::new())
        .iter()
        .map(|one| format!("{}/{}", one.kit.name, one.baseline.name.value))
        .collect()
}

struct Inclusion<'a, 'f> {
    kits: &'f [&'a Kit],
    conditions: Conditions,
    all: Vec<Assigned<'a>>,
    /// The baselines whose includes are just being looked at, each with the place that includes the next.
    open: Vec<(Assigned<'a>, Option<&'a Located<String>>)>,
    findings: &'f mut Vec<Finding>,
}

impl<'a> Inclusion<'a, '_> {
    fn visit(&mut self, one: Assigned<'a>) {
        if let Some(at) = self.open.iter().position(|(open, _)| open.is_same_as(&one)) {
            return self.circle(at);
        }
        let known = self.all.iter().position(|known| known.is_same_as(&one));
        if let Some(at) = known
            && !self.all[at].terms.join(&one.terms)
        {
            return;
        }
        self.open.push((one.clone(), None));
        for include in &one.baseline.include {
            self.open.last_mut().expect("just pushed").1 = Some(include);
            if let Some((kit, baseline)) = self.find(one.kit, include) {
                self.visit(Assigned { kit, baseline, terms: one.terms.clone() });
            }
        }
        self.open.pop();
        if known.is_none() {
            self.all.push(one);
        }
    }

    /// Finds what an include means; what is wrong with it is said once.
    fn find(&mut self, own: &'a Kit, include: &'a Located<String>) -> Option<(&'a Kit, &'a Baseline)> {
        let place = include.place.clone().in_kit(&own.name);
        let (kit_name, baseline) = include.value.split_once('/').unwrap_or((&own.name, &include.value));
        let kit = if kit_name == own.name {
            Some(own)
        } else {
            self.kits.iter().copied().find(|kit| kit.name == kit_name)
        };
        let required = kit_name == own.name || own.requires.iter().any(|required| required.kit == kit_name);
        let finding = match kit {
            _ if !required => {
                Finding::error(Code::NotRequired, place, format!("the kit does not require `{kit_name}`"))
                    .hint(format!("add {kit_name} = \"^1.0\" to [requires] in kit.toml"))
            }
            // A check said so of the requirement already; a node must not go without what is included.
            None if self.conditions == Conditions::CountAsTrue => return None,
            None => Finding::error(
                Code::NotAtHand,
                place,
                format!("`{kit_name}` is not available, and `{baseline}` is included from it"),
            )
            .hint(format!("name its folder: --with ../{kit_name}")),
            Some(kit) => match kit.baseline(baseline) {
                Some(found) => return Some((kit, found)),
                None => {
                    let names = kit.baselines.iter().map(|baseline| baseline.name.value.as_str());
                    let hint = nearest_word(baseline, names.clone()).map_or_else(
                        || format!("it has {}", names.collect::<Vec<_>>().join(", ")),
                        |near| format!("did you mean `{near}`?"),
                    );
                    Finding::error(
                        Code::UnknownBaseline,
                        place,
                        format!("{}@{} has no baseline `{baseline}`", kit.name, kit.version),
                    )
                    .hint(hint)
                }
            },
        };
        if !self.findings.contains(&finding) {
            self.findings.push(finding);
        }
        None
    }

    fn circle(&mut self, from: usize) {
        let round = &self.open[from..];
        let names: Vec<&str> =
            round.iter().chain(round.first()).map(|(one, _)| one.baseline.name.value.as_str()).collect();
        let place = |include: Option<&Located<String>>, kit: &Kit| {
            include.map(|include| include.place.clone().in_kit(&kit.name))
        };
        let Some(first) = place(round[0].1, round[0].0.kit) else { return };
        let mut finding = Finding::error(
            Code::IncludeCircle,
            first,
            format!("cycle of includes: {}", names.join(" includes ")),
        )
        .hint("remove one of these includes");
        for (one, include) in &round[1..] {
            if let Some(place) = place(*include, one.kit) {
                finding = finding.related(format!("`{}`", one.baseline.name.value), place);
            }
        }
        if !self.findings.iter().any(|known| known.code == Code::IncludeCircle) {
            self.findings.push(finding);
        }
    }
}
