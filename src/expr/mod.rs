//! Expressions: the tree as written, its check against names and types, and its evaluation by columns.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `ast` | the tree as written |
//! | `types`, `scalar` | types and single values |
//! | `dictionary` | what is worked out once for each value of a dictionary |
//! | `expand` | parameters, defined functions and column sets put in their places |
//! | `bind` | names to columns, functions to kernels, silent conversions written out |
//! | `bound` | the checked tree and its evaluation |
//! | `functions` | the catalogue of scalar functions |
//! | `aggregates` | the catalogue of aggregates |
//! | `windows` | the catalogue of window functions, and frames |

pub(crate) mod aggregates;
pub(crate) mod arithmetic;
pub(crate) mod ast;
pub(crate) mod bind;
pub(crate) mod bound;
mod build;
pub(crate) mod cast;
mod column;
pub(crate) mod compare;
pub(crate) mod dictionary;
mod events;
pub(crate) mod expand;
pub(crate) mod fold;
pub(crate) mod functions;
mod logic;
pub(crate) mod pattern;
mod scalar;
mod types;
mod widen;
pub(crate) mod windows;

pub use ast::Expr;
pub(crate) use bound::{Batch, Bound, ColumnId, Field, Node, taken};
pub use build::{
    Named, column, count, count_distinct, first, last, lit, max, mean, median, min, stddev, sum,
};
pub(crate) use column::Column;
pub use events::Event;
pub(crate) use events::Events;
pub use scalar::{Interval, Scalar};
pub(crate) use scalar::{array_of, decimal_text, write_float};
pub use types::Type;
pub(crate) use widen::{alike, alone, bytes_alone, check_range, widen, without_dictionary};

/// The value converted silently; `None` if its type does not turn into `to`.
pub(crate) fn converted(value: &Scalar, to: &Type) -> Option<Scalar> {
    cast::convert(value, to, None)
}

pub(crate) use bound::arrow as arrow_error;
