//! Bytes that do not leave the memory.

use rustix::mm::{Advice, madvise, mlock, munlock};
use std::alloc::{Layout, alloc_zeroed, dealloc, handle_alloc_error};
use std::ffi::c_void;
use std::ptr::NonNull;
use zeroize::Zeroize;

/// Bytes of a key.
pub const KEY_BYTES: usize = 32;

/// A page of memory, which no other secret shares: the system locks memory by pages.
const PAGE: Layout = match Layout::from_size_align(4096, 4096) {
    Ok(layout) => layout,
    Err(_) => panic!("4096 is a power of two"),
};

/// A key of 256 bits. It is not swapped out and is in no core dump, as far as the system allows (mlock(2), MADV_DONTDUMP),
/// and it is wiped when it is dropped.
pub struct Secret(NonNull<[u8; KEY_BYTES]>);

// SAFETY: the page belongs to this value alone, and is changed through `&mut` only.
unsafe impl Send for Secret {}
// SAFETY: as above; `&Secret` gives nothing but shared references to it.
unsafe impl Sync for Secret {}

impl Secret {
    fn zero() -> Self {
        // SAFETY: the layout is not empty; the result is checked.
        let page = unsafe { alloc_zeroed(PAGE) };
        let Some(page) = NonNull::new(page) else { handle_alloc_error(PAGE) };
        // What the system does not allow (RLIMIT_MEMLOCK) is left.
        // SAFETY: the page was just allocated, with this size.
        unsafe {
            let _ = mlock(page.as_ptr().cast::<c_void>(), PAGE.size());
            let _ = madvise(page.as_ptr().cast::<c_void>(), PAGE.size(), Advice::LinuxDontDump);
        }
        Self(page.cast())
    }

    /// A copy of these bytes, which are wiped where they were.
    pub fn take(bytes: &mut [u8; KEY_BYTES]) -> Self {
        let mut secret = Self::zero();
        secret.bytes_mut().copy_from_slice(bytes);
        bytes.zeroize();
        secret
    }

    /// A new random one.
    ///
    /// # Errors
    /// When the system gives no random numbers.
    pub fn random() -> Result<Self, getrandom::Error> {
        let mut secret = Self::zero();
        getrandom::fill(secret.bytes_mut())?;
        Ok(secret)
    }

    /// A key for one purpose. `context` names it; no two purposes share one.
    pub fn derive(&self, context: &str) -> Self {
        Self::take(&mut blake3::derive_key(context, self.bytes()))
    }

    /// The bytes.
    pub fn bytes(&self) -> &[u8; KEY_BYTES] {
        // SAFETY: the page is there for as long as `self`, and was zeroed.
        unsafe { self.0.as_ref() }
    }

    fn bytes_mut(&mut self) -> &mut [u8; KEY_BYTES] {
        // SAFETY: as above, and `self` is borrowed mutably.
        unsafe { self.0.as_mut() }
    }
}

impl Clone for Secret {
    fn clone(&self) -> Self {
        let mut secret = Self::zero();
        secret.bytes_mut().copy_from_slice(self.bytes());
        secret
    }
}

impl Drop for Secret {
    fn drop(&mut self) {
        self.bytes_mut().zeroize();
        // SAFETY: allocated with this layout, and not used after this.
        unsafe {
            let _ = madvise(self.0.as_ptr().cast::<c_void>(), PAGE.size(), Advice::LinuxDoDump);
            let _ = munlock(self.0.as_ptr().cast::<c_void>(), PAGE.size());
            dealloc(self.0.as_ptr().cast(), PAGE);
        }
    }
}

impl std::fmt::Debug for Secret {
    fn fmt(&self, formatter: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        formatter.write_str("Secret")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_taken_is_wiped_where_it_was_and_never_printed() {
        let mut bytes = [7; KEY_BYTES];
        let secret = Secret::take(&mut bytes);
        assert_eq!((bytes, secret.bytes()), ([0; KEY_BYTES], &[7; KEY_BYTES]));
        assert_eq!(format!("{secret:?}"), "Secret");
        assert_eq!(secret.clone().bytes(), secret.bytes());
    }

    #[test]
    fn each_purpose_has_its_own_key() {
        let secret = Secret::random().unwrap();
        assert_ne!(secret.derive("one").bytes(), secret.derive("two").bytes());
        assert_ne!(secret.bytes(), Secret::random().unwrap().bytes());
    }
}
