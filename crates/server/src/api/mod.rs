//! Handlers for people and programs. Each names the permission that it needs.

mod invitation;
mod joining;
mod node;

use rocket::Route;

/// Returns the routes of the people's listener.
pub fn routes() -> Vec<Route> {
    rocket::routes![invitation::make, joining::waiting, joining::approve, joining::deny, node::list, node::revoke]
}
