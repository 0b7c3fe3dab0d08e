//! The command line, as a person and as a script uses it.

use serde_json::Value;
use std::process::Stdio;
use yadori_e2e::home::Home;
use yadori_e2e::service::{Service, client};

fn service() -> (Home, Service) {
    let home = Home::new();
    let service = Service::simulated(&home);
    (home, service)
}

fn paste(service: &Service, format: &str) -> String {
    service.get(&format!("/simulated/paste?format={format}")).text()
}

#[test]
fn the_service_is_started_at_log_in_by_the_desktop_where_there_is_no_systemd() {
    let (home, user) = (Home::new(), Home::bare());
    home.configure("clipboard = \"none\"");
    let run = |arguments: &[&str]| {
        let mut command = yadori_e2e::service::client(home.path());
        command.env("HOME", user.path()).env_remove("XDG_RUNTIME_DIR").arg("service").args(arguments);
        let output = command.output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        String::from_utf8(output.stdout).unwrap()
    };
    let entry = user.path().join(".config/autostart/yadori.desktop");
    assert!(run(&["status"]).starts_with("The service is not started at log-in."));
    let installed = run(&["install"]);
    assert_eq!(installed, format!("The service is started at log-in by autostart: {}\nIt runs.\n", entry.display()));
    let text = std::fs::read_to_string(&entry).unwrap();
    assert!(text.contains(&format!("yadorid\" --home \"{}\" --session\n", home.path().display())), "{text}");
    assert_eq!(run(&["install"]), installed, "once more makes no difference");
    assert!(run(&["remove"]).starts_with("The service is not started at log-in.") && !entry.exists());
    let pid = std::fs::read_to_string(home.path().join("data/lock")).unwrap().parse().unwrap();
    rustix::process::kill_process(rustix::process::Pid::from_raw(pid).unwrap(), rustix::process::Signal::TERM).unwrap();
    yadori_e2e::waiting::until("the service has ended", || !home.path().join("run/api.json").exists());
}

#[test]
fn a_clip_is_added_listed_found_shown_recalled_deleted_and_brought_back() {
    let (_home, service) = service();
    assert_eq!(service.run(&["add", "Load-in", "14:30", "--title", "Friday"]), "Added: text “Friday”\n");
    assert_eq!(service.run(&["add", "Load-in 14:30"]), "Already there, moved to the top: text “Friday”\n");
    service.run(&["add", "https://www.example.org/stalls"]);
    let list = service.run(&["list"]);
    assert_eq!(
        list.lines().map(str::trim_end).collect::<Vec<_>>(),
        [" 1  link       now  example.org/stalls", " 2  text       now  Friday: Load-in 14:30"]
    );
    assert_eq!(service.clips(&["find", "load"])[0].preview, "Load-in 14:30");
    assert_eq!(service.clips(&["find", "fridya"]).len(), 1, "a misspelled title");
    assert!(service.run(&["show", "2"]).contains("1 line, 13 characters"));
    assert_eq!(service.run(&["recall", "2"]), "On the clipboard: text “Friday”\n");
    assert_eq!(paste(&service, "text/plain"), "Load-in 14:30");
    assert_eq!(service.run(&["delete", "1", "2"]), "Deleted 2 clips. Undo with: yadori undo\n");
    assert!(service.clips(&["list"]).is_empty());
    assert_eq!(service.run(&["undo"]), "Restored: 2 clips\n");
    assert_eq!(service.clips(&["list"]).len(), 2);
    assert_eq!(service.fail(&["undo"]).0, 1);
}

