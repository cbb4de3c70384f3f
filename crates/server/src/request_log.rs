//! A line in the log for each request: who asked from where for what, and how it was answered. Nothing of what was sent.

use crate::door::caller_of;
use crate::metrics::{Answered, Metrics};
use rocket::fairing::{Fairing, Info, Kind};
use rocket::{Data, Request, Response};
use std::sync::Arc;
use std::time::Instant;

/// The longest path that is logged, in bytes: a path is the caller's.
const LONGEST_PATH: usize = 200;

/// Logs and counts the requests of a listener.
pub struct RequestLog {
    /// The listener: `agents`, `people` or `metrics`.
    pub listener: &'static str,
    /// Where they are counted.
    pub metrics: Arc<Metrics>,
}

struct Began(Instant);

#[rocket::async_trait]
impl Fairing for RequestLog {
    fn info(&self) -> Info {
        Info { name: "log of requests", kind: Kind::Request | Kind::Response }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        request.local_cache(|| Began(Instant::now()));
    }

    async fn on_response<'r>(&self, request: &'r Request<'_>, response: &mut Response<'r>) {
        let took_ms = request.local_cache(|| Began(Instant::now())).0.elapsed().as_millis();
        let status = response.status().code;
        let of_status = match status / 100 {
            2 => "2xx",
            3 => "3xx",
            4 => "4xx",
            _ => "5xx",
        };
        self.metrics.requests.get_or_create(&Answered { listener: self.listener, status: of_status }).inc();
        // What it is called in the interface, where it is known; else what the caller wrote, escaped.
        let asked = request.uri().path().as_str().chars().take(LONGEST_PATH).collect::<String>();
        let path = request.route().map_or(asked.clone(), |route| if self.listener == "agents" { route.uri.to_string() } else { asked });
        let from = caller_of(request).map(|caller| caller.address.ip().to_canonical().to_string()).unwrap_or_default();
        tracing::info!(target: "constans_server::request", listener = self.listener, method = %request.method(), ?path, status, took_ms = took_ms as u64, from, "request");
    }
}
