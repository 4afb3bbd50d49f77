//! Churn

#![forbid(unsafe_code)]
#![allow(missing_docs)]
#![allow(dead_code)]

mod error;
mod expr;
mod io;
mod plan;
mod recipe;
mod step;
mod text;

pub use error::{Error, ErrorKind, Place, Result, SourceText, Span};
pub use expr::*;
