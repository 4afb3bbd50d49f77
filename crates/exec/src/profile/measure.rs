//! What of a value is put in order and counted by buckets: a number itself, days of dates and timestamps, minutes
//! of times.

use arrow_array::ArrayRef;
use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float64Type, Int64Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use churn_core::{Scalar, Type};
use churn_kernels::calendar::{DAY, SECOND};

/// Microseconds of a minute.
const MINUTE: i64 = 60 * SECOND;

/// The measure of each value; of types that have none, nothing. The column is carried as its type is when computed.
pub(crate) fn of(array: &ArrayRef, kind: &Type) -> Vec<f64> {
    floats(array, kind, [MINUTE, DAY])
}

/// Each value as a float: numbers, days of dates, and times and timestamps in units of so many microseconds; of other types
/// nothing. The column is carried as its type is when computed; what stands for null is any number.
pub fn floats(array: &ArrayRef, kind: &Type, [time, stamp]: [i64; 2]) -> Vec<f64> {
    match kind {
        Type::Int => array.as_primitive::<Int64Type>().values().iter().map(|v| *v as f64).collect(),
        Type::Float => array.as_primitive::<Float64Type>().values().to_vec(),
        Type::Decimal(_, scale) => {
            let unit = 10f64.powi(i32::from(*scale));
            array.as_primitive::<Decimal128Type>().values().iter().map(|v| *v as f64 / unit).collect()
        }
        Type::Date => array.as_primitive::<Date32Type>().values().iter().map(|v| f64::from(*v)).collect(),
        Type::Time => {
            let times = array.as_primitive::<Time64MicrosecondType>().values();
            times.iter().map(|v| *v as f64 / time as f64).collect()
        }
        Type::Timestamp => {
            let stamps = array.as_primitive::<TimestampMicrosecondType>().values();
            stamps.iter().map(|v| *v as f64 / stamp as f64).collect()
        }
        _ => Vec::new(),
    }
}

/// The value that has a measure; of numbers a float, since a quartile may lie between two of them.
pub fn value(measure: f64, kind: &Type) -> Scalar {
    match kind {
        Type::Date => Scalar::Date(measure.round() as i32),
        Type::Time => Scalar::Time((measure * MINUTE as f64).round() as i64),
        Type::Timestamp => Scalar::Timestamp((measure * DAY as f64).round() as i64),
        _ => Scalar::Float(measure),
    }
}
