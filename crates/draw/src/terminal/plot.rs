//! Lines, areas and points in characters: two by four dots in each, or a letter for each key.

use unicode_width::UnicodeWidthStr;

use super::{Screen, cut, right, signs};
use crate::figure::{Axis, Extent, Figure, Series, Shape};

/// Dots of a character, across and down.
const DOTS: [usize; 2] = [2, 4];

/// The bits of the dots of a character of the block of Braille patterns, by line and column.
const BITS: [[u32; 2]; 4] = [[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]];

/// A room of characters that is drawn into.
struct Canvas {
    width: usize,
    height: usize,
    /// Dots of each character, and the key that they are of.
    cells: Vec<(u32, usize)>,
}

impl Canvas {
    fn new(width: usize, height: usize) -> Canvas {
        Canvas { width, height, cells: vec![(0, usize::MAX); width * height] }
    }

    /// Marks a dot, by its place from the left and from below, in shares.
    fn dot(&mut self, across: f64, up: f64, key: usize) {
        if !(-0.001..=1.001).contains(&across) || !(-0.001..=1.001).contains(&up) {
            return;
        }
        let [wide, high] = [self.width * DOTS[0], self.height * DOTS[1]];
        let place = |share: f64, count: usize| ((share * count as f64) as usize).min(count.saturating_sub(1));
        let (x, y) = (place(across, wide), high - 1 - place(up, high));
        let bit = BITS.get(y % DOTS[1]).and_then(|line| line.get(x % DOTS[0])).copied().unwrap_or(0);
        if let Some(cell) = self.cells.get_mut(y / DOTS[1] * self.width + x / DOTS[0]) {
            *cell = (cell.0 | bit, key);
        }
    }

    fn line(&mut self, [x0, y0]: [f64; 2], [x1, y1]: [f64; 2], key: usize) {
        let across = (x1 - x0).abs() * (self.width * DOTS[0]) as f64;
        let up = (y1 - y0).abs() * (self.height * DOTS[1]) as f64;
        let steps = across.max(up).ceil().clamp(1.0, 100_000.0) as usize;
        for step in 0..=steps {
            let share = step as f64 / steps as f64;
            self.dot(x0 + (x1 - x0) * share, y0 + (y1 - y0) * share, key);
        }
    }

    /// The characters of a line.
    fn text(&self, line: usize, screen: Screen, has_keys: bool) -> String {
        let cells = self.cells.get(line * self.width..(line + 1) * self.width).unwrap_or_default();
        let sign = |(bits, key): &(u32, usize)| match bits {
            0 => ' ',
            _ if has_keys && !screen.has_colours => signs::letter(*key, screen),
            _ if screen.is_ascii => '*',
            bits => char::from_u32(0x2800 + bits).unwrap_or('*'),
        };
        cells
            .chunk_by(|(_, a), (_, b)| a == b)
            .map(|run| {
                let text: String = run.iter().map(sign).collect();
                match run.first() {
                    Some((_, key)) if *key != usize::MAX => signs::coloured(&text, *key, screen),
                    _ => text,
                }
            })
            .collect()
    }
}

/// Where a number or a key lies on an axis.
pub(super) fn share(extent: &Extent, x: f64) -> f64 {
    match extent {
        Extent::Range(range) => range.share(x),
        Extent::Keys { names, .. } => (x + 0.5) / names.len().max(1) as f64,
    }
}

/// The labels of the axis at the left, by line.
pub(super) fn left_labels(extent: &Extent, height: usize) -> Vec<String> {
    let mut labels = vec![String::new(); height];
    let mut put = |share: f64, text: &str| {
        let line = ((1.0 - share) * height as f64).floor().clamp(0.0, height as f64 - 1.0);
        if let Some(label) = labels.get_mut(line as usize) {
            text.clone_into(label);
        }
    };
    match extent {
        Extent::Range(range) => {
            let ticks = range.ticks((height / 2).clamp(2, 9));
            ticks.iter().for_each(|tick| put(range.share(tick.at), &tick.label));
        }
        Extent::Keys { names, .. } => {
            for (number, name) in names.iter().enumerate() {
                put((number as f64 + 0.5) / names.len() as f64, name);
            }
        }
    }
    labels
}

