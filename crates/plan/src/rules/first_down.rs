//! `first N` moves below steps that keep each row as it is, down into the reader.
//!
//! Columns are then computed for those rows only.

use super::Rule;
use crate::Node;
use crate::operators::{First, Op};

pub(super) const RULE: Rule = Rule { name: "first pushed down", apply };

fn apply(node: Node, _: &[churn_core::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| push(node, &mut changed));
    (node, changed)
}

fn push(node: Node, changed: &mut bool) -> Node {
    let Node { op: Op::First(first), input: Some(input), step } = node else { return node };
    match *input {
        Node { op: Op::Compute(compute), input: Some(below), step: of } if first.per.is_empty() => {
            *changed = true;
            push(below.over(first, step), changed).over(compute, of)
        }
        Node { op: Op::Scan(mut scan), input: None, step: of }
            // Rows that conditions leave out are none of the first.
            if first.per.is_empty() && scan.limit.is_none() && scan.conditions.is_empty() =>
        {
            *changed = true;
            let First { count, after, .. } = first;
            scan.limit = Some(if count == 0 { 0 } else { count.saturating_add(after) });
            Node::source(scan, of).over(first, step)
        }
        other => other.over(first, step),
    }
}
