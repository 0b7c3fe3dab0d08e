//! How figures grow with the number of clips: small plots side by side, each with its limit as a second line.

use plotters::prelude::*;
use std::ops::Range;
use std::path::Path;

/// A figure at one number of clips.
pub struct Point {
    /// What the figure is of, with its unit.
    pub road: &'static str,
    pub clips: u64,
    pub ours: f64,
    /// What the limit is, and its figure in the same unit.
    pub limit: (&'static str, f64),
}

const SIZE: (u32, u32) = (1_100, 900);
const OURS: RGBColor = RGBColor(0x9a, 0x34, 0x12);
const LIMIT: RGBColor = RGBColor(0x33, 0x5c, 0x67);
const FACE: &str = "sans-serif";

/// Draws all of it, as SVG.
pub fn draw(points: &[Point], file: &Path) {
    let mut roads: Vec<&str> = Vec::new();
    for point in points {
        if !roads.contains(&point.road) {
            roads.push(point.road);
        }
    }
    let root = SVGBackend::new(file, SIZE).into_drawing_area();
    root.fill(&WHITE).expect("a picture");
    for (area, road) in root.split_evenly((roads.len().div_ceil(2), 2)).iter().zip(roads) {
        let of: Vec<&Point> = points.iter().filter(|point| point.road == road).collect();
        one(area, road, &of).unwrap_or_else(|error| panic!("{road}: {error}"));
    }
    root.present().expect("a picture");
}

type Drawn = Result<(), Box<dyn std::error::Error>>;

fn one(area: &DrawingArea<SVGBackend<'_>, plotters::coord::Shift>, road: &str, points: &[&Point]) -> Drawn {
    let clips = around(points.iter().map(|point| point.clips as f64), 1.3, 1.3);
    // Above the lines there is room for what they are.
    let figures = around(points.iter().flat_map(|point| [point.ours, point.limit.1]), 2.0, 20.0);
    let mut chart = ChartBuilder::on(area)
        .caption(road, (FACE, 17))
        .margin(12)
        .x_label_area_size(34)
        .y_label_area_size(64)
        .build_cartesian_2d(clips.log_scale(), figures.log_scale())?;
    chart
        .configure_mesh()
        .x_labels(4)
        .y_labels(5)
        .light_line_style(TRANSPARENT)
        .bold_line_style(BLACK.mix(0.12))
        .x_desc("clips")
        .x_label_formatter(&|clips| whole(*clips))
        .y_label_formatter(&|figure| whole(*figure))
        .label_style((FACE, 13))
        .draw()?;
    let limit = points[0].limit.0;
    let ours: Vec<(f64, f64)> = points.iter().map(|point| (point.clips as f64, point.ours)).collect();
    let limits: Vec<(f64, f64)> = points.iter().map(|point| (point.clips as f64, point.limit.1)).collect();
    chart
        .draw_series(LineSeries::new(ours, OURS.stroke_width(2)).point_size(4))?
        .label("ours")
        .legend(|(x, y)| PathElement::new([(x, y), (x + 18, y)], OURS.stroke_width(2)));
    chart
        .draw_series(DashedLineSeries::new(limits, 6, 4, LIMIT.stroke_width(2)))?
        .label(limit)
        .legend(|(x, y)| PathElement::new([(x, y), (x + 18, y)], LIMIT.stroke_width(2)));
    chart
        .configure_series_labels()
        .position(SeriesLabelPosition::UpperLeft)
        .background_style(WHITE.mix(0.85))
        .label_font((FACE, 13))
        .draw()?;
    Ok(())
}

/// From a few times below the least to a few times above the most.
fn around(numbers: impl Iterator<Item = f64>, below: f64, above: f64) -> Range<f64> {
    let (least, most) = numbers.fold((f64::MAX, f64::MIN_POSITIVE), |(least, most), number| {
        (least.min(number.max(f64::MIN_POSITIVE)), most.max(number))
    });
    least / below..most * above
}

/// A number as short as it can be.
fn whole(number: f64) -> String {
    match number {
        _ if number >= 1e6 => format!("{} M", number / 1e6),
        _ if number >= 1e3 => format!("{},000", number / 1e3),
        _ => format!("{number}"),
    }
}
