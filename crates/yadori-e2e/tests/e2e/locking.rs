//! What is kept is encrypted, and opened by its owner alone; and the lock.

use serde_json::json;
use yadori_api::{Lock, LockState, Problem, ProblemKind};
use yadori_e2e::bus::Bus;
use yadori_e2e::display::Display;
use yadori_e2e::home::Home;
use yadori_e2e::process::Process;
use yadori_e2e::service::{self, Answer, Service};
use yadori_e2e::waiting::until;

pub(super) const PASSPHRASE: &str = "lanterns on the pier";

pub(super) fn lock_of(service: &Service) -> Lock {
    service.get("/lock").json()
}

pub(super) fn kind_of(answer: &Answer) -> ProblemKind {
    answer.json::<Problem>().kind
}

/// A service with a passphrase, and nothing else that opens its history.
fn with_passphrase(home: &Home) -> Service {
    let service = Service::simulated(home);
    set_passphrase(&service);
    service
}

pub(super) fn set_passphrase(service: &Service) {
    let set = service.run_with(&["lock", "passphrase"], format!("{PASSPHRASE}\n").as_bytes());
    assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
}

pub(super) fn unlock(service: &Service, passphrase: &str) -> Answer {
    service.post("/lock/open", &json!({ "passphrase": passphrase }))
}

/// Something of every kind that is kept, with words by which it is found again.
pub(super) fn fill(service: &Service) -> Vec<&'static [u8]> {
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

pub(super) fn assert_nothing_in(home: &Home, words: &[&[u8]], when: &str) {
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
    // A shorter time holds at once, and not only when the longer one is over.
    service.run(&["lock", "when", "--idle", "1h"]);
    service.run(&["lock", "when", "--idle", "1s", "--empty-clipboard", "on"]);
    until("it is locked", || lock_of(&service).state == LockState::Locked);
    assert_eq!(display.xclip_paste("UTF8_STRING"), None);
    assert_eq!(unlock(&service, PASSPHRASE).status, 200);
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
