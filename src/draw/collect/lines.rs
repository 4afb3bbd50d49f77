//! Lines and areas: through the rows of each key, with gaps where a value is missing.

use std::sync::Arc;

use churn_core::readable::grouped;
use churn_core::{Error, ErrorKind, Result};
use churn_draw::figure::{Extent, Series, Shape};

use super::{Drawn, Ends, Marks, Names, Undrawn, at, keys_extent, number, twice};
use crate::draw::drawing::{ChartKind, Drawing};
use crate::draw::rows::Rows;

/// Rows that lines can have together: more cannot be told apart, and are held.
const MOST: usize = 200_000;

/// A row: where it lies, and the value of each measure.
type Row = (f64, Vec<Option<f64>>);

/// The rows of each panel and colour.
pub(super) struct Lines {
    drawing: Arc<Drawing>,
    rows: Vec<Vec<Vec<Row>>>,
    count: usize,
}

impl Lines {
    pub(super) fn new(drawing: &Arc<Drawing>) -> Lines {
        Lines { drawing: drawing.clone(), rows: Vec::new(), count: 0 }
    }

    fn too_many(&self) -> Error {
        let along = self.drawing.along.as_ref().map_or("", |role| role.title.as_str());
        let kind = self.drawing.kind.word();
        let what = format!("More than {} rows cannot be told apart as {kind}.", grouped(MOST as u64));
        Error::new(ErrorKind::Data, what).next(format!(
            "Group by steps of {along} first, such as start_of(day, {along}); or draw points, of any number."
        ))
    }
}

impl Marks for Lines {
    fn add(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> Result<()> {
        let along = self.drawing.along.as_ref().map(|role| role.title.clone()).unwrap_or_default();
        for row in 0..rows.count {
            let Some(x) = undrawn.checked(at(&rows.along, row), 0, &along) else { continue };
            let measured = rows.measures.iter().zip(&self.drawing.measures);
            let values =
                measured.map(|(numbers, role)| undrawn.checked(numbers.at(row), 1, &role.title)).collect();
            let place = super::grown(&mut self.rows, number(&rows.panels, row), number(&rows.colours, row));
            if let Some(own) = place {
                own.push((x, values));
            }
            self.count += 1;
            if self.count > MOST {
                return Err(self.too_many());
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, names: &Names) -> Result<Drawn> {
        let measures = self.drawing.measures.len();
        self.rows.iter_mut().flatten().for_each(|rows| rows.sort_by(|(a, _), (b, _)| a.total_cmp(b)));
        let is_area = self.drawing.kind == ChartKind::Area;
        let mut ends = vec![Ends::new(); measures];
        let mut xs = Ends::new();
        self.rows.iter().flatten().flatten().for_each(|(x, _)| xs.see(*x));
        let mut series = vec![vec![Vec::new(); measures]; names.panels];
        for (panel, colours) in self.rows.iter().enumerate() {
            let Some(strips) = series.get_mut(panel) else { continue };
            for (place, strip) in strips.iter_mut().enumerate() {
                let Some(ends) = ends.get_mut(place) else { continue };
                let mut below: Vec<(f64, f64)> = Vec::new();
                for (colour, rows) in colours.iter().enumerate().filter(|(_, rows)| !rows.is_empty()) {
                    let shape = if is_area {
                        self.area(rows, place, &mut below, ends, names)?
                    } else {
                        line(rows, place, ends)
                    };
                    let is_empty = match &shape {
                        Shape::Areas(pieces) => pieces.is_empty(),
                        Shape::Lines(pieces) => pieces.is_empty(),
                        _ => false,
                    };
                    if !is_empty {
                        strip.push(Series { colour, shape });
                    }
                }
            }
        }
        let ranges = ends.into_iter().zip(&self.drawing.measures).map(|(ends, role)| {
            let range = ends.range(role);
            let is_log = self.drawing.look.is_log.get(1) == Some(&true);
            Extent::Range(match (is_area, is_log) {
                (true, _) => range.with_zero().rounded(5),
                (false, true) => range.log().rounded(5),
                (false, false) => range.with_zero_if_near().rounded(5),
            })
        });
        let ranges = ranges.collect();
        let along = match &self.drawing.along {
            Some(role) if self.drawing.is_along_numbers() => {
                let range = xs.range(role);
                Extent::Range(if self.drawing.look.is_log.first() == Some(&true) {
                    range.log()
                } else {
                    range
                })
            }
            role => keys_extent(&names.along, role.as_ref()),
        };
        Ok(Drawn { along, measures: ranges, series, values: None, measure: None, captions: Vec::new() })
    }
}

/// The pieces between missing values.
fn line(rows: &[Row], place: usize, ends: &mut Ends) -> Shape {
    let mut pieces = vec![Vec::new()];
    for (x, values) in rows {
        match (values.get(place).copied().flatten(), pieces.last_mut()) {
            (Some(y), Some(piece)) => {
                ends.see(y);
                piece.push([*x, y]);
            }
            (None, Some(piece)) if !piece.is_empty() => pieces.push(Vec::new()),
            _ => {}
        }
    }
    pieces.retain(|piece| !piece.is_empty());
    Shape::Lines(pieces)
}

impl Lines {
    /// The area of a key on those before it; what is missing leaves a gap, and nothing to stand on.
    fn area(
        &self,
        rows: &[Row],
        place: usize,
        below: &mut Vec<(f64, f64)>,
        ends: &mut Ends,
        names: &Names,
    ) -> Result<Shape> {
        let is_stacked = self.drawing.is_stacked() && self.drawing.colour.is_some();
        let mut pieces = vec![Vec::new()];
        for pair in rows.windows(2) {
            if let [(a, _), (b, _)] = pair
                && a == b
            {
                let at = names.along.get(*a as usize).cloned().unwrap_or_else(|| a.to_string());
                return Err(twice(&self.drawing, &at));
            }
        }
        for (x, values) in rows {
            let value = values.get(place).copied().flatten();
            match (value, pieces.last_mut()) {
                (Some(y), Some(piece)) => {
                    if is_stacked && y < 0.0 {
                        return Err(self.below_zero(place));
                    }
                    let found = below.binary_search_by(|(at, _)| at.total_cmp(x));
                    let start = match found {
                        Ok(known) if is_stacked => below.get(known).map_or(0.0, |(_, top)| *top),
                        _ => 0.0,
                    };
                    ends.see(start + y);
                    piece.push([*x, start, start + y]);
                    match found {
                        Ok(known) => {
                            below.iter_mut().skip(known).take(1).for_each(|(_, top)| *top = start + y)
                        }
                        Err(new) => below.insert(new, (*x, start + y)),
                    }
                }
                (None, Some(piece)) if !piece.is_empty() => pieces.push(Vec::new()),
                _ => {}
            }
        }
        pieces.retain(|piece| !piece.is_empty());
        Ok(Shape::Areas(pieces))
    }

    fn below_zero(&self, place: usize) -> Error {
        let measure = self.drawing.measures.get(place).map_or("a value", |role| role.title.as_str());
        Error::new(
            ErrorKind::Data,
            format!("Areas stand on each other, and {measure} has values below zero."),
        )
        .next("Draw lines, or say stacked = false.")
    }
}
