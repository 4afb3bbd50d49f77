//! Sub-queries in expressions, as tables that are looked at or joined.
//!
//! One that names no column of the query around it is a table of its own: its value, or whether a value is in it. One that
//! compares its columns with those of the query around it is joined by these comparisons. Nulls mean what the standard says:
//! where a value is not found, and could be one of the nulls, the answer is unknown.

use churn_core::{ErrorKind, Result, Span};
use churn_expr::ast::{Binary, Expr, Kind, Sense};
use churn_expr::build::{column, table_value};
use churn_expr::text::joined;
use sqlparser::ast::{Expr as Sql, Query, Select, SelectItem, SetExpr};

use super::calls::is_there;
use super::condition::Correlation;
use super::expression::{Lookup, Part, binary, call, choice, column_at, is_null, item, literal, not, null};
use super::grouping::Groups;
use super::rows::Rows;
use super::scope::Scope;
use super::translator::Translator;
use crate::steps::{End, Group, Item, Require, Select as SelectStep};

/// What a sub-query is called among the tables of a recipe.
pub(super) const SUB: &str = "sub";

/// A sub-query, its `from` and `where` translated.
pub(super) enum Sub<'q, 's> {
    /// One that stands alone: its rows.
    Alone(Rows),
    /// One that compares its rows with those around it.
    Correlated(Correlated<'q, 's>),
}

/// A sub-query that compares its rows with those of the query around it.
pub(super) struct Correlated<'q, 's> {
    pub(super) select: &'q Select,
    pub(super) rows: Rows,
    pub(super) scope: Scope<'s>,
    pub(super) by: Vec<Correlation>,
}

/// The rows, the nulls and the bounds of a table of one column.
pub(super) struct Figures {
    pub(super) rows: Expr,
    pub(super) nulls: Expr,
    low: Expr,
    high: Expr,
}

impl Translator<'_, '_> {
    /// Translates a sub-query as far as it must be to know whether it stands alone.
    pub(super) fn sub<'q, 's>(&mut self, query: &'q Query, outer: &'s Scope<'s>) -> Result<Sub<'q, 's>> {
        let SetExpr::Select(select) = &*query.body else {
            return self.query(query, Some(outer)).map(Sub::Alone);
        };
        let depth = self.with.len();
        self.declare_with(query, Some(outer))?;
        let opened = self.open(select, Some(outer))?;
        let sub = if opened.by.is_empty() {
            self.finish(Some(query), select, opened).map(Sub::Alone)
        } else {
            let is_plain = query.limit_clause.is_none() && query.fetch.is_none();
            if !is_plain || !self.is_ungrouped(select) {
                let what =
                    "A sub-query with groups or a number of rows that also compares with the query around it";
                return Err(self.unsupported(
                    what,
                    "Join its groups: join (select …) s on s.farm = d.farm.",
                    self.span(query),
                ));
            }
            Ok(Sub::Correlated(Correlated { select, rows: opened.rows, scope: opened.scope, by: opened.by }))
        };
        self.with.truncate(depth);
        sub
    }

    /// `exists (…)` as a condition that is true or false.
    pub(super) fn exists(&mut self, query: &Query, span: Span, part: &mut Part<'_>) -> Result<Expr> {
        match self.sub(query, part.scope)? {
            Sub::Alone(rows) => self.any_rows(rows, span),
            Sub::Correlated(sub) => {
                self.without_values(&sub)?;
                let mut sub = sub;
                let keys = self.equal_keys(&mut sub, span)?;
                let found = self.fresh("found");
                let mark = Item::from(call("count", Vec::new(), span).named(&found));
                self.look_up_groups(sub.rows, keys, vec![mark], span, part)?;
                Ok(is_there(column(&found)))
            }
        }
    }

    /// Whether there are any rows.
    pub(super) fn any_rows(&mut self, mut rows: Rows, span: Span) -> Result<Expr> {
        self.push(&mut rows, End::first(1), span)?;
        let count = Item::from(call("count", Vec::new(), span).named("rows"));
        self.push(&mut rows, Group::total().items([count]), span)?;
        let table = self.table(rows, SUB);
        Ok(binary(Binary::Greater, Expr { span, ..table_value(&table, "rows") }, literal(0, span)))
    }

