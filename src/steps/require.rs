//! `require COND` and `require unique by COLS`: stop unless it holds on every row.

use std::fmt;

use churn_core::names::comma;
use churn_core::{Field, Result, Scalar};
use churn_expr::Bound;
use churn_expr::ast::{ColumnRef, Expr};
use churn_expr::bind::Beside;
use churn_expr::expand::columns_of_list;
use churn_expr::text::{Cursor, expression};
use churn_plan::{Relation, operators};

use super::columns;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "require",
    usage: "require COND [, 'message'] | require unique by COLS",
    summary: "Stops the run, showing the first offending row, unless it holds on every row.",
    example: "require fat between 2 and 9, 'fat out of range'",
    parse: |text| text.one(read),
};

/// `require`: the run stops unless a condition holds on every row.
#[derive(Clone, Debug, PartialEq)]
pub struct Require {
    condition: Expr,
    message: Option<String>,
}

/// `require unique`: the run stops where two rows are equal in some columns.
#[derive(Clone, Debug, PartialEq)]
pub struct RequireUnique(Vec<ColumnRef>);

impl Require {
    /// Stops unless this holds on every row.
    pub fn new(condition: impl Into<Expr>) -> Require {
        Require { condition: condition.into(), message: None }
    }

    /// Says this when it stops.
    #[must_use]
    pub fn message(self, message: &str) -> Require {
        Require { message: Some(message.to_owned()), ..self }
    }
}

impl RequireUnique {
    /// Stops where two rows are equal in these columns.
    pub fn by<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>) -> RequireUnique {
        RequireUnique(columns::all(columns))
    }
}

fn read(c: &mut Cursor<'_>) -> Result<Step> {
    if c.take_words(&["unique", "by"]) {
        return Ok(RequireUnique(c.list(Cursor::column_ref)?).into());
    }
    read_condition(c).map(Step::from)
}

/// Reads a condition, and what is said where it does not hold.
pub(crate) fn read_condition(c: &mut Cursor<'_>) -> Result<Require> {
    let condition = expression(c)?;
    let message = if c.take_symbol(",") { Some(c.text("a message in single quotes")?.0) } else { None };
    Ok(Require { condition, message })
}

impl Check for Require {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let mut beside = Beside::default();
        let condition = checker.row_condition(&self.condition, &input.fields, &mut beside);
        let shown = shown(&condition, &input.fields);
        let step = checker.step();
        let op = operators::Require { condition, message: self.message.clone(), shown };
        Some(checker.with_beside(input, beside).then(op, step))
    }

    fn keeps_rows(&self) -> bool {
        true
    }

    fn acts(&self) -> bool {
        true
    }
}

/// What a message shows of an offending row: its first column and those of the condition.
fn shown(condition: &Bound, fields: &[Field]) -> Vec<Field> {
    let mut used = Vec::new();
    condition.columns(&mut used);
    fields
        .iter()
        .enumerate()
        .filter(|(i, f)| *i == 0 || used.contains(&f.id))
        .map(|(_, f)| f.clone())
        .collect()
}

impl fmt::Display for Require {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "require {}", self.condition)?;
        match &self.message {
            Some(message) => write!(f, ", {}", Scalar::Text(message.clone())),
            None => Ok(()),
        }
    }
}

impl Check for RequireUnique {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let source = checker.source.clone();
        let found = checker.kept(columns_of_list(&self.0, &input.fields, &source))?;
        let by: Vec<Field> = found.into_iter().cloned().collect();
        let shown = input
            .fields
            .iter()
            .enumerate()
            .filter(|(i, f)| *i == 0 || by.contains(f))
            .map(|(_, f)| f.clone());
        let op = operators::RequireUnique { shown: shown.collect(), by };
        let step = checker.step();
        Some(input.then(op, step))
    }

    fn keeps_rows(&self) -> bool {
        true
    }

    fn acts(&self) -> bool {
        true
    }
}

impl fmt::Display for RequireUnique {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "require unique by {}", comma(&self.0))
    }
}
