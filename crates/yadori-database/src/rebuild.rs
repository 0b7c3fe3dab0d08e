//! The database is built anew with another key, or with its first.
//!
//! A second server is set up beside, everything goes to it through a pipe (never through a file), both are compared, and
//! the new one takes the place of the old. It can be killed at any point; [`recover`] goes on from what it finds:
//!
//! | `database` | `.next` | `.old` | what happened | what is done |
//! | --- | --- | --- | --- | --- |
//! | there | | | nothing, or all | nothing |
//! | there | there | | the new one is not whole | it is removed |
//! | | there | there | the new one is whole | it takes its place |
//! | there | | there | it has taken it | the old one is wiped |

use super::encryption;
use super::process::find;
use super::{PrivateServer, ServerError, ServerState, orphans};
use rustix::fs::{MemfdFlags, memfd_create};
use rustix::process::Signal;
use std::fs::{self, File};
use std::io::{self, Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, PermissionsExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use yadori_vault::{KeyId, Secret};

/// What became of the database.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Rebuilt {
    /// It is encrypted with the new key.
    Done,
    /// It was so already.
    AlreadyDone,
}

fn beside(folder: &Path, end: &str) -> PathBuf {
    let mut path = folder.as_os_str().to_owned();
    path.push(end);
    path.into()
}

/// Puts in order what was left by a [`rebuild`] that was broken off. To be called before the server is started.
///
/// # Errors
/// When the disk refuses.
pub fn recover(folder: &Path) -> io::Result<()> {
    let [next, old] = [".next", ".old"].map(|end| beside(folder, end));
    if next.exists() {
        if folder.exists() {
            orphans::of(&next).iter().for_each(|orphan| orphan.end(Signal::KILL));
            fs::remove_dir_all(&next)?;
        } else {
            fs::rename(&next, folder)?;
        }
    }
    if old.exists() {
        if folder.exists() {
            wipe(&old)?;
        } else {
            fs::rename(&old, folder)?;
        }
    }
    Ok(())
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
    let failed = |error: io::Error| ServerError::NotRebuilt(error.to_string());
    recover(folder).map_err(failed)?;
    if encryption::key_id(folder).map_err(failed)? == Some(KeyId::of(to).to_string()) {
        return Ok(Rebuilt::AlreadyDone);
    }
    let next = beside(folder, ".next");
    let source = PrivateServer::start(folder, from).await?;
    let target = match PrivateServer::start(&next, Some(to)).await {
        Ok(target) => target,
        Err(error) => {
            source.stop().await;
            let _ = fs::remove_dir_all(&next);
            return Err(error);
        }
    };
    let (one, other) = (Reached::of(&source), Reached::of(&target));
    let copied = tokio::task::spawn_blocking(move || copy(&one?, &other?, &tell));
    let copied = copied.await.unwrap_or_else(|_| Err("the copying ended".into()));
    source.stop().await;
    target.stop().await;
    if let Err(reason) = copied {
        let _ = fs::remove_dir_all(&next);
        return Err(ServerError::NotRebuilt(reason));
    }
    let old = beside(folder, ".old");
    let swap = || {
        sync(&next)?;
        fs::rename(folder, &old)?;
        fs::rename(&next, folder)?;
        sync_folder(folder.parent().unwrap_or(folder))?;
        wipe(&old)
    };
    swap().map_err(failed)?;
    Ok(Rebuilt::Done)
}

/// How a client reaches a server.
struct Reached {
    socket: String,
    password: String,
}

impl Reached {
    fn of(server: &PrivateServer) -> Result<Self, String> {
        let ServerState::Running { url, .. } = server.state().borrow().clone() else {
            return Err("a server ended".into());
        };
        let url = url::Url::parse(&url).map_err(|error| error.to_string())?;
        let socket = url.query_pairs().find(|(name, _)| name == "socket").map(|(_, socket)| socket.into_owned());
        Ok(Self { socket: socket.ok_or("no socket")?, password: url.password().unwrap_or_default().to_owned() })
    }

    /// A client of the server. Its password is in no argument and no file; the file in memory lasts as long as it is held.
    fn client(&self, program: &str) -> Result<(Command, File), String> {
        let said = |error: io::Error| error.to_string();
        let program =
            find(program).ok_or_else(|| format!("{program} is missing (on Debian: apt install mariadb-client)"))?;
        // Inherited by what is started: the flag is set in this process only for a moment, and the file holds no content.
        let options = File::from(memfd_create("yadori", MemfdFlags::empty()).map_err(|error| said(error.into()))?);
        // The clients ignore options that others could write.
        options.set_permissions(fs::Permissions::from_mode(0o600)).map_err(said)?;
        let text = format!(
            "[client]\nuser=yadori\npassword={}\nsocket={}\ndefault-character-set=utf8mb4\n",
            self.password, self.socket
        );
        options.write_all_at(text.as_bytes(), 0).map_err(said)?;
        let mut command = Command::new(program);
        command.arg(format!("--defaults-file=/proc/self/fd/{}", options.as_raw_fd())).arg("--max-allowed-packet=64M");
        command.stdin(Stdio::null()).stderr(Stdio::piped());
        Ok((command, options))
    }

