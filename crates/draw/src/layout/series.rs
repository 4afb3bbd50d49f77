//! The marks of a strip.

use super::frame::Frame;
use super::legend::ramp_of;
use super::{LABEL, Page};
use crate::colour::{Colour, MOST_KEYS, Ramp};
use crate::figure::{Bar, Colours, Extent, Figure, Place, Point, Quartiles, Series, Shape, Tile};
use crate::font::{Weight, width};
use crate::mark::{Anchor, Mark, Rect, Words};
use crate::scale::Measure;

/// Colours from which on lines are broken as well.
const UNBROKEN: usize = 6;

/// Points of a line that are marked each.
const MARKED: usize = 48;

/// Bars and tiles that tell what they stand for.
const TOLD: usize = 600;

/// Steps of a ramp that tiles are drawn in.
const STEPS: usize = 24;

/// The strip of a figure that marks are drawn into.
struct Strip<'a, 'b> {
    figure: &'a Figure,
    frame: &'a Frame<'a>,
    page: &'b mut Page,
    /// The room of labels that stand already.
    labels: Vec<Rect>,
}

pub(super) fn draw(figure: &Figure, frame: &Frame<'_>, series: &[Series], page: &mut Page) {
    let mut strip = Strip { figure, frame, page, labels: Vec::new() };
    for one in series {
        let colour = strip.colour(one.colour);
        match &one.shape {
            Shape::Bars(bars) => strip.bars(bars, one.colour, colour),
            Shape::Lines(pieces) => strip.lines(pieces, one.colour, colour),
            Shape::Areas(pieces) => strip.areas(pieces, colour),
            Shape::Points(points) => strip.points(points, colour),
            Shape::Tiles(tiles) => strip.tiles(tiles, one.colour),
            Shape::Boxes(boxes) => strip.boxes(boxes, one.colour, colour),
        }
    }
}

impl Strip<'_, '_> {
    fn colour(&self, number: usize) -> Colour {
        let keys = &self.page.palette.keys;
        keys.get(number % MOST_KEYS).copied().unwrap_or(self.page.palette.words)
    }

    /// The place of a key's marks among those that stand side by side.
    fn side_by_side(&self, number: usize) -> Option<(usize, usize)> {
        match &self.figure.colours {
            Colours::Keys { names, .. } if self.figure.is_grouped => Some((number, names.len())),
            _ => None,
        }
    }

    /// What a mark stands for: its place, its key, its value.
    fn note(&self, at: Place, colour: usize, value: &str) -> String {
        let name = match (&self.figure.along.extent, at) {
            (Extent::Keys { names, .. }, Place::Key(key)) => names.get(key).cloned().unwrap_or_default(),
            (Extent::Range(range), Place::Between(from, to)) => {
                format!("{} to {}", range.measure.text(from), range.measure.text(to))
            }
            _ => String::new(),
        };
        let key = match &self.figure.colours {
            Colours::Keys { names, .. } => names.get(colour).cloned().unwrap_or_default(),
            _ => String::new(),
        };
        let place: Vec<String> = [name, key].into_iter().filter(|text| !text.is_empty()).collect();
        format!("{}: {value}", place.join(", "))
    }

    fn bars(&mut self, bars: &[Bar], number: usize, colour: Colour) {
        let side_by_side = self.side_by_side(number);
        let mut rects = Vec::new();
        for bar in bars {
            let mut rect = self.frame.rect(bar.at, Place::Between(bar.from, bar.to), side_by_side);
            if matches!(bar.at, Place::Between(..)) {
                // A line of ground between neighbours.
                let gap = (rect.width * 0.12).min(1.0);
                (rect.x, rect.width) = (rect.x + gap / 2.0, rect.width - gap);
            }
            if bars.len() <= TOLD {
                let value = self.frame.measure.extent.told(bar.to - bar.from);
                let note = self.note(bar.at, number, &value);
                self.page.marks.push(Mark::Box(rect, colour, note));
            }
            rects.push(rect);
        }
        if self.figure.has_labels {
            for (bar, rect) in bars.iter().zip(&rects) {
                self.bar_label(bar, rect);
            }
        }
        if bars.len() > TOLD {
            self.page.marks.push(Mark::Boxes(rects, colour));
        }
    }

