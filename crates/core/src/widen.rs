//! Columns as files carry them into columns as they are computed with.
//!
//! A narrow integer becomes a wide one, a dictionary its values, a time in any unit one in microseconds. What is
//! only carried stays as it came.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::*;
use arrow_array::{
    Array, ArrayRef, BinaryViewArray, Float64Array, Int64Array, LargeListArray, ListArray, PrimitiveArray,
    StringViewArray,
};
use arrow_buffer::OffsetBuffer;
use arrow_schema::{DataType, Field, TimeUnit};
use churn_kernels::calendar::{self, DAY};

use super::{Batch, Type};
use crate::{Error, ErrorKind, Result, arrow_error};

/// Refuses a column of a file or of a user with values that the language's type has not: dates before the year 1 or
/// after 9999, times beyond a day, whole numbers beyond 64 bits with a sign. One look at each value of such types.
///
/// # Errors
/// A value does not fit; the error names neither file nor column.
pub fn check_range(array: &dyn Array) -> Result<()> {
    const DAYS: std::ops::RangeInclusive<i64> = calendar::FIRST_DAY as i64..=calendar::LAST_DAY as i64;
    macro_rules! within {
        ($type:ty, $range:expr, $what:literal) => {{
            let (values, range) = (array.as_primitive::<$type>(), $range);
            // Values of rows that are null count for nothing.
            let is_outside = values.values().iter().any(|v| !range.contains(&(*v as i128)));
            let is_outside = is_outside && values.iter().flatten().any(|v| !range.contains(&(v as i128)));
            if is_outside { Err(too_large($what)) } else { Ok(()) }
        }};
    }
    let days = |in_a_day: i64| {
        let in_a_day = i128::from(in_a_day);
        i128::from(*DAYS.start()) * in_a_day..(i128::from(*DAYS.end()) + 1) * in_a_day
    };
    match array.data_type() {
        DataType::UInt64 => within!(UInt64Type, 0..=i128::from(i64::MAX), "a whole number"),
        DataType::Date32 => within!(Date32Type, days(1), "a date"),
        DataType::Date64 => within!(Date64Type, days(86_400_000), "a date"),
        DataType::Time32(TimeUnit::Second) => within!(Time32SecondType, 0..86_400, "a time of a day"),
        DataType::Time32(_) => within!(Time32MillisecondType, 0..86_400_000, "a time of a day"),
        DataType::Time64(TimeUnit::Nanosecond) => {
            within!(Time64NanosecondType, 0..i128::from(DAY) * 1000, "a time of a day")
        }
        DataType::Time64(_) => within!(Time64MicrosecondType, 0..i128::from(DAY), "a time of a day"),
        DataType::Timestamp(TimeUnit::Second, _) => {
            within!(TimestampSecondType, days(86_400), "a timestamp")
        }
        DataType::Timestamp(TimeUnit::Millisecond, _) => {
            within!(TimestampMillisecondType, days(86_400_000), "a timestamp")
        }
        DataType::Timestamp(TimeUnit::Microsecond, _) => {
            within!(TimestampMicrosecondType, days(DAY), "a timestamp")
        }
        DataType::List(_) => check_range(array.as_list::<i32>().values()),
        DataType::LargeList(_) => check_range(array.as_list::<i64>().values()),
        _ => Ok(()),
    }
}

