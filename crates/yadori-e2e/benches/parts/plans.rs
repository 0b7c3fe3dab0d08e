//! What the rules of retention let go.

use super::{Report, quantile, time};
use std::time::Duration;
use yadori_core::amounts::DAY;
use yadori_core::retention::{Candidate, Limits, RetentionRules, Scope, plan};
use yadori_core::{Kind, MillisSinceEpoch, Stamp};

/// Deciding what goes of a million clips, beside sorting them.
pub fn plans(report: &mut Report) {
    const CLIPS: u64 = 1_000_000;
    let now = MillisSinceEpoch(1_795_424_400_000);
    let clip = |n: u64| Candidate {
        number: n,
        touched: Stamp::at_start_of(now.minus((n.wrapping_mul(2_654_435_761) % CLIPS) * 20_000)),
        kind: Kind::ALL[(n % 4) as usize],
        application: if n.is_multiple_of(3) { "writer" } else { "mail" },
        size: n % 5_000,
        sensitive: n.is_multiple_of(1_000),
        kept: n.is_multiple_of(50),
    };
    let clips: Vec<Candidate> = (0..CLIPS).map(clip).collect();
    let limits = Limits { count: Some(200_000), age_millis: Some(100 * DAY), bytes: Some(1 << 28) };
    let rules = RetentionRules {
        all: Limits { count: Some(500_000), ..limits },
        scopes: vec![(Scope::Kind(Kind::Image), limits), (Scope::Application("Writer".into()), limits)],
        ..RetentionRules::default()
    };
    let mut ours: Vec<Duration> = (0..5).map(|_| time(|| plan(&clips, &rules, now))).collect();
    let mut sorts: Vec<Duration> = (0..5)
        .map(|_| {
            let mut keys: Vec<(Stamp, u64)> = clips.iter().map(|clip| (clip.touched, clip.number)).collect();
            time(|| keys.sort_unstable())
        })
        .collect();
    report.add(
        "planning a sweep of 1,000,000 clips, p50",
        quantile(&mut ours, 0.5),
        "ms",
        Some(("sorting them", quantile(&mut sorts, 0.5))),
        Some(1_000.0),
        false,
    );
}
