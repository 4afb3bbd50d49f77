//! Functions of numbers.

use churn_core::{Column, Result, Scalar, Type, both_valid};

use super::rounding::count_domain;
use super::{Arguments, Complaint, Family, Function, arg, entry, floats_by_row, ints_by_row};
use crate::ast::Binary;
use crate::{Bound, arithmetic, compare};

pub(super) const FUNCTIONS: &[Function] = &[
    entry(Family::Number, "abs", "abs(x)", "x without its sign.", ("abs(-3)", "3"), abs),
    entry(
        Family::Number,
        "sqrt",
        "sqrt(x)",
        "The square root; null for negative x.",
        ("sqrt(16)", "4.0"),
        |args| of_float(args, f64::sqrt),
    ),
    entry(Family::Number, "exp", "exp(x)", "e to the power of x.", ("exp(0)", "1.0"), |args| {
        of_float(args, f64::exp)
    }),
    entry(
        Family::Number,
        "ln",
        "ln(x)",
        "The natural logarithm; null unless x is above 0.",
        ("ln(1)", "0.0"),
        |args| of_float(args, |x| if x > 0.0 || x.is_nan() { x.ln() } else { f64::NAN }),
    ),
    entry(
        Family::Number,
        "log10",
        "log10(x)",
        "The decimal logarithm; null unless x is above 0.",
        ("log10(1000)", "3.0"),
        |args| of_float(args, |x| if x > 0.0 || x.is_nan() { x.log10() } else { f64::NAN }),
    ),
    entry(
        Family::Number,
        "power",
        "power(x, y)",
        "x to the power of y; null where there is none.",
        ("power(2, 10)", "1024.0"),
        power,
    ),
    entry(Family::Number, "sign", "sign(x)", "-1, 0 or 1 by the sign of x.", ("sign(-2.5)", "-1.0"), sign),
    entry(
        Family::Number,
        "least",
        "least(a, b, …)",
        "The smallest of the values; null if any is null.",
        ("least(3, 1, 2)", "1"),
        |args| extreme(args, Binary::Less),
    ),
    entry(
        Family::Number,
        "greatest",
        "greatest(a, b, …)",
        "The largest of the values; null if any is null.",
        ("greatest(3, 1, 2)", "3"),
        |args| extreme(args, Binary::Greater),
    ),
];

/// A function of one float; NaN from a number is outside its domain.
fn of_float(mut args: Arguments, f: fn(f64) -> f64) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    args.number(0)?;
    args.want(0, &Type::Float)?;
    Ok(args.fallible_call(Type::Float, move |args, rows, events| {
        let x = arg(args, 0);
        let nulls = x.nulls(rows);
        let values = x.floats();
        let column = floats_by_row(rows, |row| {
            let value = values.get(row).filter(|_| nulls.as_ref().is_none_or(|n| n.is_valid(row)))?;
            let result = f(value);
            (!result.is_nan() || value.is_nan()).then_some(result)
        });
        count_domain(&column, nulls.map_or(0, |n| n.null_count()), rows, events);
        Ok(column)
    }))
}

fn abs(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    let kind = args.number(0)?;
    if kind == Type::Float {
        return of_float(args, f64::abs);
    }
    let zero = match kind {
        Type::Decimal(p, s) => Scalar::Decimal(0, p, s),
        _ => Scalar::Int(0),
    };
    // -x where x is negative; the smallest int has no counterpart, and negate says so.
    let of = kind.clone();
    Ok(args.fallible_call(kind, move |args, rows, events| {
        let x = arg(args, 0);
        let zero = Column::Constant(zero.clone(), of.clone());
        let is_negative = compare::compare(Binary::Less, &of, &x, &zero, rows).bools(rows);
        let negated = arithmetic::negate(&of, &x, rows, events)?.array(rows);
        let chosen = arrow_select::zip::zip(&is_negative, &negated, &x.array(rows));
        chosen.map(Column::Array).map_err(churn_core::arrow_error)
    }))
}

fn power(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(2..=2)?;
    for i in 0..2 {
        args.number(i)?;
        args.want(i, &Type::Float)?;
    }
    Ok(args.fallible_call(Type::Float, |args, rows, events| {
        let (x, y) = (arg(args, 0), arg(args, 1));
        let nulls = both_valid(&x, &y, rows);
        let (a, b) = (x.floats(), y.floats());
        let column = floats_by_row(rows, |row| {
            let (a, b) = (a.get(row)?, b.get(row)?);
            let result = a.powf(b);
            let in_domain = !(result.is_nan() || a == 0.0 && b < 0.0) || a.is_nan() || b.is_nan();
            (in_domain && nulls.as_ref().is_none_or(|n| n.is_valid(row))).then_some(result)
        });
        count_domain(&column, nulls.map_or(0, |n| n.null_count()), rows, events);
        Ok(column)
    }))
}

fn sign(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=1)?;
    let kind = args.number(0)?;
    let kind = if kind == Type::Int { Type::Int } else { Type::Float };
    args.want(0, &kind)?;
    Ok(args.call(kind.clone(), move |args, rows, _| {
        let x = arg(args, 0);
        let nulls = x.nulls(rows);
        let valid = |row: usize| nulls.as_ref().is_none_or(|n| n.is_valid(row));
        Ok(if kind == Type::Int {
            let x = x.ints();
            ints_by_row(rows, |row| x.get(row).filter(|_| valid(row)).map(i64::signum))
        } else {
            let x = x.floats();
            let sign = |v: f64| if v == 0.0 || v.is_nan() { v } else { v.signum() };
            floats_by_row(rows, |row| x.get(row).filter(|_| valid(row)).map(sign))
        })
    }))
}

fn extreme(mut args: Arguments, better: Binary) -> Result<Bound, Complaint> {
    args.count(1..=usize::MAX)?;
    let kind = args.common_type()?;
    Ok(args.call(kind.clone(), move |args, rows, _| {
        let arrays: Vec<_> = args.iter().map(|a| a.array(rows)).collect();
        let mut values = Vec::with_capacity(rows);
        for row in 0..rows {
            let mut best: Option<Scalar> = None;
            for array in &arrays {
                let value = Scalar::from_array(array, row);
                if value.is_null() {
                    best = None;
                    break;
                }
                let wins = best.as_ref().is_none_or(|b| {
                    let order = compare::order_of(&value, b);
                    if better == Binary::Less { order.is_lt() } else { order.is_gt() }
                });
                if wins {
                    best = Some(value);
                }
            }
            values.push(best.unwrap_or(Scalar::Null));
        }
        Ok(Column::Array(churn_core::scalar::array_of(&values.iter().collect::<Vec<_>>(), &kind)))
    }))
}
