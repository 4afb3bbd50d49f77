//! `sort` followed by `first N` keeps only N rows while it sorts, or N of each group.

use churn_core::ColumnId;

use super::Rule;
use crate::Node;
use crate::operators::{First, Op, Sort, TopPerGroup};

pub(super) const RULE: Rule = Rule { name: "sort keeps the first rows only", apply };

pub(super) const OF_GROUPS: Rule =
    Rule { name: "sort keeps the first rows of each group only", apply: of_groups };

/// Above so many rows a full sort is as good.
const MOST: usize = 100_000;

/// Above so many rows of each group.
const MOST_OF_A_GROUP: usize = 100;

fn apply(node: Node, _: &[ColumnId]) -> (Node, bool) {
    sorts_under_first(node, |first, sort| {
        let is_kept = first.per.is_empty() && first.count.saturating_add(first.after) <= MOST;
        is_kept.then(|| {
            Sort { keys: std::mem::take(&mut sort.keys), keep: Some(first.count + first.after) }.into()
        })
    })
}

fn of_groups(node: Node, _: &[ColumnId]) -> (Node, bool) {
    sorts_under_first(node, |first, sort| {
        if first.per.is_empty() || !(1..=MOST_OF_A_GROUP).contains(&first.count) {
            return None;
        }
        first.is_settled = true;
        let keys = std::mem::take(&mut sort.keys);
        Some(TopPerGroup { keys, count: first.count, per: first.per.clone() }.into())
    })
}

/// Puts another operator in place of each sort that stands right under a `first`, where `other` gives one; it says whether one did.
fn sorts_under_first(node: Node, other: impl Fn(&mut First, &mut Sort) -> Option<Op>) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |mut node| {
        if let (Op::First(first), Some(input)) = (&mut node.op, &mut node.input)
            && let Op::Sort(sort) = &mut input.op
            && sort.keep.is_none()
            && let Some(other) = other(first, sort)
        {
            (input.op, changed) = (other, true);
        }
        node
    });
    (node, changed)
}
