//! A node, from its start to its end.

use crate::http::{self, Shared};
use crate::live::Live;
use crate::metrics::Metrics;
use crate::names;
use crate::rates::Rates;
use crate::records::{self, Records, RecordsError};
use std::io;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use thiserror::Error;
use tokio::net::{TcpListener, TcpStream};
use tokio_util::sync::CancellationToken;
use yadori_database::{PrivateServer, ServerError, ServerState};
use yadori_link::identity::{Identity, IdentityError};
use yadori_link::relay::tls::RelayTls;
use yadori_serve::Limits;

/// Connections at the same time: each device that is on has one.
const CONNECTIONS: usize = 20_000;

/// Headers of a request.
const HEADERS: usize = 64;

/// Between two looks for what has waited for too long.
const EXPIRY: Duration = Duration::from_secs(600);

/// Where the URL of a node's own database stands while it runs, for the owner's commands.
const DATABASE_URL: &str = "database.url";

/// How a node is set up.
#[derive(Clone, Debug)]
pub struct Config {
    /// Where its key, and its database if it has one of its own, are kept.
    pub home: PathBuf,
    /// Where devices are listened for.
    pub listen: SocketAddr,
    /// Where the owner's machines ask for metrics and health; nowhere if there is none.
    pub owners: Option<SocketAddr>,
    /// A database that is given, which other nodes may share; its own if there is none.
    pub database_url: Option<String>,
    /// How connections are made.
    pub tls: Tls,
}

/// How connections are made.
#[derive(Clone, Debug)]
pub enum Tls {
    /// With a key of the node's own, which devices know by its pin.
    Own,
    /// With a certificate of an authority: files in PEM.
    Files {
        /// The certificate, and those that vouch for it.
        certificate: PathBuf,
        /// Its key.
        key: PathBuf,
    },
    /// Without: something before it does that.
    None,
}

