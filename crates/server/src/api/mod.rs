//! Handlers for people and programs. Each names the permission that it needs.

mod activity;
mod admission;
mod agent_package;
mod asset;
mod assign_also;
mod audit;
mod change;
mod clause_patterns;
mod clauses;
mod compliance;
mod concession;
mod console;
mod control;
mod described;
mod desired;
mod document;
mod drift;
mod drill;
mod event;
mod evidence;
mod explained;
mod follow;
mod freeze;
mod group;
mod group_view;
mod health;
mod inspection;
mod invitation;
mod joining;
mod live;
mod node;
mod node_edit;
mod node_own;
mod overview;
mod page_error;
mod person;
mod recovery;
mod release;
mod retired;
mod rollout;
mod run;
mod self_test;
mod server_status;
mod sign_in;
mod stage;
mod sweep;
mod temporary;
mod token;
mod wake;

pub use console::AnswerHeaders;
pub use document::document_text;
pub use live::Changes;
pub use server_status::LastLook;

use rocket::Route;

/// Returns the routes of the people's listener: the interface.
pub fn routes() -> Vec<Route> {
    rocket::routes![
        sign_in::sign_in,
        sign_in::client_token,
        sign_in::welcome_for,
        sign_in::welcome,
        sign_in::own_session,
        sign_in::sign_out,
        overview::overview,
        server_status::show,
        live::live,
        event::list,
        invitation::make,
        invitation::list,
        invitation::withdraw,
        person::list,
        person::grant,
        person::take,
        person::remove,
        person::refused,
        token::list,
        token::make,
        token::withdraw,
        joining::list,
        joining::approve,
        joining::deny,
        agent_package::list,
        agent_package::line,
        agent_package::add,
        agent_package::remove,
        admission::list,
        admission::show,
        admission::machines,
        admission::make,
        admission::end,
        node::list,
        node::show,
        node::why,
        node::revoke,
        node::resolve_duplicate,
        node_edit::label,
        node_edit::by_table,
        node_edit::rename,
        node_edit::retire,
        wake::ask,
        wake::show,
        wake::nodes,
        follow::go_on,
        drill::begin,
        drill::show,
        inspection::ask,
        inspection::show,
        self_test::test,
        self_test::tested,
        rollout::begin,
        rollout::list,
        rollout::show,
        rollout::nodes,
        rollout::halt,
        rollout::go_on,
        rollout::turn_back,
        sweep::begin,
        sweep::list,
        sweep::show,
        sweep::nodes,
        sweep::failed,
        sweep::stop,
        sweep::compare,
        retired::list,
        retired::bring_back,
        explained::layers,
        temporary::list,
        explained::would_get,
        explained::settings,
        node_own::show,
        node_own::edits,
        clauses::list,
        compliance::figures,
        compliance::days,
        compliance::examinations,
        compliance::moves,
        concession::list,
        concession::show,
        concession::ask,
        concession::approve,
        concession::refuse,
        concession::end,
        drift::figures,
        drift::episodes,
        drift::found,
        drift::acceptable,
        drift::accept,
        evidence::list,
        evidence::chain,
        evidence::check_day,
        evidence::show,
        evidence::make,
        evidence::file,
        evidence::stop,
        evidence::remove,
        control::list,
        control::valid,
        control::gaps,
        control::versions,
        control::set,
        asset::list,
        asset::set,
        clauses::left,
        recovery::show,
        recovery::end,
        release::prepare,
        release::put_content,
        release::publish,
        release::check,
        release::list,
        release::show,
        release::text,
        release::file,
        release::compare,
        release::log,
        release::withdraw,
        release::labels,
        release::kinds,
        stage::list,
        stage::make,
        stage::shift,
        stage::rename,
        stage::second_person,
        stage::remove,
        stage::serve,
        stage::advance,
        stage::back,
        group::list,
        group::set,
        group::edit,
        group_view::show,
        group_view::baselines,
        group_view::try_members,
        group::remove,
        desired::export,
        desired::import,
        change::list,
        change::show,
        change::nodes,
        change::confirm,
        change::approve,
        change::deny,
        change::stop,
        change::go_back,
        freeze::list,
        freeze::set,
        freeze::end,
        run::list,
        run::show,
        run::compare,
        run::episodes,
        run::hours,
        activity::list,
        audit::list,
        audit::verify,
        page_error::report,
        document::document,
        health::healthy,
        health::ready,
    ]
}

/// Returns the routes of the console's pages. What they show they ask the interface for.
pub fn pages() -> Vec<Route> {
    rocket::routes![console::page, console::part]
}