#[test]
fn json_has_all_that_is_promised() {
    let (_home, service) = service();
    service.run(&["add", "Lamp 7", "--app", "Writer", "--at", "2026-10-01T12:00:00Z"]);
    let list: Value = serde_json::from_str(&service.run(&["list", "--json"])).unwrap();
    for field in [
        "id",
        "position",
        "kind",
        "preview",
        "title",
        "pinned",
        "drawer",
        "alias",
        "marks",
        "sensitive",
        "copied_at",
        "copies",
        "recalls",
        "size",
        "source",
        "device",
    ] {
        assert!(list[0].get(field).is_some(), "{field} is missing");
    }
    assert_eq!(list[0]["copied_at"], "2026-10-01T12:00:00Z");
    assert_eq!(list[0]["source"]["application"], "Writer");
    let found: Value = serde_json::from_str(&service.run(&["find", "lamp", "--json"])).unwrap();
    assert_eq!(found[0]["marks"], serde_json::json!([{"start": 0, "end": 4}]));
    for command in [
        &["status"][..],
        &["show", "1"],
        &["recall", "1"],
        &["doctor"],
        &["console", "--print"],
        &["pause"],
        &["resume"],
    ] {
        let output = service.run_with(&[command, &["--json"]].concat(), &[]);
        assert!(serde_json::from_slice::<Value>(&output.stdout).is_ok(), "{command:?}");
    }
}

#[test]
fn binary_goes_in_and_comes_out_unchanged() {
    let (home, service) = service();
    let picture = yadori_e2e::sample::poster("client");
    let added = service.run_with(&["add", "-", "--title", "Poster"], &picture);
    assert_eq!(String::from_utf8_lossy(&added.stdout), "Added: image “Poster”\n");
    assert_eq!(service.run_with(&["show", "1", "--raw"], &[]).stdout, picture);
    assert!(service.run(&["list"]).contains("Poster: 420 × 594 pixels"));
    let file = home.path().join("cue list.html");
    std::fs::write(&file, "<p>Cue <b>7</b></p>").unwrap();
    service.run(&["add", "--file", file.to_str().unwrap()]);
    assert_eq!(service.run(&["show", "1", "--format", "text/html"]), "<p>Cue <b>7</b></p>");
    assert_eq!(service.clips(&["list"])[0].preview, "Cue 7");
    service.run(&["add", "--path", file.to_str().unwrap()]);
    assert_eq!(service.clips(&["list"])[0].preview, "cue list.html");
    let text = "exact \r\n bytes\n\n";
    service.run_with(&["add"], text.as_bytes());
    assert_eq!(service.run(&["show", "1", "--raw"]), text);
    let refused = service.run_with(&["add"], b"%PDF\xff\xfe\x00");
    assert_eq!(refused.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("yadori add --path FILE"));
}

#[test]
fn formats_are_recalled_as_captured_plain_or_joined() {
    let (_home, service) = service();
    let copy = |text: &str, html: &str| {
        service.post("/simulated/copy", &serde_json::json!({"formats": [{"mime": "text/plain", "text": text}, {"mime": "text/html", "text": html}]}));
    };
    let mut events = service.events(None);
    copy("one", "<b>one</b>");
    events.copied("one");
    copy("two", "<b>two</b>");
    events.copied("two");
    assert_eq!(service.run(&["recall", "2"]), "On the clipboard: text “one”, in 2 formats\n");
    assert_eq!((paste(&service, "text/plain"), paste(&service, "text/html")), ("one".into(), "<b>one</b>".into()));
    service.run(&["recall", "2", "--plain"]);
    assert_eq!(service.get("/simulated/paste?format=text/html").status, 404);
    service.run(&["recall", "2", "1", "2", "--join", r" \t- "]);
    assert_eq!(paste(&service, "text/plain"), "one \t- two \t- one");
    service.run(&["recall", "2", "1"]);
    assert_eq!(paste(&service, "text/plain"), "one\ntwo");
    service.run_with(&["add"], &yadori_e2e::sample::poster("join"));
    let (code, said) = service.fail(&["recall", "1", "2"]);
    assert!(code == 1 && said.contains("can't be joined with the others: 1 (image)"), "{said}");
}

