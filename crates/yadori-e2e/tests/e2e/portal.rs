//! Keys by way of the desktop's portal, against a stand-in for one on a bus of its own: on a compositor that gives no keys.

use std::collections::HashMap;
use std::sync::mpsc::{Receiver, Sender, channel};
use yadori_api::{KeyState, Keys, Tray};
use yadori_e2e::PATIENCE;
use yadori_e2e::bus::Bus;
use yadori_e2e::compositor::Compositor;
use yadori_e2e::home::Home;
use yadori_e2e::service::{self, Service};
use yadori_e2e::waiting::until;
use zbus::blocking::{Connection, connection};
use zbus::message::Header;
use zbus::zvariant::{ObjectPath, OwnedObjectPath, OwnedValue, Value};
use zbus::{Connection as Bound, fdo};

const PATH: &str = "/org/freedesktop/portal/desktop";
const SHORTCUTS: &str = "org.freedesktop.portal.GlobalShortcuts";

type Options = HashMap<String, OwnedValue>;

/// What the stand-in was asked.
#[derive(Debug, PartialEq)]
enum Asked {
    /// To bind these actions to these keys, in this session.
    Bind(String, Vec<(String, String)>),
    /// To close this session.
    Close(String),
}

/// The portal. It gives all keys that are asked for, but for those that pause: the person has not agreed to them.
struct Portal(Sender<Asked>);

struct Session(Sender<Asked>, String);

#[zbus::interface(name = "org.freedesktop.portal.Session")]
impl Session {
    fn close(&self) {
        let _ = self.0.send(Asked::Close(self.1.clone()));
    }

    #[zbus(property, name = "version")]
    fn version(&self) -> u32 {
        1
    }
}

/// The path of what a client asks for, by the token that it has chosen.
fn path(header: &Header<'_>, what: &str, options: &Options, token: &str) -> OwnedObjectPath {
    let client = header.sender().unwrap().trim_start_matches(':').replace('.', "_");
    let token = String::try_from(options[token].try_clone().unwrap()).unwrap();
    ObjectPath::try_from(format!("{PATH}/{what}/{client}/{token}")).unwrap().into()
}

/// Answers a request, as portals do: by a signal.
async fn answer(bus: &Bound, header: &Header<'_>, request: &OwnedObjectPath, results: HashMap<&str, Value<'_>>) {
    let client = header.sender().cloned();
    let interface = "org.freedesktop.portal.Request";
    bus.emit_signal(client, request, interface, "Response", &(0u32, results)).await.unwrap();
}

#[zbus::interface(name = "org.freedesktop.portal.GlobalShortcuts")]
impl Portal {
    #[zbus(property, name = "version")]
    fn version(&self) -> u32 {
        1
    }

    async fn create_session(
        &self,
        options: Options,
        #[zbus(header)] header: Header<'_>,
        #[zbus(connection)] bus: &Bound,
    ) -> fdo::Result<OwnedObjectPath> {
        let request = path(&header, "request", &options, "handle_token");
        let session = path(&header, "session", &options, "session_handle_token");
        bus.object_server().at(&session, Session(self.0.clone(), session.to_string())).await?;
        answer(bus, &header, &request, HashMap::from([("session_handle", Value::from(session.as_str()))])).await;
        Ok(request)
    }

