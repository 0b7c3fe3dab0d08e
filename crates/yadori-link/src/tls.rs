//! Connections that only linked devices can make: TLS 1.3 with certificates on both sides, known by their pins.
//!
//! What a connection is for is told by its ALPN name (RFC 7301): an exchange between linked devices, or a
//! pairing. Sessions are never resumed, since a resumed one is not asked for its certificate again, and a device
//! that was removed would come back that way.

use crate::identity::{Identity, NAME, Pin, pin_of};
use crate::stream::Stream;
use parking_lot::RwLock;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::crypto::{CryptoProvider, WebPkiSupportedAlgorithms, ring};
use rustls::pki_types::{CertificateDer, ServerName, UnixTime};
use rustls::server::danger::{ClientCertVerified, ClientCertVerifier};
use rustls::server::{Acceptor, ClientHello};
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, DistinguishedName, ServerConfig, SignatureScheme, version,
};
use std::collections::BTreeSet;
use std::io;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::TcpStream;
use tokio_rustls::{LazyConfigAcceptor, TlsConnector, TlsStream};

/// ALPN of an exchange between linked devices.
const EXCHANGE: &[u8] = b"yadori-exchange/1";
/// ALPN of a pairing.
const PAIRING: &[u8] = b"yadori-pairing/1";

/// How long a handshake may take.
pub const HANDSHAKE: Duration = Duration::from_secs(10);

/// What a connection is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// An exchange between linked devices.
    Exchange,
    /// Two devices meet for the first time.
    Pairing,
}

/// The pins of the devices that are linked; shared by all connections, and current at every handshake.
#[derive(Clone, Debug, Default)]
pub struct Linked(Arc<RwLock<BTreeSet<Pin>>>);

impl Linked {
    /// From now on, these are the ones.
    pub fn set(&self, pins: impl IntoIterator<Item = Pin>) {
        *self.0.write() = pins.into_iter().collect();
    }

    /// How many they are.
    pub fn count(&self) -> usize {
        self.0.read().len()
    }

    /// Whether the device with this pin is one of them.
    pub fn contains(&self, pin: &Pin) -> bool {
        self.0.read().contains(pin)
    }
}

/// How this device makes and takes connections.
#[derive(Clone)]
pub struct TlsEndpoint {
    identity: Arc<Identity>,
    linked: Linked,
    provider: Arc<CryptoProvider>,
}

/// A connection, and the device at the other end.
pub struct Connection {
    /// The stream.
    pub stream: TlsStream<Stream>,
    /// The pin of the other device. For a pairing it is any that has its key.
    pub peer: Pin,
    /// What it is for.
    pub purpose: Purpose,
}

impl TlsEndpoint {
    /// The connections of this device, with those that are linked to it.
    pub fn new(identity: Arc<Identity>, linked: Linked) -> Self {
        Self { identity, linked, provider: Arc::new(ring::default_provider()) }
    }

    /// This device.
    pub fn identity(&self) -> &Identity {
        &self.identity
    }

    /// The devices that are linked.
    pub fn linked(&self) -> &Linked {
        &self.linked
    }