#[test]
fn names_that_lead_nowhere_are_told_apart() {
    let (_home, service) = service();
    for n in 0..40 {
        service.run(&["add", &format!("clip {n}")]);
    }
    assert_eq!(service.fail(&["show", "99"]).0, 4);
    assert_eq!(service.fail(&["show", "zzzzzzzz"]).0, 4);
    assert_eq!(service.fail(&["show", "k4"]).0, 2);
    assert_eq!(service.fail(&["show", "../status"]).0, 2);
    assert_eq!(service.fail(&["recall"]).0, 2);
    assert_eq!(service.fail(&["frobnicate"]).0, 2);
    let (code, said) = service.fail(&["find", "kind:movie"]);
    assert!(code == 2 && said.contains("text, link, image or files"), "{said}");
    let id = service.clips(&["list"])[6].id.clone();
    assert!(service.run(&["show", &id[..8]]).contains(&id));
    // One bad name among good ones: nothing is deleted.
    assert_eq!(service.fail(&["delete", "1", "99"]).0, 4);
    assert_eq!(service.clips(&["list", "-n", "100"]).len(), 40);
}

#[test]
fn clips_are_named_by_ranges_and_queries_and_lists_take_shape() {
    let (home, service) = service();
    for n in 1..=9 {
        service.run(&["add", &format!("clip {n}")]);
    }
    service.run(&["add", "https://example.org/stalls"]);
    assert_eq!(
        service.run(&["list", "--kind", "link", "--format", "{position} {kind} {preview}"]),
        "1 link example.org/stalls\n"
    );
    assert_eq!(service.run(&["find", "clip", "--ids", "-n", "3"]).lines().count(), 3);
    assert_eq!(service.run(&["ls", "--offset", "1", "-n", "2", "--format", "{preview}"]), "clip 9\nclip 8\n");
    // Two words in one argument are two words; a phrase has quotes of its own.
    assert_eq!(service.clips(&["search", "7 clip", "kind:text"]).len(), 1);
    assert_eq!(service.run(&["delete", "2-4"]), "Deleted 3 clips. Undo with: yadori undo\n");
    assert_eq!(service.fail(&["delete", "4-2"]).0, 2);
    service.run(&["recall", "--find", "clip", "--join", ", "]);
    assert!(paste(&service, "text/plain").contains("clip 1"));
    let (code, said) = service.fail(&["delete", "--find", "clip"]);
    assert!(code == 2 && said.contains("6 clips") && said.contains("--yes"), "{said}");
    service.run(&["delete", "--find", "clip", "--yes"]);
    assert_eq!(service.clips(&["list"]).len(), 1);
    // An empty filter is not one that lets everything through.
    for filter in ["--app", "--device"] {
        assert_eq!(service.fail(&["clear", filter, "", "--yes"]).0, 2);
    }
    assert_eq!(service.post("/clear", &serde_json::json!({"application": " "})).status, 400);
    assert_eq!(service.clips(&["list"]).len(), 1);
    // A mistyped command suggests nothing that destroys.
    let (code, said) = service.fail(&["cleer"]);
    assert!(code == 2 && !said.contains("'clear'"), "{said}");
    let file = home.path().join("out.txt");
    service.run(&["show", "1", "--save", file.to_str().unwrap()]);
    assert_eq!(std::fs::read_to_string(&file).unwrap(), "https://example.org/stalls");
    assert!(service.fail(&["show", "1", "--save", file.to_str().unwrap()]).1.contains("--force"));
}

#[test]
fn pipes_watching_manuals_and_errors_as_json() {
    let (home, service) = service();
    let copied = service.run_with(&["copy"], b"through a pipe");
    assert!(copied.status.success());
    assert_eq!(paste(&service, "text/plain"), "through a pipe");
    assert_eq!(service.run(&["paste"]), "through a pipe");
    let mut watch = client(home.path()).args(["watch", "-n", "1", "--json"]).stdout(Stdio::piped()).spawn().unwrap();
    // It may not listen yet when something is added; it will before long.
    let mut n = 0;
    while watch.try_wait().unwrap().is_none() {
        n += 1;
        service.run(&["add", &format!("watched {n}")]);
    }
    let seen: Value = serde_json::from_slice(&watch.wait_with_output().unwrap().stdout).unwrap();
    assert!(seen["clip"]["preview"].as_str().unwrap().starts_with("watched"), "{seen}");
    let folder = home.path().join("man");
    service.run(&["man", folder.to_str().unwrap()]);
    assert!(std::fs::read_to_string(folder.join("yadori-find.1")).unwrap().contains(".TH"));
    let (code, said) = service.fail(&["show", "999", "--json"]);
    let problem: Value = serde_json::from_str(&said).unwrap();
    assert!(code == 4 && problem["type"] == "urn:yadori:problem:no-such-clip", "{said}");
    // With the history off, nothing says that copies are kept.
    service.run(&["rules", "set", "history", "off"]);
    let status: yadori_api::Status = service.get("/status").json();
    assert_eq!(status.capture.state, yadori_api::CaptureState::Off);
    let doctor = service.run_with(&["doctor"], &[]);
    assert!(String::from_utf8_lossy(&doctor.stdout).contains("rules set history on"));
    assert_eq!(service.run(&["rules", "set", "history", "on"]), "History is on; copies are kept.\n");
}

