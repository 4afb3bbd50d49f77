//! One value of the language.

use std::fmt;
use std::sync::Arc;

use arrow_array::builder::{BinaryViewBuilder, StringViewBuilder};
use arrow_array::cast::AsArray;
use arrow_array::types::{
    Date32Type, Decimal128Type, Float64Type, Int64Type, IntervalMonthDayNanoType, Time64MicrosecondType,
    TimestampMicrosecondType,
};
use arrow_array::{
    Array, ArrayRef, BooleanArray, Date32Array, Decimal128Array, Float64Array, Int64Array,
    IntervalMonthDayNanoArray, ListArray, NullArray, Time64MicrosecondArray, TimestampMicrosecondArray,
    new_null_array,
};
use arrow_buffer::{IntervalMonthDayNano, OffsetBuffer};
use arrow_schema::Field;
use churn_kernels::calendar;
use serde::{Deserialize, Serialize};

use super::Type;

/// A span of time as written in `interval '3' month`.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Interval {
    /// Whole months.
    pub months: i64,
    /// Whole days.
    pub days: i64,
    /// Microseconds.
    pub micros: i64,
}

impl Interval {
    /// It so many times; `None` if that is no interval.
    pub fn times(self, count: i64) -> Option<Interval> {
        Some(Interval {
            months: self.months.checked_mul(count)?,
            days: self.days.checked_mul(count)?,
            micros: self.micros.checked_mul(count)?,
        })
    }

    /// Both together; `None` if that is no interval.
    pub fn plus(self, other: Interval) -> Option<Interval> {
        Some(Interval {
            months: self.months.checked_add(other.months)?,
            days: self.days.checked_add(other.days)?,
            micros: self.micros.checked_add(other.micros)?,
        })
    }

    /// As a column carries it; `None` if it is too long for that.
    pub fn arrow(self) -> Option<IntervalMonthDayNano> {
        let (months, days) = (i32::try_from(self.months).ok()?, i32::try_from(self.days).ok()?);
        Some(IntervalMonthDayNano::new(months, days, self.micros.checked_mul(1000)?))
    }

    /// Of a value of a column; what is less than a microsecond is cut off.
    pub fn of_arrow(value: IntervalMonthDayNano) -> Interval {
        let (months, days) = (value.months.into(), value.days.into());
        Interval { months, days, micros: value.nanoseconds / 1000 }
    }

    /// By ISO 8601: `P1Y2M3DT4H5M6.5S`. Each part has its own sign.
    pub fn iso(self) -> String {
        let Interval { months, days, micros } = self;
        let mut text = "P".to_owned();
        let mut part = |number: i64, unit: char| {
            if number != 0 {
                text += &format!("{number}{unit}");
            }
        };
        part(months / 12, 'Y');
        part(months % 12, 'M');
        part(days, 'D');
        let (hours, minutes) = (micros / (3600 * calendar::SECOND), micros / (60 * calendar::SECOND) % 60);
        let micros_left = micros % (60 * calendar::SECOND);
        if micros != 0 || text == "P" {
            text.push('T');
            for (number, unit) in [(hours, 'H'), (minutes, 'M')] {
                if number != 0 {
                    text += &format!("{number}{unit}");
                }
            }
            if micros_left != 0 || micros == 0 {
                let sign = if micros_left < 0 { "-" } else { "" };
                let (seconds, part) =
                    (micros_left.abs() / calendar::SECOND, micros_left.abs() % calendar::SECOND);
                let part = format!("{part:06}");
                let part = part.trim_end_matches('0');
                let point = if part.is_empty() { "" } else { "." };
                text += &format!("{sign}{seconds}{point}{part}S");
            }
        }
        text
    }
}

/// One value.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[non_exhaustive]
pub enum Scalar {
    /// No value.
    Null,
    /// True or false.
    Bool(bool),
    /// A whole number.
    Int(i64),
    /// A float.
    Float(f64),
    /// A decimal: units of its last digit, precision, scale.
    Decimal(i128, u8, i8),
    /// Text.
    Text(String),
    /// Days from 1970-01-01.
    Date(i32),
    /// Microseconds from midnight.
    Time(i64),
    /// Microseconds from 1970-01-01 00:00.
    Timestamp(i64),
    /// A span of time.
    Interval(Interval),
    /// A list with its item type.
    List(Vec<Scalar>, Type),
    /// Bytes.
    Binary(Vec<u8>),
}

