//! The figures of a run, and the page that they are written to.

use crate::growth::Point;
use serde::Serialize;

/// A figure beside its limit.
#[derive(Serialize)]
pub struct Row {
    pub what: String,
    pub ours: f64,
    pub unit: &'static str,
    /// What the limit is, and its figure in the same unit.
    pub limit: Option<(String, f64)>,
    /// The worst that may stand.
    budget: Option<f64>,
    /// Whether the budget is one of the ratio of ours to the limit.
    budget_is_ratio: bool,
}

/// All figures of a run.
#[derive(Default)]
pub struct Report {
    pub rows: Vec<Row>,
    /// How some of them grow with the number of clips.
    pub growth: Vec<Point>,
    /// Only what people wait for most, and in fewer rounds.
    pub quick: bool,
}

impl Report {
    /// Adds a figure, and says it.
    pub fn add(
        &mut self,
        what: impl Into<String>,
        ours: f64,
        unit: &'static str,
        limit: Option<(&str, f64)>,
        budget: Option<f64>,
        budget_is_ratio: bool,
    ) {
        let row = Row {
            what: what.into(),
            ours,
            unit,
            limit: limit.map(|(name, value)| (name.to_owned(), value)),
            budget,
            budget_is_ratio,
        };
        eprintln!("{}", line(&row));
        self.rows.push(row);
    }
}

impl Row {
    /// What is compared with another run: the ratio to the limit where there is one, since that depends less on the machine.
    pub fn judged(&self) -> f64 {
        self.ratio().unwrap_or(self.ours)
    }

    /// Beside the limit; of a limit of nothing, nothing is a part.
    fn ratio(&self) -> Option<f64> {
        self.limit.as_ref().map(|(_, limit)| self.ours / limit).filter(|ratio| ratio.is_finite())
    }
}

fn line(row: &Row) -> String {
    let (limit, ratio) = match &row.limit {
        Some((name, value)) => {
            (format!("{value:.3} ({name})"), row.ratio().map_or_else(String::new, |ratio| format!("{ratio:.2}")))
        }
        None => (String::new(), String::new()),
    };
    let judged = if row.budget_is_ratio { row.ratio() } else { Some(row.ours) };
    let verdict = match (row.budget, judged) {
        (Some(budget), Some(judged)) => {
            let what = if row.budget_is_ratio { format!("ratio ≤ {budget}") } else { format!("≤ {budget}") };
            format!("{what}: {}", if judged <= budget { "met" } else { "**not met**" })
        }
        _ => String::new(),
    };
    format!("| {} | {:.3} {} | {limit} | {ratio} | {verdict} |", row.what, row.ours, row.unit)
}

pub fn table(report: &Report) -> String {
    let mut text = String::from("| what | ours | limit, same run | ratio | goal |\n| --- | --- | --- | --- | --- |\n");
    for row in &report.rows {
        text.push_str(&line(row));
        text.push('\n');
    }
    text
}

/// The page for `docs`: the table, with what each figure was in the last runs.
pub fn page(report: &Report, runs: &[Vec<f64>]) -> String {
    let count = runs.iter().map(Vec::len).max().unwrap_or(0);
    let mut table = format!(
        "| what | ours | limit, same run | ratio | goal | median of {count} |\n| --- | --- | --- | --- | --- | --- |\n"
    );
    for (row, runs) in report.rows.iter().zip(runs) {
        table.push_str(&format!("{} {:.2} |\n", line(row), median(runs)));
    }
    let date = jiff::Timestamp::now().strftime("%Y-%m-%d");
    let cores = std::thread::available_parallelism().map_or(1, usize::from);
    format!(
        "# Benchmarks\n\nMade by `script/bench` on {date}, on a shared machine of {cores} cores; do not edit. Times vary with what else\n\
         the machine does; the ratio to the limit, which was measured in the same run, varies less. A limit is what\n\
         would be left if we did nothing at all: the bare transfer of the selection, one durable insert, one scan of the text.

\
         How the figures grow with the number of clips, each beside its limit; both axes are logarithmic, so that what grows as
\
         the history does is a straight line:

![Growth with the number of clips](growth.svg)

\
         The last column is the median of the last {count} runs: of the ratios, or of the figures where there is no limit.

{table}"
    )
}

fn median(runs: &[f64]) -> f64 {
    let mut runs = runs.to_vec();
    runs.sort_by(f64::total_cmp);
    match (runs.len() / 2, runs.len() % 2) {
        (0, 0) => 0.0,
        (middle, 0) => f64::midpoint(runs[middle - 1], runs[middle]),
        (middle, _) => runs[middle],
    }
}
