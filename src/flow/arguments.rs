//! What a step is given: text in the language, or typed pieces. Text is read by itself, as what it stands for, and typed
//! pieces are taken as they are, so nothing that is given can become another step, or a part of another piece.

use std::path::Path;
use std::sync::Arc;

use churn_core::{Error, ErrorKind, Result, SourceText};
use churn_expr::ast::{ColumnRef, ColumnSet};
use churn_expr::{Expr, Named, SortKey};

use super::Flow;
use crate::lang::text::layout::{Block, blocks};
use crate::lang::text::{Cursor, expression};
use crate::steps::{Item, Other, Require, read_condition, read_key};

/// Reads a text as one thing, on one line or several.
fn read<T>(text: &str, what: &str, each: impl Fn(&mut Cursor<'_>) -> Result<Vec<T>>) -> Result<Vec<T>> {
    let source = Arc::new(SourceText { name: what.to_owned(), text: text.to_owned() });
    let mut found = Vec::new();
    for block in blocks(&source)? {
        found.extend(read_line(&block, &each)?);
    }
    Ok(found)
}

/// Reads a line, and those that are indented below it.
fn read_line<T>(line: &Block, each: &impl Fn(&mut Cursor<'_>) -> Result<Vec<T>>) -> Result<Vec<T>> {
    let mut cursor = line.cursor();
    let mut found = each(&mut cursor)?;
    cursor.expect_end()?;
    for deeper in &line.below {
        found.extend(read_line(deeper, each)?);
    }
    Ok(found)
}

/// Reads a comma list, whose items may also stand on lines of their own.
fn list<T>(text: &str, what: &str, item: impl Fn(&mut Cursor<'_>) -> Result<T>) -> Result<Vec<T>> {
    read(text, what, |c| c.list(&item))
}

/// An expression: text in the language, or an [`Expr`].
pub trait IntoExpr {
    /// Gives the expression.
    ///
    /// # Errors
    /// The text is no expression.
    fn into_expr(self) -> Result<Expr>;
}

impl IntoExpr for Expr {
    fn into_expr(self) -> Result<Expr> {
        Ok(self)
    }
}

/// Reads a text as one thing.
fn one<T>(text: &str, what: &str, each: impl Fn(&mut Cursor<'_>) -> Result<T>) -> Result<T> {
    let mut found = read(text, what, |c| Ok(vec![each(c)?]))?.into_iter();
    let error = |told: &str| Error::new(ErrorKind::Syntax, told);
    match (found.next(), found.next()) {
        (Some(found), None) => Ok(found),
        (None, _) => Err(error("An expression is wanted, and the text is empty.")),
        (Some(_), Some(_)) => Err(error("One expression is wanted, and these are several.")
            .next("A line break in an expression stands within parentheses.")),
    }
}

impl IntoExpr for &str {
    fn into_expr(self) -> Result<Expr> {
        one(self, "the expression", expression)
    }
}

/// A condition that must hold: text in the language, which may say what is told where it does not, an [`Expr`], or one
/// with what is told.
pub trait IntoRequire {
    /// Gives the step.
    ///
    /// # Errors
    /// The text is no condition.
    fn into_require(self) -> Result<Require>;
}

impl IntoRequire for &str {
    fn into_require(self) -> Result<Require> {
        one(self, "the condition", read_condition)
    }
}

impl IntoRequire for Expr {
    fn into_require(self) -> Result<Require> {
        Ok(Require::new(self))
    }
}

impl IntoRequire for (Expr, &str) {
    fn into_require(self) -> Result<Require> {
        Ok(Require::new(self.0).message(self.1))
    }
}

/// Items: text in the language, an [`Expr`], one with a name, or several of them.
pub trait IntoItems {
    /// Gives the items.
    ///
    /// # Errors
    /// The text is no list of items.
    fn into_items(self) -> Result<Vec<Item>>;
}

impl IntoItems for &str {
    fn into_items(self) -> Result<Vec<Item>> {
        list(self, "the items", Item::read)
    }
}

/// Columns: text in the language, a column or a set, or several of them.
pub trait IntoColumns {
    /// Gives the columns.
    ///
    /// # Errors
    /// The text is no list of columns.
    fn into_columns(self) -> Result<Vec<ColumnRef>>;
}

impl IntoColumns for &str {
    fn into_columns(self) -> Result<Vec<ColumnRef>> {
        list(self, "the columns", |c| c.column_ref())
    }
}

impl IntoColumns for ColumnSet {
    fn into_columns(self) -> Result<Vec<ColumnRef>> {
        Ok(vec![self.into()])
    }
}

/// Keys of an order: text in the language, a key, or several of them.
pub trait IntoSortKeys {
    /// Gives the keys.
    ///
    /// # Errors
    /// The text is no list of keys.
    fn into_sort_keys(self) -> Result<Vec<SortKey>>;
}

impl IntoSortKeys for &str {
    fn into_sort_keys(self) -> Result<Vec<SortKey>> {
        list(self, "the keys", read_key)
    }
}

/// Owned text is read as borrowed text is.
macro_rules! texts {
    ($($trait:ident $method:ident $gives:ty),*) => {$(
        impl $trait for String {
            fn $method(self) -> Result<$gives> {
                self.as_str().$method()
            }
        }

        impl $trait for &String {
            fn $method(self) -> Result<$gives> {
                self.as_str().$method()
            }
        }
    )*};
}

texts!(
    IntoExpr into_expr Expr, IntoRequire into_require Require, IntoItems into_items Vec<Item>, IntoColumns into_columns Vec<ColumnRef>,
    IntoSortKeys into_sort_keys Vec<SortKey>
);

/// One piece, an array or a vector of what pieces can be made of.
macro_rules! pieces {
    ($($trait:ident $method:ident $piece:ty: $($one:ty),*;)*) => {$(
        $(impl $trait for $one {
            fn $method(self) -> Result<Vec<$piece>> {
                Ok(vec![self.into()])
            }
        })*

        impl<T: Into<$piece>, const N: usize> $trait for [T; N] {
            fn $method(self) -> Result<Vec<$piece>> {
                Ok(self.into_iter().map(Into::into).collect())
            }
        }

        impl<T: Into<$piece>> $trait for Vec<T> {
            fn $method(self) -> Result<Vec<$piece>> {
                Ok(self.into_iter().map(Into::into).collect())
            }
        }
    )*};
}

pieces! {
    IntoItems into_items Item: Expr, Named, Item;
    IntoColumns into_columns ColumnRef: ColumnRef;
    IntoSortKeys into_sort_keys SortKey: Expr, SortKey;
}

/// A second table: a path of any readable format, another flow, or an earlier table of a recipe.
pub trait IntoOther {
    /// Gives the table in a step of the flow, which it may become a part of.
    fn into_other(self, flow: &mut Flow) -> Other;
}

impl IntoOther for &str {
    fn into_other(self, _: &mut Flow) -> Other {
        Other::file(self)
    }
}

impl IntoOther for &Path {
    fn into_other(self, _: &mut Flow) -> Other {
        Other::file(self)
    }
}

impl IntoOther for &Flow {
    fn into_other(self, flow: &mut Flow) -> Other {
        Other::table(&flow.adopt(self))
    }
}

impl IntoOther for Other {
    fn into_other(self, _: &mut Flow) -> Other {
        self
    }
}
