//! Statistics of two columns. A row where either is null does not count.

use std::sync::Arc;

use arrow_array::Float64Array;
use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use churn_core::{Result, Type};
use churn_kernels::double::Sum;
use churn_kernels::moments::Moments;
use serde::{Deserialize, Serialize};

use super::super::functions::{Arguments, Complaint};
use super::{Aggregate, AggregateState, Made, at, column, each_valid, made};

const fn pair(
    name: &'static str,
    usage: &'static str,
    summary: &'static str,
    example: &'static str,
    bind: fn(Arguments) -> Result<Made, Complaint>,
) -> Aggregate {
    Aggregate { name, usage, summary, example, bind }
}

pub(super) const AGGREGATES: &[Aggregate] = &[
    pair(
        "weighted_mean",
        "weighted_mean(x, w)",
        "The mean of x, each weighted by w; null if the weights sum to 0.",
        "group by farm: fat = weighted_mean(fat, litres)",
        |args| {
            of_pairs(args, Weighted::add, |s| {
                let weight = s.weights.total();
                (weight != 0.0).then(|| s.products.total() / weight)
            })
        },
    ),
    pair(
        "corr",
        "corr(x, y)",
        "Pearson's correlation; null where one of them does not vary.",
        "total: r = corr(fat, protein)",
        |args| of_pairs(args, Moments::add, Moments::correlation),
    ),
    pair(
        "covar",
        "covar(x, y)",
        "The sample covariance; null of fewer than two rows.",
        "total: c = covar(fat, protein)",
        |args| {
            of_pairs(args, Moments::add, |s| (s.count() > 1).then(|| s.products() / (s.count() - 1) as f64))
        },
    ),
    pair(
        "regr_slope",
        "regr_slope(y, x)",
        "The slope of the least-squares line of y over x.",
        "total: slope = regr_slope(fat, temp_c)",
        |args| of_pairs(args, Moments::add, slope),
    ),
    pair(
        "regr_intercept",
        "regr_intercept(y, x)",
        "Where the least-squares line of y over x meets x = 0.",
        "total: start = regr_intercept(fat, temp_c)",
        |args| of_pairs(args, Moments::add, |s| slope(s).map(|slope| s.intercept(slope))),
    ),
    pair(
        "regr_r2",
        "regr_r2(y, x)",
        "The share of y's variance that the least-squares line explains.",
        "total: share = regr_r2(fat, temp_c)",
        |args| {
            of_pairs(args, Moments::add, |s| {
                let (yy, xx) = (s.squares_x(), s.squares_y());
                let share = s.products() * s.products() / (xx * yy);
                // As in SQL: 1 where y does not vary, null where x does not.
                (xx > 0.0).then_some(if yy == 0.0 || share > 1.0 { 1.0 } else { share })
            })
        },
    ),
];

impl AggregateState for Moments {
    fn merge(&mut self, later: &mut Self) {
        Moments::merge(self, later);
    }
}

/// The slope of the first argument over the second.
fn slope(moments: &Moments) -> Option<f64> {
    let squares = moments.squares_y();
    (moments.count() > 0 && squares > 0.0).then(|| moments.products() / squares)
}

/// Sums of weights, and of values times their weights.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Weighted {
    products: Sum,
    weights: Sum,
}

impl Weighted {
    fn add(&mut self, x: f64, weight: f64) {
        self.products.add_product(x, weight);
        self.weights.add(weight);
    }
}

impl AggregateState for Weighted {
    fn merge(&mut self, later: &mut Self) {
        self.products.merge(later.products);
        self.weights.merge(later.weights);
    }
}

/// An aggregate of two columns of floats: `add` takes the values of a row where neither is null.
fn of_pairs<S: AggregateState>(
    mut args: Arguments,
    add: fn(&mut S, f64, f64),
    finish: fn(&S) -> Option<f64>,
) -> Result<Made, Complaint> {
    args.count(2..=2)?;
    for i in 0..2 {
        args.number(i)?;
        args.want(i, &Type::Float)?;
    }
    Ok(made(
        args,
        Type::Float,
        move |states: &mut [S], groups, args| {
            let (first, second) = (column(args, 0)?, column(args, 1)?);
            let x = first.as_primitive::<Float64Type>().values();
            let y = second.as_primitive::<Float64Type>().values();
            each_valid(states, groups, &[first, second], |state, row| add(state, at(x, row), at(y, row)));
            Ok(())
        },
        move |states| Ok(Arc::new(states.iter().map(finish).collect::<Float64Array>())),
    ))
}
