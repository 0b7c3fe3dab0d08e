//! What the rules would let go.

use super::Retention;
use crate::clock::now;
use yadori_core::ClipId;
use yadori_core::retention::{self, Rule};
use yadori_core::rules::Rules;

/// A clip that the rules let go.
pub(crate) struct Going {
    pub id: ClipId,
    pub number: u64,
    pub size: u64,
    pub rule: Rule,
}

/// What a sweep would do now.
pub(crate) struct SweepPlan {
    pub going: Vec<Going>,
    pub next: Option<yadori_core::MillisSinceEpoch>,
    pub considered: usize,
    pub kept: usize,
}

impl Retention {
    /// What the rules would let go now.
    pub(crate) async fn plan_sweep(&self, rules: &Rules) -> SweepPlan {
        let waiting = self.history.waiting_in_tray().await;
        let index = self.history.ledger.read().await;
        let (ids, candidates): (Vec<ClipId>, Vec<_>) = index
            .candidates()
            .into_iter()
            .map(|(id, clip)| (id, retention::Candidate { kept: clip.kept || waiting.contains(&id), ..clip }))
            .unzip();
        let plan = retention::plan(&candidates, &rules.retention, now());
        let kept = candidates.len() - plan.considered;
        let going = plan.going.into_iter().map(|(place, rule)| {
            let clip = &candidates[place];
            Going { id: ids[place], number: clip.number, size: clip.size, rule }
        });
        SweepPlan { going: going.collect(), next: plan.next, considered: plan.considered, kept }
    }
}
