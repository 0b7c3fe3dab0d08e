//! Children that never outlive their test.

use crate::PATIENCE;
use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::process::{Pid, PidfdFlags, Signal, pidfd_open};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command};

/// A child in a process group of its own, which ends with it.
pub struct Process {
    child: Child,
}

impl Process {
    /// Starts it. Should this process be killed, the child is ended by the kernel.
    ///
    /// # Panics
    /// If it cannot be started.
    pub fn spawn(mut command: Command) -> Self {
        command.process_group(0);
        let shown = format!("{command:?}");
        Self { child: command.spawn().unwrap_or_else(|error| panic!("{shown} does not start: {error}")) }
    }

    /// Its process id.
    pub fn pid(&self) -> u32 {
        self.child.id()
    }

    /// The child itself.
    pub fn child(&mut self) -> &mut Child {
        &mut self.child
    }

    /// Sends it a signal.
    pub fn signal(&self, signal: Signal) {
        if let Some(pid) = Pid::from_raw(self.pid() as i32) {
            let _ = rustix::process::kill_process(pid, signal);
        }
    }

    /// Sends it a signal and waits until it has ended. Tells whether it ended well.
    ///
    /// # Panics
    /// If it does not end in time. It is killed then.
    pub fn end(&mut self, signal: Signal) -> bool {
        self.signal(signal);
        self.ended()
    }

    /// Waits until it has ended. Tells whether it ended well.
    ///
    /// # Panics
    /// If it does not end in time. It is killed then.
    pub fn ended(&mut self) -> bool {
        let in_time = Pid::from_raw(self.pid() as i32).is_none_or(ends_in_time);
        if !in_time {
            self.signal(Signal::KILL);
        }
        let well = self.child.wait().is_ok_and(|status| status.success());
        assert!(in_time || std::thread::panicking(), "process {} did not end when it should have", self.pid());
        well
    }
}

/// Waits until a process has ended. Tells whether it did in time.
fn ends_in_time(pid: Pid) -> bool {
    let Ok(watched) = pidfd_open(pid, PidfdFlags::empty()) else { return true };
    let patience = Timespec { tv_sec: PATIENCE.as_secs() as i64, tv_nsec: 0 };
    poll(&mut [PollFd::new(&watched, PollFlags::IN)], Some(&patience)).is_ok_and(|ready| ready > 0)
}

/// Waits until nothing runs any more in a folder or below. Tells whether that came to be in time.
pub fn nothing_runs_in(folder: &Path) -> bool {
    let processes = std::fs::read_dir("/proc").into_iter().flatten().flatten();
    let within = processes
        .filter(|process| std::fs::read_link(process.path().join("cwd")).is_ok_and(|place| place.starts_with(folder)));
    let mut within = within.filter_map(|process| Pid::from_raw(process.file_name().to_str()?.parse().ok()?));
    within.all(ends_in_time)
}

impl Drop for Process {
    fn drop(&mut self) {
        if let Some(pid) = Pid::from_raw(self.pid() as i32) {
            if let Ok(None) = self.child.try_wait() {
                self.end(Signal::TERM);
            }
            // Whatever it has left behind.
            let _ = rustix::process::kill_process_group(pid, Signal::KILL);
        }
        // By these, libfaketime tells a program's children the time; it leaves them behind if the program is killed.
        for shared in ["faketime_shm_", "sem.faketime_sem_"] {
            let _ = std::fs::remove_file(format!("/dev/shm/{shared}{}", self.pid()));
        }
    }
}

/// The path of one of our programs, beside which the tests were built.
///
/// # Panics
/// If it has not been built.
pub fn built(name: &str) -> PathBuf {
    let exe = std::env::current_exe().expect("a test knows its own path");
    let path = exe.ancestors().skip(1).map(|folder| folder.join(name)).find(|path| path.is_file());
    path.unwrap_or_else(|| panic!("{name} is not built; run: cargo build --workspace"))
}
