//! Where the figures of a chart lie in a picture.

mod axis;
mod describe;
mod frame;
mod legend;
mod panels;
mod series;
#[cfg(test)]
mod tests;

use crate::colour::{Ground, Palette};
use crate::figure::Figure;
use crate::font::{Weight, lines};
use crate::mark::{Anchor, Mark, Picture, Rect, Words};

/// The least size that a chart can be read in, and the largest that is drawn, in pixels.
pub const SIZES: [[u32; 2]; 2] = [[240, 180], [8000, 8000]];

/// Room around everything.
const MARGIN: f64 = 20.0;

/// The size of titles, labels and captions.
const TITLE: f64 = 17.0;
const LABEL: f64 = 12.0;
const CAPTION: f64 = 11.0;

/// From a line of captions to the next.
const CAPTION_LINE: f64 = 15.0;

/// Lines of a title and of a caption at most.
const TITLE_LINES: usize = 2;
const CAPTION_LINES: usize = 3;

/// Draws a chart in a size, on a ground.
pub fn picture(figure: &Figure, [width, height]: [u32; 2], ground: Ground) -> Picture {
    let (width, height) = (f64::from(width), f64::from(height));
    let mut page = Page {
        palette: ground.palette(),
        marks: Vec::new(),
        left: Rect { x: MARGIN, y: MARGIN, width: width - 2.0 * MARGIN, height: height - 2.0 * MARGIN },
    };
    page.title(&figure.title);
    page.captions(figure);
    legend::draw(&figure.colours, &mut page);
    panels::draw(figure, &mut page);
    let description = describe::of(figure);
    let title = if figure.title.is_empty() { description.clone() } else { figure.title.clone() };
    Picture { width, height, ground, title, description, marks: page.marks }
}

/// A picture as it is filled from its borders.
struct Page {
    palette: &'static Palette,
    marks: Vec<Mark>,
    /// What is left of it.
    left: Rect,
}

impl Page {
    /// Takes so many pixels from above; gives where they start.
    fn take_above(&mut self, height: f64) -> f64 {
        let y = self.left.y;
        self.left.y += height;
        self.left.height -= height;
        y
    }

    /// Takes so many pixels from below; gives where they start.
    fn take_below(&mut self, height: f64) -> f64 {
        self.left.height -= height;
        self.left.bottom()
    }

    /// A label in the usual size, weight and colour, to be changed and put.
    fn label(&self, text: impl Into<String>, at: [f64; 2], anchor: Anchor) -> Words {
        let (weight, colour) = (Weight::Regular, self.palette.words);
        Words { text: text.into(), at, anchor, size: LABEL, weight, colour }
    }

    fn put(&mut self, words: Words) {
        self.marks.push(Mark::Words(words));
    }

    fn title(&mut self, title: &str) {
        for line in lines(title, TITLE, Weight::Bold, self.left.width, TITLE_LINES) {
            let y = self.take_above(TITLE * 1.3);
            let words = self.label(line, [self.left.x, y + TITLE * 0.9], Anchor::Start);
            self.put(Words { size: TITLE, weight: Weight::Bold, ..words });
        }
        if !title.is_empty() {
            self.take_above(6.0);
        }
    }

    fn captions(&mut self, figure: &Figure) {
        let source = (!figure.source.is_empty()).then(|| format!("Source: {}", figure.source));
        let all = figure.captions.iter().cloned().chain(source);
        let told: Vec<String> = all
            .flat_map(|text| lines(&text, CAPTION, Weight::Regular, self.left.width, CAPTION_LINES))
            .collect();
        // In a small picture they leave room for what they are about.
        let room = (self.left.height * 0.22 / CAPTION_LINE) as usize;
        let told = told.get(..room.min(told.len())).unwrap_or_default();
        if told.is_empty() {
            return;
        }
        let top = self.take_below(CAPTION_LINE * told.len() as f64 + 8.0) + 8.0;
        for (number, line) in told.iter().enumerate() {
            let at = [self.left.x, top + CAPTION_LINE * (number as f64 + 0.8)];
            let words = self.label(line.clone(), at, Anchor::Start);
            self.put(Words { size: CAPTION, colour: self.palette.quiet, ..words });
        }
    }
}
