//! Writes what the fuzzer begins with into a folder for each target: `seeds FOLDER`.

#[path = "../../../crates/yadori-link/tests/decoders/bodies.rs"]
#[allow(dead_code)]
mod bodies;
#[path = "../../../crates/yadori-link/tests/decoders/seeds.rs"]
mod seeds;

fn main() -> std::io::Result<()> {
    let folder = std::path::PathBuf::from(std::env::args_os().nth(1).expect("a folder"));
    for (target, seeds) in [
        ("frames", seeds::frames()),
        ("letters", seeds::letters()),
        ("deliveries", seeds::deliveries()),
        ("exchange", seeds::exchanges()),
        ("pairing", seeds::pairings()),
    ] {
        std::fs::create_dir_all(folder.join(target))?;
        for (number, seed) in seeds.iter().enumerate() {
            std::fs::write(folder.join(target).join(format!("seed-{number}")), seed)?;
        }
    }
    Ok(())
}
