//! What the process gives up before it reads anything.
//!
//! Three walls, each of which would do: no file can be opened (landlock(7)), no system call but eighteen is possible
//! (seccomp(2); any other ends the process), and no file, process or core dump can be made (setrlimit(2)).

use landlock::{ABI, Access, AccessFs, AccessNet, CompatLevel, Compatible, Ruleset, RulesetAttr};
use rustix::process::{Resource, Rlimit, setrlimit};
use seccompiler::{BpfProgram, SeccompAction, SeccompFilter};
use std::collections::BTreeMap;

/// Most memory of the process: what a picture may take, its pixels twice, and its file.
const MOST_MEMORY: u64 = 768 << 20;

/// What decoding needs: to read what is sent and write what is answered, memory, and to end.
const CALLS: [i64; 18] = [
    libc::SYS_read,
    libc::SYS_write,
    libc::SYS_writev,
    libc::SYS_close,
    libc::SYS_brk,
    libc::SYS_mmap,
    libc::SYS_munmap,
    libc::SYS_mremap,
    libc::SYS_madvise,
    libc::SYS_mprotect,
    libc::SYS_futex,
    libc::SYS_sched_yield,
    libc::SYS_getrandom,
    libc::SYS_clock_gettime,
    libc::SYS_sigaltstack,
    libc::SYS_rt_sigreturn,
    libc::SYS_exit,
    libc::SYS_exit_group,
];

/// Closes all that was inherited besides what it is spoken to by.
pub(crate) fn close_all_else() {
    // SAFETY: nothing of this process uses those descriptors yet (close_range(2)). A kernel without the call leaves them open.
    unsafe {
        libc::syscall(libc::SYS_close_range, 3, u32::MAX, 0);
    }
}

/// Gives up everything but memory and the descriptors that are open. There is no way back.
///
/// # Errors
/// When the system knows no seccomp. Without landlock, which older kernels lack, the other walls stand.
pub fn confine() -> Result<(), String> {
    let newest = ABI::V5;
    let ruleset = Ruleset::default()
        .set_compatibility(CompatLevel::BestEffort)
        .handle_access(AccessFs::from_all(newest))
        .and_then(|ruleset| ruleset.handle_access(AccessNet::from_all(newest)))
        .and_then(Ruleset::create)
        .and_then(landlock::RulesetCreated::restrict_self);
    ruleset.map_err(|error| error.to_string())?;
    let limits = [
        (Resource::As, MOST_MEMORY),
        (Resource::Core, 0),
        (Resource::Fsize, 0),
        (Resource::Nofile, 0),
        (Resource::Nproc, 0),
        (Resource::Memlock, 0),
    ];
    for (resource, most) in limits {
        setrlimit(resource, Rlimit { current: Some(most), maximum: Some(most) }).map_err(|error| error.to_string())?;
    }
    let arch = std::env::consts::ARCH.try_into().map_err(|error| format!("{error:?}"))?;
    let rules = CALLS.into_iter().map(|call| (call, Vec::new())).collect::<BTreeMap<_, _>>();
    let filter = SeccompFilter::new(rules, SeccompAction::KillProcess, SeccompAction::Allow, arch);
    let program: BpfProgram =
        filter.and_then(TryInto::try_into).map_err(|error: seccompiler::BackendError| error.to_string())?;
    seccompiler::apply_filter(&program).map_err(|error| error.to_string())
}
