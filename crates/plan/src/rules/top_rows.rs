//! `sort` followed by `first N` keeps only N rows while it sorts.

use super::Rule;
use crate::Node;
use crate::operators::Op;

pub(super) const RULE: Rule = Rule { name: "sort keeps the first rows only", apply };

/// Above so many rows a full sort is as good.
const MOST: usize = 100_000;

fn apply(node: Node, _: &[churn_core::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |mut node| {
        if let (Op::First(first), Some(input)) = (&node.op, &mut node.input)
            && let Op::Sort(sort) = &mut input.op
            && sort.keep.is_none()
            && first.per.is_empty()
            && first.count.saturating_add(first.after) <= MOST
        {
            sort.keep = Some(first.count + first.after);
            changed = true;
        }
        node
    });
    (node, changed)
}
