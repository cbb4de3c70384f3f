//! Admission rules: which machines are let in without a person who looks at each of them.

use super::ExpectedMachine;
use crate::words::check_node_name;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// This many machines the table of a rule has at most.
pub const MAX_EXPECTED: usize = 10_000;
/// This many names and patterns, and this many keys, a rule has at most.
const MAX_NAMED: usize = 1_000;
/// A fingerprint is a SHA-256, in hexadecimal digits.
const KEY_DIGITS: usize = 64;

/// Which machines a rule fits: those that meet all of its conditions.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(deny_unknown_fields)]
pub struct AdmissionRule {
    /// They come with the invitation that has this id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub invitation: Option<String>,
    /// Their name is one of these, or fits one as a pattern: `kiosk-lab-*`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub names: Vec<String>,
    /// Their key has one of these fingerprints, the SHA-256 of the public key (SPKI) in hexadecimal digits.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub keys: Vec<String>,
    /// The table names them, with their key if it has one.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub table: Vec<ExpectedMachine>,
}

/// A machine that asks.
#[derive(Debug, Clone, Copy)]
pub struct Applicant<'a> {
    /// The name that it claims.
    pub name: &'a str,
    /// The fingerprint of its key, in lower-case hexadecimal digits.
    pub key: &'a str,
    /// The id of the invitation that it came with; none for a known node that asks again.
    pub invitation: Option<&'a str>,
}

/// What is known of a machine that asks, besides what it says.
#[derive(Debug, Clone, Copy, Default)]
pub struct Standing {
    /// A request with this key or this name was denied before.
    pub was_refused: bool,
    /// It is a node that was revoked.
    pub is_revoked: bool,
    /// Another node has the name.
    pub is_name_in_use: bool,
    /// The rule has let in as many machines as it may.
    pub is_used_up: bool,
}

/// Why a machine that fits a rule waits for a person all the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
#[serde(rename_all = "snake_case")]
pub enum WaitsBecause {
    /// A request with this key or this name was denied before.
    RefusedBefore,
    /// It is a node that was revoked.
    Revoked,
    /// Another node has the name.
    NameInUse,
    /// The rule has let in as many machines as it may.
    UsedUp,
}

impl WaitsBecause {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::RefusedBefore, Self::Revoked, Self::NameInUse, Self::UsedUp];

    /// Returns it in words that follow the machine's name.
    pub fn words(self) -> &'static str {
        match self {
            Self::RefusedBefore => "was refused before under this name or key",
            Self::Revoked => "was revoked",
            Self::NameInUse => "claims a name that another node has",
            Self::UsedUp => "comes after as many as the rule lets in",
        }
    }
}

/// Reads a fingerprint as people write it: letters may be capitals, and pairs may be parted by `:`, `-` or spaces.
///
/// # Errors
///
/// Returns what is wrong with it.
pub fn read_key(text: &str) -> Result<String, String> {
    let digits: String =
        text.chars().filter(|c| !matches!(c, ':' | '-' | ' ')).collect::<String>().to_lowercase();
    if let Some(other) = digits.chars().find(|c| !c.is_ascii_hexdigit()) {
        return Err(format!(
            "a fingerprint has {KEY_DIGITS} hexadecimal digits, and {other:?} is none: constans-agent join shows it"
        ));
    }
    if digits.len() != KEY_DIGITS {
        return Err(format!(
            "a fingerprint has {KEY_DIGITS} hexadecimal digits, and this has {}: constans-agent join shows it",
            digits.len()
        ));
    }
    Ok(digits)
}

impl AdmissionRule {
    /// Returns it as it is kept, with fingerprints in lower case, or everything that is wrong with it.
    ///
    /// # Errors
    ///
    /// Returns what is wrong, each with the field.
    pub fn checked(mut self) -> Result<Self, Vec<(&'static str, String)>> {
        let mut wrong = Vec::new();
        for (field, number, most) in [
            ("names", self.names.len(), MAX_NAMED),
            ("keys", self.keys.len(), MAX_NAMED),
            ("table", self.table.len(), MAX_EXPECTED),
        ] {
            if number > most {
                wrong.push((
                    field,
                    format!("at most {most}, not {number}; a table has up to {MAX_EXPECTED} machines"),
                ));
            }
        }
        if self == Self::default() {
            wrong.push((
                "names",
                "a rule names an invitation, names, keys or a table: without any it would let in everybody"
                    .to_owned(),
            ));
        }
        if !wrong.is_empty() {
            return Err(wrong);
        }
        for name in &self.names {
            if let Err(because) = check_node_name(&name.replace(['*', '?'], "x")) {
                wrong.push((
                    "names",
                    format!("{name:?}: {because}; `*` stands for any characters, `?` for one"),
                ));
            }
        }
        for key in &mut self.keys {
            match read_key(key) {
                Ok(read) => *key = read,
                Err(because) => wrong.push(("keys", format!("{key:?}: {because}"))),
            }
        }
        self.keys.sort();
        self.keys.dedup();
        if wrong.is_empty() { Ok(self) } else { Err(wrong) }
    }

