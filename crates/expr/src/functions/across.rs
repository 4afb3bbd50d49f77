//! Sums, means and counts across the values of a row: columns side by side, nulls left out.

use std::sync::Arc;

use arrow_array::cast::AsArray;
use arrow_array::types::{Decimal128Type, Int64Type};
use arrow_array::{Array, Int64Array};
use arrow_buffer::NullBuffer;
use churn_core::{Column, Type};
use churn_kernels::double::Sum;

use super::{Arguments, Complaint, Family, Function, entry, floats_by_row, ints_by_row};
use crate::{Bound, arithmetic};

pub(super) const FUNCTIONS: &[Function] = &[
    entry(
        Family::Number,
        "row_sum",
        "row_sum(a, b, …)",
        "The sum of the values that are there; null if none is.",
        ("row_sum(3, null, 4)", "7"),
        row_sum,
    ),
    entry(
        Family::Number,
        "row_mean",
        "row_mean(a, b, …)",
        "The mean of the values that are there; null if none is.",
        ("row_mean(3, null, 4)", "3.5"),
        row_mean,
    ),
    entry(
        Family::Null,
        "row_count",
        "row_count(a, b, …)",
        "How many of the values are there.",
        ("row_count('F1', null, 7)", "2"),
        row_count,
    ),
];

/// Digits of a sum of decimals, and what no such sum reaches.
const DIGITS: u8 = 38;
const MOST: i128 = 10i128.pow(DIGITS as u32);

fn row_sum(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=usize::MAX)?;
    for i in 0..args.values.len() {
        if args.kind(i) != Type::Null {
            args.number(i)?;
        }
    }
    let kind = match args.common_type()? {
        Type::Float => return Ok(of_floats(args, |sum, _| sum.total())),
        Type::Decimal(_, scale) => Type::Decimal(DIGITS, scale),
        _ => Type::Int,
    };
    for i in 0..args.values.len() {
        args.want(i, &kind)?;
    }
    Ok(args.fallible_call(kind.clone(), move |args, rows, _| {
        let mut sums = vec![None; rows];
        for column in args {
            let column = column.array(rows);
            for (row, sum) in sums.iter_mut().enumerate().filter(|(row, _)| column.is_valid(*row)) {
                let value = match &kind {
                    Type::Int => i128::from(column.as_primitive::<Int64Type>().value(row)),
                    _ => column.as_primitive::<Decimal128Type>().value(row),
                };
                let added = sum.unwrap_or(0i128).checked_add(value).filter(|sum| sum.abs() < MOST);
                *sum = Some(added.ok_or_else(|| arithmetic::decimal_overflow("row_sum"))?);
            }
        }
        if let Type::Decimal(precision, scale) = kind {
            let nulls = sums.iter().map(Option::is_some).collect();
            let values = sums.into_iter().map(Option::unwrap_or_default).collect();
            let sums = arithmetic::decimal_array(values, precision, scale, Some(nulls))?;
            return Ok(Column::Array(Arc::new(sums)));
        }
        let narrow = |sum: i128| i64::try_from(sum).map_err(|_| arithmetic::overflow("row_sum"));
        let sums = sums.into_iter().map(|sum| sum.map(narrow).transpose());
        Ok(Column::Array(Arc::new(sums.collect::<churn_core::Result<Int64Array>>()?)))
    }))
}

fn row_mean(mut args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=usize::MAX)?;
    for i in 0..args.values.len() {
        args.number(i)?;
        args.want(i, &Type::Float)?;
    }
    Ok(of_floats(args, Sum::mean))
}

/// What a function makes of the sum and the number of the floats that are there; null if none is.
fn of_floats(args: Arguments, f: fn(Sum, f64) -> f64) -> Bound {
    args.call(Type::Float, move |args, rows, _| {
        let columns: Vec<_> = args.iter().map(|column| (column.floats(), column.nulls(rows))).collect();
        Ok(floats_by_row(rows, |row| {
            let (mut sum, mut count) = (Sum::default(), 0u32);
            for (values, nulls) in &columns {
                if nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row)) {
                    sum.add(values.get(row)?);
                    count += 1;
                }
            }
            (count > 0).then(|| f(sum, f64::from(count)))
        }))
    })
}

fn row_count(args: Arguments) -> Result<Bound, Complaint> {
    args.count(1..=usize::MAX)?;
    Ok(args.call(Type::Int, |args, rows, _| {
        let columns: Vec<_> = args.iter().map(|column| column.nulls(rows)).collect();
        Ok(ints_by_row(rows, |row| {
            let is_there =
                |nulls: &&Option<NullBuffer>| nulls.as_ref().is_none_or(|nulls| nulls.is_valid(row));
            Some(columns.iter().filter(is_there).count() as i64)
        }))
    }))
}
