//! Keys by way of the desktop's portal (XDG Desktop Portal, `org.freedesktop.portal.GlobalShortcuts`), where the desktop
//! itself gives none: on most Wayland desktops that are not built on wlroots. The desktop asks the person, and may give an
//! action other keys than we would like.

use crate::{Event, EventSender, Focus, GrabState, Keyboard, Paste, PasteError};
use ashpd::desktop::Session;
use ashpd::desktop::global_shortcuts::{GlobalShortcuts, NewShortcut, Shortcut};
use futures_util::StreamExt;
use std::sync::Arc;
use std::time::Duration;
use tokio::sync::{mpsc, oneshot};
use tokio::task::JoinHandle;
use yadori_core::keys::{Action, Chord, Syntax};
use zbus::fdo::DBusProxy;

/// The portal's name on the session bus.
const NAME: &str = "org.freedesktop.portal.Desktop";

/// How long whoever wants keys waits for the portal. The person may be asked first, and then it is told of as an event.
const SOON: Duration = Duration::from_millis(500);

type States = Vec<(Action, GrabState)>;

/// A keyboard whose keys come from the portal, if the desktop has none for us.
pub(crate) struct PortalKeyboard {
    desktop: Arc<dyn Keyboard>,
    wanted: mpsc::UnboundedSender<Wanted>,
}

/// Keys that are wanted, what the desktop will say of them, and who wants to know.
type Wanted = (Vec<(Action, Chord)>, oneshot::Receiver<States>, oneshot::Sender<States>);

impl PortalKeyboard {
    /// The keyboard of this desktop; keys of the portal are told of as events. Must be called within a runtime.
    pub fn new(desktop: Arc<dyn Keyboard>, events: EventSender) -> Self {
        let (wanted, asked) = mpsc::unbounded_channel();
        tokio::spawn(grab_all(asked, events));
        Self { desktop, wanted }
    }
}

impl Keyboard for PortalKeyboard {
    fn focus(&self) -> oneshot::Receiver<Option<Focus>> {
        self.desktop.focus()
    }

    fn paste(&self, paste: Paste) -> oneshot::Receiver<Result<(), PasteError>> {
        self.desktop.paste(paste)
    }

    fn grab(&self, keys: Vec<(Action, Chord)>) -> oneshot::Receiver<States> {
        let (reply, states) = oneshot::channel();
        let of_desktop = self.desktop.grab(keys.clone());
        let _ = self.wanted.send((keys, of_desktop, reply));
        states
    }
}

/// Asks the portal whenever the desktop gives no keys.
async fn grab_all(mut asked: mpsc::UnboundedReceiver<Wanted>, events: EventSender) {
    let mut bound: Option<Bound> = None;
    while let Some((keys, of_desktop, reply)) = asked.recv().await {
        if let Some(bound) = bound.take() {
            bound.end().await;
        }
        let Ok(states) = of_desktop.await else { continue };
        let given = states.iter().any(|(_, state)| *state != GrabState::Unsupported);
        if given || keys.is_empty() {
            let _ = reply.send(states);
            continue;
        }
        let (first, mut told) = oneshot::channel();
        bound = Some(Bound::start(keys, first, events.clone()));
        let of_portal = match tokio::time::timeout(SOON, &mut told).await {
            Ok(of_portal) => of_portal.ok(),
            Err(_) => {
                // From here on it is told of as an event; what has come by now must not be lost.
                told.close();
                told.try_recv().ok()
            }
        };
        let _ = reply.send(of_portal.unwrap_or(states));
    }
    if let Some(bound) = bound {
        bound.end().await;
    }
}

/// Keys that are asked for, until [`Bound::end`].
struct Bound {
    stop: oneshot::Sender<()>,
    task: JoinHandle<()>,
}

impl Bound {
    /// Asks for these keys. What becomes of them is told to `first`, if it still waits, and from then on as events.
    fn start(keys: Vec<(Action, Chord)>, first: oneshot::Sender<States>, events: EventSender) -> Self {
        let (stop, stopped) = oneshot::channel();
        let task = tokio::spawn(async move {
            let mut asking = Asking { keys, first: Some(first), events };
            if let Err(error) = asking.follow(stopped).await {
                tracing::debug!(error = yadori_core::with_causes(&error), "the portal gives no keys");
                asking.tell(asking.all(&GrabState::Unsupported)).await;
            }
        });
        Self { stop, task }
    }

