//! Histograms: how often values occur.

use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result};
use churn_draw::figure::{Bar, Extent, Place, Series, Shape};
use churn_draw::scale::{Measure, Range, calendar_borders, round_step};
use churn_draw::statistics::{Bins, Spread, quantile};

use super::{Drawn, Marks, Names, Undrawn, number};
use crate::draw::drawing::Drawing;
use crate::draw::rows::{Rows, ladder_of, measure_of};

/// Bins that are chosen, at least and at most.
const CHOSEN: [f64; 2] = [6.0, 48.0];

/// Bins that can be asked for.
const MOST: f64 = 1000.0;

/// The spreads of each panel and colour.
pub(super) struct Histogram {
    drawing: Arc<Drawing>,
    measure: Measure,
    title: String,
    spreads: Vec<Vec<Option<Spread>>>,
}

impl Histogram {
    pub(super) fn new(drawing: &Arc<Drawing>) -> Histogram {
        let role = drawing.measures.first();
        Histogram {
            drawing: drawing.clone(),
            measure: role.map_or(Measure::Number, |role| measure_of(&role.kind)),
            title: role.map(|role| role.title.clone()).unwrap_or_default(),
            spreads: Vec::new(),
        }
    }

    fn is_whole(&self) -> bool {
        self.measure != Measure::Number
    }

    /// The width of bins of numbers: what was asked for, or by the rule of Freedman and Diaconis, rounded up to 1, 2 or 5.
    fn width(&self, all: &Bins, least: f64, greatest: f64) -> Result<(f64, String)> {
        let look = &self.drawing.look;
        if let Some(width) = look.width {
            if (greatest - least) / width > MOST {
                let what = format!("Bins of {} would be more than {MOST}.", Measure::Number.text(width));
                let about = Measure::Number.text(round_step((greatest - least) / CHOSEN[1]));
                return Err(Error::new(ErrorKind::Data, what).next(format!("Try width = {about}.")));
            }
            return Ok((width, String::new()));
        }
        if let Some(bins) = look.bins {
            return Ok((round_step((greatest - least) / bins.max(1) as f64), ", rounded".to_owned()));
        }
        let counted: Vec<(f64, u64)> = all.counted().map(|(from, _, count)| (from, count)).collect();
        let box_height = quantile(&counted, 0.75) - quantile(&counted, 0.25);
        let by_rule = 2.0 * box_height / (all.total() as f64).cbrt();
        let [fewest, most] = CHOSEN.map(|bins| (greatest - least) / bins);
        let width = if by_rule > 0.0 { by_rule.clamp(most, fewest) } else { (greatest - least) / 20.0 };
        let width = round_step(width);
        let width = if self.is_whole() { width.max(1.0) } else { width };
        Ok((width, ", by the rule of Freedman and Diaconis, rounded".to_owned()))
    }

    /// The borders of bins, and how they were chosen.
    fn borders(&self, all: &Bins, least: f64, greatest: f64) -> Result<(Vec<f64>, String)> {
        if !self.measure.is_number() {
            let bins = self.drawing.look.bins.unwrap_or(36);
            return Ok((calendar_borders(self.measure, least, greatest, bins), String::new()));
        }
        let (width, why) = if least < greatest {
            self.width(all, least, greatest)?
        } else {
            // One value has one bin.
            (
                self.drawing.look.width.unwrap_or(if self.is_whole() {
                    1.0
                } else {
                    Range::over(self.measure, least, least).to - least
                }),
                String::new(),
            )
        };
        let first = (least / width).floor();
        let end = greatest / width;
        // Of whole numbers the last bin ends before its border; of others the greatest may be its border.
        let last = if self.is_whole() { end.floor() + 1.0 } else { end.ceil().max(first + 1.0) };
        // A quotient where it is one, so that borders are as they are written: 0.3, not 3 times 0.1.
        let parts = (1.0 / width).round();
        let is_quotient = width < 1.0 && (parts * width - 1.0).abs() < 1e-9;
        let border = |n: f64| if is_quotient { n / parts } else { n * width };
        let borders = (0..=(last - first) as usize).map(|i| border(first + i as f64)).collect();
        let unit = self.drawing.look.units.first().map(|unit| format!(" {unit}")).unwrap_or_default();
        Ok((borders, format!("Bins are {}{unit} wide{why}.", Measure::Number.text(width))))
    }
}