/// Why a node does not run.
#[derive(Debug, Error)]
pub enum NodeError {
    /// Its own database does not start.
    #[error(transparent)]
    Server(#[from] ServerError),
    /// The database cannot be used.
    #[error(transparent)]
    Records(#[from] RecordsError),
    /// Its home cannot be used.
    #[error("{path} cannot be used: {source}")]
    Home {
        /// What of it.
        path: String,
        /// Why.
        source: io::Error,
    },
    /// Its key is damaged.
    #[error(transparent)]
    Identity(#[from] IdentityError),
    /// Its certificate cannot be used.
    #[error("the certificate cannot be used: {0}")]
    Certificate(io::Error),
    /// It cannot be listened there.
    #[error("cannot listen at {address}: {source}")]
    Listen {
        /// Where.
        address: SocketAddr,
        /// Why.
        source: io::Error,
    },
    /// The node does not run, and its database is its own.
    #[error("the relay of {0} does not run; start it, or give its database with --database-url")]
    NotRunning(String),
}

/// A node that runs.
pub struct Node {
    /// Where devices reach it.
    pub address: SocketAddr,
    /// Where the owner's machines do.
    pub owners: Option<SocketAddr>,
    /// The pin of its own key, as devices are told it; none if it has none.
    pub pin: Option<[u8; 32]>,
    shared: Arc<Shared>,
    server: Option<(PrivateServer, PathBuf)>,
    tasks: tokio::task::JoinSet<()>,
}

fn at(path: &Path) -> impl FnOnce(io::Error) -> NodeError {
    let path = path.display().to_string();
    move |source| NodeError::Home { path, source }
}

/// The key of a node, made when it is first wanted.
fn identity(home: &Path) -> Result<Identity, NodeError> {
    let path = home.join("relay.pem");
    match std::fs::read_to_string(&path) {
        Ok(pem) => Ok(Identity::from_pem(&pem)?),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let identity = Identity::new()?;
            yadori_files::write_private(&path, identity.to_pem().as_bytes()).map_err(at(&path))?;
            Ok(identity)
        }
        Err(error) => Err(at(&path)(error)),
    }
}

impl Node {
    /// Starts a node. Returns when devices can reach it.
    ///
    /// # Errors
    /// When something that it needs cannot be used; says what to do.
    pub async fn start(config: &Config) -> Result<Self, NodeError> {
        yadori_files::private_folder(&config.home).map_err(at(&config.home))?;
        let (server, url) = match &config.database_url {
            Some(url) => (None, url.clone()),
            None => {
                let server = PrivateServer::start(&config.home.join("database"), None).await?;
                let ServerState::Running { url, .. } = server.state().borrow().clone() else {
                    return Err(NodeError::NotRunning(config.home.display().to_string()));
                };
                let path = config.home.join(DATABASE_URL);
                yadori_files::write_private(&path, url.as_bytes()).map_err(at(&path))?;
                (Some((server, path)), url)
            }
        };
        let records = Records::open(&url).await?;
        let shared = Arc::new(Shared {
            records,
            live: Live::default(),
            metrics: Metrics::default(),
            rates: Rates::new(200, 50),
            tries: Rates::new(30, 3),
            ending: CancellationToken::new(),
        });
        let mut tasks = tokio::task::JoinSet::new();
        let expiring = shared.clone();
        tasks.spawn(async move { expire(&expiring).await });
        if config.database_url.is_some() {
            let following = shared.clone();
            tasks.spawn(async move { following.live.follow(&following.records, &following.metrics).await });
        }
        let listen = async |address: SocketAddr| {
            let listening = TcpListener::bind(address).await;
            listening.map_err(|source| NodeError::Listen { address, source })
        };
        let listener = listen(config.listen).await?;
        let address = listener.local_addr().unwrap_or(config.listen);
        let limits = Limits { connections: CONNECTIONS, headers: HEADERS };
        let (router, ending) = (http::router(shared.clone()), shared.ending.clone());
        let answer = move |request| yadori_serve::routed(router.clone(), request);
        let mut pin = None;
        let tls = match &config.tls {
            Tls::None => None,
            Tls::Own => {
                let identity = identity(&config.home)?;
                pin = Some(identity.pin());
                Some(RelayTls::of_identity(&identity).map_err(NodeError::Certificate)?)
            }
            Tls::Files { certificate, key } => {
                Some(RelayTls::from_files(certificate, key).map_err(NodeError::Certificate)?)
            }
        };
        match tls {
            None => {
                tasks.spawn(yadori_serve::serve(listener, answer, ending, limits));
            }
            Some(tls) => {
                let handshake = move |stream: TcpStream| {
                    let tls = tls.clone();
                    async move { tls.take(stream).await }
                };
                tasks.spawn(yadori_serve::serve_by(listener, answer, ending, limits, handshake));
            }
        }
        let mut owners = None;
        if let Some(address) = config.owners {
            let listener = listen(address).await?;
            owners = listener.local_addr().ok();
            let limits = Limits { connections: 32, headers: HEADERS };
            let (router, ending) = (http::owners_router(shared.clone()), shared.ending.clone());
            let answer = move |request| yadori_serve::routed(router.clone(), request);
            tasks.spawn(yadori_serve::serve(listener, answer, ending, limits));
        }
        Ok(Self { address, owners, pin, shared, server, tasks })
    }

    /// Its records.
    pub fn records(&self) -> &Records {
        &self.shared.records
    }

    /// What its owner sees.
    pub fn metrics(&self) -> &Metrics {
        &self.shared.metrics
    }

    /// Ends it: those who wait are answered, what was begun is done, and its own database ends.
    pub async fn stop(mut self) {
        self.shared.ending.cancel();
        // The listeners end by themselves; the others go on for ever.
        let listeners = if self.owners.is_some() { 2 } else { 1 };
        for _ in 0..listeners {
            let _ = tokio::time::timeout(Duration::from_secs(5), self.tasks.join_next()).await;
        }
        self.tasks.shutdown().await;
        self.shared.records.close().await;
        if let Some((server, path)) = self.server {
            let _ = std::fs::remove_file(path);
            server.stop().await;
        }
    }
}

/// Removes what has waited for too long, once in a while.
async fn expire(shared: &Shared) {
    loop {
        match shared.records.expire(records::now()).await {
            Ok(true) => continue,
            Ok(false) => {}
            Err(error) => tracing::warn!(%error, "what is too old could not be removed"),
        }
        tokio::time::sleep(EXPIRY).await;
    }
}

/// The URL of a relay's database, for its owner's commands: the one that is given, or of a relay that runs with its own.
///
/// # Errors
/// When there is neither.
pub fn url_of(home: &Path, database_url: Option<String>) -> Result<String, NodeError> {
    if let Some(url) = database_url {
        return Ok(url);
    }
    let url = std::fs::read_to_string(home.join(DATABASE_URL));
    let url = url.map_err(|_| NodeError::NotRunning(home.display().to_string()))?;
    Ok(url.trim().to_owned())
}

/// The records of a relay, for its owner's commands.
///
/// # Errors
/// When its database is not there.
pub async fn owners_records(home: &Path, database_url: Option<String>) -> Result<Records, NodeError> {
    Ok(Records::open(&url_of(home, database_url)?).await?)
}

/// What a person types on their device: the address of the relay, and after `#` a token, and the pin of the relay's own key if
/// it has one.
pub fn invitation(address: &str, token: &[u8; 16], pin: Option<&[u8; 32]>) -> String {
    let pin = pin.map(|pin| format!(".{}", names::written(pin))).unwrap_or_default();
    format!("{}/#{}{pin}", address.trim_end_matches('/'), names::written(token))
}
