//! What the service asks of the system for itself, before it does anything else.

use rustix::process::{DumpableBehavior, Resource, Rlimit, getrlimit, set_dumpable_behavior, setrlimit};
use std::ffi::c_int;

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

/// Keeps the memory of the service near to what it uses: blocks of two megabytes or more are the system's again as soon as they are
/// freed. (By default, each large block that is freed raises that size, so that what was needed only to begin is kept for good.)
/// Smaller ones, such as the pieces of a picture, are used again, which is quicker. To be called before there are threads.
pub fn use_memory_sparingly() {
    // Of memory that is kept for each of several threads, much would lie idle: 5 MiB of 66 with 100,000 clips.
    set(M_ARENA_MAX, 1);
    set(M_MMAP_THRESHOLD, 2 << 20);
    set(M_TRIM_THRESHOLD, 3 << 20);
}

/// From now on memory is written over when it is freed, or no more: while a history is being locked, not all the time, since
/// it costs.
pub fn wipe_what_is_freed(wipe: bool) {
    set(M_PERTURB, if wipe { 0xa5 } else { 0 });
}

/// Of malloc.h.
const M_TRIM_THRESHOLD: c_int = -1;
const M_MMAP_THRESHOLD: c_int = -3;
const M_PERTURB: c_int = -6;
const M_ARENA_MAX: c_int = -8;

/// Sets a parameter of the allocator; of another one than glibc's, nothing is known.
fn set(parameter: c_int, value: c_int) {
    // SAFETY: glibc's own, which may be called at any time (mallopt(3)).
    #[cfg(target_env = "gnu")]
    unsafe {
        mallopt(parameter, value);
    }
    #[cfg(not(target_env = "gnu"))]
    let _ = (parameter, value);
}

/// Gives memory that is free back to the system, which wipes it.
pub fn give_memory_back() {
    // SAFETY: glibc's own, which may be called at any time (malloc_trim(3)).
    #[cfg(target_env = "gnu")]
    unsafe {
        malloc_trim(0);
    }
}

#[cfg(target_env = "gnu")]
unsafe extern "C" {
    fn mallopt(parameter: c_int, value: c_int) -> c_int;
    fn malloc_trim(pad: usize) -> c_int;
}
