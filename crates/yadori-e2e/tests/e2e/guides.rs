//! The guide's walk-throughs: their commands are run, and must say what the guide says.
//!
//! In a block marked `console`, a line that begins with `$ ` is a command; the lines after it are what it prints,
//! with `…` for what differs from day to day. `<!-- copied: TEXT -->` is a copy that the reader makes in some other
//! program, `<!-- pasted: TEXT -->` what they see when they paste.

use serde_json::json;
use std::path::Path;
use std::process::Command;
use yadori_api::Tray;
use yadori_e2e::home::Home;
use yadori_e2e::sample::Sample;
use yadori_e2e::service::{Service, client};

#[test]
fn filling_a_form() {
    walk("forms.md");
}

#[test]
fn every_day_by_keyboard() {
    walk("keyboard.md");
}

#[test]
fn in_the_terminal() {
    walk("terminal.md");
}

#[test]
fn keeping_answers() {
    walk("answers.md");
}

#[test]
fn tidying_up() {
    walk("tidying.md");
}

#[test]
fn moving_house() {
    walk("moving.md");
}

#[test]
fn two_computers() {
    walk("two-computers.md");
}

#[test]
fn for_other_programs() {
    walk("../http.md");
    let page = std::fs::read_to_string(root().join("docs/http.md")).unwrap();
    for kind in yadori_api::ProblemKind::ALL {
        let row = format!("| `{}` | {} | {} |", kind.word(), kind.status(), kind.title());
        assert!(page.contains(&row), "docs/http.md lacks {row}");
    }
}

fn root() -> std::path::PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// A service with the sample history, as the guide has it.
fn service(home: &Home) -> Service {
    let service = Service::simulated(home);
    let history = std::fs::read_to_string(root().join("demo/history.ndjson")).unwrap();
    assert!(!Sample::read_all(&history).unwrap().is_empty());
    let program = Path::new(client(home.path()).get_program()).with_file_name("sample-history");
    let added = Command::new(program)
        .arg(home.path())
        .arg(root().join("demo/history.ndjson"))
        .output()
        .expect("the sample history");
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stderr));
    service
}

fn walk(page: &str) {
    let text = std::fs::read_to_string(root().join("docs/guide").join(page)).unwrap();
    let home = Home::new();
    let service = service(&home);
    let away = Home::new();
    let mut commands = 0;
    // With YADORI_UPDATE set, the page is written anew with what the commands say.
    let updating = std::env::var_os("YADORI_UPDATE").is_some();
    let mut page_now: Vec<String> = Vec::new();
    let mut lines = text.lines().peekable();
    let mut within = false;
    while let Some(line) = lines.next() {
        page_now.push(line.to_owned());
        if let Some(words) = directive(line, "copied") {
            copy(&service, words);
        } else if let Some(words) = directive(line, "pasted") {
            let mut events = service.events(None);
            let before: Tray = service.get("/tray").json();
            assert_eq!(service.get("/simulated/paste?format=text/plain").text(), words, "{page}: what is pasted");
            // Whoever pastes takes their time.
            while before.auto && service.get("/tray").json::<Tray>() == before {
                events.wait("status", |_| true);
            }
        } else if line.starts_with("```") {
            within = line == "```console";
        } else if let Some(command) = line.strip_prefix("$ ").filter(|_| within) {
            let mut expected = Vec::new();
            while let Some(line) = lines.next_if(|line| !line.starts_with("$ ") && !line.starts_with("```")) {
                expected.push(line);
            }
            commands += 1;
            let said = run(home.path(), away.path(), command);
            let said: Vec<&str> = said.lines().map(str::trim_end).collect();
            let alike =
                said.len() == expected.len() && said.iter().zip(&expected).all(|(said, wanted)| matches(said, wanted));
            // A line that is still right stays as the page has it, with its `…`.
            page_now.extend(said.iter().enumerate().map(|(place, said)| {
                expected.get(place).filter(|wanted| matches(said, wanted)).unwrap_or(said).to_string()
            }));
            assert!(
                alike || updating,
                "{page}: $ {command}\nsays\n{}\nand not\n{}",
                said.join("\n"),
                expected.join("\n")
            );
        }
    }
    assert!(commands > 3, "{page} walks through nothing");
    if updating {
        std::fs::write(root().join("docs/guide").join(page), page_now.join("\n") + "\n").unwrap();
    }
}

fn directive<'a>(line: &'a str, name: &str) -> Option<&'a str> {
    line.strip_prefix("<!-- ")?.strip_prefix(name)?.strip_prefix(": ")?.strip_suffix(" -->")
}

fn copy(service: &Service, words: &str) {
    let mut events = service.events(None);
    let copied =
        json!({ "formats": [{ "mime": "text/plain", "text": words }], "source": { "application": "Browser" } });
    assert_eq!(service.post("/simulated/copy", &copied).status, 204);
    events.copied(words);
}

/// Runs a command as the reader does, in a folder of their own. Gives what it says on both channels.
fn run(home: &Path, folder: &Path, command: &str) -> String {
    let program = client(home);
    let bin = Path::new(program.get_program()).parent().unwrap().display().to_string();
    let output = Command::new("bash")
        .args(["-c", &format!("{{ {command}\n}} 2>&1")])
        .current_dir(folder)
        .env_clear()
        .env("PATH", format!("{bin}:/usr/bin:/bin"))
        .env("YADORI_HOME", home)
        .env("TZ", "UTC")
        .stdin(std::process::Stdio::null())
        .output()
        .unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Whether a line is as expected, where `…` stands for anything.
fn matches(said: &str, wanted: &str) -> bool {
    let mut parts = wanted.trim_end().split('…');
    let first = parts.next().unwrap_or_default();
    let Some(mut rest) = said.strip_prefix(first) else { return false };
    let mut parts = parts.peekable();
    if parts.peek().is_none() {
        return rest.is_empty();
    }
    while let Some(part) = parts.next() {
        if parts.peek().is_none() {
            return rest.ends_with(part);
        }
        match rest.find(part) {
            Some(at) => rest = &rest[at + part.len()..],
            None => return false,
        }
    }
    true
}
