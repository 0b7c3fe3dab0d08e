//! A clip that was read, with what was made of it.

use crate::clips::ClipRecord;
use std::any::Any;
use std::ops::Deref;
use std::sync::{Arc, OnceLock};

/// Bytes that are counted for what is made of a clip.
const MADE: usize = 1 << 10;

/// A clip as it is on record, and what whoever reads it again and again has made of it. Both are let go of together, with the
/// next write.
#[derive(Debug)]
pub struct ReadClip {
    record: ClipRecord,
    made: OnceLock<Box<dyn Any + Send + Sync>>,
}

impl ReadClip {
    /// What was made of it before by this function, or else what it makes now. None if something of another type was made of it.
    pub fn made<T: Any + Send + Sync>(&self, make: impl FnOnce(&ClipRecord) -> T) -> Option<&T> {
        self.made.get_or_init(|| Box::new(make(&self.record))).downcast_ref()
    }

    /// Bytes that it takes, about.
    pub(crate) fn bytes(&self) -> usize {
        size_of::<Self>() + self.record.text.len() + MADE
    }
}

impl PartialEq for ReadClip {
    fn eq(&self, other: &Self) -> bool {
        self.record == other.record
    }
}

impl From<ClipRecord> for ReadClip {
    fn from(record: ClipRecord) -> Self {
        Self { record, made: OnceLock::new() }
    }
}

impl From<ClipRecord> for Arc<ReadClip> {
    fn from(record: ClipRecord) -> Self {
        Self::new(record.into())
    }
}

impl Deref for ReadClip {
    type Target = ClipRecord;

    fn deref(&self) -> &ClipRecord {
        &self.record
    }
}
