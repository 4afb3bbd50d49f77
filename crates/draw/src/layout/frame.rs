//! The room of one strip, and where places and values lie in it.

use crate::figure::{Axis, Extent, Place};
use crate::mark::Rect;

/// The share of a key's room that its marks take.
const FILLED: f64 = 0.8;

/// The room of a strip, with what lies along it and up it.
pub(super) struct Frame<'a> {
    pub(super) room: Rect,
    pub(super) along: &'a Axis,
    pub(super) measure: &'a Axis,
    /// Whether keys lie below each other, and values go from left to right.
    pub(super) is_turned: bool,
}

/// Where a number lies on an axis, from 0 to 1; a key, in the middle of its room.
fn share(axis: &Axis, x: f64) -> f64 {
    match &axis.extent {
        Extent::Keys { names, .. } => (x + 0.5) / names.len().max(1) as f64,
        Extent::Range(range) => range.share(x),
    }
}

/// The part of an axis that a place covers, in shares.
fn part(axis: &Axis, place: Place, filled: f64) -> [f64; 2] {
    match place {
        Place::Key(key) => {
            let [middle, room] = [share(axis, key as f64), room_of_key(axis)];
            [middle - room * filled / 2.0, middle + room * filled / 2.0]
        }
        Place::Between(from, to) => [share(axis, from), share(axis, to)],
    }
}

fn room_of_key(axis: &Axis) -> f64 {
    match &axis.extent {
        Extent::Keys { names, .. } => 1.0 / names.len().max(1) as f64,
        Extent::Range(_) => 1.0,
    }
}

impl Frame<'_> {
    /// The pixel of shares along and up: what lies along goes to the right, or down if turned; values go up, or right.
    fn pixel(&self, along: f64, up: f64) -> [f64; 2] {
        let Rect { x, y, width, height } = self.room;
        if self.is_turned {
            [x + width * up, y + height * along]
        } else {
            [x + width * along, y + height * (1.0 - up)]
        }
    }

    /// Where a pair of numbers lies.
    pub(super) fn point(&self, along: f64, value: f64) -> [f64; 2] {
        self.pixel(share(self.along, along), share(self.measure, value))
    }

    /// The room of a part of both axes. Of a key, marks fill the most; of one of several that stand side by side, a part.
    pub(super) fn rect(&self, along: Place, values: Place, side_by_side: Option<(usize, usize)>) -> Rect {
        let [mut from, mut to] = part(self.along, along, FILLED);
        if let Some((number, count)) = side_by_side {
            let each = (to - from) / count.max(1) as f64;
            from += each * number as f64;
            to = from + each * 0.94;
        }
        let [low, high] = part(self.measure, values, 1.0);
        Rect::between(self.pixel(from, low), self.pixel(to, high))
    }

    /// The room of a tile, which fills all of its keys; what of it lies beyond the frame is cut off.
    pub(super) fn tile(&self, along: Place, up: Place) -> Rect {
        let within = |[from, to]: [f64; 2]| [from.clamp(0.0, 1.0), to.clamp(0.0, 1.0)];
        let [from, to] = within(part(self.along, along, 1.0));
        let [low, high] = within(part(self.measure, up, 1.0));
        Rect::between(self.pixel(from, low), self.pixel(to, high))
    }
}
