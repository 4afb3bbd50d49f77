//! Whether a value is one of many: looked up in a hash table, in time that does not depend on their number.

use std::collections::HashSet;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, Float64Type, Int64Type, TimestampMicrosecondType};
use arrow_array::{Array, ArrayRef, BooleanArray};
use arrow_buffer::BooleanBuffer;
use churn_core::{Column, Scalar, Type};

use super::{Arguments, arg};
use crate::Bound;

/// The members of a list, by what they are compared by.
enum Members {
    /// Whole numbers, days, moments.
    Whole(HashSet<i64>),
    /// Bits of floats: both zeros are one, and so is every NaN.
    Floats(HashSet<u64>),
    Texts(HashSet<Box<str>>),
    /// Values of other types, as they are written.
    Others(HashSet<String>),
}

/// The expression that tells whether `x` is one of some values of its type, none of which is null; null where x is.
pub fn is_member(x: Bound, values: &[Scalar]) -> Bound {
    let members = Members::new(&x.kind, values);
    let args = Arguments { name: "in", usage: "x in (a, b)", values: vec![x] };
    args.call(Type::Bool, move |args, rows, _| {
        let array = arg(args, 0).array(rows);
        let found = members.found(&array);
        Ok(Column::Array(Arc::new(BooleanArray::new(found, array.nulls().cloned()))))
    })
}

fn float_bits(value: f64) -> u64 {
    match value {
        v if v.is_nan() => f64::NAN.to_bits(),
        // Minus zero is zero.
        v => (v + 0.0).to_bits(),
    }
}

impl Members {
    fn new(kind: &Type, values: &[Scalar]) -> Members {
        let whole = |value: &Scalar| match value {
            Scalar::Int(v) | Scalar::Timestamp(v) => Some(*v),
            Scalar::Date(v) => Some(i64::from(*v)),
            _ => None,
        };
        match kind {
            Type::Int | Type::Date | Type::Timestamp => {
                Members::Whole(values.iter().filter_map(whole).collect())
            }
            Type::Float => {
                let bits = |v: &Scalar| if let Scalar::Float(v) = v { Some(float_bits(*v)) } else { None };
                Members::Floats(values.iter().filter_map(bits).collect())
            }
            Type::Text => {
                let text = |v: &Scalar| {
                    if let Scalar::Text(v) = v { Some(v.as_str().into()) } else { None }
                };
                Members::Texts(values.iter().filter_map(text).collect())
            }
            _ => Members::Others(values.iter().map(Scalar::plain).collect()),
        }
    }

    fn found(&self, array: &ArrayRef) -> BooleanBuffer {
        let rows = array.len();
        match self {
            Members::Whole(set) => {
                if let Some(values) = array.as_primitive_opt::<Int64Type>() {
                    BooleanBuffer::collect_bool(rows, |i| set.contains(&values.value(i)))
                } else if let Some(values) = array.as_primitive_opt::<Date32Type>() {
                    BooleanBuffer::collect_bool(rows, |i| set.contains(&i64::from(values.value(i))))
                } else if let Some(values) = array.as_primitive_opt::<TimestampMicrosecondType>() {
                    BooleanBuffer::collect_bool(rows, |i| set.contains(&values.value(i)))
                } else {
                    BooleanBuffer::new_unset(rows)
                }
            }
            Members::Floats(set) => match array.as_primitive_opt::<Float64Type>() {
                Some(values) => {
                    BooleanBuffer::collect_bool(rows, |i| set.contains(&float_bits(values.value(i))))
                }
                None => BooleanBuffer::new_unset(rows),
            },
            Members::Texts(set) => match array.as_string_view_opt() {
                Some(values) => BooleanBuffer::collect_bool(rows, |i| set.contains(values.value(i))),
                None => BooleanBuffer::new_unset(rows),
            },
            Members::Others(set) => BooleanBuffer::collect_bool(rows, |i| {
                array.is_valid(i) && set.contains(&Scalar::from_array(array, i).plain())
            }),
        }
    }
}
