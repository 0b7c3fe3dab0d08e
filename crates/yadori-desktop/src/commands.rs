//! What the service asks of the thread that is connected to a desktop.

use crate::{Clipboard, Focus, GrabState, Keyboard, OfferError, Paste, PasteError};
use rustix::event::{PollFd, PollFlags, Timespec};
use std::io::{Read, Write};
use std::os::unix::net::UnixStream;
use std::sync::mpsc;
use std::time::{Duration, Instant};
use tokio::sync::oneshot;
use yadori_core::Format;
use yadori_core::keys::{Action, Chord};

/// Something to be done.
pub(crate) enum DesktopCommand {
    /// Put these formats on the clipboard.
    Offer(Offer),
    /// Do not keep the present copy when its owner goes.
    LetGo,
    /// Tell what is on the clipboard.
    Held(oneshot::Sender<Option<Vec<Format>>>),
    /// Tell which window has the keyboard.
    Focus(oneshot::Sender<Option<Focus>>),
    /// Press the keys that paste.
    Paste(Paste, oneshot::Sender<Result<(), PasteError>>),
    /// Grab these keys, and no others.
    Grab(Vec<(Action, Chord)>, oneshot::Sender<Vec<(Action, GrabState)>>),
}

/// Formats to be put on the clipboard.
pub(crate) struct Offer {
    pub formats: Vec<Format>,
    pub reply: oneshot::Sender<Result<(), OfferError>>,
}

/// The service's side: gives orders.
struct Handle {
    orders: mpsc::Sender<DesktopCommand>,
    /// Closed when the last handle is dropped, which ends the thread.
    wake: UnixStream,
}

/// The thread's side: takes them.
pub(crate) struct Orders {
    received: mpsc::Receiver<DesktopCommand>,
    woken: UnixStream,
}

/// Both sides.
pub(crate) fn pair() -> std::io::Result<(impl Clipboard + Keyboard, Orders)> {
    let (orders, received) = mpsc::channel();
    let (wake, woken) = UnixStream::pair()?;
    wake.set_nonblocking(true)?;
    woken.set_nonblocking(true)?;
    Ok((Handle { orders, wake }, Orders { received, woken }))
}

impl Handle {
    fn give(&self, order: DesktopCommand) -> Result<(), DesktopCommand> {
        self.orders.send(order).map_err(|mpsc::SendError(order)| order)?;
        // When the pipe is full, the thread has enough to wake up for.
        let _ = (&self.wake).write(&[1]);
        Ok(())
    }
}

impl Clipboard for Handle {
    fn offer(&self, formats: Vec<Format>) -> oneshot::Receiver<Result<(), OfferError>> {
        let (reply, answer) = oneshot::channel();
        if let Err(DesktopCommand::Offer(offer)) = self.give(DesktopCommand::Offer(Offer { formats, reply })) {
            let _ = offer.reply.send(Err(OfferError::Lost));
        }
        answer
    }

    fn let_go(&self) {
        let _ = self.give(DesktopCommand::LetGo);
    }

    fn held(&self) -> oneshot::Receiver<Option<Vec<Format>>> {
        let (reply, answer) = oneshot::channel();
        let _ = self.give(DesktopCommand::Held(reply));
        answer
    }
}

impl Keyboard for Handle {
    fn focus(&self) -> oneshot::Receiver<Option<Focus>> {
        let (reply, answer) = oneshot::channel();
        let _ = self.give(DesktopCommand::Focus(reply));
        answer
    }

    fn paste(&self, paste: Paste) -> oneshot::Receiver<Result<(), PasteError>> {
        let (reply, answer) = oneshot::channel();
        if let Err(DesktopCommand::Paste(_, reply)) = self.give(DesktopCommand::Paste(paste, reply)) {
            let _ = reply.send(Err(PasteError::Lost));
        }
        answer
    }

    fn grab(&self, keys: Vec<(Action, Chord)>) -> oneshot::Receiver<Vec<(Action, GrabState)>> {
        let (reply, answer) = oneshot::channel();
        let _ = self.give(DesktopCommand::Grab(keys, reply));
        answer
    }
}

/// There will be no more orders: the service is ending.
pub(crate) struct ServiceEnded;

impl Orders {
    /// What becomes readable when there are orders.
    pub fn poll_fd(&self) -> PollFd<'_> {
        PollFd::new(&self.woken, PollFlags::IN)
    }

    /// The orders given since; takes the signs that there are some.
    pub fn take(&mut self) -> Result<Vec<DesktopCommand>, ServiceEnded> {
        let mut signs = [0; 64];
        match self.woken.read(&mut signs) {
            Ok(0) => Err(ServiceEnded),
            _ => Ok(self.received.try_iter().collect()),
        }
    }

    /// Waits without a desktop: what is to be put on the clipboard is refused.
    pub fn refuse_for(&mut self, pause: Duration) -> Result<(), ServiceEnded> {
        let until = Instant::now() + pause;
        loop {
            for order in self.take()? {
                match order {
                    DesktopCommand::Offer(offer) => drop(offer.reply.send(Err(OfferError::Lost))),
                    DesktopCommand::Paste(_, reply) => drop(reply.send(Err(PasteError::Lost))),
                    // Whoever asks is told nothing, since the way to tell is dropped.
                    DesktopCommand::LetGo
                    | DesktopCommand::Held(_)
                    | DesktopCommand::Focus(_)
                    | DesktopCommand::Grab(..) => {}
                }
            }
            let left = until.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(());
            }
            let _ = rustix::event::poll(&mut [self.poll_fd()], Some(&timespec(left)));
        }
    }
}

/// A length of time as the system wants it.
pub(crate) fn timespec(time: Duration) -> Timespec {
    Timespec { tv_sec: time.as_secs() as i64, tv_nsec: i64::from(time.subsec_nanos()) }
}