#[test]
fn what_only_may_be_a_secret_is_masked_until_it_is_said_to_be_none() {
    let (_home, service) = service();
    service.run(&["add", "DE23 5001 0517 0123 4567 89"]);
    assert_eq!(service.clips(&["list"]).len(), 1);
    let masked = |service: &Service| service.clips(&["list"]).iter().filter(|clip| clip.sensitive.is_some()).count();
    let before = masked(&service);
    service.run(&["add", "PIN: 4821"]);
    let clip = service.clips(&["list"]).remove(0);
    assert!(clip.sensitive.is_some() && !clip.preview.contains("4821"), "{clip:?}");
    // It does not go in ten minutes, as what surely is one does.
    let left = clip.expires_at.unwrap().as_second() - jiff::Timestamp::now().as_second();
    assert!(left > 86_400, "{left}");
    assert_eq!(service.run(&["unmask", "1"]), "Not a secret: text “PIN: 4821”\n");
    service.run(&["delete", "1"]);
    service.run(&["add", "PIN: 4821"]);
    assert_eq!(masked(&service), before);
    assert_eq!(service.clips(&["list"])[0].preview, "PIN: 4821");
}

#[test]
fn what_is_printed_cannot_steer_a_terminal() {
    let (_home, service) = service();
    service.run(&["add", "\u{1b}[2Jred \u{202e}gnp.exe\u{7}", "--title", "\u{1b}]0;title\u{7}"]);
    for command in [&["list"][..], &["find", "red"], &["show", "1"], &["status"], &["recall", "1"]] {
        let printed = service.run(command);
        assert!(!printed.contains(['\u{1b}', '\u{7}', '\u{202e}']), "{command:?} printed {printed:?}");
    }
    let json = service.run(&["show", "1", "--json"]);
    assert!(!json.contains(['\u{1b}', '\u{7}', '\u{202e}']) && json.contains("\\u202e"), "{json}");
    assert!(service.run(&["show", "1", "--raw"]).starts_with("\u{1b}[2J"), "raw is raw");
}

#[test]
fn titles_have_a_limit_and_lists_a_beginning() {
    let (_home, service) = service();
    let (code, said) = service.fail(&["add", "x", "--title", &"t".repeat(1001)]);
    assert!(code == 2 && said.contains("at most 1000 characters"), "{said}");
    service.run(&["add", "x", "--title", &"é".repeat(1000)]);
    assert_eq!(service.fail(&["list", "-n", "0"]).0, 2);
    assert_eq!(service.fail(&["add", "x", "--at", "2999-01-01T00:00:00Z"]).0, 2);
    assert_eq!(service.fail(&["pause", "--for", "soon"]).0, 2);
}

#[test]
fn long_lists_come_page_by_page() {
    let (_home, service) = service();
    for n in 0..230 {
        let path = format!("/clips?copied_at=2026-10-01T12:{:02}:{:02}Z", n / 60, n % 60);
        assert_eq!(
            service
                .request("POST", &path, &[("authorization", &service.bearer())], format!("number {n}").as_bytes())
                .status,
            201
        );
    }
    let clips = service.clips(&["list", "-n", "1000"]);
    assert_eq!(clips.len(), 230);
    assert!(
        clips
            .iter()
            .enumerate()
            .all(|(n, clip)| clip.position == Some(n as u32 + 1) && clip.preview == format!("number {}", 229 - n))
    );
    assert_eq!(service.clips(&["find", "number", "-n", "220"]).len(), 220);
}

