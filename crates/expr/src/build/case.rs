//! `case`: one of several values, by conditions.

use super::made;
use crate::ast::{Expr, Kind};

/// `case when … then … else … end`, which is being built.
#[derive(Clone, Debug)]
#[must_use = "a case is an expression only with otherwise or end"]
pub struct Case(Vec<(Expr, Expr)>);

/// `case x when … then … else … end`, which is being built.
#[derive(Clone, Debug)]
#[must_use = "a case is an expression only with otherwise or end"]
pub struct CaseOf(Expr, Vec<(Expr, Expr)>);

/// Starts a case: the value of the first condition that is true.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::{case, column};
/// let size = case().when(column("litres").gt(500), "large").otherwise("small");
/// assert_eq!(size.to_string(), "case when litres > 500 then 'large' else 'small' end");
/// ```
pub fn case() -> Case {
    Case(Vec::new())
}

/// Starts a case of a value: what belongs to the first one that it equals.
pub fn case_of(x: impl Into<Expr>) -> CaseOf {
    CaseOf(x.into(), Vec::new())
}

impl Case {
    /// Where the condition is true, this value.
    pub fn when(mut self, condition: impl Into<Expr>, value: impl Into<Expr>) -> Case {
        self.0.push((condition.into(), value.into()));
        self
    }

    /// Where none of them is true, this value.
    pub fn otherwise(self, value: impl Into<Expr>) -> Expr {
        made(Kind::Case(self.0, Some(Box::new(value.into()))))
    }

    /// Where none of them is true, null.
    pub fn end(self) -> Expr {
        made(Kind::Case(self.0, None))
    }
}

impl CaseOf {
    /// Where it equals the first, the second.
    pub fn when(mut self, equal: impl Into<Expr>, value: impl Into<Expr>) -> CaseOf {
        self.1.push((equal.into(), value.into()));
        self
    }

    /// Where it equals none of them, this value.
    pub fn otherwise(self, value: impl Into<Expr>) -> Expr {
        made(Kind::CaseOf(Box::new(self.0), self.1, Some(Box::new(value.into()))))
    }

    /// Where it equals none of them, null.
    pub fn end(self) -> Expr {
        made(Kind::CaseOf(Box::new(self.0), self.1, None))
    }
}
