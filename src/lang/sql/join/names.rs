//! The names of the columns of two sides that are joined.

use churn_core::{Result, Span};
use churn_expr::ast::Expr;

use super::super::expression::{column_at, with_names};
use super::super::from::Joined;
use super::super::scope::{Column, Named, Scope, Visible};
use super::super::translator::Translator;
use super::Sides;
use crate::steps::{Add, Item};

impl Translator<'_, '_> {
    /// New names for the columns of the right side that are called like some of the left side: the old and the new one.
    pub(super) fn new_names(&mut self, sides: &Sides) -> Vec<(String, String)> {
        let wanted = sides.right.wanted_name();
        let mut names = Vec::new();
        for name in sides.right.rows.names() {
            if sides.left.rows.has(&name) {
                let plain = format!("{wanted}_{name}");
                let new = if self.columns.contains(&plain) { self.fresh(&plain) } else { plain };
                self.columns.insert(new.clone());
                names.push((name, new));
            }
        }
        names
    }

    /// Whether the query names a column, outside of the condition of its join.
    pub(super) fn is_named(&self, scope: &Scope<'_>, column: &str, within: Span, bare: bool) -> bool {
        let mut tables = scope.tables.iter().flat_map(|t| t.columns.iter().map(move |c| (&t.name, c)));
        tables.any(|(table, c)| c.column == column && self.words.name(table, &c.name, bare, within))
    }

    /// Adds a copy of a column; gives its name.
    pub(super) fn copy(&mut self, side: &mut Joined, own: &str, wanted: &str, span: Span) -> Result<String> {
        let name = self.fresh(wanted);
        let item = Item::from(column_at(own, span).named(&name));
        self.push(&mut side.rows, Add::new([item]), span)?;
        Ok(name)
    }
}

/// The name that a column had before it got a new one.
pub(super) fn old_name<'n>(name: &'n str, new_names: &'n [(String, String)]) -> &'n str {
    new_names.iter().find(|(_, new)| new == name).map_or(name, |(old, _)| old)
}

/// An expression with the names that columns had before they got new ones.
pub(super) fn called_back(expr: &Expr, new_names: &[(String, String)]) -> Expr {
    with_names(expr, &|name| new_names.iter().find(|(_, new)| new == name).map(|(old, _)| old.clone()))
}

/// An expression with the names that columns get: pairs of the old and the new one.
pub(super) fn with_new_names(expr: &Expr, pairs: &[(String, String)]) -> Expr {
    with_names(expr, &|name| pairs.iter().find(|(old, _)| old == name).map(|(_, new)| new.clone()))
}

/// The names of a side whose columns got other names: pairs of the old and the new one.
pub(super) fn renamed(scope: &Scope<'_>, pairs: &[(String, String)]) -> Scope<'static> {
    let new = |column: &String| {
        pairs.iter().find(|(old, _)| old == column).map_or_else(|| column.clone(), |(_, new)| new.clone())
    };
    let tables = scope.tables.iter().map(|table| {
        let columns = table.columns.iter().map(|c| Column { name: c.name.clone(), column: new(&c.column) });
        Named { name: table.name.clone(), columns: columns.collect() }
    });
    let visible = scope.visible.iter().map(|v| Visible { column: new(&v.column), ..v.clone() });
    Scope { tables: tables.collect(), visible: visible.collect(), outer: None }
}

/// The names of both sides.
pub(super) fn beside(left: &Scope<'_>, right: &Scope<'_>) -> Scope<'static> {
    let tables = left.tables.iter().chain(&right.tables).cloned().collect();
    let visible = left.visible.iter().chain(&right.visible).cloned().collect();
    Scope { tables, visible, outer: None }
}
