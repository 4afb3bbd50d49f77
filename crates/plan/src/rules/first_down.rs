//! `first N` moves below steps that keep each row as it is, down into the reader.
//!
//! Columns are then computed for those rows only.

use super::Rule;
use crate::{Node, Op};

pub(super) const RULE: Rule = Rule { name: "first pushed down", apply };

fn apply(node: Node, _: &[churn_core::ColumnId]) -> (Node, bool) {
    let mut changed = false;
    let node = node.rewritten(&mut |node| push(node, &mut changed));
    (node, changed)
}

fn push(node: Node, changed: &mut bool) -> Node {
    let Node { op: Op::First { count, after, per }, input: Some(input), step } = node else { return node };
    let first = |per| Op::First { count, after, per };
    match *input {
        Node { op: Op::Compute(columns), input: Some(below), step: of } if per.is_empty() => {
            *changed = true;
            let moved = push(below.over(first(per), step), changed);
            moved.over(Op::Compute(columns), of)
        }
        Node { op: Op::Scan(mut scan), input: None, step: of } if per.is_empty() && scan.limit.is_none() => {
            *changed = true;
            scan.limit = Some(if count == 0 { 0 } else { count.saturating_add(after) });
            let scan = Node { op: Op::Scan(scan), input: None, step: of };
            scan.over(first(per), step)
        }
        other => other.over(first(per), step),
    }
}
