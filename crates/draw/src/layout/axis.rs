//! Marks and labels of axes: which fit, and where they stand.

use super::{LABEL, Page};
use crate::figure::{Axis, Extent};
use crate::font::{Weight, shortened, width};
use crate::mark::{Anchor, Mark, Rect, Words};

/// Pixels between two labels of the axis below.
const BETWEEN: f64 = 10.0;

/// Pixels from a label of the axis at the left to the next.
const LINE: f64 = 30.0;

/// Pixels that a label of the axis at the left needs.
const LEAST_LINE: f64 = 13.0;

/// A label: where it stands on its axis, from 0 to 1, and its text.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Label {
    pub(super) at: f64,
    pub(super) text: String,
}

fn wide(text: &str) -> f64 {
    width(text, LABEL, Weight::Regular)
}

/// Labels of an axis that lies below, so many pixels long.
pub(super) fn below(axis: &Axis, length: f64) -> Vec<Label> {
    match &axis.extent {
        Extent::Keys { names, are_ordered } => keys_below(names, *are_ordered, length),
        Extent::Range(range) => {
            let fits = |labels: &Vec<Label>| {
                labels.windows(2).all(|pair| {
                    let [a, b] = pair else { return true };
                    (b.at - a.at) * length >= (wide(&a.text) + wide(&b.text)) / 2.0 + BETWEEN
                })
            };
            let most = ((length / 40.0) as usize).clamp(1, 12);
            let label = |tick: crate::scale::Tick| Label { at: range.share(tick.at), text: tick.label };
            let labels = |most: usize| range.ticks(most).into_iter().map(label).collect();
            (1..=most).rev().map(labels).find(fits).unwrap_or_default()
        }
    }
}

fn keys_below(names: &[String], are_ordered: bool, length: f64) -> Vec<Label> {
    let room = length / names.len().max(1) as f64;
    let widest = names.iter().map(|name| wide(name)).fold(0.0, f64::max);
    let at = |number: usize| (number as f64 + 0.5) / names.len().max(1) as f64;
    let every = if widest + BETWEEN <= room {
        1
    } else if are_ordered {
        ((widest + BETWEEN) / room).ceil() as usize
    } else {
        // A name in part where there is room for a part, else each so many.
        (30.0 / room).ceil() as usize
    };
    let most = room * every as f64 - BETWEEN / 2.0;
    let label = |(number, name): (usize, &String)| Label {
        at: at(number),
        text: shortened(name, LABEL, Weight::Regular, most),
    };
    names.iter().enumerate().step_by(every.max(1)).map(label).collect()
}

/// Whether the names of keys fit below, each whole.
pub(super) fn fits_below(axis: &Axis, length: f64) -> bool {
    match &axis.extent {
        Extent::Keys { names, are_ordered } => {
            let room = length / names.len().max(1) as f64;
            *are_ordered || names.iter().all(|name| wide(name) + BETWEEN <= room)
        }
        Extent::Range(_) => true,
    }
}

/// Labels of an axis at the left, so many pixels long; none is wider than it may be.
pub(super) fn at_left(axis: &Axis, length: f64, most: f64) -> Vec<Label> {
    match &axis.extent {
        Extent::Keys { names, .. } => {
            let room = length / names.len().max(1) as f64;
            let every = (LEAST_LINE / room).ceil().max(1.0) as usize;
            let label = |(number, name): (usize, &String)| Label {
                at: (number as f64 + 0.5) / names.len().max(1) as f64,
                text: shortened(name, LABEL, Weight::Regular, most),
            };
            names.iter().enumerate().step_by(every).map(label).collect()
        }
        Extent::Range(range) => {
            let most = ((length / LINE) as usize).clamp(3, 9);
            let label = |tick: crate::scale::Tick| Label { at: range.share(tick.at), text: tick.label };
            let fits = |labels: &Vec<Label>| {
                labels.windows(2).all(|pair| match pair {
                    [a, b] => (b.at - a.at) * length >= LEAST_LINE,
                    _ => true,
                })
            };
            let labels = |most: usize| range.ticks(most).into_iter().map(label).collect();
            (1..=most).rev().map(labels).find(fits).unwrap_or_default()
        }
    }
}

/// The widest of some labels.
pub(super) fn widest(labels: &[Label]) -> f64 {
    labels.iter().map(|label| wide(&label.text)).fold(0.0, f64::max)
}

/// What of an axis is drawn.
#[derive(Clone, Copy)]
pub(super) struct Parts {
    /// Lines through the room.
    pub(super) lines: bool,
    /// Labels beside it.
    pub(super) labels: bool,
}

/// Draws an axis below some room; its labels lie between two pixels, and one that would cover the one before it is left out.
pub(super) fn draw_below(page: &mut Page, room: &Rect, labels: &[Label], parts: Parts, [from, to]: [f64; 2]) {
    let mut free = from;
    for Label { at, text } in labels {
        let x = room.x + room.width * at;
        if parts.lines {
            page.marks.push(Mark::Line(vec![[x, room.y], [x, room.bottom()]], page.palette.grid, 1.0, false));
        }
        let text = shortened(text, LABEL, Weight::Regular, to - from);
        let half = wide(&text) / 2.0;
        let middle = x.min(to - half).max(from + half);
        if parts.labels && middle - half >= free {
            let words = page.label(text, [middle, room.bottom() + 17.0], Anchor::Middle);
            page.put(Words { colour: page.palette.quiet, ..words });
            free = middle + half + BETWEEN / 2.0;
        }
    }
}

/// Draws an axis at the left of some room; keys from above, numbers from below.
pub(super) fn draw_at_left(page: &mut Page, room: &Rect, labels: &[Label], parts: Parts, down: bool) {
    for Label { at, text } in labels {
        let y = if down { room.y + room.height * at } else { room.bottom() - room.height * at };
        if parts.lines {
            page.marks.push(Mark::Line(vec![[room.x, y], [room.right(), y]], page.palette.grid, 1.0, false));
        }
        if parts.labels {
            let words = page.label(text.clone(), [room.x - 7.0, y + LABEL * 0.35], Anchor::End);
            page.put(Words { colour: page.palette.quiet, ..words });
        }
    }
}
