//! `median` and `quantile`, exact, by selection rather than by sorting.

use std::sync::Arc;

use arrow_array::Float64Array;
use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;

use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::super::{Bound, Scalar, Type, compare};
use super::{Aggregate, Made, State, at, column, each_valid, made};
use crate::error::Result;

pub(super) const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "median",
        usage: "median(x)",
        summary: "The middle value, or the mean of the two middle ones.",
        bind: |args| {
            args.count(1..=1)?;
            quantile(args, 0.5)
        },
    },
    Aggregate {
        name: "quantile",
        usage: "quantile(x, p)",
        summary: "The value below which the share p (0 to 1) lies, interpolated linearly.",
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
struct Values(Vec<f64>);

impl State for Values {
    fn merge(&mut self, later: &mut Self) {
        if self.0.is_empty() {
            std::mem::swap(&mut self.0, &mut later.0);
        } else {
            self.0.append(&mut later.0);
        }
    }

    fn heap(&self) -> usize {
        self.0.capacity() * size_of::<f64>()
    }
}

fn quantile(mut args: Arguments, p: f64) -> Result<Made, Complaint> {
    args.number(0)?;
    args.want(0, &Type::Float)?;
    let made = made(
        args,
        Type::Float,
        |states: &mut [Values], groups, args| {
            let array = column(args, 0)?;
            let values = array.as_primitive::<Float64Type>().values();
            each_valid(states, groups, &[array], |state, row| state.0.push(at(values, row)));
            Ok(())
        },
        move |states| Ok(Arc::new(states.iter_mut().map(|s| select(&mut s.0, p)).collect::<Float64Array>())),
    );
    Ok(Made { quantile: Some(p), ..made })
}

/// The quantile of the values, which are rearranged.
pub(crate) fn select(values: &mut [f64], p: f64) -> Option<f64> {
    let place = p * values.len().checked_sub(1)? as f64;
    let below = place.floor() as usize;
    let (_, low, above) =
        values.select_nth_unstable_by(below.min(values.len() - 1), |a, b| compare::order_floats(*a, *b));
    let low = *low;
    let share = place - below as f64;
    if share == 0.0 {
        return Some(low);
    }
    let high = above.iter().copied().min_by(|a, b| compare::order_floats(*a, *b)).unwrap_or(low);
    Some(if low == high { low } else { low + (high - low) * share })
}
