//! What a worker that is in strange hands can do: nothing. And what becomes of the service's side when it dies.
//!
//! Each deed is tried in a process of its own: this program, started again with the deed's name.

use std::os::unix::process::ExitStatusExt;
use std::process::{Command, ExitStatus};
use std::time::Duration;
use yadori_cage::{ArchiveError, Cage, Died, PictureError, ReadAt};
use yadori_core::Format;

const DEED: &str = "YADORI_DEED";

/// Not a test by itself: what the others start.
#[test]
fn deed() {
    let Ok(deed) = std::env::var(DEED) else { return };
    let path = std::env::temp_dir().join("a-file-of-a-worker");
    yadori_cage::confine().expect("the system confines");
    let done = match deed.as_str() {
        "nothing" => true,
        "memory" => vec![1u8; 64 << 20].iter().any(|byte| *byte == 1),
        "read" => std::fs::read("/etc/hostname").is_ok(),
        "write" => std::fs::write(path, "x").is_ok(),
        "list" => std::fs::read_dir("/").is_ok(),
        "socket" => std::net::TcpListener::bind("127.0.0.1:0").is_ok(),
        "unix" => std::os::unix::net::UnixStream::pair().is_ok(),
        "process" => Command::new("/bin/true").spawn().is_ok(),
        "thread" => std::thread::Builder::new().spawn(|| ()).is_ok(),
        "kill" => rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::USR1).is_ok(),
        "much" => {
            let mut much: Vec<u8> = Vec::new();
            if much.try_reserve_exact(2 << 30).is_err() {
                exit(7);
            }
            true
        }
        other => panic!("{other} is no deed"),
    };
    exit(if done { 42 } else { 7 });
}

/// Ends at once: the test's own end would need more than is allowed.
fn exit(code: i32) -> ! {
    // SAFETY: it does not return.
    unsafe { libc::_exit(code) }
}

fn do_it(deed: &str) -> ExitStatus {
    let program = std::env::current_exe().unwrap();
    Command::new(program).args(["--exact", "deed", "--test-threads=1"]).env(DEED, deed).output().unwrap().status
}

#[test]
fn a_worker_can_use_memory_and_nothing_else() {
    assert_eq!(do_it("nothing").code(), Some(42), "it can at least end");
    assert_eq!(do_it("memory").code(), Some(42));
    for deed in ["read", "write", "list", "socket", "unix", "process", "thread", "kill"] {
        let status = do_it(deed);
        assert!(
            status.signal() == Some(libc::SIGSYS) || status.code() == Some(7),
            "{deed} was not refused: {status:?}"
        );
    }
    assert_eq!(do_it("much").code(), Some(7), "two gibibytes are more than it may take");
    assert!(!std::env::temp_dir().join("a-file-of-a-worker").exists());
}

fn picture() -> Format {
    Format::new("image/png", &b"\x89PNG\r\n\x1a\n"[..])
}

const PAGE: &[u8] = b"<p>load-in";

struct NoArchive;

impl ReadAt for NoArchive {
    fn size(&self) -> u64 {
        1 << 40
    }

    fn read_at(&self, buffer: &mut [u8], _: u64) -> std::io::Result<usize> {
        buffer.fill(0);
        Ok(buffer.len())
    }
}

fn is_given_up(cage: &Cage) -> bool {
    matches!(cage.open_archive(Box::new(NoArchive), "list"), Err(ArchiveError::Died))
}

#[tokio::test]
async fn a_worker_that_dies_costs_one_picture_or_page() {
    let cage = Cage::of("/bin/false".as_ref(), &[]);
    for _ in 0..2 {
        assert!(matches!(cage.decode(&picture()).await, Err(PictureError::Died(_))));
        assert_eq!(cage.read_markup(PAGE).await, Err(Died));
        assert!(is_given_up(&cage));
    }
    let missing = Cage::of("/nowhere/at/all".as_ref(), &[]);
    assert!(matches!(missing.decode(&picture()).await, Err(PictureError::Died(_))));
}

#[tokio::test]
async fn a_worker_that_takes_too_long_is_killed() {
    // One that reads and never answers.
    let cage = Cage::of("/bin/sh".as_ref(), &["-c", "while :; do :; done"]).with_patience(Duration::from_millis(300));
    assert!(matches!(cage.decode(&picture()).await, Err(PictureError::Died(_))));
    assert_eq!(cage.read_markup(PAGE).await, Err(Died));
}

#[tokio::test]
async fn a_worker_that_answers_nonsense_is_not_believed() {
    let cage = Cage::of("/bin/sh".as_ref(), &["-c", "yes; exit"]);
    assert!(matches!(cage.decode(&picture()).await, Err(PictureError::Died(_))));
    assert_eq!(cage.read_markup(PAGE).await, Err(Died));
    assert!(is_given_up(&cage));
}