/// Gives the column in the Arrow type that its language type is computed in.
pub fn widen(array: &ArrayRef) -> Result<ArrayRef> {
    macro_rules! int {
        ($from:ty) => {
            Arc::new(array.as_primitive::<$from>().unary::<_, Int64Type>(|v| v as i64)) as ArrayRef
        };
    }
    let scaled = |times: i64, by: i64, array: &dyn Array| -> Result<Int64Array> {
        let values = match array.data_type() {
            DataType::Time32(TimeUnit::Second) => array.as_primitive::<Time32SecondType>().unary(i64::from),
            DataType::Time32(_) => array.as_primitive::<Time32MillisecondType>().unary(i64::from),
            DataType::Time64(_) => array.as_primitive::<Time64NanosecondType>().unary(|v| v),
            DataType::Timestamp(TimeUnit::Second, _) => {
                array.as_primitive::<TimestampSecondType>().unary(|v| v)
            }
            DataType::Timestamp(TimeUnit::Millisecond, _) => {
                array.as_primitive::<TimestampMillisecondType>().unary(|v| v)
            }
            DataType::Timestamp(TimeUnit::Microsecond, _) => {
                array.as_primitive::<TimestampMicrosecondType>().unary(|v| v)
            }
            _ => array.as_primitive::<TimestampNanosecondType>().unary(|v| v),
        };
        let values: Int64Array = values;
        values.try_unary(|v| {
            v.checked_mul(times).map(|v| v.div_euclid(by)).ok_or_else(|| too_large("a timestamp"))
        })
    };
    Ok(match array.data_type() {
        DataType::Int8 => int!(Int8Type),
        DataType::Int16 => int!(Int16Type),
        DataType::Int32 => int!(Int32Type),
        DataType::UInt8 => int!(UInt8Type),
        DataType::UInt16 => int!(UInt16Type),
        DataType::UInt32 => int!(UInt32Type),
        DataType::UInt64 => {
            let wide: Int64Array = array
                .as_primitive::<UInt64Type>()
                .try_unary(|v| i64::try_from(v).map_err(|_| too_large("a whole number")))?;
            Arc::new(wide)
        }
        DataType::Float16 => {
            let wide: Float64Array = array.as_primitive::<Float16Type>().unary(f64::from);
            Arc::new(wide)
        }
        DataType::Float32 => {
            let wide: Float64Array = array.as_primitive::<Float32Type>().unary(f64::from);
            Arc::new(wide)
        }
        DataType::Utf8 => Arc::new(StringViewArray::from(array.as_string::<i32>())),
        DataType::LargeUtf8 => Arc::new(StringViewArray::from(array.as_string::<i64>())),
        DataType::Binary => Arc::new(BinaryViewArray::from(array.as_binary::<i32>())),
        DataType::LargeBinary => Arc::new(BinaryViewArray::from(array.as_binary::<i64>())),
        DataType::Dictionary(_, _) => {
            let dictionary = array.as_any_dictionary();
            let values = widen(dictionary.values())?;
            arrow_select::take::take(&values, dictionary.keys(), None).map_err(arrow_error)?
        }
        DataType::Date64 => {
            let days: PrimitiveArray<Date32Type> = array
                .as_primitive::<Date64Type>()
                .try_unary(|ms| i32::try_from(ms.div_euclid(86_400_000)).map_err(|_| too_large("a date")))?;
            Arc::new(days)
        }
        DataType::Time32(TimeUnit::Second) => time(scaled(1_000_000, 1, array)?)?,
        DataType::Time32(_) => time(scaled(1000, 1, array)?)?,
        DataType::Time64(TimeUnit::Nanosecond) => time(scaled(1, 1000, array)?)?,
        DataType::Timestamp(TimeUnit::Second, _) => timestamp(scaled(1_000_000, 1, array)?),
        DataType::Timestamp(TimeUnit::Millisecond, _) => timestamp(scaled(1000, 1, array)?),
        DataType::Timestamp(TimeUnit::Nanosecond, _) => timestamp(scaled(1, 1000, array)?),
        DataType::Timestamp(TimeUnit::Microsecond, Some(_)) => timestamp(scaled(1, 1, array)?),
        DataType::LargeList(_) => {
            let list: &LargeListArray = array.as_list();
            let lengths: Vec<usize> = (0..list.len()).map(|i| list.value_length(i) as usize).collect();
            let from = list.value_offsets().first().copied().unwrap_or(0) as usize;
            let total: usize = lengths.iter().sum();
            list_of(
                &list.values().slice(from, total),
                OffsetBuffer::from_lengths(lengths),
                list.nulls().cloned(),
            )?
        }
        DataType::List(item)
            if Type::of(item.data_type()).is_some_and(|t| t.arrow() != *item.data_type()) =>
        {
            let list: &ListArray = array.as_list();
            list_of(list.values(), list.offsets().clone(), list.nulls().cloned())?
        }
        _ => array.clone(),
    })
}

/// Parts of one column in one Arrow type: rows that were kept on disk come back wide.
pub fn alike(parts: &mut [ArrayRef]) -> Result<()> {
    let Some(first) = parts.first().map(|part| part.data_type().clone()) else { return Ok(()) };
    if parts.iter().any(|part| *part.data_type() != first) {
        for part in parts {
            *part = widen(part)?;
        }
    }
    Ok(())
}

/// The column without text that belongs to other rows, and not as numbers into a dictionary: fit to be stored.
pub fn alone(column: ArrayRef) -> ArrayRef {
    let column = without_dictionary(column);
    match (column.as_string_view_opt(), column.as_binary_view_opt()) {
        (Some(texts), _) if !texts.data_buffers().is_empty() => Arc::new(texts.gc()),
        (_, Some(bytes)) if !bytes.data_buffers().is_empty() => Arc::new(bytes.gc()),
        _ => column,
    }
}

/// The column with values in place of numbers into a dictionary.
pub fn without_dictionary(column: ArrayRef) -> ArrayRef {
    match column.data_type() {
        DataType::Dictionary(_, _) => widen(&column).unwrap_or(column),
        _ => column,
    }
}

/// Bytes that a column takes once it is [`alone`]: of texts only those that its rows show.
pub fn bytes_alone(column: &ArrayRef) -> usize {
    let views = match (column.as_string_view_opt(), column.as_binary_view_opt()) {
        (Some(texts), _) => texts.views(),
        (_, Some(bytes)) => bytes.views(),
        _ => return Batch { columns: vec![column.clone()], rows: column.len() }.memory(),
    };
    let lengths = views.iter().map(|view| *view as u32 as usize);
    column.len() * 17 + lengths.filter(|length| *length > 12).sum::<usize>()
}

fn list_of(
    values: &ArrayRef,
    offsets: OffsetBuffer<i32>,
    nulls: Option<arrow_buffer::NullBuffer>,
) -> Result<ArrayRef> {
    let values = widen(values)?;
    let field = Arc::new(Field::new("item", values.data_type().clone(), true));
    Ok(Arc::new(ListArray::new(field, offsets, values, nulls)))
}

/// Times of a day; before its start and behind its end there are none.
fn time(micros: Int64Array) -> Result<ArrayRef> {
    let is_none = |micros: i64| !(0..DAY).contains(&micros);
    if micros.iter().flatten().any(is_none) {
        return Err(too_large("a time of a day"));
    }
    Ok(Arc::new(micros.reinterpret_cast::<Time64MicrosecondType>()))
}

fn timestamp(micros: Int64Array) -> ArrayRef {
    Arc::new(micros.reinterpret_cast::<TimestampMicrosecondType>())
}

fn too_large(what: &str) -> Error {
    Error::new(ErrorKind::Data, format!("The column holds {what} that does not fit."))
        .next("Leave the column out, or write the file with a smaller type.")
}
