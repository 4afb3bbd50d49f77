//! Parts of dates and times. Weeks start on Monday = 1; `week` is ISO's.

use std::borrow::Cow;
use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Date32Type, TimestampMicrosecondType};
use arrow_array::{Array, Date32Array, Int64Array, PrimitiveArray, TimestampMicrosecondArray};
use arrow_buffer::NullBuffer;
use churn_core::error::nearest;
use churn_core::{Column, Result, Scalar, Type};
use churn_kernels::calendar::{self, Civil, DAY, SECOND};

use super::{Arguments, Complaint, Family, Function, arg, entry, ints_by_row};
use crate::{Bound, arithmetic};

/// The units of time.
const UNITS: [&str; 8] = ["year", "quarter", "month", "week", "day", "hour", "minute", "second"];

pub(super) const FUNCTIONS: &[Function] = &[
    entry(Family::Date, "year", "year(x)", "The year.", ("year(date '2026-03-01')", "2026"), |args| {
        of_day(args, |d| calendar::to_civil(d).year)
    }),
    entry(
        Family::Date,
        "quarter",
        "quarter(x)",
        "The quarter, 1 to 4.",
        ("quarter(date '2026-05-01')", "2"),
        |args| of_day(args, |d| (calendar::to_civil(d).month as i32 + 2) / 3),
    ),
    entry(
        Family::Date,
        "month",
        "month(x)",
        "The month, 1 to 12.",
        ("month(date '2026-03-01')", "3"),
        |args| of_day(args, |d| calendar::to_civil(d).month as i32),
    ),
    entry(
        Family::Date,
        "week",
        "week(x)",
        "The ISO 8601 week, 1 to 53.",
        ("week(date '2026-01-01')", "1"),
        |args| of_day(args, calendar::iso_week),
    ),
    entry(
        Family::Date,
        "day",
        "day(x)",
        "The day of the month, 1 to 31.",
        ("day(date '2026-03-09')", "9"),
        |args| of_day(args, |d| calendar::to_civil(d).day as i32),
    ),
    entry(
        Family::Date,
        "weekday",
        "weekday(x)",
        "The day of the week, Monday = 1.",
        ("weekday(date '2026-03-01')", "7"),
        |args| of_day(args, calendar::weekday),
    ),
    entry(
        Family::Date,
        "day_of_year",
        "day_of_year(x)",
        "The day of the year, from 1.",
        ("day_of_year('2026-02-01')", "32"),
        |args| {
            of_day(args, |d| {
                let year = calendar::to_civil(d).year;
                d - calendar::to_days(Civil { year, month: 1, day: 1 }) + 1
            })
        },
    ),
    entry(Family::Date, "hour", "hour(x)", "The hour, 0 to 23.", ("hour(time '06:30:00')", "6"), |args| {
        of_time(args, |us| us / (3600 * SECOND))
    }),
    entry(
        Family::Date,
        "minute",
        "minute(x)",
        "The minute, 0 to 59.",
        ("minute(time '06:30:00')", "30"),
        |args| of_time(args, |us| us / (60 * SECOND) % 60),
    ),
    entry(
        Family::Date,
        "second",
        "second(x)",
        "The second, 0 to 59.",
        ("second(time '06:30:15')", "15"),
        |args| of_time(args, |us| us / SECOND % 60),
    ),
    entry(
        Family::Date,
        "start_of",
        "start_of(UNIT, x)",
        "The first moment of x's year, quarter, month, week, day, hour, minute or second.",
        ("start_of(month, date '2026-03-17')", "2026-03-01"),
        |args| edge_of(args, UnitEdge::Start),
    ),
    entry(
        Family::Date,
        "end_of",
        "end_of(UNIT, x)",
        "The last day of x's year, quarter, month or week, of a timestamp its last moment.",
        ("end_of(month, date '2026-02-17')", "2026-02-28"),
        |args| edge_of(args, UnitEdge::End),
    ),
];

