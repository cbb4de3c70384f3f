//! Metrics of the server, as OpenMetrics, on a separate listener.

use crate::certificate::ServedCertificate;
use crate::clock;
use prometheus_client::encoding::text::encode;
use prometheus_client::encoding::{EncodeLabelSet, EncodeLabelValue};
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::{Registry, Unit};
use rocket::http::ContentType;
use rocket::request::{FromRequest, Outcome};
use rocket::{Request, Route, State, get};
use sqlx::PgPool;
use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::AtomicI64;

/// What the server counts and measures.
pub struct Metrics {
    registry: Registry,
    /// Check-ins that were answered.
    pub check_ins: Family<Intake, Counter>,
    /// Reports that were stored.
    pub reports: Family<Intake, Counter>,
    /// Requests by listener and the first digit of their status.
    pub requests: Family<Answered, Counter>,
    /// How long resolving the states of a change took.
    pub resolving: Histogram,
    /// How long hand-outs held the lock of the desired state.
    pub handing_out: Histogram,
    /// Events of the fleet since this process started.
    pub events: Family<EventKind, Counter>,
    /// Event streams that are open.
    pub streams: Gauge,
    /// Requests of nodes that are held.
    pub held: Gauge,
    /// What waits to be stored together.
    pub waiting: Family<Queue, Gauge>,
    connections: Family<Use, Gauge>,
    certificate_left: Family<CertificateLabels, Gauge<f64, std::sync::atomic::AtomicU64>>,
    certificates: Vec<Arc<ServedCertificate>>,
    open: Family<Listener, Gauge>,
    /// Connections that found no place.
    pub turned_away: Family<Listener, Counter>,
}

/// The kind of an event.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct EventKind {
    /// Its word.
    pub kind: String,
}

/// How something of a node was stored.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct Intake {
    /// How.
    pub path: IntakePath,
}

/// How something of a node was stored.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelValue)]
pub enum IntakePath {
    /// With those of other nodes, by one statement.
    Batched,
    /// By itself: it had news.
    Single,
}

/// How a request was answered.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct Answered {
    /// The listener: `agents` or `people`.
    pub listener: &'static str,
    /// The first digit of the status, as `2xx`.
    pub status: &'static str,
}

/// A listener.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct Listener {
    /// `agents` or `people`.
    pub listener: &'static str,
}

