//! `fill COLS with EXPR, …` and `fill COLS down|up [by COLS]`: missing values replaced.

use std::fmt;

use churn_core::names::comma;
use churn_core::{Error, ErrorKind, Field, Result, Scalar, Type};
use churn_expr::ast::{ColumnRef, Expr, Kind};
use churn_expr::bind::Beside;
use churn_expr::expand::columns_of_list;
use churn_expr::functions::Arguments;
use churn_expr::text::{Cursor, expression};
use churn_expr::windows::{Frame, Task};
use churn_expr::{Bound, aggregates};
use churn_plan::Relation;
use churn_plan::operators::{Call, Compute, Window};

use super::columns;
use super::{Check, Checker, Step, StepKind};

pub(super) const KIND: StepKind = StepKind {
    keyword: "fill",
    usage: "fill COLS with EXPR, … | fill COLS down [by COLS] | fill COLS up [by COLS]",
    summary: "Replaces missing values: by an expression, which may be an aggregate, or by the last (down) or next (up) value.",
    example: "fill protein with mean(protein) per grade",
    parse: |text| text.one(read),
};

/// `fill … with …`: missing values replaced, each list of columns by its own expression, which may be an aggregate.
#[derive(Clone, Debug, PartialEq)]
pub struct Fill(Vec<FillItem>);

#[derive(Clone, Debug, PartialEq)]
struct FillItem {
    columns: Vec<ColumnRef>,
    with: Expr,
}

/// `fill … down` and `fill … up`: missing values take those of the rows around.
#[derive(Clone, Debug, PartialEq)]
pub struct Carry {
    columns: Vec<ColumnRef>,
    up: bool,
    by: Vec<ColumnRef>,
}

impl Fill {
    /// Fills these columns with a value.
    pub fn new<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>, with: impl Into<Expr>) -> Fill {
        Fill(Vec::new()).and(columns, with)
    }

    /// Fills these columns, too, with a value of theirs.
    #[must_use]
    pub fn and<T: Into<ColumnRef>>(
        mut self,
        columns: impl IntoIterator<Item = T>,
        with: impl Into<Expr>,
    ) -> Fill {
        let columns = columns::all(columns);
        self.0.push(FillItem { columns, with: with.into() });
        self
    }
}

impl Carry {
    /// Fills these columns with the last value before.
    pub fn down<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>) -> Carry {
        Carry { columns: columns::all(columns), up: false, by: Vec::new() }
    }

    /// Fills these columns with the next value after.
    pub fn up<T: Into<ColumnRef>>(columns: impl IntoIterator<Item = T>) -> Carry {
        Carry { up: true, ..Carry::down(columns) }
    }

    /// Within each group that these columns make.
    #[must_use]
    pub fn by<T: Into<ColumnRef>>(self, columns: impl IntoIterator<Item = T>) -> Carry {
        Carry { by: columns::all(columns), ..self }
    }
}

fn read(c: &mut Cursor<'_>) -> Result<Step> {
    let columns = c.list(Cursor::column_ref)?;
    let up = c.take_word("up");
    if up || c.take_word("down") {
        let by = if c.take_word("by") { c.list(Cursor::column_ref)? } else { Vec::new() };
        return Ok(Step::from(Carry { columns, up, by }));
    }
    c.expect_word("with", "and what missing values become; or down, or up")?;
    let mut items = vec![FillItem { columns, with: expression(c)? }];
    while c.take_symbol(",") {
        let columns = c.list(Cursor::column_ref)?;
        c.expect_word("with", "and what missing values become")?;
        items.push(FillItem { columns, with: expression(c)? });
    }
    Ok(Step::from(Fill(items)))
}

