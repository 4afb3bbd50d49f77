//! `where` and `having`: conditions on rows, and those that join a sub-query.

use churn_core::{ErrorKind, JoinKind, Result, Span};
use churn_expr::ast::{Binary, Expr, Kind, Sense};
use churn_expr::build::column;
use churn_expr::text::joined;
use sqlparser::ast::{Expr as Sql, InTarget, Query, UnaryOperator};

use super::expression::{OUTER, Part, binary, join_key, literal, not, turned, unnested, with_names};
use super::rows::Rows;
use super::subquery::{Correlated, SUB, Sub};
use super::translator::Translator;
use crate::steps::{Filter, Join};

/// A comparison of a column of a sub-query with one of the query around it: `inner op outer`.
#[derive(Clone)]
pub(super) struct Correlation {
    pub(super) inner: Expr,
    pub(super) op: Binary,
    pub(super) outer: Expr,
}

/// One of the conditions that are joined by `and`.
enum Conjunct {
    /// A condition on each row.
    Plain(Expr),
    /// Whether a row matches rows of a sub-query.
    Matches(Box<Match>),
    /// A comparison with the query around this one.
    Correlates(Correlation),
}

/// Rows are kept that match rows of a sub-query, or that match none.
struct Match {
    kind: JoinKind,
    rows: Rows,
    by: Vec<Correlation>,
    span: Span,
}

impl Translator<'_, '_> {
    /// Keeps the rows for which all conditions are true; gives the comparisons with the query around this one.
    pub(super) fn keep(
        &mut self,
        rows: &mut Rows,
        conjuncts: &[&Sql],
        part: &mut Part<'_>,
    ) -> Result<Vec<Correlation>> {
        let (mut plain, mut matches, mut correlations) = (Vec::new(), Vec::new(), Vec::new());
        for sql in conjuncts {
            match self.conjunct(sql, part)? {
                Conjunct::Plain(condition) => plain.push(condition),
                Conjunct::Matches(one) => matches.push(one),
                Conjunct::Correlates(one) => correlations.push(one),
            }
        }
        let lookups = std::mem::take(&mut part.lookups);
        self.look_up(rows, lookups)?;
        self.filter(rows, plain)?;
        for one in matches {
            self.matching(rows, *one)?;
        }
        Ok(correlations)
    }

    /// Keeps the rows for which conditions are true.
    pub(super) fn filter(&mut self, rows: &mut Rows, conditions: Vec<Expr>) -> Result<()> {
        let (Some(first), Some(last)) = (conditions.first(), conditions.last()) else { return Ok(()) };
        let span = first.span.to(last.span);
        let condition = Expr { span, ..joined(Binary::And, conditions) };
        self.push(rows, Filter::new(condition), span)
    }

    fn conjunct(&mut self, sql: &Sql, part: &mut Part<'_>) -> Result<Conjunct> {
        let (mut inner, mut negated) = (unnested(sql), false);
        while let Sql::UnaryOp { op: UnaryOperator::Not, expr } = inner {
            (inner, negated) = (unnested(expr), !negated);
        }
        match inner {
            Sql::Exists { subquery, negated: not_exists } => {
                self.existence(subquery, negated != *not_exists, part)
            }
            Sql::In { expr, target: InTarget::Subquery(query), negated: not_in, .. } => {
                self.membership(expr, query, negated != *not_in, part)
            }
            _ => {
                let condition = self.expression(sql, part)?;
                self.without_aggregates(&condition, part.clause)?;
                self.correlation(condition)
            }
        }
    }

    /// A condition on each row, or a comparison with the query around this one.
    fn correlation(&self, condition: Expr) -> Result<Conjunct> {
        let is_outer = |name: &String| name.starts_with(OUTER);
        let mut names = Vec::new();
        condition.names(&mut names);
        if !names.iter().any(is_outer) {
            return Ok(Conjunct::Plain(condition));
        }
        let span = condition.span;
        let of = |x: &Expr| {
            let mut names = Vec::new();
            x.names(&mut names);
            (names.iter().all(is_outer) && !names.is_empty(), !names.iter().any(is_outer))
        };
        if let Kind::Binary(op, a, b) = condition.kind
            && op.is_comparison()
            && op != Binary::NotEqual
        {
            match (of(&a), of(&b)) {
                ((_, true), (true, _)) => {
                    return Ok(Conjunct::Correlates(Correlation { inner: *a, op, outer: unmarked(&b) }));
                }
                ((true, _), (_, true)) => {
                    return Ok(Conjunct::Correlates(Correlation {
                        inner: *b,
                        op: turned(op),
                        outer: unmarked(&a),
                    }));
                }
                _ => {}
            }
        }
        let what = "A sub-query whose condition mixes its columns with those around it in this way";
        let next = "Compare one expression of its own with one of the query around: where d.farm = f.farm.";
        Err(self.unsupported(what, next, span))
    }

