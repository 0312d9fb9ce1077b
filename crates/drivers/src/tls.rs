//! Certificates are pinned: the SHA-256 of the SubjectPublicKeyInfo must be the known one. Names and dates are not
//! looked at, that is the point of a pin; handshake signatures are still checked.

use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, SignatureScheme,
    client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};
use sha2::{Digest, Sha256};
use std::sync::{Arc, Mutex, PoisonError};

/// What the other side showed; on first contact there is no pin yet, and nothing secret is sent.
pub(crate) type Shown = Arc<Mutex<Option<String>>>;

#[derive(Debug)]
struct SpkiPin {
    pin: Option<String>,
    shown: Shown,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for SpkiPin {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _chain: &[CertificateDer<'_>],
        _name: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let bad = || Error::InvalidCertificate(CertificateError::BadEncoding);
        let (_, parsed) = x509_parser::parse_x509_certificate(certificate).map_err(|_| bad())?;
        let digest = Sha256::digest(parsed.tbs_certificate.subject_pki.raw);
        let seen: String = digest.iter().map(|b| format!("{b:02x}")).collect();
        let fits = self.pin.as_ref().is_none_or(|pin| *pin == seen);
        *self.shown.lock().unwrap_or_else(PoisonError::into_inner) = Some(seen);
        if fits {
            Ok(ServerCertVerified::assertion())
        } else {
            Err(Error::InvalidCertificate(
                CertificateError::ApplicationVerificationFailure,
            ))
        }
    }
    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(
            message,
            certificate,
            signed,
            &self.provider.signature_verification_algorithms,
        )
    }
    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(
            message,
            certificate,
            signed,
            &self.provider.signature_verification_algorithms,
        )
    }
    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider
            .signature_verification_algorithms
            .supported_schemes()
    }
}

/// A client configuration for one pin; without a pin anybody is accepted, and what they showed is kept.
pub(crate) fn config(pin: Option<&str>) -> Result<(ClientConfig, Shown), Error> {
    let provider = Arc::new(ring::default_provider());
    let shown = Shown::default();
    let verifier = SpkiPin {
        pin: pin.map(str::to_owned),
        shown: shown.clone(),
        provider: provider.clone(),
    };
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()?
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(verifier))
        .with_no_client_auth();
    Ok((config, shown))
}
