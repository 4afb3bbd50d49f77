//! `+ - * / div mod`, unary minus and `||`.
//!
//! Whole numbers that overflow are an error that shows the two operands; a division by zero is null and counted.

use std::sync::Arc;

use arrow_array::types::{Date32Type, Decimal128Type, TimestampMicrosecondType};
use arrow_array::{
    Array, Date32Array, Decimal128Array, Float64Array, Int64Array, IntervalMonthDayNanoArray,
    TimestampMicrosecondArray,
};
use arrow_buffer::NullBuffer;
use churn_core::{Column, Error, ErrorKind, Event, Events, Interval, Result, Scalar, Type, both_valid};
use churn_kernels::calendar::{self, DAY};
use churn_kernels::columns::{Operand, map2};

use super::ast::Binary;
use super::functions::texts_by_row;

/// The values as decimals of any scale.
fn decimals(column: &Column) -> Operand<'_, i128> {
    column.operand::<Decimal128Type>(|s| if let Scalar::Decimal(v, _, _) = s { Some(*v) } else { None })
}

pub(crate) fn timestamps(column: &Column) -> Operand<'_, i64> {
    column.operand::<TimestampMicrosecondType>(|s| if let Scalar::Timestamp(v) = s { Some(*v) } else { None })
}

pub(crate) fn dates(column: &Column) -> Operand<'_, i32> {
    column.operand::<Date32Type>(|s| if let Scalar::Date(v) = s { Some(*v) } else { None })
}

fn valid(nulls: Option<&NullBuffer>, row: usize) -> bool {
    nulls.is_none_or(|n| n.is_valid(row))
}

/// Runs a checked operation; `None` in a row with values is an overflow.
fn checked<T: Copy + Default + Clone>(
    op: Binary,
    (a, b): (Operand<'_, T>, Operand<'_, T>),
    nulls: Option<&NullBuffer>,
    rows: usize,
    f: impl Fn(T, T) -> Option<T>,
    show: impl Fn(T) -> String,
    error: fn(&str) -> Error,
) -> Result<Vec<T>> {
    // The overflow flag is gathered without a branch; only where it is set is the row looked for.
    let pairs = map2(a, b, rows, |x, y| f(x, y).map_or((T::default(), true), |v| (v, false)));
    if pairs.iter().any(|(_, overflow)| *overflow) {
        let row = pairs.iter().enumerate().find(|(row, (_, over))| *over && valid(nulls, *row));
        if let Some((row, _)) = row {
            let text = |operand: Operand<'_, T>| operand.get(row).map(&show).unwrap_or_default();
            return Err(error(&format!("{} {} {}", text(a), op.symbol(), text(b))));
        }
    }
    Ok(pairs.into_iter().map(|(v, _)| v).collect())
}

/// The error of a whole number that does not fit.
pub(crate) fn overflow(what: &str) -> Error {
    Error::new(ErrorKind::Data, format!("A whole number overflows: {what}."))
        .why("int holds numbers up to 9223372036854775807.")
        .next("Turn one of the operands into a float first: cast(x as float).")
}

/// The error of a decimal that does not fit.
pub(crate) fn decimal_overflow(what: &str) -> Error {
    Error::new(ErrorKind::Data, format!("A decimal has more digits than its type: {what}."))
        .why("decimal holds numbers of at most 38 digits, and a column of it as many as its type says.")
        .next("Turn it into a wider one first, cast(x as decimal(38, 2)), or into a float.")
}

/// `a op b` for whole numbers: `+ - * div mod`.
pub(crate) fn ints(op: Binary, a: &Column, b: &Column, rows: usize, events: &mut Events) -> Result<Column> {
    let mut nulls = both_valid(a, b, rows);
    let operands = (a.ints(), b.ints());
    let divides = matches!(op, Binary::Div | Binary::Mod);
    if divides {
        nulls = without_zeros(nulls, rows, events, |row| operands.1.get(row) == Some(0));
    }
    let f: fn(i64, i64) -> Option<i64> = match op {
        Binary::Add => i64::checked_add,
        Binary::Subtract => i64::checked_sub,
        Binary::Multiply => i64::checked_mul,
        Binary::Div => |a, b| if b == 0 { Some(0) } else { floor_div(a, b) },
        // Wrapping, since a row that is null holds any two numbers.
        _ => |a, b| {
            if b == 0 || b == -1 { Some(0) } else { Some(a.wrapping_sub(floor_div(a, b)?.wrapping_mul(b))) }
        },
    };
    let values = match op {
        // Named closures, so that the loops are compiled for the operation and not called through a pointer.
        Binary::Add => {
            checked(op, operands, nulls.as_ref(), rows, |a, b| a.checked_add(b), |v| v.to_string(), overflow)
        }
        Binary::Multiply => {
            checked(op, operands, nulls.as_ref(), rows, |a, b| a.checked_mul(b), |v| v.to_string(), overflow)
        }
        _ => checked(op, operands, nulls.as_ref(), rows, f, |v| v.to_string(), overflow),
    }?;
    Ok(Column::Array(Arc::new(Int64Array::new(values.into(), nulls))))
}

