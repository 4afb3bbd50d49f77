//! `count_distinct`: the number of different values.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{Array, ArrayRef, Int64Array};
use hashbrown::{DefaultHashBuilder, HashSet};

use serde::{Deserialize, Serialize};

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

/// The bits of values; made only when the first comes.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Seen(Option<HashSet<u128, DefaultHashBuilder>>);

impl State for Seen {
    fn merge(&mut self, later: &mut Self) {
        match (&mut self.0, later.0.take()) {
            (Some(ours), Some(theirs)) => ours.extend(theirs),
            (None, theirs) => self.0 = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        self.0.as_ref().map_or(0, |set| set.capacity() * (size_of::<u128>() + 1))
    }
}

/// Values as text: those that fit into a view as its bits, the others beside.
#[derive(Clone, Default, Serialize, Deserialize)]
struct Texts {
    short: Seen,
    long: Option<HashSet<Box<[u8]>, DefaultHashBuilder>>,
}

impl Texts {
    fn add(&mut self, text: &[u8]) {
        if text.len() <= 12 {
            let mut bits = [0; 16];
            bits.iter_mut().skip(4).zip(text).for_each(|(to, from)| *to = *from);
            let bits = u128::from_le_bytes(bits) | text.len() as u128;
            self.short.0.get_or_insert_default().insert(bits);
            return;
        }
        let long = self.long.get_or_insert_default();
        if !long.contains(text) {
            long.insert(text.into());
        }
    }
}

impl State for Texts {
    fn merge(&mut self, later: &mut Self) {
        self.short.merge(&mut later.short);
        match (&mut self.long, later.long.take()) {
            (Some(ours), Some(theirs)) => ours.extend(theirs),
            (None, theirs) => self.long = theirs,
            (Some(_), None) => {}
        }
    }

    fn heap(&self) -> usize {
        let long = self.long.as_ref().map_or(0, |set| {
            set.capacity() * (size_of::<Box<[u8]>>() + 1)
                + set.iter().map(|text| text.len() + 16).sum::<usize>()
        });
        self.short.heap() + long
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
    let count = |seen: &Seen| seen.0.as_ref().map_or(0, HashSet::len) as i64;
    Ok(match kind {
        Type::Int | Type::Float | Type::Date | Type::Time | Type::Timestamp => {
            made(args, Type::Int, add_bits, move |states: &mut [Seen]| {
                Ok(Arc::new(states.iter().map(count).collect::<Int64Array>()))
            })
        }
        _ => made(
            args,
            Type::Int,
            |states: &mut [Texts], groups, args| {
                let array = column(args, 0)?;
                let texts = array.as_string_view_opt();
                each_valid(states, groups, &[array], |state, row| match texts {
                    Some(texts) => state.add(texts.value(row).as_bytes()),
                    None => state.add(Scalar::from_array(array, row).to_string().as_bytes()),
                });
                Ok(())
            },
            move |states: &mut [Texts]| {
                let all = |t: &Texts| count(&t.short) + t.long.as_ref().map_or(0, HashSet::len) as i64;
                Ok(Arc::new(states.iter().map(all).collect::<Int64Array>()))
            },
        ),
    })
}

fn add_bits(states: &mut [Seen], groups: &[u32], args: &[ArrayRef]) -> Result<()> {
    let array = column(args, 0)?;
    let mut add = |bits: &dyn Fn(usize) -> u64| {
        each_valid(states, groups, &[array], |state, row| {
            state.0.get_or_insert_default().insert(u128::from(bits(row)));
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
