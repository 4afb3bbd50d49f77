//! Charts in characters: bars of blocks, lines and points of dots, shades; in colours, without them, or in plain ASCII.

mod bars;
mod plot;
mod signs;
mod tiles;

use churn_core::aligned::{on_one_line, wrapped};
use unicode_width::UnicodeWidthStr;

use crate::figure::{Colours, Figure, Panel, Series, Shape};

/// What charts in characters are drawn for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Screen {
    /// Columns.
    pub width: usize,
    /// Lines of a plot; bars have a line each.
    pub height: usize,
    /// Whether colours are shown.
    pub has_colours: bool,
    /// Whether it shows ASCII alone.
    pub is_ascii: bool,
}

impl Default for Screen {
    /// 80 columns, 18 lines a plot, no colours.
    fn default() -> Screen {
        Screen { width: 80, height: 18, has_colours: false, is_ascii: false }
    }
}

impl Screen {
    /// With room for a label and a mark at least.
    fn usable(self) -> Screen {
        Screen { width: self.width.clamp(30, 400), height: self.height.clamp(5, 200), ..self }
    }
}

/// Draws a chart in characters, each line ended.
pub fn write(figure: &Figure, screen: Screen) -> String {
    let screen = screen.usable();
    let mut out = String::new();
    if !figure.title.is_empty() {
        lines(&figure.title, screen, &mut out);
        out.push('\n');
    }
    legend(figure, screen, &mut out);
    for panel in &figure.panels {
        draw_panel(figure, panel, screen, &mut out);
    }
    let source = (!figure.source.is_empty()).then(|| format!("Source: {}", figure.source));
    let told: Vec<String> = figure.captions.iter().cloned().chain(source).collect();
    if !told.is_empty() {
        out.push('\n');
        told.iter().for_each(|text| lines(text, screen, &mut out));
    }
    if screen.is_ascii { signs::plain(&out) } else { out }
}

fn lines(text: &str, screen: Screen, out: &mut String) {
    for line in wrapped(&on_one_line(text), screen.width) {
        out.push_str(&line);
        out.push('\n');
    }
}

fn draw_panel(figure: &Figure, panel: &Panel, screen: Screen, out: &mut String) {
    if !panel.name.is_empty() {
        out.push_str(&format!("\n{}\n", cut(&panel.name, screen.width)));
    }
    for (series, measure) in panel.strips.iter().zip(&figure.measures) {
        let has = |wanted: fn(&Shape) -> bool| series.iter().any(|one| wanted(&one.shape));
        if has(|shape| matches!(shape, Shape::Bars(_) | Shape::Boxes(_))) {
            bars::draw(figure, measure, series, screen, out);
        } else if has(|shape| matches!(shape, Shape::Tiles(_))) {
            tiles::draw(figure, measure, series, screen, out);
        } else {
            plot::draw(figure, measure, series, screen, out);
        }
    }
}

/// What signs and colours stand for.
fn legend(figure: &Figure, screen: Screen, out: &mut String) {
    let text = match &figure.colours {
        Colours::One => return,
        Colours::Keys { title, names } => {
            let has_blocks =
                figure.panels.iter().flat_map(|panel| panel.strips.iter().flatten()).any(is_blocks);
            let sign = |number: usize| {
                let sign =
                    if has_blocks { signs::fill(number, screen) } else { signs::letter(number, screen) };
                signs::coloured(&sign.to_string(), number, screen)
            };
            let keys =
                names.iter().enumerate().map(|(number, name)| format!("{} {}", sign(number), cut(name, 30)));
            let mut words = vec![format!("{}:", cut(title, screen.width / 2))];
            words.extend(keys);
            rows_of(&words, screen.width)
        }
        Colours::Values { title, range } => {
            let shades: String = signs::SHADES.iter().skip(1).collect();
            let [from, to] = [range.from, range.to].map(|x| range.measure.text(x));
            format!("{}: {from} {shades} {to}\n", cut(title, screen.width / 2))
        }
    };
    out.push_str(&text);
}

fn is_blocks(series: &Series) -> bool {
    matches!(series.shape, Shape::Bars(_) | Shape::Boxes(_) | Shape::Tiles(_))
}

/// Words beside each other, in lines of a width; colours take none.
fn rows_of(words: &[String], width: usize) -> String {
    let mut out = String::new();
    let mut used = 0;
    for word in words {
        let wide = signs::bare(word).width();
        if used > 0 && used + 2 + wide > width {
            out.push('\n');
            used = 0;
        } else if used > 0 {
            out.push_str("  ");
            used += 2;
        }
        out.push_str(word);
        used += wide;
    }
    out.push('\n');
    out
}

/// A text in no more than so many columns, on one line.
fn cut(text: &str, most: usize) -> String {
    let text = on_one_line(text);
    if text.width() <= most {
        return text;
    }
    let mut out = String::new();
    for c in text.chars() {
        let wide = unicode_width::UnicodeWidthChar::width(c).unwrap_or(0);
        if out.width() + wide + 1 > most {
            break;
        }
        out.push(c);
    }
    out.push('…');
    out
}

/// A text at the right of so many columns.
fn right(text: &str, width: usize) -> String {
    format!("{}{text}", " ".repeat(width.saturating_sub(text.width())))
}
