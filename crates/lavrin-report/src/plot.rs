//! Plots as drawings within a page. Their colours are stand-ins that the page's style gives a meaning to, in light and dark.

use maud::{Markup, PreEscaped, html};
use plotters::prelude::*;

/// Sizes of a drawing.
const WIDTH: u32 = 400;
const BAR_HEIGHT: u32 = 26;
const LINES_HEIGHT: u32 = 200;

/// The text within a drawing.
const FONT: (&str, i32) = ("sans-serif", 15);

/// Where bars begin, and the room for the numbers behind them.
const BARS_FROM: i32 = 168;
const NUMBERS: i32 = 62;

/// Stand-ins for ink, lines, and the signals; the style knows them.
const INK: RGBColor = RGBColor(1, 1, 1);
const LINE: RGBColor = RGBColor(2, 2, 2);
const SEA: RGBColor = RGBColor(3, 3, 3);
const BAD: RGBColor = RGBColor(4, 4, 4);
const WARN: RGBColor = RGBColor(5, 5, 5);
const GOOD: RGBColor = RGBColor(6, 6, 6);

/// Steps on an axis.
const STEPS: usize = 4;

/// Numbers of equal things.
#[derive(Debug, Default)]
pub struct Bars {
    /// What is counted.
    pub title: String,
    /// Each thing and its number.
    pub bars: Vec<(String, usize)>,
    /// What should be known beside it.
    pub note: String,
}

/// Numbers over time.
#[derive(Debug, Default)]
pub struct TimeLines {
    /// What is counted.
    pub title: String,
    /// The moments, in words.
    pub moments: Vec<String>,
    /// Each thing, its signal, and its number at each moment.
    pub lines: Vec<(&'static str, Signal, Vec<usize>)>,
    /// What should be known beside it.
    pub note: String,
}

/// What a line is drawn for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Signal {
    /// It is bad if there are many.
    Bad,
    /// It is worth a look.
    Warn,
    /// It is good.
    Good,
    /// Neither.
    Plain,
}

impl Signal {
    fn colour(self) -> RGBColor {
        match self {
            Self::Bad => BAD,
            Self::Warn => WARN,
            Self::Good => GOOD,
            Self::Plain => SEA,
        }
    }

    fn class(self) -> &'static str {
        match self {
            Self::Bad => "bad",
            Self::Warn => "warn",
            Self::Good => "good",
            Self::Plain => "plain",
        }
    }
}

impl Bars {
    /// The drawing, and its numbers as a table for whoever does not see it.
    #[must_use]
    pub fn markup(&self) -> Markup {
        html! {
            figure class="plot" {
                figcaption { b { (self.title) } @if !self.note.is_empty() { span class="more" { " " (self.note) } } }
                @if self.bars.is_empty() { p class="more" { "Nothing to count." } } @else {
                    div aria-hidden="true" { (PreEscaped(self.drawn())) }
                    details {
                        summary class="more" { "As numbers" }
                        table {
                            @for (name, number) in &self.bars { tr { th scope="row" { (name) } td { (number) } } }
                        }
                    }
                }
            }
        }
    }

    /// One bar below the other; the name in front, the number behind.
    fn drawn(&self) -> String {
        let mut text = String::new();
        let height = BAR_HEIGHT * u32::try_from(self.bars.len()).unwrap_or(1) + 6;
        let most = self.bars.iter().map(|(_, number)| *number).max().unwrap_or(0).max(1);
        {
            let area = SVGBackend::with_string(&mut text, (WIDTH, height)).into_drawing_area();
            let name = TextStyle::from(FONT.into_font()).color(&INK);
            let (from, room) = (BARS_FROM, i32::try_from(WIDTH).unwrap_or(0) - BARS_FROM - NUMBERS);
            for (row, (what, number)) in (0i32..).zip(&self.bars) {
                let top = 3 + row * i32::try_from(BAR_HEIGHT).unwrap_or(0);
                let long = scaled(*number, most, room);
                let bar = Rectangle::new([(from, top + 2), (from + long.max(1), top + 18)], SEA.filled());
                let drawn = area
                    .draw(&Text::new(what.clone(), (0, top + 3), name.clone()))
                    .and_then(|()| area.draw(&bar))
                    .and_then(|()| area.draw(&Text::new(number.to_string(), (from + long + 7, top + 3), name.clone())));
                if drawn.is_err() {
                    break;
                }
            }
            let _ = area.present();
        }
        text
    }
}

