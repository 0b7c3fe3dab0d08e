//! What is kept is encrypted, and opened by its owner alone; and the lock.

use super::survival::SmallDisk;
use serde_json::json;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};
use yadori_api::{Lock, LockState, Problem, ProblemKind, Protector};
use yadori_e2e::bus::Bus;
use yadori_e2e::compositor::until;
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::process::Process;
use yadori_e2e::service::{self, Answer, Service};
use yadori_files::Places;

const PASSPHRASE: &str = "lanterns on the pier";

fn lock_of(service: &Service) -> Lock {
    service.get("/lock").json()
}

fn kind_of(answer: &Answer) -> ProblemKind {
    answer.json::<Problem>().kind
}

/// A service with a passphrase, and nothing else that opens its history.
fn with_passphrase(home: &Home) -> Service {
    let service = Service::simulated(home);
    set_passphrase(&service);
    service
}

fn set_passphrase(service: &Service) {
    let set = service.run_with(&["lock", "passphrase"], format!("{PASSPHRASE}\n").as_bytes());
    assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
}

fn unlock(service: &Service, passphrase: &str) -> Answer {
    service.post("/lock/open", &json!({ "passphrase": passphrase }))
}

/// Something of every kind that is kept, with words by which it is found again.
fn fill(service: &Service) -> Vec<&'static [u8]> {
    service.run(&["add", "kestrel over the quay", "--pin", "--title", "heron by the mill"]);
    let page = json!({ "formats": [
        { "mime": "text/plain", "text": "plover in the reeds" },
        { "mime": "text/html", "text": "<p>curlew on the <b>mud</b></p>" },
    ], "source": { "application": "Teal Letters", "window": "dunlin at dusk" } });
    assert_eq!(service.post("/simulated/copy", &page).status, 204);
    let long = format!("{} osprey at the weir", "x".repeat(300_000));
    assert!(service.run_with(&["add"], long.as_bytes()).status.success());
    service.run(&["drawer", "new", "godwit drawer"]);
    let archive = service.home().join("archive.zip");
    service.run(&["export", archive.to_str().unwrap()]);
    service.run(&["import", archive.to_str().unwrap()]);
    std::fs::remove_file(archive).unwrap();
    vec![
        b"kestrel over",
        b"heron by",
        b"plover in",
        b"curlew on",
        b"Teal Letters",
        b"dunlin at",
        b"osprey at",
        b"godwit drawer",
        // As a database may keep them besides.
        b"k\0e\0s\0t\0r\0e\0l",
    ]
}

fn assert_nothing_in(home: &Home, words: &[&[u8]], when: &str) {
    let found = home.files_with(words);
    assert!(found.is_empty(), "{when}: {found:?}");
}

#[test]
fn the_disk_of_a_running_a_locked_a_killed_and_a_stopped_service_holds_nothing_that_can_be_read() {
    let home = Home::bare();
    let service = with_passphrase(&home);
    let words = fill(&service);
    assert_nothing_in(&home, &words, "running");
    assert_eq!(service.post("/lock", &json!({})).status, 200);
    assert_nothing_in(&home, &words, "locked");
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    service.run(&["add", "bittern in the fog"]);
    let words = [&words[..], &[b"bittern in"]].concat();
    service.kill();
    yadori_e2e::process::nothing_runs_in(home.path());
    assert_nothing_in(&home, &words, "killed");
    let service = Service::simulated(&home);
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    assert_eq!(service.clips(&["find", "bittern"]).len(), 1);
    assert!(service.end().0);
    assert_nothing_in(&home, &words, "stopped");
}

#[test]
fn without_encryption_the_same_words_are_found() {
    let home = Home::plain();
    let service = Service::simulated(&home);
    let words = fill(&service);
    let status = service.run(&["lock", "status"]);
    assert!(status.contains("encrypt = false"), "{status}");
    assert_eq!(kind_of(&service.post("/lock", &json!({}))), ProblemKind::NotEncrypted);
    assert!(service.end().0);
    let found = home.files_with(&words);
    assert!(found.len() >= 6, "{found:?}");
}