    async fn bind_shortcuts(
        &self,
        session: OwnedObjectPath,
        shortcuts: Vec<(String, Options)>,
        _parent: String,
        options: Options,
        #[zbus(header)] header: Header<'_>,
        #[zbus(connection)] bus: &Bound,
    ) -> fdo::Result<OwnedObjectPath> {
        let text = |value: &OwnedValue| String::try_from(value.try_clone().unwrap()).unwrap();
        let wanted: Vec<(String, String)> =
            shortcuts.iter().map(|(id, about)| (id.clone(), text(&about["preferred_trigger"]))).collect();
        let given: Vec<(String, HashMap<&str, Value<'_>>)> = wanted
            .iter()
            .filter(|(id, _)| id != "pause")
            .map(|(id, trigger)| {
                let told = Value::from(format!("Press {trigger}"));
                (id.clone(), HashMap::from([("description", Value::from("")), ("trigger_description", told)]))
            })
            .collect();
        let _ = self.0.send(Asked::Bind(session.to_string(), wanted));
        let request = path(&header, "request", &options, "handle_token");
        answer(bus, &header, &request, HashMap::from([("shortcuts", Value::from(given))])).await;
        Ok(request)
    }
}

/// A portal on this bus, until it is dropped; and what it is asked.
fn portal(bus: &Bus) -> (Connection, Receiver<Asked>) {
    let (asks, asked) = channel();
    let connection = connection::Builder::address(bus.address())
        .unwrap()
        .serve_at(PATH, Portal(asks))
        .unwrap()
        .name("org.freedesktop.portal.Desktop")
        .unwrap()
        .build()
        .unwrap();
    (connection, asked)
}

/// The session that was bound, and the keys that were asked for.
fn bound(asked: &Receiver<Asked>) -> (String, HashMap<String, String>) {
    match asked.recv_timeout(PATIENCE).expect("keys are asked for") {
        Asked::Bind(session, keys) => (session, keys.into_iter().collect()),
        other => panic!("{other:?}"),
    }
}

fn press(connection: &Connection, session: &str, action: &str) {
    let session = ObjectPath::try_from(session).unwrap();
    let pressed = (session, action, 0u64, HashMap::<&str, Value<'_>>::new());
    connection.emit_signal(None::<&str>, PATH, SHORTCUTS, "Activated", &pressed).unwrap();
}

#[test]
fn where_the_compositor_gives_no_keys_the_portal_does() {
    let (home, compositor) = (Home::new(), Compositor::start());
    let bus = Bus::start(home.path(), "");
    let (connection, asked) = portal(&bus);
    let mut command = service::on_compositor(home.path(), "wayland", &compositor);
    command.env("DBUS_SESSION_BUS_ADDRESS", bus.address());
    let service = Service::start(home.path(), command);
    let state = |action: &str| {
        let keys = service.get("/keys").json::<Keys>().keys;
        let binding = keys.into_iter().find(|binding| binding.action == action).unwrap();
        (binding.state, binding.assigned)
    };
    let grabbed = |keys: &str| (Some(KeyState::Grabbed), Some(format!("Press {keys}")));

    let (session, keys) = bound(&asked);
    assert_eq!((keys.len(), keys["picker"].as_str(), keys["tray"].as_str()), (16, "CTRL+ALT+space", "CTRL+ALT+y"));
    until("the portal's answer is known", || state("tray") == grabbed("CTRL+ALT+y"));
    assert_eq!(state("pause"), (Some(KeyState::Unassigned), None), "what was refused is known, too");
    let listed = service.run(&["keys"]);
    assert!(
        listed.contains("(the desktop says: Press CTRL+ALT+space)") && listed.contains("(not assigned;"),
        "{listed}"
    );
    press(&connection, &session, "tray");
    until("the key opens the tray", || service.get("/tray").json::<Tray>().open);

    // Other keys need another session, for each can ask only once.
    service.run(&["keys", "set", "tray", "Super+F8"]);
    assert_eq!(asked.recv_timeout(PATIENCE).unwrap(), Asked::Close(session));
    let (session, keys) = bound(&asked);
    assert_eq!(keys["tray"], "LOGO+F8");
    assert_eq!(state("tray"), grabbed("LOGO+F8"));
    press(&connection, &session, "tray");
    until("the new key closes the tray", || !service.get("/tray").json::<Tray>().open);

    // A portal that ends takes the keys along, and one that comes back is asked anew.
    drop(connection);
    until("the keys are gone", || state("tray").0 == Some(KeyState::Unsupported));
    let (connection, asked) = portal(&bus);
    let (session, _) = bound(&asked);
    until("the keys are there again", || state("tray") == grabbed("LOGO+F8"));
    press(&connection, &session, "tray");
    until("they work", || service.get("/tray").json::<Tray>().open);
    // A portal ends the sessions of whoever has left the bus.
    assert!(service.end().0);
}
