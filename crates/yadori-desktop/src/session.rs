//! The life of a connection to a desktop: made, lost, made again.
//!
//! One thread per desktop. When the connection is gone, it tries again after a pause, which grows from a
//! quarter of a second to half a minute, and it puts back what it held.

use crate::Shortcoming;
use crate::commands::{self, Orders, ServiceEnded};
use crate::contest::Verdict;
use crate::portal::PortalKeyboard;
use crate::{ClipboardKind, ConnectError, Desktop, Event, EventSender, OfferError, Reading};
use backon::{BackoffBuilder, ExponentialBuilder};
use parking_lot::Mutex;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::runtime::Handle;
use tokio::sync::oneshot;
use yadori_core::Format;
use yadori_core::capture::{Copy, Refusal};

const LONGEST_PAUSE: Duration = Duration::from_secs(30);

/// Pauses between tries to reach the desktop.
const RETRY: ExponentialBuilder = ExponentialBuilder::new()
    .with_min_delay(Duration::from_millis(250))
    .with_max_delay(LONGEST_PAUSE)
    .without_max_times();

/// A connection that lasted so long was a good one.
const GOOD: Duration = Duration::from_secs(10);

/// What every connection works with.
#[derive(Clone)]
pub(crate) struct SessionContext {
    pub sender: EventSender,
    pub runtime: Handle,
    pub rules: Arc<Reading>,
    /// What the service is still to be told, in its order, and since when.
    untold: Arc<Mutex<Vec<(Instant, Untold)>>>,
}

/// Something that the service is to be told as soon as nothing else is to be done at the desktop. Whoever is told something has
/// work of their own, for which those who copy and paste would have to wait.
enum Untold {
    Event(Event),
    Copy(Copy),
    Offered(oneshot::Sender<Result<(), OfferError>>, Result<(), OfferError>),
}

/// How much waits at most until nothing else is to be done.
const MOST_UNTOLD: usize = 8;

/// How long it waits at most: there may be no end of what is to be done.
const LONGEST_UNTOLD: Duration = Duration::from_millis(20);

impl SessionContext {
    fn new(sender: EventSender, rules: Arc<Reading>) -> Self {
        Self { sender, runtime: Handle::current(), rules, untold: Arc::default() }
    }

    fn tell_soon(&self, untold: Untold) {
        let waiting = {
            let mut all = self.untold.lock();
            all.push((Instant::now(), untold));
            all.len()
        };
        if waiting >= MOST_UNTOLD {
            self.tell_all();
        }
    }

    /// Whether the service is to be told something.
    pub fn has_untold(&self) -> bool {
        !self.untold.lock().is_empty()
    }

    /// Tells the service what it is still to be told. To be called before sleeping.
    pub fn tell_all(&self) {
        let untold = std::mem::take(&mut *self.untold.lock());
        for (_, untold) in untold {
            match untold {
                Untold::Event(event) => self.runtime.block_on(self.sender.tell(event)),
                Untold::Copy(copy) => self.runtime.block_on(self.sender.copied(copy)),
                // Whoever offered it may have gone.
                Untold::Offered(reply, how) => drop(reply.send(how)),
            }
        }
    }

    /// Tells it what has waited for long enough. To be called while there is something else to do.
    pub fn tell_overdue(&self) {
        let oldest = self.untold.lock().first().map(|(since, _)| *since);
        if oldest.is_some_and(|since| since.elapsed() > LONGEST_UNTOLD) {
            self.tell_all();
        }
    }

    /// Tells the service of something.
    pub fn tell(&self, event: Event) {
        self.tell_soon(Untold::Event(event));
    }

    /// Tells the service of a copy.
    pub fn copied(&self, copy: Copy) {
        self.tell_soon(Untold::Copy(copy));
    }

    /// Answers an offer.
    pub fn answer(&self, offer: oneshot::Sender<Result<(), OfferError>>, how: Result<(), OfferError>) {
        self.tell_soon(Untold::Offered(offer, how));
    }

    /// Tells the service of a copy, if it is one.
    pub fn tell_verdict(&self, verdict: Verdict, copy: Copy) {
        match verdict {
            Verdict::Copy => self.copied(copy),
            Verdict::CopyAndPeace => {
                self.tell(Event::Uncontested);
                self.copied(copy);
            }
            Verdict::Echo => self.tell(Event::Missed { refusal: Refusal::Echo, source: copy.source }),
            Verdict::Contest => {
                self.tell(Event::Missed { refusal: Refusal::Echo, source: copy.source.clone() });
                self.tell(Event::Contested(copy.source));
            }
        }
    }
}

/// Why a connection's work has ended.
pub(crate) enum End {
    /// The service is ending.
    Service,
    /// The desktop is gone, and why.
    Desktop(String),
}

impl From<ServiceEnded> for End {
    fn from(_: ServiceEnded) -> Self {
        Self::Service
    }
}

