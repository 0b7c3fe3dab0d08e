//! The figures on record: those of the last runs, which a new run is compared with.

use crate::report::Report;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

/// Runs that are kept.
const RUNS: usize = 5;

/// How much worse a figure may be than the worst on record before that is said, where the runs on record do not differ by
/// more: what a machine that others use differs by from one minute to the next.
const NOISE: f64 = 0.3;

/// For each figure, what it was in the last runs, the latest last: the ratio to its limit, or itself if it has none.
type Record = BTreeMap<String, Vec<f64>>;

fn file(folder: &Path) -> PathBuf {
    folder.join("benchmarks.json")
}

fn read(folder: &Path) -> Record {
    match std::fs::read(file(folder)) {
        Ok(text) => serde_json::from_slice(&text).expect("the figures on record"),
        Err(_) => Record::default(),
    }
}

/// The figures by name. Rows named “the same” belong to the one before.
fn figures(report: &Report) -> Vec<(String, f64, &'static str)> {
    let mut last = "";
    let named = report.rows.iter().map(|row| {
        let name = match row.what.strip_prefix("the same") {
            Some(rest) => format!("{last}{rest}"),
            None => {
                last = &row.what;
                row.what.clone()
            }
        };
        (name, row.judged(), row.unit)
    });
    named.collect()
}

/// Adds the figures of a run to those on record, and lets go of what is no longer measured. Gives for each row of the run what it
/// was in the last runs, this one included.
pub fn keep(report: &Report, folder: &Path) -> Vec<Vec<f64>> {
    let mut before = read(folder);
    let mut record = Record::default();
    let mut rows = Vec::new();
    for (name, figure, _) in figures(report) {
        let mut runs = before.remove(&name).unwrap_or_default();
        runs.push((figure * 1000.0).round() / 1000.0);
        let old = runs.len().saturating_sub(RUNS);
        runs.drain(..old);
        rows.push(runs.clone());
        assert!(record.insert(name.clone(), runs).is_none(), "two figures are called {name}");
    }
    let text = serde_json::to_string_pretty(&record).expect("plain data");
    std::fs::write(file(folder), text + "\n").expect("the record");
    rows
}

/// Says which figures are worse than on record by more than the spread.
pub fn compare(report: &Report, folder: &Path) -> String {
    let record = read(folder);
    let mut compared = 0;
    let mut worse = Vec::new();
    for (name, figure, unit) in figures(report) {
        let Some(runs) = record.get(&name).filter(|runs| !runs.is_empty()) else { continue };
        compared += 1;
        let more_is_better = unit.ends_with("/s");
        let (least, most) =
            runs.iter().fold((f64::MAX, f64::MIN), |(least, most), run| (least.min(*run), most.max(*run)));
        let spread = (most - least).max(NOISE * most.abs());
        if if more_is_better { figure < least - spread } else { figure > most + spread } {
            worse.push(format!("- {name}: {figure:.3}; on record: {least:.3} to {most:.3}"));
        }
    }
    match worse.as_slice() {
        [] => format!("Of {compared} figures that are on record, none is worse by more than the spread."),
        some => {
            format!("Of {compared} figures that are on record, worse by more than the spread:\n{}", some.join("\n"))
        }
    }
}
