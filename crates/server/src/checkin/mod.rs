//! Handlers for agents.

pub mod check_in;
pub mod drill;
pub mod follow;
mod freezes;
pub mod inspection;
pub mod install;
pub mod join;
pub mod self_test;
pub mod sweep;
pub mod wanted;

use rocket::Route;

/// Returns the routes of the agents' listener.
pub fn routes() -> Vec<Route> {
    rocket::routes![
        join::greeting,
        join::join,
        join::ask_again,
        join::renew,
        check_in::check_in,
        wanted::state,
        wanted::content,
        wanted::report,
        self_test::test_state,
        self_test::test_content,
        self_test::test_report,
        sweep::progress,
        sweep::refusal,
        inspection::told,
        follow::told,
        drill::told,
        install::installer,
        install::package,
        install::packages
    ]
}
