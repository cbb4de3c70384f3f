//! A certificate by ACME (RFC 8555): the names are proven in TLS itself (RFC 8737, and RFC 8738 for addresses), on the listener that
//! the certificate is for.

use super::CertificateError;
use crate::trust::put_whole;
use instant_acme::{
    Account, AccountCredentials, AuthorizationStatus, ChallengeType, Identifier, NewAccount, NewOrder, Order,
    OrderStatus, RetryPolicy,
};
use rcgen::{CertificateParams, CustomExtension, KeyPair};
use rustls::crypto::ring::default_provider;
use rustls::pki_types::PrivateKeyDer;
use rustls::server::ClientHello;
use rustls::sign::CertifiedKey;
use std::collections::HashMap;
use std::net::IpAddr;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

/// The protocol of requests for the proof (RFC 8737).
pub const PROOF_PROTOCOL: &str = "acme-tls/1";
const ACCOUNT: &str = "acme-account.json";
const CERTIFICATE: &str = "acme-certificate.pem";
const KEY: &str = "acme-certificate.key";
/// How long the ACME server may take to look for the proofs, and to issue.
const PATIENCE: Duration = Duration::from_secs(120);

/// Which ACME server, and as whom.
#[derive(Debug, Clone)]
pub struct AcmeSettings {
    /// The URL of its directory.
    pub directory: String,
    /// Whom it may write to.
    pub contact: Option<String>,
    /// What it is known by, as PEM, if it is not known to everybody.
    pub root: Option<PathBuf>,
    /// The protected folder, where account and certificate are kept.
    pub folder: PathBuf,
}

/// An ACME server, and what it looks for.
pub struct Acme {
    settings: AcmeSettings,
    proofs: Mutex<HashMap<String, Arc<CertifiedKey>>>,
}

impl Acme {
    /// Takes the settings.
    pub fn new(settings: AcmeSettings) -> Self {
        Self { settings, proofs: Mutex::default() }
    }

    /// Returns the proof that a caller looks for; none within, if it looks for one that is not there.
    pub fn proof(&self, hello: &ClientHello<'_>) -> Option<Option<Arc<CertifiedKey>>> {
        let looks = hello
            .alpn()
            .is_some_and(|mut protocols| protocols.any(|protocol| protocol == PROOF_PROTOCOL.as_bytes()));
        looks.then(|| {
            self.proofs
                .lock()
                .unwrap_or_else(PoisonError::into_inner)
                .get(&hello.server_name()?.to_ascii_lowercase())
                .cloned()
        })
    }

    /// Returns chain and key that were issued before, PEM.
    pub fn kept(&self) -> Option<(String, String)> {
        let read = |name: &str| std::fs::read_to_string(self.settings.folder.join(name)).ok();
        Some((read(CERTIFICATE)?, read(KEY)?))
    }

    /// Has a certificate issued for these names, and keeps it; returns chain and key, PEM.
    ///
    /// # Errors
    ///
    /// Returns the ACME server's answer, or what could not be kept.
    pub async fn obtain(&self, names: &[String]) -> Result<(String, String), CertificateError> {
        let account = self.account().await?;
        let identifiers: Vec<Identifier> = names
            .iter()
            .map(|name| name.parse::<IpAddr>().map_or_else(|_| Identifier::Dns(name.clone()), Identifier::Ip))
            .collect();
        let mut order = account.new_order(&NewOrder::new(&identifiers)).await?;
        let obtained = self.prove_and_finish(&mut order).await;
        self.proofs.lock().unwrap_or_else(PoisonError::into_inner).clear();
        let (chain, key) = obtained?;
        self.keep(KEY, key.as_bytes())?;
        self.keep(CERTIFICATE, chain.as_bytes())?;
        Ok((chain, key))
    }

    async fn prove_and_finish(&self, order: &mut Order) -> Result<(String, String), CertificateError> {
        let mut authorizations = order.authorizations();
        while let Some(authorization) = authorizations.next().await {
            let mut authorization = authorization?;
            if authorization.status == AuthorizationStatus::Valid {
                continue;
            }
            let mut challenge =
                authorization.challenge(ChallengeType::TlsAlpn01).ok_or(CertificateError::NoProof)?;
            let name = challenge.identifier().to_string();
            let proof = proof(&name, challenge.key_authorization().digest().as_ref())?;
            self.proofs.lock().unwrap_or_else(PoisonError::into_inner).insert(asked_as(&name), proof);
            challenge.set_ready().await?;
        }
        let retries =
            RetryPolicy::new().initial_delay(Duration::from_millis(500)).backoff(1.5).timeout(PATIENCE);
        let status = order.poll_ready(&retries).await?;
        if !matches!(status, OrderStatus::Ready | OrderStatus::Valid) {
            return Err(CertificateError::NotProven(self.why(order).await));
        }
        let key = order.finalize().await?;
        Ok((order.poll_certificate(&retries).await?, key))
    }

