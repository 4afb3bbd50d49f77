//! `group by`, `having` and grouping sets.
//!
//! The expressions of a query with groups are translated over its rows first. Then the keys in them become the columns of
//! the groups, and so do the aggregates.

mod keys;
mod over;

use churn_core::{Result, Span};
use churn_expr::ast::{Expr, Kind};
use sqlparser::ast::{GroupByExpr, Select};

use super::expression::{Lookup, Part, call, item, literal, null};
use super::order::{By, OrderKey};
use super::rows::Rows;
use super::select::Output;
use super::translator::Translator;
use super::windows::WindowItem;
use crate::steps::{Add, Append, Group, Item, Other, ReadTable};

/// The columns of groups.
#[derive(Default)]
pub(in crate::lang::sql) struct Groups {
    /// What the rows are grouped by, and its column.
    pub(in crate::lang::sql) keys: Vec<(Expr, String)>,
    /// The columns that are worked out for each group: names, and aggregates or expressions of them.
    pub(in crate::lang::sql) items: Vec<(String, Expr)>,
    /// For each set of keys, which of them it groups by.
    sets: Vec<Vec<usize>>,
    /// Columns that tell whether a set leaves a key out.
    marks: Vec<(usize, String)>,
    /// The columns of the rows that are grouped.
    rows: Vec<String>,
    /// How each key is written.
    written: Vec<String>,
    /// The place of a key that is written otherwise than one before, and is the same column.
    alike: Option<Span>,
}

impl Groups {
    /// Groups of rows with these columns.
    pub(in crate::lang::sql) fn of(rows: &Rows) -> Groups {
        Groups { rows: rows.names(), ..Groups::default() }
    }
}

impl Translator<'_, '_> {
    /// Groups the rows, if the query does; its expressions are then over the groups. Gives whether all rows are one group.
    pub(in crate::lang::sql) fn group(
        &mut self,
        rows: &mut Rows,
        select: &Select,
        outputs: &mut [Output],
        order: &mut [OrderKey],
        having: &mut Option<Expr>,
        part: &mut Part<'_>,
    ) -> Result<bool> {
        let GroupByExpr::Expressions(written, _) = &select.group_by else { return Ok(false) };
        let environment = &self.checker.environment;
        let values = || {
            let of_order = order.iter().filter_map(|key| match &key.by {
                By::Value(value) => Some(value),
                By::Output(_) => None,
            });
            let of_windows =
                part.windows.iter().flat_map(|w| w.by.iter().chain(w.order.iter().map(|key| &key.by)));
            outputs.iter().map(|output| &output.value).chain(of_order).chain(of_windows)
        };
        let in_windows = |w: &WindowItem| match &w.call.kind {
            Kind::Call(_, args) => args.iter().any(|arg| environment.has_aggregate(arg)),
            _ => false,
        };
        let has_aggregates =
            values().any(|value| environment.has_aggregate(value)) || part.windows.iter().any(in_windows);
        if written.is_empty() && having.is_none() && !has_aggregates {
            return Ok(false);
        }
        let mut groups = Groups::of(rows);
        self.keys(written, outputs, part, &mut groups)?;
        let are_whole = self.whole_items(outputs, &mut groups);
        for (output, _) in outputs.iter_mut().zip(are_whole).filter(|(_, is_whole)| !is_whole) {
            output.value = self.over_groups(&output.value, &mut groups)?;
        }
        for key in order.iter_mut() {
            if let By::Value(value) = &key.by {
                key.by = By::Value(self.over_groups(value, &mut groups)?);
            }
        }
        if let Some(condition) = having {
            *condition = self.over_groups(condition, &mut groups)?;
        }
        for window in &mut part.windows {
            self.window_over_groups(window, &mut groups)?;
        }
        for Lookup { keys, .. } in &mut part.lookups {
            for (outer, _) in keys {
                *outer = self.over_groups(outer, &mut groups)?;
            }
        }
        let is_total = written.is_empty();
        let span = written.first().map_or_else(|| self.span(select), |first| self.span(first));
        self.group_rows(rows, groups, span)?;
        Ok(is_total)
    }

    /// Adds the steps of the groups: one, or one for each set of keys, their rows below each other.
    fn group_rows(&mut self, rows: &mut Rows, mut groups: Groups, span: Span) -> Result<()> {
        if groups.items.is_empty() && groups.sets.iter().any(Vec::is_empty) {
            let rows = self.fresh("rows");
            groups.items.push((rows, call("count", Vec::new(), span)));
        }
        if let ([set], []) = (groups.sets.as_slice(), groups.marks.as_slice()) {
            let group = grouped(&groups, set);
            return self.push(rows, group, span);
        }
        let all = std::mem::replace(
            rows,
            self.start(crate::steps::Values::new(["row"]).row([literal(1, span)]), None, span)?,
        );
        let table = self.named(all, "rows");
        let mut parts: Vec<Rows> = Vec::new();
        for set in &groups.sets {
            let mut part = self.start_from(&table, span)?;
            self.push(&mut part, grouped(&groups, set), span)?;
            let left_out = groups.keys.iter().enumerate().filter(|(key, _)| !set.contains(key));
            let nulls = left_out.map(|(_, (_, name))| Item::from(null(span).named(name)));
            let marks = groups
                .marks
                .iter()
                .map(|(key, name)| Item::from(literal(i64::from(!set.contains(key)), span).named(name)));
            let added: Vec<Item> = nulls.chain(marks).collect();
            if !added.is_empty() {
                self.push(&mut part, Add::new(added), span)?;
            }
            parts.push(part);
        }
        let mut parts = parts.into_iter();
        let Some(first) = parts.next() else { return Ok(()) };
        *rows = first;
        let others: Vec<Other> =
            parts.map(|part| ReadTable::at(&self.table(part, "groups"), span).into()).collect();
        let mut others = others.into_iter();
        let Some(second) = others.next() else { return Ok(()) };
        let append = others.fold(Append::new(second), Append::and);
        self.push(rows, append, span)
    }
}

/// The step of one set of keys.
fn grouped(groups: &Groups, set: &[usize]) -> Group {
    let keys: Vec<Item> = set
        .iter()
        .filter_map(|key| groups.keys.get(*key))
        .map(|(key, called)| item(key.clone(), called))
        .collect();
    let items: Vec<Item> =
        groups.items.iter().map(|(name, item)| Item::from(item.clone().named(name))).collect();
    let group = if keys.is_empty() { Group::total() } else { Group::by(keys) };
    if items.is_empty() { group } else { group.items(items) }
}
