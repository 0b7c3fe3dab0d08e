//! The picker in the terminal, and what shells make of it, in a terminal that tmux plays.

use std::process::{Command, Stdio};
use yadori_api::Clips;
use yadori_e2e::home::Home;
use yadori_e2e::process::built;
use yadori_e2e::service::Service;
use yadori_e2e::waiting::until;

/// A terminal with a shell in it.
struct Screen {
    folder: std::path::PathBuf,
}

impl Screen {
    fn open(home: &Home) -> Self {
        Self::with(home, "bash --rcfile bashrc")
    }

    fn with(home: &Home, shell: &str) -> Self {
        let screen = Self { folder: home.path().to_owned() };
        let programs = built("yadori").parent().unwrap().display().to_string();
        std::fs::write(home.path().join("bashrc"), "PS1='$ '\n").unwrap();
        std::fs::write(home.path().join(".zshrc"), "PS1='$ '\n").unwrap();
        std::fs::create_dir_all(home.path().join(".config/fish")).unwrap();
        let quiet = "set fish_greeting; function fish_prompt; echo -n '$ '; end\n";
        std::fs::write(home.path().join(".config/fish/config.fish"), quiet).unwrap();
        let mut command = screen.tmux(&["new-session", "-d", "-x", "90", "-y", "24", shell]);
        command.env("PATH", format!("{programs}:/usr/bin:/bin")).env("YADORI_HOME", home.path()).env("TZ", "UTC");
        command
            .env("HOME", home.path())
            .env("TERM", "xterm-256color")
            .env("LC_ALL", "C.UTF-8")
            .env("COLORTERM", "truecolor");
        assert!(command.current_dir(home.path()).status().expect("tmux").success());
        screen.until("a prompt", |shown| shown.contains('$'));
        screen
    }

    fn tmux(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new("tmux");
        command.env_clear().env("PATH", "/usr/bin:/bin").env("LC_ALL", "C.UTF-8");
        command.arg("-S").arg(self.folder.join("tmux.sock")).args(["-f", "/dev/null"]).args(arguments);
        command.stdin(Stdio::null()).stderr(Stdio::null());
        command
    }

    /// Types a text.
    fn types(&self, text: &str) {
        assert!(self.tmux(&["send-keys", "-l", "--", text]).status().unwrap().success());
    }

    /// Presses keys, by tmux's names for them.
    fn presses(&self, keys: &[&str]) {
        assert!(self.tmux(&["send-keys"]).args(keys).status().unwrap().success());
    }

    fn shown(&self) -> String {
        let output = self.tmux(&["capture-pane", "-p"]).stdout(Stdio::piped()).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    }

    fn until(&self, what: &str, is_so: impl Fn(&str) -> bool) {
        let mut shown = String::new();
        let seen = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            until(what, || {
                shown = self.shown();
                is_so(&shown)
            });
        }));
        assert!(seen.is_ok(), "{what}:\n{}", self.shown());
    }

    /// The row that is reversed is not told by the text, so rows are told by their words.
    fn shows(&self, words: &str) {
        self.until(words, |shown| shown.contains(words));
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let _ = self.tmux(&["kill-server"]).status();
    }
}

fn service(home: &Home) -> Service {
    let service = Service::simulated(home);
    for clip in ["gel 201 for the moon", "lamp 7: 650 W", "Kestrel Lane\nUnit 4\n"] {
        service.run(&["add", clip]);
    }
    service
}

#[test]
fn a_clip_is_chosen_by_letters_and_printed_recalled_or_left() {
    let home = Home::new();
    let service = service(&home);
    let screen = Screen::open(&home);
    screen.types("yadori pick --print > out.txt; echo code=$?\n");
    screen.shows("Esc leave");
    screen.types("moon");
    screen.until("the match alone", |shown| shown.contains("gel 201") && !shown.contains("lamp 7"));
    screen.presses(&["Enter"]);
    screen.shows("code=0");
    assert_eq!(std::fs::read_to_string(home.path().join("out.txt")).unwrap(), "gel 201 for the moon");
    assert!(!screen.shown().contains("Esc leave"), "the terminal is as it was");

    // Two are marked, and come apart by NUL.
    screen.types("clear; yadori pick --print -0 > out.txt; echo code=$?\n");
    screen.shows("Esc leave");
    screen.presses(&["Down", "Tab", "Tab"]);
    screen.shows("2 marked");
    screen.presses(&["Enter"]);
    screen.shows("code=0");
    assert_eq!(std::fs::read(home.path().join("out.txt")).unwrap(), b"lamp 7: 650 W\0gel 201 for the moon\0");

    screen.types("clear; yadori pick lamp\n");
    screen.shows("> lamp");
    screen.presses(&["Enter"]);
    screen.shows("On the clipboard: text “lamp 7: 650 W”");
    assert_eq!(service.get("/simulated/paste?format=text/plain").text(), "lamp 7: 650 W");

    screen.types("clear; yadori pick; echo code=$?\n");
    screen.shows("Esc leave");
    screen.presses(&["C-p"]);
    screen.shows("1 *");
    assert_eq!(service.get("/pins").json::<Clips>().clips[0].preview, "Kestrel Lane Unit 4");
    service.run_with(&["add", "-"], &yadori_e2e::sample::poster("owl"));
    screen.presses(&["C-k", "C-k"]);
    screen.shows("picture");
    screen.presses(&["Home"]);
    screen.shows("▀▀▀▀");
    screen.types("kind:");
    screen.presses(&["Escape"]);
    screen.shows("code=1");
}

/// A clip is put in at the cursor, and an alias before it expanded.
fn at_the_cursor(shell: &str, widget: &str) {
    let home = Home::new();
    let service = service(&home);
    service.run(&["add", "owl and fox", "--alias", "owl"]);
    let screen = Screen::with(&home, shell);
    screen.types(widget);
    screen.types("; clear\n");
    screen.until("a clear screen", |shown| shown.trim() == "$");
    // Quoted, since brackets have a meaning to zsh and fish.
    screen.types("echo \"[]\"");
    screen.presses(&["Left", "Left", "C-x", "y"]);
    screen.shows("Esc leave");
    screen.presses(&["3"]);
    screen.shows("echo \"[lamp 7: 650 W]\"");
    screen.presses(&["End"]);
    screen.types(" :owl");
    screen.presses(&["C-x", ":"]);
    screen.shows("echo \"[lamp 7: 650 W]\" owl and fox");
    screen.presses(&["Enter"]);
    screen.shows("\n[lamp 7: 650 W] owl and fox");
}

#[test]
fn bash_puts_a_clip_in_at_the_cursor_and_expands_an_alias_before_it() {
    at_the_cursor("bash --rcfile bashrc", "eval \"$(yadori widget bash)\"");
}

#[test]
fn zsh_does_so_too() {
    at_the_cursor("zsh", "eval \"$(yadori widget zsh)\"");
}

#[test]
fn fish_does_so_too() {
    at_the_cursor("fish", "yadori widget fish | source");
}