    /// The number of a bar behind its end, or in it where there is no room or others stand on it.
    fn bar_label(&mut self, bar: &Bar, rect: &Rect) {
        let is_stacked = !self.figure.is_grouped && matches!(self.figure.colours, Colours::Keys { .. });
        let text = self.frame.measure.extent.told(bar.to - bar.from);
        if is_stacked || !self.label_behind(&text, bar.to >= bar.from, rect) {
            self.label_within(text, rect);
        }
    }

    /// Puts the number of a bar behind its end; gives whether there was room.
    fn label_behind(&mut self, text: &str, is_up: bool, rect: &Rect) -> bool {
        let middle = [rect.x + rect.width / 2.0, rect.y + rect.height / 2.0 + LABEL * 0.35];
        let (at, anchor) = match (self.frame.is_turned, is_up) {
            (true, true) => ([rect.right() + 5.0, middle[1]], Anchor::Start),
            (true, false) => ([rect.x - 5.0, middle[1]], Anchor::End),
            (false, true) => ([middle[0], rect.y - 5.0], Anchor::Middle),
            (false, false) => ([middle[0], rect.bottom() + LABEL], Anchor::Middle),
        };
        let words = self.page.label(text, at, anchor);
        self.put_apart(words)
    }

    /// Puts the number of a bar into it, if there is room, in the colour of the ground: a bar stands out from it.
    fn label_within(&mut self, text: String, rect: &Rect) {
        if width(&text, LABEL, Weight::Regular) + 4.0 > rect.width || rect.height < LABEL {
            return;
        }
        let at = [rect.x + rect.width / 2.0, rect.y + rect.height / 2.0 + LABEL * 0.35];
        let words = self.page.label(text, at, Anchor::Middle);
        let colour = self.page.palette.ground;
        self.put_apart(Words { colour, ..words });
    }

    /// Puts a label unless it would cover another one or leave the strip; gives whether it did.
    fn put_apart(&mut self, words: Words) -> bool {
        let (room, own) = (words.room(), &self.frame.room);
        let is_within = room.x >= own.x - 6.0
            && room.right() <= own.right() + 8.0
            && room.y >= own.y - 2.0
            && room.bottom() <= own.bottom() + 2.0;
        let is_free = is_within && !self.labels.iter().any(|other| other.overlaps(&room));
        if is_free {
            self.labels.push(room);
            self.page.put(words);
        }
        is_free
    }

    fn lines(&mut self, pieces: &[Vec<[f64; 2]>], number: usize, colour: Colour) {
        let points: usize = pieces.iter().map(Vec::len).sum();
        let mut marked = Vec::new();
        for piece in pieces {
            let pixels: Vec<[f64; 2]> = piece.iter().map(|[x, y]| self.frame.point(*x, *y)).collect();
            if pixels.len() == 1 || points <= MARKED {
                marked.extend(pixels.iter().copied());
            }
            if pixels.len() > 1 {
                let is_broken = number >= UNBROKEN;
                self.page.marks.push(Mark::Line(thinned(&pixels), colour, 1.9, is_broken));
            }
            if self.figure.has_labels
                && let (Some([x, y]), Some([_, value])) = (pixels.last(), piece.last())
            {
                let text = self.frame.measure.extent.told(*value);
                let words = self.page.label(text, [*x, *y - 7.0], Anchor::Middle);
                self.put_apart(words);
            }
        }
        if !marked.is_empty() {
            self.page.marks.push(Mark::Discs(marked, 2.6, colour));
        }
    }

    fn areas(&mut self, pieces: &[Vec<[f64; 3]>], colour: Colour) {
        for piece in pieces {
            let above: Vec<[f64; 2]> = piece.iter().map(|[x, _, to]| self.frame.point(*x, *to)).collect();
            let below: Vec<[f64; 2]> = piece.iter().map(|[x, from, _]| self.frame.point(*x, *from)).collect();
            let above = thinned(&above);
            let outline = above.iter().copied().chain(thinned(&below).into_iter().rev()).collect();
            self.page.marks.push(Mark::Area(outline, colour));
            self.page.marks.push(Mark::Line(above, colour, 1.4, false));
        }
    }

