//! Comparisons, by columns and of single values.
//!
//! NaN equals itself and sorts after all numbers; text compares by code point, which for UTF-8 is byte order.

use std::cmp::Ordering;
use std::sync::Arc;

use arrow_array::BooleanArray;
use arrow_array::types::{
    ArrowPrimitiveType, Date32Type, Decimal128Type, Time64MicrosecondType, TimestampMicrosecondType,
};
use arrow_buffer::{BooleanBuffer, Buffer, NullBuffer};
use churn_core::{Column, Scalar, Texts, Type, both_valid};
use churn_kernels::columns::{self, Operand};

use super::ast::Binary;

/// Order of floats with NaN last and equal to itself; the two zeros are equal.
#[inline]
pub(crate) fn order_floats(a: f64, b: f64) -> Ordering {
    a.partial_cmp(&b).unwrap_or_else(|| a.is_nan().cmp(&b.is_nan()))
}

/// Order of two values of one type; null last and equal to itself.
pub fn order_of(a: &Scalar, b: &Scalar) -> Ordering {
    match (a, b) {
        (Scalar::Null, Scalar::Null) => Ordering::Equal,
        (Scalar::Null, _) => Ordering::Greater,
        (_, Scalar::Null) => Ordering::Less,
        (Scalar::Bool(a), Scalar::Bool(b)) => a.cmp(b),
        (Scalar::Int(a), Scalar::Int(b)) => a.cmp(b),
        (Scalar::Float(a), Scalar::Float(b)) => order_floats(*a, *b),
        (Scalar::Decimal(a, _, s), Scalar::Decimal(b, _, r)) if s == r => a.cmp(b),
        (Scalar::Text(a), Scalar::Text(b)) => a.cmp(b),
        (Scalar::Date(a), Scalar::Date(b)) => a.cmp(b),
        (Scalar::Time(a), Scalar::Time(b)) | (Scalar::Timestamp(a), Scalar::Timestamp(b)) => a.cmp(b),
        (Scalar::Binary(a), Scalar::Binary(b)) => a.cmp(b),
        (Scalar::List(a, _), Scalar::List(b, _)) => a
            .iter()
            .zip(b)
            .map(|(a, b)| order_of(a, b))
            .find(|o| o.is_ne())
            .unwrap_or_else(|| a.len().cmp(&b.len())),
        _ => Ordering::Equal,
    }
}

/// Whether an order satisfies a comparison.
#[inline]
fn holds(op: Binary, order: Ordering) -> bool {
    match op {
        Binary::Equal => order.is_eq(),
        Binary::NotEqual => order.is_ne(),
        Binary::Less => order.is_lt(),
        Binary::LessEqual => order.is_le(),
        Binary::Greater => order.is_gt(),
        _ => order.is_ge(),
    }
}

/// Compares two columns of one type.
pub fn compare(op: Binary, kind: &Type, a: &Column, b: &Column, rows: usize) -> Column {
    let words = match kind {
        Type::Int => by_order(op, a.ints(), b.ints(), rows),
        Type::Float => floats(op, a.floats(), b.floats(), rows),
        Type::Date => {
            primitive::<Date32Type>(op, a, b, rows, |s| if let Scalar::Date(v) = s { Some(*v) } else { None })
        }
        Type::Time => primitive::<Time64MicrosecondType>(op, a, b, rows, |s| {
            if let Scalar::Time(v) = s { Some(*v) } else { None }
        }),
        Type::Timestamp => primitive::<TimestampMicrosecondType>(op, a, b, rows, |s| {
            if let Scalar::Timestamp(v) = s { Some(*v) } else { None }
        }),
        Type::Decimal(..) => primitive::<Decimal128Type>(op, a, b, rows, |s| {
            if let Scalar::Decimal(v, _, _) = s { Some(*v) } else { None }
        }),
        Type::Text => texts(op, a.texts(), b.texts(), rows),
        Type::Bool => {
            let (a, b) = (a.bools(rows), b.bools(rows));
            by_row(rows, |row| holds(op, a.value(row).cmp(&b.value(row))))
        }
        _ => {
            let (a, b) = (a.array(rows), b.array(rows));
            by_row(rows, |row| {
                holds(op, order_of(&Scalar::from_array(&a, row), &Scalar::from_array(&b, row)))
            })
        }
    };
    truth(words, both_valid(a, b, rows), rows)
}

