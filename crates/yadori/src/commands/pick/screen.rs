//! How the picker in the terminal is drawn: without colours, since whatever the terminal's are, bold and reversed are read.

use super::state::State;
use crate::terminal::{age, columns, fit, safe};
use ratatui::Frame;
use ratatui::layout::Position;
use ratatui::style::{Modifier, Style};
use ratatui::text::{Line, Span};
use ratatui::widgets::Paragraph;
use yadori_api::Clip;

/// Columns before what was copied.
pub const INDENT: u32 = 12;

const PROMPT: &str = "> ";
const DIGITS: [&str; 10] = ["1", "2", "3", "4", "5", "6", "7", "8", "9", "0"];

/// The first row that is shown, so that the chosen one is seen.
fn first_row(chosen: usize, rows: usize) -> usize {
    chosen.saturating_sub(rows.saturating_sub(1))
}

/// A preview, with what meets the query underlined.
fn spans(clip: &Clip, width: usize) -> Vec<Span<'static>> {
    let title = clip.title.as_ref().map(|title| format!("{}: ", safe(title))).unwrap_or_default();
    let room = width.saturating_sub(columns(&title));
    let text = fit(&safe(&clip.preview).replace(['\n', '\t'], " "), room);
    let chars: Vec<char> = text.chars().collect();
    let mut spans = vec![Span::styled(fit(&title, width), Style::new().add_modifier(Modifier::BOLD))];
    let mut at = 0;
    let part = |from: usize, to: usize| chars[from..to].iter().collect::<String>();
    for mark in &clip.marks {
        let (start, end) = ((mark.start as usize).min(chars.len()), (mark.end as usize).min(chars.len()));
        if start < at || end <= start {
            continue;
        }
        spans.push(Span::raw(part(at, start)));
        let style = Style::new().add_modifier(Modifier::BOLD | Modifier::UNDERLINED);
        spans.push(Span::styled(part(start, end), style));
        at = end;
    }
    spans.push(Span::raw(part(at, chars.len())));
    spans
}

fn row(state: &State, place: usize, width: usize, now: jiff::Timestamp) -> Line<'static> {
    let clip = &state.clips()[place];
    let mark = if state.is_marked(clip) { "✓" } else { DIGITS.get(place).copied().unwrap_or(" ") };
    let pinned = if clip.pinned { "*" } else { " " };
    let head = format!("{mark} {pinned}{:>7}  ", age(clip.copied_at, now));
    let room = width.saturating_sub(columns(&head));
    let mut spans_of_row = vec![Span::raw(head)];
    spans_of_row.extend(spans(clip, room));
    let line = Line::from(spans_of_row);
    if place == state.chosen() { line.style(Style::new().add_modifier(Modifier::REVERSED)) } else { line }
}

/// Draws everything.
pub fn draw(frame: &mut Frame<'_>, state: &State) {
    let area = frame.area();
    let (width, height) = (usize::from(area.width), usize::from(area.height));
    let rows = height.saturating_sub(2);
    let query = fit(&safe(state.query()), width.saturating_sub(PROMPT.len() + 1));
    let mut lines = vec![Line::from(format!("{PROMPT}{query}"))];
    let now = jiff::Timestamp::now();
    // Below the chosen one its picture, which the other rows make room for.
    let picture = &state.picture()[..state.picture().len().min(rows.saturating_sub(1))];
    let rows_of_clips = rows - picture.len();
    let first = first_row(state.chosen(), rows_of_clips);
    let last = state.clips().len().min(first + rows_of_clips);
    for place in first..last {
        lines.push(row(state, place, width, now));
        if place == state.chosen() {
            let indented = |line: &Line<'static>| {
                let mut line = line.clone();
                line.spans.insert(0, Span::raw(" ".repeat(INDENT as usize)));
                line
            };
            lines.extend(picture.iter().map(indented));
        }
    }
    if state.clips().is_empty() {
        lines.push(Line::from(if state.query().is_empty() { "  Nothing is here yet" } else { "  No match" }));
    }
    lines.resize(rows + 1, Line::default());
    let list = if state.kept() { "what you keep" } else { "history" };
    let foot = match (state.said(), state.marked()) {
        (Some(said), _) => said.to_owned(),
        (None, 0) => format!("{list} · Enter take · Tab mark · Ctrl+K kept · Ctrl+P pin · Esc leave"),
        (None, marked) => format!("{marked} marked · Enter takes them joined"),
    };
    lines.push(Line::styled(fit(&foot, width), Style::new().add_modifier(Modifier::DIM)));
    frame.render_widget(Paragraph::new(lines), area);
    let x =
        area.x + u16::try_from(PROMPT.len() + columns(&query)).unwrap_or(u16::MAX).min(area.width.saturating_sub(1));
    frame.set_cursor_position(Position { x, y: area.y });
}

