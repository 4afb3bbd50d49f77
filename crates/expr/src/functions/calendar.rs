//! Dates and timestamps made of numbers, and numbers made of them.

use std::sync::Arc;

use arrow_array::{Date32Array, TimestampMicrosecondArray};
use churn_core::{Column, Scalar, Type, both_valid};
use churn_kernels::calendar::{self, Civil, DAY, SECOND};

use super::dates::{clock, dated, unit_of};
use super::rounding::count_domain;
use super::{Arguments, Complaint, Family, Function, arg, entry, ints_by_row};
use crate::{Bound, arithmetic, moment};

pub(super) const FUNCTIONS: &[Function] = &[
    entry(
        Family::Date,
        "today",
        "today()",
        "The day on which the run began, in the time zone of this machine: one for all of a run, told in its ledger.",
        ("date_diff(day, today(), today())", "0"),
        today,
    ),
    entry(
        Family::Date,
        "now",
        "now()",
        "The moment at which the run began, in whole seconds, in the time zone of this machine: one for all of a run, told \
         in its ledger.",
        ("now() = now()", "true"),
        now,
    ),
    entry(
        Family::Date,
        "make_date",
        "make_date(y, m, d)",
        "The day of a year, a month and a day; null if the calendar has none such.",
        ("make_date(2026, 2, 28)", "2026-02-28"),
        make_date,
    ),
    entry(
        Family::Date,
        "date_diff",
        "date_diff(UNIT, a, b)",
        "How many whole years, quarters, months, weeks, days, hours, minutes or seconds lie between a and b; negative if \
         b is the earlier one.",
        ("date_diff(month, date '2026-01-31', date '2026-03-30')", "1"),
        date_diff,
    ),
    entry(
        Family::Date,
        "epoch",
        "epoch(x [, 'unit'])",
        "The whole seconds from 1970-01-01 00:00:00 to x, or milliseconds, microseconds or days.",
        ("epoch(timestamp '1970-01-02 00:00:01')", "86401"),
        epoch,
    ),
    entry(
        Family::Date,
        "from_epoch",
        "from_epoch(n [, 'unit'])",
        "The timestamp n seconds, milliseconds, microseconds or days after 1970-01-01 00:00:00; null beyond the calendar.",
        ("from_epoch(86401)", "1970-01-02 00:00:01"),
        from_epoch,
    ),
];

fn today(args: Arguments) -> Result<Bound, Complaint> {
    args.count(0..=0)?;
    Ok(Bound::literal(Scalar::Date(moment::today())))
}

fn now(args: Arguments) -> Result<Bound, Complaint> {
    args.count(0..=0)?;
    Ok(Bound::literal(Scalar::Timestamp(moment::now())))
}

fn make_date(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(3..=3)?;
    for i in 0..3 {
        args.want(i, &Type::Int)?;
    }
    Ok(args.fallible_call(Type::Date, |args, rows, events| {
        let (y, m, d) = (arg(args, 0), arg(args, 1), arg(args, 2));
        let nulls = [y.nulls(rows), m.nulls(rows), d.nulls(rows)];
        let given = |row: usize| nulls.iter().flatten().all(|nulls| nulls.is_valid(row));
        let (y, m, d) = (y.ints(), m.ints(), d.ints());
        let made = |row: usize| {
            let year = i32::try_from(y.get(row)?).ok().filter(|year| (1..=9999).contains(year))?;
            let month = u32::try_from(m.get(row)?).ok().filter(|month| (1..=12).contains(month))?;
            let day = u32::try_from(d.get(row)?).ok()?;
            (1..=calendar::month_length(year, month))
                .contains(&day)
                .then(|| calendar::to_days(Civil { year, month, day }))
        };
        let days: Date32Array = (0..rows).map(|row| if given(row) { made(row) } else { None }).collect();
        let before = (0..rows).filter(|row| !given(*row)).count();
        let days = Column::Array(Arc::new(days));
        count_domain(&days, before, rows, events);
        Ok(days)
    }))
}