/// True where the two differ, nulls taken as a value; never unknown.
pub(crate) fn is_distinct(kind: &Type, a: &Column, b: &Column, rows: usize) -> Column {
    let differs = compare(Binary::NotEqual, kind, a, b, rows).bools(rows);
    let (a, b) = (a.nulls(rows), b.nulls(rows));
    let missing = |nulls: &Option<NullBuffer>, row: usize| nulls.as_ref().is_some_and(|n| n.is_null(row));
    let words = by_row(rows, |row| match (missing(&a, row), missing(&b, row)) {
        (false, false) => differs.value(row),
        (a, b) => a != b,
    });
    truth(words, None, rows)
}

fn truth(words: Vec<u64>, nulls: Option<NullBuffer>, rows: usize) -> Column {
    let bits = BooleanBuffer::new(Buffer::from_vec(words), 0, rows);
    Column::Array(Arc::new(BooleanArray::new(bits, nulls)))
}

fn by_row(rows: usize, f: impl Fn(usize) -> bool) -> Vec<u64> {
    let mut words = vec![0u64; rows.div_ceil(64)];
    for row in 0..rows {
        if let Some(word) = words.get_mut(row / 64) {
            *word |= u64::from(f(row)) << (row % 64);
        }
    }
    words
}

fn by_order<T: Copy + Ord>(op: Binary, a: Operand<'_, T>, b: Operand<'_, T>, rows: usize) -> Vec<u64> {
    match op {
        Binary::Equal => columns::test2(a, b, rows, |a, b| a == b),
        Binary::NotEqual => columns::test2(a, b, rows, |a, b| a != b),
        Binary::Less => columns::test2(a, b, rows, |a, b| a < b),
        Binary::LessEqual => columns::test2(a, b, rows, |a, b| a <= b),
        Binary::Greater => columns::test2(a, b, rows, |a, b| a > b),
        _ => columns::test2(a, b, rows, |a, b| a >= b),
    }
}

fn floats(op: Binary, a: Operand<'_, f64>, b: Operand<'_, f64>, rows: usize) -> Vec<u64> {
    let equal = |a: f64, b: f64| (a == b) | (a.is_nan() & b.is_nan());
    let less = |a: f64, b: f64| (a < b) | (!a.is_nan() & b.is_nan());
    match op {
        Binary::Equal => columns::test2(a, b, rows, equal),
        Binary::NotEqual => columns::test2(a, b, rows, |a, b| !equal(a, b)),
        Binary::Less => columns::test2(a, b, rows, less),
        Binary::LessEqual => columns::test2(a, b, rows, |a, b| !less(b, a)),
        Binary::Greater => columns::test2(a, b, rows, |a, b| less(b, a)),
        _ => columns::test2(a, b, rows, |a, b| !less(a, b)),
    }
}

fn primitive<T: ArrowPrimitiveType<Native: Ord>>(
    op: Binary,
    a: &Column,
    b: &Column,
    rows: usize,
    value: impl Fn(&Scalar) -> Option<T::Native>,
) -> Vec<u64> {
    by_order(op, a.operand::<T>(&value), b.operand::<T>(&value), rows)
}

fn texts(op: Binary, a: Texts<'_>, b: Texts<'_>, rows: usize) -> Vec<u64> {
    if let (Texts::Column(column), Texts::Constant(Some(text)))
    | (Texts::Constant(Some(text)), Texts::Column(column)) = (a, b)
        && let (Binary::Equal | Binary::NotEqual, Some(view)) = (op, inline_view(text))
    {
        // A text of at most twelve bytes stands whole in its view, so one comparison of 16 bytes tells.
        let mut words = columns::equal(column.views(), view);
        if op == Binary::NotEqual {
            words.iter_mut().for_each(|word| *word = !*word);
            // No bits behind the last row.
            let behind = words.len() * 64 - column.views().len();
            words.last_mut().into_iter().for_each(|word| *word = *word << behind >> behind);
        }
        return words;
    }
    by_row(rows, |row| match (a.get(row), b.get(row)) {
        (Some(a), Some(b)) => holds(op, a.cmp(b)),
        _ => false,
    })
}

/// The view of a text that is short enough to stand in it.
pub(crate) fn inline_view(text: &str) -> Option<u128> {
    let bytes = text.as_bytes();
    let mut view = [0u8; 16];
    *view.first_mut()? = bytes.len() as u8;
    view.get_mut(4..4 + bytes.len())?.copy_from_slice(bytes);
    Some(u128::from_le_bytes(view))
}