    /// Joins a row for each value of the keys, with aggregates beside them, when the clause is worked out.
    fn look_up_groups(
        &mut self,
        mut rows: Rows,
        keys: Vec<(Expr, Expr)>,
        items: Vec<Item>,
        span: Span,
        part: &mut Part<'_>,
    ) -> Result<()> {
        let (by, on) = self.key_columns(keys);
        self.push(&mut rows, Group::by(by).items(items), span)?;
        let other = self.other(rows, SUB, span);
        part.lookups.push(Lookup { other, keys: on, expects_one: false, span });
        Ok(())
    }

    /// The columns of a sub-query's keys, and what they are joined by. A column that is called alike on both sides keeps its name.
    fn key_columns(&mut self, keys: Vec<(Expr, Expr)>) -> (Vec<Item>, Vec<(Expr, String)>) {
        let mut columns = Vec::new();
        let mut on: Vec<(Expr, String)> = Vec::new();
        for (outer, inner) in keys {
            let shared = match (&outer.kind, &inner.kind) {
                (Kind::Name(outer), Kind::Name(inner)) if outer == inner => Some(outer.clone()),
                _ => None,
            };
            let name = shared.filter(|name| !on.iter().any(|(_, known)| known == name));
            let name = name.unwrap_or_else(|| self.fresh("key"));
            columns.push(item(inner, &name));
            on.push((outer, name));
        }
        (columns, on)
    }

    /// The keys of a correlated sub-query: the expression around it, and its own. All of them are equalities.
    fn equal_keys(&mut self, sub: &mut Correlated<'_, '_>, span: Span) -> Result<Vec<(Expr, Expr)>> {
        let mut keys = Vec::new();
        for Correlation { inner, op, outer } in std::mem::take(&mut sub.by) {
            if op != Binary::Equal {
                let what =
                    "A sub-query in this place that compares with the query around it otherwise than by =";
                return Err(self.unsupported(what, "As a condition of its own, behind where, it can.", span));
            }
            keys.push((outer, inner));
        }
        Ok(keys)
    }

    /// Refuses a sub-query of `exists` that has a row whatever it finds.
    pub(super) fn without_values(&mut self, sub: &Correlated<'_, '_>) -> Result<()> {
        let mut part = Part::new(&sub.scope, "select");
        for item in &sub.select.projection {
            if let SelectItem::UnnamedExpr(x) | SelectItem::ExprWithAlias { expr: x, .. } = item {
                let value = self.expression(x, &mut part)?;
                if self.checker.environment.has_aggregate(&value) {
                    let what = "exists of an aggregate, which has a row whatever it finds,";
                    return Err(self.unsupported(what, "Select * in its place.", value.span));
                }
            }
        }
        Ok(())
    }

    /// The only expression that a correlated sub-query selects.
    pub(super) fn only_value(&mut self, sub: &Correlated<'_, '_>, span: Span) -> Result<Expr> {
        let [SelectItem::UnnamedExpr(x) | SelectItem::ExprWithAlias { expr: x, .. }] =
            sub.select.projection.as_slice()
        else {
            return Err(self.wrong(ErrorKind::Check, "This sub-query must select one expression.", span));
        };
        let mut part = Part::new(&sub.scope, "select");
        let value = self.expression(x, &mut part)?;
        if !part.lookups.is_empty() {
            return Err(self.unsupported(
                "A sub-query in the select of a sub-query",
                "Join it in from.",
                value.span,
            ));
        }
        Ok(value)
    }

    /// The only column of a sub-query.
    pub(super) fn only_column(&self, rows: &Rows, span: Span) -> Result<String> {
        match rows.fields() {
            [only] => Ok(only.name.clone()),
            several => {
                let what = format!("This sub-query selects {} columns, and one is wanted.", several.len());
                Err(self.wrong(ErrorKind::Check, what, span))
            }
        }
    }

    /// `x in (select …)`: unknown where x is not found and x or one of the values is null.
    pub(super) fn in_subquery(
        &mut self,
        x: &Sql,
        query: &Query,
        negated: bool,
        span: Span,
        part: &mut Part<'_>,
    ) -> Result<Expr> {
        let x = self.expression(x, part)?;
        let sub = self.sub(query, part.scope)?;
        self.is_among(x, sub, negated, span, part)
    }

