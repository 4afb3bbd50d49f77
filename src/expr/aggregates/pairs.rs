//! Statistics of two columns. A row where either is null does not count.

use std::sync::Arc;

use arrow_array::Float64Array;
use arrow_array::cast::AsArray;
use arrow_array::types::Float64Type;
use churn_kernels::double::Sum;

use serde::{Deserialize, Serialize};

use super::super::Type;
use super::super::functions::{Arguments, Complaint};
use super::sums::{about_mean, not_below_zero};
use super::{Aggregate, Made, State, at, column, each_valid, made};
use crate::error::Result;

const fn pair(
    name: &'static str,
    usage: &'static str,
    summary: &'static str,
    bind: fn(Arguments) -> Result<Made, Complaint>,
) -> Aggregate {
    Aggregate { name, usage, summary, bind }
}

pub(super) const AGGREGATES: &[Aggregate] = &[
    pair(
        "weighted_mean",
        "weighted_mean(x, w)",
        "The mean of x, each weighted by w; null if the weights sum to 0.",
        |args| {
            of_pairs(args, |s| {
                let weight = s.y.total();
                (weight != 0.0).then(|| s.xy.total() / weight)
            })
        },
    ),
    pair("corr", "corr(x, y)", "Pearson's correlation; null where one of them does not vary.", |args| {
        of_pairs(args, |s| {
            let (xx, yy) = (s.squares_x(), s.squares_y());
            (s.count > 1 && xx > 0.0 && yy > 0.0)
                .then(|| (s.products() / (xx.sqrt() * yy.sqrt())).clamp(-1.0, 1.0))
        })
    }),
    pair("covar", "covar(x, y)", "The sample covariance; null of fewer than two rows.", |args| {
        of_pairs(args, |s| (s.count > 1).then(|| s.products() / (s.count - 1) as f64))
    }),
    pair("regr_slope", "regr_slope(y, x)", "The slope of the least-squares line of y over x.", |args| {
        of_pairs(args, Pairs::slope)
    }),
    pair(
        "regr_intercept",
        "regr_intercept(y, x)",
        "Where the least-squares line of y over x meets x = 0.",
        |args| {
            of_pairs(args, |s| {
                let n = s.count as f64;
                s.slope().map(|slope| s.x.over(n).total() - slope * s.y.over(n).total())
            })
        },
    ),
    pair(
        "regr_r2",
        "regr_r2(y, x)",
        "The share of y's variance that the least-squares line explains.",
        |args| {
            of_pairs(args, |s| {
                let (yy, xx) = (s.squares_x(), s.squares_y());
                let explained = || (s.products() * s.products() / (xx * yy)).min(1.0);
                // As in SQL: 1 where y does not vary, null where x does not.
                (xx > 0.0).then(|| if yy > 0.0 { explained() } else { 1.0 })
            })
        },
    ),
];

/// Sums over the rows of a first argument x and a second y.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Pairs {
    x: Sum,
    y: Sum,
    xx: Sum,
    yy: Sum,
    xy: Sum,
    count: i64,
}

impl Pairs {
    fn squares_x(&self) -> f64 {
        not_below_zero(about_mean(self.xx, self.x, self.x, self.count))
    }

    fn squares_y(&self) -> f64 {
        not_below_zero(about_mean(self.yy, self.y, self.y, self.count))
    }

    fn products(&self) -> f64 {
        about_mean(self.xy, self.x, self.y, self.count)
    }

    /// The slope of the first argument over the second.
    fn slope(&self) -> Option<f64> {
        let squares = self.squares_y();
        (self.count > 0 && squares > 0.0).then(|| self.products() / squares)
    }
}

impl State for Pairs {
    fn merge(&mut self, later: &mut Self) {
        self.x.merge(later.x);
        self.y.merge(later.y);
        self.xx.merge(later.xx);
        self.yy.merge(later.yy);
        self.xy.merge(later.xy);
        self.count += later.count;
    }
}

fn of_pairs(mut args: Arguments, finish: fn(&Pairs) -> Option<f64>) -> Result<Made, Complaint> {
    args.count(2..=2)?;
    for i in 0..2 {
        args.number(i)?;
        args.want(i, &Type::Float)?;
    }
    Ok(made(
        args,
        Type::Float,
        |states: &mut [Pairs], groups, args| {
            let (first, second) = (column(args, 0)?, column(args, 1)?);
            let x = first.as_primitive::<Float64Type>().values();
            let y = second.as_primitive::<Float64Type>().values();
            each_valid(states, groups, &[first, second], |state, row| {
                let (x, y) = (at(x, row), at(y, row));
                state.x.add(x);
                state.y.add(y);
                state.xx.add_product(x, x);
                state.yy.add_product(y, y);
                state.xy.add_product(x, y);
                state.count += 1;
            });
            Ok(())
        },
        move |states| Ok(Arc::new(states.iter().map(finish).collect::<Float64Array>())),
    ))
}
