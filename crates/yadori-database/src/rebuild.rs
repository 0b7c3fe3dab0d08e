//! The database is built anew with another key, or with its first.
//!
//! A second server is set up beside, everything goes to it through a pipe (never through a file), both are compared, and
//! the new one takes the place of the old: see [`crate::swap`].
//!
//! * [`rebuild`]: nobody uses it meanwhile. A history that was not encrypted is encrypted so, before it is opened.
//! * [`PrivateServer::rebuild`]: it is used meanwhile. The server is started again so that it records what changes, encrypted as
//!   all it writes (`--log-bin`, `--encrypt-binlog`); what was changed since the copy was begun follows it, again and again,
//!   until there is so little left that everybody can be kept waiting for the last of it.
//!
//! Either way the two are compared as they were at one moment: the old one in a snapshot (`START TRANSACTION WITH CONSISTENT
//! SNAPSHOT`), the new one when the changes up to just that snapshot have followed.

use super::clients::{FILLING, Held, Reached, pipe};
use super::encryption;
use super::folder::FIRST_CHANGES;
use super::swap::{self, recover};
use super::{PrivateServer, ServerError};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use tokio_util::sync::CancellationToken;
use yadori_vault::{KeyId, Secret};

/// What became of the database.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rebuilt {
    /// It is encrypted with the new key.
    Done,
    /// It was so already.
    AlreadyDone,
}

/// How many rounds of changes may follow before everybody waits for the last one: each takes less than the one before.
const ROUNDS: usize = 6;

/// A round that was quicker than this leaves little to wait for.
const LITTLE: Duration = Duration::from_millis(150);

fn not_rebuilt(reason: impl ToString) -> ServerError {
    ServerError::NotRebuilt(reason.to_string())
}

/// Builds the database in `folder` anew, encrypted with `to`; `from` is the key that it has. No server may run there. Tells
/// how far it is, from 0 to 1.
///
/// # Errors
/// When a server does not start, there is no room, or the copy is not the same; what was there is as it was then.
pub async fn rebuild(
    folder: &Path,
    from: Option<&Secret>,
    to: &Secret,
    tell: impl Fn(f32) + Send + 'static,
) -> Result<Rebuilt, ServerError> {
    recover(folder).map_err(not_rebuilt)?;
    if encryption::key_id(folder).map_err(not_rebuilt)? == Some(KeyId::of(to).to_string()) {
        return Ok(Rebuilt::AlreadyDone);
    }
    let source = PrivateServer::start(folder, from).await?;
    let copied = Copying::begin(&source, folder, to).await;
    let copied = match copied {
        Ok(copying) => {
            let (from, to) = (copying.from.clone(), copying.to.clone());
            let outcome = blocking(move || {
                copy(&from, &to, Changes::None, &tell)?;
                same(&sums(&from)?, &sums(&to)?)
            });
            let outcome = outcome.await;
            copying.end(outcome).await
        }
        Err(error) => Err(error),
    };
    source.stop().await;
    copied?;
    swap::swap(folder).map_err(not_rebuilt)?;
    swap::wipe_old(folder).map_err(not_rebuilt)?;
    Ok(Rebuilt::Done)
}

impl PrivateServer {
    /// Builds the database anew, encrypted with `to`, while it is used. The server is away for a moment at the beginning and at
    /// the end; its state tells where it is then. Tells how far it is, from 0 to 1.
    ///
    /// # Errors
    /// When there is no room, the copy is not the same, a server ended by itself, or it was cancelled; what was there is as it was
    /// then, and is used on.
    pub async fn rebuild(
        &self,
        to: &Secret,
        cancelled: &CancellationToken,
        tell: impl Fn(f32) + Send + 'static,
    ) -> Result<(), ServerError> {
        let folder = self.folder().to_owned();
        self.record_changes(true).await?;
        if let Err(error) = self.build_beside(&folder, to, cancelled, tell).await {
            // It ends anyway when it is cancelled.
            if !cancelled.is_cancelled() {
                self.record_changes(false).await?;
            }
            return Err(error);
        }
        let wiped = tokio::task::spawn_blocking(move || swap::wipe_old(&folder)).await;
        if let Ok(Err(error)) = wiped {
            tracing::warn!(%error, "the database with the old key is wiped at the next start");
        }
        Ok(())
    }