/// The axis below: its line, and its labels as far as they fit.
pub(super) fn write_below(axis: &Axis, left: usize, width: usize, screen: Screen, out: &mut String) {
    let labels: Vec<(f64, String)> = match &axis.extent {
        Extent::Range(range) => {
            let ticks = range.ticks((width / 12).clamp(2, 10)).into_iter();
            ticks.map(|tick| (range.share(tick.at), tick.label)).collect()
        }
        Extent::Keys { names, .. } => {
            let at = |number: usize| (number as f64 + 0.5) / names.len().max(1) as f64;
            names.iter().enumerate().map(|(number, name)| (at(number), cut(name, width / 3))).collect()
        }
    };
    let mut line: Vec<char> = vec!['─'; width];
    let mut text = vec![' '; width];
    let mut free = 0;
    for (share, label) in labels {
        let middle = ((share * width as f64) as usize).min(width.saturating_sub(1));
        let wide = label.width();
        let start = middle.saturating_sub(wide / 2).min(width.saturating_sub(wide));
        if start < free || start + wide > width {
            continue;
        }
        if let Some(mark) = line.get_mut(middle) {
            *mark = '┼';
        }
        for (place, c) in label.chars().enumerate() {
            if let Some(cell) = text.get_mut(start + place) {
                *cell = c;
            }
        }
        free = start + wide + 1;
    }
    let line: String = line.into_iter().collect();
    let text: String = text.into_iter().collect();
    out.push_str(&format!("{}└{line}\n", " ".repeat(left + 1)));
    out.push_str(&format!("{} {}\n", " ".repeat(left + 1), text.trim_end()));
    let title = cut(&axis.heading(), screen.width);
    if !title.is_empty() {
        out.push_str(&format!("{}\n", right(&title, left + 2 + width)));
    }
}

pub(super) fn draw(figure: &Figure, measure: &Axis, series: &[Series], screen: Screen, out: &mut String) {
    let labels = left_labels(&measure.extent, screen.height);
    let left = labels.iter().map(|label| label.width()).max().unwrap_or(0);
    let width = screen.width.saturating_sub(left + 2).max(10);
    let mut canvas = Canvas::new(width, screen.height);
    for one in series {
        draw_series(figure, measure, one, &mut canvas);
    }
    let heading = measure.heading();
    if !heading.is_empty() {
        out.push_str(&format!("{}\n", cut(&heading, screen.width)));
    }
    let has_keys = !matches!(figure.colours, crate::figure::Colours::One);
    for (number, label) in labels.iter().enumerate() {
        let sign = if label.is_empty() { '│' } else { '┤' };
        let text = format!("{} {sign}{}", right(label, left), canvas.text(number, screen, has_keys));
        out.push_str(text.trim_end());
        out.push('\n');
    }
    write_below(&figure.along, left, width, screen, out);
}

fn draw_series(figure: &Figure, measure: &Axis, series: &Series, canvas: &mut Canvas) {
    let at = |x: f64, y: f64| [share(&figure.along.extent, x), share(&measure.extent, y)];
    let key = series.colour;
    match &series.shape {
        Shape::Lines(pieces) => {
            for piece in pieces {
                let points: Vec<[f64; 2]> = piece.iter().map(|[x, y]| at(*x, *y)).collect();
                if let [[x, y]] = points.as_slice() {
                    canvas.dot(*x, *y, key);
                }
                points.windows(2).for_each(|pair| {
                    if let [from, to] = pair {
                        canvas.line(*from, *to, key);
                    }
                });
            }
        }
        Shape::Areas(pieces) => {
            for pair in pieces.iter().flat_map(|piece| piece.windows(2)) {
                let [[x0, low0, high0], [x1, low1, high1]] = pair else { continue };
                let columns = ((share(&figure.along.extent, *x1) - share(&figure.along.extent, *x0))
                    * (canvas.width * DOTS[0]) as f64)
                    .ceil()
                    .max(1.0) as usize;
                for column in 0..=columns {
                    let part = column as f64 / columns as f64;
                    let between = |a: f64, b: f64| a + (b - a) * part;
                    let x = between(*x0, *x1);
                    canvas.line(at(x, between(*low0, *low1)), at(x, between(*high0, *high1)), key);
                }
            }
        }
        Shape::Points(points) => points.iter().for_each(|point| {
            let [x, y] = at(point.x, point.y);
            canvas.dot(x, y, key);
        }),
        _ => {}
    }
}
