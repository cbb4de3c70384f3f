//! The log line of each request: who, from where, what, and the answer. Nothing of what was sent, and of strangers not more
//! lines than someone would read.

use crate::callers::{caller_of, network_text};
use crate::jobs::refused_requests::RefusedRequests;
use crate::metrics::{Answered, Metrics};
use crate::store::refused_request::Refused;
use crate::trust::{CalledBy, session};
use governor::{DefaultDirectRateLimiter, Quota, RateLimiter};
use rocket::fairing::{Fairing, Info, Kind};
use rocket::{Data, Request, Response};
use std::num::NonZeroU32;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

/// The longest path that is logged, in bytes.
const LONGEST_PATH: usize = 200;
/// This many lines a second are written of strangers, and this many at once at first.
const LINES_A_SECOND: NonZeroU32 = NonZeroU32::new(20).expect("it is not 0");
const LINES_AT_ONCE: NonZeroU32 = NonZeroU32::new(200).expect("it is not 0");

/// The lines about strangers at a listener, as many as someone would read.
pub struct StrangersLines {
    listener: &'static str,
    limiter: DefaultDirectRateLimiter,
    left_out: AtomicU64,
}

impl StrangersLines {
    /// Begins with none written.
    pub fn begin(listener: &'static str) -> Self {
        let limiter = RateLimiter::direct(Quota::per_second(LINES_A_SECOND).allow_burst(LINES_AT_ONCE));
        Self { listener, limiter, left_out: AtomicU64::new(0) }
    }

    /// Returns whether a line may be written now; those that were left out before are counted in a line.
    pub fn may_write(&self, is_of_stranger: bool) -> bool {
        if is_of_stranger && self.limiter.check().is_err() {
            self.left_out.fetch_add(1, Ordering::Relaxed);
            return false;
        }
        let left_out = self.left_out.swap(0, Ordering::Relaxed);
        if left_out > 0 {
            tracing::warn!(target: "constans_server::request", listener = self.listener, left_out, "requests of strangers are not written here: they come too often");
        }
        true
    }
}

/// Returns a status as it is counted.
pub fn class_of(status: u16) -> &'static str {
    match status / 100 {
        2 => "2xx",
        3 => "3xx",
        4 => "4xx",
        _ => "5xx",
    }
}

/// Logs and counts the requests of a listener, and keeps those that are refused.
pub struct RequestLog {
    listener: &'static str,
    metrics: Arc<Metrics>,
    refused: RefusedRequests,
    lines: StrangersLines,
}

impl RequestLog {
    /// Begins the log of a listener: `agents`, `people` or `metrics`.
    pub fn begin(listener: &'static str, metrics: Arc<Metrics>, refused: RefusedRequests) -> Self {
        Self { listener, metrics, refused, lines: StrangersLines::begin(listener) }
    }
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
        self.metrics
            .requests
            .get_or_create(&Answered { listener: self.listener, status: class_of(status) })
            .inc();
        let caller = caller_of(request);
        let person = request.local_cache(|| CalledBy(None)).0.as_deref();
        let node = caller.and_then(|caller| caller.shown.as_ref()).map(|shown| shown.node);
        // What it is called in the interface; nothing that a caller wrote.
        let named = request
            .route()
            .map_or_else(|| "nothing that is there".to_owned(), |route| route.uri.path().to_owned());
        let from = caller.map(|caller| caller.address.ip()).unwrap_or(std::net::Ipv4Addr::LOCALHOST.into());
        // A caller without credentials was not signed in yet: the console's first page is no attempt at anything.
        let shows_something = node.is_some()
            || request.headers().contains("Authorization")
            || session::shown(request).is_some();
        if status == 403 || status == 401 && shows_something {
            let what = format!("{} {named}", request.method());
            let (person, from_where) = (person.map(str::to_owned), network_text(from));
            self.refused.add(Refused { person, node, what, from_where, status });
        }
        let is_stranger = person.is_none() && node.is_none() && self.listener != "metrics";
        if !self.lines.may_write(is_stranger) {
            return;
        }
        // For a known caller the line may name the node that it is about.
        let path = match person {
            Some(_) => request.uri().path().as_str().chars().take(LONGEST_PATH).collect(),
            None => named,
        };
        let (method, from) = (request.method(), from.to_canonical());
        let who = person.map(str::to_owned).or_else(|| node.map(|node| node.to_string())).unwrap_or_default();
        tracing::info!(target: "constans_server::request", listener = self.listener, %method, ?path, status, took_ms = took_ms as u64, %from, who, "request");
    }
}
