//! One `select`: from its tables to its columns.

use churn_core::names::name;
use churn_core::{ErrorKind, Result, Span};
use churn_expr::ast::{Binary, Expr, Kind};
use churn_expr::build::{column, lit};
use churn_expr::expand::default_name;
use sqlparser::ast::{
    Distinct as Repeats, Expr as Sql, GroupByExpr, Ident, Query, Select, SelectFlavor, SelectItem,
    SelectItemQualifiedWildcardKind, WildcardAdditionalOptions,
};

use super::condition::Correlation;
use super::expression::{Part, column_at, item, operands, unnested, with_names};
use super::order::{By, OrderKey};
use super::rows::Rows;
use super::scope::{Scope, means};
use super::translator::Translator;
use super::windows::WindowItem;
use crate::steps::{Distinct, Select as SelectStep, Values};

/// The rows of a `select` after `from` and `where`.
pub(super) struct Opened<'s> {
    pub(super) rows: Rows,
    pub(super) scope: Scope<'s>,
    /// How they compare with the query around.
    pub(super) by: Vec<Correlation>,
}

/// A column that a `select` gives.
pub(super) struct Output {
    pub(super) name: String,
    pub(super) value: Expr,
}

impl Translator<'_, '_> {
    /// Translates `from` and `where`.
    pub(super) fn open<'s>(&mut self, select: &Select, outer: Option<&'s Scope<'s>>) -> Result<Opened<'s>> {
        self.refuse_extensions(select)?;
        let mut conjuncts: Vec<&Sql> =
            select.selection.iter().flat_map(|condition| operands(condition, Binary::And)).collect();
        let (mut rows, scope) = if select.from.is_empty() {
            let row = self.fresh("row");
            let one = Values::new([row]).row([lit(1)]);
            (self.start(one, None, self.span(select))?, Scope::default())
        } else {
            self.from(&select.from, &mut conjuncts)?
        };
        let scope = Scope { outer, ..scope };
        let mut part = Part { takes_outer: outer.is_some(), ..Part::new(&scope, "where") };
        let by = self.keep(&mut rows, &conjuncts, &mut part)?;
        Ok(Opened { rows, scope, by })
    }

    /// Translates what follows `where`: groups, windows and columns, and the order and number of rows of the query around.
    pub(super) fn finish(
        &mut self,
        query: Option<&Query>,
        select: &Select,
        opened: Opened<'_>,
    ) -> Result<Rows> {
        let Opened { mut rows, scope, .. } = opened;
        let mut part = Part { named_windows: Some(&select.named_window), ..Part::new(&scope, "select") };
        let mut outputs = self.outputs(select, &mut part)?;
        let mut order = self.order_keys(query, &outputs, &mut part)?;
        let mut having = self.having(select, &mut part)?;
        let is_total = self.group(&mut rows, select, &mut outputs, &mut order, &mut having, &mut part)?;
        let lookups = std::mem::take(&mut part.lookups);
        self.look_up(&mut rows, lookups)?;
        let keeps_all = having.is_none();
        self.filter(&mut rows, having.into_iter().collect())?;
        let mut windows = std::mem::take(&mut part.windows);
        name_windows(&mut windows, &mut outputs, &mut order, &rows);
        self.windows(&mut rows, windows)?;
        let is_distinct = matches!(select.distinct, Some(Repeats::Distinct));
        let is_of_outputs = order.iter().all(|key| matches!(key.by, By::Output(_)));
        if !is_of_outputs {
            if is_distinct {
                let span = order
                    .iter()
                    .find(|key| matches!(key.by, By::Value(_)))
                    .map_or(Span::default(), |key| key.span);
                let error =
                    self.wrong(ErrorKind::Check, "Distinct rows are ordered by what is selected.", span);
                return Err(error.next("Select it too, or group by what is selected."));
            }
            self.sort(&mut rows, &order, |i| outputs.get(i).map(|output| output.value.clone()))?;
        }
        let names: Vec<String> = outputs.iter().map(|output| output.name.clone()).collect();
        self.select(&mut rows, outputs, self.span(select))?;
        if is_distinct {
            self.push(&mut rows, Distinct::by(Vec::<String>::new()), self.span(select))?;
        }
        if is_of_outputs {
            self.sort(&mut rows, &order, |i| names.get(i).map(|name| column(name)))?;
        }
        if let Some(query) = query {
            self.limited(query, &mut rows)?;
        }
        let is_whole = query.is_none_or(|query| query.limit_clause.is_none() && query.fetch.is_none());
        rows.is_single = is_total && keeps_all && is_whole;
        Ok(rows)
    }

