//! `sum`, `mean`, `variance` and `stddev`.
//!
//! Sums of whole numbers and decimals are accumulated in 128 bits and must fit at the end; sums of floats
//! carry their rounding error, so that their order does not show.

use std::sync::Arc;

use arrow_array::types::{Decimal128Type, Float64Type, Int64Type};
use arrow_array::{Float64Array, Int64Array};
use arrow_buffer::NullBuffer;
use churn_core::{Error, ErrorKind, Result, Type};
use churn_kernels::double::Sum;
use churn_kernels::moments::Deviations;
use churn_kernels::sums::Sums;
use serde::{Deserialize, Serialize};

use super::super::arithmetic;
use super::super::functions::{Arguments, Complaint};
use super::slide::{BLOCK, NARROW};
use super::{Aggregate, AggregateState, FloatFrames, Made, column, each_value, made};

pub(super) const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "sum",
        usage: "sum(x)",
        summary: "The sum; of whole numbers a whole number.",
        example: "group by farm: litres = sum(litres)",
        bind: sum,
    },
    Aggregate {
        name: "mean",
        usage: "mean(x)",
        summary: "The arithmetic mean, a float.",
        example: "group by grade: fat = mean(fat)",
        bind: mean,
    },
    Aggregate {
        name: "stddev",
        usage: "stddev(x)",
        summary: "The sample standard deviation; null of fewer than two values.",
        example: "total: spread = stddev(fat)",
        bind: |args| spread(args, |variance| variance.sqrt()),
    },
    Aggregate {
        name: "variance",
        usage: "variance(x)",
        summary: "The sample variance; null of fewer than two values.",
        example: "total: v = variance(fat)",
        bind: |args| spread(args, |variance| variance),
    },
];

#[derive(Clone, Default, Serialize, Deserialize)]
struct WholeSum {
    sum: i128,
    count: i64,
    overflow: bool,
}

impl WholeSum {
    #[inline]
    fn add(&mut self, value: i128) {
        let (sum, overflow) = self.sum.overflowing_add(value);
        self.sum = sum;
        self.overflow |= overflow;
        self.count += 1;
    }
}

impl AggregateState for WholeSum {
    fn merge(&mut self, later: &mut Self) {
        let count = self.count + later.count;
        self.add(later.sum);
        self.overflow |= later.overflow;
        self.count = count;
    }
}

#[derive(Clone, Default, Serialize, Deserialize)]
struct Real {
    sum: Sum,
    count: i64,
}

impl AggregateState for Real {
    fn merge(&mut self, later: &mut Self) {
        self.sum.merge(later.sum);
        self.count += later.count;
    }
}

fn too_large() -> Error {
    Error::new(ErrorKind::Data, "A sum of whole numbers overflows.")
        .why("int holds numbers up to 9223372036854775807.")
        .next("Sum floats instead: sum(cast(x as float)).")
}

fn sum(mut args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    Ok(match args.number(0)? {
        Type::Int => made(
            args,
            Type::Int,
            |states: &mut [WholeSum], groups, args| {
                each_value::<_, Int64Type>(states, groups, column(args, 0)?, |state, x| {
                    state.add(i128::from(x))
                });
                Ok(())
            },
            |states| {
                let sums: Result<Int64Array> = states
                    .iter()
                    .map(|s| match (s.count, i64::try_from(s.sum)) {
                        (0, _) => Ok(None),
                        (_, Ok(sum)) => Ok(Some(sum)),
                        (_, Err(_)) => Err(too_large()),
                    })
                    .collect();
                Ok(Arc::new(sums?))
            },
        ),
        Type::Decimal(_, scale) => made(
            args,
            Type::Decimal(38, scale),
            |states: &mut [WholeSum], groups, args| {
                each_value::<_, Decimal128Type>(states, groups, column(args, 0)?, WholeSum::add);
                Ok(())
            },
            move |states| {
                if states.iter().any(|s| s.overflow || s.sum.unsigned_abs() >= 10u128.pow(38)) {
                    return Err(arithmetic::decimal_overflow("a sum"));
                }
                let nulls = NullBuffer::from_iter(states.iter().map(|s| s.count > 0));
                let sums = states.iter().map(|s| s.sum).collect();
                Ok(Arc::new(arithmetic::decimal_array(sums, 38, scale, Some(nulls))?))
            },
        ),
        _ => {
            let made = made(args, Type::Float, add_floats, |states| {
                let sums = states.iter().map(|s: &Real| (s.count > 0).then(|| s.sum.total()));
                Ok(Arc::new(sums.collect::<Float64Array>()))
            });
            let of_frames: FloatFrames =
                |values, frames| Some(Arc::new(Float64Array::from(sums_of_frames(values, frames)?.totals())));
            Made { float_frames: Some(of_frames), ..made }
        }
    })
}

/// The sums of frames, as states that slide give them; `None` of frames that neither are narrow nor grow with each row.
fn sums_of_frames(values: &[f64], frames: &[(u32, u32)]) -> Option<Sums> {
    Sums::of_frames(values, frames, NARROW, BLOCK)
}

/// Rows for each group from which on the sums of every other row are kept apart.
const MANY_ROWS: usize = 16;

