//! A chart in words, for readers who do not see it.

use churn_core::names::comma;
use churn_core::readable::{grouped, plural};

use crate::figure::{Axis, Colours, Extent, Figure, Series, Shape};

/// What is drawn of what, in sentences.
pub(super) fn of(figure: &Figure) -> String {
    let measures: Vec<String> =
        figure.measures.iter().map(Axis::heading).filter(|text| !text.is_empty()).collect();
    let kind = capital(figure.kind);
    let of = if measures.is_empty() { String::new() } else { format!(" of {}", comma(&measures)) };
    let along = figure.along.heading();
    let over = if along.is_empty() { String::new() } else { format!(" over {along}") };
    let by = match &figure.colours {
        Colours::Keys { title, names } => format!(", coloured by {title}: {}", comma(names)),
        Colours::Values { title, .. } => format!(", coloured by {title}"),
        Colours::One => String::new(),
    };
    let panels = match figure.panels.len() {
        0 | 1 => String::new(),
        count => format!(" {} panels.", grouped(count as u64)),
    };
    let axes = std::iter::once(&figure.along).chain(&figure.measures);
    let extents: Vec<String> = axes.filter_map(extent).collect();
    let extents = if extents.is_empty() { String::new() } else { format!(" {}.", extents.join("; ")) };
    format!("{kind}{of}{over}{by}.{panels}{extents} {}.", marks(figure))
}

fn capital(word: &str) -> String {
    let mut letters = word.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

fn extent(axis: &Axis) -> Option<String> {
    let name = if axis.title.is_empty() { return None } else { &axis.title };
    Some(match &axis.extent {
        Extent::Keys { names, .. } => match names.as_slice() {
            [] => return None,
            [one] => format!("{name} is {one}"),
            [first, .., last] => {
                format!("{name}: {} keys from {first} to {last}", grouped(names.len() as u64))
            }
        },
        Extent::Range(range) => {
            format!("{name} from {} to {}", range.measure.text(range.from), range.measure.text(range.to))
        }
    })
}

/// How many marks there are.
fn marks(figure: &Figure) -> String {
    let series = || figure.panels.iter().flat_map(|panel| panel.strips.iter().flatten());
    let count = |series: &Series| match &series.shape {
        Shape::Bars(bars) => ("bar", bars.len()),
        Shape::Lines(pieces) => ("point", pieces.iter().map(Vec::len).sum()),
        Shape::Areas(pieces) => ("point", pieces.iter().map(Vec::len).sum()),
        Shape::Points(points) => ("point", points.len()),
        Shape::Tiles(tiles) => ("tile", tiles.len()),
        Shape::Boxes(boxes) => ("box", boxes.len()),
    };
    let noun = series().next().map_or("mark", |series| count(series).0);
    let total: usize = series().map(|series| count(series).1).sum();
    match (noun, total) {
        ("box", total) if total != 1 => format!("{} boxes", grouped(total as u64)),
        _ => plural(total as u64, noun),
    }
}
