//! A whole query: `with`, the rows, their order and their number.

use churn_core::{ErrorKind, Result, Span};
use sqlparser::ast::{Cte, Expr as Sql, LimitClause, Query, SetExpr, TableAlias, UnaryOperator, Value};

use super::expression::unnested;
use super::rows::Rows;
use super::scope::{Column, Scope};
use super::translator::{Translator, WithTable};
use crate::steps::End;

impl Translator<'_, '_> {
    /// Translates a query into rows; `outer` are the names of the query around it.
    pub(super) fn query(&mut self, query: &Query, outer: Option<&Scope<'_>>) -> Result<Rows> {
        churn_core::deep::guarded(|| {
            let depth = self.with.len();
            self.declare_with(query, outer)?;
            let rows = match &*query.body {
                SetExpr::Select(select) => {
                    let opened = self.open(select, outer)?;
                    if let Some(correlation) = opened.by.first() {
                        let what = "A sub-query in from that compares with the query around it";
                        return Err(self.unsupported(
                            what,
                            "Join it by that comparison.",
                            correlation.outer.span,
                        ));
                    }
                    self.finish(Some(query), select, opened)?
                }
                body => {
                    let rows = self.set(body, outer)?;
                    self.ordered(query, rows)?
                }
            };
            self.with.truncate(depth);
            Ok(rows)
        })
    }

    /// Declares the tables of `with`, and refuses what no query of the standard has.
    pub(super) fn declare_with(&mut self, query: &Query, outer: Option<&Scope<'_>>) -> Result<()> {
        let span = self.span(query);
        if !query.locks.is_empty() || query.for_clause.is_some() {
            return Err(self.unsupported("for", "Files are read as they are; nothing is locked.", span));
        }
        if query.settings.is_some() || query.format_clause.is_some() || !query.pipe_operators.is_empty() {
            return Err(self.unsupported("This clause", "", span));
        }
        let Some(with) = &query.with else { return Ok(()) };
        if with.recursive {
            let next = "A query that goes on from its own rows cannot be written as steps.";
            return Err(self.unsupported("with recursive", next, self.places.span(with.with_token.0.span)));
        }
        for Cte { alias, query, .. } in &with.cte_tables {
            let rows = self.query(query, outer)?;
            let columns = self.called(&rows, Some(alias))?;
            let table = self.table(rows, &alias.name.value);
            self.with.push(WithTable { name: alias.name.value.clone(), table, columns });
        }
        Ok(())
    }

    /// The columns of rows by the names that an alias gives them: `as t(a, b)`.
    pub(super) fn called(&self, rows: &Rows, alias: Option<&TableAlias>) -> Result<Vec<Column>> {
        let columns = rows.names();
        let names: Vec<&str> = alias.iter().flat_map(|a| &a.columns).map(|c| c.name.value.as_str()).collect();
        if !names.is_empty() && names.len() != columns.len() {
            let span = alias.map_or_else(Span::default, |alias| self.places.span(alias.name.span));
            let what =
                format!("{} names are given, and the table has {} columns.", names.len(), columns.len());
            return Err(self.wrong(ErrorKind::Check, what, span));
        }
        let name = |i: usize, column: &String| {
            names.get(i).map_or_else(|| column.clone(), |name| (*name).to_owned())
        };
        Ok(columns.iter().enumerate().map(|(i, c)| Column { name: name(i, c), column: c.clone() }).collect())
    }

    /// Keeps the rows of `offset`, `fetch first` and `limit`.
    pub(super) fn limited(&mut self, query: &Query, rows: &mut Rows) -> Result<()> {
        let (mut most, mut after) = (None, None);
        match &query.limit_clause {
            None => {}
            Some(LimitClause::LimitOffset { limit, offset, limit_by }) if limit_by.is_empty() => {
                most = limit.as_ref();
                after = offset.as_ref().map(|offset| &offset.value);
            }
            Some(clause) => {
                let span = self.span(clause);
                return Err(self.unsupported(
                    "This form of limit",
                    "Write offset 5 rows fetch first 10 rows only.",
                    span,
                ));
            }
        }
        if let Some(fetch) = &query.fetch {
            let span = self.span(query);
            if fetch.with_ties {
                return Err(self.unsupported(
                    "with ties",
                    "Select rank() over (order by …) in a sub-query, and keep the first ranks.",
                    span,
                ));
            }
            if fetch.percent {
                return Err(self.unsupported(
                    "fetch first … percent",
                    "Count the rows in a sub-query: where n <= 0.1 * (select count(*) …).",
                    span,
                ));
            }
            if most.is_some() {
                return Err(self.wrong(
                    ErrorKind::Check,
                    "limit and fetch say the same: one of them is enough.",
                    span,
                ));
            }
            let most = match &fetch.quantity {
                Some(quantity) => self.count(quantity)?,
                None => 1,
            };
            return self.first(rows, most, after, span);
        }
        let span = self.span(query);
        match (most, after) {
            (None, None) => Ok(()),
            (None, Some(_)) => self.first(rows, usize::MAX >> 1, after, span),
            (Some(most), after) => {
                let most = self.count(most)?;
                self.first(rows, most, after, span)
            }
        }
    }

    fn first(&mut self, rows: &mut Rows, most: usize, after: Option<&Sql>, span: Span) -> Result<()> {
        let first = End::first(most);
        let first = match after.map(|after| self.count(after)).transpose()? {
            None | Some(0) if most == usize::MAX >> 1 => return Ok(()),
            None | Some(0) => first,
            Some(after) => first.after(after),
        };
        self.push(rows, first, span)
    }

    /// A number of rows.
    fn count(&self, sql: &Sql) -> Result<usize> {
        let wrong = || {
            let error = self.wrong(ErrorKind::Check, "A number of rows is wanted here.", self.span(sql));
            error.next("It is a whole number that is written, not computed.")
        };
        match unnested(sql) {
            Sql::Value(value) => match &value.value {
                Value::Number(digits, _) => digits.replace('_', "").parse().map_err(|_| wrong()),
                _ => Err(wrong()),
            },
            Sql::UnaryOp { op: UnaryOperator::Plus, expr } => self.count(expr),
            _ => Err(wrong()),
        }
    }
}
