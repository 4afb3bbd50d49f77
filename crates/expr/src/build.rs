//! Expressions built in Rust instead of text.
//!
//! They make the same tree that the text makes: `column("litres").above(100)` is `litres > 100`.

use std::fmt::Display;
use std::ops;

use churn_core::{Scalar, Span, names};

use super::ast::{Binary, ColumnRef, Expr, Keys, Kind, Sense};

/// Names a column.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::column;
/// assert_eq!((column("litres") * column("Fat %")).to_string(), "litres * \"Fat %\"");
/// ```
pub fn column(name: &str) -> Expr {
    made(Kind::Name(name.to_owned()))
}

/// Makes a literal.
pub fn lit(value: impl Into<Scalar>) -> Expr {
    made(Kind::Literal(value.into()))
}

macro_rules! aggregates {
    ($($(#[$doc:meta])* $name:ident),*) => {
        $($(#[$doc])* pub fn $name(x: Expr) -> Expr {
            made(Kind::Call(stringify!($name).to_owned(), vec![x]))
        })*
    };
}

aggregates! {
    /// The sum of the values.
    sum,
    /// The arithmetic mean.
    mean,
    /// The middle value.
    median,
    /// The smallest value.
    min,
    /// The largest value.
    max,
    /// The sample standard deviation.
    stddev,
    /// The first value that is not null.
    first,
    /// The last value that is not null.
    last,
    /// The number of different values.
    count_distinct
}

/// The number of rows.
pub fn count() -> Expr {
    made(Kind::Call("count".into(), Vec::new()))
}

fn made(kind: Kind) -> Expr {
    Expr::new(kind, Span::default())
}

fn binary(op: Binary, a: Expr, b: Expr) -> Expr {
    made(Kind::Binary(op, Box::new(a), Box::new(b)))
}

impl Expr {
    /// `self > x`.
    #[must_use]
    pub fn above(self, x: impl Into<Expr>) -> Expr {
        binary(Binary::Greater, self, x.into())
    }

    /// `self >= x`.
    #[must_use]
    pub fn at_least(self, x: impl Into<Expr>) -> Expr {
        binary(Binary::GreaterEqual, self, x.into())
    }

    /// `self < x`.
    #[must_use]
    pub fn below(self, x: impl Into<Expr>) -> Expr {
        binary(Binary::Less, self, x.into())
    }

    /// `self <= x`.
    #[must_use]
    pub fn at_most(self, x: impl Into<Expr>) -> Expr {
        binary(Binary::LessEqual, self, x.into())
    }

    /// `self = x`.
    #[must_use]
    pub fn equals(self, x: impl Into<Expr>) -> Expr {
        binary(Binary::Equal, self, x.into())
    }

    /// `self <> x`.
    #[must_use]
    pub fn differs(self, x: impl Into<Expr>) -> Expr {
        binary(Binary::NotEqual, self, x.into())
    }

    /// `self and x`.
    #[must_use]
    pub fn and(self, x: Expr) -> Expr {
        binary(Binary::And, self, x)
    }

    /// `self or x`.
    #[must_use]
    pub fn or(self, x: Expr) -> Expr {
        binary(Binary::Or, self, x)
    }

    /// `self is null`.
    #[must_use]
    pub fn is_null(self) -> Expr {
        made(Kind::IsNull(Box::new(self), Sense::Plain))
    }

    /// `self where (condition)`: the aggregate of only those rows.
    #[must_use]
    pub fn only_where(self, condition: Expr) -> Expr {
        made(Kind::Where(Box::new(self), Box::new(condition)))
    }

    /// `self per keys`: the aggregate of the row's group; without keys that of the whole table.
    #[must_use]
    pub fn per(self, keys: &[&str]) -> Expr {
        let columns = keys.iter().map(|k| ColumnRef::Name((*k).to_owned(), Span::default())).collect();
        let keys = if keys.is_empty() { Keys::Table } else { Keys::Columns(columns) };
        made(Kind::Per(Box::new(self), keys))
    }

    /// Any function of the language: `Expr::call("round", [column("litres"), lit(1)])`.
    #[must_use]
    pub fn call(function: &str, args: impl IntoIterator<Item = Expr>) -> Expr {
        made(Kind::Call(function.to_owned(), args.into_iter().collect()))
    }

    /// The item `name = self`.
    #[must_use]
    pub fn named(self, name: &str) -> Named {
        Named(format!("{} = {self}", names::name(name)))
    }
}

/// An item with a name, as it stands in `add`, `select`, `group` and `total`.
#[derive(Clone, Debug)]
pub struct Named(String);

impl Display for Named {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0)
    }
}

macro_rules! operators {
    ($($trait:ident $method:ident $op:ident),*) => {$(
        impl<T: Into<Expr>> ops::$trait<T> for Expr {
            type Output = Expr;
            fn $method(self, other: T) -> Expr {
                binary(Binary::$op, self, other.into())
            }
        }
    )*};
}

operators!(Add add Add, Sub sub Subtract, Mul mul Multiply, Div div Divide);

macro_rules! literals {
    ($($from:ty),*) => {$(
        impl From<$from> for Expr {
            fn from(value: $from) -> Expr {
                lit(value)
            }
        }
    )*};
}

literals!(bool, i32, i64, f64, &str, String);

impl From<Scalar> for Expr {
    fn from(value: Scalar) -> Expr {
        made(Kind::Literal(value))
    }
}
