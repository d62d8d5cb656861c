//! Figures as PNG.

use anyhow::{Result, anyhow};
use plotters::prelude::*;
use plotters::style::{FontStyle, register_font};

/// A named line of points.
#[derive(Debug)]
pub(crate) struct Line {
    pub(crate) name: &'static str,
    pub(crate) points: Vec<(f64, f64)>,
}

impl Line {
    pub(crate) fn new(name: &'static str) -> Self {
        Self { name, points: Vec::new() }
    }

    pub(crate) fn first(&self) -> f64 {
        self.points.first().map_or(f64::NAN, |(_, y)| *y)
    }

    pub(crate) fn last(&self) -> f64 {
        self.points.last().map_or(f64::NAN, |(_, y)| *y)
    }
}

/// The console's colours: leaf, amber, slate.
const COLOURS: [RGBColor; 3] =
    [RGBColor(0x3c, 0x6b, 0x36), RGBColor(0xb0, 0x72, 0x0e), RGBColor(0x2f, 0x5f, 0x78)];
const INK: RGBColor = RGBColor(0x23, 0x28, 0x1f);
const RULE: RGBColor = RGBColor(0xdc, 0xd9, 0xcd);

/// Draws lines over a logarithmic axis, each named at its end.
pub(crate) fn plot(path: &str, title: &str, x: &str, y: &str, lines: &[Line]) -> Result<()> {
    let font = epaint_default_fonts::UBUNTU_LIGHT;
    register_font("sans-serif", FontStyle::Normal, font)
        .map_err(|_| anyhow!("the font cannot be read"))?;
    if let Some(folder) = std::path::Path::new(path).parent() {
        std::fs::create_dir_all(folder)?;
    }
    let points = || lines.iter().flat_map(|line| &line.points);
    let left = points().map(|(x, _)| *x).fold(f64::INFINITY, f64::min);
    let right = points().map(|(x, _)| *x).fold(0.0, f64::max);
    let top = points().map(|(_, y)| *y).fold(0.0, f64::max) * 1.15;
    let page = BitMapBackend::new(path, (900, 520)).into_drawing_area();
    page.fill(&RGBColor(0xff, 0xfe, 0xfb))?;
    let mut chart = ChartBuilder::on(&page)
        .caption(title, ("sans-serif", 26).into_font().color(&INK))
        .margin(24)
        .margin_right(40)
        .x_label_area_size(56)
        .y_label_area_size(72)
        .build_cartesian_2d((left * 0.9..right * 2.4).log_scale(), 0.0..top)?;
    chart
        .configure_mesh()
        .disable_x_mesh()
        .bold_line_style(RULE)
        .light_line_style(TRANSPARENT)
        .axis_style(INK)
        .x_desc(x)
        .y_desc(y)
        .label_style(("sans-serif", 17).into_font().color(&INK))
        .axis_desc_style(("sans-serif", 18).into_font().color(&INK))
        .x_labels(6)
        .x_label_formatter(&|x| thousands(*x))
        .draw()?;
    for (line, colour) in lines.iter().zip(COLOURS) {
        chart.draw_series(LineSeries::new(line.points.iter().copied(), colour.stroke_width(3)))?;
        chart
            .draw_series(line.points.iter().map(|point| Circle::new(*point, 5, colour.filled())))?;
        if let Some((x, y)) = line.points.last() {
            let style = ("sans-serif", 18).into_font().color(&colour);
            chart.draw_series([Text::new(line.name, (*x * 1.06, *y), style)])?;
        }
    }
    page.present()?;
    eprintln!("  drawn: {path}");
    Ok(())
}

fn thousands(value: f64) -> String {
    match value {
        1e6.. => format!("{},000,000", (value / 1e6).round()),
        1e3.. => format!("{},000", (value / 1e3).round()),
        _ => format!("{value:.0}"),
    }
}
