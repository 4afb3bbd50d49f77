//! `filter COND`: the rows where the condition is true.

use std::fmt;

use churn_expr::ast::Expr;
use churn_expr::bind::Beside;
use churn_expr::text::expression;
use churn_plan::{Relation, operators};

use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "filter",
    usage: "filter COND",
    summary: "Keeps the rows where the condition is true; where it is false or unknown they go.",
    example: "filter litres > 0 and grade in ('A', 'B')",
    parse: |text| Ok(Step::from(Filter(text.one(expression)?))),
};

/// `filter`: the rows where a condition is true.
#[derive(Clone, Debug, PartialEq)]
pub struct Filter(Expr);

impl Filter {
    /// Keeps the rows where this is true.
    pub fn new(condition: impl Into<Expr>) -> Filter {
        Filter(condition.into())
    }
}

impl Check for Filter {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let mut beside = Beside::default();
        let condition = checker.row_condition(&self.0, &input.fields, &mut beside);
        let step = checker.step();
        Some(checker.with_beside(input, beside).then(operators::Filter::new(condition), step))
    }
}

impl fmt::Display for Filter {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "filter {}", self.0)
    }
}