    /// Returns the labels that the table gives a machine that meets all conditions; none if it does not.
    pub fn fits(&self, applicant: Applicant<'_>) -> Option<BTreeMap<String, String>> {
        let by_invitation = self.invitation.as_deref().is_none_or(|id| applicant.invitation == Some(id));
        let by_name = self.names.is_empty() || self.names.iter().any(|name| is_like(name, applicant.name));
        let by_key = self.keys.is_empty() || self.keys.iter().any(|key| key == applicant.key);
        if !(by_invitation && by_name && by_key) {
            return None;
        }
        if self.table.is_empty() {
            return Some(BTreeMap::new());
        }
        let row = self.table.iter().find(|row| row.name == applicant.name)?;
        row.key.as_deref().is_none_or(|key| key == applicant.key).then(|| row.labels.clone())
    }

    /// Returns the labels with which a machine is let in, or why it waits although it fits; none if it does not fit.
    pub fn judge(
        &self,
        applicant: Applicant<'_>,
        standing: Standing,
    ) -> Option<Result<BTreeMap<String, String>, WaitsBecause>> {
        let labels = self.fits(applicant)?;
        let because = [
            (standing.was_refused, WaitsBecause::RefusedBefore),
            (standing.is_revoked, WaitsBecause::Revoked),
            (standing.is_name_in_use, WaitsBecause::NameInUse),
            (standing.is_used_up, WaitsBecause::UsedUp),
        ];
        let waits = because.into_iter().find(|(is_so, _)| *is_so);
        Some(waits.map_or(Ok(labels), |(_, because)| Err(because)))
    }

    /// Returns why it may let in more than its author thinks of, one sentence each. `at_most` is how many machines it lets in.
    pub fn warnings(&self, at_most: Option<u32>) -> Vec<String> {
        let mut warnings = Vec::new();
        let has_all_keys = !self.keys.is_empty()
            || (!self.table.is_empty() && self.table.iter().all(|row| row.key.is_some()));
        if has_all_keys {
            return warnings;
        }
        if self.names.is_empty() && self.table.is_empty() {
            warnings.push(
                "it lets in every machine that has the invitation, under whatever name it claims".to_owned(),
            );
        } else if self.invitation.is_none() {
            warnings.push(
                "names are what machines claim: whoever has any open invitation is let in under a name that fits"
                    .to_owned(),
            );
        }
        for wide in self.names.iter().filter(|name| self.table.is_empty() && is_wide(name)) {
            warnings.push(format!("the pattern {wide} fits nearly every name"));
        }
        let is_open = self.table.is_empty()
            && (self.names.is_empty() || self.names.iter().any(|name| name.contains(['*', '?'])));
        if is_open && at_most.is_none() {
            warnings.push("nothing bounds how many machines it lets in until it ends".to_owned());
        }
        warnings
    }
}

/// A pattern with fewer characters of its own than this fits nearly every name.
const FEWEST_OWN: usize = 3;

fn is_wide(name: &str) -> bool {
    name.contains('*') && name.chars().filter(|c| c.is_ascii_alphanumeric()).count() < FEWEST_OWN
}