    fn points(&mut self, points: &[Point], colour: Colour) {
        let radius = if points.len() > 1000 { 2.2 } else { 3.2 };
        match &self.figure.colours {
            Colours::Values { range, .. } => {
                let (ramp, range) = ramp_of(range, self.page.palette);
                let mut steps: Vec<Vec<[f64; 2]>> = vec![Vec::new(); STEPS];
                for point in points {
                    let at = self.frame.point(point.x, point.y);
                    match point.value {
                        Some(value) => {
                            let step = ((range.share(value) * STEPS as f64) as usize).min(STEPS - 1);
                            if let Some(step) = steps.get_mut(step) {
                                step.push(at);
                            }
                        }
                        None => self.page.marks.push(Mark::Discs(vec![at], radius, self.page.palette.axis)),
                    }
                }
                for (step, at) in steps.into_iter().enumerate().filter(|(_, at)| !at.is_empty()) {
                    let colour = ramp.at((step as f64 + 0.5) / STEPS as f64);
                    self.page.marks.push(Mark::Discs(at, radius, colour));
                }
            }
            _ => {
                let at = points.iter().map(|point| self.frame.point(point.x, point.y)).collect();
                self.page.marks.push(Mark::Discs(at, radius, colour));
            }
        }
        for point in points.iter().filter(|point| !point.label.is_empty()) {
            let [x, y] = self.frame.point(point.x, point.y);
            let label = crate::font::shortened(&point.label, LABEL, Weight::Regular, 160.0);
            let words = self.page.label(label, [x + 6.0, y + LABEL * 0.35], Anchor::Start);
            self.put_apart(words);
        }
    }

    fn tiles(&mut self, tiles: &[Tile], number: usize) {
        let (ramp, range) = match &self.figure.colours {
            Colours::Values { range, .. } => ramp_of(range, self.page.palette),
            _ => {
                // The colour of the key, stronger where there is more.
                let most = tiles.iter().map(|tile| tile.value).fold(1.0, f64::max);
                let colour = self.colour(number);
                let weak = Ramp([self.page.palette.ground, colour, self.page.palette.words]).at(0.18);
                let ramp = Ramp([weak, Ramp([weak, colour, colour]).at(0.25), colour]);
                (ramp, crate::scale::Range::over(Measure::Whole, 1.0, most).log())
            }
        };
        let is_told = self.figure.has_labels || tiles.len() <= TOLD;
        let mut steps: Vec<Vec<Rect>> = vec![Vec::new(); STEPS];
        for tile in tiles {
            let rect = self.frame.tile(tile.x, tile.y);
            let share = range.share(tile.value);
            let step = ((share.clamp(0.0, 1.0) * STEPS as f64) as usize).min(STEPS - 1);
            if is_told && matches!(tile.x, Place::Key(_)) {
                let text = range.told(tile.value);
                let note = self.note(tile.x, usize::MAX, &text);
                let colour = ramp.at((step as f64 + 0.5) / STEPS as f64);
                let inner = Rect {
                    x: rect.x + 0.5,
                    y: rect.y + 0.5,
                    width: (rect.width - 1.0).max(0.5),
                    height: (rect.height - 1.0).max(0.5),
                };
                self.page.marks.push(Mark::Box(inner, colour, note));
                if self.figure.has_labels {
                    self.tile_label(text, &rect, colour);
                }
            } else if let Some(step) = steps.get_mut(step) {
                step.push(rect);
            }
        }
        for (step, rects) in steps.into_iter().enumerate().filter(|(_, rects)| !rects.is_empty()) {
            let colour = ramp.at((step as f64 + 0.5) / STEPS as f64);
            self.page.marks.push(Mark::Boxes(beside(rects), colour));
        }
    }