    /// Takes a connection. Pairings are taken only while `pairs` says so.
    ///
    /// # Errors
    /// When the other is not linked, takes too long, or says nothing that could be understood.
    pub async fn take(&self, stream: impl Into<Stream>, pairs: impl FnOnce() -> bool) -> io::Result<Connection> {
        let stream = stream.into();
        let handshake = async {
            let start = LazyConfigAcceptor::new(Acceptor::default(), stream).await?;
            let purpose = purpose(&start.client_hello()).filter(|purpose| *purpose == Purpose::Exchange || pairs());
            let Some(purpose) = purpose else {
                return Err(io::Error::new(
                    io::ErrorKind::PermissionDenied,
                    "it does not ask for anything that is open",
                ));
            };
            let stream = start.into_stream(Arc::new(self.server(purpose)?)).await?;
            self.connection(TlsStream::Server(stream), purpose)
        };
        tokio::time::timeout(HANDSHAKE, handshake).await.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))?
    }

    /// Takes a connection of a browser, which has no certificate: it is let in by what it says afterwards, and it is for the
    /// person to compare ours by its [fingerprint](Identity::fingerprint_of_certificate).
    ///
    /// # Errors
    /// When it takes too long, or speaks no TLS 1.3.
    pub async fn take_browser(&self, stream: TcpStream) -> io::Result<tokio_rustls::server::TlsStream<TcpStream>> {
        let mut config = ServerConfig::builder_with_provider(self.provider.clone())
            .with_protocol_versions(&[&version::TLS13])
            .map_err(io::Error::other)?
            .with_no_client_auth()
            .with_single_cert(vec![self.identity.certificate()], self.identity.private_key())
            .map_err(io::Error::other)?;
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        let handshake = tokio_rustls::TlsAcceptor::from(Arc::new(config)).accept(stream);
        tokio::time::timeout(HANDSHAKE, handshake).await.map_err(|_| io::Error::from(io::ErrorKind::TimedOut))?
    }

    /// Makes a connection, for an exchange with the device that has this pin, or for a pairing with any.
    ///
    /// # Errors
    /// When there is no answer, or another device answers.
    pub async fn make(&self, stream: impl Into<Stream>, expected: Option<Pin>) -> io::Result<Connection> {
        let purpose = if expected.is_some() { Purpose::Exchange } else { Purpose::Pairing };
        let config = Arc::new(self.client(purpose, expected)?);
        let name = ServerName::try_from(NAME).map_err(io::Error::other)?;
        let handshake = TlsConnector::from(config).connect(name, stream.into());
        let stream = tokio::time::timeout(HANDSHAKE, handshake)
            .await
            .map_err(|_| io::Error::from(io::ErrorKind::TimedOut))??;
        self.connection(TlsStream::Client(stream), purpose)
    }

    fn connection(&self, stream: TlsStream<Stream>, purpose: Purpose) -> io::Result<Connection> {
        stream.get_ref().0.set_nodelay()?;
        let session = stream.get_ref().1;
        let peer = session.peer_certificates().and_then(|certificates| pin_of(certificates.first()?));
        let peer = peer.ok_or_else(|| io::Error::new(io::ErrorKind::PermissionDenied, "it shows no certificate"))?;
        // The verifier has said so already; a connection that came past it would end here.
        if purpose == Purpose::Exchange && !self.linked.contains(&peer) {
            return Err(io::Error::new(io::ErrorKind::PermissionDenied, "it is not linked"));
        }
        Ok(Connection { stream, peer, purpose })
    }

    fn verifier(&self, expected: Expected) -> Arc<Verifier> {
        Arc::new(Verifier { expected, algorithms: self.provider.signature_verification_algorithms })
    }

    fn server(&self, purpose: Purpose) -> io::Result<ServerConfig> {
        let expected = match purpose {
            Purpose::Exchange => Expected::Linked(self.linked.clone()),
            Purpose::Pairing => Expected::Anybody,
        };
        let mut config = ServerConfig::builder_with_provider(self.provider.clone())
            .with_protocol_versions(&[&version::TLS13])
            .map_err(io::Error::other)?
            .with_client_cert_verifier(self.verifier(expected))
            .with_single_cert(vec![self.identity.certificate()], self.identity.private_key())
            .map_err(io::Error::other)?;
        config.send_tls13_tickets = 0;
        config.alpn_protocols = vec![alpn(purpose).to_vec()];
        Ok(config)
    }

    fn client(&self, purpose: Purpose, expected: Option<Pin>) -> io::Result<ClientConfig> {
        let expected = expected.map_or(Expected::Anybody, Expected::One);
        let mut config = ClientConfig::builder_with_provider(self.provider.clone())
            .with_protocol_versions(&[&version::TLS13])
            .map_err(io::Error::other)?
            .dangerous()
            .with_custom_certificate_verifier(self.verifier(expected))
            .with_client_auth_cert(vec![self.identity.certificate()], self.identity.private_key())
            .map_err(io::Error::other)?;
        config.resumption = rustls::client::Resumption::disabled();
        config.alpn_protocols = vec![alpn(purpose).to_vec()];
        Ok(config)
    }
}

fn alpn(purpose: Purpose) -> &'static [u8] {
    match purpose {
        Purpose::Exchange => EXCHANGE,
        Purpose::Pairing => PAIRING,
    }
}

fn purpose(hello: &ClientHello<'_>) -> Option<Purpose> {
    let mut names = hello.alpn()?;
    names.find_map(|name| match name {
        name if name == EXCHANGE => Some(Purpose::Exchange),
        name if name == PAIRING => Some(Purpose::Pairing),
        _ => None,
    })
}

/// Who is let in.
#[derive(Clone, Debug)]
pub(crate) enum Expected {
    /// Linked devices.
    Linked(Linked),
    /// One.
    One(Pin),
    /// Whoever it is proves to have its key; who it is, the pairing finds out.
    Anybody,
}

/// Lets in by pin, whatever else a certificate says. That the other has the key of its certificate is verified by
/// its signature of the handshake.
#[derive(Debug)]
pub(crate) struct Verifier {
    pub(crate) expected: Expected,
    pub(crate) algorithms: WebPkiSupportedAlgorithms,
}

impl Verifier {
    fn check(&self, certificate: &CertificateDer<'_>) -> Result<(), rustls::Error> {
        let pin = pin_of(certificate).ok_or(CertificateError::BadEncoding)?;
        let known = match &self.expected {
            Expected::Linked(linked) => linked.contains(&pin),
            Expected::One(expected) => *expected == pin,
            Expected::Anybody => true,
        };
        if known { Ok(()) } else { Err(CertificateError::ApplicationVerificationFailure.into()) }
    }