fn add_floats(states: &mut [Real], groups: &[u32], args: &[arrow_array::ArrayRef]) -> Result<()> {
    let array = column(args, 0)?;
    let add = |states: &mut [Real], groups: &[u32]| {
        each_value::<_, Float64Type>(states, groups, array, |state, x| {
            state.sum.add(x);
            state.count += 1;
        });
    };
    if states.len() * MANY_ROWS > groups.len() {
        add(states, groups);
        return Ok(());
    }
    // An addition to a sum waits for the one before; of few groups, the next row often has the same.
    let count = states.len();
    let mut all = states.to_vec();
    all.resize(2 * count, Real::default());
    let groups = groups.iter().enumerate();
    let every_other = groups.map(|(row, group)| if row % 2 == 0 { *group } else { group + count as u32 });
    add(&mut all, &every_other.collect::<Vec<u32>>());
    let (even, odd) = all.split_at_mut(count);
    for ((state, even), odd) in states.iter_mut().zip(even).zip(odd) {
        even.merge(odd);
        *state = even.clone();
    }
    Ok(())
}

fn mean(mut args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    args.number(0)?;
    args.want(0, &Type::Float)?;
    let made = made(args, Type::Float, add_floats, |states: &mut [Real]| {
        let sums: Sums = states.iter().map(|state| state.sum).collect();
        let counts: Vec<f64> = states.iter().map(|state| state.count as f64).collect();
        let nulls = NullBuffer::from_iter(counts.iter().map(|count| *count > 0.0));
        Ok(Arc::new(Float64Array::new(
            sums.means(&counts).into(),
            Some(nulls).filter(|n| n.null_count() > 0),
        )))
    });
    let of_frames: FloatFrames = |values, frames| {
        let counts: Vec<f64> = frames.iter().map(|(from, to)| f64::from(to - from)).collect();
        Some(Arc::new(Float64Array::from(sums_of_frames(values, frames)?.means(&counts))))
    };
    Ok(Made { float_frames: Some(of_frames), ..made })
}

impl AggregateState for Deviations {
    fn merge(&mut self, later: &mut Self) {
        Deviations::merge(self, later);
    }
}

fn spread(mut args: Arguments, of_variance: fn(f64) -> f64) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    args.number(0)?;
    args.want(0, &Type::Float)?;
    Ok(made(
        args,
        Type::Float,
        |states: &mut [Deviations], groups, args| {
            each_value::<_, Float64Type>(states, groups, column(args, 0)?, Deviations::add);
            Ok(())
        },
        move |states| {
            let variance = |m: &Deviations| of_variance(m.squares() / (m.count() - 1) as f64);
            let results = states.iter().map(|m| (m.count() > 1).then(|| variance(m)));
            Ok(Arc::new(results.collect::<Float64Array>()))
        },
    ))
}

#[cfg(test)]
mod tests {
    use super::super::find;
    use super::*;
    use crate::{Bound, Node};
    use arrow_array::ArrayRef;
    use arrow_array::cast::AsArray;
    use proptest::prelude::*;

    proptest! {
        /// Frames that are narrow or grow give what they give as frames of any kind, to the bit.
        #[test]
        fn frames_of_floats_as_frames_that_slide(
            values in prop::collection::vec(
                prop_oneof![
                    80 => (-99i32..9_999).prop_map(|n| f64::from(n) / 10.0),
                    10 => any::<f64>(),
                    1 => prop::sample::select(vec![0.0, -0.0, 1e300, f64::INFINITY, f64::NAN]),
                ],
                1..60,
            ),
            copies in prop_oneof![Just(1), Just(2), 60usize..200],
            partition in prop_oneof![1usize..20, 4_000usize..9_000],
            width in prop_oneof![1usize..12, Just(usize::MAX)],
            name in prop::sample::select(vec!["sum", "mean"]),
        ) {
            let rows = values.len() * copies;
            let values: Vec<f64> = values.into_iter().cycle().take(rows).collect();
            let frame = |end: usize| {
                let start = end.saturating_sub(width).max((end - 1) / partition * partition);
                (start as u32, end as u32)
            };
            let frames: Vec<(u32, u32)> = (1..=rows).map(frame).collect();
            let floats = Bound { node: Node::Column(0), kind: Type::Float };
            let made = find(name).and_then(|aggregate| {
                let Aggregate { name, usage, .. } = aggregate;
                (aggregate.bind)(Arguments { name, usage, values: vec![floats] }).ok()
            });
            let made = made.ok_or_else(|| TestCaseError::fail("no such aggregate"))?;
            let column: ArrayRef = Arc::new(Float64Array::from(values.clone()));
            let expected = (made.make)().slide(&[column], None, &frames)?;
            let found = made.float_frames.and_then(|results| results(&values, &frames));
            prop_assert_eq!(found.is_some(), width <= NARROW || partition.min(rows) <= width);
            if let Some(found) = found {
                let bits = |array: &ArrayRef| -> Vec<u64> {
                    array.as_primitive::<Float64Type>().values().iter().map(|v| if v.is_nan() { 0 } else { v.to_bits() }).collect()
                };
                prop_assert_eq!(bits(&found), bits(&expected));
            }
        }
    }
}
