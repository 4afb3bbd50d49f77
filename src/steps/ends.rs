//! `first N` and `last N`: rows from an end, of the table or of each group.

use std::fmt;

use churn_core::Result;
use churn_core::names::comma;
use churn_expr::ast::ColumnRef;
use churn_expr::expand::columns_of_list;
use churn_expr::text::Cursor;
use churn_plan::Relation;
use churn_plan::operators::{First, Last, Op};

use super::checker::Count;
use super::columns;
use super::{Check, Checker, Step, StepKind, StepText};

pub(super) const FIRST: StepKind = StepKind {
    keyword: "first",
    usage: "first N [per COLS], first N after M",
    summary: "Keeps the first N rows, of the table or of each group; after M skips M rows before.",
    example: "first 3 per farm",
    parse: |text| parse(text, true),
};

pub(super) const LAST: StepKind = StepKind {
    keyword: "last",
    usage: "last N [per COLS]",
    summary: "Keeps the last N rows, of the table or of each group, in input order.",
    example: "last 10",
    parse: |text| parse(text, false),
};

/// `first` and `last`: rows from an end, of the table or of each group, in input order.
#[derive(Clone, Debug, PartialEq)]
pub struct End {
    first: bool,
    count: Count,
    after: Option<Count>,
    per: Vec<ColumnRef>,
}

impl End {
    /// The first rows.
    pub fn first(rows: usize) -> End {
        End { first: true, count: Count::Number(rows), after: None, per: Vec::new() }
    }

    /// The last rows.
    pub fn last(rows: usize) -> End {
        End { first: false, ..End::first(rows) }
    }

    /// Skips so many rows before; not for last rows, nor for those of groups.
    #[must_use]
    pub fn after(self, rows: usize) -> End {
        End { after: Some(Count::Number(rows)), ..self }
    }

    /// So many rows of each group that these columns make.
    #[must_use]
    pub fn per<T: Into<ColumnRef>>(self, columns: impl IntoIterator<Item = T>) -> End {
        End { per: columns::all(columns), ..self }
    }
}

fn parse(text: StepText<'_>, first: bool) -> Result<Step> {
    let end = text.one(|c| {
        let count = Count::read(c)?;
        let after = if first && c.take_word("after") { Some(Count::read(c)?) } else { None };
        let per = match (&after, c.take_word("per")) {
            (_, false) => Vec::new(),
            (None, true) if c.is_symbol_at(0, "(") => c.in_parentheses(Cursor::column_ref)?,
            (None, true) => c.list(Cursor::column_ref)?,
            (Some(_), true) => return Err(c.error("after and per do not go together.")),
        };
        Ok(End { first, count, after, per })
    })?;
    Ok(Step::from(end))
}

impl Check for End {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let source = checker.source.clone();
        let count = self.count.resolved(checker);
        let after = self.after.as_ref().map_or(Some(0), |after| after.resolved(checker));
        let per = checker.kept(columns_of_list(&self.per, &input.fields, &source));
        let (Some(count), Some(after), Some(per)) = (count, after, per) else { return Some(input) };
        let per = per.iter().map(|f| f.id).collect();
        let op = if self.first {
            Op::from(First { count, after, per, is_settled: false })
        } else {
            Last { count, per }.into()
        };
        let step = checker.step();
        Some(input.then(op, step))
    }
}

impl fmt::Display for End {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", if self.first { "first" } else { "last" }, self.count)?;
        if let Some(after) = &self.after {
            write!(f, " after {after}")?;
        }
        if self.per.is_empty() { Ok(()) } else { write!(f, " per {}", comma(&self.per)) }
    }
}
