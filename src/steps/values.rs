//! `values NAME, …` and rows of literals: a small table typed in place.

use std::fmt;
use std::sync::Arc;

use churn_core::names::{comma, name};
use churn_core::readable::plural;
use churn_core::scalar::array_of;
use churn_core::{Batch, Error, ErrorKind, Field, Position, Result, Scalar, Type};
use churn_expr::ast::{Expr, Kind};
use churn_expr::expand::Environment;
use churn_expr::text::{Cursor, expression};
use churn_io::memory::Memory;
use churn_io::source::SourceColumn;
use churn_plan::operators::Scan;
use churn_plan::{Node, Relation};

use super::{Check, Checker, Step, StepKind, StepText};

pub(super) const KIND: StepKind = StepKind {
    keyword: "values",
    usage: "values NAME, … + rows of literals",
    summary: "Makes a small table typed in place, one row a line, or rows in parentheses.",
    example: "values grade, per_litre: ('A', 0.05), ('B', 0.02)",
    parse,
};

/// `values`: a small table typed in place.
///
/// ```
/// use churn::{lit, steps};
/// let prices = steps::Values::new(["grade", "per_litre"]).row([lit("A"), lit(0.05)]).row([lit("it's"), lit(None::<f64>)]);
/// assert_eq!(prices.to_string(), "values grade, per_litre\n  'A', 0.05\n  'it''s', null");
/// ```
#[derive(Clone, Debug, PartialEq)]
pub struct Values {
    names: Vec<(String, Position)>,
    rows: Vec<(Vec<Expr>, Position)>,
}

fn parse(text: StepText<'_>) -> Result<Step> {
    let StepText { mut head, lines, .. } = text;
    let names = head.list(|c| c.name("a column's name"))?;
    let mut rows = Vec::new();
    if head.take_symbol(":") {
        rows = head.list(read_row)?;
    }
    head.expect_end()?;
    for mut line in lines {
        // A row in parentheses may stand on a line of its own, too.
        let start = line.span();
        let whole = line.clone();
        let row =
            if line.is_symbol_at(0, "(") { read_row(&mut line).ok().filter(|_| line.at_end()) } else { None };
        match row {
            Some(row) => rows.push(row),
            None => {
                line = whole;
                let cells = line.list(expression)?;
                line.expect_end()?;
                rows.push((cells, line.since(start)));
            }
        }
    }
    Ok(Step::from(Values { names, rows }))
}

fn read_row(c: &mut Cursor<'_>) -> Result<(Vec<Expr>, Position)> {
    let start = c.span();
    let cells = c.in_parentheses(expression)?;
    Ok((cells, c.since(start)))
}

impl Values {
    /// A table with these columns and no rows yet.
    pub fn new<T: Into<String>>(names: impl IntoIterator<Item = T>) -> Values {
        let names = names.into_iter().map(|name| (name.into(), Position::default())).collect();
        Values { names, rows: Vec::new() }
    }

    /// Adds a row of literals.
    #[must_use]
    pub fn row<T: Into<Expr>>(mut self, cells: impl IntoIterator<Item = T>) -> Values {
        self.rows.push((cells.into_iter().map(Into::into).collect(), Position::default()));
        self
    }

    /// The cells as values, each row as long as the heading.
    fn scalars(&self, environment: &Environment, checker: &mut Checker<'_>) -> Vec<Vec<Scalar>> {
        let mut table = Vec::new();
        for (cells, span) in &self.rows {
            if cells.len() != self.names.len() {
                let (cells, columns) = (cells.len() as u64, self.names.len() as u64);
                let what =
                    format!("This row has {} for {}.", plural(cells, "value"), plural(columns, "column"));
                checker.wrong(*span, Error::new(ErrorKind::Check, what));
                continue;
            }
            let mut row = Vec::new();
            for cell in cells {
                let source = checker.source.clone();
                let value = match &cell.kind {
                    Kind::Parameter(p) => checker.kept(environment.given(p, &source, cell.span)),
                    _ => churn_expr::fold::literal(cell),
                };
                row.push(value.unwrap_or_else(|| {
                    let error = Error::new(ErrorKind::Check, "A table typed in place holds literals.");
                    checker.wrong(
                        cell.span,
                        error.next("Compute columns in an add step after it; texts stand in single quotes."),
                    );
                    Scalar::Null
                }));
            }
            table.push(row);
        }
        table
    }
}

impl Check for Values {
    fn check(&self, _: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let environment = checker.environment.clone();
        let table = self.scalars(&environment, checker);
        let mut fields = Vec::new();
        let mut columns = Vec::new();
        let mut arrays = Vec::new();
        for (i, (column, span)) in self.names.iter().enumerate() {
            if self.names.iter().take(i).any(|(n, _)| n == column) {
                let what = format!("Two columns are called {}.", name(column));
                checker.wrong(*span, Error::new(ErrorKind::Name, what));
            }
            let mut kind = Type::Null;
            for (row, (_, row_span)) in table.iter().zip(&self.rows) {
                let Some(value) = row.get(i) else { continue };
                match kind.common_type(&value.kind()) {
                    Some(united) => kind = united,
                    None => {
                        let what = format!("{} holds {kind} and {} values.", name(column), value.kind());
                        checker.wrong(*row_span, Error::new(ErrorKind::Type, what));
                    }
                }
            }
            let kind = if kind == Type::Null { Type::Text } else { kind };
            let cells: Vec<Scalar> = table
                .iter()
                .filter_map(|row| row.get(i))
                .map(|v| churn_expr::converted(v, &kind).unwrap_or(Scalar::Null))
                .collect();
            arrays.push(array_of(&cells.iter().collect::<Vec<_>>(), &kind));
            columns.push(SourceColumn { name: column.clone(), data: kind.arrow(), open: false });
            fields.push(Field::new(checker.ids.fresh(), column, kind));
        }
        let batch = Batch { columns: arrays, rows: table.len() };
        let scan = Scan {
            source: Arc::new(Memory::new(columns, vec![batch])),
            columns: fields.iter().cloned().enumerate().collect(),
            conditions: Vec::new(),
            limit: None,
            rejects: None,
        };
        let step = checker.step();
        Some(Relation { node: Node::source(scan, step), fields })
    }

    fn starts(&self) -> bool {
        true
    }
}

impl fmt::Display for Values {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "values {}", comma(self.names.iter().map(|(n, _)| name(n))))?;
        self.rows.iter().try_for_each(|(cells, _)| write!(f, "\n  {}", comma(cells)))
    }
}