#[cfg(test)]
mod tests {
    use super::super::state::tests::clip;
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;

    fn drawn(state: &State, width: u16, height: u16) -> Vec<String> {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, state)).unwrap();
        let buffer = terminal.backend().buffer().clone();
        let line = |y| (0..width).map(|x| buffer[(x, y)].symbol().to_owned()).collect::<String>();
        (0..height).map(|y| line(y).trim_end().to_owned()).collect()
    }

    #[test]
    fn the_list_fits_the_terminal_and_hostile_content_does_no_harm() {
        let mut state = State::new("gel".into());
        state.show(vec![
            clip("a", "gel 201 for the moon, which is longer than the terminal is wide", &[(0, 3)]),
            clip("b", "\u{1b}[2J\u{202e}evil", &[]),
            clip("c", "舞台 gel", &[(3, 6), (1, 2), (90, 99)]),
        ]);
        let lines = drawn(&state, 40, 6);
        assert_eq!(lines[0], "> gel");
        assert!(lines[1].starts_with("1 ") && lines[1].ends_with('…'), "{lines:?}");
        assert!(lines[2].contains("\u{fffd}[2J\u{fffd}evil"), "{lines:?}");
        assert!(lines[3].contains('舞') && lines[3].ends_with("gel"), "{lines:?}");
        assert!(lines.iter().all(|line| line.chars().count() <= 40));
    }

    #[test]
    fn a_picture_stands_below_the_clip_that_is_chosen() {
        let mut state = State::default();
        let mut picture = clip("b", "a poster", &[]);
        picture.kind = yadori_api::Kind::Image;
        state.show(vec![clip("a", "first", &[]), picture, clip("c", "last", &[])]);
        assert_eq!(state.lacks_picture(), None);
        state.pressed(ratatui::crossterm::event::KeyCode::Down.into());
        assert_eq!(state.lacks_picture().as_deref(), Some("b"));
        state.show_picture(vec![Line::from("▀▀"), Line::from("▀▀")]);
        assert_eq!(state.lacks_picture(), None);
        let lines = drawn(&state, 40, 7);
        let rows: Vec<&str> = lines[1..6].iter().map(|line| line.trim()).collect();
        assert!(rows[0].ends_with("first") && rows[1].ends_with("a poster") && rows[4].ends_with("last"), "{lines:?}");
        assert_eq!(rows[2..4], ["▀▀", "▀▀"]);
        // Where there is little room, the clip itself stays seen.
        assert!(drawn(&state, 40, 4).iter().any(|line| line.ends_with("a poster")));
    }

    #[test]
    fn the_chosen_row_is_always_seen() {
        assert_eq!((first_row(0, 5), first_row(4, 5), first_row(5, 5), first_row(9, 5)), (0, 0, 1, 5));
        let lines = drawn(&State::default(), 30, 4);
        assert!(lines[1].contains("Nothing is here yet"), "{lines:?}");
    }
}
