//! The demonstration runs as its page says.

use std::path::Path;
use std::process::Command;
use yadori_e2e::process::built;

#[test]
fn the_scripted_example_shows_every_step_on_x11() {
    shows_every_step(&[], "$ xclip -selection clipboard -o\nLX\tLamp\tGel");
}

#[test]
fn the_scripted_example_shows_every_step_on_wayland() {
    shows_every_step(&["--wayland"], "$ wl-paste\nLX\tLamp\tGel");
}

#[test]
fn two_computers_that_never_meet_are_shown() {
    let shown = run(&["--relay"]);
    for expected in
        ["token new", " answers", "envelope", "van$ xclip -selection clipboard -o\nScrews for the lantern: M4 × 12"]
    {
        assert!(shown.contains(expected), "“{expected}” is not shown in:\n{shown}");
    }
    assert_eq!(shown.matches("MiB, ").count(), 1, "one mailbox:\n{shown}");
}

fn run(options: &[&str]) -> String {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let output = Command::new("bash")
        .arg("script/demo")
        .arg("--once")
        .args(options)
        .current_dir(root)
        .env_remove("DISPLAY")
        .env_remove("WAYLAND_DISPLAY")
        .env_remove("YADORI_HOME")
        .env("YADORI_BUILT", built("yadorid").parent().expect("a folder"))
        .output()
        .unwrap();
    let shown = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(output.status.success(), "{shown}{}", String::from_utf8_lossy(&output.stderr));
    shown
}

fn shows_every_step(options: &[&str], pasted: &str) {
    let shown = run(options);
    for expected in [
        "$ yadori list -n 5",
        "Screws for the lantern: M4 × 12",
        "照明",
        "420 × 594 pixels",
        "On the clipboard: ",
        pasted,
        "Harbour Rooms\n",
        "Ines Calder, Harbour Rooms, +1 555 0127",
        "thank you for your message of today",
        "The history keeps at most 2,000 clips",
        "kept clips stay. Undo with: yadori undo",
        "Day by day",
        "Restored: ",
        "connected",
        "van$ xclip -selection clipboard -o\nFerry at 06:40, van first",
        "121 clips",
    ] {
        assert!(shown.contains(expected), "“{expected}” is not shown in:\n{shown}");
    }
}
