//! Pictures of growth: lines over an axis, each with its name at its end.

use anyhow::anyhow;
use plotters::prelude::*;

/// One line.
#[derive(Clone, Debug)]
pub struct Series {
    /// What it is of.
    pub name: String,
    /// What was measured, in the order of the axis.
    pub points: Vec<(f64, f64)>,
}

/// What is drawn.
#[derive(Clone, Copy, Debug)]
pub struct Labels {
    /// Above it.
    pub title: &'static str,
    /// Of the axis below, with its unit.
    pub x: &'static str,
    /// Of the axis at the side, with its unit.
    pub y: &'static str,
}

const SIZE: (u32, u32) = (900, 420);
const INK: RGBColor = RGBColor(43, 43, 41);
const GROUND: RGBColor = RGBColor(251, 250, 247);
const GRID: RGBColor = RGBColor(222, 219, 210);
const COLOURS: [RGBColor; 6] = [
    RGBColor(31, 111, 139),
    RGBColor(201, 152, 70),
    RGBColor(179, 64, 46),
    RGBColor(90, 122, 74),
    RGBColor(120, 94, 140),
    RGBColor(74, 74, 72),
];

/// The picture, as SVG.
///
/// # Errors
/// When there is nothing to draw.
pub fn draw(labels: Labels, all: &[Series]) -> anyhow::Result<String> {
    let points = || all.iter().flat_map(|series| series.points.iter().copied());
    let most = |part: fn((f64, f64)) -> f64| points().map(part).fold(0.0, f64::max);
    let (right, top) = (most(|(x, _)| x), most(|(_, y)| y) * 1.08);
    anyhow::ensure!(right > 0.0 && top > 0.0, "{}: nothing was measured", labels.title);
    let mut svg = String::new();
    {
        let area = SVGBackend::with_string(&mut svg, SIZE).into_drawing_area();
        let failed = |error: DrawingAreaErrorKind<_>| anyhow!("{}: {error}", labels.title);
        area.fill(&GROUND).map_err(failed)?;
        let text = |size: u32| ("sans-serif", size).into_font().color(&INK);
        let mut chart = ChartBuilder::on(&area)
            .caption(labels.title, text(16))
            .margin(14)
            .x_label_area_size(40)
            .y_label_area_size(62)
            .build_cartesian_2d(0.0..right * 1.02, 0.0..top)
            .map_err(failed)?;
        chart
            .configure_mesh()
            .x_desc(labels.x)
            .y_desc(labels.y)
            .label_style(text(12))
            .axis_style(INK)
            .bold_line_style(GRID)
            .light_line_style(GROUND)
            .x_label_formatter(&|value| told(*value))
            .y_label_formatter(&|value| told(*value))
            .draw()
            .map_err(failed)?;
        for (series, colour) in all.iter().zip(COLOURS.iter().cycle()) {
            let style = colour.stroke_width(2);
            let line = LineSeries::new(series.points.iter().copied(), style).point_size(3);
            let drawn = chart.draw_series(line).map_err(failed)?;
            drawn.label(&series.name).legend(move |(x, y)| PathElement::new([(x, y), (x + 18, y)], style));
        }
        let mut names = chart.configure_series_labels();
        names.position(SeriesLabelPosition::UpperLeft).label_font(text(12)).background_style(GROUND.mix(0.85));
        names.border_style(GRID).draw().map_err(failed)?;
        area.present().map_err(failed)?;
    }
    Ok(svg)
}

/// A figure of an axis, with its thousands apart.
fn told(value: f64) -> String {
    if value.abs() < 10.0 && value.fract().abs() > 1e-9 {
        return format!("{value:.1}");
    }
    let digits = format!("{value:.0}");
    let groups: Vec<&str> =
        digits.as_bytes().rchunks(3).rev().map(|group| std::str::from_utf8(group).unwrap_or_default()).collect();
    groups.join(",")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const LABELS: Labels = Labels { title: "Memory", x: "streams", y: "MB" };

    #[test]
    fn every_point_and_name_is_drawn() {
        let series = |name: &str, points: &[(f64, f64)]| Series { name: name.to_owned(), points: points.to_vec() };
        let svg = draw(LABELS, &[series("here", &[(0.0, 1.0), (5.0, 9.0)]), series("there", &[(5.0, 4.0)])]).unwrap();
        assert_eq!(svg.matches("<circle").count(), 3);
        for text in ["here", "there", "Memory", "streams", "MB"] {
            assert!(svg.contains(text), "{text}: {svg}");
        }
        assert!(draw(LABELS, &[]).is_err(), "nothing to draw");
    }

    #[rstest]
    #[case::small(0.5, "0.5")]
    #[case::whole(7.0, "7")]
    #[case::thousands(12_000.0, "12,000")]
    #[case::millions(1_234_567.0, "1,234,567")]
    fn figures_of_axes(#[case] value: f64, #[case] says: &str) {
        assert_eq!(told(value), says);
    }
}