/// Whole units from one moment to another, towards zero.
fn units_between(unit: &str, from: i64, to: i64) -> Option<i64> {
    let months = match unit {
        "year" => 12,
        "quarter" => 3,
        "month" => 1,
        _ => {
            let length = clock(unit).unwrap_or(if unit == "week" { 7 * DAY } else { DAY });
            return Some(to.checked_sub(from)? / length);
        }
    };
    if to < from {
        return units_between(unit, to, from).map(|units| -units);
    }
    let civil = |at: i64| Some(calendar::to_civil(i32::try_from(at.div_euclid(DAY)).ok()?));
    let (a, b) = (civil(from)?, civil(to)?);
    let index = |civil: &Civil| i64::from(civil.year) * 12 + i64::from(civil.month);
    let passed = index(&b) - index(&a);
    // The last month counts once its day and time of day are reached, or its end where it is shorter.
    let day = a.day.min(calendar::month_length(b.year, b.month));
    let is_whole = (b.day, to.rem_euclid(DAY)) >= (day, from.rem_euclid(DAY));
    Some((passed - i64::from(!is_whole)) / months)
}

fn date_diff(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(3..=3)?;
    let unit = unit_of(&args)?;
    for i in 1..3 {
        dated(&mut args, i)?;
        args.want(i, &Type::Timestamp)?;
    }
    Ok(args.call(Type::Int, move |args, rows, _| {
        let (a, b) = (arg(args, 1), arg(args, 2));
        let nulls = both_valid(&a, &b, rows);
        let (a, b) = (arithmetic::timestamps(&a), arithmetic::timestamps(&b));
        Ok(ints_by_row(rows, |row| {
            let given = nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row));
            if given { units_between(unit, a.get(row)?, b.get(row)?) } else { None }
        }))
    }))
}

/// Microseconds of the unit that an argument names; seconds without one.
fn epoch_unit(args: &Arguments) -> Result<i64, Complaint> {
    if args.values.len() < 2 {
        return Ok(SECOND);
    }
    let word = args.literal_text(1, "a unit")?;
    match word.to_ascii_lowercase().trim_end_matches('s') {
        "microsecond" => Ok(1),
        "millisecond" => Ok(1000),
        "second" => Ok(SECOND),
        "day" => Ok(DAY),
        _ => Err(Complaint::new(1, format!("'{word}' is no unit here."))
            .next("The units are 'second', 'millisecond', 'microsecond' and 'day'.")),
    }
}

fn epoch(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=2)?;
    let unit = epoch_unit(&args)?;
    dated(&mut args, 0)?;
    args.want(0, &Type::Timestamp)?;
    Ok(args.call(Type::Int, move |args, rows, _| {
        let x = arg(args, 0);
        let nulls = x.nulls(rows);
        let at = arithmetic::timestamps(&x);
        let given = |row: &usize| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(*row));
        Ok(ints_by_row(rows, |row| Some(at.get(Some(row).filter(given)?)?.div_euclid(unit))))
    }))
}

fn from_epoch(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=2)?;
    let unit = epoch_unit(&args)?;
    let kind = args.number(0)?;
    let is_whole = kind == Type::Int;
    args.want(0, if is_whole { &Type::Int } else { &Type::Float })?;
    Ok(args.fallible_call(Type::Timestamp, move |args, rows, events| {
        let x = arg(args, 0);
        let nulls = x.nulls(rows);
        let (ints, floats) = (x.ints(), x.floats());
        let moment = |row: usize| {
            let micros = if is_whole {
                ints.get(row)?.checked_mul(unit)?
            } else {
                // What is no number of 64 bits is beyond the calendar, and stays so.
                let micros = (floats.get(row)? * unit as f64).round();
                if micros.is_nan() { return None } else { micros as i64 }
            };
            Some(micros).filter(|micros| calendar::is_in_calendar(*micros))
        };
        let given = |row: &usize| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(*row));
        let made: TimestampMicrosecondArray =
            (0..rows).map(|row| Some(row).filter(given).and_then(moment)).collect();
        let made = Column::Array(Arc::new(made));
        count_domain(&made, nulls.as_ref().map_or(0, |nulls| nulls.null_count()), rows, events);
        Ok(made)
    }))
}
