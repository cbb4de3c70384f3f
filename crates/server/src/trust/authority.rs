//! The server's own CA: it certifies nodes and servers.

use super::secret::digest_of;
use crate::clock;
use constans_core::digest::hex;
use rcgen::{
    BasicConstraints, CertificateParams, CertificateSigningRequestParams, DistinguishedName, DnType,
    ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair, KeyUsagePurpose, PublicKeyData as _, SanType,
};
use time::{Duration, OffsetDateTime};
use uuid::Uuid;
use x509_parser::prelude::{FromDer as _, GeneralName, X509Certificate};

const CA_DAYS: i64 = 3_650;
const SERVER_DAYS: i64 = 180;
const NODE_DAYS: i64 = 180;
/// Certificates begin earlier, since a node's clock may be behind.
const CLOCK_TOLERANCE: Duration = Duration::hours(48);

/// The CA.
pub struct Authority {
    issuer: Issuer<'static, KeyPair>,
    certificate: String,
    fingerprint: String,
}

/// A certificate for a node.
pub struct IssuedCertificate {
    /// PEM.
    pub certificate: String,
    /// End of its validity.
    pub ends_at: jiff::Timestamp,
}

/// A certificate request whose signature was found right.
pub struct ReadRequest {
    request: CertificateSigningRequestParams,
    /// The SHA-256 of its public key (SPKI).
    pub spki: Vec<u8>,
}

impl Authority {
    /// Makes a new CA; returns its certificate and its key, PEM.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be made.
    pub fn make() -> Result<(String, String), rcgen::Error> {
        let key = KeyPair::generate()?;
        let certificate = ca_params().self_signed(&key)?.pem();
        Ok((certificate, key.serialize_pem()))
    }

    /// Takes the CA from its certificate and its key, PEM.
    ///
    /// # Errors
    ///
    /// Returns why they cannot be used.
    pub fn new(certificate: String, key: &str) -> Result<Self, rcgen::Error> {
        let key = KeyPair::from_pem(key)?;
        let fingerprint = hex(&digest_of(&key.subject_public_key_info()));
        let issuer = Issuer::from_ca_cert_pem(&certificate, key)?;
        Ok(Self { issuer, certificate, fingerprint })
    }

    /// Returns the CA's certificate, PEM.
    pub fn certificate(&self) -> &str {
        &self.certificate
    }

    /// Returns the SHA-256 of the CA's public key (SPKI), in hexadecimal digits.
    pub fn fingerprint(&self) -> &str {
        &self.fingerprint
    }

    /// Issues a certificate for the server's listeners; returns its chain and its key, PEM.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be made.
    pub fn issue_server(&self, names: &[String]) -> Result<(String, String), rcgen::Error> {
        let key = KeyPair::generate()?;
        let mut params = CertificateParams::new(names.to_vec())?;
        params.distinguished_name = named("constans-server");
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth];
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        set_days(&mut params, SERVER_DAYS);
        let leaf = params.signed_by(&key, &self.issuer)?.pem();
        Ok((format!("{leaf}{}", self.certificate), key.serialize_pem()))
    }

    /// Issues a certificate for a node whose request was read.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be made.
    pub fn issue_node(&self, node: Uuid, mut read: ReadRequest) -> Result<IssuedCertificate, rcgen::Error> {
        // Of the request only its key is used.
        let mut params = CertificateParams::new(Vec::new())?;
        params.distinguished_name = named(&node.to_string());
        params.subject_alt_names = vec![SanType::URI(format!("urn:uuid:{node}").try_into()?)];
        params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ClientAuth];
        params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
        let ends_at = set_days(&mut params, NODE_DAYS);
        read.request.params = params;
        let certificate = read.request.signed_by(&self.issuer)?.pem();
        Ok(IssuedCertificate {
            certificate,
            ends_at: jiff::Timestamp::from_second(ends_at.unix_timestamp()).unwrap_or(jiff::Timestamp::MAX),
        })
    }
}

/// Returns when a certificate that ends then is to be renewed: from its half-life on.
pub fn renew_after(ends_at: jiff::Timestamp) -> jiff::Timestamp {
    ends_at - jiff::SignedDuration::from_hours(24 * NODE_DAYS / 2)
}

impl ReadRequest {
    /// Reads a certificate request (PKCS #10) and checks that its sender holds the key.
    ///
    /// # Errors
    ///
    /// Returns why it cannot be read or trusted.
    pub fn read(pem: &str) -> Result<Self, rcgen::Error> {
        let request = CertificateSigningRequestParams::from_pem(pem)?;
        let spki = digest_of(&request.public_key.subject_public_key_info());
        Ok(Self { request, spki })
    }
}

/// Returns the node that a certificate speaks of, and the SHA-256 of its public key.
pub(super) fn node_of_certificate(der: &[u8]) -> Option<(Uuid, Vec<u8>)> {
    let (_, certificate) = X509Certificate::from_der(der).ok()?;
    let names = &certificate.subject_alternative_name().ok()??.value.general_names;
    let node = names.iter().find_map(|name| match name {
        GeneralName::URI(uri) => Uuid::parse_str(uri.strip_prefix("urn:uuid:")?).ok(),
        _ => None,
    })?;
    Some((node, digest_of(certificate.public_key().raw)))
}

fn ca_params() -> CertificateParams {
    let mut params = CertificateParams::default();
    params.distinguished_name = named("Constans CA");
    params.is_ca = IsCa::Ca(BasicConstraints::Constrained(0));
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    set_days(&mut params, CA_DAYS);
    params
}

fn named(name: &str) -> DistinguishedName {
    let mut distinguished = DistinguishedName::new();
    distinguished.push(DnType::CommonName, name);
    distinguished
}

fn set_days(params: &mut CertificateParams, days: i64) -> OffsetDateTime {
    let now =
        OffsetDateTime::from_unix_timestamp(clock::now().as_second()).unwrap_or(OffsetDateTime::UNIX_EPOCH);
    params.not_before = now - CLOCK_TOLERANCE;
    params.not_after = now + Duration::days(days);
    params.not_after
}
