//! Server verification by the fingerprint of the CA.

use constans_core::digest::hex;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::{CertificateError, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use sha2::{Digest as _, Sha256};
use std::sync::{Arc, Mutex, PoisonError};
use x509_parser::prelude::{FromDer as _, X509Certificate};

/// What [`words`] returns for a server with another CA.
pub const WRONG_AUTHORITY: &str = "another CA";

#[derive(Debug)]
pub struct PinnedVerifier {
    fingerprint: String,
    provider: Arc<CryptoProvider>,
}

impl PinnedVerifier {
    /// Takes the SHA-256 of the CA's public key (SPKI) in hexadecimal digits.
    pub fn new(fingerprint: &str) -> Option<Self> {
        let fingerprint = fingerprint.to_ascii_lowercase();
        let is_one = fingerprint.len() == 64 && fingerprint.chars().all(|c| c.is_ascii_hexdigit());
        is_one.then(|| Self { fingerprint, provider: Arc::new(rustls::crypto::ring::default_provider()) })
    }
}

fn fingerprint_of(certificate: &CertificateDer<'_>) -> Option<String> {
    let (_, parsed) = X509Certificate::from_der(certificate).ok()?;
    Some(hex(&Sha256::digest(parsed.public_key().raw)))
}

/// Returns what is wrong in the words of someone who sets up a node.
pub fn words(error: &Error) -> String {
    match error {
        Error::InvalidCertificate(CertificateError::UnknownIssuer) => WRONG_AUTHORITY.to_owned(),
        Error::InvalidCertificate(
            CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
        ) => "the server's certificate is for another name".to_owned(),
        Error::InvalidCertificate(CertificateError::Expired | CertificateError::ExpiredContext { .. }) => {
            "the server's certificate has ended, or this machine's clock is ahead".to_owned()
        }
        Error::InvalidCertificate(
            CertificateError::NotValidYet | CertificateError::NotValidYetContext { .. },
        ) => "the server's certificate has not begun, or this machine's clock is behind".to_owned(),
        other => other.to_string(),
    }
}

impl ServerCertVerifier for PinnedVerifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let known = intermediates
            .iter()
            .find(|certificate| fingerprint_of(certificate).as_ref() == Some(&self.fingerprint));
        let authority = known.ok_or(Error::InvalidCertificate(CertificateError::UnknownIssuer))?;
        let mut roots = RootCertStore::empty();
        roots.add(authority.clone().into_owned())?;
        let verifier =
            WebPkiServerVerifier::builder_with_provider(Arc::new(roots), self.provider.clone()).build();
        let verifier = verifier.map_err(|error| Error::General(error.to_string()))?;
        verifier.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now)
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// Remembers which CA a server has, and trusts none.
#[derive(Debug, Default)]
pub struct RecordingVerifier {
    seen: Mutex<Option<String>>,
}

impl RecordingVerifier {
    /// Returns the fingerprint of the CA that the server has.
    pub fn seen(&self) -> Option<String> {
        self.seen.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }
}

impl ServerCertVerifier for RecordingVerifier {
    fn verify_server_cert(
        &self,
        end_entity: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        server_name: &ServerName<'_>,
        ocsp_response: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        // A CA counts only if it issued this server's certificate, for this name and now.
        for fingerprint in intermediates.iter().filter_map(fingerprint_of) {
            let Some(pinned) = PinnedVerifier::new(&fingerprint) else { continue };
            pinned.verify_server_cert(end_entity, intermediates, server_name, ocsp_response, now)?;
            *self.seen.lock().unwrap_or_else(PoisonError::into_inner) = Some(fingerprint);
        }
        // Nothing is sent to it yet.
        Err(Error::InvalidCertificate(CertificateError::UnknownIssuer))
    }

    fn verify_tls12_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        Err(Error::InvalidCertificate(CertificateError::UnknownIssuer))
    }

    fn verify_tls13_signature(
        &self,
        _: &[u8],
        _: &CertificateDer<'_>,
        _: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        Err(Error::InvalidCertificate(CertificateError::UnknownIssuer))
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        rustls::crypto::ring::default_provider().signature_verification_algorithms.supported_schemes()
    }
}