impl Marks for Histogram {
    fn add(&mut self, rows: &Rows, undrawn: &mut Undrawn) -> Result<()> {
        let Some(numbers) = rows.measures.first() else { return Ok(()) };
        let ladder = ladder_of(self.measure);
        if rows.panels.is_empty() && rows.colours.is_empty() && !numbers.has_nulls() {
            if let Some(spread) = super::grown(&mut self.spreads, 0, 0) {
                let spread = spread.get_or_insert_with(|| Spread::new(ladder));
                undrawn.infinite += spread.add_all(&numbers.values);
            }
            return Ok(());
        }
        for row in 0..rows.count {
            let Some(x) = undrawn.checked(numbers.at(row), 0, &self.title) else { continue };
            let place =
                super::grown(&mut self.spreads, number(&rows.panels, row), number(&rows.colours, row));
            if let Some(spread) = place {
                spread.get_or_insert_with(|| Spread::new(ladder)).add(x);
            }
        }
        Ok(())
    }

    fn finish(mut self: Box<Self>, names: &Names) -> Result<Drawn> {
        let spreads = std::mem::take(&mut self.spreads);
        let bins: Vec<Vec<Option<Bins>>> = spreads
            .into_iter()
            .map(|row| row.into_iter().map(|spread| spread.map(Spread::into_bins)).collect())
            .collect();
        let mut all = Bins::new(ladder_of(self.measure));
        bins.iter().flatten().flatten().for_each(|one| all.merge(one));
        let (first, last) = (all.counted().next(), all.counted().last());
        let ends = first.zip(last).map(|((least, ..), (greatest, ..))| (least, greatest));
        let Some((least, greatest)) = ends else { return Ok(Drawn::nothing()) };
        let (borders, told) = self.borders(&all, least, greatest)?;
        let mut highest: f64 = 0.0;
        let is_stacked = self.drawing.is_stacked();
        let series = (0..names.panels).map(|panel| {
            let mut below = vec![0.0; borders.len()];
            let of_colour = |(colour, number): (usize, usize)| {
                let own = bins.get(panel).and_then(|row| row.get(number)).and_then(Option::as_ref)?;
                let counts = own.between(&borders);
                let bar = |(place, count): (usize, u64)| {
                    let [from, to] = *borders.get(place..place + 2)? else { return None };
                    let start = below.get_mut(place)?;
                    let bar = Bar { at: Place::Between(from, to), from: *start, to: *start + count as f64 };
                    highest = highest.max(bar.to);
                    if is_stacked {
                        *start = bar.to;
                    }
                    (count > 0).then_some(bar)
                };
                let bars: Vec<Bar> = counts.into_iter().enumerate().filter_map(bar).collect();
                Some(Series { colour, shape: Shape::Bars(bars) })
            };
            vec![names.colours_drawn().filter_map(of_colour).collect()]
        });
        let series = series.collect();
        let measure = Range::over(Measure::Whole, 0.0, highest.max(1.0)).rounded(5);
        let ends = [borders.first().copied().unwrap_or(0.0), borders.last().copied().unwrap_or(1.0)];
        Ok(Drawn {
            along: Extent::Range(Range::over(self.measure, ends[0], ends[1])),
            measures: vec![Extent::Range(measure)],
            series,
            values: None,
            measure: Some("rows".to_owned()),
            captions: if told.is_empty() { Vec::new() } else { vec![told] },
        })
    }
}
