//! The steps of a run at which tests can interrupt it.
//!
//! With `CONSTANS_STEPS=FILE` each step is written to FILE as it is reached; with `CONSTANS_KILL_AT=N` the program
//! kills itself by SIGKILL at the N-th.

use std::fs::OpenOptions;
use std::io::Write as _;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

struct StepSettings {
    list: Option<std::ffi::OsString>,
    kill_at: Option<u64>,
}

static REACHED: AtomicU64 = AtomicU64::new(0);
static STEP_SETTINGS: OnceLock<StepSettings> = OnceLock::new();

/// Notes that a step was reached; `what` says which, `of` about what.
pub fn reached(what: &str, of: &str) {
    let settings = STEP_SETTINGS.get_or_init(|| StepSettings {
        list: std::env::var_os("CONSTANS_STEPS"),
        kill_at: std::env::var("CONSTANS_KILL_AT").ok().and_then(|number| number.parse().ok()),
    });
    if settings.list.is_none() && settings.kill_at.is_none() {
        return;
    }
    let number = REACHED.fetch_add(1, Ordering::Relaxed) + 1;
    if let Some(mut list) =
        settings.list.as_ref().and_then(|path| OpenOptions::new().create(true).append(true).open(path).ok())
    {
        let _ = writeln!(list, "{number} {what} {of}");
    }
    if settings.kill_at == Some(number) {
        let _ = rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::KILL);
    }
}
