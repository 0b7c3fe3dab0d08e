//! What opens the history: its files, the secret service that keeps the key, and a new key for everything.

use super::locking::{PASSPHRASE, assert_nothing_in, fill, kind_of, lock_of, set_passphrase, unlock};
use super::survival::SmallDisk;
use serde_json::json;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use yadori_api::{Added, Lock, LockState, ProblemKind, Protector};
use yadori_e2e::bus::Bus;
use yadori_e2e::home::Home;
use yadori_e2e::process::Process;
use yadori_e2e::service::{self, Service};
use yadori_e2e::waiting::until;
use yadori_files::Places;

#[test]
fn everything_is_encrypted_with_a_new_key_wherever_that_is_interrupted() {
    let home = Home::new();
    let service = Service::simulated(&home);
    let words = fill(&service);
    let before: Vec<String> = service.clips(&["list"]).into_iter().map(|clip| clip.id).collect();
    let key = || std::fs::read_to_string(home.database().join("key")).unwrap_or_default();
    let first = key();
    let old_keyring = std::fs::read(home.path().join("data/keys.json")).unwrap();
    service.run(&["lock", "rekey"]);
    let second = key();
    assert_ne!(first, second);
    assert_eq!(service.clips(&["list"]).len(), before.len());
    let mut service = service;
    // While the server is started again, the other one set up, everything copied, compared, and while one takes the place of the other.
    for (part, later) in [(0.0, 0), (0.0, 300), (0.1, 0), (0.7, 0), (0.95, 0), (0.95, 100), (0.95, 200), (0.95, 400)] {
        assert_eq!(service.post("/lock/rekey", &json!({})).status, 202);
        until("it is as far", || lock_of(&service).encrypting.is_none_or(|done| done >= part));
        std::thread::park_timeout(std::time::Duration::from_millis(later));
        service.crash_and_start(service::command(home.path(), "simulated", None));
        let after: Vec<String> = service.clips(&["list"]).into_iter().map(|clip| clip.id).collect();
        assert_eq!(after, before, "killed {later} ms after {part} of it was done");
    }
    // It goes on by itself; this waits for it, or does it once more.
    service.run(&["lock", "rekey"]);
    assert_ne!(key(), second);
    assert!(service.end().0);
    assert_nothing_in(&home, &words, "with a new key");
    // The keys of before open nothing any more, and it is said what is wrong.
    let current = std::fs::read(home.path().join("data/keys.json")).unwrap();
    std::fs::write(home.path().join("data/keys.json"), old_keyring).unwrap();
    let said = does_not_start(&home);
    assert!(said.contains("encrypted with another key") && said.contains("bring back the key file"), "{said}");
    std::fs::write(home.path().join("data/keys.json"), current).unwrap();
    assert_eq!(Service::simulated(&home).clips(&["list"]).len(), before.len());
}

