//! Marks as SVG: text that a reader can select, with a title and a description; the same bytes for the same marks.

use crate::font::Weight;
use crate::mark::{Anchor, COVERS, Mark, Picture, Rect, Words};
use crate::text::{escaped, push};

/// Writes a picture as a document of SVG 1.1.
pub fn write(picture: &Picture) -> String {
    let Picture { width, height, .. } = picture;
    let mut out = String::with_capacity(256 + picture.marks.len() * 96);
    push(
        &mut out,
        format_args!(
            "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"{}\" height=\"{}\" viewBox=\"0 0 {} {}\" role=\"img\" \
             aria-label=\"{}\" font-family=\"'Noto Sans', system-ui, sans-serif\">\n<title>{}</title>\n<desc>{}</desc>\n",
            number(*width),
            number(*height),
            number(*width),
            number(*height),
            escaped(&picture.title),
            escaped(&picture.title),
            escaped(&picture.description),
        ),
    );
    let ground = picture.ground.palette().ground.hex();
    push(&mut out, format_args!("<rect width=\"100%\" height=\"100%\" fill=\"{ground}\"/>\n"));
    picture.marks.iter().for_each(|mark| write_mark(mark, &mut out));
    out.push_str("</svg>\n");
    out
}

fn write_mark(mark: &Mark, out: &mut String) {
    match mark {
        Mark::Box(rect, colour, note) => {
            let Rect { x, y, width, height } = rect;
            let [x, y, width, height] = [x, y, width, height].map(|n| number(*n));
            let fill = colour.hex();
            push(
                out,
                format_args!(
                    "<rect x=\"{x}\" y=\"{y}\" width=\"{width}\" height=\"{height}\" fill=\"{fill}\""
                ),
            );
            if note.is_empty() {
                out.push_str("/>\n");
            } else {
                push(out, format_args!("><title>{}</title></rect>\n", escaped(note)));
            }
        }
        Mark::Boxes(rects, colour) => {
            push(out, format_args!("<path fill=\"{}\" d=\"", colour.hex()));
            for Rect { x, y, width, height } in rects {
                let [x, y, width, height] = [x, y, width, height].map(|n| number(*n));
                push(out, format_args!("M{x} {y}h{width}v{height}h-{width}z"));
            }
            out.push_str("\"/>\n");
        }
        Mark::Line(points, colour, thick, is_broken) => {
            push(
                out,
                format_args!(
                    "<path fill=\"none\" stroke=\"{}\" stroke-width=\"{}\"",
                    colour.hex(),
                    number(*thick)
                ),
            );
            if *is_broken {
                out.push_str(" stroke-dasharray=\"6 3\"");
            }
            out.push_str(" stroke-linejoin=\"round\" d=\"");
            write_points(points, out);
            out.push_str("\"/>\n");
        }
        Mark::Area(points, colour) => {
            push(out, format_args!("<path fill=\"{}\" fill-opacity=\"{COVERS}\" d=\"", colour.hex()));
            write_points(points, out);
            out.push_str("z\"/>\n");
        }
        Mark::Discs(points, radius, colour) => {
            push(out, format_args!("<g fill=\"{}\" fill-opacity=\"{COVERS}\">", colour.hex()));
            let radius = number(*radius);
            for [x, y] in points {
                push(
                    out,
                    format_args!("<circle cx=\"{}\" cy=\"{}\" r=\"{radius}\"/>", number(*x), number(*y)),
                );
            }
            out.push_str("</g>\n");
        }
        Mark::Words(words) => write_words(words, out),
    }
}

fn write_points(points: &[[f64; 2]], out: &mut String) {
    for (place, [x, y]) in points.iter().enumerate() {
        push(out, format_args!("{}{} {}", if place == 0 { 'M' } else { 'L' }, number(*x), number(*y)));
    }
}

fn write_words(words: &Words, out: &mut String) {
    let [x, y] = words.at.map(number);
    push(
        out,
        format_args!(
            "<text x=\"{x}\" y=\"{y}\" font-size=\"{}\" fill=\"{}\"",
            number(words.size),
            words.colour.hex()
        ),
    );
    match words.anchor {
        Anchor::Start => {}
        Anchor::Middle => out.push_str(" text-anchor=\"middle\""),
        Anchor::End => out.push_str(" text-anchor=\"end\""),
    }
    if words.weight == Weight::Bold {
        out.push_str(" font-weight=\"700\"");
    }
    push(out, format_args!(">{}</text>\n", escaped(&words.text)));
}

/// A number of pixels, to a hundredth of one.
fn number(x: f64) -> String {
    let x = if x.is_finite() { x.clamp(-1e6, 1e6) } else { 0.0 };
    let text = format!("{x:.2}");
    let text = text.trim_end_matches('0').trim_end_matches('.');
    if text == "-0" { "0".to_owned() } else { text.to_owned() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(1.0, "1")]
    #[case(-0.001, "0")]
    #[case(12.345, "12.35")]
    #[case(f64::NAN, "0")]
    fn numbers_are_short(#[case] x: f64, #[case] text: &str) {
        assert_eq!(number(x), text);
    }
}
