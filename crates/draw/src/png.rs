//! Marks as PNG, drawn with the font that is shipped: the same on every machine.

use churn_core::{Error, ErrorKind, Result};
use tiny_skia::{Color, FillRule, LineJoin, Paint, Path, PathBuilder, Pixmap, Stroke, StrokeDash, Transform};

use crate::colour::Colour;
use crate::font::{Pen, outline};
use crate::mark::{COVERS, Mark, Picture, Rect, Words};

/// Draws a picture as a file of PNG, so many dots for each of its pixels.
///
/// # Errors
/// The picture is too large to be held.
pub fn write(picture: &Picture, scale: f64) -> Result<Vec<u8>> {
    let too_large = || {
        Error::new(ErrorKind::Memory, "The picture is too large to be drawn.").next("Choose a smaller size.")
    };
    let size = |pixels: f64| (pixels * scale).round() as u32;
    let mut map = Pixmap::new(size(picture.width), size(picture.height)).ok_or_else(too_large)?;
    map.fill(colour(picture.ground.palette().ground, 1.0));
    let mut canvas = Canvas { map, transform: Transform::from_scale(scale as f32, scale as f32) };
    picture.marks.iter().for_each(|mark| canvas.draw(mark));
    canvas.map.encode_png().map_err(|_| too_large())
}

fn colour(Colour([red, green, blue]): Colour, opacity: f64) -> Color {
    let part = |part: u8| f32::from(part) / 255.0;
    Color::from_rgba(part(red), part(green), part(blue), opacity as f32).unwrap_or(Color::BLACK)
}

fn paint(of: Colour, opacity: f64) -> Paint<'static> {
    let mut paint = Paint { anti_alias: true, ..Paint::default() };
    paint.set_color(colour(of, opacity));
    paint
}

struct Canvas {
    map: Pixmap,
    transform: Transform,
}

impl Canvas {
    fn fill(&mut self, path: Option<Path>, paint: &Paint<'_>) {
        if let Some(path) = path {
            self.map.fill_path(&path, paint, FillRule::Winding, self.transform, None);
        }
    }

    fn draw(&mut self, mark: &Mark) {
        match mark {
            Mark::Box(rect, of, _) => self.fill(boxes(std::slice::from_ref(rect)), &paint(*of, 1.0)),
            Mark::Boxes(rects, of) => {
                // Without soft edges, so that neighbours leave no seam.
                let paint = Paint { anti_alias: false, ..paint(*of, 1.0) };
                self.fill(boxes(rects), &paint);
            }
            Mark::Line(points, of, thick, is_broken) => {
                let dash = if *is_broken { StrokeDash::new(vec![6.0, 3.0], 0.0) } else { None };
                let stroke =
                    Stroke { width: *thick as f32, line_join: LineJoin::Round, dash, ..Stroke::default() };
                if let Some(path) = line(points, false) {
                    self.map.stroke_path(&path, &paint(*of, 1.0), &stroke, self.transform, None);
                }
            }
            Mark::Area(points, of) => self.fill(line(points, true), &paint(*of, COVERS)),
            Mark::Discs(points, radius, of) => {
                let paint = paint(*of, COVERS);
                for [x, y] in points {
                    self.fill(PathBuilder::from_circle(*x as f32, *y as f32, *radius as f32), &paint);
                }
            }
            Mark::Words(words) => self.words(words),
        }
    }

    fn words(&mut self, words: &Words) {
        let mut letters = Letters(PathBuilder::new());
        outline(&words.text, words.size, words.weight, words.start(), &mut letters);
        self.fill(letters.0.finish(), &paint(words.colour, 1.0));
    }
}

fn boxes(rects: &[Rect]) -> Option<Path> {
    let mut path = PathBuilder::new();
    for Rect { x, y, width, height } in rects {
        if let Some(rect) = tiny_skia::Rect::from_xywh(*x as f32, *y as f32, *width as f32, *height as f32) {
            path.push_rect(rect);
        }
    }
    path.finish()
}

fn line(points: &[[f64; 2]], is_closed: bool) -> Option<Path> {
    let mut path = PathBuilder::new();
    for (place, [x, y]) in points.iter().enumerate() {
        let (x, y) = (*x as f32, *y as f32);
        if place == 0 { path.move_to(x, y) } else { path.line_to(x, y) }
    }
    if is_closed {
        path.close();
    }
    path.finish()
}

/// Outlines of letters as a path.
struct Letters(PathBuilder);

impl Pen for Letters {
    fn start(&mut self, [x, y]: [f64; 2]) {
        self.0.move_to(x as f32, y as f32);
    }

    fn line(&mut self, [x, y]: [f64; 2]) {
        self.0.line_to(x as f32, y as f32);
    }

    fn bend(&mut self, [x1, y1]: [f64; 2], [x, y]: [f64; 2]) {
        self.0.quad_to(x1 as f32, y1 as f32, x as f32, y as f32);
    }

    fn curve(&mut self, [[x1, y1], [x2, y2]]: [[f64; 2]; 2], [x, y]: [f64; 2]) {
        self.0.cubic_to(x1 as f32, y1 as f32, x2 as f32, y2 as f32, x as f32, y as f32);
    }

    fn close(&mut self) {
        self.0.close();
    }
}