    async fn end(self) {
        drop(self.stop);
        let _ = self.task.await;
    }
}

struct Asking {
    keys: Vec<(Action, Chord)>,
    first: Option<oneshot::Sender<States>>,
    events: EventSender,
}

impl Asking {
    /// Has the portal give keys, and tells of them, until `stopped`; again whenever the portal was started anew.
    async fn follow(&mut self, mut stopped: oneshot::Receiver<()>) -> Result<(), ashpd::Error> {
        // A connection of our own: on it, there is no session of the portal but ours.
        let bus = zbus::Connection::session().await?;
        let owners = DBusProxy::new(&bus).await?;
        let mut owners = owners.receive_name_owner_changed_with_args(&[(0, NAME)]).await?;
        loop {
            let portal = GlobalShortcuts::with_connection(bus.clone()).await?;
            let mut pressed = Box::pin(portal.receive_activated().await?);
            let mut changed = Box::pin(portal.receive_shortcuts_changed().await?);
            let session = tokio::select! {
                session = self.bind(&portal) => session?,
                _ = &mut stopped => return Ok(()),
            };
            loop {
                tokio::select! {
                    _ = &mut stopped => {
                        let _ = session.close().await;
                        return Ok(());
                    }
                    Some(key) = pressed.next() => {
                        if let Some(action) = Action::of_word(key.shortcut_id()) {
                            self.events.tell(Event::Key(action)).await;
                        }
                    }
                    Some(change) = changed.next() => self.tell(self.states(change.shortcuts())).await,
                    owner = owners.next() => match owner {
                        // The session went with the portal.
                        Some(owner) if owner.args()?.new_owner.is_some() => break,
                        Some(_) => self.tell(self.all(&GrabState::Unsupported)).await,
                        None => {
                            self.tell(self.all(&GrabState::Unsupported)).await;
                            return Ok(());
                        }
                    },
                }
            }
        }
    }

    /// Asks for all keys at once, which a session can do once; the person may be asked what they say to that.
    async fn bind(&mut self, portal: &GlobalShortcuts) -> Result<Session<GlobalShortcuts>, ashpd::Error> {
        let session = portal.create_session(ashpd::desktop::CreateSessionOptions::default()).await?;
        let shortcuts: Vec<NewShortcut> = self.keys.iter().map(|(action, chord)| shortcut(*action, chord)).collect();
        let answer = portal.bind_shortcuts(&session, &shortcuts, None, Default::default()).await?;
        let states = match answer.response() {
            Ok(bound) => self.states(bound.shortcuts()),
            // The person has said no.
            Err(ashpd::Error::Response(_)) => self.all(&GrabState::Unassigned),
            Err(error) => return Err(error),
        };
        self.tell(states).await;
        Ok(session)
    }

    /// What became of all keys, from those that the desktop has given.
    fn states(&self, given: &[Shortcut]) -> States {
        let state = |action: Action| match given.iter().find(|shortcut| shortcut.id() == action.word()) {
            Some(shortcut) => GrabState::Assigned(shortcut.trigger_description().to_owned()),
            None => GrabState::Unassigned,
        };
        self.keys.iter().map(|(action, _)| (*action, state(*action))).collect()
    }

    fn all(&self, state: &GrabState) -> States {
        self.keys.iter().map(|(action, _)| (*action, state.clone())).collect()
    }

    async fn tell(&mut self, states: States) {
        let untold = match self.first.take() {
            Some(first) => first.send(states).err(),
            None => Some(states),
        };
        if let Some(states) = untold {
            self.events.tell(Event::Grabbed(states)).await;
        }
    }
}

fn shortcut(action: Action, chord: &Chord) -> NewShortcut {
    let wanted = chord.written(Syntax::Portal);
    NewShortcut::new(action.word(), action.description()).preferred_trigger(wanted.as_str())
}
