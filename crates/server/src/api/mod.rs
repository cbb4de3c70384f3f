//! Handlers for people and programs. Each names the permission that it needs.

mod group;
mod invitation;
mod joining;
mod node;
mod recovery;
mod release;
mod run;
mod stage;

use rocket::Route;

/// Returns the routes of the people's listener.
pub fn routes() -> Vec<Route> {
    rocket::routes![
        invitation::make,
        joining::waiting,
        joining::approve,
        joining::deny,
        node::list,
        node::explained,
        node::revoke,
        node::settle,
        recovery::show,
        recovery::end,
        release::prepare,
        release::put_content,
        release::publish,
        release::list,
        stage::list,
        stage::serve,
        group::list,
        group::set,
        run::list,
        run::show,
        run::episodes,
    ]
}