    fn having(&mut self, select: &Select, part: &mut Part<'_>) -> Result<Option<Expr>> {
        let Some(having) = &select.having else { return Ok(None) };
        let mut own = Part::new(part.scope, "having");
        let condition = self.expression(having, &mut own)?;
        part.lookups.append(&mut own.lookups);
        Ok(Some(condition))
    }

    /// Whether a select gives a row for each row that it finds, or one for all.
    pub(super) fn is_ungrouped(&self, select: &Select) -> bool {
        let has_keys = !matches!(&select.group_by, GroupByExpr::Expressions(keys, _) if keys.is_empty());
        !has_keys && select.having.is_none() && select.distinct.is_none()
    }

    /// Gives the rows exactly these columns, unless they have them already.
    fn select(&mut self, rows: &mut Rows, outputs: Vec<Output>, span: Span) -> Result<()> {
        let is_itself =
            |output: &Output| matches!(&output.value.kind, Kind::Name(name) if *name == output.name);
        let is_same = rows.fields().len() == outputs.len()
            && rows
                .fields()
                .iter()
                .zip(&outputs)
                .all(|(field, out)| field.name == out.name && is_itself(out));
        if is_same {
            return Ok(());
        }
        let items = outputs.into_iter().map(|output| item(output.value, &output.name));
        self.push(rows, SelectStep::new(items.collect::<Vec<_>>()), span)
    }

    /// The columns that a select names.
    fn outputs(&mut self, select: &Select, part: &mut Part<'_>) -> Result<Vec<Output>> {
        let mut outputs: Vec<Output> = Vec::new();
        for item in &select.projection {
            match item {
                SelectItem::UnnamedExpr(sql) => {
                    let value = self.expression(sql, part)?;
                    let name = self.name_of(sql, &value, part.scope, outputs.len() + 1);
                    self.add_output(&mut outputs, name, value);
                }
                SelectItem::ExprWithAlias { expr, alias } => {
                    let value = self.expression(expr, part)?;
                    self.add_output(&mut outputs, alias.value.clone(), value);
                }
                SelectItem::Wildcard(options) => {
                    let span = self.places.span(options.wildcard_token.0.span);
                    self.refuse_options(options, span)?;
                    if part.scope.visible.is_empty() {
                        return Err(self.wrong(
                            ErrorKind::Check,
                            "There is no table whose columns * could take.",
                            span,
                        ));
                    }
                    for visible in &part.scope.visible {
                        let value = column_at(&visible.column, span);
                        self.add_output(&mut outputs, visible.name.clone(), value);
                    }
                }
                SelectItem::QualifiedWildcard(kind, options) => {
                    let span = self.span(item);
                    self.refuse_options(options, span)?;
                    let table = match kind {
                        SelectItemQualifiedWildcardKind::ObjectName(name) => match name.0.as_slice() {
                            [only] => only.as_ident().cloned(),
                            _ => None,
                        },
                        SelectItemQualifiedWildcardKind::Expr(_) => None,
                    };
                    let Some(table) = table else {
                        return Err(self.unsupported(
                            "This form of *",
                            "Write d.* with the name of a table.",
                            span,
                        ));
                    };
                    let Some(named) = part.scope.table(&table) else {
                        return Err(self.unknown_name(Some(&table), &Ident::new("*"), part.scope, span));
                    };
                    for of in &named.columns {
                        self.add_output(&mut outputs, of.name.clone(), column_at(&of.column, span));
                    }
                }
                SelectItem::ExprWithAliases { .. } => {
                    return Err(self.unsupported("Several names for one expression", "", self.span(item)));
                }
            }
        }
        Ok(outputs)
    }

    /// Adds a column; one of a name that is there already is called `name_2`.
    fn add_output(&mut self, outputs: &mut Vec<Output>, wanted: String, value: Expr) {
        let is_taken = |name: &str| outputs.iter().any(|output| output.name == name);
        let called = if is_taken(&wanted) {
            let numbered =
                (2..).map(|n| format!("{wanted}_{n}")).find(|name| !is_taken(name)).unwrap_or_default();
            self.note(format!(
                "Two columns of the query are called {}; the second is called {}.",
                name(&wanted),
                name(&numbered)
            ));
            numbered
        } else {
            wanted
        };
        self.columns.insert(called.clone());
        outputs.push(Output { name: called, value });
    }

