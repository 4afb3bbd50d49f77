//! One type into another: the silent conversions, and what `cast` and `try_cast` do.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, Int64Type, TimestampMicrosecondType};
use arrow_array::{Array, ArrayRef, Float64Array, TimestampMicrosecondArray};
use churn_core::scalar::array_of;
use churn_core::{Column, Error, ErrorKind, Event, Scalar, Type};
use churn_kernels::calendar::{self, DAY};
use churn_kernels::number;

use super::bound::{Call, Kernel};
use super::{Bound, Node, pattern};

/// The expression converted silently; `None` if its type does not turn into `to` of itself.
pub fn silently(bound: Bound, to: &Type) -> Option<Bound> {
    if bound.kind == *to || bound.kind == Type::Unknown || *to == Type::Unknown {
        return Some(bound);
    }
    if bound.kind.common_type(to)? != *to {
        return None;
    }
    if let Some(value) = bound.as_literal() {
        let value = convert(value, to, None)?;
        return Some(Bound { node: Node::Literal(value), kind: to.clone() });
    }
    let target = to.clone();
    let kernel: Kernel = Arc::new(move |args, rows, _| {
        let Some(column) = args.first() else { return Err(lost()) };
        if let Some(value) = column.constant() {
            return Ok(Column::Constant(
                convert(value, &target, None).unwrap_or(Scalar::Null),
                target.clone(),
            ));
        }
        Ok(Column::Array(convert_silently(&column.array(rows), &target)))
    });
    let call = Call { name: "convert", args: vec![bound], kernel, infallible: true };
    Some(Bound { node: Node::Call(call), kind: to.clone() })
}

/// Digits that a float is sure to have as they were written.
const EXACT_DIGITS: usize = 15;

/// Makes literals with a point exact where they stand beside decimals: what was written is then the value. A literal of more
/// than 15 digits stays a float.
pub(crate) fn exact_beside_decimals<'a>(values: impl IntoIterator<Item = &'a mut Bound>) {
    let mut values: Vec<&mut Bound> = values.into_iter().collect();
    if !values.iter().any(|value| matches!(value.kind, Type::Decimal(..))) {
        return;
    }
    for value in &mut values {
        if let Some(Scalar::Float(float)) = value.as_literal()
            && let Some(exact) = exact(*float)
        {
            **value = Bound::literal(exact);
        }
    }
}

/// The decimal that a float was written as.
fn exact(float: f64) -> Option<Scalar> {
    let text = float.to_string();
    let digits: String = text.chars().filter(char::is_ascii_digit).collect();
    let significant = digits.trim_start_matches('0').len();
    if !float.is_finite() || significant > EXACT_DIGITS || digits.len() > 38 {
        return None;
    }
    let scale = text.split_once('.').map_or(0, |(_, fraction)| fraction.len());
    let value: i128 = text.replace('.', "").parse().ok()?;
    Some(Scalar::Decimal(value, digits.len().max(1) as u8, scale as i8))
}

/// int → float and date → timestamp by loops, the rest value by value.
fn convert_silently(array: &ArrayRef, to: &Type) -> ArrayRef {
    if let (Some(ints), Type::Float) = (array.as_primitive_opt::<Int64Type>(), to) {
        let floats: Float64Array = ints.unary(|v| v as f64);
        return Arc::new(floats);
    }
    if let (Some(days), Type::Timestamp) = (array.as_primitive_opt::<Date32Type>(), to) {
        let at: TimestampMicrosecondArray = days.unary(|d| i64::from(d) * DAY);
        return Arc::new(at);
    }
    let values: Vec<Scalar> = (0..array.len())
        .map(|row| convert(&Scalar::from_array(array, row), to, None).unwrap_or(Scalar::Null))
        .collect();
    array_of(&values.iter().collect::<Vec<_>>(), to)
}

/// Whether `cast` knows a way between the two types.
pub fn is_possible(from: &Type, to: &Type) -> bool {
    use Type::{
        Binary, Bool, Date, Decimal, Float, Int, Interval, List, Null, Text, Time, Timestamp, Unknown,
    };
    match (from, to) {
        (a, b) if a == b => true,
        (Null | Unknown, _) | (_, Unknown) => true,
        (Text, Interval | Null | Binary | List(_)) | (Binary, _) | (_, Interval | Null | Binary) => false,
        (Text, _) | (_, Text) => true,
        (Bool, Int | Float) | (Int, Bool) => true,
        (Int | Float | Decimal(..), Int | Float | Decimal(..)) => true,
        (Date | Timestamp, Date | Timestamp) | (Timestamp, Time) => true,
        (List(a), List(b)) => is_possible(a, b),
        _ => false,
    }
}

