//! One request: from the caller to Rocket, and its answer back.

use super::activity::{Activity, Busy};
use super::back::BackConnections;
use super::body::{AnswerBody, CallersBody};
use super::held::hold;
use super::listener::DoorSettings;
use crate::metrics::Answered;
use crate::request_log::{StrangersLines, class_of};
use constans_wire::check_in::Problem;
use constans_wire::wake::WAIT_PATH;
use hyper::body::Incoming;
use hyper::header::{
    CONNECTION, CONTENT_TYPE, COOKIE, EXPECT, Entry, HOST, HeaderMap, HeaderName, HeaderValue, RETRY_AFTER,
    TE, TRAILER, TRANSFER_ENCODING, UPGRADE,
};
use hyper::{Method, Request, Response, StatusCode, Uri, Version};
use serde::Serialize;
use std::error::Error as _;
use std::io;
use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Instant;

/// What belongs to one connection and is not passed on (RFC 9110, 7.6.1).
const OF_A_CONNECTION: [HeaderName; 7] = [
    CONNECTION,
    TE,
    TRAILER,
    TRANSFER_ENCODING,
    UPGRADE,
    HeaderName::from_static("keep-alive"),
    HeaderName::from_static("proxy-connection"),
];

const KNOWN_METHODS: [Method; 7] =
    [Method::GET, Method::HEAD, Method::POST, Method::PUT, Method::DELETE, Method::OPTIONS, Method::CONNECT];

/// What a caller's connection needs to pass requests on.
pub(super) struct Passage {
    pub settings: Arc<DoorSettings>,
    pub lines: Arc<StrangersLines>,
    pub caller: SocketAddr,
    pub back: Arc<BackConnections>,
    pub activity: Activity,
}

impl Passage {
    /// Passes a request on to Rocket.
    pub async fn pass(&self, request: Request<Incoming>) -> Response<AnswerBody> {
        let busy = self.activity.busy();
        let (method, began) = (request.method().clone(), Instant::now());
        if !self.settings.names.are_meant(request.uri(), request.headers()) {
            let problem = problem(StatusCode::MISDIRECTED_REQUEST, "not_this_server", "unknown host name");
            let problem = Problem {
                hint: Some("use one of the names that the server was started with (--name)".to_owned()),
                ..problem
            };
            self.note(&method, &problem, began);
            return own_answer(&problem, busy);
        }
        if let Some(waking) = self.settings.waking.as_deref()
            && request.uri().path() == WAIT_PATH
        {
            self.back.close_idle();
            let answer = hold(waking, self.back.shown(), &method, request.uri().query()).await;
            let status = answer.as_ref().map_or_else(|problem| problem.status, |_| StatusCode::OK.as_u16());
            self.count(status);
            return match answer {
                Ok(answer) => json_answer(StatusCode::OK, "application/json", &answer, busy),
                Err(problem) => own_answer(&problem, busy),
            };
        }
        match self.pass_to_rocket(request).await {
            Ok((answer, sender)) => {
                let (mut head, body) = answer.into_parts();
                without_those_of_a_connection(&mut head.headers);
                head.version = Version::default();
                Response::from_parts(head, AnswerBody::passed(body, sender, self.back.clone(), busy))
            }
            Err(problem) => {
                self.note(&method, &problem, began);
                own_answer(&problem, busy)
            }
        }
    }

    /// Counts and logs what the door answers itself; what Rocket answers is logged there.
    fn note(&self, method: &Method, problem: &Problem, began: Instant) {
        let (listener, status) = (self.settings.name, problem.status);
        self.count(status);
        if self.lines.may_write(true) {
            // A method may be any word that a caller makes up.
            let method =
                KNOWN_METHODS.iter().find(|known| *known == method).map_or("another", Method::as_str);
            let (from, took_ms) = (self.caller.ip().to_canonical(), began.elapsed().as_millis() as u64);
            tracing::info!(target: "constans_server::request", listener, method, status, took_ms, %from, because = problem.kind, "answered by the door");
        }
    }

    fn count(&self, status: u16) {
        let answered = Answered { listener: self.settings.name, status: class_of(status) };
        self.settings.metrics.requests.get_or_create(&answered).inc();
    }