/// Refuses anything but a date or a timestamp; a text literal is read as a date.
pub(super) fn dated(args: &mut Arguments, i: usize) -> Result<Type, Complaint> {
    match args.kind(i) {
        kind @ (Type::Date | Type::Timestamp) => Ok(kind),
        Type::Null => {
            args.want(i, &Type::Date)?;
            Ok(Type::Date)
        }
        Type::Text if args.values.get(i).is_some_and(|v| v.as_literal().is_some()) => {
            let kind = if args.want(i, &Type::Date).is_ok() { Type::Date } else { Type::Timestamp };
            args.want(i, &kind)?;
            Ok(kind)
        }
        kind => {
            let complaint = Complaint::new(
                i,
                format!("{} needs a date or a timestamp here, and this is {kind}.", args.name),
            );
            Err(if kind == Type::Text {
                complaint
                    .next("Turn it into one: cast(… as date), with format '%d/%m/%Y' if it is not ISO 8601.")
            } else {
                complaint
            })
        }
    }
}

/// The most days between the first and the last of a batch for which a table of all of them is made.
const TABLE_DAYS: usize = 1 << 12;

/// What a function gives for the day in each row, and which rows have one.
///
/// Days of a batch stand close together: it is worked out once for each of them.
fn by_day(x: &Column, rows: usize, f: impl Fn(i32) -> i32) -> (Vec<i32>, Option<NullBuffer>) {
    let array = x.array(rows);
    let nulls = array.logical_nulls().filter(|n| n.null_count() > 0);
    let days: Cow<'_, [i32]> = match (array.as_primitive_opt::<Date32Type>(), array.as_primitive_opt()) {
        (Some(dates), _) => Cow::Borrowed(dates.values()),
        (None, Some(stamps)) => {
            let stamps: &PrimitiveArray<TimestampMicrosecondType> = stamps;
            // All that 64 bits of microseconds reach are days of 32.
            stamps.values().iter().map(|at| at.div_euclid(DAY) as i32).collect()
        }
        (None, None) => Cow::Owned(vec![0; rows]),
    };
    let valid = |row: usize| nulls.as_ref().is_none_or(|n| n.is_valid(row));
    let some = || days.iter().enumerate().filter(|(row, _)| valid(*row)).map(|(_, day)| *day);
    let widen = |(least, most): (i32, i32), day: i32| (day.min(least), day.max(most));
    let none = (i32::MAX, i32::MIN);
    let (least, most) = match &nulls {
        None => days.iter().fold(none, |range, day| widen(range, *day)),
        Some(_) => some().fold(none, widen),
    };
    if least > most {
        return (vec![0; rows], nulls);
    }
    let span = most.abs_diff(least) as usize;
    let values = if span < TABLE_DAYS.min(rows) {
        let table: Vec<i32> = (least..=most).map(&f).collect();
        let mut values = vec![0; rows];
        for (value, day) in values.iter_mut().zip(days.iter()) {
            *value = table.get(day.wrapping_sub(least) as usize).copied().unwrap_or(0);
        }
        values
    } else {
        (0..rows).zip(days.iter()).map(|(row, day)| if valid(row) { f(*day) } else { 0 }).collect()
    };
    (values, nulls)
}

fn of_day(mut args: Arguments, f: fn(i32) -> i32) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    dated(&mut args, 0)?;
    Ok(args.call(Type::Int, move |args, rows, _| {
        let x = arg(args, 0);
        let (values, nulls) = by_day(&x, rows, f);
        let values: Vec<i64> = values.into_iter().map(i64::from).collect();
        Ok(Column::Array(Arc::new(Int64Array::new(values.into(), nulls))))
    }))
}

fn of_time(args: Arguments, f: fn(i64) -> i64) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    let kind = args.kind(0);
    if !matches!(kind, Type::Time | Type::Timestamp | Type::Null) {
        return Err(Complaint::new(
            0,
            format!("{} needs a time or a timestamp here, and this is {kind}.", args.name),
        ));
    }
    Ok(args.call(Type::Int, move |args, rows, _| {
        let array = arg(args, 0).array(rows);
        Ok(ints_by_row(rows, |row| match Scalar::from_array(&array, row) {
            Scalar::Time(us) => Some(f(us)),
            Scalar::Timestamp(us) => Some(f(us.rem_euclid(DAY))),
            _ => None,
        }))
    }))
}