    fn tile_label(&mut self, text: String, rect: &Rect, ground: Colour) {
        if width(&text, LABEL, Weight::Regular) + 4.0 > rect.width || rect.height < LABEL {
            return;
        }
        let at = [rect.x + rect.width / 2.0, rect.y + rect.height / 2.0 + LABEL * 0.35];
        let words = self.page.label(text, at, Anchor::Middle);
        let palette = self.page.palette;
        let is_plain = palette.words.contrast(ground) >= palette.ground.contrast(ground);
        let colour = if is_plain { palette.words } else { palette.ground };
        self.put_apart(Words { colour, ..words });
    }

    fn boxes(&mut self, boxes: &[Quartiles], number: usize, colour: Colour) {
        let side_by_side = self.side_by_side(number);
        for one in boxes {
            let at = Place::Key(one.at);
            let [lower, middle, upper] = one.quartiles;
            let rect = self.frame.rect(at, Place::Between(lower, upper), side_by_side);
            // Boxes are narrower than bars: what matters lies along the measure.
            let rect = narrowed(rect, self.frame.is_turned);
            let along = |value: f64, share: f64| {
                let point = self.frame.rect(at, Place::Between(value, value), side_by_side);
                if self.frame.is_turned {
                    [point.x, rect.y + rect.height * share]
                } else {
                    [rect.x + rect.width * share, point.y]
                }
            };
            let lines = [
                (vec![along(one.low, 0.5), along(lower, 0.5)], 1.4),
                (vec![along(upper, 0.5), along(one.high, 0.5)], 1.4),
                (vec![along(one.low, 0.3), along(one.low, 0.7)], 1.4),
                (vec![along(one.high, 0.3), along(one.high, 0.7)], 1.4),
            ];
            let median = vec![along(middle, 0.0), along(middle, 1.0)];
            let outside = one.outside.iter().map(|value| along(*value, 0.5)).collect::<Vec<_>>();
            let extent = &self.frame.measure.extent;
            let note = format!(
                "{}, half of {} rows from {} to {}",
                self.note(at, number, &format!("median {}", extent.told(middle))),
                churn_core::readable::grouped(one.rows),
                extent.told(lower),
                extent.told(upper)
            );
            for (line, thick) in lines {
                self.page.marks.push(Mark::Line(line, colour, thick, false));
            }
            self.page.marks.push(Mark::Box(rect, colour, note));
            self.page.marks.push(Mark::Line(median, self.page.palette.ground, 2.2, false));
            if !outside.is_empty() {
                self.page.marks.push(Mark::Discs(outside, 1.8, colour));
            }
        }
    }
}

/// A box of three quarters of its width, and no wider than is pleasant.
fn narrowed(rect: Rect, is_turned: bool) -> Rect {
    let narrow = |from: f64, length: f64| {
        let new = (length * 0.75).min(64.0);
        (from + (length - new) / 2.0, new)
    };
    if is_turned {
        let (y, height) = narrow(rect.y, rect.height);
        Rect { y, height, ..rect }
    } else {
        let (x, width) = narrow(rect.x, rect.width);
        Rect { x, width, ..rect }
    }
}

/// A line's pixels, of those in one column the first, the least, the greatest and the last.
fn thinned(pixels: &[[f64; 2]]) -> Vec<[f64; 2]> {
    let column = |point: &[f64; 2]| point.first().map_or(0, |x| x.round() as i64);
    let mut kept = Vec::new();
    for same in pixels.chunk_by(|a, b| column(a) == column(b)) {
        if same.len() <= 4 {
            kept.extend_from_slice(same);
            continue;
        }
        let by_height = |a: &&[f64; 2], b: &&[f64; 2]| a[1].total_cmp(&b[1]);
        let ends = [same.first(), same.iter().min_by(by_height), same.iter().max_by(by_height), same.last()];
        kept.extend(ends.into_iter().flatten().copied());
    }
    kept
}

/// Rectangles of a row that touch, as one.
fn beside(rects: Vec<Rect>) -> Vec<Rect> {
    let mut joined: Vec<Rect> = Vec::new();
    for rect in rects {
        match joined.last_mut() {
            Some(last)
                if last.y == rect.y && last.height == rect.height && (last.right() - rect.x).abs() < 1e-6 =>
            {
                last.width = rect.right() - last.x;
            }
            _ => joined.push(rect),
        }
    }
    joined
}
