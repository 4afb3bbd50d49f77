//! Bars and boxes that lie: a line each, its label before it and its number behind it.

use unicode_width::UnicodeWidthStr;

use super::{Screen, cut, right, signs};
use crate::figure::{Axis, Bar, Extent, Figure, Place, Quartiles, Series, Shape};
use crate::scale::Range;

/// Eighths of a block.
const EIGHTHS: [char; 8] = [' ', '▏', '▎', '▍', '▌', '▋', '▊', '▉'];

/// A line: its label, and what is drawn behind it.
struct Line {
    label: String,
    parts: Vec<Part>,
}

enum Part {
    Bar(usize, Bar),
    Box(usize, Quartiles),
}

pub(super) fn draw(figure: &Figure, measure: &Axis, series: &[Series], screen: Screen, out: &mut String) {
    let Extent::Range(range) = &measure.extent else { return };
    let heading = measure.plain_heading();
    if !heading.is_empty() {
        out.push_str(&format!("{}\n", cut(&heading, screen.width)));
    }
    let lines = lines_of(figure, series);
    let most = screen.width * 2 / 5;
    let labels: Vec<String> = lines.iter().map(|line| cut(&line.label, most)).collect();
    let label_width = labels.iter().map(|label| label.width()).max().unwrap_or(0);
    let numbers: Vec<String> = lines.iter().map(|line| number_of(line, &measure.extent)).collect();
    let number_width = numbers.iter().map(|number| number.width()).max().unwrap_or(0);
    let width = screen.width.saturating_sub(label_width + number_width + 4).max(8);
    for ((line, label), number) in lines.iter().zip(&labels).zip(&numbers) {
        let drawn = draw_line(line, range, width, screen);
        let text = format!(
            "{} {}{drawn} {number}",
            right(label, label_width),
            if screen.is_ascii { '|' } else { '│' }
        );
        out.push_str(text.trim_end());
        out.push('\n');
    }
}

/// The lines of a strip: of each key its bars, those that stand on each other in one line.
fn lines_of(figure: &Figure, series: &[Series]) -> Vec<Line> {
    let mut lines: Vec<(Place, usize, Line)> = Vec::new();
    for one in series {
        let mut put = |at: Place, part: Part| {
            let colour = if figure.is_grouped { one.colour } else { 0 };
            match lines.iter_mut().find(|(place, known, _)| *place == at && *known == colour) {
                Some((.., line)) => line.parts.push(part),
                None => lines.push((at, colour, Line { label: label_of(figure, at), parts: vec![part] })),
            }
        };
        match &one.shape {
            Shape::Bars(bars) => bars.iter().for_each(|bar| put(bar.at, Part::Bar(one.colour, *bar))),
            Shape::Boxes(boxes) => {
                boxes.iter().for_each(|own| put(Place::Key(own.at), Part::Box(one.colour, own.clone())));
            }
            _ => {}
        }
    }
    let order = |place: &Place| match place {
        Place::Key(key) => *key as f64,
        Place::Between(from, _) => *from,
    };
    lines.sort_by(|(a, first, _), (b, second, _)| order(a).total_cmp(&order(b)).then(first.cmp(second)));
    let mut lines: Vec<(Place, usize, Line)> = lines;
    let mut last = None;
    for (place, _, line) in &mut lines {
        // The bars of one key have its name once.
        if last == Some(*place) {
            line.label.clear();
        }
        last = Some(*place);
    }
    lines.into_iter().map(|(.., line)| line).collect()
}

fn label_of(figure: &Figure, at: Place) -> String {
    match (&figure.along.extent, at) {
        (Extent::Keys { names, .. }, Place::Key(key)) => names.get(key).cloned().unwrap_or_default(),
        (Extent::Range(range), Place::Between(from, to)) => match range.measure {
            measure if measure.is_number() => format!("{} to {}", measure.text(from), measure.text(to)),
            // Of days, months and years the start tells enough.
            measure => measure.text(from),
        },
        _ => String::new(),
    }
}

/// The number of a line: the sum of its bars, the median of its box.
fn number_of(line: &Line, extent: &Extent) -> String {
    let mut sum = 0.0;
    for part in &line.parts {
        match part {
            Part::Bar(_, bar) => sum += bar.to - bar.from,
            Part::Box(_, own) => return extent.told(own.quartiles[1]),
        }
    }
    extent.told(sum)
}

fn draw_line(line: &Line, range: &Range, width: usize, screen: Screen) -> String {
    let place = |x: f64| (range.share(x) * width as f64).clamp(0.0, width as f64);
    if let [Part::Box(colour, own)] = line.parts.as_slice() {
        return draw_box(own, *colour, place, width, screen);
    }
    // Each column has the bar that covers it; ends are drawn to an eighth where they are free.
    let mut columns: Vec<(char, usize)> = vec![(' ', usize::MAX); width];
    for part in &line.parts {
        let Part::Bar(colour, bar) = part else { continue };
        let (from, to) = (place(bar.from.min(bar.to)), place(bar.from.max(bar.to)));
        let fill = signs::fill(*colour, screen);
        for column in from.round() as usize..to.floor() as usize {
            if let Some(cell) = columns.get_mut(column) {
                *cell = (fill, *colour);
            }
        }
        let rest = ((to - to.floor()) * 8.0) as usize;
        if let Some(cell) = columns.get_mut(to.floor() as usize)
            && bar.to != bar.from
            && bar.to > 0.0
        {
            let is_fine = fill == '█' && !screen.is_ascii;
            let sign = match EIGHTHS.get(rest) {
                // What is there is seen, however little it is.
                Some(_) if rest == 0 && to.floor() <= from => '▏',
                Some(sign) if is_fine => *sign,
                _ if rest >= 4 => fill,
                _ => ' ',
            };
            let sign = if sign == '▏' && !is_fine { '|' } else { sign };
            if sign != ' ' {
                *cell = (sign, *colour);
            }
        }
    }
    columns
        .chunk_by(|(_, a), (_, b)| a == b)
        .map(|run| {
            let text: String = run.iter().map(|(sign, _)| sign).collect();
            match run.first() {
                Some((_, colour)) if *colour != usize::MAX => signs::coloured(&text, *colour, screen),
                _ => text,
            }
        })
        .collect()
}

/// `├──▒▒│▒▒▒───┤  ·`: from the lowest to the highest near value, the box, the median, values outside.
fn draw_box(
    own: &Quartiles,
    colour: usize,
    place: impl Fn(f64) -> f64,
    width: usize,
    screen: Screen,
) -> String {
    let column = |x: f64| (place(x) as usize).min(width.saturating_sub(1));
    let mut signs_of: Vec<char> = vec![' '; width];
    let mut put = |at: usize, sign: char| {
        if let Some(cell) = signs_of.get_mut(at) {
            *cell = sign;
        }
    };
    own.outside.iter().for_each(|x| put(column(*x), '·'));
    let [lower, middle, upper] = own.quartiles;
    (column(own.low)..=column(own.high)).for_each(|at| put(at, '─'));
    put(column(own.low), '├');
    put(column(own.high), '┤');
    (column(lower)..=column(upper)).for_each(|at| put(at, '▒'));
    put(column(middle), if screen.is_ascii { '|' } else { '┃' });
    signs::coloured(&signs_of.into_iter().collect::<String>(), colour, screen)
}
