//! Expressions built in Rust instead of text.
//!
//! They make the same tree that the text makes: `column("litres").gt(100)` is `litres > 100`. Names and values are data:
//! whatever they hold, they stay a name and a value.

mod aggregates;
mod case;
mod frames;
mod functions;
mod literals;
mod named;
mod sets;

use std::ops;

use churn_core::{Position, Scalar, Span, Type};

use crate::ast::{Binary, Cast, ColumnRef, Expr, Frame, Keys, Kind, Sense};

pub use aggregates::*;
pub use case::{Case, CaseOf, case, case_of};
pub use functions::*;
pub use literals::lit;
pub use named::{Named, Naming, SortKey};
pub use sets::each;

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

/// Names a parameter of the recipe, `$name`.
pub fn parameter(name: &str) -> Expr {
    made(Kind::Parameter(name.to_owned()))
}

/// The value of a column of an earlier table that has one row, `$table.column`.
pub fn table_value(table: &str, column: &str) -> Expr {
    made(Kind::TableValue(table.to_owned(), column.to_owned()))
}

fn made(kind: Kind) -> Expr {
    Expr::new(kind, Span::default())
}

fn call(function: &str, args: impl IntoIterator<Item = Expr>) -> Expr {
    made(Kind::Call(function.to_owned(), args.into_iter().collect()))
}

/// Two operands and an operator. Conditions that are joined alike stand one behind the other, whatever was joined first.
fn binary(op: Binary, a: Expr, b: Expr) -> Expr {
    let mut left = a;
    let mut behind = vec![b];
    while let Some(next) = behind.pop() {
        match next.kind {
            Kind::Binary(of, first, second) if of == op && matches!(op, Binary::And | Binary::Or) => {
                behind.extend([*second, *first]);
            }
            kind => left = made(Kind::Binary(op, Box::new(left), Box::new(made(kind)))),
        }
    }
    left
}

