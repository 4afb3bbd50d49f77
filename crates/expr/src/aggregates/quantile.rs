//! `median` and `quantile`, exact, by selection rather than by sorting.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use arrow_array::{ArrayRef, Float64Array};
use churn_core::{Result, Scalar, Type};
use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::super::{Bound, compare};
use super::external::{ExternalValues, FromSorted};
use super::{Aggregate, AggregateState, Made, column, each_value, made_external};

pub(super) const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "median",
        usage: "median(x)",
        summary: "The middle value, or the mean of the two middle ones.",
        example: "group by farm: m = median(litres)",
        bind: |args| {
            args.count(1..=1)?;
            quantile(args, 0.5)
        },
    },
    Aggregate {
        name: "quantile",
        usage: "quantile(x, p) or quantile(x, (p, q, …))",
        summary: "The value below which the share p (0 to 1) lies, interpolated linearly; of a list of shares one column each.",
        example: "group by farm: p90 = quantile(litres, 0.9)",
        bind: |mut args| {
            args.count(2..=2)?;
            let p = match args.values.pop().as_ref().and_then(Bound::as_literal) {
                Some(Scalar::Float(p)) => *p,
                Some(Scalar::Int(p)) => *p as f64,
                _ => f64::NAN,
            };
            if !(0.0..=1.0).contains(&p) {
                return Err(Complaint::new(1, "The share is a number from 0 to 1.")
                    .next("The median is quantile(x, 0.5)."));
            }
            quantile(args, p)
        },
    },
];

#[derive(Clone, Default, Serialize, Deserialize)]
struct QuantileState(Vec<f64>);

impl AggregateState for QuantileState {
    fn merge(&mut self, later: &mut Self) {
        if self.0.is_empty() {
            std::mem::swap(&mut self.0, &mut later.0);
        } else {
            self.0.append(&mut later.0);
        }
    }

    fn heap(&self) -> usize {
        // Values that need more room are in the old one and the new one for a moment.
        self.0.capacity() * size_of::<f64>() / 2 * 3
    }

    fn part(&mut self, most: usize) -> Option<Self> {
        (self.0.len() > most).then(|| {
            let rest = self.0.split_off(most);
            QuantileState(std::mem::replace(&mut self.0, rest))
        })
    }
}

fn quantile(mut args: Arguments, p: f64) -> Result<Made, Complaint> {
    args.number(0)?;
    args.want(0, &Type::Float)?;
    let made = made_external(
        args,
        Type::Float,
        |states: &mut [QuantileState], groups, args| {
            each_value::<_, Float64Type>(states, groups, column(args, 0)?, |state, x| state.0.push(x));
            Ok(())
        },
        move |states| Ok(Arc::new(states.iter_mut().map(|s| select(&mut s.0, p)).collect::<Float64Array>())),
        Arc::new(ExternalQuantile(p)),
    );
    Ok(Made { quantile: Some(p), ..made })
}

/// Where the quantile of so many values lies: behind how many, and which share of the way to the next.
fn place_of(p: f64, values: usize) -> Option<(usize, f64)> {
    let last = values.checked_sub(1)?;
    let place = p * last as f64;
    let below = (place.floor() as usize).min(last);
    Some((below, place - below as f64))
}

/// The quantile between two values. Both zeros are one value, and a result has the sign of the positive one: which of them
/// stands first depends on how values were put in order.
fn between(low: f64, high: f64, share: f64) -> f64 {
    let value = if low == high { low } else { low + (high - low) * share };
    value + 0.0
}

/// The quantile of the values, which are rearranged.
pub(crate) fn select(values: &mut [f64], p: f64) -> Option<f64> {
    let (below, share) = place_of(p, values.len())?;
    let (_, low, above) = values.select_nth_unstable_by(below, |a, b| compare::order_floats(*a, *b));
    let low = *low;
    if share == 0.0 {
        return Some(between(low, low, share));
    }
    let high = above.iter().copied().min_by(|a, b| compare::order_floats(*a, *b)).unwrap_or(low);
    Some(between(low, high, share))
}

/// Values sorted, so that the quantile is met on the way.
struct ExternalQuantile(f64);

impl ExternalValues<QuantileState> for ExternalQuantile {
    fn kind(&self) -> Type {
        Type::Float
    }

    fn drain(&self, state: &mut QuantileState) -> Vec<ArrayRef> {
        vec![Arc::new(Float64Array::from(std::mem::take(&mut state.0)))]
    }

    fn sorted(&self, rows: &[u64]) -> Box<dyn FromSorted> {
        let wanted = |rows: &u64| {
            let (left, share) = place_of(self.0, *rows as usize).unwrap_or((usize::MAX, 0.0));
            Met { left, share, low: None, result: None }
        };
        Box::new(Passing(rows.iter().map(wanted).collect()))
    }
}

/// What is met of a group's values.
struct Met {
    /// Values before the one that is wanted.
    left: usize,
    share: f64,
    low: Option<f64>,
    result: Option<f64>,
}

struct Passing(Vec<Met>);

impl FromSorted for Passing {
    fn add(&mut self, groups: &[usize], _: &[bool], columns: &[ArrayRef]) -> Result<()> {
        let values = column(columns, 0)?.as_primitive::<Float64Type>().values();
        for (group, value) in groups.iter().zip(values) {
            let Some(met) = self.0.get_mut(*group) else { continue };
            match (met.left, met.low) {
                (0, None) => (met.low, met.result) = (Some(*value), Some(between(*value, *value, 0.0))),
                (0, Some(low)) => {
                    if met.share > 0.0 {
                        met.result = Some(between(low, *value, met.share));
                    }
                    met.left = usize::MAX;
                }
                _ => met.left -= 1,
            }
        }
        Ok(())
    }

    fn finish(self: Box<Self>) -> Result<ArrayRef> {
        Ok(Arc::new(self.0.into_iter().map(|met| met.result).collect::<Float64Array>()))
    }
}
