//! Sets of columns.

use churn_core::Position;

use super::made;
use crate::ast::{ColumnRef, ColumnSet, Expr, Kind, SetOf};

/// All columns; in `group` and `total` all but the keys. Methods say which of them.
///
/// ```
/// # extern crate churn_expr as churn;
/// use churn::{each, mean};
/// assert_eq!(mean(each().numbers().except(["cells"])).to_string(), "mean(each number except cells)");
/// ```
pub fn each() -> ColumnSet {
    ColumnSet { of: SetOf::All, except: Vec::new(), span: Position::default() }
}

impl ColumnSet {
    fn of(self, of: SetOf) -> ColumnSet {
        ColumnSet { of, ..self }
    }

    /// Those of whole numbers, floats and decimals.
    #[must_use]
    pub fn numbers(self) -> ColumnSet {
        self.of(SetOf::Number)
    }

    /// Those of text.
    #[must_use]
    pub fn texts(self) -> ColumnSet {
        self.of(SetOf::Text)
    }

    /// Those of dates and timestamps.
    #[must_use]
    pub fn dates(self) -> ColumnSet {
        self.of(SetOf::Date)
    }

    /// Those of truths.
    #[must_use]
    pub fn bools(self) -> ColumnSet {
        self.of(SetOf::Bool)
    }

    /// Those whose names are like a pattern, in which `*` stands for any text and `?` for one character.
    #[must_use]
    pub fn like(self, pattern: &str) -> ColumnSet {
        self.of(SetOf::Like(pattern.to_owned()))
    }

    /// Those in whose names a regular expression is found.
    #[must_use]
    pub fn matching(self, regex: &str) -> ColumnSet {
        self.of(SetOf::Matching(regex.to_owned()))
    }

    /// Those at these places, counted from 1, both ends included.
    #[must_use]
    pub fn at(self, places: std::ops::RangeInclusive<usize>) -> ColumnSet {
        self.of(SetOf::Positions(*places.start(), *places.end()))
    }

    /// Those of these names.
    #[must_use]
    pub fn called<T: Into<String>>(self, names: impl IntoIterator<Item = T>) -> ColumnSet {
        self.of(SetOf::Names(names.into_iter().map(Into::into).collect()))
    }

    /// All of the set but these.
    #[must_use]
    pub fn except<T: Into<String>>(mut self, names: impl IntoIterator<Item = T>) -> ColumnSet {
        self.except.extend(names.into_iter().map(|name| (name.into(), Position::default())));
        self
    }
}

impl From<ColumnSet> for Expr {
    /// One output for each column of the set.
    fn from(set: ColumnSet) -> Expr {
        made(Kind::Each(set))
    }
}

impl From<ColumnSet> for ColumnRef {
    fn from(set: ColumnSet) -> ColumnRef {
        ColumnRef::Set(set)
    }
}