    fn ask(&self, statement: &str) -> Result<String, String> {
        let (mut command, _options) = self.client("mariadb")?;
        let done = command.args(["--batch", "--skip-column-names", "-e", statement, "yadori"]).output();
        let done = done.map_err(|error| error.to_string())?;
        if !done.status.success() {
            return Err(String::from_utf8_lossy(&done.stderr).trim().to_owned());
        }
        Ok(String::from_utf8_lossy(&done.stdout).into_owned())
    }
}

fn copy(one: &Reached, other: &Reached, tell: &dyn Fn(f32)) -> Result<(), String> {
    let said = |error: io::Error| error.to_string();
    let size = one
        .ask("SELECT COALESCE(SUM(data_length), 0) + 1 FROM information_schema.tables WHERE table_schema = 'yadori'")?;
    let size: u64 = size.trim().parse().map_err(|_| format!("no size: {size}"))?;
    // It is all written to the disk when the server ends, and given up if that does not come about.
    other.ask("SET GLOBAL innodb_flush_log_at_trx_commit = 0")?;
    let (mut dump, _options) = one.client("mariadb-dump")?;
    dump.args(["--single-transaction", "--quick", "--hex-blob", "--no-tablespaces", "--skip-comments", "yadori"]);
    let mut dump = dump.stdout(Stdio::piped()).spawn().map_err(said)?;
    let (mut load, _options) = other.client("mariadb")?;
    let mut load = load.arg("yadori").stdin(Stdio::piped()).stdout(Stdio::null()).spawn().map_err(said)?;
    let piped = pipe(&mut dump, &mut load, size, tell);
    let ended = [("mariadb-dump", dump), ("mariadb", load)].map(|(name, child)| ended(name, child));
    ended.into_iter().collect::<Result<(), _>>()?;
    piped.map_err(said)?;
    let sums = |server: &Reached| {
        let tables = server.ask("SELECT GROUP_CONCAT(CONCAT('`', table_name, '`') ORDER BY table_name) FROM information_schema.tables WHERE table_schema = 'yadori'")?;
        server.ask(&format!("CHECKSUM TABLE {} EXTENDED", tables.trim()))
    };
    if one.ask("SHOW TABLES")?.trim().is_empty() {
        return Ok(());
    }
    if sums(one)? != sums(other)? {
        return Err("the copy is not the same".into());
    }
    tell(1.0);
    Ok(())
}

fn pipe(dump: &mut Child, load: &mut Child, size: u64, tell: &dyn Fn(f32)) -> io::Result<()> {
    let (Some(mut from), Some(mut to)) = (dump.stdout.take(), load.stdin.take()) else { return Ok(()) };
    let mut buffer = vec![0; 1 << 20];
    let mut done = 0;
    loop {
        let count = from.read(&mut buffer)?;
        if count == 0 {
            return Ok(());
        }
        to.write_all(&buffer[..count])?;
        done += count as u64;
        // Bytes are written as two digits each; comparing takes the rest.
        tell((done as f32 / (2 * size) as f32).min(1.0) * 0.9);
    }
}

fn ended(name: &str, child: Child) -> Result<(), String> {
    let output = child.wait_with_output().map_err(|error| error.to_string())?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    Err(format!("{name}: {}", said.lines().last().map_or_else(|| output.status.to_string(), str::to_owned)))
}

/// Has everything in a folder written to the disk.
fn sync(folder: &Path) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            sync(&entry.path())?;
        } else if entry.file_type()?.is_file() {
            File::open(entry.path())?.sync_all()?;
        }
    }
    sync_folder(folder)
}

fn sync_folder(folder: &Path) -> io::Result<()> {
    File::open(folder)?.sync_all()
}

/// Writes over everything in a folder, and removes it.
fn wipe(folder: &Path) -> io::Result<()> {
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        if entry.file_type()?.is_dir() {
            wipe(&entry.path())?;
            continue;
        }
        if entry.file_type()?.is_file() {
            yadori_files::wipe(&entry.path())?;
        } else {
            fs::remove_file(entry.path())?;
        }
    }
    fs::remove_dir(folder)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// What is there after a start, of the three folders with a file in each.
    fn after(there: [bool; 3]) -> Vec<(String, String)> {
        let home = tempfile::tempdir().unwrap();
        let folder = home.path().join("database");
        for (end, there) in ["", ".next", ".old"].into_iter().zip(there) {
            if there {
                fs::create_dir_all(beside(&folder, end).join("data")).unwrap();
                fs::write(beside(&folder, end).join("data/who"), end).unwrap();
            }
        }
        recover(&folder).unwrap();
        recover(&folder).unwrap();
        let mut left: Vec<_> = fs::read_dir(home.path())
            .unwrap()
            .map(|entry| {
                let path = entry.unwrap().path();
                let name = path.file_name().unwrap().to_string_lossy().into_owned();
                (name, fs::read_to_string(path.join("data/who")).unwrap())
            })
            .collect();
        left.sort();
        left
    }

    #[test]
    fn whatever_was_broken_off_one_whole_database_is_left() {
        let only = |who: &str| vec![("database".to_owned(), who.to_owned())];
        assert_eq!(after([false, false, false]), vec![]);
        assert_eq!(after([true, false, false]), only(""));
        assert_eq!(after([true, true, false]), only(""));
        assert_eq!(after([false, true, true]), only(".next"));
        assert_eq!(after([true, false, true]), only(""));
        assert_eq!(after([false, false, true]), only(".old"));
    }
}