    async fn build_beside(
        &self,
        folder: &Path,
        to: &Secret,
        cancelled: &CancellationToken,
        tell: impl Fn(f32) + Send + 'static,
    ) -> Result<(), ServerError> {
        let copying = Copying::begin(self, folder, to).await?;
        let followed = tokio::select! {
            followed = self.follow_to_the_end(&copying, tell) => followed,
            () = cancelled.cancelled() => Err("it was broken off".into()),
        };
        // Everybody waits now.
        let held = copying.end(followed).await?;
        self.replaced(to).await?;
        drop(held);
        Ok(())
    }

    async fn follow_to_the_end(&self, copying: &Copying, tell: impl Fn(f32) + Send + 'static) -> Result<Held, String> {
        let (from, to) = (copying.from.clone(), copying.to.clone());
        let at = blocking(move || follow(&from, &to, &tell)).await?;
        self.pause().await.map_err(|error| error.to_string())?;
        let (from, to) = (copying.from.clone(), copying.to.clone());
        blocking(move || {
            let (held, last) = Held::take(&from, POSITION)?;
            catch_up(&from, &to, at, last.trim()).map(|_| held)
        })
        .await
    }
}

async fn blocking<T: Send + 'static>(work: impl FnOnce() -> Result<T, String> + Send + 'static) -> Result<T, String> {
    tokio::task::spawn_blocking(work).await.unwrap_or_else(|_| Err("the copying ended".into()))
}

/// A copy that is being made.
struct Copying {
    from: Reached,
    to: Reached,
    next: PathBuf,
    target: PrivateServer,
}

impl Copying {
    async fn begin(source: &PrivateServer, folder: &Path, key: &Secret) -> Result<Self, ServerError> {
        let next = swap::next(folder);
        let target = match PrivateServer::start(&next, Some(key)).await {
            Ok(target) => target,
            Err(error) => {
                let _ = fs::remove_dir_all(&next);
                return Err(error);
            }
        };
        match (Reached::of(source), Reached::of(&target)) {
            (Ok(from), Ok(to)) => Ok(Self { from, to, next, target }),
            (Err(reason), _) | (_, Err(reason)) => {
                target.stop().await;
                let _ = fs::remove_dir_all(&next);
                Err(not_rebuilt(reason))
            }
        }
    }

    /// The copy is whole on the disk on return, or gone.
    async fn end<T: Send + 'static>(self, outcome: Result<T, String>) -> Result<T, ServerError> {
        self.target.stop().await;
        let next = self.next.clone();
        let synced = match outcome {
            Ok(given) => blocking(move || swap::sync(&next).map(|()| given).map_err(|error| error.to_string())).await,
            Err(reason) => Err(reason),
        };
        synced.map_err(|reason| {
            let _ = fs::remove_dir_all(&self.next);
            not_rebuilt(reason)
        })
    }
}

/// Copies everything, but for what is changed meanwhile. Gives where in the recorded changes that was, if they are recorded.
fn copy(from: &Reached, to: &Reached, changes: Changes, tell: &dyn Fn(f32)) -> Result<String, String> {
    let size = from
        .ask("SELECT COALESCE(SUM(data_length), 0) + 1 FROM information_schema.tables WHERE table_schema = 'yadori'")?;
    let size: u64 = size.trim().parse().map_err(|_| format!("no size: {size}"))?;
    // It is all written to the disk when the server ends, and given up if that does not come about.
    to.ask("SET GLOBAL innodb_flush_log_at_trx_commit = 0")?;
    let (mut dump, _options) = from.client("mariadb-dump")?;
    dump.args(["--single-transaction", "--quick", "--hex-blob", "--no-tablespaces", "--skip-comments"]);
    dump.args(["--default-character-set=utf8mb4", "--max-allowed-packet=64M"]);
    if changes == Changes::Recorded {
        // As a comment: the new database is nobody's replica.
        dump.arg("--master-data=2");
    }
    dump.arg(format!("--ignore-table=yadori.{FILLING}")).arg("yadori");
    let (load, _options) = to.statements()?;
    let (mut done, mut head) = (0, Vec::new());
    pipe(("mariadb-dump", dump), ("mariadb", load), |bytes| {
        done += bytes.len() as u64;
        head.extend_from_slice(&bytes[..bytes.len().min(HEAD.saturating_sub(head.len()))]);
        // Bytes are written as two digits each; comparing takes the rest.
        tell((done as f32 / (2 * size) as f32).min(1.0) * COPIED);
    })?;
    if changes == Changes::None {
        return Ok(String::new());
    }
    let head = String::from_utf8_lossy(&head);
    let (file, offset) = position_in(&head).ok_or("the copy does not tell where it was begun")?;
    position_of(from, file, offset)
}