/// The expression `cast(from as to format f)`; lenient for `try_cast`.
pub fn explicitly(from: Bound, to: &Type, format: Option<String>, lenient: bool) -> Bound {
    if from.kind == *to && format.is_none() {
        return from;
    }
    if format.is_none()
        && let Some(bound) = silently(from.clone(), to)
    {
        return bound;
    }
    let target = to.clone();
    let infallible = *to == Type::Text;
    let kernel: Kernel = Arc::new(move |args, rows, events| {
        let Some(column) = args.first() else { return Err(lost()) };
        let array = column.array(rows);
        if let Some(days) = truncated_days(&array, &target) {
            return Ok(Column::Array(days));
        }
        let mut values = Vec::with_capacity(rows);
        for row in 0..rows {
            let value = Scalar::from_array(&array, row);
            match convert(&value, &target, format.as_deref()) {
                Some(converted) => values.push(converted),
                None if lenient => {
                    events.add(Event::FailedCast, 1);
                    values.push(Scalar::Null);
                }
                None => return Err(bad_value(&value, &target)),
            }
        }
        Ok(Column::Array(array_of(&values.iter().collect::<Vec<_>>(), &target)))
    });
    Bound { node: Node::Call(Call { name: "cast", args: vec![from], kernel, infallible }), kind: to.clone() }
}

/// timestamp → date by a loop.
fn truncated_days(array: &ArrayRef, to: &Type) -> Option<ArrayRef> {
    let at = array.as_primitive_opt::<TimestampMicrosecondType>().filter(|_| *to == Type::Date)?;
    Some(Arc::new(at.unary::<_, Date32Type>(|v| v.div_euclid(DAY) as i32)))
}

fn bad_value(value: &Scalar, to: &Type) -> Error {
    let error = Error::new(ErrorKind::Data, format!("{value} cannot be cast to {to}."));
    let error = if matches!(value, Scalar::Text(_)) && to.is_temporal() {
        let pattern = match to {
            Type::Date => "%d/%m/%Y",
            Type::Time => "%H.%M",
            _ => "%d/%m/%Y %H:%M",
        };
        error.next(format!("Say how it is written: cast(… as {to} format '{pattern}')."))
    } else {
        error
    };
    error.next(format!("Use try_cast(… as {to}) to turn such values into null and count them."))
}

fn lost() -> Error {
    Error::new(ErrorKind::Internal, "A conversion has nothing to convert.")
}

/// Converts one value; `None` if it has no counterpart. Null stays null.
pub(crate) fn convert(value: &Scalar, to: &Type, format: Option<&str>) -> Option<Scalar> {
    Some(match (value, to) {
        (Scalar::Null, _) => Scalar::Null,
        (Scalar::Text(text), to) => return from_text(text, to, format),
        (value, Type::Text) => Scalar::Text(match format {
            Some(pattern) => pattern::format(pattern, value)?,
            None => value.plain(),
        }),
        (Scalar::Int(v), Type::Float) => Scalar::Float(*v as f64),
        (Scalar::Int(v), Type::Decimal(p, s)) => rescale(i128::from(*v), 0, *p, *s)?,
        (Scalar::Int(v @ (0 | 1)), Type::Bool) => Scalar::Bool(*v == 1),
        (Scalar::Bool(v), Type::Int) => Scalar::Int(i64::from(*v)),
        (Scalar::Bool(v), Type::Float) => Scalar::Float(f64::from(*v)),
        (Scalar::Float(v), Type::Int) => {
            let whole = v.trunc();
            // The largest float below 2^63 is the limit on both sides.
            (-9.223_372_036_854_775e18..=9.223_372_036_854_775e18)
                .contains(&whole)
                .then_some(Scalar::Int(whole as i64))?
        }
        (Scalar::Float(v), Type::Decimal(p, s)) => {
            Scalar::Decimal(decimal_of_float(*v, *p, s.unsigned_abs())?, *p, *s)
        }
        (Scalar::Decimal(v, _, s), Type::Float) => {
            Scalar::Float(number::parse_float(churn_core::scalar::decimal_text(*v, *s).as_bytes())?)
        }
        (Scalar::Decimal(v, _, s), Type::Int) => {
            let whole = v / 10i128.checked_pow(u32::from(s.unsigned_abs()))?;
            Scalar::Int(i64::try_from(whole).ok()?)
        }
        (Scalar::Decimal(v, _, from), Type::Decimal(p, s)) => rescale(*v, *from, *p, *s)?,
        (Scalar::Date(v), Type::Timestamp) => Scalar::Timestamp(i64::from(*v) * DAY),
        (Scalar::Timestamp(v), Type::Date) => Scalar::Date(v.div_euclid(DAY) as i32),
        (Scalar::Timestamp(v), Type::Time) => Scalar::Time(v.rem_euclid(DAY)),
        (Scalar::List(items, _), Type::List(item)) => {
            let items = items.iter().map(|v| convert(v, item, format)).collect::<Option<Vec<_>>>()?;
            Scalar::List(items, (**item).clone())
        }
        (value, to) if value.kind() == *to => value.clone(),
        _ => return None,
    })
}