    /// Whether a value is among those of a sub-query.
    pub(super) fn is_among(
        &mut self,
        x: Expr,
        sub: Sub<'_, '_>,
        negated: bool,
        span: Span,
        part: &mut Part<'_>,
    ) -> Result<Expr> {
        let (is_empty, is_in, has_nulls) = match sub {
            Sub::Alone(rows) => {
                self.only_column(&rows, span)?;
                let table = self.named(rows, SUB);
                let figures = self.figures(&table, span)?;
                let is_in = Expr::new(Kind::InTable(Box::new(x.clone()), table, Sense::Plain), span);
                (is_none(figures.rows, span), is_in, binary(Binary::Greater, figures.nulls, literal(0, span)))
            }
            Sub::Correlated(mut sub) => {
                let value = self.only_value(&sub, span)?;
                self.without_aggregates(&value, "the select of this sub-query")?;
                let keys = self.equal_keys(&mut sub, span)?;
                let [found, rows, nulls] = ["found", "rows", "nulls"].map(|name| self.fresh(name));
                let count = |name: &str| Item::from(call("count", Vec::new(), span).named(name));
                let only = Kind::Where(
                    Box::new(call("count", Vec::new(), span)),
                    Box::new(is_null(value.clone(), Sense::Plain)),
                );
                let all = self.named(sub.rows, SUB);
                let of_all = self.start_from(&all, span)?;
                let null_count = Item::from(Expr::new(only, span).named(&nulls));
                self.look_up_groups(of_all, keys.clone(), vec![count(&rows), null_count], span, part)?;
                let of_equal = self.start_from(&all, span)?;
                let with_value = keys.into_iter().chain([(x.clone(), value)]).collect();
                self.look_up_groups(of_equal, with_value, vec![count(&found)], span, part)?;
                (
                    is_null(column(&rows), Sense::Plain),
                    is_there(column(&found)),
                    binary(Binary::Greater, column(&nulls), literal(0, span)),
                )
            }
        };
        let is_open = joined(Binary::Or, vec![is_null(x, Sense::Plain), has_nulls]);
        let arms =
            vec![(is_empty, literal(negated, span)), (is_in, literal(!negated, span)), (is_open, null(span))];
        Ok(choice(arms, literal(negated, span), span))
    }

    /// The figures of a table of one column.
    pub(super) fn figures(&mut self, table: &str, span: Span) -> Result<Figures> {
        let mut rows = self.start_from(table, span)?;
        let name = self.only_column(&rows, span)?;
        let count = || call("count", Vec::new(), span);
        let nulls = Kind::Where(Box::new(count()), Box::new(is_null(column(&name), Sense::Plain)));
        let has_order = rows.field(&name).is_some_and(|field| field.kind.has_order());
        let mut items = vec![count().named("rows"), Expr::new(nulls, span).named("nulls")];
        if has_order {
            items.push(call("min", vec![column(&name)], span).named("low"));
            items.push(call("max", vec![column(&name)], span).named("high"));
        }
        self.push(&mut rows, Group::total().items(items.into_iter().map(Item::from)), span)?;
        let table = self.table(rows, &format!("{table}_figures"));
        let value = |name: &str| Expr { span, ..table_value(&table, name) };
        Ok(Figures { rows: value("rows"), nulls: value("nulls"), low: value("low"), high: value("high") })
    }

