//! Marks: what a picture is made of, in pixels from its upper left corner.

use crate::colour::{Colour, Ground};
use crate::font::Weight;

/// A picture of marks, the later ones over the earlier ones.
#[derive(Clone, Debug, PartialEq)]
pub struct Picture {
    /// Pixels across.
    pub width: f64,
    /// Pixels down.
    pub height: f64,
    /// What it is drawn on.
    pub ground: Ground,
    /// What it shows, in a line.
    pub title: String,
    /// What it shows, for a reader who does not see it.
    pub description: String,
    /// The marks.
    pub marks: Vec<Mark>,
}

/// A rectangle.
#[derive(Clone, Copy, Debug, PartialEq, Default)]
pub struct Rect {
    /// The left side.
    pub x: f64,
    /// The upper side.
    pub y: f64,
    /// Pixels across.
    pub width: f64,
    /// Pixels down.
    pub height: f64,
}

impl Rect {
    /// The right side.
    pub fn right(&self) -> f64 {
        self.x + self.width
    }

    /// The lower side.
    pub fn bottom(&self) -> f64 {
        self.y + self.height
    }

    /// Between two corners, whichever they are.
    pub fn between([x0, y0]: [f64; 2], [x1, y1]: [f64; 2]) -> Rect {
        Rect { x: x0.min(x1), y: y0.min(y1), width: (x1 - x0).abs(), height: (y1 - y0).abs() }
    }

    /// Whether both share more than a border.
    pub fn overlaps(&self, other: &Rect) -> bool {
        self.x < other.right() && other.x < self.right() && self.y < other.bottom() && other.y < self.bottom()
    }
}

/// Which part of a text stands at its place.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Anchor {
    /// Its left end.
    #[default]
    Start,
    /// Its middle.
    Middle,
    /// Its right end.
    End,
}

/// A text on one line.
#[derive(Clone, Debug, PartialEq)]
pub struct Words {
    /// The text.
    pub text: String,
    /// Where its base line is.
    pub at: [f64; 2],
    /// What of it stands there.
    pub anchor: Anchor,
    /// The height of its letters, in pixels.
    pub size: f64,
    /// How thick they are.
    pub weight: Weight,
    /// Their colour.
    pub colour: Colour,
}

impl Words {
    /// How wide it is.
    pub fn width(&self) -> f64 {
        crate::font::width(&self.text, self.size, self.weight)
    }

    /// Where its base line begins.
    pub fn start(&self) -> [f64; 2] {
        let [x, y] = self.at;
        let before = match self.anchor {
            Anchor::Start => 0.0,
            Anchor::Middle => self.width() / 2.0,
            Anchor::End => self.width(),
        };
        [x - before, y]
    }

    /// The room that it takes, from the top of its capital letters to the end of those that go below the line.
    pub fn room(&self) -> Rect {
        let [x, y] = self.start();
        Rect { x, y: y - self.size * 0.75, width: self.width(), height: self.size * 0.95 }
    }
}

/// A mark.
#[derive(Clone, Debug, PartialEq)]
pub enum Mark {
    /// A filled rectangle; what it stands for, if that is told.
    Box(Rect, Colour, String),
    /// Filled rectangles of one colour.
    Boxes(Vec<Rect>, Colour),
    /// A line: its points, its colour, how thick it is, and whether it is broken.
    Line(Vec<[f64; 2]>, Colour, f64, bool),
    /// A filled shape of straight sides, that other marks shine through.
    Area(Vec<[f64; 2]>, Colour),
    /// Filled discs of one colour and size, that other marks shine through.
    Discs(Vec<[f64; 2]>, f64, Colour),
    /// A text.
    Words(Words),
}

/// How much of what lies below an area or a disc is hidden.
pub const COVERS: f64 = 0.75;