/// The history is used all the while: what is added is kept, what is forgotten is gone, and lists are answered.
#[test]
fn a_new_key_comes_while_the_history_is_used() {
    let home = Home::new();
    let service = Service::simulated(&home);
    let words = fill(&service);
    let key = || std::fs::read_to_string(home.database().join("key")).unwrap();
    let first = key();
    let headers = [("authorization", service.bearer()), ("content-type", "text/plain".to_owned())];
    let headers = headers.each_ref().map(|(name, value)| (*name, value.as_str()));
    assert_eq!(service.post("/lock/rekey", &json!({})).status, 202);
    let (mut parts, mut kept, mut forgotten) = (Vec::new(), Vec::new(), Vec::new());
    let mut round = 0;
    loop {
        let lock = lock_of(&service);
        assert_eq!(lock.state, LockState::Open);
        let Some(part) = lock.encrypting else {
            assert_eq!(lock.failure, None);
            break;
        };
        parts.push(part);
        round += 1;
        let text = format!("sandpiper {round}");
        let added = service.request("POST", "/clips", &headers, text.as_bytes());
        // Who asked just before it was away for a moment is told so.
        if added.status == 503 {
            continue;
        }
        assert_eq!(added.status, 201, "{}", added.text());
        let id = added.json::<Added>().clip.id;
        if round % 3 == 0 && service.post("/delete", &json!({ "clips": [id] })).status == 200 {
            forgotten.push(id);
        } else {
            kept.push(id);
        }
        let listed = service.get("/clips?limit=1");
        assert!([200, 503].contains(&listed.status), "{}", listed.text());
    }
    assert!(parts.is_sorted() && parts.len() > 20 && !kept.is_empty() && !forgotten.is_empty(), "{parts:?}");
    assert_ne!(key(), first);
    assert!(!home.database().join("changes").exists());
    let check = |service: &Service, when: &str| {
        let there: Vec<String> =
            service.clips(&["list", "--limit", "100000"]).into_iter().map(|clip| clip.id).collect();
        for id in &kept {
            assert!(there.contains(id), "{id} is lost {when}");
        }
        for id in &forgotten {
            assert!(!there.contains(id), "{id} is back {when}");
        }
    };
    check(&service, "with the new key");
    assert!(service.end().0);
    assert_nothing_in(&home, &words, "with a key that came while it was used");
    let service = Service::simulated(&home);
    check(&service, "after a start");
    assert_eq!(lock_of(&service).encrypting, None);
}

/// Locked and unlocked at once while a new key comes, it goes on with it.
#[test]
fn a_new_key_goes_on_after_a_lock() {
    let home = Home::new();
    let service = Service::simulated(&home);
    service.run(&["add", "kestrel over the quay"]);
    set_passphrase(&service);
    let key = || std::fs::read_to_string(home.database().join("key")).unwrap();
    let first = key();
    assert_eq!(service.post("/lock/rekey", &json!({})).status, 202);
    for _ in 0..3 {
        service.run(&["lock"]);
        assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    }
    until("everything is encrypted with the new key", || lock_of(&service).encrypting.is_none() && key() != first);
    assert_eq!(lock_of(&service).failure, None);
    assert_eq!(service.clips(&["list"])[0].preview, "kestrel over the quay");
    assert!(service.end().0);
}