#[test]
fn a_home_that_is_there_is_encrypted_at_its_next_start_wherever_that_is_interrupted() {
    let home = Home::plain();
    let service = Service::simulated(&home);
    let words = fill(&service);
    let before: Vec<String> = service.clips(&["list"]).into_iter().map(|clip| clip.id).collect();
    assert!(service.end().0);
    home.configure("");
    // Each start is killed a little later than the one before, until one comes through.
    for step in 1..60u64 {
        let mut killed = Process::spawn(service::command(home.path(), "simulated", None));
        let (sender, ready) = std::sync::mpsc::channel();
        let output = killed.child().stdout.take().unwrap();
        let reader = std::thread::spawn(move || {
            let mut line = String::new();
            let _ = std::io::BufRead::read_line(&mut std::io::BufReader::new(output), &mut line);
            let _ = sender.send(line);
        });
        let come = ready.recv_timeout(std::time::Duration::from_millis(350 * step));
        killed.end(rustix::process::Signal::KILL);
        reader.join().unwrap();
        if come.is_ok_and(|line| line.starts_with("ready")) {
            break;
        }
        assert!(step < 59, "it never came through");
    }
    let service = Service::simulated(&home);
    assert!(lock_of(&service).encrypted);
    let after: Vec<String> = service.clips(&["list"]).into_iter().map(|clip| clip.id).collect();
    assert_eq!(after, before);
    assert_eq!(service.clips(&["list", "--pinned"])[0].title.as_deref(), Some("heron by the mill"));
    assert!(service.end().0);
    assert_nothing_in(&home, &words, "encrypted afterwards");
    let left: Vec<_> =
        std::fs::read_dir(home.path().join("data")).unwrap().flatten().map(|entry| entry.file_name()).collect();
    assert!(!left.iter().any(|name| name.to_string_lossy().starts_with("database.")), "{left:?}");
}

#[test]
fn a_locked_history_tells_nothing_and_comes_back_as_it_was() {
    let home = Home::new();
    let service = Service::simulated(&home);
    service.run(&["add", "kestrel over the quay"]);
    let (code, said) = service.fail(&["lock"]);
    assert!(code == 1 && said.contains("yadori lock passphrase"), "{said}");
    set_passphrase(&service);
    assert!(!home.path().join("protector.key").exists(), "the key file opens it no more");
    assert_eq!(service.run(&["lock"]), "Locked. Unlock it with: yadori unlock\n");
    let database = std::fs::read_to_string(home.database().join("server.pid"));
    assert!(database.is_err(), "the database ends: {database:?}");
    for path in ["/clips", "/status", "/events", "/rules", "/clips/1/content", "/export", "/nowhere"] {
        let answer = service.get(path);
        assert_eq!((answer.status, kind_of(&answer)), (423, ProblemKind::Locked), "{path}");
        assert!(!answer.text().contains("kestrel"));
    }
    assert_eq!(service.post("/delete", &json!({ "clips": ["1"] })).status, 423);
    assert_eq!(service.request("GET", "/lock", &[], &[]).status, 401, "strangers are told nothing at all");
    assert_eq!(
        service
            .request("GET", "/lock", &[("authorization", &service.bearer()), ("host", "elsewhere.test")], &[])
            .status,
        421
    );
    let (code, said) = service.fail(&["list"]);
    assert!(code == 1 && said.contains("yadori unlock"), "{said}");
    assert!(service.run(&["lock", "status"]).contains("locked; unlock it with: yadori unlock"));
    let wrong = service.run_with(&["unlock"], b"lanterns on the peer\n");
    assert_eq!(wrong.status.code(), Some(1));
    let opened = service.run_with(&["unlock"], format!("{PASSPHRASE}\n").as_bytes());
    assert_eq!(String::from_utf8_lossy(&opened.stdout), "The history is open.\n");
    assert_eq!(service.clips(&["list"])[0].preview, "kestrel over the quay");
    service.run(&["add", "after the unlock"]);
    let (well, log) = service.end();
    assert!(well && log.contains("the history is locked"), "{log}");
    assert!(!log.contains("still holds"), "it left the memory: {log}");
    // It is locked when it starts again: nothing opens it by itself.
    let service = Service::simulated(&home);
    assert_eq!(lock_of(&service).state, LockState::Locked);
    assert_eq!(service.get("/clips").status, 423);
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    assert_eq!(service.clips(&["list"]).len(), 2);
}

#[test]
fn wrong_passphrases_slow_down_and_a_recovery_key_opens_it() {
    let home = Home::new();
    let service = with_passphrase(&home);
    assert_eq!(kind_of(&service.post("/lock/recovery", &json!({}))), ProblemKind::PassphraseNeeded);
    let made = service.run_with(&["lock", "recovery"], format!("{PASSPHRASE}\n").as_bytes());
    let key = String::from_utf8(made.stdout).unwrap().trim().to_owned();
    assert_eq!(key.len(), 39, "{key}");
    service.run(&["lock"]);
    let kinds: Vec<ProblemKind> = (0..5).map(|_| kind_of(&unlock(&service, "no such passphrase"))).collect();
    let [first @ .., _, last] = &kinds[..] else { unreachable!() };
    assert!(first.iter().all(|kind| *kind == ProblemKind::WrongPassphrase), "{kinds:?}");
    assert_eq!(*last, ProblemKind::TooManyTries);
    // Even the right one waits.
    let waits = unlock(&service, PASSPHRASE);
    assert_eq!((waits.status, waits.header("retry-after").is_empty()), (429, false));
    until("the pause is over", || {
        let answer = unlock(&service, &key.to_uppercase().replace('-', " "));
        assert!(answer.status == 200 || answer.status == 429, "{}", answer.text());
        answer.status == 200
    });
    // With the recovery key a passphrase that was forgotten is replaced.
    let set = service.run_with(&["lock", "passphrase"], format!("{key}\nanother pier\n").as_bytes());
    assert!(set.status.success());
    service.run(&["lock"]);
    assert_eq!(unlock(&service, PASSPHRASE).status, 403);
    assert_eq!(unlock(&service, "another pier").status, 200);
    let short = service.run_with(&["lock", "passphrase"], b"another pier\nshort\n");
    assert!(String::from_utf8_lossy(&short.stderr).contains("at least 8 characters"));
}

