//! An archive of all clips, put out and taken in.

use super::bare::{bare_putting_out, bare_taking_in};
use super::{Report, fill, resident_mib, time};
use yadori_e2e::home::Home;
use yadori_e2e::service::{Service, command};

/// Moving ten thousand clips with two hundred pictures out and in, beside copying a file of as many bytes.
pub fn moves(report: &mut Report, runtime: &tokio::runtime::Runtime) {
    const CLIPS: u64 = 9_800;
    const PICTURES: u32 = 200;
    let (home, new) = (Home::new(), Home::new());
    runtime.block_on(fill(&home.path().join("data/database"), CLIPS));
    let service = Service::start(home.path(), command(home.path(), "simulated", None));
    let posters: Vec<Vec<u8>> = (0..PICTURES).map(|n| yadori_e2e::sample::poster(&format!("poster {n}"))).collect();
    for poster in &posters {
        let headers = [("authorization", service.bearer()), ("content-type", "image/png".to_owned())];
        let headers: Vec<(&str, &str)> = headers.iter().map(|(name, value)| (*name, value.as_str())).collect();
        assert!(service.request("POST", "/clips", &headers, poster).status < 300);
    }
    let archive = home.path().join("all.zip");
    let name = archive.to_str().expect("a path").to_owned();
    let out = time(|| service.run(&["export", &name])).as_secs_f64();
    let plain = time(|| {
        std::fs::copy(&archive, home.path().join("copy.zip")).expect("a copy");
        std::fs::File::open(home.path().join("copy.zip")).and_then(|file| file.sync_all()).expect("a copy");
    })
    .as_secs_f64();
    let other = Service::start(new.path(), command(new.path(), "simulated", None));
    other.run(&["rules", "set", "count", "off"]);
    let into = time(|| other.run(&["import", &name])).as_secs_f64();
    let bare = bare_taking_in(runtime, CLIPS, 500, &posters);
    let all = (CLIPS + u64::from(PICTURES)) as f64;
    assert_eq!(other.status().count as f64, all);
    let limit = Some(("copying the file", plain * 1000.0));
    report.add("export of 10,000 clips with 200 pictures", out * 1000.0, "ms", limit, Some(400.0), false);
    drop(service);
    let bare_out = bare_putting_out(runtime, &home, &archive).as_secs_f64() * 1000.0;
    let limit = Some(("bare programs that read its rows and pack the same", bare_out));
    report.add("the same, beside reading and packing", out * 1000.0, "ms", limit, None, true);
    report.add("the same: rate", all / out, "clips/s", None, None, false);
    let limit = Some(("bare programs that insert its rows and decode its pictures", bare.as_secs_f64() * 1000.0));
    report.add("import of 10,000 clips with 200 pictures", into * 1000.0, "ms", limit, Some(2_000.0), false);
    report.add("the same: rate", all / into, "clips/s", None, None, false);
    report.add("memory of the service after the import", resident_mib(other.pid()), "MiB", None, None, false);
}
