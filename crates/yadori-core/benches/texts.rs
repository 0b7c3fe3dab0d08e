//! Made-up texts for measuring: short ones of common words, with some that stand in one text only.

const WORDS: [&str; 64] = [
    "the",
    "of",
    "and",
    "lamp",
    "cue",
    "fox",
    "moon",
    "owl",
    "stage",
    "door",
    "load",
    "van",
    "gel",
    "blue",
    "amber",
    "screen",
    "shadow",
    "lantern",
    "seat",
    "row",
    "ferry",
    "poster",
    "print",
    "ticket",
    "venue",
    "contact",
    "reply",
    "school",
    "fee",
    "date",
    "week",
    "morning",
    "evening",
    "Friday",
    "Saturday",
    "November",
    "rehearsal",
    "script",
    "scene",
    "puppet",
    "string",
    "wing",
    "tool",
    "bag",
    "cable",
    "power",
    "dimmer",
    "sound",
    "desk",
    "cricket",
    "wind",
    "bell",
    "count",
    "fade",
    "snap",
    "focus",
    "special",
    "wash",
    "preset",
    "house",
    "half",
    "strike",
    "theatre",
    "Грим",
];

/// Text number `n`: about 180 bytes. Always the same for a number.
pub fn text(n: u64) -> String {
    let mut state = n.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1;
    let mut next = || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state
    };
    let mut text = String::new();
    for _ in 0..18 + next() % 18 {
        // Small numbers come more often, as common words do.
        let place = (next() % 64 * (next() % 64)) / 64;
        text.push_str(WORDS[place as usize]);
        text.push(' ');
    }
    text.push_str(&format!("ref{n} {:x}", next() & 0xffff_ffff));
    text
}

/// Queries of one, three and eight characters, rare and common, for texts up to number `last`.
pub fn queries(last: u64) -> Vec<(&'static str, String)> {
    let rare = text(last / 3);
    let hex = rare.rsplit(' ').next().unwrap_or_default().to_owned();
    vec![
        ("1 character, common", "o".into()),
        ("1 character, rare", "я".into()),
        ("3 characters, common", "the".into()),
        ("3 characters, rare", hex.chars().take(3).collect()),
        ("8 characters, common", "saturday".into()),
        ("8 characters, rare", hex),
        ("two words", "lantern focus".into()),
        ("several in one, in no text", "load-in".into()),
        ("misspelled", "latnern".into()),
    ]
}
