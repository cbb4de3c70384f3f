//! Where a test has the server killed: `CONSTANS_STOP_AT=STEP`, in builds with debug assertions only.

/// Ends the process at once, as a power failure would, if it is to end at this step.
pub fn stop_at(step: &str) {
    if cfg!(debug_assertions) && std::env::var_os("CONSTANS_STOP_AT").is_some_and(|at| at == step) {
        tracing::warn!(step, "ended by CONSTANS_STOP_AT");
        std::process::abort();
    }
}