/// Returns whether a name fits a pattern: `*` stands for any characters, `?` for one.
pub fn is_like(pattern: &str, name: &str) -> bool {
    wildmatch::WildMatch::new(pattern).matches(name)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn key(first: char) -> String {
        std::iter::once(first).chain(std::iter::repeat_n('0', KEY_DIGITS - 1)).collect()
    }

    fn rule(names: &[&str]) -> AdmissionRule {
        AdmissionRule {
            names: names.iter().map(|name| (*name).to_owned()).collect(),
            ..AdmissionRule::default()
        }
    }

    #[test]
    fn all_conditions_have_to_be_met() {
        let (mine, other) = (key('a'), key('b'));
        let asks = |name, key, invitation| Applicant { name, key, invitation };
        let all = AdmissionRule {
            invitation: Some("i1".into()),
            keys: vec![mine.clone()],
            ..rule(&["kiosk-lab-*", "gate-lab-1"])
        };
        for (applicant, is_let_in) in [
            (asks("kiosk-lab-7", &*mine, Some("i1")), true),
            (asks("gate-lab-1", &*mine, Some("i1")), true),
            (asks("gate-lab-10", &*mine, Some("i1")), false),
            (asks("kiosk-lab-7", &*other, Some("i1")), false),
            (asks("kiosk-lab-7", &*mine, Some("i2")), false),
            (asks("kiosk-lab-7", &*mine, None), false),
        ] {
            assert_eq!(all.fits(applicant).is_some(), is_let_in, "{applicant:?}");
        }
        let row = |name: &str, key: Option<&String>| ExpectedMachine {
            name: name.into(),
            key: key.cloned(),
            labels: BTreeMap::from([("site".into(), "auken".into())]),
        };
        let table = AdmissionRule {
            table: vec![row("kiosk-lab-1", Some(&mine)), row("kiosk-lab-2", None)],
            ..AdmissionRule::default()
        };
        assert_eq!(table.fits(asks("kiosk-lab-1", &mine, None)).unwrap()["site"], "auken");
        assert_eq!(table.fits(asks("kiosk-lab-1", &other, None)), None, "the table has another key for it");
        assert!(table.fits(asks("kiosk-lab-2", &other, None)).is_some());
        assert_eq!(table.fits(asks("kiosk-lab-3", &mine, None)), None);
    }

    #[test]
    fn who_was_refused_or_revoked_or_claims_a_name_in_use_waits_for_a_person() {
        let applicant = Applicant { name: "kiosk-lab-1", key: "", invitation: None };
        let judged = |standing| rule(&["kiosk-lab-*"]).judge(applicant, standing).unwrap();
        assert_eq!(judged(Standing::default()), Ok(BTreeMap::new()));
        for (standing, because) in [
            (
                Standing { was_refused: true, is_used_up: true, ..Standing::default() },
                WaitsBecause::RefusedBefore,
            ),
            (Standing { is_revoked: true, ..Standing::default() }, WaitsBecause::Revoked),
            (Standing { is_name_in_use: true, ..Standing::default() }, WaitsBecause::NameInUse),
            (Standing { is_used_up: true, ..Standing::default() }, WaitsBecause::UsedUp),
        ] {
            assert_eq!(judged(standing), Err(because));
        }
        let refused = Standing { was_refused: true, ..Standing::default() };
        assert_eq!(rule(&["gate-*"]).judge(applicant, refused), None, "it does not fit at all");
    }

    #[test]
    fn what_is_wide_is_warned_about() {
        let warnings = |rule: &AdmissionRule, at_most| rule.warnings(at_most).join("\n");
        insta::assert_snapshot!(warnings(&rule(&["*"]), None), @"
        names are what machines claim: whoever has any open invitation is let in under a name that fits
        the pattern * fits nearly every name
        nothing bounds how many machines it lets in until it ends
        ");
        let invited = AdmissionRule { invitation: Some("i1".into()), ..AdmissionRule::default() };
        insta::assert_snapshot!(warnings(&invited, Some(40)), @"it lets in every machine that has the invitation, under whatever name it claims");
        let named = AdmissionRule { invitation: Some("i1".into()), ..rule(&["kiosk-lab-*"]) };
        assert_eq!(warnings(&named, Some(40)), "");
        assert_eq!(warnings(&named, None), "nothing bounds how many machines it lets in until it ends");
        let by_key = AdmissionRule { keys: vec![key('a')], ..AdmissionRule::default() };
        assert_eq!(warnings(&by_key, None), "", "keys cannot be claimed");
    }

    #[test]
    fn everything_wrong_is_told_at_once() {
        let wrong = |rule: AdmissionRule| {
            let all = rule.checked().unwrap_err();
            all.into_iter()
                .map(|(field, because)| format!("{field}: {because}"))
                .collect::<Vec<_>>()
                .join("\n")
        };
        insta::assert_snapshot!(wrong(AdmissionRule::default()), @"names: a rule names an invitation, names, keys or a table: without any it would let in everybody");
        let bad = AdmissionRule { keys: vec!["4c1f".into(), "xyz".into()], ..rule(&["kiosk lab-*"]) };
        insta::assert_snapshot!(wrong(bad), @r#"
        names: "kiosk lab-*": a node's name has letters, digits, `-`, `.`, `_`, at most 253, and begins with a letter or digit; `*` stands for any characters, `?` for one
        keys: "4c1f": a fingerprint has 64 hexadecimal digits, and this has 4: constans-agent join shows it
        keys: "xyz": a fingerprint has 64 hexadecimal digits, and 'x' is none: constans-agent join shows it
        "#);
        let written = key('a').to_uppercase();
        let kept =
            AdmissionRule { keys: vec![written, key('a')], ..AdmissionRule::default() }.checked().unwrap();
        assert_eq!(kept.keys, [key('a')]);
    }
}
