use super::super::query::When;
use super::*;
use jiff::tz::TimeZone;
use proptest::prelude::*;
use std::collections::{BTreeMap, BTreeSet};

fn id(n: u64) -> ClipId {
    ClipId::of(Kind::Text, &n.to_le_bytes())
}

fn entry(n: u64, text: &str) -> Entry<'_> {
    Entry {
        number: n,
        copied: Stamp::from_bits(n << 16),
        uses: 1,
        size: text.len() as u64,
        text,
        device: "workshop",
        ..Entry::default()
    }
}

fn index(texts: &[&str]) -> Index {
    let mut index = Index::default();
    for (n, text) in (1..).zip(texts) {
        index.put(id(n), Kind::Text, &entry(n, text));
    }
    index
}

fn query(text: &str) -> Query {
    Query::parse(text, &When { now: MillisSinceEpoch(1_000_000), zone: TimeZone::UTC }).unwrap()
}

fn found(index: &Index, text: &str) -> Vec<u64> {
    index.search(&query(text), None, 50).0.into_iter().map(|hit| hit.number).collect()
}

#[test]
fn better_matches_come_first_and_newer_ones_among_equals() {
    let index = index(&["lamp", "clamp", "lamps", "limp", "the lamp", "lump sum"]);
    assert_eq!(found(&index, "lamp"), [5, 1, 3, 2, 6, 4]);
}

#[test]
fn words_may_come_in_any_order_but_phrases_not() {
    let index = index(&["cue seven: lamp four", "lamp seven, cue four"]);
    assert_eq!(found(&index, "four lamp"), [2, 1]);
    assert_eq!(found(&index, "\"lamp four\""), [1]);
    assert_eq!(found(&index, "lamp -\"cue four\""), [1]);
    assert_eq!(found(&index, "-lamp"), [0; 0]);
}

#[test]
fn japanese_cyrillic_emoji_and_the_inside_of_long_tokens_are_found() {
    let index = index(&["今夜の舞台照明", "Афиша: Ёлка и медведь", "break a leg 🎭!", "x9kestrelLane77zz_draftFinal"]);
    assert_eq!(found(&index, "舞台"), [1]);
    assert_eq!(found(&index, "台舞"), [0; 0]);
    assert_eq!(found(&index, "елка"), [2]);
    assert_eq!(found(&index, "🎭"), [3]);
    assert_eq!(found(&index, "lane77"), [4]);
    assert_eq!(found(&index, "DRAFT"), [4]);
}

#[test]
fn addresses_and_punctuation_are_found_as_they_stand() {
    let index = index(&["https://example.org/booking/17", "example of organ", "a -> b"]);
    assert_eq!(found(&index, "example.org"), [1]);
    assert_eq!(found(&index, "org/book"), [1]);
    assert_eq!(found(&index, "->"), [3]);
}

#[test]
fn what_has_several_words_in_one_is_met_as_well_as_its_ends_are() {
    let mut texts =
        vec!["preload-in", "load-inside", "preload-in, load-in", "load in", "load-in", "load-in!", "reload-inn"];
    let best_first = [6, 5, 3, 2, 7, 1];
    assert_eq!(found(&index(&texts), "load-in"), best_first);
    // Of few among many, each is looked into by itself.
    texts.extend(["the lamps are focused"; 200]);
    assert_eq!(found(&index(&texts), "load-in"), best_first);
    assert_eq!(found(&index(&texts), "load-in -inside"), [6, 5, 3, 7, 1]);
}

#[test]
fn misspelled_words_are_forgiven_last() {
    let index = index(&["venue contacts", "revenue", "value"]);
    assert_eq!(found(&index, "vneue"), [1]);
    assert_eq!(found(&index, "venue"), [1, 2]);
    assert_eq!(found(&index, "contcats"), [1]);
}

#[test]
fn filters_narrow_and_title_page_and_application_are_searched() {
    let mut index = index(&["one", "two"]);
    let picture = Entry {
        title: Some("Poster draft"),
        page: Some("https://example.org/gallery"),
        application: Some("Painter"),
        size: 5_000_000,
        ..entry(3, "")
    };
    index.put(id(3), Kind::Image, &picture);
    for text in [
        "poster",
        "gallery",
        "painter",
        "kind:image",
        "app:paint",
        "larger:2MB",
        "-kind:text",
        "kind:image draft",
        "device:work draft",
    ] {
        assert_eq!(found(&index, text), [3], "{text}");
    }
    assert_eq!(found(&index, "is:sensitive"), [0; 0]);
    assert_eq!(found(&index, ""), [3, 2, 1]);
}