    /// Returns the ACME server's message about the proofs that it did not find.
    async fn why(&self, order: &mut Order) -> String {
        let mut messages = Vec::new();
        let mut authorizations = order.authorizations();
        while let Some(Ok(authorization)) = authorizations.next().await {
            let problems = authorization.challenges.iter().filter_map(|challenge| challenge.error.as_ref());
            messages.extend(problems.map(ToString::to_string));
        }
        if messages.is_empty() { "it does not say why".to_owned() } else { messages.join("; ") }
    }

    async fn account(&self) -> Result<Account, CertificateError> {
        let builder = match &self.settings.root {
            Some(root) => Account::builder_with_root(root)?,
            None => Account::builder()?,
        };
        let path = self.settings.folder.join(ACCOUNT);
        if let Ok(kept) = std::fs::read(&path) {
            let kept: AccountCredentials =
                serde_json::from_slice(&kept).map_err(|error| CertificateError::File(path, error.into()))?;
            return Ok(builder.from_credentials(kept).await?);
        }
        let contact = self.settings.contact.as_ref().map(|contact| format!("mailto:{contact}"));
        let contacts: Vec<&str> = contact.iter().map(String::as_str).collect();
        let new =
            NewAccount { contact: &contacts, terms_of_service_agreed: true, only_return_existing: false };
        let (account, credentials) = builder.create(&new, self.settings.directory.clone(), None).await?;
        self.keep(
            ACCOUNT,
            &serde_json::to_vec(&credentials).map_err(|error| CertificateError::File(path, error.into()))?,
        )?;
        Ok(account)
    }

    fn keep(&self, name: &str, bytes: &[u8]) -> Result<(), CertificateError> {
        let path = self.settings.folder.join(name);
        put_whole(&path, bytes).map_err(|error| CertificateError::File(path, error))
    }
}

/// Returns the certificate that proves a name (RFC 8737, 3): for that name alone, with the digest of what was asked for.
fn proof(name: &str, digest: &[u8]) -> Result<Arc<CertifiedKey>, CertificateError> {
    let key = KeyPair::generate()?;
    let mut params = CertificateParams::new(vec![name.to_owned()])?;
    params.custom_extensions = vec![CustomExtension::new_acme_identifier(digest)];
    let certificate = params.self_signed(&key)?.der().clone();
    let key = PrivateKeyDer::try_from(key.serialize_der()).map_err(|_| CertificateError::NoProof)?;
    // Its critical extension is known only to those who look for it.
    let key = default_provider().key_provider.load_private_key(key).map_err(CertificateError::Key)?;
    Ok(Arc::new(CertifiedKey::new(vec![certificate], key)))
}

/// Returns as what a name is asked for in TLS: addresses by the name of their reverse look-up (RFC 8738, 6).
fn asked_as(name: &str) -> String {
    match name.parse() {
        Ok(IpAddr::V4(address)) => {
            let [a, b, c, d] = address.octets();
            format!("{d}.{c}.{b}.{a}.in-addr.arpa")
        }
        Ok(IpAddr::V6(address)) => {
            let nibbles: Vec<String> = address
                .octets()
                .iter()
                .rev()
                .flat_map(|octet| [octet & 15, octet >> 4])
                .map(|nibble| format!("{nibble:x}"))
                .collect();
            format!("{}.ip6.arpa", nibbles.join("."))
        }
        Err(_) => name.to_ascii_lowercase(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_asked_for_by_their_reverse_names() {
        assert_eq!(asked_as("192.0.2.7"), "7.2.0.192.in-addr.arpa");
        assert_eq!(
            asked_as("2001:db8::1"),
            "1.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.0.8.b.d.0.1.0.0.2.ip6.arpa"
        );
        assert_eq!(asked_as("Hub.skerry.example"), "hub.skerry.example");
    }
}
