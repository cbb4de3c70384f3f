//! The link of agent and client to a server that they know by the fingerprint of its CA.
//!
//! The fingerprint is compared with the CA that the server sends before anything is sent to it.

mod apart;
mod network;
mod pinned;

pub use apart::{Apart, serve};
use constans_wire::check_in::Problem;
pub use network::{Carried, Carry, Direct, Network, NetworkRequest, Reached, Taker};
use pinned::{PinnedVerifier, RecordingVerifier};
use reqwest::{Client, RequestBuilder, StatusCode};
use rustls::ClientConfig;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use std::sync::Arc;
use std::time::Duration;

/// A node's certificate and key, PEM.
pub struct Identity<'a> {
    /// The certificate.
    pub certificate: &'a str,
    /// The key.
    pub key: &'a str,
}

/// Why a server did not answer, or what it refused.
#[derive(Debug, Clone, thiserror::Error, Serialize, Deserialize)]
pub enum LinkError {
    /// The text is no fingerprint.
    #[error("`{0}` is not the fingerprint of a CA: 64 hexadecimal digits")]
    NoFingerprint(String),
    /// The node's own certificate or key cannot be used.
    #[error("the certificate or key of this node cannot be used")]
    Identity,
    /// The server has another CA than it should have.
    #[error("the CA of the server is not the expected one, {expected}")]
    WrongAuthority {
        /// The CA's fingerprint as it should be.
        expected: String,
    },
    /// TLS failed otherwise.
    #[error("no trusted connection: {0}")]
    Tls(String),
    /// Nobody answers there.
    #[error("{url} does not answer: {because}")]
    NotReached {
        /// Where.
        url: String,
        /// Why.
        because: String,
    },
    /// The server refused.
    #[error("{}", .0.title)]
    Refused(Problem),
    /// The agent's own network part does not do its work.
    #[error("the agent's network part {0}")]
    Apart(String),
    /// What came back is no answer of this kind of server.
    #[error("{url} is not a Constans server: {because}")]
    Strange {
        /// Where.
        url: String,
        /// What is odd about it.
        because: String,
    },
}

impl LinkError {
    /// Returns what to do.
    pub fn hint(&self) -> Option<String> {
        match self {
            Self::NoFingerprint(_) => Some("copy it from the first lines of the server's log".to_owned()),
            Self::Identity => Some("let the node join again: an operator approves it as this node".to_owned()),
            Self::WrongAuthority { .. } => Some("nothing was sent. Check that the address is right and that nothing intercepts the connection. A reinstalled server needs a new invitation".to_owned()),
            Self::Tls(_) => Some("check that the server's certificate has this name (--name) and that the clock of this machine is right".to_owned()),
            Self::NotReached { .. } => Some("check that the server runs, that the address is right, and that no firewall blocks it".to_owned()),
            Self::Refused(problem) => problem.hint.clone(),
            Self::Apart(_) => Some("it is a process without rights that the agent starts for itself; the system's journal may say why it ended".to_owned()),
            Self::Strange { .. } => Some("check that the address is the one of the right listener".to_owned()),
        }
    }
}

/// Prepares requests to a server whose CA has this fingerprint.
///
/// # Errors
///
/// Returns what is wrong with fingerprint or identity.
pub fn client(fingerprint: &str, identity: Option<&Identity<'_>>) -> Result<Client, LinkError> {
    let verifier =
        PinnedVerifier::new(fingerprint).ok_or_else(|| LinkError::NoFingerprint(fingerprint.to_owned()))?;
    let config = config()?.with_custom_certificate_verifier(Arc::new(verifier));
    let config = match identity {
        None => config.with_no_client_auth(),
        Some(identity) => {
            let certificates: Vec<CertificateDer<'static>> =
                CertificateDer::pem_slice_iter(identity.certificate.as_bytes())
                    .collect::<Result<_, _>>()
                    .map_err(|_| LinkError::Identity)?;
            let key =
                PrivateKeyDer::from_pem_slice(identity.key.as_bytes()).map_err(|_| LinkError::Identity)?;
            config.with_client_auth_cert(certificates, key).map_err(|_| LinkError::Identity)?
        }
    };
    built(config)
}

fn config() -> Result<rustls::client::danger::DangerousClientConfigBuilder, LinkError> {
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    Ok(builder.map_err(|error| LinkError::Tls(error.to_string()))?.dangerous())
}

fn built(config: ClientConfig) -> Result<Client, LinkError> {
    let built = Client::builder()
        .tls_backend_preconfigured(config)
        .no_proxy()
        .timeout(Duration::from_secs(30))
        .connect_timeout(Duration::from_secs(10))
        .build();
    built.map_err(|error| LinkError::Tls(error.to_string()))
}

/// Sends a request and reads the answer.
///
/// # Errors
///
/// Returns why the server did not answer, or what it refused.
pub async fn send<T: DeserializeOwned>(request: RequestBuilder, fingerprint: &str) -> Result<T, LinkError> {
    send_whole(request, fingerprint).await.map(|answer| answer.body)
}

/// An answer, and what its headers say.
#[derive(Debug)]
pub struct Answer<T> {
    /// What it says.
    pub body: T,
    /// The person whom the server takes the caller for.
    pub person: Option<String>,
    /// Path and query of the next page of the list, if there is one (RFC 8288).
    pub next_page: Option<String>,
}