    /// What a column without a name is called: as it is called in its table, by its function, or by its position.
    fn name_of(&self, sql: &Sql, value: &Expr, scope: &Scope<'_>, position: usize) -> String {
        let ident = match unnested(sql) {
            Sql::Identifier(ident) => Some(ident),
            Sql::CompoundIdentifier(idents) => idents.last(),
            _ => None,
        };
        let Some(ident) = ident else {
            let own = default_name(value).filter(|_| !matches!(value.kind, Kind::Name(_)));
            return own.unwrap_or_else(|| format!("column_{position}"));
        };
        let named = |of: &str| {
            scope.tables.iter().flat_map(|t| &t.columns).find(|c| c.column == of && means(ident, &c.name))
        };
        let own = match &value.kind {
            Kind::Name(of) => named(of).map(|c| c.name.clone()),
            _ => None,
        };
        own.unwrap_or_else(|| ident.value.clone())
    }

    fn refuse_options(&self, options: &WildcardAdditionalOptions, span: Span) -> Result<()> {
        let WildcardAdditionalOptions {
            opt_ilike,
            opt_exclude,
            opt_except,
            opt_replace,
            opt_rename,
            opt_alias,
            ..
        } = options;
        let has_some = opt_ilike.is_some()
            || opt_exclude.is_some()
            || opt_except.is_some()
            || opt_replace.is_some()
            || opt_rename.is_some()
            || opt_alias.is_some();
        match has_some {
            true => Err(self.unsupported(
                "What follows *",
                "Name the columns, or add a step behind the query: drop note.",
                span,
            )),
            false => Ok(()),
        }
    }

    /// Refuses clauses that no query of the standard has.
    fn refuse_extensions(&self, select: &Select) -> Result<()> {
        let span = self.span(select);
        if matches!(select.distinct, Some(Repeats::On(_))) {
            return Err(self.unsupported(
                "distinct on",
                "A step behind the query keeps the first of each: distinct by farm.",
                span,
            ));
        }
        if select.top.is_some() {
            return Err(self.unsupported("top", "Write fetch first 10 rows only at the end.", span));
        }
        if select.qualify.is_some() {
            return Err(self.unsupported(
                "qualify",
                "Select the window in a sub-query, and filter its column.",
                span,
            ));
        }
        if select.into.is_some() {
            return Err(self.unsupported(
                "into",
                "Write the result to a file: write 'result.csv', or -o.",
                span,
            ));
        }
        if let GroupByExpr::All(_) = select.group_by {
            return Err(self.unsupported("group by all", "Name the keys.", span));
        }
        let is_plain = select.lateral_views.is_empty()
            && select.prewhere.is_none()
            && select.connect_by.is_empty()
            && select.cluster_by.is_empty()
            && select.distribute_by.is_empty()
            && select.sort_by.is_empty()
            && select.exclude.is_none()
            && select.value_table_mode.is_none()
            && select.select_modifiers.is_none()
            && select.flavor == SelectFlavor::Standard;
        if is_plain { Ok(()) } else { Err(self.unsupported("A clause of this query", "", span)) }
    }
}

/// Calls the columns of windows as they are selected, where no column of the rows is called so.
fn name_windows(windows: &mut [WindowItem], outputs: &mut [Output], order: &mut [OrderKey], rows: &Rows) {
    let mut names: Vec<(String, String)> = Vec::new();
    for window in windows {
        let is_it =
            |output: &&Output| matches!(&output.value.kind, Kind::Name(name) if *name == window.column);
        if let Some(output) = outputs.iter().find(is_it).filter(|output| !rows.has(&output.name)) {
            names.push((std::mem::replace(&mut window.column, output.name.clone()), output.name.clone()));
        }
    }
    let other = |name: &str| names.iter().find(|(old, _)| old == name).map(|(_, new)| new.clone());
    for output in outputs {
        output.value = with_names(&output.value, &other);
    }
    for key in order {
        if let By::Value(value) = &key.by {
            key.by = By::Value(with_names(value, &other));
        }
    }
}
