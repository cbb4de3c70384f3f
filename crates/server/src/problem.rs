//! Errors of handlers, as `application/problem+json` (RFC 9457).

use constans_core::filter::ConditionError;
use constans_core::group::GroupFinding;
use constans_wire::check_in::{Problem, RETIRED, REVOKED};
use rocket::Data;
use rocket::fairing::{Fairing, Info, Kind};
use rocket::http::{ContentType, Method, Status};
use rocket::request::Request;
use rocket::response::{self, Responder, Response};
use rocket::uri;
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::io::Cursor;

/// Why a request was not answered as asked.
#[derive(Debug, thiserror::Error)]
pub enum ApiError {
    /// Nobody is known by this token or certificate.
    #[error("unknown {0}")]
    Unknown(&'static str),
    /// Nobody is signed in.
    #[error("not signed in")]
    NotSignedIn,
    /// The request was not sent by the console's own pages.
    #[error("the request was not sent by this server's own pages")]
    NotOurPage,
    /// The name or the password is wrong; which of them is not disclosed.
    #[error("the name or the password is wrong")]
    WrongPassword,
    /// Too many failures to sign in.
    #[error("too many attempts to sign in failed")]
    TooOften {
        /// The next one is accepted after this number of seconds.
        wait_secs: u64,
    },
    /// A one-time link that was used or ended.
    #[error("this link was already used or has expired")]
    LinkOver,
    /// Randomness.
    #[error("there is no randomness")]
    Random(#[source] std::io::Error),
    /// The caller may not do this.
    #[error("{person} lacks the permission {permission}")]
    NotAllowed {
        /// The person.
        person: String,
        /// The permission.
        permission: &'static str,
    },
    /// The person may do it on the nodes of some groups only.
    #[error("{person} may do this ({permission}) only on nodes of {groups}, and not on {what}")]
    OnlyInGroups {
        /// The person.
        person: String,
        /// The permission.
        permission: &'static str,
        /// The groups.
        groups: String,
        /// On what it would be done.
        what: String,
    },
    /// The node is refused from now on.
    #[error("the node {0} was revoked")]
    Revoked(String),
    /// The node was taken out of the fleet.
    #[error("the node {0} was retired")]
    Retired(String),
    /// Something that was named is not there.
    #[error("there is no {what} `{name}`")]
    Missing {
        /// What sort of thing.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// The request is understood and cannot be done as things are.
    #[error("{message}")]
    Conflict {
        /// What happened, in one sentence.
        message: String,
        /// What to do.
        hint: String,
    },
    /// What a group or a node is given, in which the check found errors.
    #[error("{of} was refused: {}", error_words(findings))]
    Group {
        /// What it is of: `the group kiosks`.
        of: String,
        /// What was found.
        findings: Vec<GroupFinding>,
    },
    /// A change takes clauses from nodes, and nobody confirmed that.
    #[error("{}", unconfirmed_words(*change, *takes, *takes_from))]
    Unconfirmed {
        /// Its number.
        change: i64,
        /// How many clauses it takes.
        takes: u64,
        /// From how many nodes.
        takes_from: u64,
        /// The warnings of the group that it sets.
        findings: Vec<GroupFinding>,
    },
    /// A filter that cannot be used.
    #[error("{message}")]
    Filter {
        /// Everything that is wrong with it.
        message: String,
        /// What to do.
        hint: String,
    },
    /// A kit with errors.
    #[error("{message}")]
    Findings {
        /// What happened, in one sentence.
        message: String,
        /// All findings, as they are read.
        text: String,
    },
    /// A value of the request is none that can be there.
    #[error("{because}")]
    Invalid {
        /// Which.
        field: &'static str,
        /// What is the matter.
        because: String,
    },
    /// The request is not JSON, or not as the interface's document says.
    #[error("invalid request: {0}")]
    NotUnderstood(#[source] serde_json::Error),
    /// The request broke off.
    #[error("the request did not arrive completely")]
    CutOff(#[source] std::io::Error),
    /// The request is larger than is read.
    #[error("{what} has at most {}", size_words(*most_bytes))]
    TooLarge {
        /// What.
        what: &'static str,
        /// This many bytes are read of it.
        most_bytes: u64,
    },
    /// Something that the server does by itself failed: it is a fault of the server or of its machine.
    #[error("{what} failed")]
    Failed {
        /// What.
        what: &'static str,
        /// Why.
        because: String,
    },
    /// The database did not do its part.
    #[error("the database does not answer")]
    Database(#[source] sqlx::Error),
    /// Something that is stored cannot be read.
    #[error("the stored {what} cannot be read")]
    Stored {
        /// What.
        what: String,
        /// Why.
        because: String,
    },
    /// The database was busy for longer than a request waits.
    #[error("the database is busy")]
    Busy(#[source] sqlx::Error),
    /// Work of the server's own broke off: it is a fault of the server.
    #[error("{0} was interrupted")]
    BrokeOff(&'static str, #[source] tokio::task::JoinError),
    /// The protected folder could not be written.
    #[error("the server's protected folder cannot be written")]
    Protected(#[source] std::io::Error),
    /// A certificate could not be made.
    #[error("a certificate could not be made")]
    Certificate(#[from] rcgen::Error),
}

impl From<sqlx::Error> for ApiError {
    fn from(error: sqlx::Error) -> Self {
        // Statements and locks that took longer than they may (PostgreSQL's codes, appendix A).
        let code = error.as_database_error().and_then(sqlx::error::DatabaseError::code);
        let is_busy = matches!(error, sqlx::Error::PoolTimedOut)
            || matches!(code.as_deref(), Some("57014" | "55P03" | "40P01" | "53300"));
        if is_busy { Self::Busy(error) } else { Self::Database(error) }
    }
}

fn error_words(findings: &[GroupFinding]) -> String {
    match findings.iter().filter(|finding| finding.is_error).count() {
        1 => "1 error".to_owned(),
        errors => format!("{errors} errors"),
    }
}

/// Says findings for who has no document to show them in.
fn findings_text(findings: &[GroupFinding]) -> String {
    let hint = |finding: &GroupFinding| {
        finding.hint.as_ref().map(|hint| format!("\nhint: {hint}")).unwrap_or_default()
    };
    let level = |finding: &GroupFinding| if finding.is_error { "error" } else { "warning" };
    let messages = findings.iter().map(|finding| {
        format!(
            "{} {}: {}\n  --> {}{}\n",
            level(finding),
            finding.code,
            finding.message,
            finding.at,
            hint(finding)
        )
    });
    messages.collect::<Vec<_>>().join("\n")
}

fn unconfirmed_words(change: i64, takes: u64, takes_from: u64) -> String {
    let count = |number: u64, one: &str, many: &str| {
        if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
    };
    if takes == 0 {
        return format!("C{change} affects more nodes than was confirmed");
    }
    format!(
        "C{change} takes {} from {} and is not confirmed",
        count(takes, "clause", "clauses"),
        count(takes_from, "node", "nodes")
    )
}

fn size_words(bytes: u64) -> String {
    const MIB: u64 = 1024 * 1024;
    if bytes.is_multiple_of(MIB) { format!("{} MiB", bytes / MIB) } else { format!("{} KiB", bytes / 1024) }
}

/// After this many seconds a request that found the server busy is tried again.
const RETRY_AFTER_SECS: &str = "5";

/// What a handler answers.
pub type Answer<T> = Result<rocket::serde::json::Json<T>, ApiError>;

impl ApiError {
    /// Returns the HTTP status.
    pub fn status(&self) -> Status {
        match self {
            Self::Unknown(_) | Self::NotSignedIn | Self::WrongPassword => Status::Unauthorized,
            Self::NotAllowed { .. }
            | Self::OnlyInGroups { .. }
            | Self::Revoked(_)
            | Self::Retired(_)
            | Self::NotOurPage
            | Self::LinkOver => Status::Forbidden,
            Self::TooOften { .. } => Status::TooManyRequests,
            Self::Missing { .. } => Status::NotFound,
            Self::Conflict { .. } | Self::Unconfirmed { .. } => Status::Conflict,
            Self::Invalid { .. } | Self::Findings { .. } | Self::Group { .. } | Self::Filter { .. } => {
                Status::UnprocessableEntity
            }
            Self::NotUnderstood(error) if error.is_data() => Status::UnprocessableEntity,
            Self::NotUnderstood(_) => Status::BadRequest,
            Self::CutOff(_) => Status::RequestTimeout,
            Self::TooLarge { .. } => Status::PayloadTooLarge,
            Self::Database(_) | Self::Busy(_) => Status::ServiceUnavailable,
            Self::BrokeOff(..) => Status::InternalServerError,
            Self::Certificate(_)
            | Self::Protected(_)
            | Self::Random(_)
            | Self::Stored { .. }
            | Self::Failed { .. } => Status::InternalServerError,
        }
    }

    /// Says that something that is stored cannot be read.
    pub fn stored(what: impl Into<String>, because: &impl ToString) -> Self {
        Self::Stored { what: what.into(), because: because.to_string() }
    }

    /// Refuses a value of the request.
    pub fn invalid(field: &'static str, because: impl Into<String>) -> Self {
        Self::Invalid { field, because: because.into() }
    }

    /// Adds the warnings of a group to the refusal of a change that nobody confirmed.
    #[must_use]
    pub fn with_warnings(mut self, warnings: &[GroupFinding]) -> Self {
        if let Self::Unconfirmed { findings, .. } = &mut self {
            findings.extend_from_slice(warnings);
        }
        self
    }

    /// Says that work of the server's own failed.
    pub fn failed(what: &'static str, because: &impl ToString) -> Self {
        Self::Failed { what, because: because.to_string() }
    }

    /// Returns the problem as it is sent. What went wrong inside is for the log only.
    pub fn problem(&self) -> Problem {
        let (kind, hint) = match self {
            Self::Unknown("token") => (
                "unknown_caller",
                Some("constans sign-in URL gets one; for a program: constans-server token make".to_owned()),
            ),
            Self::Unknown(_) => {
                ("unknown_caller", Some("only nodes that joined can use this listener".to_owned()))
            }
            Self::NotSignedIn => ("not_signed_in", Some("sign in, or send a token".to_owned())),
            Self::NotOurPage => (
                "not_our_page",
                Some("reload the page; another page may have sent this request in your name".to_owned()),
            ),
            Self::WrongPassword => (
                "wrong_password",
                Some(
                    "an administrator gives a new one-time link: constans-server link --person NAME"
                        .to_owned(),
                ),
            ),
            Self::TooOften { wait_secs } => ("too_often", Some(format!("try again in {wait_secs} s"))),
            Self::LinkOver => (
                "link_over",
                Some("an administrator makes another: constans-server link --person NAME".to_owned()),
            ),
            Self::Random(_) => ("randomness", None),
            Self::NotAllowed { .. } | Self::OnlyInGroups { .. } => {
                ("not_allowed", Some("an administrator gives roles".to_owned()))
            }
            Self::Revoked(_) => (REVOKED, Some("an operator can admit it again as this node".to_owned())),
            Self::Retired(_) => (RETIRED, Some("with an invitation it can join as a new node".to_owned())),
            Self::Missing { .. } => ("missing", None),
            Self::Conflict { hint, .. } => ("conflict", Some(hint.clone())),
            Self::Unconfirmed { change, .. } => (
                "unconfirmed",
                Some(format!(
                    "see what it takes: constans change show C{change}; hand it out: constans change confirm C{change}"
                )),
            ),
            Self::Filter { hint, .. } => ("filter", Some(hint.clone())),
            Self::Group { .. } => ("findings", None),
            Self::Findings { .. } => {
                ("findings", Some("constans kit check finds the same before anything is sent".to_owned()))
            }
            Self::Invalid { field, .. } => ("invalid", Some(format!("this is about `{field}`"))),
            Self::NotUnderstood(_) => {
                ("not_understood", Some("see the interface description: constans-server openapi".to_owned()))
            }
            Self::CutOff(_) => ("cut_off", Some("send it again".to_owned())),
            Self::TooLarge { .. } => ("too_large", Some("send less at once".to_owned())),
            Self::Failed { .. } => {
                ("failed", Some("the server's log says more; it is a fault of the server".to_owned()))
            }
            Self::Database(_) => ("database", Some("the server's log says more; try again".to_owned())),
            Self::Stored { .. } => (
                "stored",
                Some("the server's log says more; was its database changed by something else?".to_owned()),
            ),
            Self::Busy(_) => ("busy", Some("try again in some seconds".to_owned())),
            Self::BrokeOff(..) => {
                ("broke_off", Some("the server's log says more; it is a fault of the server".to_owned()))
            }
            Self::Protected(_) => ("protected_folder", Some("the server's log says more".to_owned())),
            Self::Certificate(_) => ("certificate", Some("the server's log says more".to_owned())),
        };
        let (detail, findings) = match self {
            Self::Findings { text, .. } => (Some(text.clone()), Vec::new()),
            Self::Group { findings, .. } => (Some(findings_text(findings)), findings.clone()),
            Self::Unconfirmed { findings, .. } => (None, findings.clone()),
            _ => (None, Vec::new()),
        };
        let change = if let Self::Unconfirmed { change, .. } = self { Some(*change) } else { None };
        Problem {
            kind: kind.to_owned(),
            title: self.to_string(),
            status: self.status().code,
            hint,
            detail,
            change,
            findings,
        }
    }
}

/// Returns that a filter cannot be used, with everything that is wrong with it.
pub fn unusable_filter(filter: &str, errors: Vec<ConditionError>) -> ApiError {
    let said = |error: &ConditionError| match filter.get(error.range.clone()).filter(|at| !at.is_empty()) {
        Some(at) => format!("{} (at `{at}`)", error.message),
        None => error.message.clone(),
    };
    let messages: Vec<String> = errors.iter().map(said).collect();
    let hint = errors.into_iter().find_map(|error| error.hint);
    ApiError::Filter {
        message: messages.join("; "),
        hint: hint.unwrap_or_else(|| {
            "a filter is CEL, for example labels.site == \"auken\" && node.status == \"failed\"".to_owned()
        }),
    }
}

/// Reads what is stored as JSON.
///
/// # Errors
///
/// Returns what cannot be read, as `what` calls it: it is never replaced.
pub fn read_stored<T: DeserializeOwned>(what: impl FnOnce() -> String, value: Value) -> Result<T, ApiError> {
    serde_json::from_value(value).map_err(|error| ApiError::stored(what(), &error))
}

impl<'r> Responder<'r, 'static> for ApiError {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        if let Self::Stored { because, .. } | Self::Failed { because, .. } = &self {
            tracing::error!(because, "{self}");
        }
        if matches!(
            self,
            Self::Database(_)
                | Self::Busy(_)
                | Self::BrokeOff(..)
                | Self::Certificate(_)
                | Self::Protected(_)
        ) {
            tracing::error!(cause = ?std::error::Error::source(&self), "{self}");
        }
        respond(&self.problem())
    }
}

/// Returns a problem as it is sent.
///
/// # Errors
///
/// Returns that it cannot be.
pub fn respond(problem: &Problem) -> response::Result<'static> {
    let body = serde_json::to_vec(problem).map_err(|_| Status::InternalServerError)?;
    let mut response = Response::build();
    response
        .status(Status::new(problem.status))
        .header(ContentType::new("application", "problem+json"))
        .sized_body(body.len(), Cursor::new(body));
    if problem.status == Status::ServiceUnavailable.code {
        response.raw_header("Retry-After", RETRY_AFTER_SECS);
    }
    if problem.status == Status::Unauthorized.code {
        response.raw_header("WWW-Authenticate", "Bearer");
    }
    response.ok()
}

/// The longest name in an address, in characters.
pub const LONGEST_NAME: usize = 253;
/// The longest value behind `?`, in characters.
pub const LONGEST_VALUE: usize = 4_096;

/// Refuses addresses with a NUL, which no text of the database can hold, with names or values longer than any can be, and with a name
/// twice behind `?`: an optional value that is given twice would count as left out.
pub struct BoundedAddress;

#[rocket::async_trait]
impl Fairing for BoundedAddress {
    fn info(&self) -> Info {
        Info { name: "bounds of addresses", kind: Kind::Request }
    }

    async fn on_request(&self, request: &mut Request<'_>, _: &mut Data<'_>) {
        let uri = request.uri();
        let has_nul = |text: &str| text.contains("%00");
        let (kind, status, title) = if has_nul(uri.path().as_str())
            || uri.query().is_some_and(|query| has_nul(query.as_str()))
        {
            ("not_understood", 400, "the address holds a NUL (%00)".to_owned())
        } else if uri.path().segments().any(|segment| segment.chars().count() > LONGEST_NAME) {
            ("missing", 404, format!("not found: a name has at most {LONGEST_NAME} characters"))
        } else if uri
            .query()
            .is_some_and(|query| query.segments().any(|(name, value)| is_too_long(name, value)))
        {
            (
                "invalid",
                422,
                format!(
                    "a value behind `?` has at most {LONGEST_VALUE} characters, and `after` {LONGEST_NAME}"
                ),
            )
        } else if let Some(name) = uri.query().and_then(|query| repeated(query.segments())) {
            ("invalid", 422, format!("`{name}` stands more than once behind `?`: name it once"))
        } else {
            return;
        };
        refuse_everything(
            request,
            Problem {
                kind: kind.to_owned(),
                title,
                status,
                hint: None,
                detail: None,
                change: None,
                findings: Vec::new(),
            },
        );
    }
}

/// Returns the first name that stands more than once.
fn repeated<'v>(segments: impl Iterator<Item = (&'v str, &'v str)>) -> Option<String> {
    let mut names = std::collections::BTreeSet::new();
    segments.map(|(name, _)| name).find(|name| !names.insert(name.to_owned())).map(str::to_owned)
}

fn is_too_long(name: &str, value: &str) -> bool {
    let longest = if name == "after" { LONGEST_NAME } else { LONGEST_VALUE };
    value.chars().count() > longest
}

/// Lets a request be answered by a problem, whatever it asks for.
pub fn refuse_everything(request: &mut Request<'_>, problem: Problem) {
    request.local_cache(|| ProblemFromGuard(problem));
    request.set_method(Method::Get);
    request.set_uri(uri!("/api/-/refused"));
}

/// A problem that a guard left for the catcher.
pub struct ProblemFromGuard(pub Problem);

/// Answers whatever no handler answered.
#[rocket::catch(default)]
pub fn caught(status: Status, request: &Request<'_>) -> CaughtProblem {
    let left = request.local_cache(|| {
        ProblemFromGuard(Problem {
            kind: String::new(),
            title: String::new(),
            status: 0,
            hint: None,
            detail: None,
            change: None,
            findings: Vec::new(),
        })
    });
    if left.0.status != 0 {
        return CaughtProblem(left.0.clone());
    }
    let title = match status.code {
        404 => format!("there is nothing at {} {}", request.method(), request.uri().path()),
        413 => "the request is too large".to_owned(),
        _ => status.reason_lossy().to_lowercase(),
    };
    CaughtProblem(Problem {
        kind: status.reason_lossy().to_lowercase().replace(' ', "_"),
        title,
        status: status.code,
        hint: None,
        detail: None,
        change: None,
        findings: Vec::new(),
    })
}

/// A problem as an answer.
pub struct CaughtProblem(Problem);

impl<'r> Responder<'r, 'static> for CaughtProblem {
    fn respond_to(self, _: &'r Request<'_>) -> response::Result<'static> {
        respond(&self.0)
    }
}
