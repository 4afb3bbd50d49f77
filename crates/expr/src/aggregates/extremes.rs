//! `min`, `max`, `first`, `last`, `min_by` and `max_by`: one of the values themselves.

use std::cmp::Ordering;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Float64Type, Int64Type};
use arrow_array::{ArrayRef, Float64Array, Int64Array};
use churn_core::scalar::array_of;
use churn_core::{Result, Scalar, Type};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};

use super::super::compare;
use super::super::functions::{Arguments, Complaint};
use super::{Aggregate, AggregateState, Made, column, each_valid, each_value, made};

pub(super) const AGGREGATES: &[Aggregate] = &[
    Aggregate {
        name: "min",
        usage: "min(x)",
        summary: "The smallest value.",
        example: "group by farm: since = min(collected_on)",
        bind: |a| extreme(a, Extreme::Min),
    },
    Aggregate {
        name: "max",
        usage: "max(x)",
        summary: "The largest value.",
        example: "group by farm: last_day = max(collected_on)",
        bind: |a| extreme(a, Extreme::Max),
    },
    Aggregate {
        name: "first",
        usage: "first(x)",
        summary: "The first value that is not null, in row order.",
        example: "group by farm: tanker = first(tanker)",
        bind: |args| end(args, true),
    },
    Aggregate {
        name: "last",
        usage: "last(x)",
        summary: "The last value that is not null, in row order.",
        example: "group by farm: tanker = last(tanker)",
        bind: |args| end(args, false),
    },
    Aggregate {
        name: "min_by",
        usage: "min_by(x, key)",
        summary: "The x of the row with the smallest key; of equal keys the first.",
        example: "group by farm: leanest = min_by(collected_on, fat)",
        bind: |args| by_key(args, Extreme::Min),
    },
    Aggregate {
        name: "max_by",
        usage: "max_by(x, key)",
        summary: "The x of the row with the largest key; of equal keys the first.",
        example: "group by farm: best_day = max_by(collected_on, litres)",
        bind: |args| by_key(args, Extreme::Max),
    },
];

#[derive(Clone, Copy, PartialEq, Eq)]
enum Extreme {
    Min,
    Max,
}

impl Extreme {
    /// Whether a value with this order to the best one so far replaces it.
    #[inline]
    fn beats(self, order: Ordering) -> bool {
        match self {
            Extreme::Min => order.is_lt(),
            Extreme::Max => order.is_gt(),
        }
    }
}

/// The best value so far, with the side it is best on.
#[derive(Clone, Serialize, Deserialize)]
struct Best<T, const MAX: bool>(Option<T>);

impl<T, const MAX: bool> Default for Best<T, MAX> {
    fn default() -> Self {
        Best(None)
    }
}

impl<T, const MAX: bool> Best<T, MAX> {
    const SIDE: Extreme = if MAX { Extreme::Max } else { Extreme::Min };

    #[inline]
    fn offer(&mut self, value: T, order: impl Fn(&T, &T) -> Ordering) {
        if self.0.as_ref().is_none_or(|best| Self::SIDE.beats(order(&value, best))) {
            self.0 = Some(value);
        }
    }
}

/// Values with an order of their own.
trait OrderedValue: Clone + Send + Serialize + DeserializeOwned + 'static {
    fn order(&self, other: &Self) -> Ordering;
}

impl OrderedValue for i64 {
    fn order(&self, other: &Self) -> Ordering {
        self.cmp(other)
    }
}

impl OrderedValue for f64 {
    fn order(&self, other: &Self) -> Ordering {
        compare::order_floats(*self, *other)
    }
}

impl OrderedValue for Scalar {
    fn order(&self, other: &Self) -> Ordering {
        compare::order_of(self, other)
    }
}

impl<T: OrderedValue, const MAX: bool> AggregateState for Best<T, MAX> {
    fn merge(&mut self, later: &mut Self) {
        if let Some(value) = later.0.take() {
            self.offer(value, T::order);
        }
    }
}

fn extreme(args: Arguments, side: Extreme) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    if let kind = args.kind(0)
        && !kind.has_order()
    {
        return Err(Complaint::new(
            0,
            format!("{} needs values that have an order; this is {kind}.", args.name),
        ));
    }
    Ok(if side == Extreme::Max { extreme_of::<true>(args) } else { extreme_of::<false>(args) })
}

