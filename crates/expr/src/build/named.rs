//! Items with names, and keys of an order.

use std::fmt;

use churn_core::names;

use crate::ast::Expr;

/// An item with a name, as it stands in `add`, `select`, `group`, `total`, `window` and `pivot`.
#[derive(Clone, Debug, PartialEq)]
pub struct Named {
    /// What it is called.
    pub name: Naming,
    /// What it is.
    pub expr: Expr,
}

/// What an item is called.
#[derive(Clone, Debug, PartialEq)]
pub enum Naming {
    /// This name.
    Name(String),
    /// For each column of a set the text that this gives, where `column` is the column's name.
    Template(Expr),
}

impl fmt::Display for Named {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.name {
            Naming::Name(name) => write!(f, "{} = {}", names::name(name), self.expr),
            Naming::Template(template) => write!(f, "{} named {template}", self.expr),
        }
    }
}

/// A key of an order: `litres desc nulls first`.
#[derive(Clone, Debug, PartialEq)]
pub struct SortKey {
    /// What is compared.
    pub by: Expr,
    /// Whether the greatest value comes first.
    pub descending: bool,
    /// Whether nulls come first; else they come last, also in a descending order.
    pub nulls_first: bool,
}

impl SortKey {
    /// What stands behind the expression.
    pub fn order(&self) -> &'static str {
        match (self.descending, self.nulls_first) {
            (false, false) => "",
            (true, false) => " desc",
            (false, true) => " nulls first",
            (true, true) => " desc nulls first",
        }
    }

    /// The key with nulls first.
    #[must_use]
    pub fn nulls_first(self) -> SortKey {
        SortKey { nulls_first: true, ..self }
    }
}

impl From<Expr> for SortKey {
    /// Ascending, nulls last.
    fn from(by: Expr) -> SortKey {
        SortKey { by, descending: false, nulls_first: false }
    }
}

impl fmt::Display for SortKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.by, self.order())
    }
}

impl Expr {
    /// The item `name = self`.
    #[must_use]
    pub fn named(self, name: &str) -> Named {
        Named { name: Naming::Name(name.to_owned()), expr: self }
    }

    /// The items `self named template`, of a column set: `column("column").concat("_avg")` is the source's name and a text.
    #[must_use]
    pub fn named_by(self, template: impl Into<Expr>) -> Named {
        Named { name: Naming::Template(template.into()), expr: self }
    }

    /// The key `self`, the smallest value first, nulls last.
    #[must_use]
    pub fn asc(self) -> SortKey {
        self.into()
    }

    /// The key `self desc`, the greatest value first, nulls last.
    #[must_use]
    pub fn desc(self) -> SortKey {
        SortKey { descending: true, ..self.into() }
    }
}
