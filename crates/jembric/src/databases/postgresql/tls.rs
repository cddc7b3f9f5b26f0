//! Encryption by `rustls`, with the certificates of the system.

use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
    client::{
        WebPkiServerVerifier,
        danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    },
    crypto::{CryptoProvider, ring, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime, pem::PemObject},
};
use std::sync::Arc;
use tokio_postgres_rustls::MakeRustlsConnect;

pub(super) type Tls = MakeRustlsConnect;

/// How far the server's certificate is verified.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Verification {
    /// Not at all: the connection is only encrypted.
    None,
    /// A trusted authority has issued it.
    Issuer,
    /// It is also that of the host.
    Full,
}

/// The connector for encrypted connections. Root certificates are those of the system, or of a PEM
/// file.
///
/// Errors: the file cannot be read, or has no certificate.
pub(super) fn connector(verification: Verification, roots: Option<&str>) -> Result<Tls, String> {
    let provider = Arc::new(ring::default_provider());
    let verifier: Arc<dyn ServerCertVerifier> = match verification {
        Verification::None => Arc::new(Lenient { provider: provider.clone(), issuer: None }),
        Verification::Issuer | Verification::Full => {
            let roots = Arc::new(root_certificates(roots)?);
            let verifier = WebPkiServerVerifier::builder_with_provider(roots, provider.clone());
            let verifier = verifier
                .build()
                .map_err(|error| format!("there are no root certificates: {error}"))?;
            match verification {
                Verification::Full => verifier,
                _ => Arc::new(Lenient { provider: provider.clone(), issuer: Some(verifier) }),
            }
        }
    };
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| error.to_string())?
        .dangerous()
        .with_custom_certificate_verifier(verifier)
        .with_no_client_auth();
    Ok(MakeRustlsConnect::new(config))
}

fn root_certificates(file: Option<&str>) -> Result<RootCertStore, String> {
    let mut roots = RootCertStore::empty();
    match file.filter(|file| *file != "system") {
        None => {
            let found = rustls_native_certs::load_native_certs();
            roots.add_parsable_certificates(found.certs);
        }
        Some(file) => {
            let unread = |error: &dyn std::fmt::Display| {
                format!("the root certificates in {file} cannot be read: {error}")
            };
            let certificates = CertificateDer::pem_file_iter(file)
                .map_err(|error| unread(&error))?
                .collect::<Result<Vec<_>, _>>()
                .map_err(|error| unread(&error))?;
            if certificates.is_empty() {
                return Err(format!("there are no certificates in {file}"));
            }
            roots.add_parsable_certificates(certificates);
        }
    }
    Ok(roots)
}

/// Accepts any certificate, or any that a trusted authority has issued, whatever its host. The
/// standard modes `prefer`, `require` and `verify-ca` ask for this.
#[derive(Debug)]
struct Lenient {
    provider: Arc<CryptoProvider>,
    issuer: Option<Arc<WebPkiServerVerifier>>,
}

impl ServerCertVerifier for Lenient {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        intermediates: &[CertificateDer<'_>],
        host: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let Some(issuer) = &self.issuer else { return Ok(ServerCertVerified::assertion()) };
        match issuer.verify_server_cert(certificate, intermediates, host, ocsp, now) {
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) => Ok(ServerCertVerified::assertion()),
            verified => verified,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, certificate, signature, algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let algorithms = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, certificate, signature, algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
