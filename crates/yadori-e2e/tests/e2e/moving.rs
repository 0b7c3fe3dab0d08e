//! Export and import: moving house, and archives that mean harm.

use serde_json::{Value, json};
use std::io::Write;
use std::path::{Path, PathBuf};
use yadori_api::{ImportProgress, ImportReport};
use yadori_e2e::home::Home;
use yadori_e2e::sample::poster;
use yadori_e2e::service::{Answer, Service};
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, ZipWriter};

fn post(service: &Service, mime: &str, content: &[u8]) -> Answer {
    service.request("POST", "/clips", &[("authorization", &service.bearer()), ("content-type", mime)], content)
}

fn export(service: &Service, path: &Path, more: &[&str]) {
    service.run(&[&["export", path.to_str().unwrap()], more].concat());
}

fn import(service: &Service, path: &Path) -> ImportReport {
    let progress: ImportProgress =
        serde_json::from_str(&service.run(&["import", path.to_str().unwrap(), "--json"])).unwrap();
    progress.report.unwrap()
}

#[test]
fn an_archive_that_is_a_trap_is_given_up_at_once() {
    let home = Home::new();
    let service = Service::simulated(&home);
    let folder = tempfile::tempdir().unwrap();
    let trap = folder.path().join("trap.zip");
    // Half a GiB of line ends, in half a MiB.
    let mut zip = zip::ZipWriter::new(std::fs::File::create(&trap).unwrap());
    zip.start_file("clips.ndjson", zip::write::SimpleFileOptions::default()).unwrap();
    use std::io::Write;
    zip.write_all(b"{\"yadori\":{\"version\":1,\"device\":\"x\",\"exported_at\":\"2026-11-26T10:00:00Z\"}}\n").unwrap();
    for _ in 0..512 {
        zip.write_all(&vec![b'\n'; 1 << 20]).unwrap();
    }
    zip.finish().unwrap();
    let (code, said) = service.fail(&["import", trap.to_str().unwrap()]);
    assert!(code == 1 && said.contains("too many"), "{said}");
    std::fs::write(&trap, b"a letter, and no archive").unwrap();
    let (code, said) = service.fail(&["import", trap.to_str().unwrap()]);
    assert!(code == 1 && said.contains("no zip file") && !said.contains("EOCD"), "{said}");
    service.run(&["add", "all is well"]);
    assert!(service.end().0);
}

#[test]
fn everything_moves_to_another_house_and_nothing_arrives_twice() {
    let (old, new, away) = (Home::new(), Home::new(), Home::new());
    let service = Service::simulated(&old);
    for number in 0..120 {
        assert!(post(&service, "text/plain", format!("clip {number} with a NUL-free text\n").as_bytes()).status < 300);
    }
    assert!(post(&service, "image/png", &poster("fox")).status < 300);
    assert!(post(&service, "text/html", b"<b>bold</b>").status < 300);
    assert!(post(&service, "text/plain", "long ".repeat(60_000).as_bytes()).status < 300);
    service.run(&["add", "--path", "/etc/hosts"]);
    service.run(&["add", "password: not-for-the-road-1"]);
    service.run(&["drawer", "new", "Venues"]);
    service.run(&["drawer", "put", "venues", "20", "30", "25"]);
    service.run(&["drawer", "heading", "venues", "North", "--at", "2"]);
    service.run(&["pin", "40", "10"]);
    service.run(&["alias", "set", "sig", "p2"]);
    service.run(&["title", "p1", "First"]);
    service.run(&["mark", "p1", "plum"]);
    let archive = away.path().join("all.zip");
    export(&service, &archive, &[]);
    assert_eq!(service.fail(&["export", archive.to_str().unwrap()]).0, 1, "nothing is written over unasked");
    let before: Value = serde_json::from_str(&service.run(&["list", "-n", "200", "--json"])).unwrap();

    let other = Service::simulated(&new);
    let report = import(&other, &archive);
    assert_eq!((report.added, report.skipped, report.unused), (124, 0, 0), "{report:?}");
    let after: Value = serde_json::from_str(&other.run(&["list", "-n", "200", "--json"])).unwrap();
    // Everything but the secret, and but what belongs to this house.
    let told = |list: &Value| -> Vec<Value> {
        let strip = |clip: &Value| {
            let mut clip = clip.clone();
            for own in ["expires_at", "position"] {
                clip.as_object_mut().unwrap().remove(own);
            }
            clip
        };
        let clips = list.as_array().unwrap().iter().filter(|clip| clip["sensitive"].is_null());
        let mut clips: Vec<Value> = clips.map(strip).collect();
        clips.sort_by_key(|clip| clip["id"].to_string());
        clips
    };
    assert_eq!(told(&after), told(&before));
    assert_eq!(other.run(&["drawer", "list", "venues", "--json"]).matches("\"place\"").count(), 4);
    assert_eq!(other.clips(&["list", "--pinned"])[0].title.as_deref(), Some("First"));
    let again = import(&other, &archive);
    assert_eq!((again.added, again.known), (0, 124));
    assert_eq!(other.clips(&["list"])[0].copies, 1, "to be there already is not to be copied again");
    other.run(&["delete", ":sig", "--yes"]);
    assert_eq!(import(&other, &archive).restored, 1);

    export(&service, &away.path().join("links.csv"), &["--find", "kind:files"]);
    let table = std::fs::read_to_string(away.path().join("links.csv")).unwrap();
    assert!(table.lines().count() == 2 && table.contains("/etc/hosts"), "{table}");
    export(&service, &away.path().join("two.txt"), &["p1", "p2"]);
    assert_eq!(
        std::fs::read_to_string(away.path().join("two.txt"))
            .unwrap()
            .lines()
            .filter(|line| line.starts_with("clip"))
            .count(),
        2
    );
    export(&service, &away.path().join("venues.html"), &["--drawer", "venues"]);
    assert_eq!(std::fs::read_to_string(away.path().join("venues.html")).unwrap().matches("<article>").count(), 3);
    assert_eq!(service.fail(&["export", "-", "--drawer", "none"]).0, 1);
}