impl Check for Carry {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let input = input?;
        let source = checker.source.clone();
        let step = checker.step();
        let columns = checker.kept(columns_of_list(&self.columns, &input.fields, &source))?;
        let columns: Vec<Field> = columns.into_iter().cloned().collect();
        let by = checker.kept(columns_of_list(&self.by, &input.fields, &source))?;
        let by = by.iter().map(|f| f.id).collect();
        // The last value of the rows so far, and the first of those from here; both skip nulls.
        let (aggregate, frame) = if self.up {
            ("first", Frame::Rows(Some(0), None))
        } else {
            ("last", Frame::Rows(None, Some(0)))
        };
        let mut calls = Vec::new();
        let mut fields = input.fields.clone();
        for column in &columns {
            let args = Arguments { name: aggregate, usage: aggregate, values: vec![Bound::column(column)] };
            let made = aggregates::find(aggregate).and_then(|found| (found.bind)(args).ok())?;
            let field = Field::new(checker.ids.fresh(), &column.name, column.kind.clone());
            if let Some(slot) = fields.iter_mut().find(|f| f.name == column.name) {
                *slot = field.clone();
            }
            let task = Task::Aggregate(made);
            calls.push(Call { field, task, args: vec![column.id], only: None, frame: frame.clone() });
        }
        let relation = input.then(Window { by, order: Vec::new(), calls, unread: Vec::new() }, step);
        Some(Relation { fields, ..relation })
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Carry {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "fill {} {}", comma(&self.columns), if self.up { "up" } else { "down" })?;
        if self.by.is_empty() { Ok(()) } else { write!(f, " by {}", comma(&self.by)) }
    }
}

/// A bare aggregate in `fill` is of the whole table.
fn over_table(expr: &Expr) -> Expr {
    use churn_expr::aggregates::find;
    match &expr.kind {
        Kind::Call(function, _) if find(function).is_some() => {
            Expr::new(Kind::Per(Box::new(expr.clone()), churn_expr::ast::Keys::Table), expr.span)
        }
        Kind::Where(..) => {
            Expr::new(Kind::Per(Box::new(expr.clone()), churn_expr::ast::Keys::Table), expr.span)
        }
        Kind::Per(..) => expr.clone(),
        _ => expr.map_parts(&mut over_table),
    }
}

/// The expression with `each` standing for the column that is filled.
fn from_itself(expr: &Expr, column: &str) -> Expr {
    match &expr.kind {
        Kind::Each(_) => Expr::new(Kind::Name(column.to_owned()), expr.span),
        _ => expr.map_parts(&mut |part| from_itself(part, column)),
    }
}

impl Check for Fill {
    fn check(&self, input: Option<Relation>, checker: &mut Checker<'_>) -> Option<Relation> {
        let mut relation = input?;
        let source = checker.source.clone();
        let step = checker.step();
        let fields = relation.fields.clone();
        let mut filled: Vec<(&Field, &Expr)> = Vec::new();
        for FillItem { columns, with } in &self.0 {
            for column in checker.kept(columns_of_list(columns, &fields, &source))? {
                if filled.iter().any(|(other, _)| other.id == column.id) {
                    let what = format!("{} is filled twice.", churn_core::names::name(&column.name));
                    let next = "Where the first value may be null, write fill … with coalesce(a, b).";
                    checker.wrong(with.span, Error::new(ErrorKind::Check, what).next(next));
                    return None;
                }
                filled.push((column, with));
            }
        }
        let mut beside = Beside::default();
        let mut computed = Vec::new();
        for (column, own) in filled {
            let with = from_itself(&over_table(own), &column.name);
            let with_bound = checker.row_expression(&with, &fields, &mut beside);
            // A text literal beside a date is read as one, below.
            let is_text = matches!(with_bound.as_literal(), Some(Scalar::Text(_)));
            let read_as_date = is_text && column.kind.is_temporal();
            let with_type = with_bound.kind;
            if with_type == Type::Unknown {
                continue;
            }
            if !read_as_date && column.kind.common_type(&with_type).is_none() {
                let what = format!(
                    "{} is {}, and it would be filled with {with_type}.",
                    churn_core::names::name(&column.name),
                    column.kind
                );
                checker.wrong(own.span, Error::new(ErrorKind::Type, what));
                continue;
            }
            let itself = Expr::new(Kind::Name(column.name.clone()), own.span);
            let filled = Expr::new(Kind::Call("coalesce".into(), vec![itself, with]), own.span);
            let bound = checker.row_expression(&filled, &fields, &mut beside);
            let kind = if bound.kind == Type::Unknown { column.kind.clone() } else { bound.kind.clone() };
            let field = Field::new(checker.ids.fresh(), &column.name, kind);
            relation.put(field.clone());
            computed.push((field, bound));
        }
        let fields = relation.fields.clone();
        let relation = checker.with_beside(relation, beside).then(Compute { columns: computed }, step);
        Some(Relation { fields, ..relation })
    }

    fn keeps_rows(&self) -> bool {
        true
    }
}

impl fmt::Display for Fill {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "fill {}", comma(&self.0))
    }
}

impl fmt::Display for FillItem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} with {}", comma(&self.columns), self.with)
    }
}