    fn existence(&mut self, query: &Query, negated: bool, part: &mut Part<'_>) -> Result<Conjunct> {
        let span = self.span(query);
        match self.sub(query, part.scope)? {
            Sub::Alone(rows) => {
                let exists = self.any_rows(rows, span)?;
                Ok(Conjunct::Plain(if negated { not(exists) } else { exists }))
            }
            Sub::Correlated(sub) => {
                self.without_values(&sub)?;
                let kind = if negated { JoinKind::Anti } else { JoinKind::Semi };
                let Correlated { rows, by, .. } = sub;
                Ok(Conjunct::Matches(Box::new(Match { kind, rows, by, span })))
            }
        }
    }

    fn membership(&mut self, x: &Sql, query: &Query, negated: bool, part: &mut Part<'_>) -> Result<Conjunct> {
        let span = self.span(x).to(self.span(query));
        if let Sql::Tuple(values) = unnested(x) {
            return self.tuple_membership(values, query, negated, span, part);
        }
        let x = self.expression(x, part)?;
        self.without_aggregates(&x, part.clause)?;
        match self.sub(query, part.scope)? {
            Sub::Alone(rows) => {
                self.only_column(&rows, span)?;
                let table = self.named(rows, SUB);
                let is_in = |sense| Expr::new(Kind::InTable(Box::new(x.clone()), table.clone(), sense), span);
                if !negated {
                    return Ok(Conjunct::Plain(is_in(Sense::Plain)));
                }
                let figures = self.figures(&table, span)?;
                let is_zero = |x: Expr| binary(Binary::Equal, x, literal(0, span));
                let is_outside = joined(Binary::And, vec![is_zero(figures.nulls), is_in(Sense::Not)]);
                Ok(Conjunct::Plain(joined(Binary::Or, vec![is_zero(figures.rows), is_outside])))
            }
            Sub::Correlated(sub) if !negated => {
                let value = self.only_value(&sub, span)?;
                self.without_aggregates(&value, "the select of this sub-query")?;
                let Correlated { rows, mut by, .. } = sub;
                by.push(Correlation { inner: value, op: Binary::Equal, outer: x });
                Ok(Conjunct::Matches(Box::new(Match { kind: JoinKind::Semi, rows, by, span })))
            }
            sub => self.is_among(x, sub, true, span, part).map(Conjunct::Plain),
        }
    }

    /// `(a, b) in (select …)`.
    fn tuple_membership(
        &mut self,
        values: &[Sql],
        query: &Query,
        negated: bool,
        span: Span,
        part: &mut Part<'_>,
    ) -> Result<Conjunct> {
        let Sub::Alone(rows) = self.sub(query, part.scope)? else {
            let next = "Write exists (select * … where …).";
            return Err(self.unsupported(
                "A row of values in a query that compares with the one around it",
                next,
                span,
            ));
        };
        if negated {
            let next = "Write not exists (select * … where …), and say what nulls mean.";
            return Err(self.unsupported("not in with a row of values", next, span));
        }
        if rows.fields().len() != values.len() {
            let what = format!(
                "This sub-query selects {} columns, and {} are compared.",
                rows.fields().len(),
                values.len()
            );
            return Err(self.wrong(ErrorKind::Check, what, span));
        }
        let mut by = Vec::new();
        for (value, inner) in values.iter().zip(rows.names()) {
            let outer = self.expression(value, part)?;
            by.push(Correlation { inner: column(&inner), op: Binary::Equal, outer });
        }
        Ok(Conjunct::Matches(Box::new(Match { kind: JoinKind::Semi, rows, by, span })))
    }

    /// Keeps the rows that match rows of a sub-query, or that match none.
    fn matching(&mut self, rows: &mut Rows, one: Match) -> Result<()> {
        let Match { kind, rows: sub, by, span } = one;
        let mut join = Join::new(self.other(sub, SUB, span), kind);
        for Correlation { inner, op, outer } in by {
            join = join.on(join_key(outer, turned(op), inner));
        }
        self.push(rows, join, span)
    }
}

/// The expression with the columns of the query around as that query calls them.
fn unmarked(expr: &Expr) -> Expr {
    with_names(expr, &|name| name.strip_prefix(OUTER).map(str::to_owned))
}
