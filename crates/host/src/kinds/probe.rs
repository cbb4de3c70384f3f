//! Read-only checks by a program.

use crate::error::HostError;
use crate::machine::{Machine, NotSeen, seen};
use crate::programs::NotRun;
use constans_core::compare::Found;
use constans_core::run::Seen;
use constans_core::state::Clause;
use regex::RegexBuilder;
use serde_json::Value;
use std::time::Duration;

/// How long a probe may take.
const TIMEOUT: Duration = Duration::from_secs(60);
/// The part of its output that is shown when it is not as expected, in characters.
const MAX_SHOWN: usize = 200;

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    let native =
        machine.programs.native(&clause.list("argv"), false, None).map_err(|not_run| match not_run {
            NotRun::Unsupported(why) => NotSeen::Unsupported(why),
            NotRun::Failed(error) => NotSeen::Failed(error),
        })?;
    let ended = native.timeout(TIMEOUT).run()?;
    let expected = clause.get("expect").and_then(Value::as_object);
    let exit = expected.and_then(|expected| expected.get("exit")).and_then(Value::as_i64);
    let pattern = expected.and_then(|expected| expected.get("stdout")).and_then(Value::as_str);
    let mut unlike = Vec::new();
    let found_exit = ended.step.exit.unwrap_or(-1);
    if exit.is_some_and(|exit| exit != i64::from(found_exit)) {
        unlike.push(format!("exit status {found_exit}"));
    }
    if let Some(pattern) = pattern {
        let pattern = RegexBuilder::new(pattern)
            .size_limit(256 * 1024)
            .build()
            .map_err(|error| HostError::new(error.to_string()))?;
        if !pattern.is_match(&ended.stdout) {
            unlike.push(output_words(&ended.stdout));
        }
    }
    let found = if unlike.is_empty() { Value::Bool(true) } else { Value::from(unlike.join(", and ")) };
    Ok(Seen { native: vec![ended.step], ..seen(Found::present().with("expect", found)) })
}

fn output_words(stdout: &str) -> String {
    let short: String = stdout.trim().chars().take(MAX_SHOWN).collect();
    if short.is_empty() { "no output".to_owned() } else { format!("output `{short}`") }
}
