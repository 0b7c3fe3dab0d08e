//! Searching the index, beside one linear scan of the same text; and reading it from a snapshot, beside copying its bytes.
#![allow(missing_docs, reason = "Criterion makes functions that cannot be documented")]

mod texts;

use criterion::{BenchmarkId, Criterion, criterion_group, criterion_main};
use jiff::tz::TimeZone;
use std::hint::black_box;
use yadori_core::search::fold::fold;
use yadori_core::search::{Entry, Filling, Index, Query, When};
use yadori_core::{ClipId, Kind, MillisSinceEpoch, Stamp};

const CLIPS: u64 = 100_000;
const MANY: u64 = 1_000_000;

/// An index of so many texts, each of which is passed on.
fn filled(clips: u64, mut each: impl FnMut(&str)) -> Index {
    let mut filling = Filling::default();
    for n in 1..=clips {
        let text = texts::text(n);
        each(&text);
        let entry = Entry {
            number: n,
            copied: Stamp::from_bits(n << 16),
            uses: 1,
            text: &text,
            device: "workshop",
            ..Entry::default()
        };
        filling.put(ClipId::of(Kind::Text, text.as_bytes()), Kind::Text, &entry);
    }
    filling.finish()
}

fn search(criterion: &mut Criterion) {
    search_of(criterion, CLIPS, "search of 100,000 clips");
    search_of(criterion, MANY, "search of 1,000,000 clips");
}

fn search_of(criterion: &mut Criterion, clips: u64, name: &str) {
    let mut arena = String::new();
    let index = filled(clips, |text| {
        arena.push_str(&fold(text));
        arena.push('\n');
    });
    let when = When { now: MillisSinceEpoch(0), zone: TimeZone::UTC };
    let mut group = criterion.benchmark_group(name);
    for (name, query) in texts::queries(clips) {
        group.bench_function(BenchmarkId::new("index", name), |bencher| {
            bencher.iter(|| black_box(index.search(&Query::parse(&query, &when).unwrap(), None, 50)));
        });
        let folded = fold(&query);
        group.bench_function(BenchmarkId::new("linear scan", name), |bencher| {
            bencher.iter(|| black_box(memchr::memmem::find_iter(arena.as_bytes(), folded.as_bytes()).count()));
        });
    }
    group.finish();
}

/// What a start reads, without what opens the sealed file.
fn snapshot(criterion: &mut Criterion) {
    let index = filled(MANY, |_| {});
    let mut bytes = Vec::new();
    index.write_snapshot(&mut bytes).unwrap();
    drop(index);
    let mut group = criterion.benchmark_group("snapshot of 1,000,000 clips");
    group.sample_size(10);
    group.bench_function("reading", |bencher| {
        bencher.iter(|| black_box(Index::read_snapshot(&mut bytes.as_slice()).unwrap()));
    });
    group.bench_function("copying its bytes", |bencher| bencher.iter(|| black_box(bytes.clone())));
    group.finish();
}

fn placing(criterion: &mut Criterion) {
    let mut index = Index::default();
    for n in 1..=CLIPS {
        let entry =
            Entry { number: n, copied: Stamp::from_bits(n << 16), text: "x", device: "workshop", ..Entry::default() };
        index.put(ClipId::of(Kind::Text, &n.to_le_bytes()), Kind::Text, &entry);
    }
    criterion.bench_function("first page of 100,000 clips", |bencher| bencher.iter(|| black_box(index.page(None, 50))));
    let middle = ClipId::of(Kind::Text, &(CLIPS / 2).to_le_bytes());
    criterion
        .bench_function("position among 100,000 clips", |bencher| bencher.iter(|| black_box(index.position(middle))));
}

criterion_group! {
    name = benches;
    config = Criterion::default().sample_size(20);
    targets = search, snapshot, placing
}
criterion_main!(benches);
