//! What a machine may lack, and tests that cannot run there: they say so at the end, and fail where nobody has agreed to it.

use std::fs::OpenOptions;
use std::io::Write;

/// What a test needs that not every machine has.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Missing {
    /// Disks of a size of one's own can be mounted.
    Mounts,
    /// Network namespaces can be made.
    Networks,
    /// Packets can be dropped on their way.
    PacketLoss,
}

impl Missing {
    /// Its name in `.ci/may-be-missing`.
    pub fn name(self) -> &'static str {
        match self {
            Self::Mounts => "mounts",
            Self::Networks => "networks",
            Self::PacketLoss => "packet-loss",
        }
    }
}

/// Notes that the test of this thread does not run, since the machine lacks something. `script/test` lists these at the end
/// (it names the file in `YADORI_NOT_TRIED`); by itself, a test only prints it.
///
/// # Panics
/// If it cannot be noted.
pub fn not_tried(what: Missing) {
    let thread = std::thread::current();
    let line = format!("{}\t{}\n", what.name(), thread.name().unwrap_or("a test"));
    eprint!("not tried: {line}");
    if let Some(path) = std::env::var_os("YADORI_NOT_TRIED") {
        let file = OpenOptions::new().create(true).append(true).open(path);
        file.and_then(|mut file| file.write_all(line.as_bytes())).expect("a note of what was not tried");
    }
}