#[test]
fn a_reader_that_has_had_enough_is_no_failure() {
    let (home, service) = service();
    for n in 0..30 {
        service.run(&["add", &format!("{n} {}", "long ".repeat(3_000))]);
    }
    let mut child = client(home.path())
        .args(["list", "-n", "1000", "--json"])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let output = child.wait_with_output().unwrap();
    assert!(output.stderr.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
}

#[test]
fn what_is_longer_than_the_screen_is_read_in_a_pager() {
    let (_home, service) = service();
    for number in 0..40 {
        service.run(&["add", &format!("cue {number}")]);
    }
    let pager = "sed s/^/paged:/";
    let long = service.at_a_terminal_with(&["list", "-n", "40"], "", pager);
    assert_eq!(long.matches("paged:").count(), 41, "a heading, and a line for each: {long}");
    assert!(!service.at_a_terminal_with(&["list", "-n", "3"], "", pager).contains("paged:"), "it fits");
    assert!(!service.at_a_terminal_with(&["list", "-n", "40", "--no-pager"], "", pager).contains("paged:"));
    let without = service.at_a_terminal_with(&["list", "-n", "40"], "", "no-such-pager");
    assert!(without.contains("cue 39") && without.contains("cue 0"), "{without}");
}

/// What bash completes: the script that it is given, asked as bash asks.
#[test]
fn shells_complete_commands_and_the_names_of_clips_drawers_and_devices() {
    let (home, service) = service();
    service.run(&["drawer", "new", "Front of house"]);
    service.run(&["add", "Kestrel Lane Puppets", "--alias", "sig", "--drawer", "Front of house"]);
    let completed = |words: &[&str]| {
        let script = service.run(&["completions", "bash"]);
        let ask = r#"eval "$1"; shift; COMP_WORDS=("$@"); COMP_CWORD=$(($# - 1)); _clap_complete_yadori yadori "${@: -1}"; printf '%s\n' "${COMPREPLY[@]}""#;
        let path = yadori_e2e::process::built("yadori");
        let mut bash = std::process::Command::new("bash");
        bash.args(["-c", ask, "bash", &script]).args(words).env("YADORI_HOME", home.path());
        bash.env("PATH", format!("{}:/usr/bin:/bin", path.parent().unwrap().display()));
        let output = bash.output().unwrap();
        String::from_utf8(output.stdout).unwrap().lines().map(|line| line.trim_end().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(completed(&["yadori", "recal"]), ["recall"]);
    assert_eq!(completed(&["yadori", "recall", ":s"]), [":sig"]);
    assert_eq!(completed(&["yadori", "drawer", "list", "fr"]), [r"Front\ of\ house"]);
    assert_eq!(completed(&["yadori", "device", "remove", "w"]), ["workshop"]);
    assert!(completed(&["yadori", "reshape", "1", "upper"]).contains(&"upper".to_owned()));
}

#[test]
fn the_doctor_and_completions_answer() {
    let (home, service) = service();
    let doctor = service.run_with(&["doctor"], &[]);
    assert!(String::from_utf8_lossy(&doctor.stdout).contains("copies are kept from simulated"));
    // A sound that is wanted needs a player.
    service.run(&["rules", "set", "feedback", "sound"]);
    let told = |path: &std::path::Path| {
        let asked = client(home.path()).env("PATH", path).arg("doctor").output().unwrap();
        String::from_utf8_lossy(&asked.stdout).into_owned()
    };
    let players = home.path().join("players");
    std::fs::create_dir(&players).unwrap();
    assert!(told(&players).contains("nothing plays the sound"), "{}", told(&players));
    std::fs::write(players.join("aplay"), "").unwrap();
    assert!(told(&players).contains("played by"), "{}", told(&players));
    assert!(service.run(&["completions", "bash"]).contains("_yadori"));
    assert!(service.run(&["help", "find"]).contains("kind:image"));
    drop(service);
    let doctor = client(home.path()).arg("doctor").output().unwrap();
    assert_eq!(doctor.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&doctor.stdout).contains("nothing is being kept"));
}
