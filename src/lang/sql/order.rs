//! `order by`: keys among the columns that are selected, or of the rows behind them.

use churn_core::{ErrorKind, Result, Span};
use churn_expr::SortKey;
use churn_expr::ast::Expr;
use churn_expr::build::column;
use sqlparser::ast::{Expr as Sql, OrderByExpr, OrderByKind, OrderBySort, Query, Value};

use super::expression::{Part, unnested};
use super::rows::Rows;
use super::scope::{Named, Scope, Visible, means};
use super::select::Output;
use super::translator::Translator;
use crate::steps::Sort;

/// A key of an order.
pub(super) struct OrderKey {
    pub(super) by: By,
    pub(super) descending: bool,
    pub(super) nulls_first: bool,
    pub(super) span: Span,
}

/// What is compared.
pub(super) enum By {
    /// A column that is selected, by its position.
    Output(usize),
    /// Another value of the rows.
    Value(Expr),
}

impl Translator<'_, '_> {
    /// The keys by which a query orders its rows.
    pub(super) fn order_keys(
        &mut self,
        query: Option<&Query>,
        outputs: &[Output],
        part: &mut Part<'_>,
    ) -> Result<Vec<OrderKey>> {
        let keys = query.map_or(Ok(&[][..]), |query| self.written_keys(query))?;
        keys.iter().map(|key| self.order_key(key, outputs, part)).collect()
    }

    fn written_keys<'q>(&self, query: &'q Query) -> Result<&'q [OrderByExpr]> {
        let Some(order) = &query.order_by else { return Ok(&[]) };
        match &order.kind {
            OrderByKind::Expressions(keys) if order.interpolate.is_none() => Ok(keys),
            _ => Err(self.unsupported("This form of order by", "Name the keys.", self.span(order))),
        }
    }

    fn order_key(&mut self, key: &OrderByExpr, outputs: &[Output], part: &mut Part<'_>) -> Result<OrderKey> {
        let span = self.span(&key.expr);
        let (descending, nulls_first) = self.direction(key, span)?;
        let by = match self.output_of(&key.expr, outputs)? {
            Some(output) => By::Output(output),
            None => {
                let value = self.expression(&key.expr, part)?;
                match outputs.iter().position(|output| output.value == value) {
                    Some(output) => By::Output(output),
                    None => By::Value(value),
                }
            }
        };
        Ok(OrderKey { by, descending, nulls_first, span })
    }

    /// The column that is selected under a name, or at a position.
    pub(super) fn output_of(&self, sql: &Sql, outputs: &[Output]) -> Result<Option<usize>> {
        match unnested(sql) {
            Sql::Identifier(name) => {
                let exact = outputs.iter().position(|output| output.name == name.value);
                Ok(exact.or_else(|| outputs.iter().position(|output| means(name, &output.name))))
            }
            Sql::Value(value) => {
                let Value::Number(digits, _) = &value.value else { return Ok(None) };
                match digits.parse::<usize>().ok().filter(|n| (1..=outputs.len()).contains(n)) {
                    Some(n) => Ok(Some(n - 1)),
                    None => {
                        let what = format!("There is no column {digits}: {} are selected.", outputs.len());
                        Err(self.wrong(ErrorKind::Check, what, self.places.span(value.span)))
                    }
                }
            }
            _ => Ok(None),
        }
    }

    /// Whether the greatest value comes first, and whether nulls do.
    fn direction(&self, key: &OrderByExpr, span: Span) -> Result<(bool, bool)> {
        let descending = match &key.options.sort {
            None | Some(OrderBySort::Asc) => false,
            Some(OrderBySort::Desc) => true,
            Some(OrderBySort::Using(_)) => {
                return Err(self.unsupported("order by … using", "Write asc or desc.", span));
            }
        };
        if key.with_fill.is_some() {
            return Err(self.unsupported("with fill", "A step behind the query does it: densify.", span));
        }
        Ok((descending, key.options.nulls_first.unwrap_or(false)))
    }

    /// A key of the order in a window.
    pub(super) fn sort_key(&mut self, key: &OrderByExpr, part: &mut Part<'_>) -> Result<SortKey> {
        let by = self.expression(&key.expr, part)?;
        let (descending, nulls_first) = self.direction(key, by.span)?;
        Ok(SortKey { by, descending, nulls_first })
    }

    /// Sorts by keys; `output` gives what stands for a column that is selected.
    pub(super) fn sort(
        &mut self,
        rows: &mut Rows,
        keys: &[OrderKey],
        output: impl Fn(usize) -> Option<Expr>,
    ) -> Result<()> {
        let (Some(first), Some(last)) = (keys.first(), keys.last()) else { return Ok(()) };
        let sorted = keys.iter().filter_map(|key| {
            let by = match &key.by {
                By::Output(i) => output(*i)?,
                By::Value(value) => value.clone(),
            };
            let by = Expr { span: key.span, ..by };
            Some(SortKey { by, descending: key.descending, nulls_first: key.nulls_first })
        });
        self.push(rows, Sort::by(sorted.collect::<Vec<_>>()), first.span.to(last.span))
    }

    /// Orders rows by their own columns, and keeps so many of them: what stands behind `union`, or `values`.
    pub(super) fn ordered(&mut self, query: &Query, mut rows: Rows) -> Result<Rows> {
        let scope = scope_of(&rows);
        let outputs: Vec<Output> =
            rows.names().into_iter().map(|name| Output { value: column(&name), name }).collect();
        let mut part = Part::new(&scope, "order by");
        let keys = self.order_keys(Some(query), &outputs, &mut part)?;
        let lookups = std::mem::take(&mut part.lookups);
        if let Some(lookup) = lookups.first() {
            return Err(self.unsupported(
                "A sub-query in this order",
                "Select it, and order by its column.",
                lookup.span,
            ));
        }
        self.sort(&mut rows, &keys, |i| outputs.get(i).map(|output| output.value.clone()))?;
        self.limited(query, &mut rows)?;
        Ok(rows)
    }
}

/// The columns of rows under their own names.
fn scope_of(rows: &Rows) -> Scope<'static> {
    let visible =
        rows.names().into_iter().map(|name| Visible { column: name.clone(), name, table: None }).collect();
    Scope { tables: Vec::<Named>::new(), visible, outer: None }
}
