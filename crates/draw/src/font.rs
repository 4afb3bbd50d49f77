//! The font that is shipped: how wide texts are, and the outlines of their letters.

use std::sync::LazyLock;

use ttf_parser::{Face, GlyphId, OutlineBuilder};

/// How thick letters are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Default)]
pub enum Weight {
    /// Of labels.
    #[default]
    Regular,
    /// Of titles.
    Bold,
}

static REGULAR: &[u8] = include_bytes!("../fonts/NotoSans-Regular.ttf");
static BOLD: &[u8] = include_bytes!("../fonts/NotoSans-Bold.ttf");

/// What is asked of a font.
struct Font {
    face: Option<Face<'static>>,
    /// Parts of a letter's height that its measures are in.
    units: f64,
}

impl Font {
    fn of(bytes: &'static [u8]) -> Font {
        let face = Face::parse(bytes, 0).ok();
        let units = face.as_ref().map_or(1000.0, |face| f64::from(face.units_per_em()));
        Font { face, units }
    }

    fn glyph(&self, c: char) -> Option<(&Face<'static>, GlyphId)> {
        let face = self.face.as_ref()?;
        // What the font lacks stands as the sign for it.
        Some((face, face.glyph_index(c).or_else(|| face.glyph_index('\u{fffd}'))?))
    }

    fn advance(&self, c: char) -> f64 {
        let advance = self.glyph(c).and_then(|(face, glyph)| face.glyph_hor_advance(glyph));
        advance.map_or(0.6, |advance| f64::from(advance) / self.units)
    }
}

impl Weight {
    fn font(self) -> &'static Font {
        static FONTS: LazyLock<[Font; 2]> = LazyLock::new(|| [Font::of(REGULAR), Font::of(BOLD)]);
        let [regular, bold] = &*FONTS;
        match self {
            Weight::Regular => regular,
            Weight::Bold => bold,
        }
    }
}

/// How wide a text is, in the unit of its size.
pub fn width(text: &str, size: f64, weight: Weight) -> f64 {
    text.chars().map(|c| weight.font().advance(c)).sum::<f64>() * size
}

/// A text that is no wider than it may be: its end is cut off where it is.
pub fn shortened(text: &str, size: f64, weight: Weight, most: f64) -> String {
    // Line breaks would stand in a label as they are.
    let text: String = text.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    if width(&text, size, weight) <= most {
        return text;
    }
    let mut left = most - width("…", size, weight);
    let mut short: String = text
        .chars()
        .take_while(|c| {
            left -= weight.font().advance(*c) * size;
            left >= 0.0
        })
        .collect();
    short.truncate(short.trim_end().len());
    short.push('…');
    short
}

/// A text in lines that are no wider than they may be, as far as its words allow; of more than so many lines the last is cut.
pub fn lines(text: &str, size: f64, weight: Weight, most: f64, count: usize) -> Vec<String> {
    let mut lines: Vec<String> = Vec::new();
    // A space that holds together does so here, too.
    for word in text.split([' ', '\n', '\t']).filter(|word| !word.is_empty()) {
        match lines.last_mut() {
            Some(line) if width(&format!("{line} {word}"), size, weight) <= most => {
                line.push(' ');
                line.push_str(word);
            }
            _ => lines.push(word.to_owned()),
        }
    }
    if lines.len() > count {
        let rest = lines.split_off(count.saturating_sub(1)).join(" ");
        lines.push(rest);
    }
    lines.iter().map(|line| shortened(line, size, weight, most)).collect()
}

/// Draws the outlines of a text from the left end of its base line; gives how wide it is.
pub fn outline(text: &str, size: f64, weight: Weight, [x, y]: [f64; 2], pen: &mut impl Pen) -> f64 {
    let font = weight.font();
    let scale = size / font.units;
    let mut across = 0.0;
    for c in text.chars() {
        if let Some((face, glyph)) = font.glyph(c) {
            face.outline_glyph(glyph, &mut Placed { pen, x: x + across, y, scale });
        }
        across += font.advance(c) * size;
    }
    across
}

/// What draws outlines: lines and curves of the second and third degree.
pub trait Pen {
    /// Starts a piece.
    fn start(&mut self, to: [f64; 2]);
    /// A straight line.
    fn line(&mut self, to: [f64; 2]);
    /// A curve with one point that it bends to.
    fn bend(&mut self, by: [f64; 2], to: [f64; 2]);
    /// A curve with two points that it bends to.
    fn curve(&mut self, by: [[f64; 2]; 2], to: [f64; 2]);
    /// Back to where the piece started.
    fn close(&mut self);
}

/// A pen that draws at a place, in a size.
struct Placed<'a, P> {
    pen: &'a mut P,
    x: f64,
    y: f64,
    scale: f64,
}

impl<P> Placed<'_, P> {
    fn at(&self, x: f32, y: f32) -> [f64; 2] {
        [self.x + f64::from(x) * self.scale, self.y - f64::from(y) * self.scale]
    }
}

impl<P: Pen> OutlineBuilder for Placed<'_, P> {
    fn move_to(&mut self, x: f32, y: f32) {
        let to = self.at(x, y);
        self.pen.start(to);
    }

    fn line_to(&mut self, x: f32, y: f32) {
        let to = self.at(x, y);
        self.pen.line(to);
    }

    fn quad_to(&mut self, x1: f32, y1: f32, x: f32, y: f32) {
        let (by, to) = (self.at(x1, y1), self.at(x, y));
        self.pen.bend(by, to);
    }

    fn curve_to(&mut self, x1: f32, y1: f32, x2: f32, y2: f32, x: f32, y: f32) {
        let (by, to) = ([self.at(x1, y1), self.at(x2, y2)], self.at(x, y));
        self.pen.curve(by, to);
    }

    fn close(&mut self) {
        self.pen.close();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn the_font_has_the_letters_that_axes_need() {
        for c in "0123456789 .,-%°µ€…–·ÄÖÜßéçñłšΑωЖя²³½".chars().chain(['\u{a0}']) {
            assert!(
                Weight::Regular.font().face.as_ref().and_then(|face| face.glyph_index(c)).is_some(),
                "{c}"
            );
        }
        assert!(width("deliveries", 10.0, Weight::Bold) > width("deliveries", 10.0, Weight::Regular));
    }

    #[rstest]
    #[case("deliveries", 1000.0, "deliveries")]
    #[case("deliveries", 40.0, "deliv…")]
    #[case("two\nlines", 1000.0, "two lines")]
    #[case("a", 1.0, "…")]
    fn long_texts_are_cut(#[case] text: &str, #[case] most: f64, #[case] expected: &str) {
        assert_eq!(shortened(text, 12.0, Weight::Regular, most), expected);
    }

    #[test]
    fn lines_are_no_wider_than_they_may_be() {
        let text = "what became of every delivery of the year, by farm and by day of the week";
        let found = lines(text, 12.0, Weight::Regular, 120.0, 3);
        assert_eq!(found.len(), 3);
        assert!(found.iter().all(|line| width(line, 12.0, Weight::Regular) <= 120.0), "{found:?}");
        assert!(found.last().is_some_and(|line| line.ends_with('…')));
    }
}