#[test]
fn often_used_clips_outrank_slightly_newer_ones() {
    let mut index = Index::default();
    let day = 86_400_000u64;
    let at = |days: u64| Stamp::at_start_of(MillisSinceEpoch(days * day));
    index.put(id(1), Kind::Text, &Entry { copied: at(10), uses: 16, ..entry(1, "reply to venue") });
    index.put(id(2), Kind::Text, &Entry { copied: at(12), ..entry(2, "venue plan") });
    index.put(id(3), Kind::Text, &Entry { copied: at(40), ..entry(3, "venue list") });
    assert_eq!(found(&index, "venue"), [3, 1, 2]);
}

#[test]
fn copying_again_moves_a_clip_to_the_top() {
    let mut index = index(&["a", "b", "c"]);
    index.put(id(1), Kind::Text, &Entry { copied: Stamp::from_bits(9 << 16), ..entry(1, "a") });
    assert_eq!((index.position(id(1)), index.at(2), index.at(4), index.at(0)), (Some(1), Some(id(3)), None, None));
}

#[test]
fn filling_in_any_order_is_the_same_as_adding_one_by_one() {
    let texts = ["lamp", "clamp", "lamps", "cue"];
    let mut filling = Filling::default();
    for n in [3, 1, 4, 2] {
        filling.put(id(n), Kind::Text, &entry(n, texts[n as usize - 1]));
    }
    let filled = filling.finish();
    let added = index(&texts);
    assert_eq!(found(&filled, "lamp"), found(&added, "lamp"));
    assert!((1..=4).all(|n| filled.position(id(n)) == added.position(id(n))));
}

#[test]
fn pages_follow_one_another_while_new_clips_arrive() {
    let mut index = index(&["a", "b", "c", "d"]);
    let first = index.page(None, 2);
    index.put(id(9), Kind::Text, &entry(9, "new"));
    let last = first.last().unwrap();
    let second = index.page(Some((Stamp::from_bits(last.number << 16), last.id)), 2);
    assert_eq!(first.iter().chain(&second).map(|hit| hit.number).collect::<Vec<_>>(), [4, 3, 2, 1]);
}

#[test]
fn an_id_is_named_by_its_beginning() {
    let index = index(&["a", "b"]);
    let whole = id(2).to_string();
    assert_eq!(index.with_prefix(&whole[..6], 9), [id(2)]);
    assert_eq!(index.with_prefix(&whole, 9), [id(2)]);
    assert_eq!(index.with_prefix("", 9), [id(2), id(1)]);
}

#[test]
fn much_coming_and_going_leaves_no_waste_and_loses_nothing() {
    let mut index = Index::default();
    let text = "word ".repeat(200);
    for n in 1..=600 {
        index.put(id(n), Kind::Text, &entry(n, &format!("{text} number{n}")));
        if n > 10 {
            index.remove(id(n - 10));
        }
    }
    assert_eq!(found(&index, "number597"), [597]);
    assert_eq!(found(&index, "number5"), (591..=599).rev().collect::<Vec<u64>>());
    assert!(index.texts.len() < 200 * 1024, "{}", index.texts.len());
    for n in 601..=900 {
        index.put(id(n), Kind::Text, &entry(n, &text));
    }
    index.remove_all(&(592..=900).map(id).collect::<Vec<_>>());
    assert_eq!(found(&index, "word"), [591]);
    assert!(index.texts.len() < 2 * 1024, "{}", index.texts.len());
}

/// What a search must find, in the plainest words.
fn expected(clips: &BTreeMap<u64, String>, terms: &[String]) -> Vec<u64> {
    let mut numbers: Vec<u64> = clips
        .iter()
        .filter(|(_, text)| terms.iter().all(|term| fold(text).contains(term.as_str())))
        .map(|(n, _)| *n)
        .collect();
    numbers.sort_unstable();
    numbers
}

