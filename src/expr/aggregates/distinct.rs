//! `count_distinct`: the number of different values.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, Int64Array};
use hashbrown::{DefaultHashBuilder, HashSet};

use super::super::functions::{Arguments, Complaint};
use super::super::{Scalar, Type};
use super::{Aggregate, Made, State, at, column, each_valid, made};
use crate::error::Result;

pub(super) const AGGREGATES: &[Aggregate] = &[Aggregate {
    name: "count_distinct",
    usage: "count_distinct(x)",
    summary: "The number of different values; null is none.",
    bind: count_distinct,
}];

/// A set that is made only when the first value comes.
struct Seen<T>(Option<HashSet<T, DefaultHashBuilder>>);

impl<T> Default for Seen<T> {
    fn default() -> Self {
        Seen(None)
    }
}

impl<T: Eq + std::hash::Hash + Send + 'static> State for Seen<T> {
    fn merge(&mut self, later: &mut Self) {
        match (&mut self.0, later.0.take()) {
            (Some(ours), Some(theirs)) => ours.extend(theirs),
            (None, theirs) => self.0 = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        self.0.as_ref().map_or(0, |set| set.capacity() * (size_of::<T>() + 1))
    }
}

/// The bits by which equal floats are equal: one zero, one NaN.
pub(crate) fn float_bits(x: f64) -> u64 {
    if x == 0.0 {
        0
    } else if x.is_nan() {
        f64::NAN.to_bits()
    } else {
        x.to_bits()
    }
}

fn count_distinct(args: Arguments) -> Result<Made, Complaint> {
    args.count(1..=1)?;
    let kind = args.kind(0);
    let finish = |states: &mut [Seen<u64>]| Ok(counts(states));
    Ok(match kind {
        Type::Int | Type::Float | Type::Date | Type::Time | Type::Timestamp => {
            made(args, Type::Int, add_bits, finish)
        }
        _ => made(
            args,
            Type::Int,
            |states: &mut [Seen<Box<[u8]>>], groups, args| {
                let array = column(args, 0)?;
                let texts = array.as_string_view_opt();
                each_valid(states, groups, &[array], |state, row| {
                    let set = state.0.get_or_insert_default();
                    match texts {
                        Some(texts) => {
                            let text = texts.value(row).as_bytes();
                            if !set.contains(text) {
                                set.insert(text.into());
                            }
                        }
                        None => {
                            set.insert(Scalar::from_array(array, row).to_string().into_bytes().into());
                        }
                    }
                });
                Ok(())
            },
            |states| Ok(counts(states)),
        ),
    })
}

fn counts<T>(states: &[Seen<T>]) -> ArrayRef {
    Arc::new(states.iter().map(|s| s.0.as_ref().map_or(0, HashSet::len) as i64).collect::<Int64Array>())
}

fn add_bits(states: &mut [Seen<u64>], groups: &[u32], args: &[ArrayRef]) -> Result<()> {
    let array = column(args, 0)?;
    let mut add = |bits: &dyn Fn(usize) -> u64| {
        each_valid(states, groups, &[array], |state, row| {
            state.0.get_or_insert_default().insert(bits(row));
        });
    };
    if let Some(values) = array.as_primitive_opt::<Int64Type>() {
        add(&|row| at(values.values(), row).cast_unsigned());
    } else if let Some(values) = array.as_primitive_opt::<Float64Type>() {
        add(&|row| float_bits(at(values.values(), row)));
    } else if let Some(values) = array.as_primitive_opt::<Date32Type>() {
        add(&|row| i64::from(at(values.values(), row)).cast_unsigned());
    } else if let Some(values) = array.as_primitive_opt::<Time64MicrosecondType>() {
        add(&|row| at(values.values(), row).cast_unsigned());
    } else if let Some(values) = array.as_primitive_opt::<TimestampMicrosecondType>() {
        add(&|row| at(values.values(), row).cast_unsigned());
    }
    debug_assert_eq!(array.len(), groups.len());
    Ok(())
}