#[test]
fn what_is_copied_while_it_is_locked_is_dropped_or_sealed_and_filed_at_the_unlock() {
    let (home, display) = (Home::new(), Display::start());
    let service = Service::on_display(&home, &display);
    let mut events = service.events(None);
    display.xclip("UTF8_STRING", b"kestrel before");
    events.copied("kestrel before");
    set_passphrase(&service);
    service.run(&["lock"]);
    display.xclip("UTF8_STRING", b"kestrel that is dropped");
    // What is copied next is read only when that was read.
    display.xclip("UTF8_STRING", b"kestrel that is dropped, too");
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    service.run(&["lock", "when", "--copies", "seal"]);
    service.run(&["lock"]);
    display.xclip("UTF8_STRING", b"kestrel that is sealed");
    until("it is sealed", || home.path().join("data/inbox").exists());
    assert_nothing_in(&home, &[b"kestrel"], "sealed");
    // It outlives a kill.
    let mut service = service;
    service.crash_and_start(service::command(home.path(), "x11", Some(display.name())));
    assert_eq!(lock_of(&service).state, LockState::Locked);
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    until("it is filed", || service.clips(&["list"]).iter().any(|clip| clip.preview == "kestrel that is sealed"));
    until("it waits no more", || !home.path().join("data/inbox").exists());
    let previews: Vec<String> = service.clips(&["list"]).into_iter().map(|clip| clip.preview).collect();
    assert!(!previews.iter().any(|preview| preview == "kestrel that is dropped"), "{previews:?}");
    // After that, copies are kept as ever.
    let mut events = service.events(None);
    display.xclip("UTF8_STRING", b"kestrel afterwards");
    events.copied("kestrel afterwards");
}

#[test]
fn it_locks_itself_when_nobody_uses_it_and_empties_the_clipboard_if_that_is_wanted() {
    let (home, display) = (Home::new(), Display::start());
    let service = Service::on_display(&home, &display);
    let refused = service.patch("/lock", &json!({ "idle_seconds": 1 }));
    assert_eq!(kind_of(&refused), ProblemKind::NoPassphrase);
    set_passphrase(&service);
    service.run(&["add", "kestrel"]);
    service.run(&["recall", "1"]);
    assert_eq!(display.xclip_paste("UTF8_STRING").as_deref(), Some(&b"kestrel"[..]));
    service.run(&["lock", "when", "--idle", "1s", "--empty-clipboard", "on"]);
    until("it is locked", || lock_of(&service).state == LockState::Locked);
    assert_eq!(display.xclip_paste("UTF8_STRING"), None);
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
}

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
    for step in 0..6u64 {
        assert_eq!(service.post("/lock/rekey", &json!({})).status, 202);
        std::thread::park_timeout(std::time::Duration::from_millis(step * 300));
        service.crash_and_start(service::command(home.path(), "simulated", None));
        let after: Vec<String> = service.clips(&["list"]).into_iter().map(|clip| clip.id).collect();
        assert_eq!(after, before, "killed after {} ms", step * 300);
    }
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

