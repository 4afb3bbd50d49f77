//! Bars: one for each row.

use std::collections::HashSet;
use std::sync::Arc;

use churn_core::Result;
use churn_draw::figure::{Bar, Extent, Place, Series, Shape};

use super::{Drawn, Ends, Marks, Names, Undrawn, keys_extent, number, twice};
use crate::draw::drawing::Drawing;
use crate::draw::rows::{Along, Rows};

/// A row: its panel, its colour, its key, and the value of each measure.
type Row = (usize, usize, usize, Vec<Option<f64>>);

/// The rows, which are few: their keys are.
pub(super) struct Bars {
    drawing: Arc<Drawing>,
    seen: HashSet<(usize, usize, usize)>,
    rows: Vec<Row>,
    two: Option<(usize, usize, usize)>,
}

impl Bars {
    pub(super) fn new(drawing: &Arc<Drawing>) -> Bars {
        Bars { drawing: drawing.clone(), seen: HashSet::new(), rows: Vec::new(), two: None }
    }
}

impl Marks for Bars {
    fn add(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> Result<()> {
        let Along::Keys(keys) = &rows.along else { return Ok(()) };
        for row in 0..rows.count {
            let place = (number(&rows.panels, row), number(&rows.colours, row), number(keys, row));
            if !self.seen.insert(place) {
                // The names of keys are known at the end; more rows are not needed for the error.
                self.two.get_or_insert(place);
                return Ok(());
            }
            let measured = rows.measures.iter().zip(&self.drawing.measures);
            let values =
                measured.map(|(numbers, role)| undrawn.checked(numbers.at(row), 1, &role.title)).collect();
            self.rows.push((place.0, place.1, place.2, values));
        }
        Ok(())
    }

    fn finish(self: Box<Self>, names: &Names) -> Result<Drawn> {
        if let Some((.., key)) = self.two {
            let at = names.along.get(key).cloned().unwrap_or_default();
            return Err(twice(&self.drawing, &at));
        }
        let measures = self.drawing.measures.len();
        let mut ends = vec![Ends::new(); measures];
        let is_stacked = self.drawing.is_stacked();
        let keys = names.along.len();
        let mut series = vec![vec![Vec::new(); measures]; names.panels];
        for (panel, strips) in series.iter_mut().enumerate() {
            for (place, strip) in strips.iter_mut().enumerate() {
                let Some(ends) = ends.get_mut(place) else { continue };
                // Where the next bar of each key starts, above and below zero.
                let mut starts = vec![[0.0; 2]; keys];
                for (colour, _) in names.colours_drawn() {
                    let own = self.rows.iter().filter(|(p, c, ..)| (*p, *c) == (panel, colour));
                    let bar = |(.., key, values): &Row| {
                        let value = values.get(place).copied().flatten()?;
                        let start = starts.get_mut(*key)?.get_mut(usize::from(value < 0.0))?;
                        let bar = Bar { at: Place::Key(*key), from: *start, to: *start + value };
                        ends.see(bar.to);
                        if is_stacked {
                            *start = bar.to;
                        }
                        Some(bar)
                    };
                    let bars: Vec<Bar> = own.filter_map(bar).collect();
                    if !bars.is_empty() {
                        strip.push(Series { colour, shape: Shape::Bars(bars) });
                    }
                }
            }
        }
        let range = |(ends, role): (Ends, _)| Extent::Range(ends.range(role).with_zero().rounded(5));
        Ok(Drawn {
            along: keys_extent(&names.along, self.drawing.along.as_ref()),
            measures: ends.into_iter().zip(&self.drawing.measures).map(range).collect(),
            series,
            values: None,
            measure: None,
            captions: Vec::new(),
        })
    }
}
