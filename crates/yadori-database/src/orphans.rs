//! Servers, and tools that set one up, which an earlier service has left behind.
//!
//! They end when their service does: the kernel sends them a signal. One that comes in the first moments of a server's life
//! may be lost to it, and then it would hold the folder for good. So a start looks for its own orphans and ends them.

use rustix::process::{Pid, Signal, kill_process};
use std::ffi::OsStr;
use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

/// The name of the program whose servers are no orphans, as long as it runs.
const SERVICE: &[u8] = b"yadorid";

/// A process that works on the folder, and whose service is gone.
pub(super) struct Orphan(Pid);

impl Orphan {
    pub fn end(&self, signal: Signal) {
        tracing::warn!(
            process = self.0.as_raw_nonzero().get(),
            ?signal,
            "ending what an earlier service has left behind"
        );
        let _ = kill_process(self.0, signal);
    }
}

/// The orphans that work on this folder.
pub(super) fn of(folder: &Path) -> Vec<Orphan> {
    let Ok(processes) = fs::read_dir("/proc") else { return Vec::new() };
    let pids = processes.filter_map(|entry| entry.ok()?.file_name().to_str()?.parse().ok());
    pids.filter(|pid| is_orphan(*pid, folder)).filter_map(Pid::from_raw).map(Orphan).collect()
}

fn is_orphan(pid: i32, folder: &Path) -> bool {
    let Ok(arguments) = fs::read(format!("/proc/{pid}/cmdline")) else { return false };
    names_folder(&arguments, folder) && !has_service(pid)
}

/// Whether a process was started for the data in this folder, or for that which is still being set up there.
fn names_folder(arguments: &[u8], folder: &Path) -> bool {
    let mut named = arguments.split(|byte| *byte == 0).filter_map(|argument| argument.strip_prefix(b"--datadir="));
    named.any(|data| Path::new(OsStr::from_bytes(data)).parent() == Some(folder))
}

/// Whether some ancestor of a process is a service that runs.
fn has_service(pid: i32) -> bool {
    let mut pid = pid;
    // Deeper than this, nothing of ours is.
    for _ in 0..8 {
        let Ok(stat) = fs::read_to_string(format!("/proc/{pid}/stat")) else { return false };
        // The name may have anything in it; what follows its last bracket is numbers: proc(5).
        let Some(parent) = stat.rsplit_once(") ").and_then(|(_, rest)| rest.split(' ').nth(1)?.parse().ok()) else {
            return false;
        };
        let Ok(name) = fs::read(format!("/proc/{parent}/comm")) else { return false };
        if name.strip_suffix(b"\n") == Some(SERVICE) || parent == std::process::id() as i32 {
            return true;
        }
        if parent <= 1 {
            return false;
        }
        pid = parent;
    }
    false
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_is_known_by_the_folder_that_it_was_started_for() {
        let folder = Path::new("/home/rook/.local/share/yadori/database");
        let names = |arguments: &[u8]| names_folder(arguments, folder);
        assert!(names(b"/usr/sbin/mariadbd\0--no-defaults\0--datadir=/home/rook/.local/share/yadori/database/data\0"));
        assert!(names(b"mariadbd\0--bootstrap\0--datadir=/home/rook/.local/share/yadori/database/data.new\0"));
        assert!(!names(b"mariadbd\0--datadir=/home/rook/.local/share/yadori/database/data/more\0"));
        assert!(!names(b"mariadbd\0--datadir=/var/lib/mysql\0"));
        assert!(!names(b""));
    }
}
