//! Searching the index, beside one linear scan of the same text.
#![allow(missing_docs, reason = "Criterion makes functions that cannot be documented")]

mod texts;

use criterion::{BenchmarkId, Criterion, criterion_group, criterion_main};
use jiff::tz::TimeZone;
use std::hint::black_box;
use yadori_core::search::fold::fold;
use yadori_core::search::{Entry, Filling, Index, Query, When};
use yadori_core::{ClipId, Kind, MillisSinceEpoch, Stamp};

const CLIPS: u64 = 100_000;

fn search(criterion: &mut Criterion) {
    let mut arena = String::new();
    let mut filling = Filling::default();
    for n in 1..=CLIPS {
        let text = texts::text(n);
        arena.push_str(&fold(&text));
        arena.push('\n');
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
    let index = filling.finish();
    let when = When { now: MillisSinceEpoch(0), zone: TimeZone::UTC };
    let mut group = criterion.benchmark_group("search of 100,000 clips");
    for (name, query) in texts::queries(CLIPS) {
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
    targets = search, placing
}
criterion_main!(benches);
