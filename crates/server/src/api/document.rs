//! The OpenAPI document of the interface, made from the handlers.

use super::described::complete;
use super::{
    activity, admission, agent_package, asset, audit, change, clauses, compliance, concession, control,
    desired, drift, drill, event, evidence, explained, follow, freeze, group, group_view, health, inspection,
    invitation, joining, live, node, node_edit, node_own, overview, page_error, person, recovery, release,
    retired, rollout, run, self_test, server_status, sign_in, stage, sweep, temporary, token, wake,
};
use crate::checkin::{
    check_in, drill as drill_answers, follow as follow_answers, inspection as inspection_answers, install,
    join, self_test as test_answers, sweep as sweep_answers, wanted,
};
use crate::door::held;
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
        agent_package::list, agent_package::line, agent_package::add, agent_package::remove, admission::list, admission::show, admission::machines, admission::make, admission::end, desired::export, desired::import, node_own::show, node_own::edits, explained::layers, temporary::list, explained::would_get, explained::settings, retired::list, retired::bring_back,
        node::list, node::show, node::why, node::revoke, node::resolve_duplicate, wake::ask, wake::show, wake::nodes, inspection::ask, inspection::show, follow::go_on, drill::begin, drill::show, self_test::test, self_test::tested, sweep::begin, sweep::list, sweep::show, sweep::nodes, sweep::failed, sweep::stop, sweep::compare, rollout::begin, rollout::list, rollout::show, rollout::nodes, rollout::halt, rollout::go_on, rollout::turn_back, node_edit::label, node_edit::by_table, node_edit::rename, node_edit::retire, clauses::list, compliance::figures, compliance::days, compliance::examinations, compliance::moves,
        concession::list, concession::show, concession::ask, concession::approve, concession::refuse, concession::end, evidence::list, evidence::show, evidence::make, evidence::file, evidence::stop, evidence::remove, evidence::chain, evidence::check_day, drift::figures, drift::episodes, drift::found, drift::acceptable, drift::accept, control::list, control::valid, control::gaps, control::versions, control::set, asset::list, asset::set,
        clauses::left, recovery::show, recovery::end,
        release::prepare, release::put_content, release::publish, release::check, release::list, release::show, release::text,
        release::file, release::compare, release::log, release::withdraw, release::labels, release::kinds, stage::list, stage::make, stage::shift, stage::rename, stage::second_person, stage::remove, stage::serve, stage::advance, stage::back, group::list, group::set, group::edit, group::remove, group_view::show, group_view::baselines, group_view::try_members,
        change::list, change::show, change::nodes, change::confirm, change::approve, change::deny, change::stop, change::go_back, freeze::list, freeze::set, freeze::end,
        run::list, run::show, run::compare, run::episodes, run::hours, activity::list, audit::list, audit::verify, page_error::report, document, health::healthy, health::ready,
        join::greeting, join::join, join::ask_again, join::renew, check_in::check_in, wanted::state, wanted::content, wanted::report, test_answers::test_state, test_answers::test_content, test_answers::test_report, sweep_answers::progress, sweep_answers::refusal, held::hold, inspection_answers::told, follow_answers::told, drill_answers::told, install::installer, install::package, install::packages,
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
    use constans_core::filter::{FieldType, RECORD_LISTS, RecordField};
    use constans_wire::wake::WAIT_PATH;
    use serde_json::Value;
    use std::collections::BTreeSet;

    #[test]
    fn every_route_is_in_the_document_and_nothing_else() {
        let routes = crate::api::routes().into_iter().chain(crate::checkin::routes());
        let mounted: BTreeSet<String> = routes
            .map(|route| format!("{} {}", route.method, route.uri.path().replace('<', "{").replace('>', "}")))
            // The door answers this one.
            .chain([format!("GET {WAIT_PATH}")])
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

    /// What the interface says of a schema, its reference followed.
    fn followed<'a>(document: &'a Value, schema: &'a Value) -> &'a Value {
        let named = schema["$ref"].as_str().or_else(|| {
            let ways = schema["oneOf"].as_array().into_iter().flatten();
            ways.filter_map(|way| way["$ref"].as_str()).next()
        });
        match named.and_then(|named| document.pointer(named.trim_start_matches('#'))) {
            Some(found) => found,
            None => schema,
        }
    }

    fn is_of_type(field: &RecordField, schema: &Value) -> bool {
        let types = schema["type"].to_string();
        match field.field_type {
            FieldType::Text => types.contains("string") || schema.get("oneOf").is_some(),
            FieldType::Moment => types.contains("string") && schema["format"] == "date-time",
            FieldType::Number => types.contains("integer") || types.contains("number"),
            FieldType::Flag => true,
            FieldType::Texts => types.contains("array") || types.contains("object"),
            FieldType::Labels => types.contains("object"),
        }
    }

    #[test]
    fn every_field_of_a_list_is_sent_by_the_interface_and_of_its_type() {
        let document: Value = serde_json::from_str(&document_text()).unwrap();
        for list in RECORD_LISTS {
            let path = match list.name {
                "change" => "/api/changes",
                "request" => "/api/joining-requests",
                "invitation" => "/api/invitations",
                "rule" => "/api/admission-rules",
                "retired" => "/api/retired-nodes",
                "release" => "/api/releases",
                "person" => "/api/people",
                "token" => "/api/tokens",
                "entry" => "/api/audit",
                "freeze" => "/api/freezes",
                "concession" => "/api/concessions",
                "evidence" => "/api/evidence",
                "group" => "/api/groups",
                "changed" => "/api/changes/{no}/nodes",
                "run" => "/api/nodes/{name}/runs",
                "sweep" => "/api/sweeps",
                "swept" => "/api/sweeps/{no}/nodes",
                "rollout" => "/api/rollouts",
                "in_rollout" => "/api/rollouts/{no}/nodes",
                "machine" => "/api/admission-rules/{no}/machines",
                "woken" => "/api/wakes/{no}/nodes",
                other => panic!("which route answers with the list of {other}?"),
            };
            let answer =
                &document["paths"][path]["get"]["responses"]["200"]["content"]["application/json"]["schema"];
            let entry = followed(&document, &answer["items"]);
            for field in list.fields {
                // What machines report of themselves is not described field by field.
                if field.path.starts_with("about.") {
                    continue;
                }
                let found = field.path.split('.').fold(entry, |schema, key| {
                    followed(&document, &followed(&document, schema)["properties"][key])
                });
                assert!(is_of_type(field, found), "{}.{}: {} is {found}", list.name, field.name, field.path);
            }
        }
    }
}
