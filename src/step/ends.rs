//! `first N` and `last N`: rows from an end, of the table or of each group.

use std::fmt;

use super::{Checker, Step, StepKind, StepText};
use crate::error::{Result, Span};
use crate::expr::ast::ColumnRef;
use crate::expr::expand::columns_of_list;
use crate::plan::{Op, Relation};
use crate::text::{Cursor, comma};

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

#[derive(Debug)]
struct End {
    first: bool,
    count: usize,
    after: usize,
    per: Vec<ColumnRef>,
}

fn parse(text: StepText<'_>, first: bool) -> Result<Box<dyn Step>> {
    let span = text.span;
    let end = text.one(|c| {
        let count = c.count("a number of rows")?;
        let after = if first && c.take_word("after") { c.count("a number of rows")? } else { 0 };
        let per = if after == 0 && c.take_word("per") { read_columns(c, span)? } else { Vec::new() };
        Ok(End { first, count, after, per })
    })?;
    Ok(Box::new(end))
}

/// Reads columns, with or without parentheses.
fn read_columns(c: &mut Cursor<'_>, _: Span) -> Result<Vec<ColumnRef>> {
    if c.is_symbol_at(0, "(") { c.in_parentheses(Cursor::column_ref) } else { c.list(Cursor::column_ref) }
}

impl Step for End {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let source = checker.source.clone();
        let per = checker.kept(columns_of_list(&self.per, &input.fields, &source))?;
        let per = per.iter().map(|f| f.id).collect();
        let (count, after) = (self.count, self.after);
        let op = if self.first { Op::First { count, after, per } } else { Op::Last { count, per } };
        let step = checker.step();
        Some(input.then(op, step))
    }
}

impl fmt::Display for End {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", if self.first { "first" } else { "last" }, self.count)?;
        if self.after > 0 {
            write!(f, " after {}", self.after)?;
        }
        if self.per.is_empty() { Ok(()) } else { write!(f, " per {}", comma(&self.per)) }
    }
}
