//! Panels beside and below each other, with the axes that they share.

use super::axis::{self, Label, Parts};
use super::frame::Frame;
use super::{LABEL, Page, series};
use crate::figure::{Axis, Extent, Figure, Panel, Shape};
use crate::font::{Weight, shortened};
use crate::mark::{Anchor, Mark, Rect, Words};

/// Pixels between panels.
const GAP: f64 = 18.0;

/// Pixels of a heading: of a panel, of a strip.
const HEADING: f64 = 19.0;

/// Pixels of the labels below, and of the title below those.
const LABELS: f64 = 24.0;
const AXIS_TITLE: f64 = 17.0;

/// Pixels at the right of panels.
const RIGHT: f64 = 10.0;

/// How wide a panel is to its height, where there is a choice.
const SHAPE: f64 = 1.6;

/// The most of a picture's width that labels at the left take.
const MOST_LEFT: f64 = 0.32;

pub(super) fn draw(figure: &Figure, page: &mut Page) {
    let plan = Plan::of(figure, page);
    for (number, panel) in figure.panels.iter().enumerate() {
        plan.draw(number, panel, page);
    }
    plan.draw_titles(page);
}

/// The columns that panels stand in.
fn columns(figure: &Figure, room: &Rect) -> usize {
    let count = figure.panels.len().max(1);
    if let Some(columns) = figure.grid {
        return columns.clamp(1, count);
    }
    let size = |columns: usize| {
        let rows = count.div_ceil(columns);
        (room.width / columns as f64 / SHAPE).min(room.height / rows as f64)
    };
    (1..=count).max_by(|a, b| size(*a).total_cmp(&size(*b)).then(b.cmp(a))).unwrap_or(1)
}

/// How the panels share the room.
struct Plan<'a> {
    figure: &'a Figure,
    columns: usize,
    is_turned: bool,
    /// The room of all, without what stands above the uppermost and below the lowest.
    room: Rect,
    /// Pixels of labels at the left.
    left: f64,
    /// The size of what is drawn of a strip, and what stands above it.
    size: [f64; 2],
    panel_heading: f64,
    strip_heading: f64,
    row_height: f64,
    below: Vec<Label>,
    at_left: Vec<Vec<Label>>,
}

