//! The Debian package: made of these programs, installed, run, upgraded and removed on a copy of this system.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use yadori_e2e::home::Home;
use yadori_e2e::missing::{Missing, not_tried};
use yadori_e2e::process::built;

/// The exit status by which the script says that no copy of the system can be made here.
const NO_COPY: i32 = 77;

/// The package as this version.
fn package(tree: &Path, folder: &Path, version: &str) -> PathBuf {
    let mut command = Command::new(tree.join("script/package"));
    command.args(["--debug", "--version", version, "--into"]).arg(folder).stdin(Stdio::null());
    // The folder above that of the profile.
    command.env("CARGO_TARGET_DIR", built("yadori").ancestors().nth(2).unwrap());
    let output = command.output().expect("script/package");
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    PathBuf::from(String::from_utf8(output.stdout).unwrap().trim())
}

#[test]
fn the_package_is_installed_run_upgraded_and_removed() {
    let tree = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let home = Home::new();
    let packages = [package(&tree, home.path(), "0.0.1"), package(&tree, home.path(), "0.0.2")];
    let mut trial = Command::new(tree.join("script/package.d/try"));
    let output = trial.args(&packages).stdin(Stdio::null()).output().expect("the trial");
    let said = String::from_utf8_lossy(&output.stdout);
    if output.status.code() == Some(NO_COPY) {
        not_tried(Missing::Mounts);
        return;
    }
    let complained = String::from_utf8_lossy(&output.stderr);
    assert_eq!(said.lines().last(), Some("installed, run, upgraded, removed"), "{said}\n{complained}");
    assert!(output.status.success());
}
