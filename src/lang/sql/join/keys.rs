//! Joins by keys: equalities and other comparisons of the two sides, and columns that both have.

use churn_core::{JoinKind, Result, Span, Type};
use churn_expr::ast::Binary;
use sqlparser::ast::Ident;

use super::super::expression::{column_at, join_key};
use super::super::from::Joined;
use super::super::scope::{Found, Scope, Visible, means};
use super::super::translator::Translator;
use super::names::{beside, called_back, old_name, renamed};
use super::{Key, Sides};
use crate::steps::{Join, Rename};

impl Translator<'_, '_> {
    /// Joins by keys alone; gives the columns of the right side that others hold then. Those in `named` are needed, too.
    pub(super) fn join_by_keys(
        &mut self,
        sides: Sides,
        new_names: Vec<(String, String)>,
        keys: Vec<Key>,
        named: &[String],
    ) -> Result<(Joined, Vec<(String, String)>)> {
        let Sides { mut left, mut right, kind, at, within, is_using } = sides;
        let right_scope = renamed(&right.scope, &new_names);
        let (mut of_left, mut of_right) = (Vec::new(), Vec::new());
        // Columns of the right side that the join sets once, under the left name.
        let mut once: Vec<String> = Vec::new();
        if matches!(kind, JoinKind::Right | JoinKind::Full) {
            // A left column holds the key of whichever side has one.
            for l in keys.iter().filter_map(Key::left_column) {
                if self.is_named(&left.scope, l, within, !is_using) {
                    of_left.push((l.to_owned(), self.copy(&mut left, l, l, at)?));
                }
            }
        }
        for (l, r) in keys.iter().filter_map(Key::columns) {
            if once.iter().any(|known| known == r) {
                continue;
            }
            once.push(r.to_owned());
            let own = old_name(r, &new_names);
            let is_exact = match (left.rows.field(l), right.rows.field(own)) {
                (Some(a), Some(b)) => a.kind == b.kind && a.data == b.data && a.kind != Type::Float,
                _ => false,
            };
            let needs_right = matches!(kind, JoinKind::Left | JoinKind::Full) || !is_exact;
            let is_named =
                self.is_named(&right_scope, r, within, !is_using) || named.iter().any(|name| name == r);
            if needs_right && is_named {
                of_right.push((r.to_owned(), self.copy(&mut right, own, r, at)?));
            } else {
                of_right.push((r.to_owned(), l.to_owned()));
            }
        }
        let renamed_now: Vec<(String, String)> =
            new_names.iter().filter(|(_, new)| !once.contains(new)).cloned().collect();
        if !renamed_now.is_empty() {
            self.push(&mut right.rows, Rename::all(renamed_now.iter().map(|(old, new)| (new, old))), at)?;
        }
        let not_renamed: Vec<(String, String)> =
            new_names.iter().filter(|(_, new)| once.contains(new)).cloned().collect();
        let left_scope = renamed(&left.scope, &of_left);
        let wanted = right.wanted_name();
        let other = self.other(right.rows, &wanted, at);
        let kind = if keys.is_empty() && kind == JoinKind::Inner { JoinKind::Cross } else { kind };
        let mut join = Join::new(other, kind);
        for key in keys {
            let right = called_back(&key.right, &not_renamed);
            join = join.on(join_key(key.left, key.op, right));
        }
        self.push(&mut left.rows, join, at)?;
        let scope = beside(&left_scope, &renamed(&right_scope, &of_right));
        Ok((Joined { rows: left.rows, scope }, of_right))
    }

    /// Joins by columns of the same names, which are one column each then.
    pub(super) fn join_using(&mut self, sides: Sides, names: &[Ident]) -> Result<Joined> {
        let new_names = self.new_names(&sides);
        let right_scope = renamed(&sides.right.scope, &new_names);
        let mut keys = Vec::new();
        let mut shared = Vec::new();
        for name in names {
            let l = self.shared_column(&sides.left.scope, name, sides.at)?;
            let r = self.shared_column(&right_scope, name, sides.at)?;
            shared.push((name.clone(), l.clone()));
            keys.push(Key {
                left: column_at(&l, sides.at),
                op: Binary::Equal,
                right: column_at(&r, sides.at),
            });
        }
        let (Joined { rows, scope }, _) = self.join_by_keys(sides, new_names, keys, &[])?;
        let is_shared = |visible: &Visible| names.iter().any(|name| means(name, &visible.name));
        let once = shared.iter().map(|(name, column)| {
            let own = scope.visible.iter().find(|visible| means(name, &visible.name));
            let name = own.map_or_else(|| name.value.clone(), |visible| visible.name.clone());
            Visible { name, column: column.clone(), table: None }
        });
        let others = scope.visible.iter().filter(|visible| !is_shared(visible)).cloned();
        let visible = once.chain(others).collect();
        Ok(Joined { rows, scope: Scope { visible, ..scope } })
    }

    pub(super) fn shared_column(&self, scope: &Scope<'_>, name: &Ident, span: Span) -> Result<String> {
        match scope.find(None, name) {
            Found::Here(column) => Ok(column),
            Found::Several(tables) => Err(self.ambiguous(name, &tables, span)),
            _ => Err(self.unknown_name(None, name, scope, span)),
        }
    }
}