/// Sends a request, and reads the answer with its headers.
///
/// # Errors
///
/// Returns why the server did not answer, or what it refused.
pub async fn send_whole<T: DeserializeOwned>(
    request: RequestBuilder,
    fingerprint: &str,
) -> Result<Answer<T>, LinkError> {
    let answered = answered(request, fingerprint).await?;
    let body = serde_json::from_slice(&answered.body)
        .map_err(|error| LinkError::Strange { url: answered.url, because: error.to_string() })?;
    Ok(Answer { body, person: answered.person, next_page: answered.next_page })
}

/// Asks a server for the fingerprint of its CA. Nothing else is sent to it: a person has to confirm that it is the right one.
///
/// # Errors
///
/// Returns why the server did not answer.
pub async fn fingerprint_of(url: &str) -> Result<String, LinkError> {
    let verifier = Arc::new(RecordingVerifier::default());
    let client = built(config()?.with_custom_certificate_verifier(verifier.clone()).with_no_client_auth())?;
    let refused = client.get(url).send().await;
    match (verifier.seen(), refused) {
        (Some(fingerprint), _) => Ok(fingerprint),
        (None, Err(error)) => Err(not_sent(&error, "")),
        (None, Ok(_)) => {
            Err(LinkError::Strange { url: url.to_owned(), because: "it was not reached over TLS".to_owned() })
        }
    }
}

/// Sends a request and returns the answer's bytes.
///
/// # Errors
///
/// Returns why the server did not answer, or what it refused.
pub async fn send_bytes(request: RequestBuilder, fingerprint: &str) -> Result<Vec<u8>, LinkError> {
    answered(request, fingerprint).await.map(|answered| answered.body)
}

/// Sends a request and has the bytes of its answer taken as they come, each time with how many there will be, if that is known.
///
/// # Errors
///
/// Returns why the server did not answer or not wholly, or what it refused; within, why the bytes were not taken.
pub async fn send_streamed(
    request: RequestBuilder,
    fingerprint: &str,
    mut take: impl FnMut(&[u8], Option<u64>) -> std::io::Result<()>,
) -> Result<std::io::Result<()>, LinkError> {
    let mut response = request.send().await.map_err(|error| not_sent(&error, fingerprint))?;
    let (url, status, length) = (response.url().to_string(), response.status(), response.content_length());
    if !status.is_success() {
        let body = response.bytes().await.map_err(|error| not_sent(&error, fingerprint))?;
        return judged(&url, status, body.to_vec()).map(|_| Ok(()));
    }
    while let Some(chunk) = response.chunk().await.map_err(|error| not_sent(&error, fingerprint))? {
        if let Err(error) = take(&chunk, length) {
            return Ok(Err(error));
        }
    }
    Ok(Ok(()))
}

/// What came back.
struct Answered {
    url: String,
    body: Vec<u8>,
    person: Option<String>,
    next_page: Option<String>,
}

async fn answered(request: RequestBuilder, fingerprint: &str) -> Result<Answered, LinkError> {
    let response = request.send().await.map_err(|error| not_sent(&error, fingerprint))?;
    let (url, status) = (response.url().to_string(), response.status());
    let person =
        response.headers().get("Constans-Person").and_then(|person| person.to_str().ok()).map(str::to_owned);
    let next_page = response
        .headers()
        .get("Link")
        .and_then(|link| link.to_str().ok())
        .and_then(next_page_of)
        .map(str::to_owned);
    let body = response.bytes().await.map_err(|error| not_sent(&error, fingerprint))?;
    Ok(Answered { body: judged(&url, status, body.to_vec())?, url, person, next_page })
}

/// Returns where a header `Link` with one link leads to, if that is the next page on the same server.
fn next_page_of(link: &str) -> Option<&str> {
    let (target, what) = link.strip_prefix('<')?.split_once('>')?;
    (what.trim() == "; rel=\"next\"" && target.starts_with('/') && !target.starts_with("//"))
        .then_some(target)
}

/// Returns the body of an answer that is no refusal.
fn judged(url: &str, status: StatusCode, body: Vec<u8>) -> Result<Vec<u8>, LinkError> {
    if status.is_success() {
        return Ok(body);
    }
    match serde_json::from_slice::<Problem>(&body) {
        Ok(problem) => Err(LinkError::Refused(problem)),
        Err(_) => Err(LinkError::Strange { url: url.to_owned(), because: describe(status) }),
    }
}

fn describe(status: StatusCode) -> String {
    format!("status {}", status.as_u16())
}

/// Tells by the innermost cause what went wrong.
fn not_sent(error: &reqwest::Error, fingerprint: &str) -> LinkError {
    let mut innermost: &dyn std::error::Error = error;
    let mut tls: Option<String> = None;
    while let Some(source) = innermost.source() {
        innermost = source;
        if let Some(found) = innermost.downcast_ref::<rustls::Error>().or_else(|| inner_tls(innermost)) {
            tls = Some(pinned::words(found));
        }
    }
    match tls {
        Some(words) if words == pinned::WRONG_AUTHORITY => {
            LinkError::WrongAuthority { expected: fingerprint.to_owned() }
        }
        Some(words) => LinkError::Tls(words),
        None => {
            let url =
                error.url().map_or_else(String::new, |url| format!("{}://{}", url.scheme(), url.authority()));
            LinkError::NotReached {
                url,
                because: if error.is_timeout() {
                    "no answer in time".to_owned()
                } else {
                    innermost.to_string()
                },
            }
        }
    }
}

/// An I/O error may carry the TLS error inside, perhaps in another I/O error, which `source` does not show.
fn inner_tls<'e>(error: &'e (dyn std::error::Error + 'static)) -> Option<&'e rustls::Error> {
    let inner = error.downcast_ref::<std::io::Error>()?.get_ref()?;
    inner.downcast_ref::<rustls::Error>().or_else(|| inner_tls(inner))
}
