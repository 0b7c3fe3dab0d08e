//! A client that another program makes of the description of the interface. (The console is one in TypeScript; this one is in
//! Python.)

use std::path::{Path, PathBuf};
use std::process::Command;
use yadori_e2e::home::Home;
use yadori_e2e::process::built;
use yadori_e2e::service::Service;

/// Where `script/setup --clients` puts what makes clients: beside the builds.
fn generators() -> PathBuf {
    let beside =
        built("yadorid").ancestors().map(|folder| folder.join("generators/bin")).find(|folder| folder.is_dir());
    beside.expect("what makes clients is not installed; run: script/setup --clients")
}

#[test]
fn a_client_in_python_is_generated_and_used() {
    let home = Home::new();
    let service = Service::simulated(&home);
    let root = Path::new(env!("CARGO_MANIFEST_DIR"));
    let description = home.path().join("openapi.json");
    std::fs::write(&description, service.get("/openapi.json").body).unwrap();
    let client = home.path().join("client");
    let mut generate = Command::new(generators().join("openapi-python-client"));
    generate.env_clear().env("PATH", format!("{}:/usr/bin:/bin", generators().display())).env("LC_ALL", "C.UTF-8");
    generate.args(["generate", "--meta", "none", "--path"]).arg(&description);
    generate.arg("--config").arg(root.join("../../script/generators/python.yaml"));
    let made = generate.arg("--output-path").arg(client.join("yadori_client")).output().expect("the generator");
    let said = String::from_utf8_lossy(&made.stdout);
    assert!(made.status.success(), "{said}{}", String::from_utf8_lossy(&made.stderr));
    // Only types that it has no use for may be left out; no operation is.
    let left_out: Vec<&str> = said.lines().filter(|line| line.contains("will not be generated")).collect();
    assert!(left_out.is_empty(), "{said}");

    let bearer = service.bearer();
    let (address, token) = (service.address(), bearer.trim_start_matches("Bearer "));
    let mut used = Command::new(generators().join("python"));
    used.env_clear().env("LC_ALL", "C.UTF-8").env("PYTHONDONTWRITEBYTECODE", "1");
    let used = used.arg(root.join("tests/e2e/generated.py")).arg(&client).args([&address, token]).output().unwrap();
    let told = format!("{}{}", String::from_utf8_lossy(&used.stdout), String::from_utf8_lossy(&used.stderr));
    assert!(used.status.success() && told.contains("done"), "{told}");
}