/// Whether changes are recorded.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Changes {
    Recorded,
    /// There are none.
    None,
}

/// Where `mariadb-dump --master-data` tells its position: before the first table.
const HEAD: usize = 1 << 16;

/// How far it is when everything is copied, and when it is compared.
const COPIED: f32 = 0.7;
const COMPARED: f32 = 0.95;

/// The file of recorded changes, and the place in it, that a copy tells of at its head.
fn position_in(head: &str) -> Option<(&str, &str)> {
    let (_, rest) = head.split_once("MASTER_LOG_FILE='")?;
    let (file, rest) = rest.split_once("', MASTER_LOG_POS=")?;
    rest.split_once(';').map(|(offset, _)| (file, offset))
}

/// The position (a GTID) of a place in a file of recorded changes. Places alone would not do: in encrypted files the clients
/// count them differently than the server.
fn position_of(server: &Reached, file: &str, offset: &str) -> Result<String, String> {
    let position = server.ask(&format!("SELECT BINLOG_GTID_POS('{file}', {offset})"))?;
    match position.trim() {
        "" | "NULL" => Err(format!("{file} has no position {offset}")),
        position => Ok(position.to_owned()),
    }
}

/// The sums over all that is in the tables; nothing if there are none.
fn sums(server: &Reached) -> Result<String, String> {
    server.tables()?.map_or_else(|| Ok(String::new()), |tables| server.ask(&checksum(&tables)))
}

fn checksum(tables: &str) -> String {
    format!("CHECKSUM TABLE {tables} EXTENDED")
}

fn same(one: &str, other: &str) -> Result<(), String> {
    if one == other { Ok(()) } else { Err("the copy is not the same".into()) }
}

/// Copies everything, compares, and has what changes meanwhile follow, until there is little left. Gives how far it followed.
fn follow(from: &Reached, to: &Reached, tell: &dyn Fn(f32)) -> Result<String, String> {
    // From the first change on there is a position.
    from.ask("DROP TABLE IF EXISTS there_is_no_such_table")?;
    let mut at = copy(from, to, Changes::Recorded, tell)?;
    // What is written now need not be written when the server ends, and everybody waits.
    to.ask("SET GLOBAL innodb_max_dirty_pages_pct = 0")?;
    if let Some(tables) = from.tables()? {
        let said = from.ask(&format!(
            "START TRANSACTION WITH CONSISTENT SNAPSHOT; SHOW STATUS LIKE 'binlog_snapshot_%'; {}",
            checksum(&tables)
        ))?;
        let (file, rest) = said.split_once('\n').unwrap_or_default();
        let (offset, theirs) = rest.split_once('\n').unwrap_or_default();
        let [file, offset] = [file, offset].map(|row| row.split('\t').next_back().unwrap_or_default());
        at = catch_up(from, to, at, &position_of(from, file, offset)?)?;
        same(theirs, &sums(to)?)?;
    }
    tell(COMPARED);
    for _ in 0..ROUNDS {
        let began = Instant::now();
        let now = from.ask(POSITION)?;
        at = catch_up(from, to, at, now.trim())?;
        if began.elapsed() < LITTLE {
            break;
        }
    }
    Ok(at)
}

/// Asks for the position of the last change that is recorded.
const POSITION: &str = "SELECT @@GLOBAL.gtid_binlog_pos";

/// Has the changes follow that were recorded after one position, up to another, which is given back.
fn catch_up(from: &Reached, to: &Reached, after: String, upto: &str) -> Result<String, String> {
    if after == upto {
        return Ok(after);
    }
    let (mut changes, _options) = from.client("mariadb-binlog")?;
    changes.args(["--read-from-remote-server", "--skip-annotate-row-events", "--to-last-log"]);
    changes.arg(format!("--start-position={after}")).arg(format!("--stop-position={upto}")).arg(FIRST_CHANGES);
    let (apply, _options) = to.statements()?;
    pipe(("mariadb-binlog", changes), ("mariadb", apply), |_| {})?;
    Ok(upto.to_owned())
}

#[cfg(test)]
mod tests {
    use super::position_in;

    #[test]
    fn a_copy_tells_where_it_was_begun() {
        let head = "/*!40111 SET @OLD_SQL_NOTES=@@SQL_NOTES, SQL_NOTES=0 */;\n\n-- CHANGE MASTER TO MASTER_LOG_FILE='changes.000001', MASTER_LOG_POS=376;\nDROP TABLE";
        assert_eq!(position_in(head), Some(("changes.000001", "376")));
        assert_eq!(position_in("DROP TABLE"), None);
    }
}