/// A queue of what nodes send.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct Queue {
    /// `check_ins` or `reports`.
    pub queue: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct Use {
    state: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct CertificateLabels {
    certificate: &'static str,
}

impl Metrics {
    /// Begins to measure; `certificates` are those that the server shows.
    pub fn begin(certificates: Vec<Arc<ServedCertificate>>) -> Arc<Self> {
        let mut registry = Registry::with_prefix("constans");
        let check_ins = Family::<Intake, Counter>::default();
        registry.register("check_ins", "Check-ins that were answered", check_ins.clone());
        let reports = Family::<Intake, Counter>::default();
        registry.register("reports", "Reports that were stored", reports.clone());
        let requests = Family::<Answered, Counter>::default();
        registry.register("requests", "Requests that were answered", requests.clone());
        let resolving = Histogram::new(exponential_buckets(0.001, 4.0, 10));
        registry.register_with_unit(
            "resolving",
            "Time to resolve the states that a change affects",
            Unit::Seconds,
            resolving.clone(),
        );
        let handing_out = Histogram::new(exponential_buckets(0.001, 4.0, 10));
        registry.register_with_unit(
            "handing_out",
            "Time for which hand-outs hold the lock of the desired state",
            Unit::Seconds,
            handing_out.clone(),
        );
        let events = Family::<EventKind, Counter>::default();
        registry.register(
            "events",
            "Events of the fleet since this process started; each process counts all",
            events.clone(),
        );
        let streams = Gauge::<i64, AtomicI64>::default();
        registry.register("event_streams", "Event streams that are open", streams.clone());
        let held = Gauge::<i64, AtomicI64>::default();
        registry.register("held_requests", "Nodes that can be woken: their requests are held", held.clone());
        let waiting = Family::<Queue, Gauge>::default();
        registry.register(
            "waiting",
            "Check-ins and reports that wait to be taken in together",
            waiting.clone(),
        );
        let connections = Family::<Use, Gauge>::default();
        registry.register("database_connections", "Connections to the database", connections.clone());
        let certificate_left =
            Family::<CertificateLabels, Gauge<f64, std::sync::atomic::AtomicU64>>::default();
        registry.register_with_unit(
            "certificate_left",
            "Time until a certificate of the server ends",
            Unit::Seconds,
            certificate_left.clone(),
        );
        let open = Family::<Listener, Gauge>::default();
        registry.register("connections", "Connections of callers that are open", open.clone());
        let turned_away = Family::<Listener, Counter>::default();
        registry.register(
            "connections_turned_away",
            "Connections that found no place, because there were too many",
            turned_away.clone(),
        );
        Arc::new(Self {
            registry,
            check_ins,
            reports,
            requests,
            resolving,
            handing_out,
            events,
            streams,
            held,
            waiting,
            connections,
            certificate_left,
            certificates,
            open,
            turned_away,
        })
    }

    /// Counts a caller's connection as long as what is returned is kept.
    pub fn open_connection(&self, listener: &'static str) -> OpenConnection {
        let open = self.open.get_or_create_owned(&Listener { listener });
        open.inc();
        OpenConnection(open)
    }

    /// Returns all that is measured, as text (OpenMetrics 1.0).
    fn text(&self, db: &PgPool) -> Result<String, std::fmt::Error> {
        let count = |count: usize| i64::try_from(count).unwrap_or(i64::MAX);
        let (all, idle) = (count(db.size() as usize), count(db.num_idle()));
        self.connections.get_or_create(&Use { state: "idle" }).set(idle);
        self.connections.get_or_create(&Use { state: "used" }).set((all - idle).max(0));
        for certificate in &self.certificates {
            let left = certificate.until().duration_since(clock::now()).as_secs_f64();
            self.certificate_left
                .get_or_create(&CertificateLabels { certificate: certificate.name })
                .set(left);
        }
        let mut text = String::new();
        encode(&mut text, &self.registry)?;
        Ok(text)
    }
}

/// A caller's connection that is open.
pub struct OpenConnection(Gauge);

impl Drop for OpenConnection {
    fn drop(&mut self) {
        self.0.dec();
    }
}

/// Returns the routes of the listener for metrics.
pub fn routes() -> Vec<Route> {
    rocket::routes![metrics]
}

/// What the server measures of itself: as OpenMetrics for who asks for it, else as the plain text that came before it.
#[get("/metrics")]
fn metrics(
    metrics: &State<Arc<Metrics>>,
    db: &State<PgPool>,
    accepts: AsksForOpenMetrics,
) -> Option<(ContentType, String)> {
    let text = metrics.text(db).ok()?;
    let kind = |top, sub, version| {
        ContentType::new(top, sub).with_params([("version", version), ("charset", "utf-8")])
    };
    Some(match accepts.0 {
        true => (kind("application", "openmetrics-text", "1.0.0"), text),
        false => (kind("text", "plain", "0.0.4"), plain_text(&text)),
    })
}

#[derive(Clone, Copy)]
struct AsksForOpenMetrics(bool);

#[rocket::async_trait]
impl<'r> FromRequest<'r> for AsksForOpenMetrics {
    type Error = std::convert::Infallible;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        Outcome::Success(Self(
            request.headers().get("Accept").any(|accepted| accepted.contains("application/openmetrics-text")),
        ))
    }
}

/// Returns OpenMetrics as the text format 0.0.4: a counter is called as its samples are, and there are no units and no end.
fn plain_text(open: &str) -> String {
    let counters: BTreeSet<&str> =
        open.lines().filter_map(|line| line.strip_prefix("# TYPE ")?.strip_suffix(" counter")).collect();
    let mut text = String::with_capacity(open.len());
    for line in open.lines().filter(|line| *line != "# EOF" && !line.starts_with("# UNIT ")) {
        let mut words = line.splitn(4, ' ');
        match (words.next(), words.next(), words.next(), words.next()) {
            (Some("#"), Some(what), Some(name), Some(rest)) if counters.contains(name) => {
                text.push_str(&format!("# {what} {name}_total {rest}"));
            }
            _ => text.push_str(line),
        }
        text.push('\n');
    }
    text
}
