//! Giving what we hold to programs that paste: each brings a pipe along for us to write into.

use super::protocol::Source;
use crate::wanted;
use bytes::Bytes;
use std::os::fd::OwnedFd;
use std::time::{Duration, Instant};
use wayland_client::backend::ObjectId;
use yadori_core::Format;

/// How long a program that pastes may leave what was written lying.
const PATIENCE: Duration = Duration::from_secs(10);

/// What is on the clipboard of a seat while it is ours.
pub(super) struct Holding {
    source: Source,
    names: Vec<(String, Bytes)>,
}

/// A transfer that is under way.
pub(super) struct Sending {
    pub into: OwnedFd,
    rest: Bytes,
    pub deadline: Instant,
}

impl Holding {
    /// Offers these formats under all the names that programs ask for, and under `mark`, by which we know
    /// our own offer again.
    pub fn new(source: Source, formats: &[Format], mark: &str) -> Self {
        let mut names: Vec<(String, Bytes)> = Vec::new();
        for Format { mime, data } in formats {
            names.extend(wanted::offered_as(mime).into_iter().map(|name| (name.to_owned(), data.clone())));
        }
        names.push((mark.to_owned(), Bytes::new()));
        names.iter().for_each(|(name, _)| source.offer(name));
        Self { source, names }
    }

    pub fn source(&self) -> &Source {
        &self.source
    }

    pub fn is(&self, source: &ObjectId) -> bool {
        self.source.id() == *source
    }

    /// Whether there is content under this name.
    pub fn has_content(&self, name: &str) -> bool {
        self.names.iter().any(|(offered, data)| offered == name && !data.is_empty())
    }

    /// Begins to write a format; one that we do not have is written as nothing.
    pub fn send(&self, name: &str, into: OwnedFd) -> Option<Sending> {
        let (_, data) = self.names.iter().find(|(offered, _)| offered == name)?;
        rustix::io::ioctl_fionbio(&into, true).ok()?;
        let mut sending = Sending { into, rest: data.clone(), deadline: Instant::now() + PATIENCE };
        (!sending.go_on()).then_some(sending)
    }
}

impl Drop for Holding {
    fn drop(&mut self) {
        self.source.destroy();
    }
}

impl Sending {
    /// Writes as much as is taken; tells whether there is no more to do.
    pub fn go_on(&mut self) -> bool {
        while !self.rest.is_empty() {
            match rustix::io::write(&self.into, &self.rest) {
                Ok(written) => {
                    let _ = self.rest.split_to(written);
                    self.deadline = Instant::now() + PATIENCE;
                }
                Err(rustix::io::Errno::INTR) => {}
                Err(rustix::io::Errno::AGAIN) => return false,
                // Whoever wanted it has gone.
                Err(_) => return true,
            }
        }
        true
    }
}