proptest! {
    #[test]
    fn searching_finds_what_reading_everything_finds(
        steps in prop::collection::vec((1u64..12, prop::option::weighted(0.8, "[ab舞é .]{0,8}")), 1..40),
        gone in prop::collection::vec(1u64..15, 0..5),
        terms in prop::collection::vec("[ab舞.]{1,3}", 1..3),
    ) {
        let mut index = Index::default();
        let mut clips = BTreeMap::new();
        for (n, text) in steps {
            match text {
                Some(text) => {
                    index.put(id(n), Kind::Text, &entry(n, &text));
                    clips.insert(n, text);
                }
                None => {
                    index.remove(id(n));
                    clips.remove(&n);
                }
            }
        }
        index.remove_all(&gone.iter().copied().map(id).collect::<Vec<_>>());
        clips.retain(|n, _| !gone.contains(n));
        prop_assert_eq!(index.len(), clips.len());
        let mut numbers = found(&index, &terms.join(" "));
        numbers.sort_unstable();
        prop_assert_eq!(numbers, expected(&clips, &terms));
        for (place, n) in clips.keys().rev().enumerate() {
            prop_assert_eq!(index.position(id(*n)), Some(place + 1));
            prop_assert_eq!(index.at(place + 1), Some(id(*n)));
        }
    }
}

/// All numbers that a search finds, page by page; between pages, something is done to the index.
fn paged(index: &mut Index, text: &str, size: usize, mut between: impl FnMut(&mut Index)) -> Vec<u64> {
    let (query, mut after, mut all) = (query(text), None, Vec::new());
    loop {
        let (hits, next) = index.search(&query, after.as_ref(), size);
        all.extend(hits.iter().map(|hit| hit.number));
        // As it goes out and comes back.
        let Some(next) = next else { return all };
        after = Some(next.to_string().parse().unwrap());
        assert_eq!(after, Some(next));
        between(index);
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    #[test]
    fn pages_show_each_clip_once_whatever_comes_and_goes(
        kinds in prop::collection::vec(0usize..5, 300..700),
        size in 1usize..90,
        seed in any::<u64>(),
    ) {
        const TEXTS: [&str; 5] = ["lamp", "lamps and owls", "a clamp", "limp owl", "owl"];
        let mut fresh = Index::default();
        for (n, kind) in (1..).zip(&kinds) {
            let entry = Entry { uses: (n as u32 * 7) % 5 + 1, ..entry(n, TEXTS[*kind]) };
            fresh.put(id(n), Kind::Text, &entry);
        }
        for text in ["lamp", "owl -lamp", "-owl", "kind:text"] {
            let whole: Vec<u64> =
                fresh.search(&query(text), None, usize::MAX).0.into_iter().map(|hit| hit.number).collect();
            prop_assert_eq!(&paged(&mut fresh, text, size, |_| {}), &whole, "{}", text);
        }
        // Copies come, and every now and then one goes.
        let (mut newest, mut dice, mut gone) = (kinds.len() as u64, seed, BTreeSet::new());
        let shown = paged(&mut fresh, "lamp", size, |index| {
            for _ in 0..3 {
                newest += 1;
                index.put(id(newest), Kind::Text, &entry(newest, TEXTS[(newest % 5) as usize]));
            }
            dice = dice.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let goes = (dice >> 33) % kinds.len() as u64 + 1;
            index.remove(id(goes));
            gone.insert(goes);
        });
        let once: BTreeSet<u64> = shown.iter().copied().collect();
        prop_assert_eq!(once.len(), shown.len(), "none is shown twice");
        for (n, kind) in (1..).zip(&kinds).filter(|(n, kind)| **kind < 4 && !gone.contains(n)) {
            prop_assert!(once.contains(&n), "{} ({}) was left out", n, TEXTS[*kind]);
        }
    }
}

#[test]
fn what_is_no_place_is_refused() {
    for text in
        ["", "0", "0.-.1.2.-.-", "9.-.1.aaaaaaaaaaaaaaaaaaaaaaaaaa.-.-", "s50", "0.x.1.aaaaaaaaaaaaaaaaaaaaaaaaaa.-.-"]
    {
        assert!(text.parse::<Place>().is_err(), "{text}");
    }
}