impl Scalar {
    /// The value's type.
    pub fn kind(&self) -> Type {
        match self {
            Scalar::Null => Type::Null,
            Scalar::Bool(_) => Type::Bool,
            Scalar::Int(_) => Type::Int,
            Scalar::Float(_) => Type::Float,
            Scalar::Decimal(_, p, s) => Type::Decimal(*p, *s),
            Scalar::Text(_) => Type::Text,
            Scalar::Date(_) => Type::Date,
            Scalar::Time(_) => Type::Time,
            Scalar::Timestamp(_) => Type::Timestamp,
            Scalar::Interval(_) => Type::Interval,
            Scalar::List(_, item) => Type::List(Box::new(item.clone())),
            Scalar::Binary(_) => Type::Binary,
        }
    }

    /// Whether there is no value.
    pub fn is_null(&self) -> bool {
        matches!(self, Scalar::Null)
    }

    /// A column of `rows` times this value, carried as `kind`.
    pub fn to_array(&self, kind: &Type, rows: usize) -> ArrayRef {
        match self {
            Scalar::Null => new_null_array(&kind.arrow(), rows),
            Scalar::Bool(v) => Arc::new(BooleanArray::from(vec![*v; rows])),
            Scalar::Int(v) => Arc::new(Int64Array::from_value(*v, rows)),
            Scalar::Float(v) => Arc::new(Float64Array::from_value(*v, rows)),
            Scalar::Decimal(v, p, s) => {
                let array = Decimal128Array::from_value(*v, rows);
                match array.with_precision_and_scale(*p, *s) {
                    Ok(array) => Arc::new(array),
                    Err(_) => new_null_array(&kind.arrow(), rows),
                }
            }
            Scalar::Text(v) => {
                let mut builder = StringViewBuilder::with_capacity(rows).with_deduplicate_strings();
                (0..rows).for_each(|_| builder.append_value(v));
                Arc::new(builder.finish())
            }
            Scalar::Date(v) => Arc::new(Date32Array::from_value(*v, rows)),
            Scalar::Time(v) => Arc::new(Time64MicrosecondArray::from_value(*v, rows)),
            Scalar::Timestamp(v) => Arc::new(TimestampMicrosecondArray::from_value(*v, rows)),
            Scalar::Interval(v) => {
                Arc::new(IntervalMonthDayNanoArray::from_iter(std::iter::repeat_n(v.arrow(), rows)))
            }
            Scalar::List(items, item) => {
                let repeated: Vec<&Scalar> = std::iter::repeat_n(items, rows).flatten().collect();
                let field = Arc::new(Field::new("item", item.arrow(), true));
                let offsets = OffsetBuffer::from_lengths(std::iter::repeat_n(items.len(), rows));
                Arc::new(ListArray::new(field, offsets, array_of(&repeated, item), None))
            }
            Scalar::Binary(v) => {
                let mut builder = BinaryViewBuilder::with_capacity(rows);
                (0..rows).for_each(|_| builder.append_value(v));
                Arc::new(builder.finish())
            }
        }
    }