    fn signed(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        rustls::crypto::verify_tls13_signature(message, certificate, signature, &self.algorithms)
    }
}

const NO_TLS12: rustls::Error = rustls::Error::PeerIncompatible(rustls::PeerIncompatible::Tls13RequiredForQuic);

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _name: &ServerName<'_>,
        _ocsp: &[u8],
        _now: UnixTime,
    ) -> Result<ServerCertVerified, rustls::Error> {
        self.check(certificate).map(|()| ServerCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _message: &[u8],
        _certificate: &CertificateDer<'_>,
        _signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Err(NO_TLS12)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.signed(message, certificate, signature)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.algorithms.supported_schemes()
    }
}

impl ClientCertVerifier for Verifier {
    fn root_hint_subjects(&self) -> &[DistinguishedName] {
        &[]
    }

    fn verify_client_cert(
        &self,
        certificate: &CertificateDer<'_>,
        _intermediates: &[CertificateDer<'_>],
        _now: UnixTime,
    ) -> Result<ClientCertVerified, rustls::Error> {
        self.check(certificate).map(|()| ClientCertVerified::assertion())
    }

    fn verify_tls12_signature(
        &self,
        _message: &[u8],
        _certificate: &CertificateDer<'_>,
        _signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        Err(NO_TLS12)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, rustls::Error> {
        self.signed(message, certificate, signature)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.algorithms.supported_schemes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    use tokio::net::TcpListener;

    fn device(linked: &[Pin]) -> TlsEndpoint {
        let known = Linked::default();
        known.set(linked.iter().copied());
        TlsEndpoint::new(Arc::new(Identity::new().unwrap()), known)
    }

    /// What comes of a connection from one to the other.
    async fn meet(
        from: &TlsEndpoint,
        to: &TlsEndpoint,
        expected: Option<Pin>,
        pairs: bool,
    ) -> [io::Result<Connection>; 2] {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let (made, taken) = tokio::join!(
            async {
                let mut made = from.make(TcpStream::connect(address).await.unwrap(), expected).await;
                // In TLS 1.3 the client learns that its certificate was refused only when it reads on.
                if let Ok(connection) = &mut made {
                    let mut byte = [0];
                    if let Err(error) = connection.stream.read_exact(&mut byte).await {
                        made = Err(error);
                    }
                }
                made
            },
            async {
                let mut taken = to.take(listener.accept().await.unwrap().0, || pairs).await;
                if let Ok(connection) = &mut taken {
                    connection.stream.write_all(b"!").await.unwrap();
                    connection.stream.flush().await.unwrap();
                }
                taken
            }
        );
        [made, taken]
    }

    #[tokio::test]
    async fn linked_devices_come_together_and_nobody_else() {
        let (one, two, stranger) = (device(&[]), device(&[]), device(&[]));
        let (first, second) = (one.identity().pin(), two.identity().pin());
        one.linked().set([second]);
        two.linked().set([first]);
        stranger.linked().set([first, second]);
        let [made, taken] = meet(&one, &two, Some(second), false).await;
        assert_eq!((made.unwrap().peer, taken.unwrap().peer), (second, first));
        // A stranger knocks; a stranger answers; one that was linked before comes again.
        assert!(meet(&stranger, &two, Some(second), false).await.iter().all(Result::is_err));
        assert!(meet(&one, &stranger, Some(second), false).await.iter().all(Result::is_err));
        two.linked().set([]);
        assert!(meet(&one, &two, Some(second), false).await.iter().all(Result::is_err));
    }

    #[tokio::test]
    async fn pairings_are_taken_only_while_there_is_an_invitation() {
        let (one, two) = (device(&[]), device(&[]));
        assert!(meet(&one, &two, None, false).await.iter().all(Result::is_err));
        let [made, taken] = meet(&one, &two, None, true).await;
        let (made, taken) = (made.unwrap(), taken.unwrap());
        assert_eq!((made.peer, taken.peer), (two.identity().pin(), one.identity().pin()));
        assert_eq!((made.purpose, taken.purpose), (Purpose::Pairing, Purpose::Pairing));
    }

    #[tokio::test]
    async fn garbage_and_silence_end_a_handshake() {
        let door = device(&[]);
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        for garbage in [&b"GET / HTTP/1.1\r\n\r\n"[..], &[0xff; 300], &[22, 3, 1, 0xff, 0xff]] {
            let mut stranger = TcpStream::connect(listener.local_addr().unwrap()).await.unwrap();
            stranger.write_all(garbage).await.unwrap();
            drop(stranger);
            assert!(door.take(listener.accept().await.unwrap().0, || true).await.is_err());
        }
    }
}