fn extreme_of<const MAX: bool>(args: Arguments) -> Made {
    match args.kind(0) {
        Type::Int => made(
            args,
            Type::Int,
            |states: &mut [Best<i64, MAX>], groups, args| {
                each_value::<_, Int64Type>(states, groups, column(args, 0)?, |s, x| s.offer(x, i64::cmp));
                Ok(())
            },
            |states| Ok(Arc::new(states.iter().map(|s| s.0).collect::<Int64Array>())),
        ),
        Type::Float => made(
            args,
            Type::Float,
            |states: &mut [Best<f64, MAX>], groups, args| {
                each_value::<_, Float64Type>(states, groups, column(args, 0)?, |s, x| {
                    s.offer(x, OrderedValue::order)
                });
                Ok(())
            },
            |states| Ok(Arc::new(states.iter().map(|s| s.0).collect::<Float64Array>())),
        ),
        kind => {
            let result = kind.clone();
            made(
                args,
                kind,
                |states: &mut [Best<Scalar, MAX>], groups, args| {
                    let array = column(args, 0)?;
                    let texts = array.as_string_view_opt();
                    each_valid(states, groups, &[array], |s, row| {
                        // A text that does not win is never copied.
                        if let (Some(texts), Some(Scalar::Text(best))) = (texts, &s.0)
                            && !Best::<Scalar, MAX>::SIDE.beats(texts.value(row).cmp(best.as_str()))
                        {
                            return;
                        }
                        s.offer(Scalar::from_array(array, row), OrderedValue::order);
                    });
                    Ok(())
                },
                move |states| Ok(scalars(states.iter().map(|s| s.0.as_ref()), &result)),
            )
        }
    }
}

fn scalars<'a>(values: impl Iterator<Item = Option<&'a Scalar>>, kind: &Type) -> ArrayRef {
    let null = Scalar::Null;
    array_of(&values.map(|v| v.unwrap_or(&null)).collect::<Vec<_>>(), kind)
}

/// The first or the last value.
#[derive(Clone, Default, Serialize, Deserialize)]
struct FirstOrLast<const FIRST: bool>(Option<Scalar>);

impl<const FIRST: bool> AggregateState for FirstOrLast<FIRST> {
    fn merge(&mut self, later: &mut Self) {
        if let Some(value) = later.0.take()
            && (!FIRST || self.0.is_none())
        {
            self.0 = Some(value);
        }
    }
}

fn end(args: Arguments, first: bool) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    Ok(if first { end_of::<true>(args) } else { end_of::<false>(args) })
}

fn end_of<const FIRST: bool>(args: Arguments) -> Made {
    let kind = args.kind(0);
    let result = kind.clone();
    made(
        args,
        kind,
        |states: &mut [FirstOrLast<FIRST>], groups, args| {
            let array = column(args, 0)?;
            each_valid(states, groups, &[array], |state, row| {
                if !FIRST || state.0.is_none() {
                    state.0 = Some(Scalar::from_array(array, row));
                }
            });
            Ok(())
        },
        move |states| Ok(scalars(states.iter().map(|s| s.0.as_ref()), &result)),
    )
}

/// The best key so far and the value beside it.
#[derive(Clone, Default, Serialize, Deserialize)]
struct ByKey<const MAX: bool>(Option<(Scalar, Scalar)>);

impl<const MAX: bool> ByKey<MAX> {
    fn offer(&mut self, key: Scalar, value: impl FnOnce() -> Scalar) {
        let side = if MAX { Extreme::Max } else { Extreme::Min };
        if self.0.as_ref().is_none_or(|(best, _)| side.beats(compare::order_of(&key, best))) {
            self.0 = Some((key, value()));
        }
    }
}

impl<const MAX: bool> AggregateState for ByKey<MAX> {
    fn merge(&mut self, later: &mut Self) {
        if let Some((key, value)) = later.0.take() {
            self.offer(key, || value);
        }
    }
}

fn by_key(args: Arguments, side: Extreme) -> Result<Made, Complaint> {
    args.count(2..=2)?;
    if let kind = args.kind(1)
        && !kind.has_order()
    {
        return Err(Complaint::new(
            1,
            format!("{} needs a key that has an order; this is {kind}.", args.name),
        ));
    }
    Ok(if side == Extreme::Max { by_key_of::<true>(args) } else { by_key_of::<false>(args) })
}

fn by_key_of<const MAX: bool>(args: Arguments) -> Made {
    let kind = args.kind(0);
    let result = kind.clone();
    made(
        args,
        kind,
        |states: &mut [ByKey<MAX>], groups, args| {
            let (values, keys) = (column(args, 0)?, column(args, 1)?);
            each_valid(states, groups, &[values, keys], |state, row| {
                state.offer(Scalar::from_array(keys, row), || Scalar::from_array(values, row));
            });
            Ok(())
        },
        move |states| Ok(scalars(states.iter().map(|s| s.0.as_ref().map(|(_, value)| value)), &result)),
    )
}