fn floor_div(a: i64, b: i64) -> Option<i64> {
    let quotient = a.checked_div(b)?;
    Some(if a % b != 0 && (a < 0) != (b < 0) { quotient - 1 } else { quotient })
}

/// `a op b` for floats: `+ - * / mod`.
pub(crate) fn floats(op: Binary, a: &Column, b: &Column, rows: usize, events: &mut Events) -> Column {
    let mut nulls = both_valid(a, b, rows);
    let (x, y) = (a.floats(), b.floats());
    if matches!(op, Binary::Divide | Binary::Mod) {
        nulls = without_zeros(nulls, rows, events, |row| y.get(row) == Some(0.0));
    }
    let values = match op {
        Binary::Add => map2(x, y, rows, |a, b| a + b),
        Binary::Subtract => map2(x, y, rows, |a, b| a - b),
        Binary::Multiply => map2(x, y, rows, |a, b| a * b),
        Binary::Divide => map2(x, y, rows, |a, b| a / b),
        _ => map2(x, y, rows, floor_mod),
    };
    Column::Array(Arc::new(Float64Array::new(values.into(), nulls)))
}

/// The remainder that has the divisor's sign.
fn floor_mod(a: f64, b: f64) -> f64 {
    let rest = a % b;
    if rest != 0.0 && (rest < 0.0) != (b < 0.0) { rest + b } else { rest }
}

/// Adds the rows with a zero divisor to the nulls and counts them.
fn without_zeros(
    nulls: Option<NullBuffer>,
    rows: usize,
    events: &mut Events,
    is_zero: impl Fn(usize) -> bool,
) -> Option<NullBuffer> {
    let zeros = (0..rows).filter(|row| is_zero(*row) && valid(nulls.as_ref(), *row)).count();
    if zeros == 0 {
        return nulls;
    }
    events.add(Event::ZeroDivision, zeros);
    let kept = NullBuffer::from_iter((0..rows).map(|row| !is_zero(row)));
    NullBuffer::union(nulls.as_ref(), Some(&kept))
}

/// `a op b` for decimals: `+ -` of one scale, `*` of any.
pub(crate) fn decimal(op: Binary, kind: &Type, a: &Column, b: &Column, rows: usize) -> Result<Column> {
    let Type::Decimal(precision, scale) = *kind else {
        return Err(Error::new(ErrorKind::Internal, "A decimal operation has no decimal type."));
    };
    let nulls = both_valid(a, b, rows);
    let limit = 10i128.checked_pow(u32::from(precision)).unwrap_or(i128::MAX);
    let fits = |v: i128| (v.checked_abs()? < limit).then_some(v);
    let show = |v: i128| churn_core::scalar::decimal_text(v, scale);
    let values = checked(
        op,
        (decimals(a), decimals(b)),
        nulls.as_ref(),
        rows,
        |a, b| match op {
            Binary::Add => a.checked_add(b).and_then(fits),
            Binary::Subtract => a.checked_sub(b).and_then(fits),
            _ => a.checked_mul(b).and_then(fits),
        },
        show,
        decimal_overflow,
    )?;
    Ok(Column::Array(Arc::new(decimal_array(values, precision, scale, nulls)?)))
}

pub(crate) fn decimal_array(
    values: Vec<i128>,
    precision: u8,
    scale: i8,
    nulls: Option<NullBuffer>,
) -> Result<Decimal128Array> {
    Decimal128Array::new(values.into(), nulls)
        .with_precision_and_scale(precision, scale)
        .map_err(churn_core::arrow_error)
}

/// `-x`.
pub(crate) fn negate(kind: &Type, x: &Column, rows: usize, events: &mut Events) -> Result<Column> {
    match kind {
        Type::Float => {
            let minus = Column::Constant(Scalar::Float(-1.0), Type::Float);
            Ok(floats(Binary::Multiply, x, &minus, rows, events))
        }
        Type::Decimal(p, s) => {
            let zero = Column::Constant(Scalar::Decimal(0, *p, *s), kind.clone());
            decimal(Binary::Subtract, kind, &zero, x, rows)
        }
        _ => ints(Binary::Subtract, &Column::Constant(Scalar::Int(0), Type::Int), x, rows, events),
    }
}

/// Whole days from one date to another.
pub(crate) fn days_between(a: &Column, b: &Column, rows: usize) -> Column {
    let values = map2(dates(a), dates(b), rows, |a, b| i64::from(a) - i64::from(b));
    Column::Array(Arc::new(Int64Array::new(values.into(), both_valid(a, b, rows))))
}

