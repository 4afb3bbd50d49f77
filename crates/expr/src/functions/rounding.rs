//! Whole numbers from fractions, and bands.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::Decimal128Type;
use arrow_array::{Decimal128Array, Int64Array};
use churn_core::scalar::{array_of, decimal_text};
use churn_core::{Column, Event, Events, Result, Scalar, Type, both_valid};

use super::{Arguments, Complaint, Family, Function, arg, floats_by_row, ints_by_row};
use crate::arithmetic::{decimal_overflow, overflow};
use crate::{Bound, compare};

pub(super) const FUNCTIONS: &[Function] = &[
    Function {
        name: "round",
        usage: "round(x [, n])",
        family: Family::Number,
        summary: "x rounded to n decimals (0 if not said), half away from zero as the number is written.",
        example: ("round(2.675, 2)", "2.68"),
        bind: round,
    },
    Function {
        name: "floor",
        usage: "floor(x)",
        family: Family::Number,
        summary: "The greatest whole number that is not above x.",
        example: ("floor(-2.5)", "-3.0"),
        bind: |args| whole(args, f64::floor, |v, unit| v.div_euclid(unit)),
    },
    Function {
        name: "ceil",
        usage: "ceil(x)",
        family: Family::Number,
        summary: "The least whole number that is not below x.",
        example: ("ceil(2.1)", "3.0"),
        bind: |args| whole(args, f64::ceil, |v, unit| -(-v).div_euclid(unit)),
    },
    Function {
        name: "band",
        usage: "band(x, width)",
        family: Family::Number,
        summary: "The lower edge of x's band, where bands are width wide and start at 0.",
        example: ("band(437, 100)", "400"),
        bind: band,
    },
    Function {
        name: "band_at",
        usage: "band_at(x, a, b, …)",
        family: Family::Number,
        summary: "The greatest of the bounds that is not above x; null below all of them.",
        example: ("band_at(437, 0, 250, 500)", "250"),
        bind: band_at,
    },
];

/// Rounds to `n` decimals, half away from zero, as the shortest text of the number shows it.
///
/// 2.675 is stored as a little less; a reader of the number expects 2.68 and gets it.
pub fn round_half_away(x: f64, n: i32) -> f64 {
    if !x.is_finite() || n > 300 {
        return x;
    }
    if n < -308 {
        // Half of a unit that no float reaches.
        return 0f64.copysign(x);
    }
    let unit = 10f64.powi(n.abs());
    let scaled = if n >= 0 { x * unit } else { x / unit };
    if scaled.abs() >= 9_007_199_254_740_992.0 {
        return x;
    }
    let distance = (scaled.abs().fract() - 0.5).abs();
    let rounded =
        if distance < 1e-6 { round_by_text(x, n).unwrap_or(scaled.round()) } else { scaled.round() };
    if n >= 0 { rounded / unit } else { rounded * unit }
}

/// The number of units of the `n`th decimal, by the digits of the shortest text.
fn round_by_text(x: f64, n: i32) -> Option<f64> {
    let text = format!("{}", x.abs());
    let (whole, part) = text.split_once('.').unwrap_or((&text, ""));
    let digits = format!("{whole}{part}");
    let cut = whole.len() as i32 + n;
    if cut < 0 {
        return Some(0.0);
    }
    let cut = cut as usize;
    let kept: f64 = digits.get(..cut.min(digits.len()))?.parse().unwrap_or(0.0);
    let missing = cut.saturating_sub(digits.len()) as i32;
    let up = digits.as_bytes().get(cut).is_some_and(|d| *d >= b'5');
    Some((kept * 10f64.powi(missing) + f64::from(u8::from(up))).copysign(x))
}

fn round(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=2)?;
    let kind = args.number(0)?;
    if args.values.len() == 1 {
        args.values.push(Bound::literal(Scalar::Int(0)));
    }
    args.want(1, &Type::Int)?;
    let result = kind.clone();
    // Only a whole number or a decimal may have no room for what it is rounded to.
    let is_float = kind == Type::Float;
    let kernel = move |args: &[Column], rows: usize, _: &mut Events| {
        let (x, n) = (arg(args, 0), arg(args, 1));
        let places = |row: usize| n.ints().get(row).unwrap_or(0).clamp(-400, 400) as i32;
        let nulls = both_valid(&x, &n, rows);
        let valid = |row: usize| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row));
        Ok(match kind {
            Type::Int => {
                let x = x.ints();
                let rounded = |row: usize| -> Option<Result<i64>> {
                    let value = x.get(row).filter(|_| valid(row))?;
                    let places = places(row);
                    let unit = 10i128.checked_pow(places.min(0).unsigned_abs());
                    let rounded = unit.map_or(0, |unit| nearest(i128::from(value), unit));
                    let too_large = |_| overflow(&format!("round({value}, {places})"));
                    Some(i64::try_from(rounded).map_err(too_large))
                };
                let values = (0..rows).map(|row| rounded(row).transpose()).collect::<Result<Int64Array>>()?;
                Column::Array(Arc::new(values))
            }
            Type::Decimal(p, s) => {
                let array = x.array(rows);
                let values = array.as_primitive::<Decimal128Type>();
                let limit = 10i128.checked_pow(u32::from(p)).unwrap_or(i128::MAX);
                let rounded = |row: usize| -> Option<Result<i128>> {
                    let value = valid(row).then(|| values.value(row))?;
                    let unit = 10i128.checked_pow((i32::from(s) - places(row)).max(0).unsigned_abs());
                    let rounded = unit.map_or(0, |unit| nearest(value, unit));
                    let fits = rounded.abs() < limit;
                    let too_large =
                        || decimal_overflow(&format!("round({}, {})", decimal_text(value, s), places(row)));
                    Some(if fits { Ok(rounded) } else { Err(too_large()) })
                };
                let rounded =
                    (0..rows).map(|row| rounded(row).transpose()).collect::<Result<Decimal128Array>>()?;
                Column::Array(Arc::new(
                    rounded.with_precision_and_scale(p, s).map_err(churn_core::arrow_error)?,
                ))
            }
            _ => {
                let x = x.floats();
                floats_by_row(rows, |row| {
                    x.get(row).filter(|_| valid(row)).map(|v| round_half_away(v, places(row)))
                })
            }
        })
    };
    Ok(if is_float { args.call(result, kernel) } else { args.fallible_call(result, kernel) })
}

