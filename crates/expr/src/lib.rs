//! Expressions: the tree as written, its check against names and types, and its evaluation by columns.
//!
//! | module | what it holds |
//! | --- | --- |
//! | `ast`, `build` | the tree as written, and built in Rust |
//! | `text`, `print` | text into the tree, and back |
//! | `dictionary` | what is worked out once for each value of a dictionary |
//! | `expand` | parameters, defined functions and column sets put in their places |
//! | `bind` | names to columns, functions to kernels, silent conversions written out |
//! | `bound` | the checked tree and its evaluation |
//! | `extend` | functions of a user's own, which are called as ours are |
//! | `functions` | the catalogue of scalar functions |
//! | `aggregates` | the catalogue of aggregates |
//! | `moment` | the moment that `now()` and `today()` stand for |
//! | `windows` | the catalogue of window functions, and frames |

#![forbid(unsafe_code)]

pub mod aggregates;
pub mod arithmetic;
pub mod ast;
pub mod bind;
pub mod bound;
pub mod build;
pub mod cast;
pub mod compare;
pub mod dictionary;
pub mod expand;
pub mod extend;
pub mod fold;
pub mod functions;
mod logic;
pub mod moment;
pub mod pattern;
mod print;
pub mod text;
pub mod windows;

use churn_core::{Scalar, Type};

pub use ast::Expr;
pub use bound::{Bound, Node};
pub use build::{Named, SortKey, case, column, each, lit, mean};

/// The value converted silently; `None` if its type does not turn into `to`.
pub fn converted(value: &Scalar, to: &Type) -> Option<Scalar> {
    cast::convert(value, to, None)
}