struct Archive(ZipWriter<std::fs::File>);

impl Archive {
    fn begin(path: &PathBuf, lines: &[Value]) -> Self {
        let mut zip = ZipWriter::new(std::fs::File::create(path).unwrap());
        zip.start_file("clips.ndjson", SimpleFileOptions::default().compression_method(CompressionMethod::Deflated))
            .unwrap();
        writeln!(
            zip,
            "{}",
            json!({ "yadori": { "version": 1, "device": "x", "exported_at": "2026-11-01T00:00:00Z" } })
        )
        .unwrap();
        lines.iter().for_each(|line| writeln!(zip, "{line}").unwrap());
        Self(zip)
    }

    fn file(mut self, name: &str, content: &[u8]) -> Self {
        self.0.start_file(name, SimpleFileOptions::default().compression_method(CompressionMethod::Deflated)).unwrap();
        self.0.write_all(content).unwrap();
        self
    }

    fn end(self) {
        self.0.finish().unwrap();
    }
}

fn hash(content: &[u8]) -> String {
    blake3::hash(content).to_hex().to_string()
}

fn clip(id: &str, formats: &[Value]) -> Value {
    json!({ "clip": { "id": id, "kind": "text", "formats": formats, "copied_at": "2026-11-01T00:00:00Z" } })
}

fn id_of(text: &str) -> String {
    yadori_core::ClipId::of(yadori_core::Kind::Text, text.as_bytes()).to_string()
}

