use super::{print_json, say};
use crate::Context;
use crate::failure::Failure;
use crate::terminal::{Style, columns, count, fit, pad, safe, size};
use clap::Args;
use yadori_api::{Share, Stats as Figures, StatsQuery};

/// Show figures: what is kept, how it grows, and what is reused
#[derive(Args)]
pub struct Stats {
    /// How many days to tell of
    #[arg(long, default_value_t = 14, value_parser = clap::value_parser!(u32).range(1..=366))]
    days: u32,
}

/// Columns of the longest bar.
const BAR: usize = 24;

impl Stats {
    pub fn run(self, context: &Context) -> Result<(), Failure> {
        let figures: Figures = context.service()?.get_with("/stats", &StatsQuery { days: Some(self.days) })?;
        if context.json { print_json(&figures) } else { print(&figures, Style::of_stdout()) }
    }
}

/// A bar of `value`, of which `most` is the longest; eighths of a column are told apart.
fn bar(value: u64, most: u64) -> String {
    const EIGHTHS: [&str; 8] = ["", "▏", "▎", "▍", "▌", "▋", "▊", "▉"];
    if most == 0 {
        return String::new();
    }
    let eighths = (u128::from(value) * (BAR * 8) as u128).div_ceil(u128::from(most)) as usize;
    format!("{}{}", "█".repeat(eighths / 8), EIGHTHS[eighths % 8])
}

fn print(figures: &Figures, style: Style) -> Result<(), Failure> {
    let disk = figures.bytes_on_disk.map(|bytes| format!(", {} in the database", size(bytes))).unwrap_or_default();
    say(&format!(
        "{} in the history ({} kept), {} of content{disk}; {} in the bin",
        count(figures.count, "clip", "clips"),
        figures.kept,
        size(figures.bytes),
        figures.in_bin
    ))?;

    say("")?;
    say(&style.strong("Day by day"))?;
    let most = figures.days.iter().map(|day| u64::from(day.captured)).max().unwrap_or(0);
    say(
        &style.faint(&format!("{:<10}  {:>8}  {:>8}  {:>8}  {:>8}", "day", "captured", "recalled", "swept", "cleared"))
    )?;
    for day in &figures.days {
        let bar = bar(day.captured.into(), most);
        say(format!(
            "{}  {:>8}  {:>8}  {:>8}  {:>8}  {bar}",
            day.day, day.captured, day.recalled, day.swept, day.cleared
        )
        .trim_end())?;
    }

    shares("By kind", &figures.kinds, style)?;
    shares("By application", &figures.applications, style)?;

    if !figures.most_used.is_empty() {
        say("")?;
        say(&style.strong("Reused most"))?;
        let room = style.width.unwrap_or(100).saturating_sub(32).max(20);
        for clip in &figures.most_used {
            let shown = clip.title.as_deref().unwrap_or(&clip.preview);
            let shown = fit(&safe(shown).replace('\n', " "), room);
            let times = format!("copied {}, recalled {}", clip.copies, clip.recalls);
            say(&format!("{}  {}", pad(&shown, room), style.faint(&times)))?;
        }
    }

    let saved = &figures.saved;
    say("")?;
    say(&style.strong("Spared, roughly"))?;
    say(&format!(
        "{} and {}, for {}",
        duration(saved.seconds),
        count(saved.switches, "switch of windows", "switches of windows"),
        count(saved.recalls, "recall", "recalls")
    ))?;
    say(&style.faint(&format!("({})", safe(&saved.formula))))
}

fn shares(title: &str, shares: &[Share], style: Style) -> Result<(), Failure> {
    if shares.is_empty() {
        return Ok(());
    }
    say("")?;
    say(&style.strong(title))?;
    let most = shares.iter().map(|share| share.count).max().unwrap_or(0);
    let name = |share: &Share| fit(&if share.name.is_empty() { "unknown".into() } else { safe(&share.name) }, 20);
    let width = shares.iter().map(|share| columns(&name(share))).max().unwrap_or(0);
    for share in shares {
        let bar = bar(share.count, most);
        say(format!("{}  {:>7}  {:>9}  {bar}", pad(&name(share), width), share.count, size(share.bytes)).trim_end())?;
    }
    Ok(())
}

fn duration(seconds: u64) -> String {
    match seconds {
        0..60 => count(seconds, "second", "seconds"),
        60..7200 => count(seconds / 60, "minute", "minutes"),
        _ => count(seconds / 3600, "hour", "hours"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_are_in_proportion_and_never_too_long() {
        assert_eq!(columns(&bar(10, 10)), BAR);
        assert_eq!(columns(&bar(5, 10)), BAR / 2);
        assert_eq!((bar(0, 10), bar(1, 10_000)), (String::new(), "▏".to_owned()));
        assert_eq!(bar(0, 0), "");
    }

    #[test]
    fn time_is_told_in_a_fitting_unit() {
        assert_eq!([duration(1), duration(120), duration(7200)], ["1 second", "2 minutes", "2 hours"]);
    }
}
