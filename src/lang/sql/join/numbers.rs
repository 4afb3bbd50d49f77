//! Outer joins by any condition: the pairs of rows that match, and the rows whose numbers are not among them.

use churn_core::{JoinKind, Result, Span};

use super::super::expression::{binary, call, column_at};
use super::super::from::Joined;
use super::super::rows::Rows;
use super::super::translator::Translator;
use super::names::{beside, renamed, with_new_names};
use super::{Condition, Key, Sides};
use crate::steps::{Append, Item, Join, ReadTable, Rename, Window};

impl Translator<'_, '_> {
    /// Joins by any condition: the pairs of rows that match, then the rows of a side that match none, told by their numbers.
    pub(super) fn join_by_numbers(
        &mut self,
        sides: Sides,
        new_names: Vec<(String, String)>,
        keys: Vec<Key>,
        rest: Vec<Condition>,
    ) -> Result<Joined> {
        let Sides { mut left, mut right, kind, at, .. } = sides;
        if !new_names.is_empty() {
            self.push(&mut right.rows, Rename::all(new_names.iter().map(|(old, new)| (new, old))), at)?;
        }
        let right_scope = renamed(&right.scope, &new_names);
        // A copy of each key of the right side, since the join sets it once, under the left name.
        let mut copies = Vec::new();
        for (_, r) in keys.iter().filter_map(Key::columns) {
            if !copies.iter().any(|(known, _)| known == r) {
                copies.push((r.to_owned(), self.copy(&mut right, r, r, at)?));
            }
        }
        let (left_number, right_number) =
            (self.row_numbers(&mut left.rows, at)?, self.row_numbers(&mut right.rows, at)?);
        let (left_name, right_name) = (left.wanted_name(), right.wanted_name());
        let (l, r) = (self.named(left.rows, &left_name), self.named(right.rows, &right_name));
        let mut matches = self.start_from(&l, at)?;
        let join_kind = if keys.is_empty() { JoinKind::Cross } else { JoinKind::Inner };
        let mut join = Join::new(ReadTable::at(&r, at), join_kind);
        for key in keys {
            join = join.on(binary(key.op, key.left, key.right));
        }
        self.push(&mut matches, join, at)?;
        let rest = rest.iter().map(|condition| with_new_names(&condition.expr, &copies)).collect();
        self.filter(&mut matches, rest)?;
        let matched = self.named(matches, "matched");
        let mut rows = self.start_from(&matched, at)?;
        let mut unmatched = Vec::new();
        if matches!(kind, JoinKind::Left | JoinKind::Full) {
            unmatched.push((&l, &left_number));
        }
        if matches!(kind, JoinKind::Right | JoinKind::Full) {
            unmatched.push((&r, &right_number));
        }
        for (side, number) in unmatched {
            let mut alone = self.start_from(side, at)?;
            let anti = Join::new(ReadTable::at(&matched, at), JoinKind::Anti).on(column_at(number, at));
            self.push(&mut alone, anti, at)?;
            let alone = self.named(alone, "unmatched");
            self.push(&mut rows, Append::new(ReadTable::at(&alone, at)), at)?;
        }
        let scope = beside(&left.scope, &renamed(&right_scope, &copies));
        Ok(Joined { rows, scope })
    }

    /// Adds the number of each row; gives the column's name.
    pub(super) fn row_numbers(&mut self, rows: &mut Rows, span: Span) -> Result<String> {
        let name = self.fresh("number");
        let number = Item::from(call("row_number", Vec::new(), span).named(&name));
        self.push(rows, Window::new([number]), span)?;
        Ok(name)
    }
}
