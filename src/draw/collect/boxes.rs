//! Boxes: the quartiles of the values of each key, and what lies far from them.

use std::sync::Arc;

use churn_core::readable::plural;
use churn_core::{Error, ErrorKind, Result};
use churn_draw::figure::{Extent, Quartiles, Series, Shape};
use churn_draw::statistics::{Spread, quantile};

use super::{Drawn, Ends, Marks, Names, Undrawn, keys_extent, number};
use crate::draw::drawing::Drawing;
use crate::draw::rows::{Along, Rows, ladder_of, measure_of};

/// Boxes of a chart, at most.
const MOST: usize = 400;

/// Values outside that are drawn of a box.
const OUTSIDE: usize = 60;

/// The spread of each box, by panel, colour, measure and key.
pub(super) struct Boxes {
    drawing: Arc<Drawing>,
    spreads: Vec<Vec<Vec<Vec<Option<Spread>>>>>,
    count: usize,
}

impl Boxes {
    pub(super) fn new(drawing: &Arc<Drawing>) -> Boxes {
        Boxes { drawing: drawing.clone(), spreads: Vec::new(), count: 0 }
    }
}

impl Marks for Boxes {
    fn add(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> Result<()> {
        let drawing = self.drawing.clone();
        for (measure, (numbers, role)) in rows.measures.iter().zip(&drawing.measures).enumerate() {
            let ladder = ladder_of(measure_of(&role.kind));
            for row in 0..rows.count {
                let Some(x) = undrawn.checked(numbers.at(row), 1, &role.title) else { continue };
                let key = if let Along::Keys(keys) = &rows.along { number(keys, row) } else { 0 };
                let panel = number(&rows.panels, row);
                let Some(own) = super::grown(&mut self.spreads, panel, number(&rows.colours, row)) else {
                    continue;
                };
                let Some(slot) = super::grown(own, measure, key) else { continue };
                if slot.is_none() {
                    self.count += 1;
                    if self.count > MOST {
                        let what = format!("More than {MOST} boxes cannot be read.");
                        return Err(
                            Error::new(ErrorKind::Data, what).next("Draw fewer keys, colours or panels.")
                        );
                    }
                }
                slot.get_or_insert_with(|| Spread::new(ladder)).add(x);
            }
        }
        Ok(())
    }

    fn finish(self: Box<Self>, names: &Names) -> Result<Drawn> {
        let measures = self.drawing.measures.len();
        let mut ends = vec![Ends::new(); measures];
        let (mut outside, mut is_exact) = (0, true);
        let mut series = vec![vec![Vec::new(); measures]; names.panels];
        for (panel, colours) in self.spreads.iter().enumerate() {
            for (colour, of_colour) in colours.iter().enumerate() {
                for (measure, keys) in of_colour.iter().enumerate() {
                    let box_of = |(key, spread): (usize, &Option<Spread>)| {
                        let spread = spread.as_ref()?;
                        is_exact &= spread.is_exact();
                        Some(quartiles(names.place_of(key), spread))
                    };
                    let mut boxes: Vec<Quartiles> = keys.iter().enumerate().filter_map(box_of).collect();
                    boxes.sort_by_key(|own| own.at);
                    if let Some(ends) = ends.get_mut(measure) {
                        boxes.iter().flat_map(|b| [b.low, b.high]).for_each(|x| ends.see(x));
                        boxes.iter().flat_map(|b| &b.outside).for_each(|x| ends.see(*x));
                    }
                    outside += boxes.iter().map(|one| one.rows_outside).sum::<u64>();
                    let strip = series.get_mut(panel).and_then(|strips| strips.get_mut(measure));
                    if let Some(strip) = strip.filter(|_| !boxes.is_empty()) {
                        strip.push(Series { colour: names.colour_of(colour), shape: Shape::Boxes(boxes) });
                    }
                }
            }
        }
        series.iter_mut().flatten().for_each(|strip| strip.sort_by_key(|series: &Series| series.colour));
        let ranges = ends.into_iter().zip(&self.drawing.measures).map(|(ends, role)| {
            let range = ends.range(role);
            let is_log = self.drawing.look.is_log.get(1) == Some(&true);
            Extent::Range(if is_log { range.log().rounded(5) } else { range.with_zero_if_near().rounded(5) })
        });
        let ranges = ranges.collect();
        let names = if self.drawing.along.is_none() { vec![String::new()] } else { names.along.clone() };
        let far =
            if outside == 0 { String::new() } else { format!(" {} lie outside.", plural(outside, "row")) };
        let mut captions = vec![format!(
            "Boxes: the middle half of the rows, with the median; lines reach to the furthest row within one and a half \
             boxes.{far}"
        )];
        if !is_exact {
            captions.push(
                "Figures of many different values are exact to a thousandth of their spread.".to_owned(),
            );
        }
        Ok(Drawn {
            along: keys_extent(&names, self.drawing.along.as_ref()),
            measures: ranges,
            series,
            values: None,
            measure: None,
            captions,
        })
    }
}

/// The figures of one box; lines reach as Tukey drew them (*Exploratory Data Analysis*, 1977).
fn quartiles(at: usize, spread: &Spread) -> Quartiles {
    let counted = spread.counted();
    let quartiles = [0.25, 0.5, 0.75].map(|share| quantile(&counted, share));
    let [lower, _, upper] = quartiles;
    let reach = (upper - lower) * 1.5;
    let is_near = |x: f64| x >= lower - reach && x <= upper + reach;
    let near = || counted.iter().map(|(x, _)| *x).filter(|x| is_near(*x));
    let far: Vec<&(f64, u64)> = counted.iter().filter(|(x, _)| !is_near(*x)).collect();
    // Of more than can be drawn those at even distances, the ends among them.
    let step = far.len().div_ceil(OUTSIDE).max(1);
    let mut outside: Vec<f64> = far.iter().step_by(step).map(|(x, _)| *x).collect();
    outside.extend(far.last().map(|(x, _)| *x).filter(|last| outside.last() != Some(last)));
    Quartiles {
        at,
        low: near().next().unwrap_or(lower),
        quartiles,
        high: near().next_back().unwrap_or(upper),
        outside,
        rows_outside: far.iter().map(|(_, count)| count).sum(),
        rows: counted.iter().map(|(_, count)| count).sum(),
    }
}
