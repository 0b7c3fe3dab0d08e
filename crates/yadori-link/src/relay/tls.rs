//! Connections to a relay: TLS 1.3, with a key of its own that is known by its pin, or a certificate of an authority.

use crate::identity::{Identity, Pin};
use crate::tls::{Expected, HANDSHAKE, Verifier};
use rustls::crypto::ring;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use rustls::{ClientConfig, RootCertStore, ServerConfig, version};
use std::io;
use std::path::Path;
use std::sync::Arc;
use tokio::net::TcpStream;
use tokio_rustls::TlsAcceptor;
use tokio_rustls::server::TlsStream;

/// How a relay takes connections.
#[derive(Clone)]
pub struct RelayTls(TlsAcceptor);

impl RelayTls {
    /// With a key of its own.
    ///
    /// # Errors
    /// When the key cannot be used.
    pub fn of_identity(identity: &Identity) -> io::Result<Self> {
        Self::new(vec![identity.certificate()], identity.private_key())
    }

    /// With a certificate of an authority, and those that vouch for it; both files in PEM.
    ///
    /// # Errors
    /// When one of the files cannot be read, or they do not belong together.
    pub fn from_files(certificate: &Path, key: &Path) -> io::Result<Self> {
        let certificates = CertificateDer::pem_file_iter(certificate).map_err(io::Error::other)?;
        let certificates = certificates.collect::<Result<Vec<_>, _>>().map_err(io::Error::other)?;
        Self::new(certificates, PrivateKeyDer::from_pem_file(key).map_err(io::Error::other)?)
    }

    fn new(certificates: Vec<CertificateDer<'static>>, key: PrivateKeyDer<'static>) -> io::Result<Self> {
        let mut config = ServerConfig::builder_with_provider(Arc::new(ring::default_provider()))
            .with_protocol_versions(&[&version::TLS13])
            .map_err(io::Error::other)?
            .with_no_client_auth()
            .with_single_cert(certificates, key)
            .map_err(io::Error::other)?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Self(TlsAcceptor::from(Arc::new(config))))
    }

    /// Takes a connection.
    ///
    /// # Errors
    /// When the other takes too long, or speaks no TLS 1.3.
    pub async fn take(&self, stream: TcpStream) -> io::Result<TlsStream<TcpStream>> {
        let handshake = self.0.accept(stream);
        tokio::time::timeout(HANDSHAKE, handshake).await.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))?
    }
}

/// How a device makes a connection with the relay that has this pin, or with any that shows a certificate of an authority that this
/// system trusts.
///
/// # Errors
/// When this system trusts none.
pub(super) fn client(pin: Option<Pin>) -> io::Result<ClientConfig> {
    let provider = Arc::new(ring::default_provider());
    let builder = ClientConfig::builder_with_provider(provider.clone())
        .with_protocol_versions(&[&version::TLS13])
        .map_err(io::Error::other)?;
    let mut config = match pin {
        Some(pin) => {
            let algorithms = provider.signature_verification_algorithms;
            let verifier = Verifier { expected: Expected::One(pin), algorithms };
            builder.dangerous().with_custom_certificate_verifier(Arc::new(verifier)).with_no_client_auth()
        }
        None => {
            let mut roots = RootCertStore::empty();
            roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
            if roots.is_empty() {
                return Err(io::Error::other("this system trusts no authority for certificates"));
            }
            builder.with_root_certificates(roots).with_no_client_auth()
        }
    };
    config.alpn_protocols = vec![b"http/1.1".to_vec()];
    Ok(config)
}