/// Seconds from one timestamp to another.
pub(crate) fn seconds_between(a: &Column, b: &Column, rows: usize) -> Column {
    let values = map2(timestamps(a), timestamps(b), rows, |a, b| a.wrapping_sub(b) as f64 / 1e6);
    Column::Array(Arc::new(Float64Array::new(values.into(), both_valid(a, b, rows))))
}

/// Refuses intervals with hours or less, which would make a moment of a date.
///
/// # Errors
/// There is one.
pub(crate) fn whole_days(by: &Column, rows: usize) -> Result<()> {
    let intervals = by.intervals();
    match (0..rows).filter_map(|row| intervals.get(row)).find(|by| by.micros != 0) {
        None => Ok(()),
        Some(by) => {
            let what = format!("A date cannot be moved by {}, which is no number of days.", by.iso());
            Err(Error::new(ErrorKind::Data, what).next("Move a moment: cast(x as timestamp) + …"))
        }
    }
}

/// Moves dates by intervals of whole days; past the calendar they are null and counted.
pub fn shift_dates(x: &Column, by: &Column, rows: usize, events: &mut Events) -> Column {
    let (values, intervals) = (dates(x), by.intervals());
    let nulls = both_valid(x, by, rows);
    let moved = |row: usize| moved_day(values.get(row)?, intervals.get(row)?);
    let array: Date32Array =
        (0..rows).map(|row| if valid(nulls.as_ref(), row) { moved(row) } else { None }).collect();
    count_new_nulls(&array, nulls.as_ref(), events);
    Column::Array(Arc::new(array))
}

fn moved_day(day: i32, by: Interval) -> Option<i32> {
    let day = calendar::add_months(day, by.months)?;
    let day = i32::try_from(i64::from(day).checked_add(by.days)?).ok()?;
    (calendar::FIRST_DAY..=calendar::LAST_DAY).contains(&day).then_some(day)
}

/// Moves timestamps by intervals; past the calendar they are null and counted.
pub fn shift_timestamps(x: &Column, by: &Column, rows: usize, events: &mut Events) -> Column {
    let (values, intervals) = (timestamps(x), by.intervals());
    let moved = |row: usize| {
        let (at, by) = (values.get(row)?, intervals.get(row)?);
        let day = i32::try_from(at.div_euclid(DAY)).ok()?;
        let day = i64::from(calendar::add_months(day, by.months)?).checked_add(by.days)?;
        let moved = day.checked_mul(DAY)?.checked_add(at.rem_euclid(DAY))?.checked_add(by.micros)?;
        let range = i64::from(calendar::FIRST_DAY) * DAY..(i64::from(calendar::LAST_DAY) + 1) * DAY;
        range.contains(&moved).then_some(moved)
    };
    let nulls = both_valid(x, by, rows);
    let array: TimestampMicrosecondArray =
        (0..rows).map(|row| if valid(nulls.as_ref(), row) { moved(row) } else { None }).collect();
    count_new_nulls(&array, nulls.as_ref(), events);
    Column::Array(Arc::new(array))
}

/// Intervals so many times; those that become too long are null and counted.
pub(crate) fn times(interval: &Column, count: &Column, rows: usize, events: &mut Events) -> Column {
    let (intervals, counts) = (interval.intervals(), count.ints());
    let nulls = both_valid(interval, count, rows);
    intervals_by_row(rows, nulls.as_ref(), events, |row| intervals.get(row)?.times(counts.get(row)?))
}

/// The sums of intervals; those that become too long are null and counted.
pub(crate) fn add_intervals(a: &Column, b: &Column, rows: usize, events: &mut Events) -> Column {
    let (left, right) = (a.intervals(), b.intervals());
    let nulls = both_valid(a, b, rows);
    intervals_by_row(rows, nulls.as_ref(), events, |row| left.get(row)?.plus(right.get(row)?))
}

fn intervals_by_row(
    rows: usize,
    nulls: Option<&NullBuffer>,
    events: &mut Events,
    value: impl Fn(usize) -> Option<Interval>,
) -> Column {
    let values = (0..rows).map(|row| if valid(nulls, row) { value(row)?.arrow() } else { None });
    let array = IntervalMonthDayNanoArray::from_iter(values);
    count_new_nulls(&array, nulls, events);
    Column::Array(Arc::new(array))
}

fn count_new_nulls(array: &dyn Array, before: Option<&NullBuffer>, events: &mut Events) {
    events.add(Event::OutOfDomain, array.null_count() - before.map_or(0, NullBuffer::null_count));
}

/// `a || b`.
pub(crate) fn concat(a: &Column, b: &Column, rows: usize) -> Result<Column> {
    let (a, b) = (a.texts(), b.texts());
    texts_by_row(rows, |row, out| {
        out.push_str(a.get(row)?);
        out.push_str(b.get(row)?);
        Some(())
    })
}