    /// The value in one row of a column that is carried as its type is when computed.
    pub fn from_array(array: &dyn Array, row: usize) -> Scalar {
        if row >= array.len() || array.is_null(row) {
            return Scalar::Null;
        }
        match Type::of(array.data_type()) {
            Some(Type::Bool) => Scalar::Bool(array.as_boolean().value(row)),
            Some(Type::Int) => Scalar::Int(array.as_primitive::<Int64Type>().value(row)),
            Some(Type::Float) => Scalar::Float(array.as_primitive::<Float64Type>().value(row)),
            Some(Type::Decimal(p, s)) => {
                Scalar::Decimal(array.as_primitive::<Decimal128Type>().value(row), p, s)
            }
            Some(Type::Text) => Scalar::Text(array.as_string_view().value(row).to_owned()),
            Some(Type::Date) => Scalar::Date(array.as_primitive::<Date32Type>().value(row)),
            Some(Type::Time) => Scalar::Time(array.as_primitive::<Time64MicrosecondType>().value(row)),
            Some(Type::Timestamp) => {
                Scalar::Timestamp(array.as_primitive::<TimestampMicrosecondType>().value(row))
            }
            Some(Type::Interval) => {
                let value = array.as_primitive::<IntervalMonthDayNanoType>().value(row);
                Scalar::Interval(Interval::of_arrow(value))
            }
            Some(Type::List(item)) => {
                let items = array.as_list::<i32>().value(row);
                Scalar::List((0..items.len()).map(|i| Scalar::from_array(&items, i)).collect(), *item)
            }
            Some(Type::Binary) => Scalar::Binary(array.as_binary_view().value(row).to_owned()),
            _ => Scalar::Null,
        }
    }

    /// The value as text of the language shows it without quotes: as it is written to a file.
    pub fn plain(&self) -> String {
        let mut out = Vec::new();
        self.write_plain(&mut out);
        String::from_utf8_lossy(&out).into_owned()
    }

    /// Appends [`Scalar::plain`].
    pub fn write_plain(&self, out: &mut Vec<u8>) {
        match self {
            Scalar::Null => {}
            Scalar::Bool(v) => out.extend_from_slice(if *v { b"true" } else { b"false" }),
            Scalar::Int(v) => churn_kernels::digits::push_int(*v, out),
            Scalar::Float(v) => write_float(*v, out),
            Scalar::Decimal(v, _, s) => out.extend_from_slice(decimal_text(*v, *s).as_bytes()),
            Scalar::Text(v) => out.extend_from_slice(v.as_bytes()),
            Scalar::Date(v) => calendar::write_date(*v, out),
            Scalar::Time(v) => calendar::write_time(*v, out),
            Scalar::Timestamp(v) => calendar::write_timestamp(*v, out),
            Scalar::Interval(v) => out.extend_from_slice(v.iso().as_bytes()),
            Scalar::List(items, _) => {
                out.push(b'[');
                for (i, item) in items.iter().enumerate() {
                    if i > 0 {
                        out.extend_from_slice(b", ");
                    }
                    match item {
                        Scalar::Null => out.extend_from_slice(b"null"),
                        item => item.write_plain(out),
                    }
                }
                out.push(b']');
            }
            Scalar::Binary(v) => v.iter().for_each(|b| out.extend_from_slice(format!("{b:02x}").as_bytes())),
        }
    }
}

/// Appends the shortest text that reads back as the same float and not as a whole number.
pub fn write_float(value: f64, out: &mut Vec<u8>) {
    if churn_kernels::digits::push_short_decimal(value, out) {
        return;
    }
    if value.is_nan() {
        out.extend_from_slice(b"NaN");
    } else if value.is_infinite() {
        out.extend_from_slice(if value > 0.0 { b"inf" } else { b"-inf" });
    } else {
        churn_kernels::digits::push_float(value, out);
    }
}

/// A decimal with its point.
pub fn decimal_text(value: i128, scale: i8) -> String {
    if scale <= 0 {
        return format!("{value}{}", "0".repeat(usize::from(scale.unsigned_abs())));
    }
    let scale = usize::from(scale.unsigned_abs());
    let digits = format!("{:0>width$}", value.unsigned_abs(), width = scale + 1);
    let (whole, part) = digits.split_at(digits.len() - scale);
    format!("{}{whole}.{part}", if value < 0 { "-" } else { "" })
}