/// A float as a decimal of so many digits, in units of its last one: as its shortest text is written, half away from
/// zero. `None` if it does not fit, or is no number.
fn decimal_of_float(value: f64, precision: u8, scale: u8) -> Option<i128> {
    if !value.is_finite() {
        return None;
    }
    let text = format!("{}", value.abs());
    let (whole, part) = text.split_once('.').unwrap_or((&text, ""));
    let digits = whole.bytes().chain(part.bytes().chain(std::iter::repeat(b'0')).take(usize::from(scale)));
    let units = digits
        .map(|digit| i128::from(digit - b'0'))
        .try_fold(0i128, |units, digit| units.checked_mul(10)?.checked_add(digit))?;
    let up = part.as_bytes().get(usize::from(scale)).is_some_and(|digit| *digit >= b'5');
    let units = units.checked_add(i128::from(up))?;
    let limit = 10i128.checked_pow(u32::from(precision))?;
    (units < limit).then_some(if value.is_sign_negative() { -units } else { units })
}

fn rescale(value: i128, from: i8, precision: u8, scale: i8) -> Option<Scalar> {
    let value = if scale >= from {
        value.checked_mul(10i128.checked_pow(u32::from((scale - from).unsigned_abs()))?)?
    } else {
        let unit = 10i128.checked_pow(u32::from((from - scale).unsigned_abs()))?;
        let (whole, rest) = (value / unit, value % unit);
        if rest.abs() * 2 >= unit { whole + rest.signum() } else { whole }
    };
    let limit = 10i128.checked_pow(u32::from(precision))?;
    (value.abs() < limit).then_some(Scalar::Decimal(value, precision, scale))
}

/// Reads a text as `to`; blanks around it do not count, but in text.
fn from_text(text: &str, to: &Type, format: Option<&str>) -> Option<Scalar> {
    let trimmed = text.trim();
    let bytes = trimmed.as_bytes();
    Some(match (to, format) {
        (Type::Text, _) => Scalar::Text(text.to_owned()),
        (Type::Date | Type::Time | Type::Timestamp, Some(format)) => pattern::parse(format, trimmed, to)?,
        (Type::Int, _) => Scalar::Int(number::parse_int(bytes)?),
        (Type::Float, _) => Scalar::Float(number::parse_float(bytes)?),
        (Type::Decimal(p, s), _) => Scalar::Decimal(number::parse_decimal(bytes, *p, *s)?, *p, *s),
        (Type::Bool, _) => match trimmed.to_ascii_lowercase().as_str() {
            "true" => Scalar::Bool(true),
            "false" => Scalar::Bool(false),
            _ => return None,
        },
        (Type::Date, None) => Scalar::Date(calendar::parse_date(bytes)?),
        (Type::Time, None) => Scalar::Time(calendar::parse_time(bytes)?),
        (Type::Timestamp, None) => Scalar::Timestamp(
            calendar::parse_timestamp(bytes)
                .or_else(|| calendar::parse_date(bytes).map(|day| i64::from(day) * DAY))?,
        ),
        _ => return None,
    })
}

/// A text literal beside a date, time or timestamp, read as one.
pub fn dated_literal(text: &str, to: &Type) -> Option<Scalar> {
    from_text(text, to, None)
}