/// The multiple of `unit` nearest to `value`, half away from zero.
fn nearest(value: i128, unit: i128) -> i128 {
    let rest = value % unit;
    let cut = value - rest;
    if rest.abs() * 2 >= unit { cut + unit * rest.signum() } else { cut }
}

fn whole(
    mut args: Arguments,
    float: fn(f64) -> f64,
    divide: fn(i128, i128) -> i128,
) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    let kind = args.number(0)?;
    Ok(match kind {
        Type::Int => args.values.remove(0),
        Type::Decimal(_, s) => {
            let unit = 10i128.pow(u32::from(s.unsigned_abs()));
            args.call(kind, move |args, rows, _| {
                let array = arg(args, 0).array(rows);
                let values = array.as_primitive::<Decimal128Type>();
                Ok(Column::Array(Arc::new(values.unary::<_, Decimal128Type>(|v| divide(v, unit) * unit))))
            })
        }
        _ => args.call(Type::Float, move |args, rows, _| {
            let x = arg(args, 0);
            let nulls = x.nulls(rows);
            let x = x.floats();
            Ok(floats_by_row(rows, |row| {
                x.get(row).filter(|_| nulls.as_ref().is_none_or(|n| n.is_valid(row))).map(float)
            }))
        }),
    })
}

fn band(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    let ints = args.number(0)? == Type::Int && args.number(1)? == Type::Int;
    let kind = if ints { Type::Int } else { Type::Float };
    args.want(0, &kind)?;
    args.want(1, &kind)?;
    Ok(args.fallible_call(kind, move |args, rows, events| {
        let (x, width) = (arg(args, 0), arg(args, 1));
        let nulls = both_valid(&x, &width, rows);
        let valid = |row: usize| nulls.as_ref().is_none_or(|n| n.is_valid(row));
        let column = if ints {
            let (x, width) = (x.ints(), width.ints());
            ints_by_row(rows, |row| {
                let width = width.get(row).filter(|w| *w > 0 && valid(row))?;
                let x = x.get(row)?;
                x.checked_sub(x.rem_euclid(width))
            })
        } else {
            let (x, width) = (x.floats(), width.floats());
            floats_by_row(rows, |row| {
                let width = width.get(row).filter(|w| *w > 0.0 && valid(row))?;
                Some(float_band(x.get(row)?, width))
            })
        };
        count_domain(&column, nulls.map_or(0, |n| n.null_count()), rows, events);
        Ok(column)
    }))
}

/// The lower edge; the product is rounded to 12 digits so that `band(0.7, 0.1)` is 0.7.
fn float_band(x: f64, width: f64) -> f64 {
    let steps = (x / width).floor();
    let steps = if ((steps + 1.0) * width - x).abs() <= width * 1e-9 { steps + 1.0 } else { steps };
    let edge = steps * width;
    format!("{edge:.12e}").parse().unwrap_or(edge)
}

/// Counts the nulls that a function made of values outside its domain.
pub(super) fn count_domain(column: &Column, before: usize, rows: usize, events: &mut Events) {
    let after = column.nulls(rows).map_or(0, |n| n.null_count());
    events.add(Event::OutOfDomain, after.saturating_sub(before));
}

fn band_at(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=usize::MAX)?;
    let kind = args.common_type()?;
    Ok(args.call(kind.clone(), move |args, rows, _| {
        let arrays: Vec<_> = args.iter().map(|a| a.array(rows)).collect();
        let values: Vec<Scalar> = (0..rows)
            .map(|row| {
                let mut cells = arrays.iter().map(|a| Scalar::from_array(a, row));
                let x = cells.next().unwrap_or(Scalar::Null);
                let below =
                    cells.filter(|b| !x.is_null() && !b.is_null() && compare::order_of(b, &x).is_le());
                below.max_by(compare::order_of).unwrap_or(Scalar::Null)
            })
            .collect();
        Ok(Column::Array(array_of(&values.iter().collect::<Vec<_>>(), &kind)))
    }))
}