    /// `x > any (select …)` and `x > all (select …)`: what is true of the lowest or the highest value.
    pub(super) fn compared_with_all(
        &mut self,
        x: &Sql,
        op: Binary,
        query: &Query,
        any: bool,
        span: Span,
        part: &mut Part<'_>,
    ) -> Result<Expr> {
        let x = self.expression(x, part)?;
        let Sub::Alone(rows) = self.sub(query, part.scope)? else {
            let next = "Compare with the lowest or the highest value: x > (select max(…) …).";
            return Err(self.unsupported(
                "any or all of a sub-query that compares with the query around it",
                next,
                span,
            ));
        };
        self.only_column(&rows, span)?;
        let table = self.named(rows, SUB);
        let Figures { rows, nulls, low, high } = self.figures(&table, span)?;
        let compared = |bound: Expr| binary(op, x.clone(), bound);
        let decides =
            match (op, any) {
                (Binary::Greater | Binary::GreaterEqual, true)
                | (Binary::Less | Binary::LessEqual, false) => compared(low),
                (Binary::Less | Binary::LessEqual, true)
                | (Binary::Greater | Binary::GreaterEqual, false) => compared(high),
                (_, true) => joined(Binary::Or, vec![compared(low), compared(high)]),
                (_, false) => joined(Binary::And, vec![compared(low), compared(high)]),
            };
        let decided = if any { decides } else { not(decides) };
        let is_open = joined(
            Binary::Or,
            vec![is_null(x.clone(), Sense::Plain), binary(Binary::Greater, nulls, literal(0, span))],
        );
        let arms = vec![
            (is_none(rows, span), literal(!any, span)),
            (decided, literal(any, span)),
            (is_open, null(span)),
        ];
        Ok(choice(arms, literal(!any, span), span))
    }

    /// A query as one value: null where it has no row, an error of the run where it has several.
    pub(super) fn scalar_subquery(&mut self, query: &Query, span: Span, part: &mut Part<'_>) -> Result<Expr> {
        match self.sub(query, part.scope)? {
            Sub::Alone(mut rows) => {
                let name = self.only_column(&rows, span)?;
                if rows.is_single {
                    let table = self.table(rows, SUB);
                    return Ok(Expr { span, ..table_value(&table, &name) });
                }
                let items = [
                    Item::from(call("count", Vec::new(), span).named("rows")),
                    Item::from(call("first", vec![column(&name)], span).named("value")),
                ];
                self.push(&mut rows, Group::total().items(items), span)?;
                let is_one = binary(Binary::LessEqual, column("rows"), literal(1, span));
                let message = "The sub-query gives several rows, and one value is wanted.";
                self.push(&mut rows, Require::new(is_one).message(message), span)?;
                let table = self.table(rows, SUB);
                Ok(Expr { span, ..table_value(&table, "value") })
            }
            Sub::Correlated(sub) => self.correlated_value(sub, span, part),
        }
    }

    fn correlated_value(
        &mut self,
        mut sub: Correlated<'_, '_>,
        span: Span,
        part: &mut Part<'_>,
    ) -> Result<Expr> {
        let value = self.only_value(&sub, span)?;
        let keys = self.equal_keys(&mut sub, span)?;
        if self.checker.environment.has_aggregate(&value) {
            let mut groups = Groups::of(&sub.rows);
            let rewritten = self.over_groups(&value, &mut groups)?;
            let items: Vec<Item> =
                groups.items.iter().map(|(name, item)| Item::from(item.clone().named(name))).collect();
            let counts: Vec<&str> = groups
                .items
                .iter()
                .filter(|(_, item)| counts_rows(item))
                .map(|(name, _)| name.as_str())
                .collect();
            self.look_up_groups(sub.rows, keys, items, span, part)?;
            return Ok(with_zeros(&rewritten, &counts));
        }
        let (mut items, on) = self.key_columns(keys);
        let name = self.fresh("value");
        items.push(Item::from(value.named(&name)));
        self.push(&mut sub.rows, SelectStep::new(items), span)?;
        let other = self.other(sub.rows, SUB, span);
        part.lookups.push(Lookup { other, keys: on, expects_one: true, span });
        Ok(column_at(&name, span))
    }
}

/// Whether a number is 0.
fn is_none(x: Expr, span: Span) -> Expr {
    binary(Binary::Equal, x, literal(0, span))
}

/// Whether an aggregate of no rows is 0, not null.
fn counts_rows(aggregate: &Expr) -> bool {
    match &aggregate.kind {
        Kind::Where(inner, _) => counts_rows(inner),
        Kind::Call(function, _) => function == "count" || function == "count_distinct",
        _ => false,
    }
}

/// The expression with 0 for those of some columns that are null.
fn with_zeros(expr: &Expr, columns: &[&str]) -> Expr {
    match &expr.kind {
        Kind::Name(name) if columns.contains(&name.as_str()) => {
            call("coalesce", vec![expr.clone(), literal(0, expr.span)], expr.span)
        }
        _ => expr.map_parts(&mut |part| with_zeros(part, columns)),
    }
}
