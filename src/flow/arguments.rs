//! What a step is given: text in the language, or typed pieces. Text is read by itself, as what it stands for, and typed
//! pieces are taken as they are, so nothing that is given can become another step, or a part of another piece.

use std::path::Path;

use churn_core::{Error, ErrorKind, Result};
use churn_expr::ast::{ColumnRef, ColumnSet};
use churn_expr::text::{Cursor, one, read};
use churn_expr::{Expr, Named, SortKey};

use super::Flow;
use crate::steps::{self, Item, Other, Require, Step, read_as, read_condition, read_key, read_pivot_keys};

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

impl IntoExpr for &str {
    fn into_expr(self) -> Result<Expr> {
        self.parse()
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
    IntoSortKeys into_sort_keys Vec<SortKey>, IntoPivot into_pivot steps::Pivot
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

/// What a step does: its text in the language without the keyword, or the step itself.
pub trait IntoStep<S> {
    /// Gives the step.
    ///
    /// # Errors
    /// The text is no such step.
    fn into_step(self) -> Result<Step>;
}

macro_rules! steps_of_text {
    ($($step:ident $keyword:literal),*) => {$(
        impl IntoStep<steps::$step> for steps::$step {
            fn into_step(self) -> Result<Step> {
                Ok(self.into())
            }
        }

        impl IntoStep<steps::$step> for &str {
            fn into_step(self) -> Result<Step> {
                read_as($keyword, self)
            }
        }

        impl IntoStep<steps::$step> for String {
            fn into_step(self) -> Result<Step> {
                read_as($keyword, &self)
            }
        }

        impl IntoStep<steps::$step> for &String {
            fn into_step(self) -> Result<Step> {
                read_as($keyword, self)
            }
        }
    )*};
}

steps_of_text!(Unpivot "unpivot", Split "split", Densify "densify", Rename "rename");

impl<const N: usize> IntoStep<steps::Rename> for [(&str, &str); N] {
    /// New names, each with the old one behind it.
    fn into_step(self) -> Result<Step> {
        let none = Error::new(ErrorKind::Check, "rename has no names.");
        let renamed = self.into_iter().fold(None::<steps::Rename>, |renamed, (new, old)| {
            Some(renamed.map_or_else(|| steps::Rename::new(new, old), |renamed| renamed.and(new, old)))
        });
        renamed.map(Step::from).ok_or(none)
    }
}

impl<const N: usize> IntoStep<steps::Densify> for [steps::DenseKey; N] {
    fn into_step(self) -> Result<Step> {
        let mut keys = self.into_iter();
        let first = keys.next().ok_or_else(|| Error::new(ErrorKind::Check, "densify has no keys."))?;
        Ok(keys.fold(steps::Densify::new(first), steps::Densify::and).into())
    }
}

/// The keys of a pivot, and what makes its rows: text in the language, a key, several of them, or a pivot without items.
pub trait IntoPivot {
    /// Gives the pivot, which may lack its items.
    ///
    /// # Errors
    /// The text is no list of keys.
    fn into_pivot(self) -> Result<steps::Pivot>;
}

impl IntoPivot for &str {
    fn into_pivot(self) -> Result<steps::Pivot> {
        one(self, "the keys", read_pivot_keys)
    }
}

impl IntoPivot for steps::Pivot {
    fn into_pivot(self) -> Result<steps::Pivot> {
        Ok(self)
    }
}

impl IntoPivot for steps::PivotKey {
    fn into_pivot(self) -> Result<steps::Pivot> {
        Ok(steps::Pivot::new([self]))
    }
}

impl<const N: usize> IntoPivot for [steps::PivotKey; N] {
    fn into_pivot(self) -> Result<steps::Pivot> {
        Ok(steps::Pivot::new(self))
    }
}

/// What stands in the cells of a pivot: text in the language, which may say `fill`, `totals` and `named`, or items.
pub trait IntoPivotItems {
    /// Gives the pivot with these.
    ///
    /// # Errors
    /// The text is no list of items.
    fn add_to(self, pivot: steps::Pivot) -> Result<steps::Pivot>;
}

impl IntoPivotItems for &str {
    fn add_to(self, mut pivot: steps::Pivot) -> Result<steps::Pivot> {
        read(self, "the items", |c| pivot.contents(c, true).map(|()| Vec::<()>::new()))?;
        Ok(pivot)
    }
}

impl IntoPivotItems for String {
    fn add_to(self, pivot: steps::Pivot) -> Result<steps::Pivot> {
        self.as_str().add_to(pivot)
    }
}

impl IntoPivotItems for &String {
    fn add_to(self, pivot: steps::Pivot) -> Result<steps::Pivot> {
        self.as_str().add_to(pivot)
    }
}

macro_rules! pivot_items {
    ($($one:ty),*) => {$(
        impl IntoPivotItems for $one {
            fn add_to(self, pivot: steps::Pivot) -> Result<steps::Pivot> {
                Ok(pivot.items([self]))
            }
        }
    )*};
}

pivot_items!(Expr, Named, Item);

impl<T: Into<Item>, const N: usize> IntoPivotItems for [T; N] {
    fn add_to(self, pivot: steps::Pivot) -> Result<steps::Pivot> {
        Ok(pivot.items(self))
    }
}

impl<T: Into<Item>> IntoPivotItems for Vec<T> {
    fn add_to(self, pivot: steps::Pivot) -> Result<steps::Pivot> {
        Ok(pivot.items(self))
    }
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
