//! The OpenAPI document of the interface, made from the handlers.

use super::described::complete;
use super::{
    activity, admission, agent_package, asset, audit, change, clauses, compliance, concession, control,
    desired, drift, event, evidence, explained, freeze, group, group_view, health, invitation, joining, live,
    node, node_edit, node_own, overview, page_error, person, recovery, release, retired, run, server_status,
    sign_in, stage, token,
};
use crate::checkin::{check_in, install, join, wanted};
use constans_wire::check_in::Problem;
use rocket::get;
use rocket::http::ContentType;
use std::sync::LazyLock;
use utoipa::openapi::security::{ApiKey, ApiKeyValue, HttpAuthScheme, HttpBuilder, SecurityScheme};
use utoipa::{Modify, OpenApi};

/// The interface. The scopes of each path are the permissions that it needs.
#[derive(OpenApi)]
#[openapi(
    info(title = "Constans", description = "Desired and actual state of a fleet. Errors are application/problem+json (RFC 9457)."),
    components(schemas(Problem)),
    modifiers(&Schemes),
    paths(
        sign_in::sign_in, sign_in::client_token, sign_in::welcome_for, sign_in::welcome, sign_in::own_session, sign_in::sign_out,
        overview::overview, server_status::show, live::live, event::list, invitation::make, invitation::list, invitation::withdraw, person::list, person::grant, person::take, person::remove, person::refused,
        token::list, token::make, token::withdraw, joining::list, joining::approve, joining::deny,
        agent_package::list, agent_package::line, agent_package::add, agent_package::remove, admission::list, admission::show, admission::make, admission::end, desired::export, desired::import, node_own::show, node_own::edits, explained::layers, explained::would_get, explained::settings, retired::list, retired::bring_back,
        node::list, node::show, node::why, node::revoke, node::resolve_duplicate, node_edit::label, node_edit::by_table, node_edit::rename, node_edit::retire, clauses::list, compliance::figures, compliance::days, compliance::examinations, compliance::moves,
        concession::list, concession::show, concession::ask, concession::approve, concession::refuse, concession::end, evidence::list, evidence::show, evidence::make, evidence::file, evidence::stop, evidence::remove, evidence::chain, evidence::check_day, drift::figures, drift::episodes, drift::found, drift::acceptable, drift::accept, control::list, control::valid, control::gaps, control::versions, control::set, asset::list, asset::set,
        clauses::left, recovery::show, recovery::end,
        release::prepare, release::put_content, release::publish, release::check, release::list, release::show, release::text,
        release::file, release::compare, release::log, release::withdraw, release::labels, release::kinds, stage::list, stage::make, stage::shift, stage::rename, stage::second_person, stage::remove, stage::serve, stage::advance, stage::back, group::list, group::set, group::edit, group::remove, group_view::show, group_view::baselines, group_view::try_members,
        change::list, change::show, change::nodes, change::confirm, change::approve, change::deny, change::stop, change::go_back, freeze::list, freeze::set, freeze::end,
        run::list, run::show, run::compare, run::episodes, run::hours, activity::list, audit::list, audit::verify, page_error::report, document, health::healthy, health::ready,
        join::greeting, join::join, join::ask_again, join::renew, check_in::check_in, wanted::state, wanted::content, wanted::report, install::installer, install::package,
    )
)]
struct Interface;

struct Schemes;

impl Modify for Schemes {
    fn modify(&self, document: &mut utoipa::openapi::OpenApi) {
        let components = document.components.get_or_insert_default();
        components.add_security_scheme(
            "token",
            SecurityScheme::Http(HttpBuilder::new().scheme(HttpAuthScheme::Bearer).build()),
        );
        components.add_security_scheme(
            "session",
            SecurityScheme::ApiKey(ApiKey::Cookie(ApiKeyValue::new("__Host-constans"))),
        );
        components.add_security_scheme(
            "node",
            SecurityScheme::MutualTls { description: None, deprecated: None, extensions: None },
        );
    }
}

/// Returns the document as JSON.
pub fn document_text() -> String {
    let mut document = serde_json::to_value(Interface::openapi()).expect("the document is JSON");
    complete(&mut document);
    serde_json::to_string_pretty(&document).expect("the document is JSON")
}

/// This document.
#[utoipa::path(tag = "server", security(()), responses((status = 200, body = Object)))]
#[get("/api/openapi.json")]
pub fn document() -> (ContentType, &'static str) {
    static TEXT: LazyLock<String> = LazyLock::new(document_text);
    (ContentType::JSON, TEXT.as_str())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::collections::BTreeSet;

    #[test]
    fn every_route_is_in_the_document_and_nothing_else() {
        let routes = crate::api::routes().into_iter().chain(crate::checkin::routes());
        let mounted: BTreeSet<String> = routes
            .map(|route| format!("{} {}", route.method, route.uri.path().replace('<', "{").replace('>', "}")))
            .collect();
        let document: serde_json::Value = serde_json::from_str(&document_text()).unwrap();
        let described: BTreeSet<String> = document["paths"]
            .as_object()
            .unwrap()
            .iter()
            .flat_map(|(path, methods)| {
                methods
                    .as_object()
                    .unwrap()
                    .keys()
                    .map(move |method| format!("{} {path}", method.to_uppercase()))
            })
            .collect();
        assert_eq!(described, mounted);
    }

    #[test]
    fn the_consoles_copy_of_the_document_is_current() {
        let copy =
            std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/openapi.json"))
                .unwrap();
        assert!(
            copy.trim_end() == document_text(),
            "run: constans-server openapi > console/openapi.json; then npm run schema in console/"
        );
    }
}
