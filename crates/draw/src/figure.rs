//! What a chart shows, as figures: axes, panels, and in them the marks of each key. Where they lie in a picture is another
//! matter: `layout` and `terminal`.

use crate::scale::{Measure, Range};

/// A chart before it is drawn.
#[derive(Clone, Debug, PartialEq)]
pub struct Figure {
    /// What kind of chart it is, in a word: `bars`.
    pub kind: &'static str,
    /// What stands above it.
    pub title: String,
    /// Where its rows came from; empty if that is not told.
    pub source: String,
    /// What should be known beside: rows that are not drawn, how bins were chosen.
    pub captions: Vec<String>,
    /// What its marks stand along.
    pub along: Axis,
    /// What its marks measure, from the uppermost strip to the lowest: each measure has a strip of its own in each panel.
    pub measures: Vec<Axis>,
    /// What its colours stand for.
    pub colours: Colours,
    /// Whether bars and boxes of different colours stand side by side, and not on each other.
    pub is_grouped: bool,
    /// Whether the marks have their numbers beside them.
    pub has_labels: bool,
    /// The panels: one, or several of the same axes.
    pub panels: Vec<Panel>,
    /// Columns of a grid whose rows and columns mean something; without it panels follow one another as they fit.
    pub grid: Option<usize>,
}

/// An axis.
#[derive(Clone, Debug, PartialEq)]
pub struct Axis {
    /// What it tells.
    pub title: String,
    /// What its numbers are of; empty if that is not told.
    pub unit: String,
    /// What lies along it.
    pub extent: Extent,
}

/// What lies along an axis.
#[derive(Clone, Debug, PartialEq)]
pub enum Extent {
    /// Keys side by side.
    Keys {
        /// Their names.
        names: Vec<String>,
        /// Whether they have an order, so that a name stands for its neighbours, too.
        are_ordered: bool,
    },
    /// Numbers, dates or times.
    Range(Range),
}

impl Extent {
    /// A number that lies along it, as a label tells it.
    pub fn told(&self, x: f64) -> String {
        match self {
            Extent::Range(range) => range.told(x),
            Extent::Keys { .. } => Measure::Number.text(x),
        }
    }
}

impl Axis {
    /// The title with the unit: `litres (l)`.
    pub fn plain_heading(&self) -> String {
        match (self.title.as_str(), self.unit.as_str()) {
            (title, "") => title.to_owned(),
            ("", unit) => unit.to_owned(),
            (title, unit) => format!("{title} ({unit})"),
        }
    }

    /// The title with what its numbers are: `litres (thousands of l)`.
    pub fn heading(&self) -> String {
        let magnitude = match &self.extent {
            Extent::Range(range) => range.magnitude().name,
            Extent::Keys { .. } => "",
        };
        let of = match (magnitude, self.unit.as_str()) {
            ("", "") => return self.title.clone(),
            ("", unit) => unit.to_owned(),
            (many, "") => many.to_owned(),
            (many, unit) => format!("{many} of {unit}"),
        };
        if self.title.is_empty() { of } else { format!("{} ({of})", self.title) }
    }
}

/// What colours stand for.
#[derive(Clone, Debug, PartialEq)]
pub enum Colours {
    /// Nothing: all marks have one.
    One,
    /// Keys.
    Keys {
        /// What they are.
        title: String,
        /// Their names; the colour of a series is a place among them.
        names: Vec<String>,
    },
    /// Values of the marks.
    Values {
        /// What they are.
        title: String,
        /// From the least to the greatest.
        range: Range,
    },
}

/// A panel.
#[derive(Clone, Debug, PartialEq)]
pub struct Panel {
    /// Its heading; empty where there is one panel.
    pub name: String,
    /// The series of each measure.
    pub strips: Vec<Vec<Series>>,
}

/// Marks of one key.
#[derive(Clone, Debug, PartialEq)]
pub struct Series {
    /// The place of the key among those of colours.
    pub colour: usize,
    /// The marks.
    pub shape: Shape,
}

/// Marks of one kind.
#[derive(Clone, Debug, PartialEq)]
pub enum Shape {
    /// Bars from one value to another.
    Bars(Vec<Bar>),
    /// Lines through points, in pieces between gaps.
    Lines(Vec<Vec<[f64; 2]>>),
    /// Areas between two values at each place, in pieces between gaps.
    Areas(Vec<Vec<[f64; 3]>>),
    /// Points.
    Points(Vec<Point>),
    /// Rectangles whose value is their colour.
    Tiles(Vec<Tile>),
    /// Quartiles and what lies beyond.
    Boxes(Vec<Quartiles>),
}

/// What of an axis a mark covers.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Place {
    /// The room of a key, by its number.
    Key(usize),
    /// From a number to another.
    Between(f64, f64),
}

/// A bar.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bar {
    /// Where it stands.
    pub at: Place,
    /// The value that it starts from.
    pub from: f64,
    /// The value that it ends at.
    pub to: f64,
}

/// A point.
#[derive(Clone, Debug, PartialEq)]
pub struct Point {
    /// Along the first axis.
    pub x: f64,
    /// Along the measure.
    pub y: f64,
    /// The value that its colour stands for.
    pub value: Option<f64>,
    /// What stands beside it; empty if nothing does.
    pub label: String,
}

/// A rectangle with a value.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Tile {
    /// Along the first axis.
    pub x: Place,
    /// Along the measure.
    pub y: Place,
    /// What its colour stands for.
    pub value: f64,
}

/// How the values of a key are spread.
#[derive(Clone, Debug, PartialEq)]
pub struct Quartiles {
    /// The key's number.
    pub at: usize,
    /// The least value that is no more than one and a half times the box below it.
    pub low: f64,
    /// The three quartiles.
    pub quartiles: [f64; 3],
    /// The greatest value that is no more than one and a half times the box above it.
    pub high: f64,
    /// Values beyond those, each once; not more than can be told apart.
    pub outside: Vec<f64>,
    /// Rows beyond.
    pub rows_outside: u64,
    /// Rows in all.
    pub rows: u64,
}
