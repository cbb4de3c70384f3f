//! Commands: what only a program can do.

use crate::error::HostError;
use crate::machine::{Machine, NotSeen, seen};
use crate::native::Native;
use crate::programs::NotRun;
use crate::secrets::Secrets;
use crate::steps;
use constans_core::compare::Found;
use constans_core::run::{NativeStep, Seen};
use constans_core::state::Clause;
use serde_json::Value;
use std::time::Duration;

const DEFAULT_TIMEOUT_SECS: u64 = 300;

pub(super) fn inspect(machine: &Machine, clause: &Clause) -> Result<Seen, NotSeen> {
    match clause.get("in_line_when") {
        Some(Value::String(path)) => {
            Ok(seen(Found::present().with("in_line_when", machine.files.look(path)?.is_some())))
        }
        // Before the account that runs it is there, a condition cannot hold.
        _ if clause
            .text("account")
            .map(|name| machine.accounts.account(name))
            .transpose()?
            .is_some_and(|account| account.is_none()) =>
        {
            Ok(seen(Found::present().with("in_line_when", false)))
        }
        _ => {
            let ended = prepare(machine, clause, &clause.list("in_line_when"), false)?.run()?;
            Ok(Seen {
                native: vec![ended.step],
                ..seen(Found::present().with("in_line_when", ended.is_well))
            })
        }
    }
}

/// Runs the command itself.
pub(crate) fn run(machine: &mut Machine, clause: &Clause) -> Result<NativeStep, HostError> {
    let native = prepare(machine, clause, &clause.list("argv"), clause.flag("shell") == Some(true)).map_err(
        |not_run| match not_run {
            NotRun::Unsupported(why) => HostError::new(why),
            NotRun::Failed(error) => error,
        },
    )?;
    steps::reached("command begins", clause.name());
    let ended = native.must();
    steps::reached("command ended", clause.name());
    ended.map(|ended| ended.step)
}

fn prepare(machine: &Machine, clause: &Clause, argv: &[&str], through_shell: bool) -> Result<Native, NotRun> {
    let timeout = clause.get("timeout").and_then(Value::as_u64).unwrap_or(DEFAULT_TIMEOUT_SECS);
    let mut native = machine
        .programs
        .native(argv, through_shell, clause.text("account"))?
        .timeout(Duration::from_secs(timeout));
    if let Some(Value::Object(env)) = clause.get("env") {
        for (name, value) in env {
            native = native.env(name, value.as_str().unwrap_or_default());
        }
    }
    if !clause.concealed.is_empty() {
        native = native.conceal(secrets(clause));
    }
    Ok(native)
}

/// Returns every text of a concealed command, so that none of them is reported.
fn secrets(clause: &Clause) -> Secrets {
    let mut secrets = Secrets::default();
    let env = clause
        .get("env")
        .and_then(Value::as_object)
        .into_iter()
        .flat_map(|env| env.values())
        .filter_map(Value::as_str);
    let arguments =
        ["argv", "in_line_when"].into_iter().flat_map(|property| clause.list(property).into_iter().skip(1));
    secrets.add(arguments.chain(env).map(str::to_owned));
    if clause.flag("shell") == Some(true) {
        clause.list("argv").first().into_iter().for_each(|script| secrets.add_with_parts(script));
    }
    secrets
}
