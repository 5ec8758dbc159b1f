//! The encrypted line to a database server, by the mode that everybody knows as `sslmode`.

use super::address::{Address, TlsMode};
use crate::StoreFault;
use crate::fault::StoreResult;
use rustls::client::WebPkiServerVerifier;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, aws_lc_rs, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::{CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use tokio_postgres_rustls::MakeRustlsConnect;

/// Where Debian keeps the authorities of the world; `sslrootcert=system` stands for them.
const SYSTEM: &str = "/etc/ssl/certs/ca-certificates.crt";

/// The maker of encrypted lines for an address.
///
/// # Errors
/// [`DatabaseFault::System`](crate::fault::DatabaseFault) where a certificate or key cannot be read.
pub(super) fn connector(address: &Address) -> StoreResult<MakeRustlsConnect> {
    let provider = Arc::new(aws_lc_rs::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_safe_default_protocol_versions()
        .map_err(|error| wrong("TLS", &error))?;
    let verifier: Arc<dyn ServerCertVerifier> = match address.mode {
        TlsMode::Off | TlsMode::Prefer | TlsMode::Require => Arc::new(LessThanFull { authority: None, provider }),
        TlsMode::Authority => {
            Arc::new(LessThanFull { authority: Some(verifier(address, provider.clone())?), provider })
        }
        TlsMode::Full => verifier(address, provider)?,
    };
    let builder = builder.dangerous().with_custom_certificate_verifier(verifier);
    let config = match &address.own {
        None => builder.with_no_client_auth(),
        Some((chain, key)) => {
            let private = PrivateKeyDer::from_pem_file(key).map_err(|error| wrong(key, &error))?;
            builder.with_client_auth_cert(certificates(chain)?, private).map_err(|error| wrong(chain, &error))?
        }
    };
    Ok(MakeRustlsConnect::new(config))
}

fn wrong(path: impl AsRef<Path>, error: &dyn std::fmt::Display) -> StoreFault {
    StoreFault { path: path.as_ref().to_owned(), source: std::io::Error::other(error.to_string()) }
}

fn certificates(path: &Path) -> StoreResult<Vec<CertificateDer<'static>>> {
    let read = || CertificateDer::pem_file_iter(path)?.collect::<Result<Vec<_>, _>>();
    Ok(read().map_err(|error| wrong(path, &error))?)
}

fn verifier(address: &Address, provider: Arc<CryptoProvider>) -> StoreResult<Arc<WebPkiServerVerifier>> {
    let path = match &address.authorities {
        Some(path) if path != Path::new("system") => path.clone(),
        _ => PathBuf::from(SYSTEM),
    };
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(certificates(&path)?);
    WebPkiServerVerifier::builder_with_provider(Arc::new(roots), provider)
        .build()
        .map_err(|error| wrong(&path, &error).into())
}

/// What is less than the whole check: whatever name is in a certificate of the known authority (`verify-ca`), or without an authority
/// whoever answers (`require`, `prefer`). Only the holder of the certificate's key gets through either way.
#[derive(Debug)]
struct LessThanFull {
    authority: Option<Arc<WebPkiServerVerifier>>,
    provider: Arc<CryptoProvider>,
}

impl ServerCertVerifier for LessThanFull {
    fn verify_server_cert(
        &self,
        end: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let Some(authority) = &self.authority else { return Ok(ServerCertVerified::assertion()) };
        match authority.verify_server_cert(end, between, name, ocsp, now) {
            Err(Error::InvalidCertificate(
                CertificateError::NotValidForName | CertificateError::NotValidForNameContext { .. },
            )) => Ok(ServerCertVerified::assertion()),
            verified => verified,
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, cert, signed, &self.provider.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, cert, signed, &self.provider.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}
