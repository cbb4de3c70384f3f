//! Drills: clauses of a node are broken on purpose, to see them noticed and put right.

use super::decide::RunSettings;
use super::restart::kept_from_change;
use super::way::may_cut_the_way;
use crate::address::ClauseAddress;
use crate::kit::Gone;
use crate::state::Clause;
use jiff::Timestamp;
use serde_json::Value;
use std::collections::BTreeSet;

/// The label of a node whose clauses may be broken in drills, and its value.
pub const DRILL_LABEL: (&str, &str) = ("drill", "allowed");
/// The kinds of which clauses can be broken.
pub const DRILLED_KINDS: [&str; 2] = ["file", "service"];

/// A drill that goes on while a run does.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Drilled {
    /// Its number: 7 is called D7.
    pub no: i64,
    /// What it broke, and nobody has put right yet.
    pub clauses: BTreeSet<ClauseAddress>,
}

/// How a drill breaks a clause.
#[derive(Debug, Clone, PartialEq)]
pub struct Broken {
    /// What is made so in its place.
    pub clause: Clause,
    /// That in words: `permissions 0640 in place of 0644`.
    pub words: String,
}

/// Returns why nothing on a node may be broken now: what keeps it from any change, or the change window is closed.
pub fn kept_from_drill(settings: &RunSettings, now: Timestamp) -> Option<String> {
    let is_closed = settings.window.as_ref().is_some_and(|window| now < window.opens || window.closes <= now);
    kept_from_change(settings, now).or_else(|| is_closed.then(|| "the change window is closed".to_owned()))
}

/// Returns how a drill breaks a clause. Nothing is lost by it, and nobody can do more than before: a file is withheld from those who are not its
/// owner, and a service that runs is stopped.
///
/// # Errors
///
/// Returns why it does not.
pub fn broken(clause: &Clause) -> Result<Broken, String> {
    if clause.gone != Gone::No {
        return Err("it is desired that it is not there".to_owned());
    }
    if may_cut_the_way(clause) {
        return Err("breaking it may cut the way to the server, or change who gets in".to_owned());
    }
    let (property, value, words) = match clause.address.kind() {
        "file" => {
            let known = clause.properties.get("permissions").and_then(Value::as_str);
            let before = known.ok_or("it names no permissions, and a drill breaks nothing else of a file")?;
            let after = withheld(before).ok_or_else(|| {
                format!("nobody but its owner may read it already, by its permissions {before}")
            })?;
            let words = format!("permissions {after} in place of {before}");
            ("permissions", Value::from(after), words)
        }
        "service" if clause.properties.get("running") == Some(&Value::Bool(true)) => {
            ("running", Value::Bool(false), "stopped".to_owned())
        }
        "service" => return Err("it is not desired that it runs".to_owned()),
        kind => {
            return Err(format!(
                "a drill breaks no {kind}, only clauses of the kinds {}",
                DRILLED_KINDS.join(" and ")
            ));
        }
    };
    let mut broken = clause.clone();
    broken.properties.insert(property.to_owned(), value);
    Ok(Broken { clause: broken, words })
}

/// Returns permissions without those of all others, or, if they have none, without those of the group; none if nobody but the owner has
/// any.
fn withheld(permissions: &str) -> Option<String> {
    let bits = u32::from_str_radix(permissions, 8).ok()?;
    let kept = [0o7_u32, 0o70].into_iter().find(|others| bits & others != 0).map(|others| bits & !others)?;
    Some(format!("{kept:04o}"))
}

#[cfg(test)]
mod tests {
    use super::super::decide::Mode;
    use super::*;
    use crate::hours::ChangeWindow;
    use crate::state::testing::clause;

    #[test]
    fn a_file_is_withheld_and_a_service_is_stopped() {
        let file = |permissions: &str| {
            broken(&clause("file:/etc/issue").with("permissions", permissions).with("content", "x"))
        };
        let broken_file = file("0644").unwrap();
        assert_eq!(broken_file.words, "permissions 0640 in place of 0644");
        assert_eq!(broken_file.clause.properties["permissions"], "0640");
        assert_eq!(broken_file.clause.properties["content"], "x");
        assert_eq!(file("0640").unwrap().clause.properties["permissions"], "0600");
        assert_eq!(file("4755").unwrap().clause.properties["permissions"], "4750");
        assert!(file("0600").unwrap_err().contains("nobody but its owner"));
        let service = broken(&clause("service:kiosk-shell").with("running", true)).unwrap();
        assert_eq!(
            (service.words.as_str(), &service.clause.properties["running"]),
            ("stopped", &Value::Bool(false))
        );
    }

    #[test]
    fn what_could_do_harm_or_proves_nothing_is_not_broken() {
        let not = |clause: Clause| broken(&clause).unwrap_err();
        assert!(not(clause("file:/etc/ssh/sshd_config").with("permissions", "0644")).contains("cut the way"));
        assert!(not(clause("service:ssh").with("running", true)).contains("cut the way"));
        assert!(not(clause("file:/etc/issue").with("content", "x")).contains("names no permissions"));
        assert!(
            not(clause("service:kiosk-shell").with("running", false)).contains("not desired that it runs")
        );
        assert!(not(clause("package:kiosk-shell")).contains("only clauses of the kinds file and service"));
        assert!(not(clause("file:/etc/issue").gone(Gone::Yes)).contains("not there"));
    }

    #[test]
    fn nothing_is_broken_where_nothing_may_be_changed() {
        let at = |hour: i64| Timestamp::from_second(hour * 3_600).unwrap();
        let enforced = RunSettings::of(Mode::Enforce);
        assert_eq!(kept_from_drill(&enforced, at(10)), None);
        assert_eq!(
            kept_from_drill(&RunSettings::of(Mode::Observe), at(10)).as_deref(),
            Some("mode is observe")
        );
        let window = Some(ChangeWindow { opens: at(20), closes: at(22) });
        let closed = kept_from_drill(&RunSettings { window, ..enforced }, at(10));
        assert_eq!(closed.as_deref(), Some("the change window is closed"));
    }
}
