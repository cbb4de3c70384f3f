//! The certificate a listener shows: issued by the server's own CA and renewed from its half-life on, or the organisation's own
//! from files, which are read again when they change. Connections that are open go on when it changes.

mod acme;

pub use acme::AcmeSettings;

use crate::clock;
use crate::trust::Authority;
use acme::{Acme, PROOF_PROTOCOL};
use jiff::{SignedDuration, Timestamp};
use rustls::crypto::ring::default_provider;
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::server::danger::ClientCertVerifier;
use rustls::server::{ClientHello, ParsedCertificate, ResolvesServerCert, WebPkiClientVerifier};
use rustls::sign::CertifiedKey;
use rustls::time_provider::TimeProvider;
use rustls::{RootCertStore, ServerConfig};
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};
use tokio::time::sleep;
use x509_parser::prelude::{FromDer as _, X509Certificate};

/// How often it is looked whether a certificate has to be renewed, or a file has changed.
const LOOKED_EVERY: Duration = Duration::from_secs(10);
/// After a failure of an ACME server it is asked again, first soon, then now and then.
const SOON_AGAIN: Duration = Duration::from_secs(30);
const SOMETIMES: Duration = Duration::from_secs(1_800);
/// A certificate of the organisation's own that ends within this is a problem of the server.
const SOON: SignedDuration = SignedDuration::from_hours(21 * 24);