/// A part of a length.
fn scaled(number: usize, most: usize, room: i32) -> i32 {
    let room = usize::try_from(room).unwrap_or(0);
    i32::try_from(number * room / most.max(1)).unwrap_or(0)
}

impl TimeLines {
    /// The drawing, and its numbers as a table for whoever does not see it.
    #[must_use]
    pub fn markup(&self) -> Markup {
        html! {
            figure class="plot" {
                figcaption {
                    b { (self.title) }
                    @for (name, signal, _) in &self.lines { " " span class=(signal.class()) { "▬ " (name) } }
                    @if !self.note.is_empty() { span class="more" { " " (self.note) } }
                }
                @if self.moments.is_empty() { p class="more" { "Nothing is remembered yet." } } @else {
                    div aria-hidden="true" { (PreEscaped(self.drawn())) }
                    details {
                        summary class="more" { "As numbers" }
                        table {
                            tr { th scope="col" { "" } @for (name, ..) in &self.lines { th scope="col" { (name) } } }
                            @for (at, moment) in self.moments.iter().enumerate() {
                                tr { th scope="row" { (moment) } @for (_, _, numbers) in &self.lines { td { (numbers.get(at).copied().unwrap_or(0)) } } }
                            }
                        }
                    }
                }
            }
        }
    }

    fn drawn(&self) -> String {
        let mut text = String::new();
        // A drawing that fails is left out; the numbers stand below it.
        if self.draw(&mut text).is_err() {
            text.clear();
        }
        text
    }

    fn draw(&self, text: &mut String) -> Result<(), Box<dyn std::error::Error>> {
        let most = self.lines.iter().flat_map(|(_, _, numbers)| numbers).copied().max().unwrap_or(0).max(4);
        let last = self.moments.len().saturating_sub(1).max(1);
        let area = SVGBackend::with_string(text, (WIDTH, LINES_HEIGHT)).into_drawing_area();
        let font = TextStyle::from(FONT.into_font()).color(&INK);
        let mut chart = ChartBuilder::on(&area)
            .margin(6)
            .margin_right(38)
            .x_label_area_size(28)
            .y_label_area_size(48)
            .build_cartesian_2d(0..last, 0..most + most / 8)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .light_line_style(TRANSPARENT)
            .bold_line_style(LINE)
            .axis_style(INK)
            .x_labels(self.moments.len().min(STEPS + 1))
            .y_labels(STEPS)
            .x_label_formatter(&|at| self.moments.get(*at).cloned().unwrap_or_default())
            .label_style(font)
            .draw()?;
        for (_, signal, numbers) in &self.lines {
            let colour = signal.colour();
            chart.draw_series(LineSeries::new(numbers.iter().copied().enumerate(), colour.stroke_width(2)))?;
            let dots = numbers.iter().copied().enumerate().map(|at| Circle::new(at, 3, colour.filled()));
            chart.draw_series(dots)?;
        }
        drop(chart);
        area.present()?;
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn bars_and_lines_are_drawn_in_colours_that_the_style_knows() {
        let bars = Bars {
            title: "Keys".to_owned(),
            bars: vec![("<ssh>".to_owned(), 3), ("other".to_owned(), 0)],
            note: String::new(),
        };
        let lines = TimeLines {
            title: "Findings".to_owned(),
            moments: vec!["May".to_owned(), "June".to_owned()],
            lines: vec![("high", Signal::Bad, vec![4, 2]), ("all", Signal::Plain, vec![9, 3])],
            note: String::new(),
        };
        let text = bars.markup().0 + &lines.markup().0;
        assert!(text.contains("&lt;ssh&gt;") && !text.contains("<ssh>"), "{text}");
        for colour in ["#010101", "#030303", "#040404"] {
            assert!(text.contains(colour), "{colour} is missing in {text}");
        }
        // A content security policy without inline styles of elements could refuse these.
        assert!(!text.contains(" style=") && text.contains("June"));
    }

    #[test]
    fn nothing_to_count_is_said() {
        assert!(Bars::default().markup().0.contains("Nothing to count"));
        assert!(TimeLines::default().markup().0.contains("Nothing is remembered yet"));
        let one = TimeLines {
            moments: vec!["today".to_owned()],
            lines: vec![("all", Signal::Plain, vec![7])],
            ..TimeLines::default()
        };
        assert!(one.markup().0.contains("<circle"));
    }
}
