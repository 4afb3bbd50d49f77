//! `distinct [by COLS]`: the first of each set of equal rows.

use std::fmt;

use churn_core::names::comma;
use churn_expr::ast::ColumnRef;
use churn_expr::expand::columns_of_list;
use churn_expr::text::Cursor;
use churn_plan::{Relation, operators};

use super::columns;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "distinct",
    usage: "distinct [by COLS]",
    summary: "Keeps the first of each set of equal rows, or of the rows equal in some columns.",
    example: "distinct by farm, collected_on",
    parse: |text| {
        let by = text.one(|c| if c.take_word("by") { c.list(Cursor::column_ref) } else { Ok(Vec::new()) })?;
        Ok(Step::from(Distinct(by)))
    },
};

/// `distinct`: the first of each set of equal rows.
#[derive(Clone, Debug, PartialEq)]
pub struct Distinct(Vec<ColumnRef>);

impl Distinct {
    /// Of the rows that are equal in all columns.
    pub fn rows() -> Distinct {
        Distinct(Vec::new())
    }

    /// Of the rows that are equal in these columns; all columns stay.
    pub fn by<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>) -> Distinct {
        Distinct(columns::all(columns))
    }
}

impl Check for Distinct {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let source = checker.source.clone();
        let by = checker.kept(columns_of_list(&self.0, &input.fields, &source))?;
        let by = if by.is_empty() { input.fields.iter().collect() } else { by };
        let by = by.iter().map(|f| f.id).collect();
        let step = checker.step();
        Some(input.then(operators::Distinct { by }, step))
    }
}

impl fmt::Display for Distinct {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.0.is_empty() { f.write_str("distinct") } else { write!(f, "distinct by {}", comma(&self.0)) }
    }
}