#[test]
fn an_archive_that_means_harm_does_none() {
    let (home, away) = (Home::new(), Home::new());
    let service = Service::simulated(&home);
    let inline =
        |text: &str| json!({ "mime": "text/plain", "size": text.len(), "hash": hash(text.as_bytes()), "text": text });
    let apart = |content: &[u8], size: usize| json!({ "mime": "text/plain", "size": size, "hash": hash(content) });
    let bomb = vec![b'0'; 20 << 20];
    let path = away.path().join("harm.zip");
    Archive::begin(
        &path,
        &[
            clip(&id_of("good"), &[inline("good")]),
            clip(&id_of("good"), &[inline("another text than the id says")]),
            clip(&id_of("other"), &[inline("not what the id says")]),
            clip("no id", &[inline("x")]),
            clip(&id_of("lie"), &[json!({ "mime": "text/plain", "size": 3, "hash": hash(b"truth"), "text": "lie" })]),
            clip(&id_of("size"), &[apart(b"longer than it says", 3)]),
            clip(&id_of("missing"), &[apart(b"nowhere", 7)]),
            clip(&id_of("bomb"), &[apart(&bomb, bomb.len())]),
            clip(
                &id_of("huge"),
                &[json!({ "mime": "text/plain", "size": u64::MAX, "hash": hash(b"huge"), "text": "huge" })],
            ),
            clip(&id_of("up"), &[json!({ "mime": "text/plain", "size": 1, "hash": "../../../../etc/passwd" })]),
            json!({ "clip": 3 }),
            json!({ "pins": ["nobody", id_of("good")] }),
            json!({ "drawer": { "name": "x".repeat(5000), "items": [{ "clip": id_of("good") }] } }),
        ],
    )
    .file(&format!("content/{}", hash(b"longer than it says")), b"longer than it says")
    .file(&format!("content/{}", hash(&bomb)), &bomb)
    .file("../../escaped.txt", b"outside")
    .file("/etc/yadori-was-here", b"outside")
    .end();
    let output = service.run_with(&["import", path.to_str().unwrap()], &[]);
    let said = String::from_utf8_lossy(&output.stderr);
    assert!(output.status.success(), "{said}");
    assert_eq!(
        String::from_utf8_lossy(&output.stdout),
        "Imported 1 clip; already here: 1, restored from the bin: 0, left out: 10\n",
        "{said}"
    );
    for reason in [
        "is missing",
        "looks like a trap",
        "its id is not one",
        "not of the size",
        "not have the hash",
        "larger than the limit",
        "the hash of a content",
        "belong to no clip",
        "drawer",
    ] {
        assert!(said.contains(reason), "{reason} is not told in:\n{said}");
    }
    assert_eq!(service.clips(&["list", "--pinned"])[0].preview, "good");
    assert!(!Path::new("/etc/yadori-was-here").exists() && !away.path().parent().unwrap().join("escaped.txt").exists());
    assert!(service.peak_memory_kib() < 400_000);

    std::fs::write(&path, "not a zip").unwrap();
    let (code, said) = service.fail(&["import", path.to_str().unwrap()]);
    assert!(code == 1 && said.contains("not an archive"), "{said}");
    let mut foreign = ZipWriter::new(std::fs::File::create(&path).unwrap());
    foreign.start_file("a.txt", SimpleFileOptions::default().compression_method(CompressionMethod::Stored)).unwrap();
    foreign.finish().unwrap();
    assert!(service.fail(&["import", path.to_str().unwrap()]).1.contains("not exported by Yadori"));
    Archive::begin(
        &path,
        &[json!({ "yadori": { "version": 99, "device": "x", "exported_at": "2026-11-01T00:00:00Z" } })],
    )
    .end();
    assert!(service.fail(&["import", path.to_str().unwrap()]).1.contains("update"));
}

#[test]
fn what_stands_before_the_place_where_a_list_breaks_off_is_imported_pages_too() {
    let (home, away) = (Home::new(), Home::new());
    let service = Service::simulated(&home);
    let inline = |mime: &str, text: &str| json!({ "mime": mime, "size": text.len(), "hash": hash(text.as_bytes()), "text": text });
    let text = |nth: usize| clip(&id_of(&format!("cue {nth}")), &[inline("text/plain", &format!("cue {nth}"))]);
    // A page is read in the cage, which has no room for so many at a time.
    let page = |nth: usize| {
        let (words, markup) = (format!("page {nth}"), format!("<b>page</b> {nth}"));
        clip(&id_of(&words), &[inline("text/plain", &words), inline("text/html", &markup)])
    };
    let mut lines: Vec<Value> = (0..600).flat_map(|nth| [page(nth), text(nth)]).collect();
    lines.push(page(599));
    lines.extend((0..10_002).map(|_| json!({ "clip": 3 })));
    let path = away.path().join("broken.zip");
    Archive::begin(&path, &lines).end();
    service.run(&["rules", "set", "count", "off"]);
    let (code, said) = service.fail(&["import", path.to_str().unwrap()]);
    assert!(code == 1 && said.contains("too many of its lines are wrong"), "{said}");
    assert_eq!(service.status().count, 1200);
    let last = &service.clips(&["find", "page 599"])[0];
    let detail: Value = service.get(&format!("/clips/{}", last.id)).json();
    assert_eq!(detail["formats"].as_array().unwrap().len(), 2, "{detail}");
}
