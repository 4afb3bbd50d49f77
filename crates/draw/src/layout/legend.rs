//! What colours stand for, above the panels.

use super::{LABEL, Page};
use crate::colour::{MOST_KEYS, Palette, Ramp};
use crate::figure::Colours;
use crate::font::{Weight, shortened, width};
use crate::mark::{Anchor, Mark, Rect, Words};
use crate::scale::Range;

/// From a line of the legend to the next.
const LINE: f64 = 20.0;

/// The side of a square of a key's colour.
const SQUARE: f64 = 11.0;

/// The widest that a key's name may be.
const WIDEST: f64 = 180.0;

/// The width of the ramp of values.
const RAMP: f64 = 180.0;

/// Boxes that a ramp is drawn as.
const BOXES: usize = 36;

/// The ramp of some values: that of both sides of zero where there are both.
pub(super) fn ramp_of(range: &Range, palette: &'static Palette) -> (Ramp, Range) {
    if range.from < 0.0 && range.to > 0.0 && !range.is_log {
        let far = range.to.max(-range.from);
        return (palette.both_sides, Range { from: -far, to: far, ..range.clone() });
    }
    (palette.ramp, range.clone())
}

pub(super) fn draw(colours: &Colours, page: &mut Page) {
    match colours {
        Colours::One => {}
        Colours::Keys { title, names } => keys(title, names, page),
        Colours::Values { title, range } => values(title, range, page),
    }
}

fn keys(title: &str, names: &[String], page: &mut Page) {
    let heading = shortened(title, LABEL, Weight::Regular, page.left.width * 0.4);
    let start = page.left.x;
    let mut y = page.take_above(LINE);
    let mut x = start;
    if !heading.is_empty() {
        let words = page.label(heading, [x, y + 13.0], Anchor::Start);
        x += words.width() + 14.0;
        let colour = page.palette.quiet;
        page.put(Words { colour, ..words });
    }
    for (name, colour) in names.iter().zip(page.palette.keys).take(MOST_KEYS) {
        let name = shortened(name, LABEL, Weight::Regular, WIDEST.min(page.left.width - SQUARE - 6.0));
        let wide = SQUARE + 6.0 + width(&name, LABEL, Weight::Regular);
        if x > start && x + wide > page.left.right() {
            y = page.take_above(LINE);
            x = start;
        }
        let square = Rect { x, y: y + 3.0, width: SQUARE, height: SQUARE };
        page.marks.push(Mark::Box(square, colour, String::new()));
        page.put(page.label(name, [x + SQUARE + 6.0, y + 13.0], Anchor::Start));
        x += wide + 16.0;
    }
    page.take_above(6.0);
}

fn values(title: &str, range: &Range, page: &mut Page) {
    let y = page.take_above(LINE);
    let (ramp, range) = ramp_of(range, page.palette);
    let ends = [range.from, range.to].map(|x| range.told(x));
    let widths: f64 = ends.iter().map(|end| width(end, LABEL, Weight::Regular)).sum();
    let ramp_width = RAMP.min(page.left.width - widths - 20.0).max(20.0);
    let heading = shortened(title, LABEL, Weight::Regular, page.left.width - ramp_width - widths - 40.0);
    let mut x = page.left.x;
    let words = page.label(heading, [x, y + 13.0], Anchor::Start);
    x += words.width() + 14.0;
    let colour = page.palette.quiet;
    page.put(Words { colour, ..words });
    let [least, greatest] = ends;
    let words = page.label(least, [x, y + 13.0], Anchor::Start);
    x += words.width() + 6.0;
    page.put(words);
    let step = ramp_width / BOXES as f64;
    for number in 0..BOXES {
        let colour = ramp.at((number as f64 + 0.5) / BOXES as f64);
        // A little wider, so that no ground shows between two of them.
        let rect = Rect { x: x + step * number as f64, y: y + 3.0, width: step + 0.5, height: SQUARE };
        page.marks.push(Mark::Box(rect, colour, String::new()));
    }
    page.put(page.label(greatest, [x + ramp_width + 7.0, y + 13.0], Anchor::Start));
    page.take_above(6.0);
}
