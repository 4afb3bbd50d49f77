//! `sort` followed by `first N` keeps only N rows while it sorts, or N of each group.

use churn_core::ColumnId;

use super::Rule;
use crate::Node;
use crate::operators::{First, Op, Sort};

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
        if is_kept {
            sort.keep = Some(first.count + first.after);
        }
        is_kept
    })
}

fn of_groups(node: Node, _: &[ColumnId]) -> (Node, bool) {
    sorts_under_first(node, |first, sort| {
        let is_kept = !first.per.is_empty() && (1..=MOST_OF_A_GROUP).contains(&first.count);
        if is_kept {
            (sort.keep, sort.per) = (Some(first.count), first.per.clone());
        }
        is_kept
    })
}

/// Lets `keep` change each sort that stands right under a `first`; it says whether it did.
fn sorts_under_first(node: Node, keep: impl Fn(&First, &mut Sort) -> bool) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |mut node| {
        if let (Op::First(first), Some(input)) = (&node.op, &mut node.input)
            && let Op::Sort(sort) = &mut input.op
            && sort.keep.is_none()
        {
            changed |= keep(first, sort);
        }
        node
    });
    (node, changed)
}
