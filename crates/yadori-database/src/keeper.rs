//! The thread that keeps a server running, and what it is told.

use super::folder::Folder;
use super::process::Running;
use super::{ServerError, ServerState, swap};
use backon::{BackoffBuilder, ExponentialBuilder};
use std::path::{Path, PathBuf};
use std::sync::mpsc;
use std::time::{Duration, Instant};
use tokio::sync::{oneshot, watch};
use yadori_vault::Secret;

/// A private server that is kept running.
pub struct PrivateServer {
    folder: PathBuf,
    state: watch::Receiver<ServerState>,
    orders: mpsc::Sender<ServerCommand>,
    keeper: parking_lot::Mutex<Option<std::thread::JoinHandle<()>>>,
}

/// What the keeper is told.
pub(super) enum ServerCommand {
    /// The server with this process id has ended.
    Ended(u32),
    /// To end the server.
    Stop,
    /// To have nobody ask anything for a moment.
    Pause(Answer),
    /// To start it again, so that it records changes, or not any more.
    Record(bool, Answer),
    /// To have the database that was built beside, with this key, take the place of this one.
    Replace(Secret, Answer),
}

type Answer = oneshot::Sender<Result<(), ServerError>>;

/// How long what is under way is given to end, when nobody asks any more.
const LAST_WORDS: Duration = Duration::from_millis(50);

/// Pauses before the server is started again, after starts that failed. One that could be started and was ended is
/// started again at once.
const RETRY: ExponentialBuilder = ExponentialBuilder::new()
    .with_min_delay(Duration::from_millis(200))
    .with_max_delay(LONGEST_PAUSE)
    .without_max_times();

/// Longest of these pauses.
const LONGEST_PAUSE: Duration = Duration::from_secs(3);

/// So often within [`STEADY`] the server may end by itself before there is a pause after it, too.
const QUICK_DEATHS: usize = 20;

/// A server that ran this long is not taken to keep dying.
const STEADY: Duration = Duration::from_secs(60);

impl PrivateServer {
    /// Starts the server of this folder, which is set up at the first time, encrypted with `key`. Returns when it answers.
    ///
    /// # Errors
    /// When there is no server to start, or it does not start; says what to do.
    pub async fn start(path: &Path, key: Option<&Secret>) -> Result<Self, ServerError> {
        let (folder, key) = (path.to_owned(), key.cloned());
        let (orders, received) = mpsc::channel();
        let (first, started) = oneshot::channel();
        let (to_keeper, path) = (orders.clone(), folder.clone());
        let keeper = std::thread::Builder::new()
            .name("database".into())
            .spawn(move || keep((&path, key.as_ref()), first, to_keeper, &received))
            .map_err(|error| ServerError::Folder { path: "a new thread".into(), reason: error.to_string() })?;
        match started.await {
            Ok(Ok(state)) => Ok(Self { folder, state, orders, keeper: Some(keeper).into() }),
            Ok(Err(error)) => Err(error),
            Err(_) => Err(ServerError::DidNotStart { reason: "its keeper ended".into(), log: String::new() }),
        }
    }

    /// Follows the state of the server.
    pub fn state(&self) -> watch::Receiver<ServerState> {
        self.state.clone()
    }

    /// Its folder.
    pub(super) fn folder(&self) -> &Path {
        &self.folder
    }

    /// Ends the server and waits until it is gone.
    pub async fn stop(&self) {
        let _ = self.orders.send(ServerCommand::Stop);
        let keeper = self.keeper.lock().take();
        if let Some(keeper) = keeper {
            let _ = tokio::task::spawn_blocking(move || keeper.join()).await;
        }
    }

    /// Has changes recorded, or not any more; the server is started again for that.
    pub(super) async fn record_changes(&self, recorded: bool) -> Result<(), ServerError> {
        self.tell(|answer| ServerCommand::Record(recorded, answer)).await
    }

    /// Has nobody ask anything, until the server is started again.
    pub(super) async fn pause(&self) -> Result<(), ServerError> {
        self.tell(ServerCommand::Pause).await
    }

    /// Has the database that was built beside, with this key, take the place of this one, which is killed: whatever it has not
    /// written yet is not wanted any more.
    pub(super) async fn replaced(&self, key: &Secret) -> Result<(), ServerError> {
        self.tell(|answer| ServerCommand::Replace(key.clone(), answer)).await
    }

    async fn tell(&self, command: impl FnOnce(Answer) -> ServerCommand) -> Result<(), ServerError> {
        let (answer, answered) = oneshot::channel();
        let _ = self.orders.send(command(answer));
        answered.await.unwrap_or_else(|_| Err(ServerError::NotRebuilt("the server ends".into())))
    }
}

impl Drop for PrivateServer {
    fn drop(&mut self) {
        let _ = self.orders.send(ServerCommand::Stop);
    }
}

type FirstStart = oneshot::Sender<Result<watch::Receiver<ServerState>, ServerError>>;

