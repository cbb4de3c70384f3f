//! Answers where no route fits: 405 with `Allow` (RFC 9110) for methods that an address does not have, 422 for a query that
//! cannot be read.

use crate::problem::{ApiError, respond};
use constans_wire::check_in::Problem;
use rocket::http::{Method, Status};
use rocket::route::{Handler, Outcome};
use rocket::{Data, Request, Route};
use std::collections::{BTreeMap, BTreeSet};

/// These are asked last.
const RANK: isize = 100;
const METHODS: [Method; 5] = [Method::Get, Method::Put, Method::Post, Method::Delete, Method::Patch];

/// Returns routes, for each of their addresses those of all other methods, which say what there is, and for each that takes a
/// query one that is reached if it cannot be read.
pub fn with_other_methods(mut routes: Vec<Route>) -> Vec<Route> {
    let mut known: BTreeMap<String, BTreeSet<&'static str>> = BTreeMap::new();
    let mut unread = Vec::new();
    for route in &routes {
        if route.uri.query().is_some() {
            // Right after it: the pages of the console are asked before what is asked last.
            unread.push(Route::ranked(route.rank + 1, route.method, route.uri.path(), UnreadQuery));
        }
        known.entry(route.uri.path().to_owned()).or_default().insert(route.method.as_str());
    }
    routes.append(&mut unread);
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

#[derive(Clone)]
struct UnreadQuery;

#[rocket::async_trait]
impl Handler for UnreadQuery {
    async fn handle<'r>(&self, request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r> {
        if request.uri().query().is_none_or(|query| query.is_empty()) {
            return Outcome::Forward((data, Status::NotFound));
        }
        let invalid = ApiError::invalid("query", "a value after the `?` is missing, or is not of its type");
        Outcome::from(request, invalid)
    }
}
