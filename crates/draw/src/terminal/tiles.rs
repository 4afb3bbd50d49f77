//! Tiles in shades: of two keys a cell each, of a grid as many as there is room for.

use unicode_width::UnicodeWidthStr;

use super::plot::{left_labels, share, write_below};
use super::{Screen, cut, right, signs};
use crate::figure::{Axis, Colours, Extent, Figure, Place, Series, Shape, Tile};
use crate::scale::{Measure, Range};

/// The widest that a cell of two keys is.
const WIDEST: usize = 8;

pub(super) fn draw(figure: &Figure, measure: &Axis, series: &[Series], screen: Screen, out: &mut String) {
    let height = match &measure.extent {
        Extent::Keys { names, .. } => names.len().max(1),
        Extent::Range(_) => screen.height,
    };
    let labels = left_labels(&measure.extent, height);
    let labels: Vec<String> = labels.iter().map(|label| cut(label, screen.width * 2 / 5)).collect();
    let left = labels.iter().map(|label| label.width()).max().unwrap_or(0);
    let room = screen.width.saturating_sub(left + 2).max(10);
    let width = match &figure.along.extent {
        // Cells of one width.
        Extent::Keys { names, .. } => (room / names.len().max(1)).clamp(1, WIDEST) * names.len().max(1),
        Extent::Range(_) => room,
    };
    let width = width.min(room);
    let range = range_of(figure, series);
    let mut cells: Vec<(f64, usize)> = vec![(f64::NEG_INFINITY, 0); width * height];
    for one in series {
        if let Shape::Tiles(tiles) = &one.shape {
            for tile in tiles {
                fill(figure, measure, tile, &range, one.colour, [width, height], &mut cells);
            }
        }
    }
    let heading = measure.heading();
    if !heading.is_empty() {
        out.push_str(&format!("{}\n", cut(&heading, screen.width)));
    }
    for (line, label) in labels.iter().enumerate() {
        let row = cells.get(line * width..(line + 1) * width).unwrap_or_default();
        let text: String = row
            .chunk_by(|(_, a), (_, b)| a == b)
            .map(|run| {
                let text: String = run.iter().map(|(share, _)| shade(*share)).collect();
                signs::coloured(&text, run.first().map_or(0, |(_, key)| *key), screen)
            })
            .collect();
        out.push_str(format!("{} │{text}", right(label, left)).trim_end());
        out.push('\n');
    }
    write_below(&figure.along, left, width, screen, out);
}

fn range_of(figure: &Figure, series: &[Series]) -> Range {
    if let Colours::Values { range, .. } = &figure.colours {
        return range.clone();
    }
    let tiles =
        series.iter().filter_map(|one| if let Shape::Tiles(tiles) = &one.shape { Some(tiles) } else { None });
    let most = tiles.flatten().map(|tile| tile.value).fold(1.0, f64::max);
    Range::over(Measure::Whole, 1.0, most).log()
}

/// A share of the greatest value as a shade; nothing where there is no tile.
fn shade(share: f64) -> char {
    if share == f64::NEG_INFINITY {
        return ' ';
    }
    let shades = signs::SHADES.len() - 1;
    let number = 1 + ((share.clamp(0.0, 1.0) * shades as f64) as usize).min(shades - 1);
    signs::SHADES.get(number).copied().unwrap_or('█')
}

/// Shades the cells that a tile covers; of several tiles in a cell the strongest is seen.
fn fill(
    figure: &Figure,
    measure: &Axis,
    tile: &Tile,
    range: &Range,
    key: usize,
    [width, height]: [usize; 2],
    cells: &mut [(f64, usize)],
) {
    let part = |extent: &Extent, place: Place, count: usize| {
        let [from, to] = match place {
            Place::Key(number) => {
                let (middle, half) = (share(extent, number as f64), share(extent, 0.0));
                [middle - half, middle + half]
            }
            Place::Between(from, to) => [share(extent, from), share(extent, to)],
        };
        let first = ((from * count as f64 + 1e-9).floor().max(0.0) as usize).min(count - 1);
        let last = ((to * count as f64 - 1e-9).ceil().max(0.0) as usize).clamp(first + 1, count);
        first..last
    };
    let value = range.share(tile.value);
    for up in part(&measure.extent, tile.y, height) {
        for across in part(&figure.along.extent, tile.x, width) {
            let line = height - 1 - up;
            if let Some(cell) = cells.get_mut(line * width + across)
                && value > cell.0
            {
                *cell = (value, key);
            }
        }
    }
}
