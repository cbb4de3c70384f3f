//! Answers for methods that an address does not have: 405 with `Allow` (RFC 9110).

use crate::problem::respond;
use constans_wire::check_in::Problem;
use rocket::http::{Method, Status};
use rocket::route::{Handler, Outcome};
use rocket::{Data, Request, Route};
use std::collections::{BTreeMap, BTreeSet};

/// These are asked last.
const RANK: isize = 100;
const METHODS: [Method; 5] = [Method::Get, Method::Put, Method::Post, Method::Delete, Method::Patch];

/// Returns routes, and for each of their addresses those of all other methods, which say what there is.
pub fn with_other_methods(mut routes: Vec<Route>) -> Vec<Route> {
    let mut known: BTreeMap<String, BTreeSet<&'static str>> = BTreeMap::new();
    for route in &routes {
        known.entry(route.uri.path().to_owned()).or_default().insert(route.method.as_str());
    }
    for (path, methods) in known {
        let allow = methods
            .iter()
            .copied()
            .chain(methods.contains("GET").then_some("HEAD"))
            .collect::<Vec<_>>()
            .join(", ");
        for method in METHODS.into_iter().filter(|method| !methods.contains(method.as_str())) {
            routes.push(Route::ranked(RANK, method, &path, Refusing { allow: allow.clone() }));
        }
    }
    routes
}

#[derive(Clone)]
struct Refusing {
    allow: String,
}

#[rocket::async_trait]
impl Handler for Refusing {
    async fn handle<'r>(&self, request: &'r Request<'_>, _: Data<'r>) -> Outcome<'r> {
        let problem = Problem {
            kind: "method_not_allowed".to_owned(),
            title: format!("{} is not done here", request.method()),
            status: Status::MethodNotAllowed.code,
            hint: Some(format!("here is: {}", self.allow)),
            detail: None,
            change: None,
            findings: Vec::new(),
        };
        match respond(&problem) {
            Ok(mut response) => {
                response.set_raw_header("Allow", self.allow.clone());
                Outcome::Success(response)
            }
            Err(status) => Outcome::Error(status),
        }
    }
}
