//! Values as expressions: each prints as text that reads back as the same expression.

use churn_core::{Interval, Scalar, Type};
use jiff::civil;

use super::{binary, made};
use crate::ast::{Binary, Cast, Expr, Kind};

/// Makes a literal: of Rust's own numbers, texts and truths, of an `Option` of them, of a date or a time of `jiff`, or of a
/// [`Scalar`].
///
/// What the language has no literal for is a cast of a text (NaN, infinity, decimals) or a sum (an interval of months and
/// days). Bytes have none: the check says so.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::lit;
/// assert_eq!(lit("it's").to_string(), "'it''s'");
/// assert_eq!(lit(f64::NAN).to_string(), "cast('NaN' as float)");
/// assert_eq!(lit(None::<i64>).to_string(), "null");
/// ```
pub fn lit(value: impl Into<Expr>) -> Expr {
    value.into()
}

fn cast_of(text: String, to: Type) -> Expr {
    let from = made(Kind::Literal(Scalar::Text(text)));
    made(Kind::Cast(Box::new(Cast { from, to, format: None, lenient: false })))
}

/// An interval as a sum of those that have one part.
fn interval(value: Interval) -> Expr {
    let Interval { months, days, micros } = value;
    let only = |months, days, micros| Interval { months, days, micros };
    let parts = [only(months, 0, 0), only(0, days, 0), only(0, 0, micros)];
    let whole = parts
        .into_iter()
        .filter(|part| *part != Interval::default())
        .map(part_of)
        .reduce(|a, b| binary(Binary::Add, a, b));
    whole.unwrap_or_else(|| made(Kind::Literal(Scalar::Interval(value))))
}

/// An interval of one part.
fn part_of(part: Interval) -> Expr {
    let is_negative = part.months < 0 || part.days < 0 || part.micros < 0;
    match part.times(-1).filter(|_| is_negative) {
        Some(turned) => binary(
            Binary::Multiply,
            made(Kind::Literal(Scalar::Int(-1))),
            made(Kind::Literal(Scalar::Interval(turned))),
        ),
        None => made(Kind::Literal(Scalar::Interval(part))),
    }
}

impl From<Scalar> for Expr {
    fn from(value: Scalar) -> Expr {
        match value {
            Scalar::Float(x) if !x.is_finite() => cast_of(value.plain(), Type::Float),
            Scalar::Decimal(_, p, s) => cast_of(value.plain(), Type::Decimal(p, s)),
            Scalar::Interval(value) => interval(value),
            value => made(Kind::Literal(value)),
        }
    }
}

macro_rules! literals {
    ($($from:ty),*) => {$(
        impl From<$from> for Expr {
            fn from(value: $from) -> Expr {
                Scalar::from(value).into()
            }
        }
    )*};
}

literals!(
    bool,
    i8,
    i16,
    i32,
    i64,
    u8,
    u16,
    u32,
    f32,
    f64,
    &str,
    String,
    civil::Date,
    civil::Time,
    civil::DateTime
);

impl<T: Into<Expr>> From<Option<T>> for Expr {
    /// The value, or null.
    fn from(value: Option<T>) -> Expr {
        value.map_or_else(|| made(Kind::Literal(Scalar::Null)), Into::into)
    }
}
