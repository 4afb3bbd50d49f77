//! `union`, `intersect`, `except` and `values`.

use churn_core::{ErrorKind, Result, Span};
use churn_expr::ast::{Binary, Expr, Kind};
use churn_expr::build::column;
use churn_expr::text::joined;
use sqlparser::ast::{
    Expr as Sql, SetExpr, SetOperator, SetQuantifier, Spanned, UnaryOperator, Values as Written,
};

use super::expression::{Part, binary, call, item, literal, unnested};
use super::rows::Rows;
use super::scope::Scope;
use super::translator::Translator;
use crate::steps::{Add, Append, Distinct, Drop, Filter, Group, Item, ReadTable, Select, Values, Window};

impl Translator<'_, '_> {
    /// Translates what a query is made of where that is no single `select`.
    pub(super) fn set(&mut self, set: &SetExpr, outer: Option<&Scope<'_>>) -> Result<Rows> {
        churn_core::deep::guarded(|| match set {
            SetExpr::Select(select) => {
                let opened = self.open(select, outer)?;
                if let Some(by) = opened.by.first() {
                    let what = "A column of the query around, in one of several sets of rows,";
                    return Err(self.unsupported(what, "Join the set by that comparison.", by.outer.span));
                }
                // A set has no order and no number of rows of its own.
                self.finish(None, select, opened)
            }
            SetExpr::Query(query) => self.query(query, outer),
            SetExpr::Values(values) => self.values(values),
            SetExpr::SetOperation { left, op, set_quantifier, right } => {
                let (a, b) = (self.set(left, outer)?, self.set(right, outer)?);
                self.operation_of_sets(a, b, *op, *set_quantifier, right.span())
            }
            SetExpr::Table(_) => {
                Err(self.unsupported("table NAME as a query", "Write select * from NAME.", self.span(set)))
            }
            _ => Err(self.unsupported(
                "A statement that changes data",
                "Select what is wanted.",
                self.span(set),
            )),
        })
    }

    fn operation_of_sets(
        &mut self,
        mut a: Rows,
        mut b: Rows,
        op: SetOperator,
        quantifier: SetQuantifier,
        at: sqlparser::tokenizer::Span,
    ) -> Result<Rows> {
        let span = self.places.span(at);
        let all = match quantifier {
            SetQuantifier::All => true,
            SetQuantifier::None | SetQuantifier::Distinct => false,
            _ => return Err(self.unsupported("by name", "Columns are matched by their places.", span)),
        };
        self.like_the_first(&a, &mut b, span)?;
        match op {
            SetOperator::Union => {
                let below = ReadTable::at(&self.named(b, "below"), span);
                self.push(&mut a, Append::new(below), span)?;
                if !all {
                    self.push(&mut a, Distinct::by(Vec::<String>::new()), span)?;
                }
                Ok(a)
            }
            SetOperator::Intersect => self.counted(a, b, all, true, span),
            SetOperator::Except => self.counted(a, b, all, false, span),
            SetOperator::Minus => Err(self.unsupported("minus", "Write except.", span)),
        }
    }

    /// Gives the columns of a second set the names of the first one's.
    fn like_the_first(&mut self, a: &Rows, b: &mut Rows, span: Span) -> Result<()> {
        let (first, second) = (a.names(), b.names());
        if first.len() != second.len() {
            let what = format!("The sets have {} and {} columns.", first.len(), second.len());
            return Err(self.wrong(ErrorKind::Check, what, span));
        }
        if first == second {
            return Ok(());
        }
        let items = first.iter().zip(&second).map(|(name, own)| item(column(own), name));
        self.push(b, Select::new(items.collect::<Vec<_>>()), span)
    }

    /// The rows that both sets have, or only the first; with `all` as often as there are more of them.
    fn counted(&mut self, mut a: Rows, mut b: Rows, all: bool, in_both: bool, span: Span) -> Result<Rows> {
        let names = a.names();
        let mut keys = names.clone();
        if all {
            let copy = self.fresh("copy");
            for rows in [&mut a, &mut b] {
                let number = Item::from(call("row_number", Vec::new(), span).named(&copy));
                self.push(rows, Window::new([number]).by(names.iter().map(String::as_str)), span)?;
            }
            keys.push(copy);
        }
        let (first, second) = (self.fresh("first"), self.fresh("second"));
        for (rows, is_first) in [(&mut a, true), (&mut b, false)] {
            let mark = |name: &str, is_here: bool| Item::from(literal(i64::from(is_here), span).named(name));
            self.push(rows, Add::new([mark(&first, is_first), mark(&second, !is_first)]), span)?;
        }
        let below = ReadTable::at(&self.named(b, "below"), span);
        self.push(&mut a, Append::new(below), span)?;
        let sum = |name: &str| Item::from(call("sum", vec![column(name)], span).named(name));
        let group = Group::by(keys.iter().map(String::as_str)).items([sum(&first), sum(&second)]);
        self.push(&mut a, group, span)?;
        let is_there = |name: &str| binary(Binary::Greater, column(name), literal(0, span));
        let is_missing = |name: &str| binary(Binary::Equal, column(name), literal(0, span));
        let other = if in_both { is_there(&second) } else { is_missing(&second) };
        self.push(&mut a, Filter::new(joined(Binary::And, vec![is_there(&first), other])), span)?;
        let gone = keys.iter().skip(names.len()).chain([&first, &second]);
        self.push(&mut a, Drop::new(gone.map(String::as_str)), span)?;
        Ok(a)
    }

    /// `values (1, 'a'), (2, 'b')`.
    fn values(&mut self, written: &Written) -> Result<Rows> {
        let span = self.span(written);
        let columns = written.rows.first().map_or(0, |row| row.content.len());
        let mut values = Values::new((1..=columns).map(|n| format!("column_{n}")));
        let scope = Scope::default();
        let mut part = Part::new(&scope, "values");
        for row in &written.rows {
            if row.content.len() != columns {
                let what =
                    format!("This row has {} values, and the first one has {columns}.", row.content.len());
                let at = row.content.first().map_or(span, |first| self.span(first));
                return Err(self.wrong(ErrorKind::Check, what, at));
            }
            let cells: Result<Vec<Expr>> =
                row.content.iter().map(|cell| self.cell(cell, &mut part)).collect();
            values = values.row(cells?);
        }
        self.start(values, None, span)
    }

    /// A literal in a row of values.
    fn cell(&mut self, sql: &Sql, part: &mut Part<'_>) -> Result<Expr> {
        let is_number = |x: &Sql| matches!(unnested(x), Sql::Value(_));
        match unnested(sql) {
            Sql::Value(_) | Sql::TypedString(_) => self.expression(sql, part),
            Sql::UnaryOp { op: UnaryOperator::Minus, expr } if is_number(expr) => {
                let value = self.expression(expr, part)?;
                Ok(match value.kind {
                    Kind::Literal(churn_core::Scalar::Int(n)) => literal(-n, value.span),
                    Kind::Literal(churn_core::Scalar::Float(x)) => literal(-x, value.span),
                    _ => return Err(self.wrong(ErrorKind::Type, "Only a number has a sign.", value.span)),
                })
            }
            _ => {
                let next = "Write it in a select of its own: select 1 + 1 union all select …";
                Err(self.unsupported("A value that is computed, among values,", next, self.span(sql)))
            }
        }
    }
}