/// A column of these values, carried as `kind`; a value of another type becomes null.
pub fn array_of(values: &[&Scalar], kind: &Type) -> ArrayRef {
    macro_rules! primitive {
        ($array:ty, $variant:ident) => {
            Arc::new(
                values
                    .iter()
                    .map(|v| if let Scalar::$variant(x) = v { Some(*x) } else { None })
                    .collect::<$array>(),
            )
        };
    }
    match kind {
        Type::Bool => primitive!(BooleanArray, Bool),
        Type::Int => primitive!(Int64Array, Int),
        Type::Float => Arc::new(
            values
                .iter()
                .map(|v| match v {
                    Scalar::Float(x) => Some(*x),
                    Scalar::Int(x) => Some(*x as f64),
                    _ => None,
                })
                .collect::<Float64Array>(),
        ),
        Type::Date => primitive!(Date32Array, Date),
        Type::Time => primitive!(Time64MicrosecondArray, Time),
        Type::Timestamp => primitive!(TimestampMicrosecondArray, Timestamp),
        Type::Decimal(p, s) => {
            let array: Decimal128Array = values
                .iter()
                .map(|v| if let Scalar::Decimal(x, _, _) = v { Some(*x) } else { None })
                .collect();
            match array.with_precision_and_scale(*p, *s) {
                Ok(array) => Arc::new(array),
                Err(_) => new_null_array(&kind.arrow(), values.len()),
            }
        }
        Type::Text => {
            let mut builder = StringViewBuilder::with_capacity(values.len());
            for value in values {
                match value {
                    Scalar::Text(v) => builder.append_value(v),
                    _ => builder.append_null(),
                }
            }
            Arc::new(builder.finish())
        }
        Type::Binary => {
            let mut builder = BinaryViewBuilder::with_capacity(values.len());
            for value in values {
                match value {
                    Scalar::Binary(v) => builder.append_value(v),
                    _ => builder.append_null(),
                }
            }
            Arc::new(builder.finish())
        }
        Type::List(item) => {
            let empty = Vec::new();
            let lists: Vec<(&Vec<Scalar>, bool)> = values
                .iter()
                .map(|v| if let Scalar::List(items, _) = v { (items, true) } else { (&empty, false) })
                .collect();
            let items: Vec<&Scalar> = lists.iter().flat_map(|(items, _)| items.iter()).collect();
            Arc::new(ListArray::new(
                Arc::new(Field::new("item", item.arrow(), true)),
                OffsetBuffer::from_lengths(lists.iter().map(|(items, _)| items.len())),
                array_of(&items, item),
                Some(lists.iter().map(|(_, valid)| *valid).collect()),
            ))
        }
        Type::Interval => Arc::new(IntervalMonthDayNanoArray::from_iter(values.iter().map(|v| match v {
            Scalar::Interval(v) => v.arrow(),
            _ => None,
        }))),
        Type::Null | Type::Unknown => Arc::new(NullArray::new(values.len())),
    }
}

impl fmt::Display for Interval {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Interval { months, days, micros } = *self;
        let (number, unit) = match (months, days, micros) {
            (m, 0, 0) if m % 12 == 0 && m != 0 => (m / 12, "year"),
            (m, 0, 0) if m != 0 => (m, "month"),
            (_, d, 0) => (d, "day"),
            (_, _, us) if us % (3600 * calendar::SECOND) == 0 => (us / (3600 * calendar::SECOND), "hour"),
            (_, _, us) if us % (60 * calendar::SECOND) == 0 => (us / (60 * calendar::SECOND), "minute"),
            (_, _, us) if us % calendar::SECOND == 0 => (us / calendar::SECOND, "second"),
            (_, _, us) => {
                let (sign, size) = (if us < 0 { "-" } else { "" }, us.unsigned_abs());
                let second = calendar::SECOND.unsigned_abs();
                let fraction = format!("{:06}", size % second);
                return write!(
                    f,
                    "interval '{sign}{}.{}' second",
                    size / second,
                    fraction.trim_end_matches('0')
                );
            }
        };
        write!(f, "interval '{number}' {unit}")
    }
}

/// The value as a literal of the language.
impl fmt::Display for Scalar {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Scalar::Null => f.write_str("null"),
            Scalar::Text(v) => write!(f, "'{}'", v.replace('\'', "''")),
            Scalar::Date(_) => write!(f, "date '{}'", self.plain()),
            Scalar::Time(_) => write!(f, "time '{}'", self.plain()),
            Scalar::Timestamp(_) => write!(f, "timestamp '{}'", self.plain()),
            Scalar::Interval(v) => v.fmt(f),
            other => f.write_str(&other.plain()),
        }
    }
}