    async fn pass_to_rocket(
        &self,
        request: Request<Incoming>,
    ) -> Result<(Response<Incoming>, super::back::Sender), Problem> {
        let (mut head, body) = request.into_parts();
        if head.method == Method::CONNECT {
            return Err(problem(
                StatusCode::METHOD_NOT_ALLOWED,
                "method_not_allowed",
                "CONNECT is not done here",
            ));
        }
        if let Some(host) =
            head.uri.authority().and_then(|authority| HeaderValue::from_str(authority.as_str()).ok())
        {
            head.headers.insert(HOST, host);
        }
        let path = head.uri.path_and_query().map_or("/", |path| path.as_str());
        head.uri = path
            .parse::<Uri>()
            .map_err(|_| problem(StatusCode::BAD_REQUEST, "not_understood", "the address cannot be read"))?;
        head.version = Version::HTTP_11;
        head.headers.remove(EXPECT);
        without_those_of_a_connection(&mut head.headers);
        with_cookies_joined(&mut head.headers);
        let failed = |error: &dyn std::fmt::Display| {
            tracing::warn!(%error, "a request could not be passed on");
            problem(
                StatusCode::SERVICE_UNAVAILABLE,
                "not_passed_on",
                "the server is not accepting requests now",
            )
        };
        let mut sender = self.back.take().await.map_err(|error| match error.kind() {
            io::ErrorKind::WouldBlock => {
                problem(StatusCode::SERVICE_UNAVAILABLE, "busy", "too many requests from this network")
            }
            _ => failed(&error),
        })?;
        match sender.send_request(Request::from_parts(head, CallersBody::new(body))).await {
            Ok(answer) => Ok((answer, sender)),
            Err(error) => Err(
                match error
                    .source()
                    .and_then(|source| source.downcast_ref::<io::Error>())
                    .map(io::Error::kind)
                {
                    Some(io::ErrorKind::TimedOut) => {
                        problem(StatusCode::REQUEST_TIMEOUT, "too_slow", "the request did not arrive in time")
                    }
                    Some(io::ErrorKind::QuotaExceeded) => {
                        problem(StatusCode::PAYLOAD_TOO_LARGE, "too_large", "the request is too large")
                    }
                    _ if error.is_user() => problem(
                        StatusCode::REQUEST_TIMEOUT,
                        "cut_off",
                        "the request did not arrive completely",
                    ),
                    _ => failed(&error),
                },
            ),
        }
    }
}

fn without_those_of_a_connection(headers: &mut HeaderMap) {
    let named: Vec<HeaderName> = headers
        .get_all(CONNECTION)
        .iter()
        .filter_map(|value| value.to_str().ok())
        .flat_map(|value| value.split(','))
        .filter_map(|name| name.trim().parse().ok())
        .collect();
    for name in OF_A_CONNECTION.iter().chain(&named) {
        headers.remove(name);
    }
}

/// HTTP/2 may send each cookie by itself (RFC 9113, 8.2.3).
fn with_cookies_joined(headers: &mut HeaderMap) {
    let Entry::Occupied(mut cookies) = headers.entry(COOKIE) else { return };
    if cookies.iter().count() > 1 {
        let joined = cookies.iter().map(HeaderValue::as_bytes).collect::<Vec<_>>().join(b"; ".as_slice());
        if let Ok(joined) = HeaderValue::from_bytes(&joined) {
            cookies.insert(joined);
        }
    }
}

pub(super) fn problem(status: StatusCode, kind: &str, title: &str) -> Problem {
    Problem {
        kind: kind.to_owned(),
        title: title.to_owned(),
        status: status.as_u16(),
        hint: None,
        detail: None,
        change: None,
        findings: Vec::new(),
    }
}

fn own_answer(problem: &Problem, busy: Busy) -> Response<AnswerBody> {
    let status = StatusCode::from_u16(problem.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
    let mut answer = json_answer(status, "application/problem+json", problem, busy);
    if answer.status() == StatusCode::SERVICE_UNAVAILABLE {
        answer.headers_mut().insert(RETRY_AFTER, HeaderValue::from_static("5"));
    }
    answer
}

fn json_answer(
    status: StatusCode,
    content_type: &'static str,
    body: &impl Serialize,
    busy: Busy,
) -> Response<AnswerBody> {
    let body = serde_json::to_vec(body).unwrap_or_default();
    let mut answer = Response::new(AnswerBody::own(body, busy));
    *answer.status_mut() = status;
    answer.headers_mut().insert(CONTENT_TYPE, HeaderValue::from_static(content_type));
    answer
}