impl<'a> Plan<'a> {
    fn of(figure: &'a Figure, page: &mut Page) -> Plan<'a> {
        let columns = columns(figure, &page.left);
        let rows = figure.panels.len().max(1).div_ceil(columns);
        let strips = figure.measures.len().max(1);
        let is_turned = strips == 1 && has_bars(figure) && {
            let about = page.left.width * 0.9 / columns as f64;
            !axis::fits_below(&figure.along, about)
        };
        let strip_heading = if strips > 1 { HEADING } else { 0.0 };
        if strips == 1 {
            let heading = if is_turned { figure.along.heading() } else { heading_of(figure, 0) };
            let y = page.take_above(HEADING + 7.0);
            let text = shortened(&heading, LABEL, Weight::Regular, page.left.width);
            page.put(page.label(text, [page.left.x, y + 12.0], Anchor::Start));
        }
        let below_axis = if is_turned { figure.measures.first() } else { Some(&figure.along) };
        let title = below_axis.map(Axis::heading).filter(|title| !title.is_empty());
        page.take_below(LABELS + if title.is_some() { AXIS_TITLE } else { 0.0 });
        let room = page.left;
        let panel_heading =
            if figure.panels.iter().any(|panel| !panel.name.is_empty()) { HEADING } else { 0.0 };
        let row_height = (room.height - GAP * (rows - 1) as f64) / rows as f64;
        let height = ((row_height - panel_heading) / strips as f64 - strip_heading).max(1.0);
        let height = if strips > 1 { (height - 8.0).max(1.0) } else { height };
        let left_axes: Vec<&Axis> =
            if is_turned { vec![&figure.along] } else { figure.measures.iter().collect() };
        let labels = |axis: &&Axis| axis::at_left(axis, height, room.width * MOST_LEFT);
        let at_left: Vec<Vec<Label>> = left_axes.iter().map(labels).collect();
        let left = at_left.iter().map(|labels| axis::widest(labels)).fold(0.0, f64::max) + 9.0;
        let width = (room.width - left - RIGHT - GAP * (columns - 1) as f64) / columns as f64;
        let below = below_axis.map(|axis| axis::below(axis, width.max(1.0))).unwrap_or_default();
        let size = [width.max(1.0), height];
        Plan {
            figure,
            columns,
            is_turned,
            room,
            left,
            size,
            panel_heading,
            strip_heading,
            row_height,
            below,
            at_left,
        }
    }

    /// The room of a strip of a panel.
    fn strip(&self, panel: usize, strip: usize) -> Rect {
        let [width, height] = self.size;
        let (row, column) = (panel / self.columns, panel % self.columns);
        let each = (self.row_height - self.panel_heading) / self.figure.measures.len().max(1) as f64;
        Rect {
            x: self.room.x + self.left + (width + GAP) * column as f64,
            y: self.room.y
                + (self.row_height + GAP) * row as f64
                + self.panel_heading
                + each * strip as f64
                + self.strip_heading,
            width,
            height,
        }
    }

    fn draw(&self, number: usize, panel: &Panel, page: &mut Page) {
        let first = self.strip(number, 0);
        if !panel.name.is_empty() {
            let text = shortened(&panel.name, LABEL, Weight::Bold, first.width);
            let at = [first.x, first.y - self.strip_heading - 6.0];
            let words = page.label(text, at, Anchor::Start);
            page.put(Words { weight: Weight::Bold, ..words });
        }
        for (place, series) in panel.strips.iter().enumerate() {
            let Some(measure) = self.figure.measures.get(place) else { continue };
            let room = self.strip(number, place);
            let frame = Frame { room, along: &self.figure.along, measure, is_turned: self.is_turned };
            self.draw_axes(number, place, &room, page);
            series::draw(self.figure, &frame, series, page);
            self.draw_start(
                &frame,
                series.iter().any(|series| matches!(series.shape, Shape::Tiles(_))),
                page,
            );
        }
    }

    /// The lines and labels of the axes of a strip.
    fn draw_axes(&self, number: usize, place: usize, room: &Rect, page: &mut Page) {
        let has_tiles = has_tiles(self.figure);
        let is_first = number.is_multiple_of(self.columns);
        if self.strip_heading > 0.0 && is_first {
            let text = shortened(&heading_of(self.figure, place), LABEL, Weight::Regular, room.width);
            page.put(page.label(text, [room.x - self.left + 2.0, room.y - 7.0], Anchor::Start));
        }
        if let Some(labels) = self.at_left.get(place) {
            let parts = Parts { lines: !self.is_turned && !has_tiles, labels: is_first };
            axis::draw_at_left(page, room, labels, parts, self.is_turned);
        }
        let is_last = number + self.columns >= self.figure.panels.len();
        let has_labels = is_last && place + 1 == self.figure.measures.len();
        let lines = (self.is_turned || has_points(self.figure)) && !has_tiles;
        let is_rightmost = (number + 1).is_multiple_of(self.columns) || self.columns == 1;
        let ends = [
            if is_first { page.left.x } else { room.x - GAP / 2.0 + 2.0 },
            if is_rightmost { page.left.right() } else { room.right() + GAP / 2.0 - 2.0 },
        ];
        axis::draw_below(page, room, &self.below, Parts { lines, labels: has_labels }, ends);
    }

    /// The line that values start from: at zero, or at the end of the room.
    fn draw_start(&self, frame: &Frame<'_>, has_tiles: bool, page: &mut Page) {
        if has_tiles {
            return;
        }
        let zero = match &frame.measure.extent {
            Extent::Range(range) if !range.is_log && range.from <= 0.0 && range.to >= 0.0 => range.share(0.0),
            _ => 0.0,
        };
        let Rect { x, y, width, height } = frame.room;
        let line = if self.is_turned {
            [[x + width * zero, y], [x + width * zero, y + height]]
        } else {
            [[x, y + height * (1.0 - zero)], [x + width, y + height * (1.0 - zero)]]
        };
        page.marks.push(Mark::Line(line.to_vec(), page.palette.axis, 1.2, false));
    }

    /// The title of the axis below.
    fn draw_titles(&self, page: &mut Page) {
        let axis = if self.is_turned { self.figure.measures.first() } else { Some(&self.figure.along) };
        let heading = axis.map(Axis::heading).unwrap_or_default();
        if heading.is_empty() {
            return;
        }
        let right = self.room.right() - RIGHT;
        let text = shortened(&heading, LABEL, Weight::Regular, self.room.width);
        let at = [right, self.room.bottom() + LABELS + 11.0];
        page.put(page.label(text, at, Anchor::End));
    }
}

fn heading_of(figure: &Figure, place: usize) -> String {
    figure.measures.get(place).map(Axis::heading).unwrap_or_default()
}

fn shapes(figure: &Figure) -> impl Iterator<Item = &Shape> {
    figure.panels.iter().flat_map(|panel| panel.strips.iter().flatten()).map(|series| &series.shape)
}

/// Whether its marks are bars or boxes of keys.
fn has_bars(figure: &Figure) -> bool {
    matches!(figure.along.extent, Extent::Keys { .. })
        && shapes(figure).any(|shape| matches!(shape, Shape::Bars(_) | Shape::Boxes(_)))
}

fn has_tiles(figure: &Figure) -> bool {
    shapes(figure).all(|shape| matches!(shape, Shape::Tiles(_))) && shapes(figure).next().is_some()
}

fn has_points(figure: &Figure) -> bool {
    shapes(figure).any(|shape| matches!(shape, Shape::Points(_)))
}
