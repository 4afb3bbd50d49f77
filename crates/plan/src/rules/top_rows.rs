//! `sort` followed by `first N` keeps only N rows while it sorts.

use super::Rule;
use crate::{Node, Op};

pub(super) const RULE: Rule = Rule { name: "sort keeps the first rows only", apply };

/// Above so many rows a full sort is as good.
const MOST: usize = 100_000;

fn apply(node: Node, _: &[churn_core::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |mut node| {
        if let (Op::First { count, after, per }, Some(input)) = (&node.op, &mut node.input)
            && let Op::Sort { keep: keep @ None, .. } = &mut input.op
            && per.is_empty()
            && count.saturating_add(*after) <= MOST
        {
            *keep = Some(count + after);
            changed = true;
        }
        node
    });
    (node, changed)
}
