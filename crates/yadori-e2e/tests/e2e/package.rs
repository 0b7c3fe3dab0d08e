//! The Debian package: made of these programs, installed, run, upgraded and removed on a copy of this system.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use yadori_e2e::home::Home;
use yadori_e2e::missing::{Missing, not_tried};
use yadori_e2e::process::built;

/// The exit status by which the script says that no copy of the system can be made here.
const NO_COPY: i32 = 77;

/// Runs a program that must do well, and gives what it prints.
fn run(command: &mut Command) -> String {
    let output = command.stdin(Stdio::null()).output().unwrap_or_else(|error| panic!("{command:?}: {error}"));
    assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8(output.stdout).unwrap()
}

/// The package as this version.
fn package(tree: &Path, folder: &Path, version: &str) -> PathBuf {
    let mut command = Command::new(tree.join("script/package"));
    command.args(["--debug", "--version", version, "--into"]).arg(folder);
    // The folder above that of the profile.
    command.env("CARGO_TARGET_DIR", built("yadori").ancestors().nth(2).unwrap());
    PathBuf::from(run(&mut command).trim())
}

/// The same package as a later version: only its number is another.
fn later(package: &Path, version: &str) -> PathBuf {
    let (root, later) = (package.with_extension("root"), package.with_file_name(format!("yadori_{version}.deb")));
    run(Command::new("dpkg-deb").arg("--raw-extract").args([package, &root]));
    let control = root.join("DEBIAN/control");
    let text = std::fs::read_to_string(&control).unwrap();
    let lines = text.lines().map(|line| match line.starts_with("Version: ") {
        true => format!("Version: {version}\n"),
        false => format!("{line}\n"),
    });
    std::fs::write(control, lines.collect::<String>()).unwrap();
    run(Command::new("dpkg-deb").args(["--root-owner-group", "-Znone", "--build"]).args([&root, &later]));
    later
}

#[test]
fn the_package_is_installed_run_upgraded_and_removed() {
    let tree = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let home = Home::new();
    let first = package(&tree, home.path(), "0.0.1");
    let packages = [&first, &later(&first, "0.0.2")];
    let mut trial = Command::new(tree.join("script/package.d/try"));
    let output = trial.args(packages).stdin(Stdio::null()).output().expect("the trial");
    let said = String::from_utf8_lossy(&output.stdout);
    if output.status.code() == Some(NO_COPY) {
        not_tried(Missing::Mounts);
        return;
    }
    let complained = String::from_utf8_lossy(&output.stderr);
    assert_eq!(said.lines().last(), Some("installed, run, upgraded, removed"), "{said}\n{complained}");
    assert!(output.status.success());
}