macro_rules! compared {
    ($($(#[$doc:meta])* $name:ident $op:ident),*) => {$(
        $(#[$doc])*
        #[must_use]
        pub fn $name(self, x: impl Into<Expr>) -> Expr {
            binary(Binary::$op, self, x.into())
        }
    )*};
}

impl Expr {
    compared! {
        /// `self > x`.
        gt Greater,
        /// `self >= x`.
        ge GreaterEqual,
        /// `self < x`.
        lt Less,
        /// `self <= x`.
        le LessEqual,
        /// `self = x`.
        equals Equal,
        /// `self <> x`.
        differs NotEqual,
        /// `self and x`, three-valued.
        and And,
        /// `self or x`, three-valued.
        or Or,
        /// `self || x`: both texts, one behind the other.
        concat Concat,
        /// `self div x`: the quotient of whole numbers, rounded down.
        div_floor Div
    }

    /// `self between low and high`, both ends included.
    #[must_use]
    pub fn between(self, low: impl Into<Expr>, high: impl Into<Expr>) -> Expr {
        made(Kind::Between(Box::new(self), Box::new(low.into()), Box::new(high.into()), Sense::Plain))
    }

    /// `self in (a, b, …)`. An empty list is a mistake that the check tells.
    #[must_use]
    pub fn is_in<T: Into<Expr>>(self, list: impl IntoIterator<Item = T>) -> Expr {
        made(Kind::In(Box::new(self), list.into_iter().map(Into::into).collect(), Sense::Plain))
    }

    /// `self in table`: whether it is among the values of an earlier table of one column.
    #[must_use]
    pub fn is_in_table(self, table: &str) -> Expr {
        made(Kind::InTable(Box::new(self), table.to_owned(), Sense::Plain))
    }

    /// `self like pattern`: `%` stands for any text, `_` for one character.
    #[must_use]
    pub fn like(self, pattern: impl Into<Expr>) -> Expr {
        made(Kind::Like(Box::new(self), Box::new(pattern.into()), None, Sense::Plain))
    }

    /// `self like pattern escape 'c'`: behind the character, `%` and `_` stand for themselves.
    #[must_use]
    pub fn like_escaped(self, pattern: impl Into<Expr>, escape: char) -> Expr {
        made(Kind::Like(Box::new(self), Box::new(pattern.into()), Some(escape), Sense::Plain))
    }

    /// `self is null`.
    #[must_use]
    pub fn is_null(self) -> Expr {
        made(Kind::IsNull(Box::new(self), Sense::Plain))
    }

    /// `self is not null`.
    #[must_use]
    pub fn is_not_null(self) -> Expr {
        made(Kind::IsNull(Box::new(self), Sense::Not))
    }

    /// `self is distinct from x`: as `differs`, where null is a value like others.
    #[must_use]
    pub fn is_distinct_from(self, x: impl Into<Expr>) -> Expr {
        made(Kind::IsDistinct(Box::new(self), Box::new(x.into()), Sense::Plain))
    }

    /// `self is not distinct from x`: as `equals`, where null equals null.
    #[must_use]
    pub fn is_not_distinct_from(self, x: impl Into<Expr>) -> Expr {
        made(Kind::IsDistinct(Box::new(self), Box::new(x.into()), Sense::Not))
    }

    /// `cast(self as kind)`: a value that is none of the type stops the run.
    #[must_use]
    pub fn cast(self, kind: Type) -> Expr {
        self.cast_as(kind, None, false)
    }

    /// `try_cast(self as kind)`: a value that is none of the type is null, and counted.
    #[must_use]
    pub fn try_cast(self, kind: Type) -> Expr {
        self.cast_as(kind, None, true)
    }

    /// `cast(self as kind format 'pattern')`: dates and times by a strftime pattern.
    #[must_use]
    pub fn cast_with(self, kind: Type, pattern: &str) -> Expr {
        self.cast_as(kind, Some(pattern), false)
    }

    /// `try_cast(self as kind format 'pattern')`.
    #[must_use]
    pub fn try_cast_with(self, kind: Type, pattern: &str) -> Expr {
        self.cast_as(kind, Some(pattern), true)
    }

    fn cast_as(self, to: Type, format: Option<&str>, lenient: bool) -> Expr {
        made(Kind::Cast(Box::new(Cast { from: self, to, format: format.map(str::to_owned), lenient })))
    }

    /// `self where (condition)`: the aggregate of only those rows.
    #[must_use]
    pub fn only_where(self, condition: impl Into<Expr>) -> Expr {
        made(Kind::Where(Box::new(self), Box::new(condition.into())))
    }

    /// `self per keys`: the aggregate of the row's group, beside every row of it.
    #[must_use]
    pub fn per<T: Into<ColumnRef>>(self, keys: impl IntoIterator<Item = T>) -> Expr {
        made(Kind::Per(Box::new(self), Keys::Columns(keys.into_iter().map(Into::into).collect())))
    }

    /// `self per table`: the aggregate of all rows, beside every row.
    #[must_use]
    pub fn per_table(self) -> Expr {
        made(Kind::Per(Box::new(self), Keys::Table))
    }

    /// `self over frame`, in a window.
    #[must_use]
    pub fn over(self, frame: Frame) -> Expr {
        made(Kind::Over(Box::new(self), Box::new(frame)))
    }

    /// Any function of the language: `Expr::call("round", [column("litres"), lit(1)])`.
    #[must_use]
    pub fn call(function: &str, args: impl IntoIterator<Item = Expr>) -> Expr {
        call(function, args)
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

operators!(
    Add add Add, Sub sub Subtract, Mul mul Multiply, Div div Divide, Rem rem Mod, BitAnd bitand And, BitOr bitor Or
);

impl ops::Neg for Expr {
    type Output = Expr;

    /// `-x`; of a number, the number with the other sign.
    fn neg(self) -> Expr {
        made(match self.kind {
            Kind::Literal(Scalar::Int(n)) if n != i64::MIN => Kind::Literal(Scalar::Int(-n)),
            Kind::Literal(Scalar::Float(x)) => Kind::Literal(Scalar::Float(-x)),
            kind => Kind::Negate(Box::new(made(kind))),
        })
    }
}

impl ops::Not for Expr {
    type Output = Expr;

    /// The opposite of a condition: `not x`, or the predicate with `not` in it.
    fn not(self) -> Expr {
        let turned = |sense: Sense| if sense == Sense::Plain { Sense::Not } else { Sense::Plain };
        made(match self.kind {
            Kind::Between(x, low, high, sense) => Kind::Between(x, low, high, turned(sense)),
            Kind::In(x, list, sense) => Kind::In(x, list, turned(sense)),
            Kind::InTable(x, table, sense) => Kind::InTable(x, table, turned(sense)),
            Kind::Like(x, pattern, escape, sense) => Kind::Like(x, pattern, escape, turned(sense)),
            Kind::IsNull(x, sense) => Kind::IsNull(x, turned(sense)),
            Kind::IsDistinct(a, b, sense) => Kind::IsDistinct(a, b, turned(sense)),
            kind => Kind::Not(Box::new(made(kind))),
        })
    }
}

impl From<&str> for ColumnRef {
    /// The column of this name.
    fn from(name: &str) -> ColumnRef {
        ColumnRef::Name(name.to_owned(), Position::default())
    }
}

impl From<String> for ColumnRef {
    fn from(name: String) -> ColumnRef {
        ColumnRef::Name(name, Position::default())
    }
}