/// The life of the keeper's thread.
fn keep(
    (path, key): (&Path, Option<&Secret>),
    first: FirstStart,
    orders: mpsc::Sender<ServerCommand>,
    received: &mpsc::Receiver<ServerCommand>,
) {
    let started = Folder::open(path, key).and_then(|folder| {
        let running = Running::start(&folder)?;
        Ok((folder, running))
    });
    let (folder, running) = match started {
        Ok(started) => started,
        Err(error) => {
            let _ = first.send(Err(error));
            return;
        }
    };
    let (state, follow) = watch::channel(ServerState::Stopped);
    let keeper = Keeper { folder, running, restarts: 0, state, orders, quick_deaths: 0 };
    keeper.tell_running();
    if first.send(Ok(follow)).is_err() {
        keeper.running.stop();
        return;
    }
    keeper.run(received);
}

/// A server, and what is known of it.
struct Keeper {
    folder: Folder,
    running: Running,
    restarts: u32,
    state: watch::Sender<ServerState>,
    orders: mpsc::Sender<ServerCommand>,
    quick_deaths: usize,
}

impl Keeper {
    fn tell_running(&self) {
        let (url, pid) = (self.running.url(&self.folder), self.running.pid());
        self.state.send_replace(ServerState::Running { url, pid, restarts: self.restarts });
    }

    /// Whoever connects now is told at once that nobody is there.
    fn tell_away(&self) {
        let _ = std::fs::remove_file(self.folder.socket());
        self.state.send_replace(ServerState::Restarting { failure: None });
    }

    fn pause(&self) {
        self.state.send_replace(ServerState::Paused);
        std::thread::sleep(LAST_WORDS);
    }

    fn run(mut self, received: &mpsc::Receiver<ServerCommand>) {
        let mut since = Instant::now();
        self.running.tell_when_ended(self.orders.clone());
        loop {
            let goes_on = match received.recv() {
                Ok(ServerCommand::Ended(pid)) if pid != self.running.pid() => continue,
                Ok(ServerCommand::Ended(_)) => {
                    tracing::error!(
                        outcome = %self.running.outcome(),
                        "the database server ended by itself; starting it again"
                    );
                    self.tell_away();
                    self.quick_deaths = if since.elapsed() > STEADY { 0 } else { self.quick_deaths + 1 };
                    self.restarts += 1;
                    let is_back = self.start_again(received);
                    if is_back {
                        tracing::info!("the database server is back");
                    }
                    is_back
                }
                Ok(ServerCommand::Pause(answer)) => {
                    self.pause();
                    let _ = answer.send(Ok(()));
                    continue;
                }
                Ok(ServerCommand::Record(recorded, answer)) => {
                    self.pause();
                    self.running.stop();
                    let changed = self.folder.record_changes(recorded);
                    let goes_on = self.start_again(received);
                    let _ = answer.send(changed);
                    goes_on
                }
                Ok(ServerCommand::Replace(key, answer)) => {
                    self.running.kill();
                    let replaced = self.replace(&key);
                    let goes_on = replaced.is_ok() || self.start_again(received);
                    let _ = answer.send(replaced);
                    goes_on
                }
                Ok(ServerCommand::Stop) | Err(_) => {
                    self.running.stop();
                    false
                }
            };
            if !goes_on {
                break;
            }
            since = Instant::now();
            self.running.tell_when_ended(self.orders.clone());
        }
        self.state.send_replace(ServerState::Stopped);
    }

    /// The database beside takes the place of this one, and its server runs; or this one stays, and none does.
    fn replace(&mut self, key: &Secret) -> Result<(), ServerError> {
        let path = self.folder.path.clone();
        let failed = |error: std::io::Error| ServerError::NotRebuilt(error.to_string());
        swap::swap(&path).map_err(failed)?;
        let started = Folder::open(&path, Some(key)).and_then(|folder| Ok((Running::start(&folder)?, folder)));
        match started {
            Ok((running, folder)) => {
                (self.running, self.folder) = (running, folder);
                self.tell_running();
                Ok(())
            }
            Err(error) => {
                swap::swap_back(&path).map_err(failed)?;
                Err(error)
            }
        }
    }

    /// Starts the server again, however often that takes. False if it is to end meanwhile.
    fn start_again(&mut self, received: &mpsc::Receiver<ServerCommand>) -> bool {
        let mut pauses = RETRY.build();
        let mut next_pause = move || pauses.next().unwrap_or(LONGEST_PAUSE);
        let mut pause = if self.quick_deaths > QUICK_DEATHS { next_pause() } else { Duration::ZERO };
        loop {
            if let Ok(ServerCommand::Stop) | Err(mpsc::RecvTimeoutError::Disconnected) = received.recv_timeout(pause) {
                return false;
            }
            match Running::start(&self.folder) {
                Ok(running) => {
                    self.running = running;
                    self.tell_running();
                    return true;
                }
                Err(error) => {
                    tracing::error!(%error, "the database server cannot be started again yet");
                    self.state.send_replace(ServerState::Restarting { failure: Some(error) });
                    pause = next_pause();
                }
            }
        }
    }
}