/// The unit of time that the first argument names, singular or plural.
pub(super) fn unit_of(args: &Arguments) -> Result<&'static str, Complaint> {
    let word = args.literal_text(0, "a unit")?;
    let lower = word.to_ascii_lowercase();
    let singular = lower.strip_suffix('s').unwrap_or(&lower);
    UNITS.into_iter().find(|unit| *unit == singular).ok_or_else(|| {
        let complaint = Complaint::new(0, format!("{word} is not a unit of time."));
        match nearest(&word, UNITS) {
            Some(near) => complaint.next(format!("Did you mean {near}?")),
            None => complaint.next(format!("The units are {}.", UNITS.join(", "))),
        }
    })
}

#[derive(Clone, Copy, PartialEq)]
enum UnitEdge {
    Start,
    End,
}

/// The first or the last day or moment of the unit that a day or a moment lies in.
fn edge_of(mut args: Arguments, edge: UnitEdge) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    let unit = unit_of(&args)?;
    let kind = dated(&mut args, 1)?;
    let clock = clock(unit);
    if clock.is_some() && kind == Type::Date {
        return Err(Complaint::new(0, format!("A date has no {unit}."))
            .next("Use year, quarter, month, week or day, or give a timestamp."));
    }
    Ok(args.call(kind.clone(), move |args, rows, _| {
        let x = arg(args, 1);
        if let Some(clock) = clock {
            let nulls = x.nulls(rows);
            let at = arithmetic::timestamps(&x);
            let further = if edge == UnitEdge::End { clock - 1 } else { 0 };
            let cut: TimestampMicrosecondArray = (0..rows)
                .map(|row| {
                    let at = at.get(row).filter(|_| nulls.as_ref().is_none_or(|n| n.is_valid(row)))?;
                    Some(at - at.rem_euclid(clock) + further)
                })
                .collect();
            return Ok(Column::Array(Arc::new(cut)));
        }
        let of_day = if edge == UnitEdge::End { last_day } else { first_day };
        let (days, nulls) = by_day(&x, rows, |day| of_day(unit, day));
        Ok(Column::Array(match kind {
            Type::Timestamp => {
                let further = if edge == UnitEdge::End { DAY - 1 } else { 0 };
                let moments: Vec<i64> = days.into_iter().map(|day| i64::from(day) * DAY + further).collect();
                Arc::new(TimestampMicrosecondArray::new(moments.into(), nulls))
            }
            _ => Arc::new(Date32Array::new(days.into(), nulls)),
        }))
    }))
}

/// Microseconds of a unit of the clock.
pub(super) fn clock(unit: &str) -> Option<i64> {
    match unit {
        "hour" => Some(3600 * SECOND),
        "minute" => Some(60 * SECOND),
        "second" => Some(SECOND),
        _ => None,
    }
}

fn first_day(unit: &str, days: i32) -> i32 {
    let civil = calendar::to_civil(days);
    let of = |month: u32| calendar::to_days(Civil { year: civil.year, month, day: 1 });
    match unit {
        "year" => of(1),
        "quarter" => of((civil.month - 1) / 3 * 3 + 1),
        "month" => days - civil.day as i32 + 1,
        "week" => days - (calendar::weekday(days) - 1),
        _ => days,
    }
}

/// The last day of the unit that a day lies in.
fn last_day(unit: &str, day: i32) -> i32 {
    let months = match unit {
        "year" => 12,
        "quarter" => 3,
        "month" => 1,
        "week" => return (first_day(unit, day) + 6).min(calendar::LAST_DAY),
        _ => return day,
    };
    let Civil { year, month, .. } = calendar::to_civil(first_day(unit, day));
    let month = month + months - 1;
    calendar::to_days(Civil { year, month, day: calendar::month_length(year, month) })
}
