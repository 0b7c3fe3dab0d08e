//! Adds the sample history to a running service: `sample-history HOME HISTORY`.

use std::path::Path;
use std::process::ExitCode;
use yadori_api::{BASE, Reach};
use yadori_e2e::sample::Sample;

fn main() -> ExitCode {
    match std::env::args().collect::<Vec<_>>().as_slice() {
        [_, home, history] => match add(Path::new(home), Path::new(history)) {
            Ok(clips) => {
                println!("{clips}");
                ExitCode::SUCCESS
            }
            Err(error) => {
                eprintln!("sample-history: {error}");
                ExitCode::FAILURE
            }
        },
        _ => {
            eprintln!("usage: sample-history HOME HISTORY");
            ExitCode::from(2)
        }
    }
}

fn add(home: &Path, history: &Path) -> Result<usize, Box<dyn std::error::Error>> {
    let reach: Reach = serde_json::from_slice(&std::fs::read(home.join("run/api.json"))?)?;
    let samples = Sample::read_all(&std::fs::read_to_string(history)?)?;
    let now = jiff::Timestamp::now();
    let mut drawers: Vec<&str> = Vec::new();
    for sample in &samples {
        if let Some(drawer) = sample.drawer.as_deref().filter(|drawer| !drawers.contains(drawer)) {
            drawers.push(drawer);
            ureq::post(format!("http://{}{BASE}/drawers", reach.address))
                .header("authorization", format!("Bearer {}", reach.token))
                .send_json(serde_json::json!({ "name": drawer }))?;
        }
        let (attributes, mime, content) = sample.to_add(now);
        let mut request = ureq::post(format!("http://{}{BASE}/clips", reach.address))
            .header("authorization", format!("Bearer {}", reach.token))
            .content_type(mime);
        let yes = |is: bool| is.then(|| "true".to_owned());
        let pairs = [
            ("title", attributes.title),
            ("copied_at", attributes.copied_at.map(|at| at.to_string())),
            ("application", attributes.application),
            ("window", attributes.window),
            ("drawer", attributes.drawer),
            ("alias", attributes.alias),
            ("mark", attributes.mark.map(|mark| mark.word().to_owned())),
            ("pin", yes(attributes.pin)),
            ("fill", yes(attributes.fill)),
        ];
        for (name, value) in pairs {
            if let Some(value) = value {
                request = request.query(name, value);
            }
        }
        request.send(&content[..])?;
    }
    Ok(samples.len())
}