/// Why a certificate cannot be shown.
#[derive(Debug, thiserror::Error)]
pub enum CertificateError {
    /// A file cannot be read.
    #[error("{} cannot be read", .0.display())]
    File(PathBuf, #[source] std::io::Error),
    /// A file holds something else.
    #[error("{} holds no {what} in PEM", path.display())]
    Pem {
        /// The file.
        path: PathBuf,
        /// What it should hold.
        what: &'static str,
    },
    /// The key is another's, or of a kind that cannot be used.
    #[error("the key and the certificate cannot be used together: {0}")]
    Key(rustls::Error),
    /// It is for other names.
    #[error("the certificate is for none of this server's names: {}", .0.join(", "))]
    Names(Vec<String>),
    /// Its time is over, or has not begun.
    #[error("the certificate holds from {from} until {until}, and it is {now}")]
    Time {
        /// From when it holds.
        from: Timestamp,
        /// Until when.
        until: Timestamp,
        /// What time it is.
        now: Timestamp,
    },
    /// The CA's own work failed.
    #[error("the CA cannot issue a certificate for this server")]
    Issue(#[from] rcgen::Error),
    /// An ACME server refuses, or is not reached.
    #[error("the ACME server did not issue a certificate")]
    Acme(#[from] instant_acme::Error),
    /// It offers no way of proof that is possible here.
    #[error("the ACME server offers no proof by TLS (tls-alpn-01)")]
    NoProof,
    /// It looked for the proof and did not find it.
    #[error("the ACME server did not find that this server has its names: {0}")]
    NotProven(String),
    /// TLS refuses it.
    #[error("TLS cannot be set up")]
    Tls(#[from] rustls::Error),
    /// The CA's certificate cannot be used to know nodes by.
    #[error("nodes cannot be known by the CA's certificate")]
    Verifier(#[from] rustls::server::VerifierBuilderError),
}

impl CertificateError {
    /// Returns what to do.
    pub fn hint(&self) -> Option<&'static str> {
        match self {
            Self::File(..) | Self::Pem { .. } => Some(
                "--people-certificate names the chain, the server's certificate first, and --people-key its key, both as PEM",
            ),
            Self::Key(_) => Some("is --people-key the key that the certificate was asked for with?"),
            Self::Names(_) => Some(
                "ask for a certificate for one of them, or name the server as the certificate does: --name NAME",
            ),
            Self::Time { .. } => Some(
                "put one that holds in its place; without --people-certificate the server's own CA issues one",
            ),
            Self::Acme(_) | Self::NoProof | Self::NotProven(_) => {
                Some("can it reach the listener for people at port 443 of each --name?")
            }
            Self::Issue(_) | Self::Tls(_) | Self::Verifier(_) => None,
        }
    }
}

/// Where a certificate comes from.
enum Source {
    OurCa(Arc<Authority>),
    Files {
        certificate: PathBuf,
        key: PathBuf,
    },
    /// Until one is issued, our own CA's is shown.
    Acme {
        acme: Acme,
        authority: Arc<Authority>,
    },
}

struct Current {
    key: Arc<CertifiedKey>,
    from: Timestamp,
    until: Timestamp,
    /// Whether it is a temporary one, until the real one is issued.
    is_stand_in: bool,
    /// When its files were last written.
    written: Option<[SystemTime; 2]>,
    /// Why it could not be renewed, when it should have been.
    not_renewed: Option<String>,
}

/// The certificate that a listener shows.
pub struct ServedCertificate {
    /// What it is called in metrics and messages.
    pub name: &'static str,
    source: Source,
    names: Vec<String>,
    current: RwLock<Current>,
}

impl ServedCertificate {
    /// Issues one by the server's own CA.
    ///
    /// # Errors
    ///
    /// Returns why that failed.
    pub fn by_our_ca(
        name: &'static str,
        authority: Arc<Authority>,
        names: &[String],
    ) -> Result<Arc<Self>, CertificateError> {
        Self::begin(name, Source::OurCa(authority), names)
    }

    /// Reads the organisation's own from PEM files: the chain, the server's first, and its key.
    ///
    /// # Errors
    ///
    /// Returns what is wrong with them.
    pub fn from_files(
        name: &'static str,
        certificate: &Path,
        key: &Path,
        names: &[String],
    ) -> Result<Arc<Self>, CertificateError> {
        Self::begin(name, Source::Files { certificate: certificate.to_owned(), key: key.to_owned() }, names)
    }

    /// Has one issued by an ACME server, unless one was before; until then our own CA's is shown.
    ///
    /// # Errors
    ///
    /// Returns why there is none to begin with.
    pub fn by_acme(
        name: &'static str,
        settings: AcmeSettings,
        authority: Arc<Authority>,
        names: &[String],
    ) -> Result<Arc<Self>, CertificateError> {
        Self::begin(name, Source::Acme { acme: Acme::new(settings), authority }, names)
    }

    fn begin(name: &'static str, source: Source, names: &[String]) -> Result<Arc<Self>, CertificateError> {
        let current = RwLock::new(source.get(names)?);
        Ok(Arc::new(Self { name, source, names: names.to_owned(), current }))
    }

    /// Returns until when the certificate holds.
    pub fn until(&self) -> Timestamp {
        self.current.read().unwrap_or_else(PoisonError::into_inner).until
    }

    /// Returns what the operator has to know, if anything: that it could not be renewed, or ends soon.
    pub fn problem(&self, now: Timestamp) -> Option<String> {
        let current = self.current.read().unwrap_or_else(PoisonError::into_inner);
        let days = current.until.duration_since(now).as_hours() / 24;
        let ends = || match days {
            _ if current.until <= now => format!("ended {}", current.until),
            1 => "ends in 1 day".to_owned(),
            _ => format!("ends in {days} days, {}", current.until),
        };
        match (&current.not_renewed, &self.source) {
            (Some(because), _) if current.is_stand_in => Some(format!(
                "the certificate for {} is not issued yet, and this server's own CA's is shown: {because}",
                self.name
            )),
            (Some(because), _) => Some(format!(
                "the certificate for {} could not be renewed and {}: {because}",
                self.name,
                ends()
            )),
            (None, Source::Files { certificate, .. }) if current.until.duration_since(now) < SOON => {
                Some(format!(
                    "the certificate for {} {}: put a newer one into {}",
                    self.name,
                    ends(),
                    certificate.display()
                ))
            }
            _ => None,
        }
    }

    /// Renews it if that is due.
    pub fn renew_if_due(&self, now: Timestamp) {
        let (from, until, written) = {
            let current = self.current.read().unwrap_or_else(PoisonError::into_inner);
            (current.from, current.until, current.written)
        };
        let is_due = match &self.source {
            // It waits for an answer: `keep_fresh` does that.
            Source::Acme { .. } => false,
            Source::OurCa(_) => now >= from + until.duration_since(from) / 2 || now < from,
            Source::Files { certificate, key } => written_at(certificate, key).ok() != written,
        };
        if !is_due {
            return;
        }
        self.take(self.source.get(&self.names));
    }

    /// Serves a newer certificate, or logs why there is none.
    fn take(&self, got: Result<Current, CertificateError>) {
        let mut current = self.current.write().unwrap_or_else(PoisonError::into_inner);
        match got {
            Ok(new) => {
                tracing::info!(listener = self.name, until = %new.until, "a newer certificate is shown");
                *current = new;
            }
            Err(error) => {
                let because = with_causes(&error);
                if current.not_renewed.as_ref() != Some(&because) {
                    tracing::error!(
                        listener = self.name,
                        because,
                        "the certificate could not be renewed; the one of before is shown"
                    );
                }
                current.not_renewed = Some(because);
            }
        }
    }

    /// Renews it whenever that is due, without end.
    pub async fn keep_fresh(self: Arc<Self>) {
        let mut last_problem = None;
        loop {
            self.renew_if_due(clock::now());
            let problem = self.problem(clock::now());
            if let Some(problem) = problem.as_ref().filter(|_| problem != last_problem) {
                tracing::warn!(listener = self.name, "{problem}");
            }
            last_problem = problem;
            sleep(self.renew_by_acme().await).await;
        }
    }

    /// Has another certificate issued if that is due; returns when to look again.
    async fn renew_by_acme(&self) -> Duration {
        let Source::Acme { acme, .. } = &self.source else { return LOOKED_EVERY };
        let (is_due, failed) = {
            let (current, now) = (self.current.read().unwrap_or_else(PoisonError::into_inner), clock::now());
            (
                current.is_stand_in || now >= current.from + current.until.duration_since(current.from) / 2,
                current.not_renewed.is_some(),
            )
        };
        if !is_due {
            return LOOKED_EVERY;
        }
        let obtained = acme.obtain(&self.names).await;
        let place = Path::new("the ACME server's answer");
        self.take(obtained.and_then(|(chain, key)| current(&chain, place, &key, place, &self.names, None)));
        // ACME servers count failures.
        if self.current.read().unwrap_or_else(PoisonError::into_inner).not_renewed.is_none() {
            LOOKED_EVERY
        } else if failed {
            SOMETIMES
        } else {
            SOON_AGAIN
        }
    }

    /// Returns the TLS settings of a listener that shows this certificate and offers these protocols. With `nodes`, callers may show
    /// a certificate of the CA, and one of anyone else's is refused.
    ///
    /// # Errors
    ///
    /// Returns why TLS refuses them.
    pub fn tls(
        self: &Arc<Self>,
        nodes: Option<&Authority>,
        protocols: &[&str],
    ) -> Result<Arc<ServerConfig>, CertificateError> {
        let provider = Arc::new(default_provider());
        let verifier: Arc<dyn ClientCertVerifier> = match nodes {
            Some(authority) => {
                let mut roots = RootCertStore::empty();
                for certificate in
                    CertificateDer::pem_slice_iter(authority.certificate().as_bytes()).flatten()
                {
                    roots.add(certificate)?;
                }
                WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider.clone())
                    .allow_unauthenticated()
                    .build()?
            }
            None => WebPkiClientVerifier::no_client_auth(),
        };
        let builder = ServerConfig::builder_with_details(provider, Arc::new(OurTime))
            .with_safe_default_protocol_versions()?;
        let mut tls = builder.with_client_cert_verifier(verifier).with_cert_resolver(self.clone());
        let proofs = matches!(self.source, Source::Acme { .. }).then_some(PROOF_PROTOCOL);
        tls.alpn_protocols =
            protocols.iter().copied().chain(proofs).map(|protocol| protocol.as_bytes().to_vec()).collect();
        Ok(Arc::new(tls))
    }
}

impl fmt::Debug for ServedCertificate {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "ServedCertificate({})", self.name)
    }
}

impl ResolvesServerCert for ServedCertificate {
    fn resolve(&self, hello: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        if let Source::Acme { acme, .. } = &self.source
            && let Some(proof) = acme.proof(&hello)
        {
            return proof;
        }
        Some(self.current.read().unwrap_or_else(PoisonError::into_inner).key.clone())
    }
}

/// Nodes' certificates are compared with the clock that the rest of the server goes by.
#[derive(Debug)]
struct OurTime;

impl TimeProvider for OurTime {
    fn current_time(&self) -> Option<UnixTime> {
        Some(UnixTime::since_unix_epoch(Duration::from_secs(u64::try_from(clock::now().as_second()).ok()?)))
    }
}

fn with_causes(error: &dyn std::error::Error) -> String {
    let causes = std::iter::successors(Some(error), |error| error.source());
    causes.map(ToString::to_string).collect::<Vec<_>>().join(": ")
}

fn written_at(certificate: &Path, key: &Path) -> std::io::Result<[SystemTime; 2]> {
    Ok([std::fs::metadata(certificate)?.modified()?, std::fs::metadata(key)?.modified()?])
}

impl Source {
    fn get(&self, names: &[String]) -> Result<Current, CertificateError> {
        match self {
            Self::OurCa(authority) => {
                let (chain, key) = authority.issue_server(names)?;
                let in_memory = Path::new("the CA's answer");
                current(&chain, in_memory, &key, in_memory, names, None)
            }
            Self::Acme { acme, authority } => {
                let place = Path::new("what the ACME server issued before");
                match acme.kept().map(|(chain, key)| current(&chain, place, &key, place, names, None)) {
                    Some(Ok(kept)) => Ok(kept),
                    _ => Self::OurCa(authority.clone())
                        .get(names)
                        .map(|ours| Current { is_stand_in: true, ..ours }),
                }
            }
            Self::Files { certificate, key } => {
                let read = |path: &Path| {
                    std::fs::read(path).map_err(|error| CertificateError::File(path.to_owned(), error))
                };
                let written = written_at(certificate, key)
                    .map_err(|error| CertificateError::File(certificate.clone(), error))?;
                current(&read(certificate)?, certificate, &read(key)?, key, names, Some(written))
            }
        }
    }
}

fn current(
    chain: impl AsRef<[u8]>,
    chain_path: &Path,
    key: impl AsRef<[u8]>,
    key_path: &Path,
    names: &[String],
    written: Option<[SystemTime; 2]>,
) -> Result<Current, CertificateError> {
    let no = |path: &Path, what| CertificateError::Pem { path: path.to_owned(), what };
    let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(chain.as_ref())
        .collect::<Result<_, _>>()
        .map_err(|_| no(chain_path, "certificates"))?;
    let leaf = chain.first().ok_or_else(|| no(chain_path, "certificates"))?.clone();
    let key = PrivateKeyDer::from_pem_slice(key.as_ref()).map_err(|_| no(key_path, "private key"))?;
    let (from, until) = validity(&leaf).ok_or_else(|| no(chain_path, "certificates"))?;
    let parsed = ParsedCertificate::try_from(&leaf)?;
    let is_for = |name: &String| {
        ServerName::try_from(name.as_str())
            .is_ok_and(|name| rustls::client::verify_server_name(&parsed, &name).is_ok())
    };
    if !names.iter().any(is_for) {
        return Err(CertificateError::Names(names.to_owned()));
    }
    let now = clock::now();
    if now < from || now >= until {
        return Err(CertificateError::Time { from, until, now });
    }
    let key =
        Arc::new(CertifiedKey::from_der(chain, key, &default_provider()).map_err(CertificateError::Key)?);
    Ok(Current { key, from, until, is_stand_in: false, written, not_renewed: None })
}

fn validity(certificate: &[u8]) -> Option<(Timestamp, Timestamp)> {
    let (_, certificate) = X509Certificate::from_der(certificate).ok()?;
    let validity = certificate.validity();
    let at = |time: &x509_parser::time::ASN1Time| Timestamp::from_second(time.timestamp()).ok();
    Some((at(&validity.not_before)?, at(&validity.not_after)?))
}
