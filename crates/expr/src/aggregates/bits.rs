//! Values of 64 bits as their bits, by which equal ones are equal.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_array::{
    ArrayRef, Date32Array, Float64Array, Int64Array, Time64MicrosecondArray, TimestampMicrosecondArray,
};
use churn_core::Type;

/// Whether values of a type have such bits.
pub(super) fn has_bits(kind: &Type) -> bool {
    matches!(kind, Type::Int | Type::Float | Type::Date | Type::Time | Type::Timestamp)
}

/// The bits of a column's values; what stands where there is none is of no use.
pub(super) fn bits_of(column: &ArrayRef) -> Vec<u64> {
    if let Some(values) = column.as_primitive_opt::<Int64Type>() {
        values.values().iter().map(|v| v.cast_unsigned()).collect()
    } else if let Some(values) = column.as_primitive_opt::<Float64Type>() {
        values.values().iter().map(|v| float_bits(*v)).collect()
    } else if let Some(values) = column.as_primitive_opt::<Date32Type>() {
        values.values().iter().map(|v| i64::from(*v).cast_unsigned()).collect()
    } else if let Some(values) = column.as_primitive_opt::<Time64MicrosecondType>() {
        values.values().iter().map(|v| v.cast_unsigned()).collect()
    } else if let Some(values) = column.as_primitive_opt::<TimestampMicrosecondType>() {
        values.values().iter().map(|v| v.cast_unsigned()).collect()
    } else {
        vec![0; column.len()]
    }
}

/// A column of a type from its values' bits.
pub(super) fn of_bits(kind: &Type, bits: impl Iterator<Item = Option<u64>>) -> ArrayRef {
    let signed = |bits: Option<u64>| bits.map(u64::cast_signed);
    match kind {
        Type::Float => Arc::new(bits.map(|b| b.map(f64::from_bits)).collect::<Float64Array>()),
        Type::Date => Arc::new(bits.map(|b| signed(b).map(|day| day as i32)).collect::<Date32Array>()),
        Type::Time => Arc::new(bits.map(signed).collect::<Time64MicrosecondArray>()),
        Type::Timestamp => Arc::new(bits.map(signed).collect::<TimestampMicrosecondArray>()),
        _ => Arc::new(bits.map(signed).collect::<Int64Array>()),
    }
}

/// The bits by which equal floats are equal: one zero, one NaN.
fn float_bits(x: f64) -> u64 {
    if x == 0.0 {
        0
    } else if x.is_nan() {
        f64::NAN.to_bits()
    } else {
        x.to_bits()
    }
}