/// One connection to a desktop.
pub(crate) trait Session: Send {
    /// What the clipboard is called.
    fn kind(&self) -> ClipboardKind;

    /// What a person should know of it: what is not captured, and why.
    fn notes(&self) -> Vec<Shortcoming> {
        Vec::new()
    }

    /// Why it cannot capture, if it cannot: it then only waits for that to change.
    fn unusable(&self) -> Option<Shortcoming> {
        None
    }

    /// Works until something ends it. `held` is put on the clipboard first, unless somebody owns it; and
    /// what would be lost with the connection is there at the end.
    fn work(&mut self, orders: &mut Orders, held: &mut Option<Vec<Format>>) -> End;
}

/// How a connection is made.
pub(crate) type Open = Box<dyn Fn(&SessionContext) -> Result<Box<dyn Session>, ConnectError> + Send>;

/// Connects, and keeps connected. Without `waits`, the first connection must succeed.
pub(crate) fn keep(open: Open, rules: Arc<Reading>, waits: bool) -> Result<Desktop, ConnectError> {
    let (sender, events) = EventSender::new();
    let context = SessionContext::new(sender, rules.clone());
    let first = match open(&context) {
        Ok(session) => Ok(session),
        Err(error) if waits && error.may_pass() => Err(error),
        Err(error) => return Err(error),
    };
    let (both, orders) = commands::pair()?;
    let events_of_keys = context.sender.clone();
    std::thread::Builder::new().name("desktop".into()).spawn(move || drop(live(&open, first, orders, &context)))?;
    let both = Arc::new(both);
    let keyboard = Arc::new(PortalKeyboard::new(both.clone(), events_of_keys));
    Ok(Desktop { clipboard: both, keyboard, events, reading: rules })
}

fn live(
    open: &Open,
    mut next: Result<Box<dyn Session>, ConnectError>,
    mut orders: Orders,
    context: &SessionContext,
) -> Result<(), ServiceEnded> {
    let mut pauses = RETRY.build();
    let mut held = None;
    let mut told = String::new();
    loop {
        let reason = match next {
            Ok(mut session) => {
                let began = Instant::now();
                match session.unusable() {
                    Some(why) => context.tell(Event::Lost(why)),
                    None => context.tell(Event::Connected { clipboard: session.kind(), notes: session.notes() }),
                }
                told.clear();
                let end = session.work(&mut orders, &mut held);
                context.tell_all();
                match end {
                    End::Service => return Ok(()),
                    End::Desktop(reason) => {
                        if began.elapsed() > GOOD {
                            pauses = RETRY.build();
                        }
                        reason
                    }
                }
            }
            Err(error) => yadori_core::with_causes(&error),
        };
        if reason != told {
            tracing::warn!(%reason, "there is no clipboard; it is looked for again");
            context.tell(Event::Lost(Shortcoming::NoDesktop(reason.clone())));
            context.tell_all();
            told = reason;
        }
        orders.refuse_for(pauses.next().unwrap_or(LONGEST_PAUSE))?;
        next = open(context);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::sync::mpsc::error::TryRecvError;

    #[test]
    fn the_service_is_told_in_order_and_soon() {
        let runtime = tokio::runtime::Builder::new_current_thread().build().unwrap();
        let _inside = runtime.enter();
        let (sender, mut events) = EventSender::new();
        let context = SessionContext::new(sender, Reading::new(1024, Duration::from_secs(1)));
        let (reply, mut answer) = oneshot::channel();
        context.copied(Copy { formats: vec![Format::plain("load-in 14:30")], source: Default::default() });
        context.tell(Event::Pasted);
        context.answer(reply, Ok(()));
        assert!(context.has_untold());
        assert!(events.try_recv().is_err() && answer.try_recv().is_err());

        context.tell_all();
        assert!(!context.has_untold());
        assert!(
            matches!(events.try_recv(), Ok(Event::Copied(copied)) if copied.copy.formats[0].data == "load-in 14:30")
        );
        assert!(matches!(events.try_recv(), Ok(Event::Pasted)));
        assert!(matches!(answer.try_recv(), Ok(Ok(()))));
        assert!(matches!(events.try_recv(), Err(TryRecvError::Empty)));

        // However much there is to be done at the desktop, not more than some of it waits.
        for _ in 0..MOST_UNTOLD {
            context.tell(Event::Pasted);
        }
        let told = std::iter::from_fn(|| events.try_recv().ok()).count();
        assert_eq!((told, context.has_untold()), (MOST_UNTOLD, false));

        // Nor for long.
        context.tell(Event::Pasted);
        context.untold.lock()[0].0 -= LONGEST_UNTOLD * 2;
        context.tell_overdue();
        assert!(matches!(events.try_recv(), Ok(Event::Pasted)));
    }
}