fn does_not_start(home: &Home) -> String {
    let output = service::command(home.path(), "simulated", None).output().unwrap();
    assert!(!output.status.success());
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn keys_that_are_damaged_gone_or_readable_by_others_are_named_and_nothing_is_lost() {
    let home = Home::new();
    let service = Service::simulated(&home);
    service.run(&["add", "kestrel over the quay"]);
    assert!(service.end().0);
    let (keyring, key_file) = (home.path().join("data/keys.json"), home.path().join("protector.key"));
    let (text, secret) = (std::fs::read(&keyring).unwrap(), std::fs::read(&key_file).unwrap());
    let put_back = || {
        std::fs::write(&keyring, &text).unwrap();
        std::fs::write(&key_file, &secret).unwrap();
        std::fs::set_permissions(&key_file, std::fs::Permissions::from_mode(0o600)).unwrap();
    };
    let assert_said = |words: &str| {
        let said = does_not_start(&home);
        assert!(said.contains(words), "{words}: {said}");
        put_back();
    };
    std::fs::write(&keyring, &text[..text.len() / 2]).unwrap();
    assert_said("it is damaged, or no key file of this program");
    std::fs::remove_file(&keyring).unwrap();
    assert_said("with its keys is gone; bring it back from a copy");
    std::fs::write(&keyring, String::from_utf8(text.clone()).unwrap().replace("\"drop\"", "\"seal\"")).unwrap();
    assert_said("changed by somebody who could not open it");
    std::fs::remove_file(&key_file).unwrap();
    assert_said("protector.key cannot be used");
    std::fs::write(&key_file, "ab".repeat(32)).unwrap();
    assert_said("that is not the right one");
    std::fs::set_permissions(&key_file, std::fs::Permissions::from_mode(0o644)).unwrap();
    assert_said("chmod 600");
    let service = Service::simulated(&home);
    assert_eq!(service.clips(&["list"])[0].preview, "kestrel over the quay");
}

/// A desktop session's secret service: gnome-keyring, unlocked, on a bus of its own.
struct Session {
    bus: Bus,
    keyring: Process,
}

impl Session {
    fn start(home: &Path) -> Self {
        let bus = Bus::start(home, "");
        let keyring = Self::keyring(&bus, home);
        Self { bus, keyring }
    }

    fn keyring(bus: &Bus, home: &Path) -> Process {
        let mut command = Command::new("gnome-keyring-daemon");
        command
            .args(["--foreground", "--unlock", "--components=secrets"])
            .arg("--control-directory")
            .arg(home.join("control"));
        command
            .env_clear()
            .env("PATH", "/usr/bin:/bin")
            .env("HOME", home)
            .env("DBUS_SESSION_BUS_ADDRESS", bus.address());
        command.env("XDG_DATA_HOME", home.join("share")).env("XDG_RUNTIME_DIR", home);
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        let mut keyring = Process::spawn(command);
        // It reads the password of the log-in, to its end.
        std::io::Write::write_all(&mut keyring.child().stdin.take().unwrap(), b"log-in").unwrap();
        let connection = zbus::blocking::connection::Builder::address(bus.address()).unwrap().build().unwrap();
        let names = zbus::blocking::fdo::DBusProxy::new(&connection).unwrap();
        until("the secret service is there", || {
            names.name_has_owner("org.freedesktop.secrets".try_into().unwrap()).unwrap()
        });
        // Its first collection is made with the first log-in.
        let service = zbus::blocking::Proxy::new(
            &connection,
            "org.freedesktop.secrets",
            "/org/freedesktop/secrets",
            "org.freedesktop.Secret.Service",
        )
        .unwrap();
        until("it has a collection", || {
            let alias: zbus::zvariant::OwnedObjectPath = service.call("ReadAlias", &"default").unwrap();
            alias.as_str() != "/"
        });
        keyring
    }

    fn command(&self, home: &Home) -> Command {
        let mut command = service::command(home.path(), "simulated", None);
        command.env("DBUS_SESSION_BUS_ADDRESS", self.bus.address());
        command
    }
}

#[test]
fn a_desktop_session_keeps_the_key_and_a_history_without_it_stays_locked() {
    let (home, user) = (Home::bare(), tempfile::tempdir().unwrap());
    let mut session = Session::start(user.path());
    let service = Service::start(home.path(), session.command(&home));
    assert_eq!(lock_of(&service).protectors, [Protector::SecretService]);
    assert!(!home.path().join("protector.key").exists());
    service.run(&["add", "kestrel over the quay"]);
    assert!(service.end().0);
    // It opens by itself in the same session.
    let service = Service::start(home.path(), session.command(&home));
    assert_eq!(service.clips(&["list"]).len(), 1);
    // It goes away while the history is open: that goes on.
    session.keyring.end(rustix::process::Signal::TERM);
    service.run(&["add", "heron by the mill"]);
    assert!(service.end().0);
    // Without it nothing opens the history.
    let service = Service::simulated(&home);
    assert_eq!(lock_of(&service).state, LockState::Locked);
    assert_eq!(kind_of(&unlock(&service, PASSPHRASE)), ProblemKind::NoProtector);
    assert!(service.end().0);
    session.keyring = Session::keyring(&session.bus, user.path());
    let service = Service::start(home.path(), session.command(&home));
    assert_eq!(service.clips(&["list"]).len(), 2);
    // With a passphrase besides, it can be locked; and the session's key can be given up.
    set_passphrase(&service);
    service.run(&["lock"]);
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    let removed =
        service.run_with(&["lock", "protector", "secret-service", "--remove"], format!("{PASSPHRASE}\n").as_bytes());
    assert!(removed.status.success(), "{}", String::from_utf8_lossy(&removed.stderr));
    assert!(service.end().0);
    let service = Service::start(home.path(), session.command(&home));
    assert_eq!(lock_of(&service).state, LockState::Locked);
}

/// An older keys.json opens the history with what opened it then; that is said until somebody sees to it.
#[test]
fn an_older_keyring_that_is_brought_back_is_noticed() {
    let home = Home::new();
    let keyring = Places::under(home.path()).keyring();
    let set = |service: &Service, typed: &str| {
        let set = service.run_with(&["lock", "passphrase"], typed.as_bytes());
        assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
    };
    let service = Service::simulated(&home);
    set(&service, "the first of them\n");
    let older = std::fs::read(&keyring).unwrap();
    set(&service, "the first of them\nthe second of them\n");
    assert!(!lock_of(&service).older_keys);
    assert!(service.end().0);

    std::fs::write(&keyring, older).unwrap();
    let service = Service::simulated(&home);
    assert_eq!(unlock(&service, "the second of them").status, 403);
    assert_eq!(unlock(&service, "the first of them").status, 200);
    assert!(lock_of(&service).older_keys);
    let said = service.run(&["lock", "status"]);
    assert!(said.contains("keys.json is an older one"), "{said}");
    let found = service.run_with(&["doctor"], b"").stdout;
    let found = String::from_utf8_lossy(&found);
    assert!(found.contains("may open it again"), "{found}");

    // Whatever else is changed in it, it stays an older one.
    let change = json!({ "idle_seconds": 900 });
    for _ in 0..4 {
        let changed = service.patch("/lock", &change);
        assert!(changed.json::<Lock>().older_keys);
    }
    assert!(service.end().0);
    let service = Service::simulated(&home);
    assert_eq!(unlock(&service, "the first of them").status, 200);
    assert!(lock_of(&service).older_keys);

    // Set anew, it is the latest again, also to those who come later.
    set(&service, "the first of them\nthe third of them\n");
    assert!(!lock_of(&service).older_keys);
    assert!(service.end().0);
    let service = Service::simulated(&home);
    assert_eq!(unlock(&service, "the third of them").status, 200);
    assert!(!lock_of(&service).older_keys);
}

/// There is too little room for the new database beside the old one: everything is as it was, and it is told why.
#[test]
fn a_new_key_for_which_there_is_no_room_changes_nothing() {
    let home = Home::bare();
    let data = home.path().join("data");
    let Some(_disk) = SmallDisk::mount(&data, "300m") else {
        yadori_e2e::missing::not_tried(yadori_e2e::missing::Missing::Mounts);
        return;
    };
    let service = Service::simulated(&home);
    service.run(&["add", "kestrel over the quay"]);
    let key = || std::fs::read_to_string(home.database().join("key")).unwrap();
    let before = key();
    // Something else fills the disk, but for a little.
    let filler = data.join("filler");
    let fill = format!("of={}", filler.display());
    let _ = Command::new("dd").args(["if=/dev/zero", "bs=1M"]).arg(fill).output().unwrap();
    let file = std::fs::OpenOptions::new().write(true).open(&filler).unwrap();
    file.set_len(file.metadata().unwrap().len() - (8 << 20)).unwrap();
    // Else what it takes is free only when it is closed.
    drop(file);
    let refused = service.post("/lock/rekey", &json!({}));
    assert_eq!((refused.status, kind_of(&refused)), (507, ProblemKind::DiskFull), "{}", refused.text());
    assert!(refused.text().contains("make room and try again"), "{}", refused.text());
    assert_eq!((key(), lock_of(&service).state), (before.clone(), LockState::Open));
    assert_eq!(service.clips(&["list"])[0].preview, "kestrel over the quay");

    std::fs::remove_file(&filler).unwrap();
    service.run(&["add", "there is room again"]);
    service.run(&["lock", "rekey"]);
    assert_ne!(key(), before);
    assert_eq!(service.clips(&["list"]).len(), 2);
    assert!(service.end().0);
}
