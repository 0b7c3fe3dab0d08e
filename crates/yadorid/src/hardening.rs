//! What the service asks of the system for itself, before it does anything else.

use rustix::process::{DumpableBehavior, Resource, Rlimit, getrlimit, set_dumpable_behavior, setrlimit};

/// Descriptors wanted: many systems begin with 1,024, and some with 256.
const DESCRIPTORS: u64 = 8192;

/// No core dumps, which would hold the history; no reading of the memory by other programs of this user (ptrace(2),
/// PR_SET_DUMPABLE of prctl(2)); and enough descriptors for all connections and pipes. What the system does not allow is
/// left as it is.
pub fn harden() {
    let _ = setrlimit(Resource::Core, Rlimit { current: Some(0), maximum: Some(0) });
    let _ = set_dumpable_behavior(DumpableBehavior::NotDumpable);
    let limit = getrlimit(Resource::Nofile);
    let wanted = limit.maximum.map_or(DESCRIPTORS, |maximum| maximum.min(DESCRIPTORS));
    if limit.current.is_some_and(|current| current < wanted) {
        let _ = setrlimit(Resource::Nofile, Rlimit { current: Some(wanted), maximum: limit.maximum });
    }
}

/// From now on memory is written over when it is freed, or no more: while a history is being locked, not all the time, since
/// it costs.
pub fn wipe_what_is_freed(wipe: bool) {
    // SAFETY: glibc's own, which may be called at any time (M_PERTURB of mallopt(3)).
    #[cfg(target_env = "gnu")]
    unsafe {
        mallopt(M_PERTURB, if wipe { 0xa5 } else { 0 });
    }
}

/// M_PERTURB of malloc.h.
#[cfg(target_env = "gnu")]
const M_PERTURB: std::ffi::c_int = -6;

/// Gives memory that is free back to the system, which wipes it: after a lock, what was in it is not to lie about.
pub fn give_memory_back() {
    // SAFETY: glibc's own, which may be called at any time (malloc_trim(3)).
    #[cfg(target_env = "gnu")]
    unsafe {
        malloc_trim(0);
    }
}

#[cfg(target_env = "gnu")]
unsafe extern "C" {
    fn mallopt(parameter: std::ffi::c_int, value: std::ffi::c_int) -> std::ffi::c_int;
    fn malloc_trim(pad: usize) -> std::ffi::c_int;
}