/// The system's log-in manager, as far as it is asked.
struct Manager(std::sync::mpsc::Sender<&'static str>);

#[zbus::interface(name = "org.freedesktop.login1.Manager")]
impl Manager {
    fn inhibit(&self, what: &str, _who: &str, _why: &str, mode: &str) -> zbus::zvariant::OwnedFd {
        assert_eq!((what, mode), ("sleep", "delay"));
        let (held, ours) = std::os::unix::net::UnixStream::pair().unwrap();
        let told = self.0.clone();
        let _ = told.send("waits");
        std::thread::spawn(move || {
            // Ends when the other side is closed.
            let _ = std::io::Read::read(&mut { ours }, &mut [0]);
            let _ = told.send("may sleep");
        });
        std::os::fd::OwnedFd::from(held).into()
    }

    #[zbus(name = "GetSessionByPID")]
    fn get_session_by_pid(&self, _pid: u32) -> zbus::zvariant::OwnedObjectPath {
        zbus::zvariant::ObjectPath::try_from("/org/freedesktop/login1/session/_31").unwrap().into()
    }
}

#[test]
fn it_locks_itself_with_the_screen_and_before_the_computer_sleeps() {
    let (home, user) = (Home::new(), tempfile::tempdir().unwrap());
    let bus = Bus::start(user.path(), "");
    let (sender, told) = std::sync::mpsc::channel();
    let manager = zbus::blocking::connection::Builder::address(bus.address())
        .unwrap()
        .name("org.freedesktop.login1")
        .unwrap()
        .serve_at("/org/freedesktop/login1", Manager(sender))
        .unwrap()
        .build()
        .unwrap();
    let mut command = service::command(home.path(), "simulated", None);
    command.env("DBUS_SYSTEM_BUS_ADDRESS", bus.address());
    let service = Service::start(home.path(), command);
    set_passphrase(&service);
    let next = || told.recv_timeout(yadori_e2e::PATIENCE).unwrap();
    assert_eq!(next(), "waits");
    let sleep = |start: bool| {
        manager
            .emit_signal(
                None::<&str>,
                "/org/freedesktop/login1",
                "org.freedesktop.login1.Manager",
                "PrepareForSleep",
                &start,
            )
            .unwrap();
    };
    // Not until it is wanted.
    sleep(true);
    service.run(&["lock", "when", "--sleep", "on"]);
    sleep(false);
    assert_eq!(lock_of(&service).state, LockState::Open);
    sleep(true);
    assert_eq!(next(), "may sleep");
    assert_eq!(lock_of(&service).state, LockState::Locked, "not before it is locked");
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
    assert_eq!(next(), "waits");
    service.run(&["lock", "when", "--screen", "on"]);
    manager
        .emit_signal(None::<&str>, "/org/freedesktop/login1/session/_31", "org.freedesktop.login1.Session", "Lock", &())
        .unwrap();
    until("it is locked", || lock_of(&service).state == LockState::Locked);
}

/// A drawer with a passphrase of its own, from the terminal; killed while it is open, it is closed, and the disk has none of it
/// that could be read, though the rest of this home is not encrypted.
#[test]
fn a_private_drawer_is_kept_sealed_and_opens_for_its_passphrase() {
    let home = Home::plain();
    let service = Service::simulated(&home);
    let word = &b"kestrel over the quay"[..];
    let passphrase = "pier lanterns\n".as_bytes();
    let run = |service: &Service, arguments: &[&str]| {
        let done = service.run_with(arguments, passphrase);
        assert!(done.status.success(), "{arguments:?}: {}", String::from_utf8_lossy(&done.stderr));
        String::from_utf8_lossy(&done.stdout).into_owned()
    };
    let made = run(&service, &["drawer", "new", "Bank", "--private"]);
    assert!(made.starts_with("Made the drawer Bank; it is open until "), "{made}");
    service.run(&["add", "kestrel over the quay"]);
    service.run(&["drawer", "put", "Bank", "1"]);
    assert!(!home.files_with(&[word]).is_empty(), "the check finds it while it is open");
    assert_eq!(run(&service, &["drawer", "close", "Bank"]), "The drawer Bank: 1 clip; private, closed\n");
    assert_eq!(run(&service, &["drawer"]), "Bank  (1 clip; private, closed)\n");
    let refused = service.run_with(&["drawer", "list", "Bank"], b"");
    let said = String::from_utf8_lossy(&refused.stderr);
    assert!(!refused.status.success() && said.contains("yadori drawer open NAME"), "{said}");
    // What was forgotten is written over a little later.
    until("written over", || home.files_with(&[word]).is_empty());

    let wrong = service.run_with(&["drawer", "open", "Bank"], b"pier lantern\n");
    assert!(String::from_utf8_lossy(&wrong.stderr).contains("not the passphrase of the drawer"));
    run(&service, &["drawer", "open", "bank", "--minutes", "30"]);
    assert!(service.run(&["find", "kestrel"]).contains("kestrel"));
    service.kill();
    let service = Service::simulated(&home);
    assert_eq!(run(&service, &["drawer"]), "Bank  (1 clip; private, closed)\n");
    until("written over", || home.files_with(&[word]).is_empty());
    run(&service, &["drawer", "open", "Bank"]);
    assert_eq!(
        run(&service, &["drawer", "private", "Bank", "--off"]),
        "The drawer Bank is an ordinary one now; linked devices get it again\n"
    );
    run(&service, &["drawer", "private", "Bank"]);
    run(&service, &["drawer", "close", "Bank"]);
    assert_eq!(
        run(&service, &["drawer", "remove", "Bank", "--for-good", "--yes"]),
        "Erased the drawer Bank with 1 clip\n"
    );
    assert!(run(&service, &["drawer"]).is_empty());
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
